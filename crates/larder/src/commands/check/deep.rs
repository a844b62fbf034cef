//! `larder check --deep`: would an upgrade to this version go well, and is all there that should be?
//!
//! Nothing is changed. The records of a local store are copied, converted where they have the form of an earlier
//! version, and read; the contents are looked for in their places and not read, which `larder store verify` does.

use futures_util::{StreamExt as _, TryStreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_store::{Conversion, Rehearsal, Store, StoreError};
use larder_transfer::Watch as _;
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::store::hashed;
use crate::config::Config;
use crate::context::{Context, has_store, now, store_if_any};
use crate::failure::Failure;
use crate::marks;
use crate::output::{BAD, DIM, GOOD, Output, Progress, ago, bytes, count, paint, short, time};

/// Rows that are read at once.
const PAGE: usize = 256;
/// Objects that are looked for at once.
const AT_ONCE: usize = 16;
/// Faults of a kind that are told one by one.
const TOLD: usize = 20;
/// What was done longer ago than this is told, in milliseconds.
const LONG_AGO: i64 = 7 * 24 * 3_600_000;

/// How the store stands before an upgrade.
#[derive(Serialize, JsonSchema, Default)]
pub(super) struct DeepReport {
    /// The version whose form the store has; converting it was tried on a copy, and went well. None: this program's.
    earlier_form: Option<i64>,
    /// What the database says is wrong with the records.
    records_wrong: Vec<String>,
    manifests: usize,
    /// Manifests whose bytes are missing, are not what their digest says, or that this version cannot read.
    unreadable: Vec<UnreadableManifest>,
    unreadable_count: usize,
    blobs: usize,
    /// Their sizes together.
    size_bytes: u64,
    /// Blobs that are not where they should be, or are not as large as they should be.
    #[schemars(with = "Vec<String>")]
    missing: Vec<Digest>,
    missing_count: usize,
    /// Tags that lead to something of that.
    tags: Vec<String>,
    tags_count: usize,
    /// When a backup was made last. None: never.
    backed_up_at: Option<String>,
    /// When everything was read again last. None: never.
    verified_at: Option<String>,
    /// What should be done before an upgrade.
    first: Vec<String>,
}

/// A manifest that cannot be used.
#[derive(Serialize, JsonSchema)]
struct UnreadableManifest {
    #[schemars(with = "String")]
    digest: Digest,
    cause: String,
}

impl DeepReport {
    pub fn is_sound(&self) -> bool {
        self.records_wrong.is_empty() && self.unreadable_count == 0 && self.missing_count == 0
    }
}

/// A store that was looked into, and what its copy lies in: that goes when this goes.
pub(super) struct Looked {
    pub store: Store,
    conversion: Option<Conversion>,
    wrong: Vec<String>,
    _scratch: Option<tempfile::TempDir>,
}

/// Makes a store ready to be looked into. None: there is none.
pub(super) async fn rehearse(
    config: &Config,
    context: &Context,
) -> Result<Option<Looked>, Failure> {
    if !has_store(config)? {
        return Ok(None);
    }
    if config.shared_store()?.is_some() {
        let store = store_if_any(config)?;
        let (conversion, wrong, scratch) = (None, Vec::new(), None);
        return Ok(store.map(|store| Looked { store, conversion, wrong, _scratch: scratch }));
    }
    crate::context::check_owner(&config.data())?;
    let folder = config.data();
    let named = larder_transfer::files::named(&folder);
    let what = move || format!("cannot try an upgrade of the store in {named}");
    let scratch = tempfile::tempdir().map_err(|error| {
        let mut failure = Failure::io(what(), &error);
        failure.remedy =
            "its records are copied to a temporary folder: name one with `TMPDIR`".into();
        failure
    })?;
    let progress = context.output.progress();
    progress.say("copying the records");
    let (shown, copy) = (progress.clone(), scratch.path().to_owned());
    let rehearsed = tokio::task::spawn_blocking(move || {
        let mut tell = |read, all| shown.say(format!("read {read} of {all} manifests"));
        Store::rehearse(&folder, &copy, &mut tell)
    });
    let rehearsed = rehearsed.await.map_err(|_| StoreError::Closed).flatten();
    progress.done();
    let Rehearsal { store, conversion, wrong } = rehearsed.map_err(|error| match &error {
        StoreError::NoRoomToConvert { .. } => {
            let remedy = "free some space first; this version cannot open the store before";
            Failure::usage(what(), error, remedy)
        }
        _ => {
            let mut failure = Failure::store(what(), &error);
            if failure.remedy.is_empty() {
                failure.remedy =
                    "restore the last backup if the records are damaged; where the temporary folder is full, name another with `TMPDIR`".into();
            }
            failure
        }
    })?;
    Ok(Some(Looked { store, conversion, wrong, _scratch: Some(scratch) }))
}

/// Looks into it.
pub(super) async fn look(looked: &Looked, context: &Context) -> Result<DeepReport, Failure> {
    let failed = |error| Failure::store("cannot look into the store", &error);
    let store = &looked.store;
    let mut report = DeepReport {
        earlier_form: looked.conversion.map(|conversion| conversion.from),
        records_wrong: looked.wrong.clone(),
        ..DeepReport::default()
    };
    let progress = context.output.progress();
    let (_, all) = store.extent().await.map_err(failed)?;
    progress.say("reading the manifests");
    let mut lost = read_manifests(store, &mut report).await.map_err(failed)?;
    progress.say("looking for the blobs");
    progress.expect(all);
    lost.extend(look_for_blobs(store, &mut report, &progress).await.map_err(failed)?);
    progress.done();
    let withdrawn = store.withdraw(lost, true).await.map_err(failed)?;
    report.tags_count = withdrawn.tags.len();
    let tags = withdrawn.tags.iter().take(TOLD);
    report.tags = tags.map(|(name, tag, _)| format!("{name}:{tag}")).collect();
    marked(store, &mut report).await.map_err(failed)?;
    Ok(report)
}

/// Reads every manifest as this version does. Gives those that cannot be used.
async fn read_manifests(store: &Store, report: &mut DeepReport) -> Result<Vec<Digest>, StoreError> {
    const MISSING: usize = 100_000;
    let mut lost = Vec::new();
    let mut bad = |report: &mut DeepReport, digest: Digest, cause: String| {
        report.unreadable_count += 1;
        if report.unreadable.len() < TOLD {
            report.unreadable.push(UnreadableManifest { digest: digest.clone(), cause });
        }
        lost.push(digest);
    };
    let mut after: Option<Digest> = None;
    loop {
        let page = store.bodies_after(after.as_ref(), PAGE).await?;
        let Some((last, _)) = page.last() else { break };
        after = Some(last.clone());
        for (digest, body) in page {
            report.manifests += 1;
            let actual = hashed(&digest, &body);
            if actual != digest {
                bad(report, digest, format!("its content has the digest {}", short(&actual)));
            } else if let Err(error) = Document::read(body, None) {
                bad(report, digest, format!("this version cannot read it: {error}"));
            }
        }
    }
    for digest in store.missing_bodies(MISSING).await? {
        bad(report, digest, "it is missing".to_owned());
    }
    Ok(lost)
}

/// Looks whether every blob is in its place, as large as it should be. Gives those that are not.
async fn look_for_blobs(
    store: &Store,
    report: &mut DeepReport,
    progress: &Progress,
) -> Result<Vec<Digest>, StoreError> {
    let mut lost = Vec::new();
    let mut after: Option<Digest> = None;
    loop {
        let page = store.stored_after(after.as_ref(), PAGE).await?;
        let Some(last) = page.last() else { break };
        after = Some(last.digest.clone());
        report.blobs += page.len();
        report.size_bytes += page.iter().map(|one| one.size).sum::<u64>();
        let mut sizes = futures_util::stream::iter(page)
            .map(|one| async move {
                let size = store.object_size(&one).await?;
                progress.advance(one.size);
                Ok::<_, StoreError>((one, size))
            })
            .buffer_unordered(AT_ONCE);
        while let Some((one, size)) = sizes.try_next().await? {
            // Who sent it again or took it away meanwhile has changed its row.
            if size != Some(one.size) && store.is_still(&one).await? {
                lost.push(one.digest);
            }
        }
    }
    lost.sort();
    report.missing_count = lost.len();
    report.missing = lost.iter().take(TOLD).cloned().collect();
    Ok(lost)
}

/// When the store was backed up and read again, and what should be done first.
async fn marked(store: &Store, report: &mut DeepReport) -> Result<(), StoreError> {
    let now = now();
    let backup = store.mark(marks::BACKUP).await?;
    let verify = store.mark(marks::VERIFY).await?;
    report.backed_up_at = backup.as_ref().map(|mark| time(mark.at));
    report.verified_at = verify.as_ref().map(|mark| time(mark.at));
    let old = |at: i64| now - at > LONG_AGO;
    match &backup {
        None => report.first.push("`larder store backup FOLDER`: there is no backup".to_owned()),
        Some(mark) if old(mark.at) => report.first.push(format!(
            "`larder store backup {}`: the last backup was made {}",
            mark.value,
            ago(mark.at, now)
        )),
        Some(_) => {}
    }
    match &verify {
        None => report.first.push("`larder store verify`: nothing was ever read again".to_owned()),
        Some(mark) if mark.value != marks::SOUND => {
            report.first.push(format!("`larder store verify`: the last one found {}", mark.value));
        }
        Some(mark) if old(mark.at) => report.first.push(format!(
            "`larder store verify`: everything was read again {}",
            ago(mark.at, now)
        )),
        Some(_) => {}
    }
    if !report.is_sound() {
        report.first.push(
            "`larder store verify --repair`, then bring in or push again what it withdraws"
                .to_owned(),
        );
    }
    Ok(())
}

/// Shows it to people.
pub(super) fn show(report: &DeepReport, out: &Output) {
    let manifests = count(report.manifests, "manifest");
    let blobs = count(report.blobs, "blob");
    out.result(match report.earlier_form {
        None => "\nthe store has this version's form; nothing is converted".to_owned(),
        Some(from) => format!(
            "\nthe store has the form of an earlier version ({from}); converting a copy of its records went well"
        ),
    });
    for wrong in &report.records_wrong {
        out.result(format!("{} the records: {wrong}", paint(BAD, "damaged")));
    }
    for one in &report.unreadable {
        out.result(format!("{} manifest {}: {}", paint(BAD, "unreadable"), one.digest, one.cause));
    }
    for digest in &report.missing {
        out.result(format!("{} blob {digest}", paint(BAD, "missing")));
    }
    let more = (report.unreadable_count - report.unreadable.len())
        + (report.missing_count - report.missing.len());
    if more > 0 {
        out.result(format!("and {more} more"));
    }
    if report.tags_count > 0 {
        let left = report.tags_count - report.tags.len();
        let more = if left > 0 { format!(" and {left} more") } else { String::new() };
        out.result(format!("tags that cannot be pulled whole: {}{more}", report.tags.join(", ")));
    }
    if report.is_sound() {
        let size = bytes(report.size_bytes);
        out.result(format!(
            "{} {manifests} can be read, and {blobs} ({size}) are in their places {}",
            paint(GOOD, "sound:"),
            paint(DIM, "(their contents were not read)")
        ));
    }
    for first in &report.first {
        out.result(format!("first: {first}"));
    }
}

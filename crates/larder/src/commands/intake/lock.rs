//! `larder intake lock`: resolve the wanted tags to digests.

pub mod explain;
mod lacking;
mod platforms;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::{Arc, Mutex, PoisonError};

use futures_util::stream::{self, StreamExt as _};
use larder_client::ResolvedTag;
use larder_core::companion::{Companion, is_made_from_digest};
use larder_core::digest::Digest;
use larder_core::document::{ManifestShape, media_type};
use larder_core::lock::{Lock, LockedTag, TrimmedIndex, Want, stale};
use larder_core::name::Tag;
use larder_core::platform::{Platform, Platforms, listed};
use larder_core::reference::{Image, Selector};
use larder_core::signature::Trust;
use larder_transfer::{Source, TransferError, companions, trim};
use schemars::JsonSchema;
use serde::Serialize;
use tokio::sync::OnceCell;

use super::moved;
use super::upstream::{self, Asked, Judge, LockJudge, Upstreams};
use crate::config::{Config, Intake};
use crate::context::{Context, open_store, read_lock, shown, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GOOD, Output, Report, Table, WARN, count, paint, short};
use crate::pick::Pick;
use crate::policy::refuses_intake;
use crate::signatures::{Judging, gathered, signers_of};

/// Resolve the wanted tags to digests and write larder.lock
///
/// Nothing is brought in.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    pick: Pick,
    /// Ask nobody; exit with 1 when the lock does not fit larder.toml
    #[arg(long, conflicts_with_all = ["only", "skip", "dry_run", "explain"])]
    check: bool,
    /// Show each tag of this image with taken or left and why, and write nothing
    #[arg(long, value_name = "IMAGE", conflicts_with_all = ["only", "skip", "dry_run"])]
    explain: Option<String>,
    /// Say what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
}

/// What becomes of an image in the lock.
#[derive(Serialize, JsonSchema, Default)]
#[serde(rename_all = "kebab-case")]
enum LockChange {
    New,
    Moved,
    /// It lacks wanted platforms: what is locked stays, or another tag is taken.
    PassedOver,
    /// The image is the same; what belongs to it is not.
    Companions,
    #[default]
    Same,
    Dropped,
    Failed,
}

#[derive(Serialize, JsonSchema, Default)]
struct LockedImage {
    image: String,
    tag: String,
    change: LockChange,
    #[schemars(with = "Option<String>")]
    digest: Option<Digest>,
    #[schemars(with = "Option<String>")]
    before: Option<Digest>,
    #[schemars(with = "Vec<String>")]
    platforms: Vec<Platform>,
    /// The digest that the larder has it under, where that is another.
    #[schemars(with = "Option<String>")]
    trimmed: Option<Digest>,
    /// Wanted platforms for which what the upstream has is not made.
    #[schemars(with = "Vec<String>")]
    lacks: Vec<Platform>,
    companions: usize,
    /// How many of them the lock did not know.
    new_companions: usize,
    /// The signers whose signatures over it hold.
    signed_by: Vec<String>,
    /// Places that have something else under the tag.
    disagree: Vec<String>,
    /// What changed behind a tag that moved.
    moved: Vec<String>,
    cause: Option<String>,
}

impl LockedImage {
    fn of(want: &Want) -> Self {
        let (image, tag) = (want.image.to_string(), want.tag.to_string());
        Self { image, tag, ..Self::default() }
    }

    /// What a new answer changes at what is known.
    fn compared(
        want: &Want,
        known: Option<&LockedTag>,
        answer: &Result<LockedTag, Failure>,
    ) -> Self {
        let change = match (answer, known) {
            (Err(_), _) => LockChange::Failed,
            (Ok(_), None) => LockChange::New,
            (Ok(locked), Some(known)) if known == locked => LockChange::Same,
            (Ok(locked), Some(known)) if known.digest == locked.digest => LockChange::Companions,
            (Ok(_), Some(_)) => LockChange::Moved,
        };
        Self {
            change,
            cause: answer.as_ref().err().map(|failure| failure.cause.clone()),
            before: known.map(|locked| locked.digest.clone()),
            ..Self::of(want)
        }
    }

    /// Tells what is locked now.
    fn tell(&mut self, locked: &LockedTag, known: Option<&LockedTag>) {
        let trimmed = locked.trimmed.as_ref().map(|trimmed| trimmed.digest.clone());
        self.trimmed = trimmed.filter(|trimmed| *trimmed != locked.digest);
        let is_new =
            |digest: &&Digest| known.is_none_or(|known| !known.companions.contains_key(*digest));
        self.companions = locked.companions.len();
        self.new_companions = locked.companions.keys().filter(is_new).count();
        self.signed_by = locked.signed_by.iter().cloned().collect();
        self.digest = Some(locked.digest.clone());
        self.platforms = locked.platforms.keys().cloned().collect();
    }
}

#[derive(Serialize, JsonSchema)]
pub struct LockReport {
    lock: String,
    /// Whether the lock is another than before.
    changed: bool,
    /// Whether nothing was written.
    dry_run: bool,
    images: Vec<LockedImage>,
    /// Images in the lock.
    #[serde(skip)]
    locked: usize,
}

impl Report for LockReport {
    const KIND: &'static str = "intake-lock";

    fn show(&self, out: &Output) {
        show(&self.images, out);
        let (lock, images) = (&self.lock, count(self.locked, "image"));
        out.result(match (self.changed, self.dry_run) {
            (false, _) => format!("{lock} is up to date: {images}"),
            (true, true) => format!("{lock} would be written: {images}"),
            (true, false) => format!("wrote {lock}: {images}"),
        });
    }
}

/// What was found out about a wanted image.
struct Resolution {
    want: Want,
    locked: Result<LockedTag, Failure>,
    /// Places that have something else under the tag.
    disagree: Vec<String>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of locking in their order; each is a call.
    let config = context.config()?;
    let before = read_lock(&config)?;
    if args.check {
        return Ok(check(&config, &before, context));
    }
    let upstreams = Upstreams::new(&config);
    if let Some(image) = &args.explain {
        return explain::explain(image, &config, &upstreams, &before, context).await;
    }
    let asked = |image: &Image| args.pick.takes(image);
    let intake: Vec<&Intake> =
        config.intake.iter().filter(|intake| asked(intake.image.get_ref())).collect();
    if intake.is_empty() && !args.pick.is_everything() {
        let cause = "no intake entry has an image that matches";
        let remedy = "a pattern matches HOST/REPOSITORY, as in \"bazaar.example/**\"";
        return Err(Failure::usage("nothing to lock", cause, remedy));
    }
    let resolver = Resolver {
        upstreams: &upstreams,
        before: &before,
        trust: (!config.signers.is_empty()).then(|| config.trust()).transpose()?,
        tags: Mutex::default(),
        details: Mutex::default(),
    };
    let Asked { mut answers, unlisted: unasked } = upstreams.ask(&intake, &before, &resolver).await;
    let store = if args.dry_run { store_if_any(&config)? } else { Some(open_store(&config)?) };
    if let Some(store) = store.as_ref().filter(|_| !args.dry_run) {
        upstream::note(store, &answers).await?;
    }
    let court = config.court(Lock::default())?;
    let lacking = lacking::take_out(&mut answers);
    let details: Vec<Resolution> = stream::iter(answers)
        .map(|(want, answer)| {
            let known = before.entries.get(&want);
            let (resolver, upstreams, config, court) = (&resolver, &upstreams, &config, &court);
            let intake = config.intake_of(&want.image);
            async move {
                let locked = match (answer, intake) {
                    (Ok(resolved), Some(intake)) => {
                        resolver.locked(&want, intake, resolved, known).await
                    }
                    (Ok(_), None) => Err(Failure::usage("", "no intake entry wants it", "")),
                    (Err(unresolved), _) => Err(unresolved.failure().clone()),
                };
                let locked = locked.and_then(|locked| {
                    refuses_intake(court, &want, &locked).map_or(Ok(locked), Err)
                });
                let mut disagree = Vec::new();
                if let Ok(locked) = &locked {
                    let others = upstreams.other_digests(&want, &locked.digest).await;
                    disagree
                        .extend(others.iter().map(|(place, other)| format!("{place} has {other}")));
                }
                Resolution { want, locked, disagree }
            }
        })
        .buffered(16)
        .collect()
        .await;

    let mut after = Lock::default();
    // What was not asked stays as it is.
    after.entries.extend(
        before
            .entries
            .iter()
            .filter(|(want, _)| !asked(&want.image))
            .map(|(w, l)| (w.clone(), l.clone())),
    );
    // Images of which nothing could be learnt.
    let silent = |image: &Image| {
        let mut of_image = details.iter().filter(|one| one.want.image == *image).peekable();
        of_image.peek().is_some() && of_image.all(|one| one.locked.is_err())
    };
    let mut unlisted: BTreeSet<Image> = unasked.keys().cloned().collect();
    unlisted
        .extend(before.passed_over.keys().map(|want| &want.image).filter(|i| silent(i)).cloned());
    let mut lines = Vec::new();
    let mut failures: Vec<Failure> = unasked.into_values().collect();
    for Resolution { want, locked: answer, disagree } in details {
        let known = before.entries.get(&want);
        let mut line = LockedImage { disagree, ..LockedImage::compared(&want, known, &answer) };
        let locked = match answer {
            Ok(locked) => Some(locked),
            Err(failure) => {
                failures.push(failure);
                // What cannot be asked stays as it was.
                known.cloned()
            }
        };
        if let (LockChange::Moved, Some(known), Some(locked)) = (&line.change, known, &locked) {
            let digests = (&known.digest, &locked.digest);
            line.moved = moved::describe(&config, &upstreams, store.as_ref(), &want, digests).await;
            line.moved.extend(moved::companions(known, locked));
        }
        if let (Some(known), Some(locked)) = (known, &locked) {
            line.moved.extend(moved::signers(known, locked));
        }
        if let Some(locked) = locked {
            line.tell(&locked, known);
            after.entries.insert(want, locked);
        }
        lines.push(line);
    }
    let kept = before.passed_over.iter().filter(|(want, _)| {
        // What was not asked, and what could not be: nothing new is known of it.
        !asked(&want.image) || unlisted.contains(&want.image)
    });
    after.passed_over.extend(kept.map(|(want, passed)| (want.clone(), passed.clone())));
    lacking::settle(lacking, &config, &before, &mut after, &mut lines, &mut failures);
    for (want, locked) in &before.entries {
        // An entry whose list of tags could not be fetched keeps what it had: it is in `after`.
        let is_told = |line: &LockedImage| {
            line.tag == want.tag.as_str() && line.image == want.image.to_string()
        };
        if !after.entries.contains_key(want) && !lines.iter().any(is_told) {
            lines.push(LockedImage {
                change: LockChange::Dropped,
                before: Some(locked.digest.clone()),
                ..LockedImage::of(want)
            });
        }
    }
    let path = config.lock_path();
    let changed = after != before || !path.exists();
    if changed && !args.dry_run {
        larder_transfer::files::replace(&path, after.write().as_bytes()).map_err(|error| {
            Failure::io(format!("cannot write {}", larder_transfer::files::named(&path)), &error)
        })?;
    }
    context.output.tell(&LockReport {
        lock: shown(&path),
        changed,
        dry_run: args.dry_run,
        images: lines,
        locked: after.entries.len(),
    });
    for failure in &failures {
        context.output.failure(failure);
    }
    Ok(failures.iter().map(|failure| failure.exit).max().unwrap_or(Exit::Done))
}

/// Finds out what the lock says of an image.
struct Resolver<'r> {
    upstreams: &'r Upstreams<'r>,
    before: &'r Lock,
    /// Whose signatures count. None: nobody is named.
    trust: Option<Trust>,
    /// What was found out about digests that the lock does not know, to be asked for once.
    details: Mutex<HashMap<(Want, Digest), LockedTag>>,
    /// The tags of repositories that have companions, listed once each.
    tags: Mutex<HashMap<Image, Arc<OnceCell<Vec<Tag>>>>>,
}

impl Judge for Resolver<'_> {
    async fn lacks(&self, want: &Want, intake: &Intake, resolved: &ResolvedTag) -> Vec<Platform> {
        if intake.platforms == Platforms::All {
            return Vec::new();
        }
        let locked = self.before.entries.get(want);
        let locked = locked.filter(|known| known.digest == resolved.digest);
        // A lock of before may not know the platforms of manifests that only say it themselves.
        let is_doubtful = locked.is_some_and(|known| !known.lacks(&intake.platforms).is_empty());
        let known = LockJudge(self.before).known(want, intake, &resolved.digest);
        if let (Some(known), false) = (known, is_doubtful) {
            return known;
        }
        match self.details_once(want, intake, &resolved.digest).await {
            Ok(found) => found.lacks(&intake.platforms),
            // It is asked for again, and told then.
            Err(_) => Vec::new(),
        }
    }
}

impl Resolver<'_> {
    /// Everything that the lock says; what it knows already is not asked again, but for the
    /// companions: a signature may come any day.
    async fn locked(
        &self,
        want: &Want,
        intake: &Intake,
        resolved: ResolvedTag,
        known: Option<&LockedTag>,
    ) -> Result<LockedTag, Failure> {
        let trimmed_to = intake.wish().trimmed_to();
        let fits = |known: &&LockedTag| {
            let trimmed = known.trimmed.as_ref().map(|trimmed| &trimmed.platforms);
            known.digest == resolved.digest
                && (trimmed == trimmed_to.as_ref() || !media_type::is_index(&known.media_type))
        };
        let mut locked = match known.filter(fits) {
            Some(known) => known.clone(),
            None => self.details_once(want, intake, &resolved.digest).await?,
        };
        locked.companions = match intake.companions {
            true => self.companions(want, intake, &locked).await?,
            false => BTreeMap::new(),
        };
        locked.signed_by = self.signed_by(want, &locked).await?;
        Ok(locked)
    }

    /// The details of a digest, fetched once.
    async fn details_once(
        &self,
        want: &Want,
        intake: &Intake,
        digest: &Digest,
    ) -> Result<LockedTag, Failure> {
        let key = (want.clone(), digest.clone());
        let known = self.details.lock().unwrap_or_else(PoisonError::into_inner).get(&key).cloned();
        if let Some(known) = known {
            return Ok(known);
        }
        let found = self.details(want, intake, digest.clone()).await?;
        let mut all = self.details.lock().unwrap_or_else(PoisonError::into_inner);
        all.insert(key, found.clone());
        Ok(found)
    }

    async fn details(
        &self,
        want: &Want,
        intake: &Intake,
        digest: Digest,
    ) -> Result<LockedTag, Failure> {
        let trimmed_to = intake.wish().trimmed_to();
        let failed = |error: TransferError| {
            Failure::transfer(format!("cannot lock {}:{}", want.image, want.tag), &error)
        };
        let source = self.upstreams.source(want)?;
        let selector = Selector::Digest(digest);
        let (digest, document) = source.manifest(&selector).await.map_err(failed)?;
        let platforms =
            platforms::of(&source, &digest, &document, &intake.platforms).await.map_err(failed)?;
        let mut trimmed = None;
        if let (Some(platforms), ManifestShape::Index(_)) = (trimmed_to, &document.kind) {
            let index = trim(&source, &document, &intake.platforms).await.map_err(failed)?;
            let same = index.bytes == document.bytes;
            let digest = if same { digest.clone() } else { Digest::of(&index.bytes) };
            trimmed = Some(TrimmedIndex { digest, platforms });
        }
        Ok(LockedTag {
            digest,
            size: document.bytes.len() as u64,
            media_type: document.media_type,
            platforms,
            trimmed,
            companions: BTreeMap::new(),
            signed_by: BTreeSet::new(),
        })
    }

    /// The signers whose signatures over what the upstream has hold.
    async fn signed_by(
        &self,
        want: &Want,
        locked: &LockedTag,
    ) -> Result<BTreeSet<String>, Failure> {
        let Some(trust) = self.trust.as_ref().filter(|_| !locked.companions.is_empty()) else {
            return Ok(BTreeSet::new());
        };
        let failed = |error: TransferError| {
            let what = format!("cannot read the signatures of {}:{}", want.image, want.tag);
            Failure::transfer(what, &error)
        };
        let source = self.upstreams.source(want)?;
        let found = source.manifest(&Selector::Digest(locked.digest.clone())).await;
        let found = found.map_err(failed)?;
        let gathered = gathered(&source, &found, &[]).await.map_err(failed)?;
        let (names, tags) = ([want.image.to_string()], [want.tag.to_string()]);
        let judging = Judging { trust, names: &names, tags: &tags };
        let examined = judging.examine(&found, &[], &gathered);
        Ok(signers_of(&examined).into_iter().collect())
    }

    /// The companions of an image and of its platforms that are taken, from the first place that
    /// tells.
    async fn companions(
        &self,
        want: &Want,
        intake: &Intake,
        locked: &LockedTag,
    ) -> Result<BTreeMap<Digest, Companion>, Failure> {
        let taken = locked.platforms.iter().filter(|(on, _)| intake.platforms.want(on));
        let mut of: Vec<Digest> = taken.map(|(_, digest)| digest.clone()).collect();
        // Nobody can check a signature over an index that is not brought in.
        if *locked.here() == locked.digest {
            of.push(locked.digest.clone());
        }
        let tags = self.tags(&want.image).await?;
        let source = self.upstreams.source(want)?;
        companions(&source, of, &tags).await.map_err(|error| {
            let what = format!("cannot find the companions of {}:{}", want.image, want.tag);
            Failure::transfer(what, &error)
        })
    }

    async fn tags(&self, image: &Image) -> Result<Vec<Tag>, Failure> {
        let cell = {
            let mut all = self.tags.lock().unwrap_or_else(PoisonError::into_inner);
            Arc::clone(all.entry(image.clone()).or_default())
        };
        let beside = async {
            let mut tags = self.upstreams.tags(image).await?;
            tags.retain(is_made_from_digest);
            Ok(tags)
        };
        cell.get_or_try_init(|| beside).await.cloned()
    }
}

/// Whether the lock fits the configuration, without asking anybody.
fn check(config: &Config, lock: &Lock, context: &Context) -> Exit {
    let found: Vec<String> =
        stale(&config.wishes(), lock).iter().map(ToString::to_string).collect();
    let report = LockCheck { fits: found.is_empty(), differences: found };
    context.output.tell(&report);
    if report.fits { Exit::Done } else { Exit::No }
}

#[derive(Serialize, JsonSchema)]
pub struct LockCheck {
    /// Whether the lock is what the configuration wants.
    fits: bool,
    differences: Vec<String>,
}

impl Report for LockCheck {
    const KIND: &'static str = "intake-lock-check";

    fn show(&self, out: &Output) {
        self.differences.iter().for_each(|line| out.result(line));
        if self.fits {
            out.result("larder.lock fits larder.toml");
        } else {
            out.note("Next: `larder intake lock` writes it anew.");
        }
    }
}

fn show(lines: &[LockedImage], out: &Output) {
    let mut table = Table::new(out.width(), &["IMAGE", "DIGEST", "PLATFORMS", "CHANGE"])
        .sparing(&["PLATFORMS", "DIGEST"]);
    for line in lines {
        let platforms: Vec<String> = line.platforms.iter().map(ToString::to_string).collect();
        let digest = line.digest.as_ref().map(short).unwrap_or_default().to_owned();
        let before = line.before.as_ref().map(short).unwrap_or_default();
        let change = match line.change {
            LockChange::New => paint(GOOD, "new"),
            LockChange::Moved => paint(WARN, format!("moved; was {before}")),
            LockChange::PassedOver => {
                let lacks = listed(&line.lacks);
                paint(
                    WARN,
                    match line.digest {
                        Some(_) => format!("moved, and lacks {lacks}; the lock holds"),
                        None => format!("passed over: it lacks {lacks}"),
                    },
                )
            }
            LockChange::Companions if !line.moved.is_empty() => paint(WARN, "other signers"),
            LockChange::Companions => paint(WARN, "other companions"),
            LockChange::Same => paint(DIM, "same"),
            LockChange::Dropped => paint(WARN, "dropped: nothing wants it"),
            LockChange::Failed => paint(WARN, "not resolved; see below"),
        };
        let with = match (line.companions, line.new_companions) {
            (0, _) => String::new(),
            (all, 0) => format!(", with {}", count(all, "companion")),
            (all, new) => format!(", with {} ({new} new)", count(all, "companion")),
        };
        let signed = match line.signed_by.as_slice() {
            [] => String::new(),
            names => format!(", signed by {}", names.join(", ")),
        };
        let change = format!("{change}{}", paint(DIM, with + &signed));
        table.row([format!("{}:{}", line.image, line.tag), digest, platforms.join(" "), change]);
    }
    if !lines.is_empty() {
        out.table(&table);
    }
    for line in lines {
        let name = format!("{}:{}", line.image, line.tag);
        if let (Some(trimmed), Some(digest)) = (&line.trimmed, &line.digest) {
            out.note(format!(
                "{name}: the larder gets an index for your platforms alone, which has another digest: {} instead of {}",
                short(trimmed),
                short(digest)
            ));
        }
        for other in &line.disagree {
            out.note(format!("{name} is not the same everywhere: {other}"));
        }
    }
    for line in lines.iter().filter(|line| !line.moved.is_empty()) {
        let what = match line.change {
            LockChange::Moved => "moved",
            _ => "changed",
        };
        out.result(format!("\n{}:{} {what}:", line.image, line.tag));
        for change in &line.moved {
            out.result(format!("  {change}"));
        }
    }
}

//! `larder log --export` and `--verify`: closed hours as signed files that follow each other.

use std::path::{Path, PathBuf};

use larder_core::digest::Digest;
use larder_core::signature::VerifyingKey;
use larder_core::trail::{self, TrailHead};
use larder_store::Store;
use larder_transfer::files::{named, read_regular, replace};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::LogEntry;
use crate::config::Config;
use crate::context::{Context, now, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::marks;
use crate::output::{BAD, Output, Report, count, paint, time};
use crate::parcel::signing_key;

const HOUR: i64 = 3_600_000;
/// What happened is written down within this time, unless the store could not be written; what comes later yet is in a
/// later file.
const CLOSED: i64 = 60_000;
/// The most hours that one call writes.
const HOURS: usize = 50_000;

/// The last file that was written, as the store knows it.
#[derive(Serialize, Deserialize)]
struct LastFile {
    number: u64,
    digest: String,
    until: String,
}

#[derive(Serialize, JsonSchema)]
pub struct ExportReport {
    folder: PathBuf,
    /// The files that were written.
    files: Vec<ExportedFile>,
    /// Up to when the record is exported now.
    until: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct ExportedFile {
    file: String,
    number: u64,
    from: String,
    until: String,
    entries: u64,
}

impl Report for ExportReport {
    const KIND: &'static str = "log-export";

    fn show(&self, out: &Output) {
        for one in &self.files {
            let entries = count(usize::try_from(one.entries).unwrap_or(usize::MAX), "entry");
            out.result(format!("wrote {} with {entries}", one.file));
        }
        let until = self.until.as_deref().unwrap_or("nothing yet");
        let folder = named(&self.folder);
        out.result(match self.files.is_empty() {
            true => format!("no hour with entries has closed since then; exported up to: {until}"),
            false => format!("{folder} goes up to {until}"),
        });
    }
}

/// A file of the chain that was found.
struct FoundFile {
    name: String,
    head: TrailHead,
    digest: Digest,
}

/// Files of a chain, by their numbers, and what is wrong with others.
fn files(folder: &Path, trusted: &[VerifyingKey]) -> Result<(Vec<FoundFile>, Vec<Fault>), Failure> {
    let what = || format!("cannot read {}", named(folder));
    let entries = std::fs::read_dir(folder).map_err(|error| Failure::io(what(), &error))?;
    let (mut found, mut faults) = (Vec::new(), Vec::new());
    for entry in entries {
        let path = entry.map_err(|error| Failure::io(what(), &error))?.path();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let end = path.extension().and_then(|end| end.to_str());
        if !name.starts_with("record-") || end != Some("jsonl") {
            continue;
        }
        let bytes =
            read_regular(&path, trail::LIMIT).map_err(|error| Failure::io(what(), &error))?;
        match trail::read(&bytes, trusted) {
            Ok(head) => found.push(FoundFile { name, head, digest: Digest::of(&bytes) }),
            Err(error) => faults.push(Fault { file: name, cause: error.to_string() }),
        }
    }
    found.sort_by(|a, b| (a.head.number, &a.name).cmp(&(b.head.number, &b.name)));
    Ok((found, faults))
}

/// The larder's own key, and those whose parcels it believes.
fn trusted(config: &Config, own: Option<VerifyingKey>) -> Vec<VerifyingKey> {
    let others = config.parcel.trust.values().map(|trust| trust.key().clone());
    own.into_iter().chain(others).collect()
}

pub async fn export(
    folder: &Path,
    anew: bool,
    config: &Config,
    store: &Store,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot export the record to {}", named(folder));
    let key = signing_key(config, &what())?;
    std::fs::create_dir_all(folder).map_err(|error| Failure::io(what(), &error))?;
    let failed = |error| Failure::store(what(), &error);
    // Files that were signed with an earlier key count as long as that is trusted.
    let (found, faults) = files(folder, &trusted(config, Some(key.verifying())))?;
    if let Some(fault) = faults.first() {
        let cause = format!("{}: {}", fault.file, fault.cause);
        return Err(Failure::usage(what(), cause, "export to another folder, with `--anew`")
            .ending(Exit::Content));
    }
    let known = store.mark(marks::EXPORT).await.map_err(failed)?;
    let known = known.and_then(|mark| serde_json::from_str::<LastFile>(&mark.value).ok());
    let last = found.last();
    if let Some(known) = known.filter(|_| !anew) {
        let same = last.is_some_and(|last| last.digest.as_str() == known.digest);
        if !same {
            let here = last
                .map_or_else(|| "none".to_owned(), |last| format!("number {}", last.head.number));
            let cause = format!(
                "the last file that was written is number {}, and the last one there is {here}",
                known.number
            );
            let remedy = "name the folder that has them all, or begin a new chain in an empty one with `--anew`";
            return Err(Failure::usage(what(), cause, remedy).ending(Exit::No));
        }
    }
    if anew && last.is_some() {
        return Err(Failure::usage(
            what(),
            "a chain has begun there",
            "name an empty folder for a new one",
        ));
    }
    let mut before = last.map(|last| (last.head.clone(), last.digest.clone()));
    let mut report = ExportReport { folder: folder.to_owned(), files: Vec::new(), until: None };
    let closed = (now() - CLOSED).div_euclid(HOUR) * HOUR;
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    for _ in 0..HOURS {
        let previous = before.as_ref().map(|(head, digest)| (head, digest));
        let mut head = TrailHead::new(&config.larder.name, &host, previous);
        let from = previous.map_or(i64::MIN, |(head, _)| millis(&head.until));
        let after = i64::try_from(head.change).unwrap_or(i64::MAX);
        let next = store.next_written(from, after, closed).await.map_err(failed)?;
        let Some(first) = next else { break };
        let until = (first.max(from).div_euclid(HOUR) + 1) * HOUR;
        let (entries, change) = store.written(from, after, until).await.map_err(failed)?;
        if head.from.is_empty() {
            head.from = time(first.div_euclid(HOUR) * HOUR);
        }
        head.until = time(until);
        head.change = u64::try_from(change).unwrap_or_default();
        let lines: Vec<String> = entries
            .iter()
            .map(|entry| serde_json::to_string(&LogEntry::of(entry)).unwrap_or_default())
            .collect();
        head.entries = lines.len() as u64;
        let bytes = trail::write(&head, &lines, &key);
        let name = format!("record-{:08}-{}.jsonl", head.number, head.until.replace(':', ""));
        let path = folder.join(&name);
        replace(&path, &bytes).map_err(|error| Failure::file(what(), &path, &error))?;
        let digest = Digest::of(&bytes);
        let last =
            LastFile { number: head.number, digest: digest.to_string(), until: head.until.clone() };
        let text = serde_json::to_string(&last).unwrap_or_default();
        store.set_mark(marks::EXPORT, &text).await.map_err(failed)?;
        report.files.push(ExportedFile {
            file: name,
            number: head.number,
            from: head.from.clone(),
            until: head.until.clone(),
            entries: head.entries,
        });
        before = Some((head, digest));
    }
    report.until = before.map(|(head, _)| head.until);
    context.output.tell(&report);
    Ok(Exit::Done)
}

fn millis(text: &str) -> i64 {
    text.parse::<jiff::Timestamp>().map_or(i64::MIN, jiff::Timestamp::as_millisecond)
}

#[derive(Serialize, JsonSchema)]
pub struct TrailReport {
    folder: PathBuf,
    files: usize,
    entries: u64,
    from: Option<String>,
    until: Option<String>,
    /// Whether this larder's store knows the last file: only it can tell that none is missing at the end.
    end_is_known: bool,
    faults: Vec<Fault>,
}

/// What is wrong with a file.
#[derive(Serialize, JsonSchema)]
struct Fault {
    file: String,
    cause: String,
}

impl Report for TrailReport {
    const KIND: &'static str = "log-verify";

    fn show(&self, out: &Output) {
        for fault in &self.faults {
            out.result(format!("{} {}: {}", paint(BAD, "wrong"), fault.file, fault.cause));
        }
        let (files, from) = (count(self.files, "file"), self.from.as_deref().unwrap_or("-"));
        let (until, entries) = (self.until.as_deref().unwrap_or("-"), self.entries);
        if self.faults.is_empty() {
            out.result(format!(
                "{files} with {entries} entries from {from} until {until}: complete and unaltered"
            ));
        }
        if !self.end_is_known {
            out.note(
                "whether files are missing at the end, only the larder that wrote them can tell",
            );
        }
    }
}

pub async fn verify(
    folder: &Path,
    trusted: &[VerifyingKey],
    config: Option<&Config>,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot verify {}", named(folder));
    let mut trusted = trusted.to_vec();
    if let Some(config) = config {
        let own = config.parcel.sign.is_some().then(|| signing_key(config, &what())).transpose()?;
        trusted.extend(self::trusted(config, own.map(|own| own.verifying())));
    }
    if trusted.is_empty() {
        let cause = "no key is trusted";
        let remedy = "name the larder's public key with `--trust`";
        return Err(Failure::usage(what(), cause, remedy));
    }
    let (found, mut faults) = files(folder, &trusted)?;
    let mut before: Option<&FoundFile> = None;
    for one in &found {
        let follows = match before {
            Some(before) => {
                one.head.follows(&before.head, &before.digest).err().map(|error| error.to_string())
            }
            None if one.head.previous.is_none() => None,
            None => Some(format!(
                "the chain begins with number {}; those before it are missing",
                one.head.number
            )),
        };
        faults.extend(follows.map(|cause| Fault { file: one.name.clone(), cause }));
        before = Some(one);
    }
    let mut end_is_known = false;
    if let (Some(config), Some(last)) = (config, before)
        && config.larder.name == last.head.larder
        && let Some(store) = store_if_any(config)?
    {
        let known =
            store.mark(marks::EXPORT).await.map_err(|error| Failure::store(what(), &error))?;
        if let Some(known) =
            known.and_then(|mark| serde_json::from_str::<LastFile>(&mark.value).ok())
        {
            end_is_known = true;
            if known.digest != last.digest.as_str() {
                let cause = format!(
                    "the last file that was written is number {} ({})",
                    known.number, known.digest
                );
                faults.push(Fault { file: last.name.clone(), cause });
            }
        }
    }
    if found.is_empty() && faults.is_empty() {
        let remedy = "name the folder that `larder log --export` wrote";
        return Err(Failure::usage(what(), "no exported record is in it", remedy).ending(Exit::No));
    }
    let sound = faults.is_empty();
    context.output.tell(&TrailReport {
        folder: folder.to_owned(),
        files: found.len(),
        entries: found.iter().map(|one| one.head.entries).sum(),
        from: found.first().map(|one| one.head.from.clone()),
        until: found.last().map(|one| one.head.until.clone()),
        end_is_known,
        faults,
    });
    Ok(if sound { Exit::Done } else { Exit::Content })
}

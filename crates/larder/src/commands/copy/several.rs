//! Many images at once: by lists and patterns, with a plan, and again for what failed.

use std::collections::{BTreeMap, BTreeSet};
use std::io::IsTerminal as _;
use std::time::Instant;

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::{Platform, Platforms};
use larder_core::reference::{Reference, Selector};
use larder_store::RecordKind;
use larder_transfer::files::with_stdin;
use larder_transfer::{
    Engine, MoveOrder, MoveOutcome, Outline, Source, Target, check_all_there, trim,
};
use schemars::JsonSchema;
use serde::Serialize;

use super::move_with_companions;
use crate::commands::promote::{Passed, Passing};
use crate::config::Config;
use crate::context::{Context, reference};
use crate::failure::{Exit, Failure, Outcome};
use crate::images::{Ends, FoundImage, NamedImages};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, bytes, count, paint, short};
use crate::record;

/// Images that are looked at at once, and those that are moved.
const LOOKS: usize = 8;
const MOVES: usize = 4;
/// Failures that are told one by one.
const TOLD: usize = 20;

/// What is to be done with many images.
pub struct Wish<'w> {
    pub from: &'w [String],
    pub to: &'w str,
    pub platforms: &'w [Platform],
    /// Whether indexes are written anew with these platforms alone.
    pub trim: bool,
    pub companions: bool,
    /// The `[[upstream]]` with whose login is written.
    pub account: Option<&'w str>,
    pub because: Option<&'w str>,
    pub dry_run: bool,
    /// Whether a tag that points elsewhere at the target is set anew.
    pub moves_tags: bool,
    /// Whether a shelf may be named without this larder's host, as a target.
    pub shelves: bool,
    /// As what it stands in the record.
    pub kind: RecordKind,
    /// What is asked of an image before it goes, and done before it gets its tag. None: nothing.
    pub passing: Option<&'w Passing<'w>>,
}

impl Wish<'_> {
    /// Whether images are signed on their way.
    fn signs(&self) -> bool {
        self.passing.is_some_and(Passing::signs)
    }
}

/// What becomes of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum CopyState {
    /// It is not there yet.
    New,
    /// It is there already.
    There,
    /// Its tag points to something else there.
    Moves,
    /// It is not there, although it was tried.
    Failed,
}

#[derive(Serialize, JsonSchema)]
struct CopiedImage {
    from: String,
    to: String,
    /// null: it could not be read.
    digest: Option<String>,
    state: CopyState,
    /// What the tag points to at the target before. null: nothing.
    was: Option<String>,
    /// Its blobs together.
    size_bytes: u64,
    /// Whether it was signed in the name of one of our signers, or would be.
    signed: bool,
    /// Why it failed, or is not done. null: nothing did.
    cause: Option<String>,
}

impl CopiedImage {
    /// Whether there is something to say of it.
    fn is_told(&self) -> bool {
        self.state != CopyState::There || self.signed
    }
}

#[derive(Serialize, JsonSchema, Default)]
pub struct CopiesReport {
    /// Whether nothing was copied.
    dry_run: bool,
    images: Vec<CopiedImage>,
    /// How many were copied, or would be.
    copied: usize,
    there_already: usize,
    /// How many were signed, or would be.
    signed: usize,
    failed: usize,
    blobs_copied: usize,
    blobs_present: usize,
    /// Bytes that were sent; with `dry_run` what is sent at most, where nothing of it is there.
    copied_bytes: u64,
    because: Option<String>,
    #[serde(skip)]
    seconds: f64,
    /// What this larder's images begin with.
    #[serde(skip)]
    own: String,
}

impl Report for CopiesReport {
    const KIND: &'static str = "copies";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["", "FROM", "TO", "SIZE", "DIGEST"])
            .sparing(&["DIGEST", "SIZE"]);
        for one in self.images.iter().filter(|one| one.is_told()) {
            let state = match one.state {
                CopyState::New if self.dry_run => paint(GOOD, "new"),
                CopyState::New => paint(GOOD, "copied"),
                CopyState::Moves => paint(WARN, if self.dry_run { "moves" } else { "moved" }),
                CopyState::Failed => paint(BAD, "failed"),
                CopyState::There => paint(DIM, if one.signed { "there, signed" } else { "there" }),
            };
            let digest = one.digest.as_ref().and_then(|text| text.parse::<Digest>().ok());
            let digest = digest.map_or_else(String::new, |digest| short(&digest).to_owned());
            let size = one.digest.as_ref().map_or_else(String::new, |_| bytes(one.size_bytes));
            let name = |text: &String| {
                let name = text.strip_prefix(&self.own).unwrap_or(text);
                match name.split_once('@') {
                    Some((image, digest)) => match digest.parse::<Digest>() {
                        Ok(digest) => format!("{image}@{}", short(&digest)),
                        Err(_) => name.to_owned(),
                    },
                    None => name.to_owned(),
                }
            };
            table.row([state, name(&one.from), name(&one.to), size, digest]);
        }
        if self.images.iter().any(CopiedImage::is_told) {
            out.table(&table);
        }
        let (images, there) = (count(self.copied, "image"), self.there_already);
        out.result(match self.dry_run {
            true if self.copied_bytes == 0 => {
                format!("{images} would be copied, {there} there already; nothing to send")
            }
            true => format!(
                "{images} would be copied, {there} there already; at most {} to send",
                bytes(self.copied_bytes)
            ),
            false => format!(
                "{images} copied, {there} there already, {} failed; {} copied ({}), {} there already; {:.1} s",
                self.failed,
                count(self.blobs_copied, "blob"),
                bytes(self.copied_bytes),
                self.blobs_present,
                self.seconds
            ),
        });
        if self.signed > 0 {
            let verb = if self.dry_run { "would be signed" } else { "signed" };
            out.result(format!("{} {verb}", count(self.signed, "image")));
        }
        if self.failed > 0 && !self.dry_run {
            out.note("the same call again does what is left");
        }
    }
}

/// An image of the plan.
struct Planned {
    from: Reference,
    to: Reference,
    looked: Result<Looked, Failure>,
}

struct Looked {
    digest: Digest,
    /// What it becomes at the target.
    document: Document,
    trimmed: Option<Digest>,
    was: Option<Digest>,
    blobs: BTreeMap<Digest, u64>,
    /// Whether it is to be signed on its way, and is not yet.
    signs: bool,
}

impl Looked {
    /// The digest that it has at the target.
    fn becomes(&self) -> &Digest {
        self.trimmed.as_ref().unwrap_or(&self.digest)
    }

    fn passed(&self) -> Passed {
        let found = (self.becomes().clone(), self.document.clone());
        let trimmed_from = self.trimmed.is_some().then(|| self.digest.clone());
        Passed { found, trimmed_from }
    }

    fn state(&self) -> CopyState {
        match &self.was {
            None => CopyState::New,
            Some(was) if was == self.becomes() => CopyState::There,
            Some(_) => CopyState::Moves,
        }
    }
}

/// Where images go.
struct Destination {
    host: larder_core::name::Host,
    /// The repository, or what comes before each. None: nothing does.
    path: Option<RepositoryName>,
    /// Whether each image keeps its name below it.
    is_folder: bool,
    tag: Option<Tag>,
}

impl Destination {
    fn read(wish: &Wish<'_>, config: &Config) -> Result<Self, Failure> {
        let text = wish.to;
        let what = || format!("cannot copy to `{}`", text.escape_debug());
        let is_folder = text.ends_with('/');
        let plain = text.trim_end_matches('/');
        let (first, rest) = plain.split_once('/').unwrap_or((plain, ""));
        let looks_like_host = first.contains(['.', ':']) || first == "localhost";
        if looks_like_host && is_folder && rest.is_empty() {
            let host = first.parse().map_err(|error| Failure::usage(what(), error, ""))?;
            return Ok(Self { host, path: None, is_folder, tag: None });
        }
        let shelf = config
            .storing_shelves()
            .iter()
            .any(|shelf| shelf == plain.split(['/', ':']).next().unwrap_or_default());
        if !(looks_like_host || wish.shelves && shelf) {
            let cause = "it names no registry, and nothing is pushed to one that is not named";
            let own = &config.larder.url.host;
            let remedy =
                format!("write {own}/{plain}{} for this larder", if is_folder { "/" } else { "" });
            return Err(Failure::usage(what(), cause, remedy));
        }
        let whole = match looks_like_host {
            true => plain.to_owned(),
            false => format!("{}/{plain}", config.larder.url.host),
        };
        let to = reference(&whole, Some(config))?;
        if !is_folder && config.larder.has_name(&to.host) && to.repository.is_single() {
            let cause = format!("{} is a shelf, and images lie in its repositories", to.repository);
            return Err(Failure::usage(what(), cause, format!("write {plain}/")));
        }
        if let Some(digest) = &to.digest {
            let cause = format!(
                "where something goes is named by a tag, not by the digest {}",
                digest.short()
            );
            return Err(Failure::usage(
                what(),
                cause,
                "leave the digest out; it stays the same by itself",
            ));
        }
        if is_folder && to.tag.is_some() {
            return Err(Failure::usage(
                what(),
                "a tag is followed by nothing",
                "leave the slash out",
            ));
        }
        Ok(Self { host: to.host, path: Some(to.repository), is_folder, tag: to.tag })
    }

    /// The target of an image.
    fn of(&self, one: &FoundImage) -> Result<Reference, Failure> {
        let repository = match (&self.path, self.is_folder) {
            (Some(path), false) => path.clone(),
            (Some(path), true) => format!("{path}/{}", one.rest).parse().map_err(|error| {
                Failure::usage(format!("cannot copy {} to {path}/", one.image), error, "")
            })?,
            (None, _) => one.rest.clone(),
        };
        let digest = one.image.digest.clone().filter(|_| one.image.tag.is_none());
        let tag = self.tag.clone().or_else(|| one.image.tag.clone());
        let digest = if tag.is_some() { None } else { digest };
        Ok(Reference { host: self.host.clone(), repository, tag, digest })
    }
}

/// All images with where they go.
async fn pairs(
    wish: &Wish<'_>,
    config: &Config,
    ends: &Ends<'_>,
) -> Result<Vec<(Reference, Reference)>, Failure> {
    let what = "cannot copy";
    let destination = Destination::read(wish, config)?;
    let texts = with_stdin(wish.from)
        .map_err(|error| Failure::io(format!("{what}: cannot read stdin"), &error))?;
    if texts.is_empty() {
        let remedy = "write one image or pattern a line";
        return Err(Failure::usage(what, "stdin names no image", remedy));
    }
    let mut pairs: BTreeMap<Reference, Reference> = BTreeMap::new();
    for text in &texts {
        let named = NamedImages::read(text, config, what)?;
        let found = ends.named(&named).await?;
        if found.is_empty() {
            let cause = "no image there matches";
            let failure = Failure::usage(
                format!("{what} {text}"),
                cause,
                "`larder look --tags` and `larder find` show what there is",
            );
            return Err(failure.ending(Exit::No));
        }
        for one in found {
            let to = destination.of(&one)?;
            if let Some(other) = pairs.get(&to).filter(|other| **other != one.image) {
                let cause = format!("{other} and {} would both become {to}", one.image);
                let remedy = "end the target with `/`, so that each keeps its name below it";
                return Err(Failure::usage(what, cause, remedy));
            }
            if to == one.image {
                return Err(Failure::usage(what, format!("{to} would go to where it is"), ""));
            }
            pairs.insert(to, one.image);
        }
    }
    Ok(pairs.into_iter().map(|(to, from)| (from, to)).collect())
}

async fn look(
    from: &Reference,
    to: &Reference,
    wish: &Wish<'_>,
    platforms: &Platforms,
    ends: &Ends<'_>,
) -> Result<Looked, Failure> {
    let what = || format!("cannot copy {from} to {to}");
    let failed = |error| Failure::transfer(what(), &error);
    let source = ends.source(from)?;
    let (digest, document) = source.manifest(&from.selector()).await.map_err(failed)?;
    let present: Vec<Platform> =
        document.children().iter().filter_map(Descriptor::platform).collect();
    if !present.is_empty() {
        check_all_there(platforms, &present).map_err(failed)?;
    }
    let (trimmed, document) = match wish.trim && !document.children().is_empty() {
        true => {
            let document = trim(&*source, &document, platforms).await.map_err(failed)?;
            (Some(Digest::of(&document.bytes)), document)
        }
        false => (None, document),
    };
    let was = ends.digest_at(to).await?;
    let mut looked =
        Looked { digest, document, trimmed, was, blobs: BTreeMap::new(), signs: false };
    // What is there already gets no tag.
    let is_due = |passing: &&&Passing<'_>| looked.state() != CopyState::There || passing.signs();
    if let Some(passing) = wish.passing.as_ref().filter(is_due) {
        looked.signs = passing.check(&*source, ends, (from, to), &looked.passed()).await?;
    }
    if looked.state() != CopyState::There {
        let outline = Outline::of(&*source, &looked.digest, platforms, looked.trimmed.as_ref());
        let outline = outline.await.map_err(failed)?;
        let blobs = outline.blobs().into_iter();
        looked.blobs = blobs.map(|blob| (blob.digest, blob.size)).collect();
    }
    Ok(looked)
}

pub async fn run(wish: &Wish<'_>, config: &Config, context: &Context) -> Outcome {
    let began = Instant::now();
    let ends = Ends::new(config, wish.account.map(str::to_owned))?;
    let progress = context.output.progress();
    progress.say("looking at what there is".to_owned());
    let platforms = match wish.platforms {
        [] => Platforms::All,
        some => Platforms::Some(some.to_vec()),
    };
    let pairs = pairs(wish, config, &ends).await?;
    let mut plan: Vec<Planned> = stream::iter(pairs)
        .map(|(from, to)| {
            let (ends, platforms) = (&ends, &platforms);
            async move {
                let looked = look(&from, &to, wish, platforms, ends).await;
                Planned { from, to, looked }
            }
        })
        .buffer_unordered(LOOKS)
        .collect()
        .await;
    plan.sort_by(|a, b| a.to.cmp(&b.to));
    let because = wish.because.map(str::to_owned);
    let own = format!("{}/", config.larder.url.host);
    let mut report =
        CopiesReport { dry_run: wish.dry_run, because, own, ..CopiesReport::default() };
    let mut failures: Vec<Failure> = Vec::new();
    refuse_moves(&mut plan, wish);
    if wish.dry_run {
        progress.done();
        let mut blobs = BTreeMap::new();
        for one in plan {
            let is_own = |one: &Reference| ends.own_store(&one.host).is_some();
            let shared = is_own(&one.from) && is_own(&one.to);
            if let (Ok(looked), false) = (&one.looked, shared) {
                blobs.extend(looked.blobs.clone());
            }
            report.add(one, None, &mut failures);
        }
        report.copied_bytes = blobs.values().sum();
        return Ok(finish(&report, &failures, context));
    }
    let engine = Engine::new(progress.clone());
    let done: Vec<(Planned, Option<Result<Carried, Failure>>)> = stream::iter(plan)
        .map(|one| {
            let (ends, platforms, engine) = (&ends, &platforms, &engine);
            async move {
                let moved = match &one.looked {
                    Ok(looked) if looked.state() != CopyState::There || wish.signs() => {
                        Some(carry(&one, looked, wish, platforms, ends, engine).await)
                    }
                    _ => None,
                };
                (one, moved)
            }
        })
        .buffered(MOVES)
        .collect()
        .await;
    progress.done();
    for (one, moved) in done {
        report.add(one, moved, &mut failures);
    }
    report.seconds = began.elapsed().as_secs_f64();
    Ok(finish(&report, &failures, context))
}

/// Where tags may not move, those that would are failures.
fn refuse_moves(plan: &mut [Planned], wish: &Wish<'_>) {
    for one in plan.iter_mut().filter(|_| !wish.moves_tags) {
        let moves = matches!(&one.looked, Ok(looked) if looked.state() == CopyState::Moves);
        if moves {
            let cause = format!("{} is there and is another image", one.to);
            let remedy = "`--move` lets the tag move; another tag leaves both";
            let what = format!("cannot copy {} to {}", one.from, one.to);
            one.looked = Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
    }
}

/// What became of an image on its way.
struct Carried {
    moved: MoveOutcome,
    signed: bool,
}

/// Moves one image, and writes it down.
async fn carry(
    one: &Planned,
    looked: &Looked,
    wish: &Wish<'_>,
    platforms: &Platforms,
    ends: &Ends<'_>,
    engine: &Engine,
) -> Result<Carried, Failure> {
    let what = || format!("cannot copy {} to {}", one.from, one.to);
    let source: Box<dyn Source> = ends.source(&one.from)?;
    let target: Box<dyn Target> = ends.target(&one.from, &one.to)?;
    let nothing = BTreeSet::new();
    let order = MoveOrder {
        source: &*source,
        // What was looked at, whatever the tag points to by now.
        selector: Selector::Digest(looked.digest.clone()),
        target: &*target,
        tag: one.to.tag.clone(),
        platforms,
        leave: &nothing,
        trimmed: looked.trimmed.as_ref(),
    };
    let places = (&one.from, &one.to);
    let signed = match wish.passing {
        Some(passing) => passing.sign(&*source, &*target, ends, places, &looked.passed()).await?,
        None => false,
    };
    if looked.state() == CopyState::There {
        return Ok(Carried { moved: MoveOutcome::default(), signed });
    }
    let moved = move_with_companions(engine, &order, wish.companions).await;
    let (moved, _) = moved.map_err(|error| Failure::transfer(what(), &error))?;
    record::note_copy(ends, wish.kind, &one.from, &one.to, looked.becomes(), wish.because).await?;
    Ok(Carried { moved, signed })
}

impl CopiesReport {
    fn add(
        &mut self,
        one: Planned,
        moved: Option<Result<Carried, Failure>>,
        failures: &mut Vec<Failure>,
    ) {
        let mut row = CopiedImage {
            from: one.from.to_string(),
            to: one.to.to_string(),
            digest: None,
            state: CopyState::Failed,
            was: None,
            size_bytes: 0,
            signed: false,
            cause: None,
        };
        let failure = match (one.looked, moved) {
            (Err(failure), _) => Some(failure),
            (Ok(looked), moved) => {
                row.digest = Some(looked.becomes().to_string());
                row.state = looked.state();
                row.was = looked.was.as_ref().map(Digest::to_string);
                row.size_bytes = looked.blobs.values().sum();
                row.signed = self.dry_run && looked.signs;
                match moved {
                    Some(Ok(Carried { moved, signed })) => {
                        row.signed = signed;
                        self.blobs_copied += moved.copied;
                        self.blobs_present += moved.present;
                        self.copied_bytes += moved.bytes;
                        None
                    }
                    Some(Err(failure)) => Some(failure),
                    None => None,
                }
            }
        };
        if let Some(failure) = failure {
            row.state = CopyState::Failed;
            row.cause = Some(failure.cause.clone());
            failures.push(failure);
        }
        self.signed += usize::from(row.signed);
        match row.state {
            CopyState::New | CopyState::Moves => self.copied += 1,
            CopyState::There => self.there_already += 1,
            CopyState::Failed => self.failed += 1,
        }
        self.images.push(row);
    }
}

fn finish(report: &CopiesReport, failures: &[Failure], context: &Context) -> Exit {
    let exit = failures.iter().map(|failure| failure.exit).max().unwrap_or(Exit::Done);
    context.output.tell(report);
    for failure in failures.iter().take(TOLD) {
        context.output.failure(failure);
    }
    if failures.len() > TOLD {
        let more = failures.len() - TOLD;
        context.output.note(format!("and {} that failed too", count(more, "image")));
    }
    let asked = std::io::stderr().is_terminal();
    if report.dry_run && report.copied > 0 && asked {
        context.output.note("nothing was copied; without `--dry-run` it is");
    }
    exit
}

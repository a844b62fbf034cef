//! `larder advisory show`: what an advisory says.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use larder_core::advisory::{Advisory, PackageVerdict};
use larder_core::companion::is_made_from_digest;
use larder_core::digest::Digest;
use larder_core::shown::cut;
use larder_store::{NotedFinding, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::import::with_feeds;
use super::list::told_not_read;
use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, STRONG, count, folded, paint};

/// Say what an advisory says
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Its name, or another name of the same
    #[arg(value_name = "ID")]
    id: String,
}

/// An advisory, as each feed has it.
#[derive(Serialize, JsonSchema)]
pub struct AdvisoryReport {
    asked: String,
    found: Vec<AdvisoryText>,
    statements: Vec<StatementText>,
    /// Images that have what it is about, each by its tags; at most 50 of them.
    images: Vec<TouchedImage>,
    /// How many these are in all.
    image_count: u64,
    /// Images that were not read whole, so that it may be in them too.
    not_read: u64,
}

/// An image that has what an advisory is about.
#[derive(Serialize, JsonSchema)]
struct TouchedImage {
    digest: String,
    /// The tags that lead to it; none: it is only held.
    names: Vec<String>,
    packages: Vec<String>,
}

/// Images that are listed.
const LISTED: usize = 50;

#[derive(Serialize, JsonSchema)]
struct AdvisoryText {
    id: String,
    feed: String,
    modified_at: String,
    /// Its other names, and those of what it has to do with.
    names: Vec<String>,
    summary: String,
    details: String,
    severity: &'static str,
    /// Its best CVSS vector, and the score. null: it has none.
    vector: Option<String>,
    score: Option<f64>,
    affected: Vec<AffectedText>,
    references: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct AffectedText {
    ecosystem: String,
    package: String,
    /// Versions that it lists.
    versions: Vec<String>,
    /// Each as `from A before B`.
    ranges: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct StatementText {
    feed: String,
    /// Whether it counts.
    own: bool,
    author: String,
    at: String,
    /// `not_affected`, `affected`, `fixed`, `under_investigation`.
    status: &'static str,
    because: String,
    products: Vec<String>,
}

impl AdvisoryText {
    fn of(feed: &str, advisory: &Advisory) -> Self {
        let affected = advisory.affected.iter().filter_map(|one| {
            let package = one.package.as_ref()?;
            Some(AffectedText {
                ecosystem: package.ecosystem.clone(),
                package: package.name.clone(),
                versions: one.versions.clone(),
                ranges: one.ranges.iter().flat_map(range).collect(),
            })
        });
        let vector = advisory.vector();
        Self {
            id: advisory.id.clone(),
            feed: feed.to_owned(),
            modified_at: advisory.modified.to_string(),
            names: advisory.names().into_iter().skip(1).map(str::to_owned).collect(),
            summary: advisory.summary.clone(),
            details: advisory.details.clone(),
            severity: advisory.severity().word(),
            vector: vector.map(|(vector, _)| vector.to_owned()),
            score: vector.map(|(_, score)| score),
            affected: affected.collect(),
            references: advisory.references.iter().map(|one| one.url.clone()).collect(),
        }
    }
}

/// A range in words.
fn range(range: &larder_core::advisory::RangeEvents) -> Vec<String> {
    if range.kind == "GIT" {
        return vec!["commits, which are not compared".to_owned()];
    }
    let words = range.events.iter().filter_map(|event| {
        let version =
            |text: &String| if text == "0" { "the first".to_owned() } else { text.clone() };
        let (word, text) = match event {
            event if event.introduced.is_some() => ("from", event.introduced.as_ref()),
            event if event.fixed.is_some() => ("before", event.fixed.as_ref()),
            event if event.last_affected.is_some() => ("up to", event.last_affected.as_ref()),
            event => ("not from", event.limit.as_ref()),
        };
        text.map(|text| format!("{word} {}", version(text)))
    });
    vec![words.collect::<Vec<_>>().join(" ")]
}

/// The images that have what these advisories are about, as far as they were read.
async fn touched(
    store: &Store,
    advisories: Vec<i64>,
) -> Result<(Vec<TouchedImage>, u64), StoreError> {
    if advisories.is_empty() {
        return Ok((Vec::new(), 0));
    }
    store.note_held().await?;
    let fold = |all: &mut BTreeMap<Digest, BTreeSet<String>>, one: NotedFinding| {
        if matches!(one.verdict, PackageVerdict::Affected { .. }) {
            let package = format!("{} {}", one.package.name, one.package.version);
            all.entry(one.image).or_default().insert(package);
        }
    };
    let all = store.fold_findings(Some(advisories), BTreeMap::new(), fold).await?;
    let count = all.len() as u64;
    let some: Vec<(Digest, BTreeSet<String>)> = all.into_iter().collect();
    let homes = store.homes_of(some.iter().map(|(digest, _)| digest.clone()).collect()).await?;
    let mut names: HashMap<Digest, Vec<String>> = HashMap::new();
    for (digest, homes) in homes {
        let tags = homes.iter().filter(|home| !is_made_from_digest(&home.tag));
        names
            .entry(digest)
            .or_default()
            .extend(tags.map(|home| format!("{}:{}", home.repository, home.tag)));
    }
    let mut images: Vec<TouchedImage> = some
        .into_iter()
        .map(|(digest, packages)| TouchedImage {
            names: names.remove(&digest).unwrap_or_default(),
            digest: digest.to_string(),
            packages: packages.into_iter().collect(),
        })
        .collect();
    // Those that people know by a name come first.
    images.sort_by(|a, b| (a.names.is_empty(), &a.names).cmp(&(b.names.is_empty(), &b.names)));
    images.truncate(LISTED);
    Ok((images, count))
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = format!("cannot show {}", larder_core::shown::shown(&args.id));
    with_feeds(&store, &what).await?;
    let failed = |error| Failure::store(&what, &error);
    let found = store.advisories_called(&args.id).await.map_err(failed)?;
    let mut names = std::collections::BTreeSet::from([args.id.clone()]);
    for (_, one) in &found {
        names.extend(one.advisory.names().into_iter().map(str::to_owned));
    }
    let statements = store.statements_about(names).await.map_err(failed)?;
    if found.is_empty() && statements.is_empty() {
        let remedy = "`larder advisory list --all` lists them";
        let cause = "no feed has one of that name";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    let statements = statements.into_iter().map(|(feed, own, one)| StatementText {
        feed,
        own,
        author: one.author,
        at: one.at.to_string(),
        status: one.status.word(),
        because: one.because,
        products: one.products.into_iter().chain(one.within).collect(),
    });
    let (images, image_count) =
        touched(&store, found.iter().map(|(number, _)| *number).collect()).await.map_err(failed)?;
    context.output.tell(&AdvisoryReport {
        asked: args.id.clone(),
        images,
        image_count,
        not_read: store.not_whole(0).await.map_err(failed)?.0,
        found: found.iter().map(|(_, one)| AdvisoryText::of(&one.feed, &one.advisory)).collect(),
        statements: statements.collect(),
    });
    Ok(Exit::Done)
}

impl Report for AdvisoryReport {
    const KIND: &'static str = "advisory";

    fn show(&self, out: &Output) {
        for (number, one) in self.found.iter().enumerate() {
            if number > 0 {
                out.result("");
            }
            let heading = format!("{}  {}", paint(STRONG, &one.id), cut(&one.summary, 300));
            out.result(heading.trim_end());
            let score = one.score.map_or_else(String::new, |score| format!(" ({score:.1})"));
            out.result(format!("  severity  {}{score}", one.severity));
            if let Some(vector) = &one.vector {
                out.result(format!("  vector    {vector}"));
            }
            out.result(format!("  feed      {}, changed {}", one.feed, one.modified_at));
            if !one.names.is_empty() {
                out.result(format!("  also      {}", one.names.join(" ")));
            }
            for affected in one.affected.iter().take(200) {
                let (package, ecosystem) = (&affected.package, &affected.ecosystem);
                let mut words = affected.ranges.clone();
                if !affected.versions.is_empty() {
                    let listed: Vec<&str> =
                        affected.versions.iter().take(10).map(String::as_str).collect();
                    let more = affected.versions.len() - listed.len();
                    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                    words.push(format!("versions {}{more}", listed.join(" ")));
                }
                out.result(format!("  affected  {package} ({ecosystem}) {}", words.join("; ")));
            }
            for url in one.references.iter().take(20) {
                out.result(format!("  see       {}", cut(url, 200)));
            }
            if !one.details.is_empty() {
                for line in one.details.lines().take(100) {
                    out.result(format!("  {}", folded(&cut(line, 500), out.width(), 2)));
                }
            }
        }
        for one in &self.statements {
            let counts = if one.own { "" } else { "; it does not count" };
            let because =
                if one.because.is_empty() { String::new() } else { format!(": {}", one.because) };
            let status = one.status.replace('_', " ");
            out.result(format!(
                "statement  {status}{because} ({}, feed {}, {}{counts})",
                one.author, one.feed, one.at
            ));
            for product in one.products.iter().take(20) {
                out.result(format!("           {}", cut(product, 200)));
            }
        }
        if self.found.is_empty() {
            return;
        }
        self.show_images(out);
    }
}

impl AdvisoryReport {
    /// The images that have it.
    fn show_images(&self, out: &Output) {
        let number = usize::try_from(self.image_count).unwrap_or(usize::MAX);
        let which = if self.not_read > 0 { " that was read" } else { "" };
        out.result(match number {
            0 => format!("no image{which} has what it is about"),
            1 => "1 image has what it is about:".to_owned(),
            _ => format!("{} have what it is about:", count(number, "image")),
        });
        for image in &self.images {
            let name = match image.names.split_first() {
                None => image.digest.clone(),
                Some((first, [])) => first.clone(),
                Some((first, more)) => format!("{first} and {}", count(more.len(), "more tag")),
            };
            out.result(format!("  {}  {}", cut(&name, 200), cut(&image.packages.join(", "), 200)));
        }
        if number > self.images.len() {
            out.result(format!("  and {} more", number - self.images.len()));
        }
        if let Some(told) = told_not_read(self.not_read) {
            out.result(told);
        }
        if number > 0 {
            let told = "`larder advisory check --by advisory --only";
            out.note(format!(
                "{told} {}` says by which layer, who runs them and what mends it",
                self.asked
            ));
        }
    }
}

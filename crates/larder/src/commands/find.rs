//! `larder find`: images by name, over this larder and its upstreams in the configured order.

use std::collections::BTreeSet;
use std::time::Duration;

use futures_util::future::join_all;
use larder_core::lock::Lock;
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::pattern::Pattern;
use larder_core::reference::{Image, Reference};
use larder_core::shown::shown;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::{Config, UpstreamConfig};
use crate::context::{Context, read_lock, read_reference, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::images::is_pattern;
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, Table, WARN, count, paint};

/// Find images by name, over this larder and all upstreams in the configured order
///
/// Upstreams that have a list of their repositories are asked for it; of the others it is told what the configuration, the
/// lock and the cached shelves know. The first column marks what a name without a registry stands for. Exit status 1 says
/// that nothing was found, 3 that nothing was found and an upstream could not be asked.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Standing: here = on a shelf of this larder; brought in = at its place here; locked, wanted = it will be;\n\
    cached = a cached shelf fetches it when it is asked for; uncovered = nobody brings it in.\n\n\
    Examples:\n  larder find gauge\n  larder find 'library/*kettle*' --tags\n  larder find kettle:2"
)]
pub struct Args {
    /// A part of the name, or a pattern over the whole repository; after a `:` a tag, or a pattern of tags
    word: String,
    /// Only what is here or known, without asking anybody
    #[arg(long)]
    offline: bool,
    /// Also which tags each has
    #[arg(long)]
    tags: bool,
    /// At most so many images of each place
    #[arg(long, value_name = "COUNT", default_value_t = 50)]
    limit: usize,
}

/// Repositories of one registry that are looked through.
const LISTED: usize = 200_000;
/// How long a registry's list may take.
const PATIENCE: Duration = Duration::from_secs(15);
/// Tags that are shown of each image.
const TAGS: usize = 8;

/// How it is known of an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum KnownBy {
    /// This larder's store has it.
    Store,
    /// Its registry lists it.
    List,
    /// The configuration, the lock or a cached shelf names it.
    Mention,
    /// It was asked for by its whole name.
    Answer,
}

#[derive(Serialize, JsonSchema)]
struct FoundRow {
    image: String,
    /// The name of its `[[upstream]]`. null: this larder.
    upstream: Option<String>,
    /// `here`, `brought-in`, `locked`, `wanted`, `cached`, `uncovered`.
    standing: &'static str,
    /// Its name here. null: it has none.
    target: Option<String>,
    /// With `--tags`, or where a tag was asked for; the newest first. null: they were not asked for.
    tags: Option<Vec<String>>,
    known_by: KnownBy,
    /// Whether a name without a registry stands for it.
    is_short: bool,
}

#[derive(Serialize, JsonSchema)]
struct AskedPlace {
    upstream: String,
    host: String,
    /// Whether it has a list of its repositories. null: it was not asked, or could not be.
    lists: Option<bool>,
    /// Why it could not be asked. null: it could, or was not.
    cause: Option<String>,
}

#[derive(Serialize, JsonSchema)]
pub struct FindReport {
    word: String,
    images: Vec<FoundRow>,
    places: Vec<AskedPlace>,
    /// How many more there are than were wanted.
    left_out: usize,
    #[serde(skip)]
    short: Option<String>,
}

impl Report for FindReport {
    const KIND: &'static str = "find";

    fn show(&self, out: &Output) {
        let with_tags = self.images.iter().any(|row| row.tags.is_some());
        let columns = ["", "IMAGE", "STANDING", "HERE AS", "TAGS"];
        let columns = if with_tags { &columns[..] } else { &columns[..4] };
        let mut table = Table::new(out.width(), columns).sparing(&["HERE AS"]);
        for row in &self.images {
            let standing = match row.standing {
                "here" | "brought-in" => paint(GOOD, row.standing.replace('-', " ")),
                "uncovered" => paint(WARN, row.standing),
                other => other.to_owned(),
            };
            let short = if row.is_short { paint(STRONG, "*") } else { String::new() };
            let mut cells =
                vec![short, row.image.clone(), standing, row.target.clone().unwrap_or_default()];
            if with_tags {
                let tags = row.tags.as_deref().unwrap_or_default();
                let mut text = tags.iter().take(TAGS).cloned().collect::<Vec<_>>().join(" ");
                if tags.len() > TAGS {
                    text.push_str(&paint(DIM, format!(" and {} more", tags.len() - TAGS)));
                }
                cells.push(text);
            }
            table.row(cells);
        }
        if !self.images.is_empty() {
            out.table(&table);
        }
        if let Some(short) =
            self.short.as_ref().filter(|_| self.images.iter().any(|row| row.is_short))
        {
            out.note(format!("* is what {short} without a registry stands for"));
        }
        for place in &self.places {
            match (&place.cause, place.lists) {
                (Some(cause), _) => {
                    let host = &place.host;
                    out.note(format!("{} {host} could not be asked: {cause}", paint(BAD, "!")));
                }
                (None, Some(false)) => out.note(format!(
                    "{} has no list of its repositories: what is known of it is shown",
                    place.host
                )),
                _ => {}
            }
        }
        let images = count(self.images.len(), "image");
        let more = match self.left_out {
            0 => String::new(),
            more => format!(", {more} more are left out (`--limit`)"),
        };
        out.result(format!("{images} found{more}"));
    }
}

/// What is looked for.
struct Sought {
    name: String,
    pattern: Option<Pattern>,
    tags: Option<Pattern>,
    /// What the word stands for as a whole reference. None: it is none.
    whole: Option<Reference>,
    is_short: bool,
}

impl Sought {
    fn read(word: &str, config: &Config) -> Result<Self, Failure> {
        let what = || format!("cannot look for `{}`", word.escape_debug());
        let (name, tags) = match word.rsplit_once(':') {
            Some((name, tags)) if !tags.contains('/') => (name, Some(tags)),
            _ => (word, None),
        };
        if name.trim().is_empty() {
            return Err(Failure::usage(what(), "it is empty", "write a part of an image's name"));
        }
        let read = |text: &str| {
            text.parse::<Pattern>().map_err(|error| {
                Failure::usage(what(), error, "`*` stands for a part of a name, `**` for several")
            })
        };
        let reading = read_reference(word, Some(config)).ok();
        Ok(Self {
            name: name.to_ascii_lowercase(),
            pattern: if is_pattern(name) { Some(read(name)?) } else { None },
            tags: tags.map(read).transpose()?,
            is_short: reading.as_ref().is_some_and(|reading| reading.ambiguous),
            whole: reading.map(|reading| reading.reference),
        })
    }

    /// Whether a repository, at a host, is looked for.
    fn takes(&self, host: &Host, name: &RepositoryName) -> bool {
        match &self.pattern {
            Some(pattern) => {
                pattern.matches(name.as_str()) || pattern.matches(&format!("{host}/{name}"))
            }
            None => format!("{host}/{name}").contains(&self.name),
        }
    }

    fn is(&self, host: &Host, name: &RepositoryName) -> bool {
        self.is_short
            && self.whole.as_ref().is_some_and(|one| one.host == *host && one.repository == *name)
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let sought = Sought::read(&args.word, &config)?;
    let store = store_if_any(&config)?;
    let lock = read_lock(&config)?;
    let progress = context.output.progress();
    let mut report = FindReport {
        word: args.word.clone(),
        images: Vec::new(),
        places: Vec::new(),
        left_out: 0,
        short: sought.whole.as_ref().filter(|_| sought.is_short).map(|_| args.word.clone()),
    };
    if let Some(store) = &store {
        here(&sought, args, &config, store, &mut report).await?;
    }
    progress.say("asking the upstreams");
    let upstreams: Vec<&UpstreamConfig> =
        config.upstreams.iter().filter(|upstream| upstream.path.is_none()).collect();
    let listed =
        join_all(upstreams.iter().map(|upstream| list(upstream, &sought, args, &config))).await;
    for (upstream, listed) in upstreams.into_iter().zip(listed) {
        let host = &upstream.host;
        let mut names: Vec<(RepositoryName, KnownBy)> =
            listed.names.into_iter().map(|name| (name, listed.by)).collect();
        let known: BTreeSet<RepositoryName> = names.iter().map(|(name, _)| name.clone()).collect();
        let mentioned = mentioned(host, &config, &lock, store.as_ref()).await?;
        let mentioned = mentioned.into_iter().filter(|name| sought.takes(host, name));
        names.extend(
            mentioned.filter(|name| !known.contains(name)).map(|name| (name, KnownBy::Mention)),
        );
        names.sort_by(|a, b| a.0.cmp(&b.0));
        report.places.push(AskedPlace {
            upstream: upstream.name.get_ref().clone(),
            host: host.to_string(),
            lists: listed.lists,
            cause: listed.cause,
        });
        let mut taken = 0;
        for (name, known_by) in names {
            let image = Image { host: host.clone(), repository: name };
            let tags = match args.tags || sought.tags.is_some() {
                true if taken < args.limit && !args.offline => tags_of(&image, &config).await,
                _ => None,
            };
            let Some(tags) = wanted_tags(tags, &sought, known_by) else { continue };
            if taken == args.limit {
                report.left_out += 1;
                continue;
            }
            taken += 1;
            let (standing, target) = standing(&image, &config, &lock, store.as_ref()).await?;
            report.images.push(FoundRow {
                is_short: sought.is(host, &image.repository),
                image: image.to_string(),
                upstream: Some(upstream.name.get_ref().clone()),
                standing,
                target,
                tags,
                known_by,
            });
        }
    }
    progress.done();
    let failed = report.places.iter().any(|place| place.cause.is_some());
    let exit = match (report.images.is_empty(), failed) {
        (false, _) => Exit::Done,
        (true, false) => Exit::No,
        (true, true) => Exit::Remote,
    };
    context.output.tell(&report);
    Ok(exit)
}

/// The tags that are wanted of those that an image has, the newest first. None: it has none of them.
#[expect(clippy::option_option, reason = "no tags asked for, and none that fit, are two things")]
fn wanted_tags(
    tags: Option<Vec<Tag>>,
    sought: &Sought,
    known_by: KnownBy,
) -> Option<Option<Vec<String>>> {
    let Some(tags) = tags else {
        // Where tags could not be asked for, the image may have the one that is wanted.
        let unsure = sought.tags.is_none() || known_by != KnownBy::Store;
        return unsure.then_some(None);
    };
    let mut tags: Vec<Tag> = match &sought.tags {
        None => tags,
        Some(pattern) => tags.into_iter().filter(|tag| pattern.matches(tag.as_str())).collect(),
    };
    if tags.is_empty() && sought.tags.is_some() {
        return None;
    }
    larder_core::selection::sort_newest_first(&mut tags);
    Some(Some(tags.iter().map(|tag| shown(tag.as_str()).into_owned()).collect()))
}

/// What lies on the shelves of this larder.
async fn here(
    sought: &Sought,
    args: &Args,
    config: &Config,
    store: &Store,
    report: &mut FindReport,
) -> Result<(), Failure> {
    let failed = |error| Failure::store("cannot look through the shelves", &error);
    let host = &config.larder.url.host;
    let mut after: Option<RepositoryName> = None;
    let mut taken = 0;
    loop {
        let page = store.repositories(after.as_ref(), 1000).await.map_err(failed)?;
        let Some(last) = page.last() else { return Ok(()) };
        after = Some(last.clone());
        for name in page {
            let cached = config.cached_shelf(name.first_component()).is_some();
            if cached || !sought.takes(host, &name) {
                continue;
            }
            if taken == args.limit {
                report.left_out += 1;
                continue;
            }
            let tags = match args.tags || sought.tags.is_some() {
                true => store.tags(&name, None, 10_000).await.map_err(failed)?,
                false => None,
            };
            let Some(tags) = wanted_tags(tags, sought, KnownBy::Store) else { continue };
            taken += 1;
            report.images.push(FoundRow {
                image: format!("{host}/{name}"),
                upstream: None,
                standing: "here",
                target: None,
                tags,
                known_by: KnownBy::Store,
                is_short: sought.is(host, &name),
            });
        }
    }
}

/// What an upstream says that it has.
struct Listed {
    names: Vec<RepositoryName>,
    by: KnownBy,
    lists: Option<bool>,
    cause: Option<String>,
}

async fn list(upstream: &UpstreamConfig, sought: &Sought, args: &Args, config: &Config) -> Listed {
    let mut listed = Listed { names: Vec::new(), by: KnownBy::List, lists: None, cause: None };
    if args.offline {
        return listed;
    }
    let asked = async {
        let registry = config.registry(&upstream.host).map_err(|failure| failure.cause)?;
        let names = registry.repositories(LISTED).await;
        let names = names.map_err(|error| error.to_string())?;
        if names.is_some() {
            return Ok(names);
        }
        // It may still have what was asked for by its whole name.
        let whole = sought.whole.as_ref().filter(|one| one.host == upstream.host);
        Ok(match whole {
            Some(one) if registry.tags(&one.repository).await.is_ok() => {
                listed.by = KnownBy::Answer;
                listed.names.push(one.repository.clone());
                None
            }
            _ => None,
        })
    };
    let asked: Result<Option<Vec<RepositoryName>>, String> =
        match tokio::time::timeout(PATIENCE, asked).await {
            Ok(asked) => asked,
            Err(_) => Err(format!("it gave no answer within {} s", PATIENCE.as_secs())),
        };
    match asked {
        Ok(Some(names)) => {
            listed.lists = Some(true);
            listed.names =
                names.into_iter().filter(|name| sought.takes(&upstream.host, name)).collect();
        }
        Ok(None) => listed.lists = Some(false),
        Err(cause) => listed.cause = Some(cause),
    }
    listed
}

/// What of a registry is known here without asking it.
async fn mentioned(
    host: &Host,
    config: &Config,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<BTreeSet<RepositoryName>, Failure> {
    let wanted = config.intake.iter().map(|intake| intake.image.get_ref());
    let locked = lock.entries.keys().map(|want| &want.image);
    let all = wanted.chain(locked).filter(|image| image.host == *host);
    let mut all: BTreeSet<RepositoryName> = all.map(|image| image.repository.clone()).collect();
    let Some(store) = store else { return Ok(all) };
    for (shelf, _, upstream) in config.cached_shelves() {
        if upstream.host != *host {
            continue;
        }
        let shelf = shelf.name.get_ref();
        let mut after: Option<RepositoryName> = None;
        loop {
            let page = store.repositories_below(shelf, after.as_ref(), 1000).await;
            let page =
                page.map_err(|error| Failure::store("cannot look through the shelves", &error))?;
            let Some(last) = page.last() else { break };
            after = Some(last.clone());
            let below = |name: &RepositoryName| {
                name.as_str().strip_prefix(shelf.as_str())?.strip_prefix('/')?.parse().ok()
            };
            all.extend(page.iter().filter_map(below));
        }
    }
    Ok(all)
}

async fn tags_of(image: &Image, config: &Config) -> Option<Vec<Tag>> {
    let registry = config.registry(&image.host).ok()?;
    let asked = tokio::time::timeout(PATIENCE, registry.tags(&image.repository)).await;
    asked.ok()?.ok()
}

/// Where an upstream's image stands, in a word, and its name here.
async fn standing(
    image: &Image,
    config: &Config,
    lock: &Lock,
    store: Option<&Store>,
) -> Result<(&'static str, Option<String>), Failure> {
    if let Some(intake) = config.intake_of(image) {
        let to = config.destination(intake);
        let own = config.larder.has_name(&to.host);
        let target = if own { to.repository.to_string() } else { to.to_string() };
        let here = match store.filter(|_| own) {
            Some(store) => {
                let tags = store.tags(&to.repository, None, 1).await;
                let tags = tags.map_err(|error| Failure::store("cannot read the tags", &error))?;
                tags.is_some_and(|tags| !tags.is_empty())
            }
            None => false,
        };
        let word = match (here, lock.of_image(image).next().is_some()) {
            (true, _) => "brought-in",
            (false, true) => "locked",
            (false, false) => "wanted",
        };
        return Ok((word, Some(target)));
    }
    let shelf = config.cached_shelves().find(|(_, caching, upstream)| {
        upstream.host == image.host && caching.habits.reach.check(&image.repository).is_ok()
    });
    Ok(match shelf {
        Some((shelf, ..)) => {
            ("cached", Some(format!("{}/{}", shelf.name.get_ref(), image.repository)))
        }
        None => ("uncovered", None),
    })
}

//! `larder handoff guide`: what has to be done at one place, with the real names and without a secret.

mod places;

use larder_core::access::Who;
use larder_core::nearest::nearest;
use larder_core::pattern::Pattern;
use larder_core::policy::ImageName;
use schemars::JsonSchema;
use serde::Serialize;
use toml::Spanned;

use crate::config::{Config, UpstreamForm};
use crate::context::{Context, read_lock, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, Output, Report, STRONG, folded, paint};
use crate::policy::Judge;

/// Who stands before the larder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum GuidePlace {
    /// A container engine on a person's machine.
    Laptop,
    /// The runtime of a cluster's nodes.
    Node,
    /// A pipeline of a build system.
    Pipeline,
    /// A chart client.
    Charts,
    /// A cluster.
    Cluster,
    /// Plain HTTP calls.
    Http,
}

impl GuidePlace {
    const ALL: [Self; 6] =
        [Self::Laptop, Self::Node, Self::Pipeline, Self::Charts, Self::Cluster, Self::Http];

    fn word(self) -> &'static str {
        match self {
            Self::Laptop => "laptop",
            Self::Node => "node",
            Self::Pipeline => "pipeline",
            Self::Charts => "charts",
            Self::Cluster => "cluster",
            Self::Http => "http",
        }
    }

    fn told(self) -> &'static str {
        match self {
            Self::Laptop => "a container engine on a person's machine",
            Self::Node => "the runtime of a cluster's nodes",
            Self::Pipeline => "a pipeline of a build system",
            Self::Charts => "a chart client",
            Self::Cluster => "a cluster",
            Self::Http => "plain HTTP calls",
        }
    }

    /// With which clients these very steps were carried out. None: with none.
    fn tried(self) -> Option<&'static str> {
        match self {
            Self::Laptop => Some("a container engine of Debian 12"),
            Self::Node => Some("containerd of Debian, by scripts/node-test"),
            Self::Http => Some("curl 7.88.1 of Debian 12"),
            Self::Pipeline | Self::Charts | Self::Cluster => None,
        }
    }
}

/// Say exactly what to do at a place so that it pulls from here, and pushes
///
/// The names are those of this larder; where a secret belongs, it says where that comes from. Without `--for` it lists
/// the places.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Example:\n  larder handoff guide --for laptop --account ada\n  larder handoff guide --for node --cluster turbine-hall"
)]
pub struct Args {
    /// For whom: laptop, node, pipeline, charts, cluster, http
    #[arg(long = "for", value_enum, value_name = "PLACE", hide_possible_values = true)]
    place: Option<GuidePlace>,
    /// The account that signs in there
    #[arg(long, value_name = "NAME", conflicts_with = "cluster")]
    account: Option<String>,
    /// The cluster that it is about
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    /// The shelf of the examples
    #[arg(long, value_name = "NAME")]
    shelf: Option<String>,
}

/// What has to be done at a place.
#[derive(Serialize, JsonSchema)]
pub struct GuideReport {
    /// `laptop`, `node`, `pipeline`, `charts`, `cluster`, `http`.
    place: &'static str,
    /// The clients with which these very steps were carried out. null: with none yet.
    tried_with: Option<&'static str>,
    steps: Vec<GuideStep>,
}

/// One thing to do.
#[derive(Serialize, JsonSchema)]
struct GuideStep {
    text: String,
    /// What is typed, line by line.
    commands: Vec<String>,
    /// A file that has to be there. null: none.
    file: Option<GuideFile>,
}

#[derive(Serialize, JsonSchema)]
struct GuideFile {
    path: String,
    content: String,
}

/// The places that there is a guide for.
#[derive(Serialize, JsonSchema)]
pub struct GuidePlaces {
    places: Vec<PlaceRow>,
}

#[derive(Serialize, JsonSchema)]
struct PlaceRow {
    place: &'static str,
    what: &'static str,
    tried_with: Option<&'static str>,
}

/// What the steps name.
struct GuideFacts<'f> {
    config: &'f Config,
    /// The host of references, with its port.
    host: String,
    /// The address of its interface.
    url: String,
    is_https: bool,
    /// With which name somebody signs in. None: nobody has to.
    user: Option<String>,
    /// Whether that is an account that a build system's tokens are taken for; for whom they must be meant.
    audience: Option<String>,
    cluster: Option<&'f str>,
    /// An image to pull, without the host: one that is let through, where there is one.
    pulled: String,
    /// A chart to pull, likewise. None: none is known that would be let through.
    chart: Option<String>,
    /// A repository to push to, without host and tag. None: nothing may be pushed.
    pushed: Option<String>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let Some(place) = args.place else {
        let row = |place: GuidePlace| PlaceRow {
            place: place.word(),
            what: place.told(),
            tried_with: place.tried(),
        };
        context
            .output
            .tell(&GuidePlaces { places: GuidePlace::ALL.into_iter().map(row).collect() });
        return Ok(Exit::Done);
    };
    let config = context.config()?;
    let facts = facts(args, place, &config).await?;
    let steps = places::steps(place, &facts);
    context.output.tell(&GuideReport { place: place.word(), tried_with: place.tried(), steps });
    Ok(Exit::Done)
}

async fn facts<'f>(
    args: &'f Args,
    place: GuidePlace,
    config: &'f Config,
) -> Result<GuideFacts<'f>, Failure> {
    let what = || format!("cannot say what to do for {}", place.told());
    let absent = |kind: &str, name: &str, all: Vec<&str>| {
        let near = nearest(name, all.iter().copied());
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        let cause = format!("larder.toml has no {kind} `{}`{near}", name.escape_debug());
        let remedy = match all.is_empty() {
            true => format!("declare a [[{kind}]] in larder.toml"),
            false => format!("there are: {}", all.join(", ")),
        };
        Failure::usage(what(), cause, remedy)
    };
    let cluster = match &args.cluster {
        None => None,
        Some(name) => Some(config.cluster(name).ok_or_else(|| {
            absent(
                "cluster",
                name,
                config.clusters.iter().map(|one| &**one.name.get_ref()).collect(),
            )
        })?),
    };
    let account = match &args.account {
        None => None,
        Some(name) => {
            let found = config.accounts.iter().find(|one| one.name.get_ref() == name);
            Some(found.ok_or_else(|| {
                absent(
                    "account",
                    name,
                    config.accounts.iter().map(|one| &**one.name.get_ref()).collect(),
                )
            })?)
        }
    };
    if matches!(place, GuidePlace::Node | GuidePlace::Cluster) && cluster.is_none() {
        let remedy = "name it with `--cluster NAME`";
        return Err(Failure::usage(what(), "it is not said which cluster it is", remedy));
    }
    let user = match (config.is_open(), account, cluster) {
        (true, ..) => None,
        (false, Some(account), _) => Some(account.name.get_ref().clone()),
        (false, None, Some(cluster)) => {
            let name = cluster.name.get_ref();
            let namespace = cluster.namespaces.first().map(|one| one.name.get_ref());
            Some(namespace.map_or_else(|| name.clone(), |namespace| format!("{name}/{namespace}")))
        }
        (false, None, None) => {
            let remedy = "name it with `--account NAME`, or with `--cluster NAME`";
            return Err(Failure::usage(what(), "it is not said who signs in there", remedy));
        }
    };
    let who = match (account, cluster) {
        (Some(account), _) => Who::Account(account.name.get_ref().as_str().into()),
        (None, Some(cluster)) => {
            let namespace = cluster.namespaces.first().map(|one| one.name.get_ref().as_str());
            Who::cluster(cluster.name.get_ref(), namespace)
        }
        (None, None) => Who::Anonymous,
    };
    let (pulls, pushes): (&[Spanned<Pattern>], &[Spanned<Pattern>]) = match (account, cluster) {
        (Some(account), _) => (&account.pull, &account.push),
        (None, Some(cluster)) => (&cluster.pull, &cluster.push),
        (None, None) => (&[], &[]),
    };
    let shelf = args.shelf.as_deref();
    let pushed = match (config.is_open(), pushes.iter().map(|one| one.get_ref().as_str())) {
        (true, _) => Some(format!("{}/NAME", shelf.unwrap_or("apps"))),
        (false, mut patterns) => patterns
            .find(|pattern| shelf.is_none_or(|shelf| pattern.split('/').next() == Some(shelf)))
            .map(example),
    };
    if let Some(name) = shelf {
        let storing = config.storing_shelves();
        if !storing.iter().any(|one| one == name) && config.cached_shelf(name).is_none() {
            let declared = config.shelves.iter().map(|one| one.name.get_ref().as_str());
            let all = storing.iter().map(String::as_str).chain(declared).collect();
            return Err(absent("shelf", name, all));
        }
    }
    let audience = account.and_then(|one| one.identity.as_ref()).map(|known| {
        let identity = known.identity();
        crate::access::audience(config, &identity)
    });
    let endpoint = config.larder.url.endpoint.to_string();
    Ok(GuideFacts {
        config,
        host: config.larder.url.host.to_string(),
        is_https: config.larder.url.endpoint.is_https(),
        url: endpoint.trim_end_matches('/').to_owned(),
        user,
        audience,
        cluster: cluster.map(|one| one.name.get_ref().as_str()),
        pulled: match let_through(config, shelf, &who, false).await {
            Some(image) => image,
            None => {
                let granted = pulls.iter().map(|one| one.get_ref().as_str());
                let mut fits = granted.filter(|pattern| {
                    shelf.is_none_or(|shelf| pattern.split('/').next() == Some(shelf))
                });
                let storing = config.storing_shelves().into_iter().next();
                let shelf = shelf.map(str::to_owned).or(storing);
                let name = fits.next().map(example).or_else(|| Some(format!("{}/NAME", shelf?)));
                format!("{}:TAG", name.unwrap_or_else(|| "SHELF/NAME".into()))
            }
        },
        chart: match place {
            GuidePlace::Charts => let_through(config, shelf, &who, true).await,
            _ => None,
        },
        pushed,
    })
}

/// A name that a pattern takes.
fn example(pattern: &str) -> String {
    let parts = pattern.split('/').map(|part| match part.contains(['*', '?', '[', '{']) {
        true => "NAME",
        false => part,
    });
    parts.collect::<Vec<_>>().join("/")
}

/// Images of the lock that are looked at.
const LOOKED_AT: usize = 50;

/// An image of the lock that somebody may pull, without the host: on a shelf, where one is wanted; of those that are
/// charts by where they come from, or of the others. None: there is none.
async fn let_through(
    config: &Config,
    shelf: Option<&str>,
    who: &Who,
    charts: bool,
) -> Option<String> {
    let lock = read_lock(config).unwrap_or_default();
    let candidates = lock.entries.keys().filter_map(|want| {
        let to = config.destination(config.intake_of(&want.image)?);
        let own = to.host == config.larder.url.host;
        let fits = shelf.is_none_or(|shelf| to.repository.first_component() == shelf);
        let repository = &want.image.repository;
        let upstream = config.upstream_for(&want.image.host, Some(repository));
        let is_chart = upstream.is_some_and(|one| one.form == UpstreamForm::ChartIndex)
            || repository.as_str().split('/').any(|part| part == "charts");
        (own && fits && is_chart == charts).then_some((to.repository, &want.tag))
    });
    // What is wrong with the lock or the store hinders nobody: they only tell which example is a good one.
    let is_here = config.larder.records.is_none();
    let store = is_here.then(|| store_if_any(config).ok().flatten()).flatten();
    let judge = Judge::new(config, store).ok()?;
    for (repository, tag) in candidates.take(LOOKED_AT) {
        let named = ImageName { tag: Some(tag), digest: None };
        let judged = judge.own(who, &repository, named).await;
        if judged.is_ok_and(|judged| !judged.ruling.is_refused()) {
            return Some(format!("{repository}:{tag}"));
        }
    }
    None
}

impl Report for GuidePlaces {
    const KIND: &'static str = "handoff-guides";

    fn show(&self, out: &Output) {
        for PlaceRow { place, what, tried_with } in &self.places {
            let tried = tried_with
                .map_or_else(|| "not tried yet".to_owned(), |with| format!("tried with {with}"));
            out.result(format!("{place:<9} {what:<42} {}", paint(DIM, tried)));
        }
        out.note("`larder handoff guide --for PLACE --account NAME` says what to do there");
    }
}

impl Report for GuideReport {
    const KIND: &'static str = "handoff-guide";

    fn show(&self, out: &Output) {
        for (place, GuideStep { text, commands, file }) in self.steps.iter().enumerate() {
            let number = paint(STRONG, format!("{}.", place + 1));
            out.result(format!("{number} {}", folded(text, out.width(), 3)));
            for command in commands {
                out.result(format!("     {command}"));
            }
            if let Some(GuideFile { path, content }) = file {
                out.result(format!("     {}", paint(DIM, format!("# {path}"))));
                for line in content.lines() {
                    out.result(format!("     {line}"));
                }
            }
        }
        out.note(match self.tried_with {
            Some(with) => format!("these steps were carried out with {with}"),
            None => "these steps were not carried out with any client yet: say so where one of them does not hold".to_owned(),
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_gives_a_name_that_it_takes() {
        for pattern in ["apps/**", "apps/*", "apps/valves", "*/charts/*", "apps/v*", "**"] {
            let name = example(pattern);
            let name = name.replace("NAME", "v");
            assert!(pattern.parse::<Pattern>().unwrap().matches(&name), "{pattern}: {name}");
        }
    }
}

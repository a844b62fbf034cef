//! `larder shelf users`: who uses which image.

use std::collections::HashMap;

use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::retention::KnownAt;
use larder_core::shown::shown;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::known_use::{KnownUse, STRANGER, Use, UseWish, UsesBy, may_pull};
use super::named::{self, NamedRepositories};
use super::shown::image_name;
use super::unreadable;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, Output, Report, Table, ago, count, paint, short, time};

/// Say who uses which image, and when last
///
/// As the record of pulls, the clusters' doors and surveys of them (`larder survey --cluster`) tell it, for as long as
/// `record` of `[larder]` keeps it. A node that has an image pulls it no more: what was not seen for long may run all the
/// same, and --unused says how sure it is.
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Images, repositories or shelves, also by patterns [default: all]
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Only what this cluster uses
    #[arg(long, value_name = "NAME", conflicts_with = "unused")]
    cluster: Option<String>,
    /// Only what this namespace of it uses
    #[arg(long, value_name = "NAME", requires = "cluster")]
    namespace: Option<String>,
    /// List what nobody was seen to use, instead
    #[arg(long)]
    unused: bool,
    /// Only what was used within this time
    #[arg(long, value_name = "SPAN")]
    since: Option<Span>,
}

#[derive(Serialize, JsonSchema)]
pub struct UsersReport {
    images: Vec<UsedImage>,
    /// Whether what nobody uses was asked for.
    unused: bool,
}

#[derive(Serialize, JsonSchema)]
struct UsedImage {
    #[schemars(with = "String")]
    repository: RepositoryName,
    /// null: a manifest without a tag.
    #[schemars(with = "Option<String>")]
    tag: Option<Tag>,
    #[schemars(with = "String")]
    digest: Digest,
    /// Who used it, the last first.
    users: Vec<ImageUser>,
    /// Clusters that may pull it and of which it is not known what they run. Empty: it is known of all.
    unknown_clusters: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct ImageUser {
    /// A cluster, CLUSTER/NAMESPACE, or an account. null: nobody signed in.
    who: Option<String>,
    /// Its kind and name, `Deployment/turbine`. null: that is not known.
    workload: Option<String>,
    /// How it is known: `pulled`, `admitted at its door`, `surveyed`.
    how: &'static str,
    /// Since when, as far as it is recorded. null: since before that was counted.
    since: Option<String>,
    used_at: String,
    #[serde(skip)]
    first: Option<i64>,
    #[serde(skip)]
    last: i64,
}

impl UsedImage {
    fn name(&self) -> String {
        image_name(&self.repository, self.tag.as_ref(), &self.digest)
    }
}

impl Report for UsersReport {
    const KIND: &'static str = "shelf-users";

    fn show(&self, out: &Output) {
        let images = count(self.images.len(), "image");
        if self.unused {
            let mut table = Table::new(out.width(), &["IMAGE", "DIGEST", "HOW SURE"]);
            for one in &self.images {
                let sure = match one.unknown_clusters.as_slice() {
                    [] => "nobody was seen to use it".to_owned(),
                    some => format!("not known of {}, which may pull it", some.join(", ")),
                };
                table.row([one.name(), short(&one.digest).to_owned(), sure]);
            }
            if !self.images.is_empty() {
                out.table(&table);
            }
            return out.result(format!("{images} that nobody was seen to use"));
        }
        let mut table =
            Table::new(out.width(), &["IMAGE", "USED BY", "WORKLOAD", "HOW", "SINCE", "LAST"])
                .sparing(&["HOW", "SINCE"]);
        for one in &self.images {
            for user in &one.users {
                let who = user.who.clone().unwrap_or_else(|| paint(DIM, STRANGER));
                let workload = user
                    .workload
                    .as_deref()
                    .map_or_else(String::new, |text| shown(text).into_owned());
                let since = user.first.map_or_else(|| "-".to_owned(), |first| ago(first, now()));
                let last = ago(user.last, now());
                table.row([one.name(), who, workload, user.how.to_owned(), since, last]);
            }
        }
        if self.images.is_empty() {
            return out.result("nobody was seen to use any of it");
        }
        out.table(&table);
        out.note(images);
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot tell who uses it";
    if let Some(cluster) = &args.cluster {
        let who = larder_core::access::Who::cluster(cluster, args.namespace.as_deref());
        crate::handoff::declared(config, what, who)?;
    }
    let names = named::or_everything(&args.names);
    let only = match names.as_slice() {
        [one] => named::read(one, config, what)?.repository().cloned(),
        _ => None,
    };
    // What lies below a repository that is named is meant too.
    let alone = match &only {
        Some(name) => {
            store.repositories_below(name, None, 2).await.map_err(|error| unreadable(&error))?.len()
                < 2
        }
        None => false,
    };
    let wish = only.as_ref().filter(|_| alone).map_or(UseWish::Everything, UseWish::Of);
    let known = KnownUse::read(config, store, args.since, wish).await?;
    let unknown = known.clusters.unknown(now(), Span(config.larder.in_use));
    let mut images = Vec::new();
    for text in &names {
        let pattern = named::read(text, config, what)?;
        let before = images.len();
        let everything = *pattern.images() == larder_core::holdings::HeldImages::All;
        let mut repositories = NamedRepositories::new(store, &pattern, everything);
        let mut held = false;
        while let Some(page) = repositories.next().await? {
            for name in page {
                let uses = known.all.get(&name).map(Vec::as_slice).unwrap_or_default();
                // Where nobody uses anything, only those look who ask for that, or for this very name.
                if uses.is_empty() && !args.unused && args.names.is_empty() {
                    continue;
                }
                let all = images_of(&name, uses, &unknown, config, store).await?;
                let all = all.into_iter().filter(|one| {
                    pattern.has_image(one.tag.as_ref().map(Tag::as_str), &one.digest)
                });
                for one in all {
                    held = true;
                    images.extend(wanted(one, args));
                }
            }
        }
        if images.len() == before && !held && !args.names.is_empty() {
            let cause = "the larder holds nothing under that name";
            let remedy = "`larder shelf list` shows what there is";
            return Err(Failure::usage(format!("{what}: {text}"), cause, remedy).ending(Exit::No));
        }
    }
    context.output.tell(&UsersReport { images, unused: args.unused });
    Ok(Exit::Done)
}

/// An image with those of its users that are asked for. None: it is not asked for.
fn wanted(mut image: UsedImage, args: &Args) -> Option<UsedImage> {
    if args.unused {
        return image.users.is_empty().then_some(image);
    }
    if let Some(cluster) = &args.cluster {
        let whole = match &args.namespace {
            Some(namespace) => format!("{cluster}/{namespace}"),
            None => cluster.clone(),
        };
        image.users.retain(|user| {
            user.who.as_deref().is_some_and(|who| {
                who == whole || who.strip_prefix(&whole).is_some_and(|rest| rest.starts_with('/'))
            })
        });
    }
    (!image.users.is_empty()).then_some(image)
}

/// The images of a repository with all who use them.
async fn images_of(
    name: &RepositoryName,
    uses: &[Use],
    unknown: &[KnownAt],
    config: &Config,
    store: &Store,
) -> Result<Vec<UsedImage>, Failure> {
    let by = UsesBy::of(uses);
    let used: Vec<Digest> = by.contents().cloned().collect();
    let names = store.image_names(name, used, true).await.map_err(|error| unreadable(&error))?;
    let unknown: Vec<String> = unknown
        .iter()
        .filter(|one| may_pull(config, &one.cluster, name))
        .map(|one| one.cluster.clone())
        .collect();
    // What nodes pull of an index are its images.
    let mut parts: HashMap<&Digest, Vec<&Digest>> = HashMap::new();
    for (part, index) in &names.parents {
        parts.entry(index).or_default().push(part);
    }
    let tagged = names.tags.iter().map(|(tag, digest)| (Some(tag), digest));
    let untagged = names.untagged.iter().map(|digest| (None, digest));
    let images = untagged.chain(tagged).map(|(tag, digest)| {
        let parts = parts.get(digest).into_iter().flatten().copied();
        let users = by.users(parts.chain([digest]), tag).into_iter();
        let users = users.map(|user| ImageUser {
            who: user.who.map(str::to_owned),
            workload: user.workload.map(str::to_owned),
            how: user.how,
            since: user.first.map(time),
            used_at: time(user.last),
            first: user.first,
            last: user.last,
        });
        UsedImage {
            repository: name.clone(),
            tag: tag.cloned(),
            digest: digest.clone(),
            users: users.collect(),
            unknown_clusters: unknown.clone(),
        }
    });
    Ok(images.collect())
}

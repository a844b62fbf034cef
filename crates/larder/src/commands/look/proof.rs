//! Is it the same at the upstream, on the cached shelf and on the nodes?

use std::path::Path;

use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_core::nodes::read_report;
use larder_core::reference::{Image, Reference, Selector};
use larder_transfer::files::read_bounded;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, now, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, GOOD, Output, Report, Table, ago, paint, short};

/// The largest report that is read, in bytes.
const LIMIT: usize = 64 * 1024 * 1024;

#[derive(Serialize, JsonSchema)]
struct ComparedPlace {
    /// `upstream`, `larder`, or a node's name.
    place: String,
    /// None: it does not have it.
    #[schemars(with = "Option<String>")]
    digest: Option<Digest>,
    /// When this was last confirmed. None: it was asked just now.
    confirmed_at: Option<String>,
    #[serde(skip)]
    remark: String,
}

/// Compares what a tag of a cached shelf points to in all these places.
///
/// Exit status 1 says that they differ.
pub async fn prove(
    reference: &Reference,
    report: Option<&Path>,
    config: &Config,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot compare {reference}");
    let not_cached = || {
        let cause = "it lies on no cached shelf";
        Failure::usage(what(), cause, "`larder look A B` compares any two references")
    };
    let (repository, upstream) = on_shelf(reference, config).ok_or_else(not_cached)?;
    let Selector::Tag(tag) = reference.selector() else {
        let cause = "a digest names the same content everywhere";
        return Err(Failure::usage(what(), cause, "name a tag"));
    };
    let registry = config.registry(&upstream.host)?;
    let selector = Selector::Tag(tag.clone());
    let there = match registry.resolve(&upstream.repository, &selector).await {
        Ok(found) => Some(found.digest),
        Err(larder_client::ClientError::NotFound { .. }) => None,
        Err(error) => return Err(Failure::remote(what(), &error)),
    };
    let mut seen = vec![ComparedPlace {
        place: "upstream".into(),
        digest: there,
        confirmed_at: None,
        remark: format!("{upstream}:{tag}"),
    }];
    seen.push(here(&repository, &tag, config).await?);
    if let Some(path) = report {
        let own = Image { host: config.larder.url.host.clone(), repository };
        seen.extend(on_nodes(path, &[upstream, own], &tag)?);
    }
    let same = seen.windows(2).all(|two| two[0].digest == two[1].digest);
    let reference = reference.to_string();
    context.output.tell(&PlacesReport { reference, same, places: seen });
    Ok(if same { Exit::Done } else { Exit::No })
}

#[derive(Serialize, JsonSchema)]
pub struct PlacesReport {
    reference: String,
    /// Whether it is the same in all places.
    same: bool,
    places: Vec<ComparedPlace>,
}

impl Report for PlacesReport {
    const KIND: &'static str = "image-places";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["WHERE", "DIGEST", "AS"]);
        let first = self.places.first().and_then(|one| one.digest.as_ref());
        for one in &self.places {
            let digest = one.digest.as_ref().map_or("does not have it", short);
            let style = if one.digest.as_ref() == first { GOOD } else { BAD };
            table.row([one.place.clone(), paint(style, digest), one.remark.clone()]);
        }
        out.table(&table);
        out.note(if self.same { "the same everywhere" } else { "they differ" });
    }
}

/// The larder's repository and the upstream's image of a reference that names either.
fn on_shelf(reference: &Reference, config: &Config) -> Option<(RepositoryName, Image)> {
    let image = reference.image();
    for (shelf, _, upstream) in config.cached_shelves() {
        let name = shelf.name.get_ref().as_str();
        if image.host == upstream.host {
            let repository = format!("{name}/{}", image.repository).parse().ok()?;
            return Some((repository, image));
        }
        let path = image.repository.as_str().strip_prefix(name);
        let path = path.and_then(|rest| rest.strip_prefix('/')).map(str::parse);
        if image.host == config.larder.url.host
            && let Some(Ok(repository)) = path
        {
            let host = upstream.host.clone();
            return Some((image.repository, Image { host, repository }));
        }
    }
    None
}

async fn here(
    repository: &RepositoryName,
    tag: &Tag,
    config: &Config,
) -> Result<ComparedPlace, Failure> {
    let belief = match store_if_any(config)? {
        Some(store) => store
            .belief(repository, tag)
            .await
            .map_err(|error| Failure::store("cannot tell what the larder holds", &error))?,
        None => None,
    };
    Ok(ComparedPlace {
        place: "larder".into(),
        remark: belief.as_ref().map_or_else(
            || format!("{repository}:{tag}, nobody has asked for it yet"),
            |belief| format!("{repository}:{tag}, confirmed {}", ago(belief.confirmed, now())),
        ),
        confirmed_at: belief.as_ref().map(|belief| crate::output::time(belief.confirmed)),
        digest: belief.map(|belief| belief.digest),
    })
}

fn on_nodes(path: &Path, names: &[Image], tag: &Tag) -> Result<Vec<ComparedPlace>, Failure> {
    let what = || format!("cannot read {}", larder_transfer::files::named(path));
    let bytes = read_bounded(path, LIMIT).map_err(|error| Failure::io(what(), &error))?;
    let remedy = "write it with the platform's client: the Node objects as JSON";
    let text = String::from_utf8(bytes).map_err(|error| Failure::usage(what(), error, remedy))?;
    let present =
        read_report(&text, names, tag).map_err(|cause| Failure::usage(what(), cause, remedy))?;
    Ok(present
        .into_iter()
        .map(|one| ComparedPlace {
            place: one.node,
            digest: Some(one.digest),
            confirmed_at: None,
            remark: "node".into(),
        })
        .collect())
}

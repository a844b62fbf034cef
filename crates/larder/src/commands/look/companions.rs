//! `larder look --companions`: what belongs to an image.

use larder_core::digest::Digest;
use larder_transfer::companions;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, Table, bytes, short};
use crate::place::{OpenedSource, Place};

#[derive(Serialize, JsonSchema)]
struct OneCompanion {
    #[schemars(with = "String")]
    digest: Digest,
    /// What it refers to.
    #[schemars(with = "String")]
    about: Digest,
    kind: String,
    size_bytes: u64,
}

pub(super) async fn companions_of(
    text: &str,
    context: &Context,
    config: Option<&Config>,
) -> Outcome {
    let place = Place::read(text, config)?;
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let found = async {
        let (digest, document) = source.manifest(&selector).await?;
        let children = document.children().iter().map(|child| child.digest.clone());
        let of = std::iter::once(digest).chain(children).collect();
        companions(&*source, of, &[]).await
    };
    let what = || format!("cannot list what belongs to {place}");
    let found = found.await.map_err(|error| Failure::transfer(what(), &error))?;
    let found: Vec<OneCompanion> = found
        .into_iter()
        .map(|(digest, one)| OneCompanion {
            digest,
            about: one.about,
            kind: one.kind,
            size_bytes: one.size,
        })
        .collect();
    context.output.tell(&CompanionsReport { image: place.to_string(), companions: found });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct CompanionsReport {
    image: String,
    companions: Vec<OneCompanion>,
}

impl Report for CompanionsReport {
    const KIND: &'static str = "image-companions";

    fn show(&self, out: &Output) {
        if self.companions.is_empty() {
            return out.result(format!("nothing belongs to {}", self.image));
        }
        let mut table =
            Table::new(out.width(), &["COMPANION", "ABOUT", "KIND", "SIZE"]).sparing(&["SIZE"]);
        for one in &self.companions {
            let (digest, about) = (short(&one.digest).to_owned(), short(&one.about).to_owned());
            table.row([digest, about, one.kind.clone(), bytes(one.size_bytes)]);
        }
        out.table(&table);
    }
}

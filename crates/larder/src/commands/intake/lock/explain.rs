//! `larder intake lock --explain`: each tag with taken or left, and why.

use larder_core::lock::Lock;
use larder_core::name::Tag;
use larder_core::selection::JudgedTag;
use schemars::JsonSchema;
use serde::Serialize;

use super::super::upstream::Upstreams;
use crate::config::Config;
use crate::context::{Context, reference};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GOOD, Output, Report, Table, count, paint};

#[derive(Serialize, JsonSchema)]
pub struct TagsExplained {
    image: String,
    tags: Vec<ExplainedTag>,
}

impl Report for TagsExplained {
    const KIND: &'static str = "intake-lock-explain";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["TAG", "STATE", "WHY"]);
        for ExplainedTag { tag, taken, why } in &self.tags {
            let word = if *taken { paint(GOOD, "taken") } else { paint(DIM, "left") };
            table.row([tag.to_string(), word, why.clone()]);
        }
        if !self.tags.is_empty() {
            out.table(&table);
        }
        let taken = self.tags.iter().filter(|one| one.taken).count();
        out.result(format!("{taken} of {} taken", count(self.tags.len(), "tag")));
    }
}

#[derive(Serialize, JsonSchema)]
struct ExplainedTag {
    #[schemars(with = "String")]
    tag: Tag,
    taken: bool,
    why: String,
}

/// Shows what becomes of each of an image's tags.
pub async fn explain(
    text: &str,
    config: &Config,
    upstreams: &Upstreams<'_>,
    lock: &Lock,
    context: &Context,
) -> Outcome {
    let image = reference(text, Some(config))?.image();
    let what = || format!("cannot explain {image}");
    let Some(intake) = config.intake_of(&image) else {
        let remedy = "`larder intake add IMAGE:TAG` wants one of its tags";
        return Err(Failure::usage(what(), "no intake entry wants it", remedy));
    };
    let listed = upstreams.tags(&image).await?;
    let lacking = lock.lacking(&image, &intake.platforms);
    let lacking = lacking.map(|(tag, passed)| (tag.clone(), passed.lacks.clone())).collect();
    let explained: Vec<ExplainedTag> = intake
        .tags
        .judge_without(&listed, &lacking)
        .into_iter()
        .map(|JudgedTag { tag, why }| ExplainedTag {
            tag,
            taken: why.is_taken(),
            why: why.to_string(),
        })
        .collect();
    context.output.tell(&TagsExplained { image: image.to_string(), tags: explained });
    Ok(Exit::Done)
}

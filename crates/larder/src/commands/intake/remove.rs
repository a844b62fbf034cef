//! `larder intake remove`: want images no more.

use larder_core::name::Tag;
use larder_core::reference::Image;
use larder_transfer::files::with_stdin;
use schemars::JsonSchema;
use serde::Serialize;
use toml_edit::{ArrayOfTables, Item};

use super::edit::EditedFile;
use crate::config::Config;
use crate::context::{Context, reference};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

/// Want images no more: take them out of larder.toml
///
/// Comments and order of the file stay. What the larder holds of them stays too; `larder shelf drop` or `tidy` removes
/// it. The next `larder intake lock` drops them from the lock.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The images: with a tag that tag alone, without one the whole entry; `-` reads them from stdin, one a line
    #[arg(required = true, value_name = "REF")]
    references: Vec<String>,
    /// Say what would be taken out, and write nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, JsonSchema)]
pub struct RemoveReport {
    /// Whether nothing was written.
    dry_run: bool,
    removed: Vec<RemovedWish>,
}

#[derive(Serialize, JsonSchema)]
struct RemovedWish {
    #[schemars(with = "String")]
    image: Image,
    /// null: the whole entry.
    #[schemars(with = "Option<String>")]
    tag: Option<Tag>,
}

impl Report for RemoveReport {
    const KIND: &'static str = "intake-remove";

    fn show(&self, out: &Output) {
        let verb = if self.dry_run { "would be wanted no more" } else { "wanted no more" };
        for RemovedWish { image, tag } in &self.removed {
            let tag = tag.as_ref().map(|tag| format!(":{tag}")).unwrap_or_default();
            out.result(format!("{verb}: {image}{tag}"));
        }
        out.note(
            "What the larder holds of it stays. Next: `larder intake lock` drops it from the lock.",
        );
    }
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let references = with_stdin(&args.references);
    let references =
        references.map_err(|error| Failure::io("cannot read the references from stdin", &error))?;
    let mut files = Vec::new();
    for path in &config.sources {
        if path.extension().is_some_and(|end| end == "toml") && path.is_file() {
            files.push(EditedFile::read(path)?);
        }
    }
    let mut removed = Vec::new();
    for text in &references {
        removed.push(remove(text, &config, &mut files)?);
    }
    if !args.dry_run {
        for file in files {
            file.write(&config)?;
        }
    }
    context.output.tell(&RemoveReport { dry_run: args.dry_run, removed });
    Ok(Exit::Done)
}

fn remove(text: &str, config: &Config, files: &mut [EditedFile]) -> Result<RemovedWish, Failure> {
    let what = || format!("cannot take out {}", larder_core::shown::cut(text, 200));
    let no = |cause: String, remedy: &str| Failure::usage(what(), cause, remedy).ending(Exit::No);
    let reference = reference(text, Some(config))?;
    let image = reference.image();
    let named = image.to_string();
    let at = |entries: &ArrayOfTables| {
        let is_it = |entry: &toml_edit::Table| {
            entry.get("image").and_then(Item::as_str) == Some(named.as_str())
        };
        entries.iter().position(is_it)
    };
    let found = files.iter_mut().find_map(|file| {
        let entries = file.intake()?;
        at(entries).map(|place| (entries, place))
    });
    let Some((entries, place)) = found else {
        let wanted = config.intake.iter().map(|intake| intake.image.get_ref().to_string());
        let wanted: Vec<String> = wanted.collect();
        let near = larder_core::nearest::nearest(&named, wanted.iter().map(String::as_str));
        let remedy = near.map_or_else(
            || "`larder intake list` shows what is wanted".to_owned(),
            |near| format!("did you mean {near}?"),
        );
        return Err(no(format!("{named} is not wanted"), &remedy));
    };
    let by_digest = reference
        .digest
        .as_ref()
        .and_then(|digest| Some((Tag::of_digest(digest)?, digest.to_string())));
    let by_tag =
        reference.tag.filter(|_| text.contains(':')).map(|tag| (tag.clone(), tag.to_string()));
    let Some((tag, written)) = by_digest.or(by_tag) else {
        entries.remove(place);
        return Ok(RemovedWish { image, tag: None });
    };
    let exact = entries
        .get_mut(place)
        .and_then(|entry| entry.get_mut("tags"))
        .and_then(|tags| tags.get_mut("exact"))
        .and_then(Item::as_array_mut);
    let Some(exact) = exact else {
        let cause = format!("{named} is wanted by a pattern of tags");
        return Err(no(
            cause,
            "write the tag into `skip` of its `tags`, or take out the whole entry",
        ));
    };
    let Some(number) = exact.iter().position(|one| one.as_str() == Some(written.as_str())) else {
        return Err(no(
            format!("{named}:{tag} is not wanted"),
            "`larder intake list` shows the tags",
        ));
    };
    exact.remove(number);
    if exact.is_empty() {
        entries.remove(place);
    }
    Ok(RemovedWish { image, tag: Some(tag) })
}

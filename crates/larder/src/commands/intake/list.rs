//! `larder intake list`: what is wanted.

use larder_core::platform::Platforms;
use larder_core::reference::Image;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, read_lock};
use crate::failure::{Exit, Outcome};
use crate::output::{DIM, Output, Report, Table, count, paint};
use crate::pick::Pick;

/// List what is wanted: the entries of larder.toml
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    pick: Pick,
}

#[derive(Serialize, JsonSchema)]
pub struct IntakeList {
    entries: Vec<IntakeEntry>,
}

#[derive(Serialize, JsonSchema)]
struct IntakeEntry {
    #[schemars(with = "String")]
    image: Image,
    /// Which tags, in the words of the configuration.
    tags: String,
    /// Empty: all that the image has.
    platforms: Vec<String>,
    companions: bool,
    /// Where it goes, as HOST/REPOSITORY.
    #[schemars(with = "String")]
    to: Image,
    /// The tags that the lock has of it.
    locked: Vec<String>,
}

impl Report for IntakeList {
    const KIND: &'static str = "intake-list";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["IMAGE", "TAGS", "PLATFORMS", "TO", "LOCKED"])
            .sparing(&["PLATFORMS", "TO"]);
        for one in &self.entries {
            let platforms = match one.platforms.as_slice() {
                [] => "all".to_owned(),
                some => some.join(" "),
            };
            let locked = match one.locked.as_slice() {
                [] => paint(DIM, "-").clone(),
                some => some.join(" "),
            };
            let to = one.to.repository.to_string();
            table.row([one.image.to_string(), one.tags.clone(), platforms, to, locked]);
        }
        if self.entries.is_empty() {
            return out.result("nothing is wanted; `larder intake add` wants something");
        }
        out.table(&table);
        out.note(count(self.entries.len(), "entry"));
    }
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let wanted = config.intake.iter().filter(|intake| args.pick.takes(intake.image.get_ref()));
    let entries = wanted.map(|intake| {
        let image = intake.image.get_ref().clone();
        let locked = lock.entries.keys().filter(|want| want.image == image);
        IntakeEntry {
            tags: intake.tags.to_string(),
            platforms: match &intake.platforms {
                Platforms::All => Vec::new(),
                Platforms::Some(some) => some.iter().map(ToString::to_string).collect(),
            },
            companions: intake.companions,
            to: config.destination(intake),
            locked: locked.map(|want| want.tag.to_string()).collect(),
            image,
        }
    });
    context.output.tell(&IntakeList { entries: entries.collect() });
    Ok(Exit::Done)
}

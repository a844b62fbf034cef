//! `larder advisory drop`: taking a feed away.

use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

/// Take a feed away, with all that it has
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Its name, as `advisory list --feeds` shows it
    feed: String,
    /// Say what would go, and leave it
    #[arg(long)]
    dry_run: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
}

/// A feed that was taken away.
#[derive(Serialize, JsonSchema)]
pub struct FeedDropped {
    feed: String,
    advisories: u64,
    dry_run: bool,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = format!("cannot take the feed {} away", larder_core::shown::shown(&args.feed));
    let feeds = store.feeds().await.map_err(|error| Failure::store(&what, &error))?;
    let Some(feed) = feeds.iter().find(|feed| feed.name == args.feed) else {
        let names: Vec<&str> = feeds.iter().map(|feed| feed.name.as_str()).collect();
        let cause = match names.as_slice() {
            [] => "no feed was taken in".to_owned(),
            names => format!("there are {}", names.join(", ")),
        };
        return Err(Failure::usage(what, cause, "`larder advisory list --feeds` shows them")
            .ending(Exit::No));
    };
    if !args.dry_run {
        if !args.yes {
            let question = format!("{} advisories go", feed.advisories);
            context.output.confirm(&what, &question)?;
        }
        store.drop_feed(&feed.name).await.map_err(|error| Failure::store(&what, &error))?;
    }
    let (name, advisories) = (feed.name.clone(), feed.advisories);
    context.output.tell(&FeedDropped { feed: name, advisories, dry_run: args.dry_run });
    Ok(Exit::Done)
}

impl Report for FeedDropped {
    const KIND: &'static str = "advisory-drop";

    fn show(&self, out: &Output) {
        let words = if self.dry_run { "would take away" } else { "took away" };
        out.result(format!("{words} {} with its {} advisories", self.feed, self.advisories));
    }
}

//! `larder shelf retry`: an upstream that is left alone is asked again.

use larder_store::{RETRY, RecordKind, UpstreamRecord, now};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, time};
use crate::record;

/// Ask an upstream again that is left alone, because it limited us or failed
///
/// A running larder takes it up within seconds. It is for when the limit was lifted, or the fault mended:
/// an upstream that still limits us says so again at once.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The upstream, by its name or host
    upstream: String,
    /// Because of what, for the record
    #[arg(long, value_name = "REASON")]
    because: Option<String>,
}

pub async fn run(args: &Args, config: &Config, context: &Context) -> Outcome {
    let what = || format!("cannot have {} asked again", args.upstream.escape_debug());
    let known = config
        .upstreams
        .iter()
        .find(|one| *one.name.get_ref() == args.upstream || one.host.as_str() == args.upstream);
    let Some(upstream) = known else {
        let names = config.upstreams.iter().map(|one| one.name.get_ref().as_str());
        let cause = crate::failure::unknown("upstream", &args.upstream, names);
        return Err(Failure::usage(what(), cause, "`larder check` tells how they stand"));
    };
    let store = open_store(config)?;
    let failed = |error| Failure::store(what(), &error);
    let standing = store.standing().await.map_err(failed)?;
    let found = standing.into_iter().find(|one| one.host == upstream.host);
    let left_alone = found.filter(|one| one.until.is_some_and(|until| until > now()));
    let mut report =
        RetryReport { upstream: upstream.host.to_string(), was: None, left_alone_until: None };
    if let Some(one) = left_alone {
        let wish = UpstreamRecord {
            condition: RETRY.into(),
            until: None,
            cause: None,
            at: now(),
            ..one.clone()
        };
        store.note_standing(vec![wish]).await.map_err(failed)?;
        let because = args.because.as_ref().map(|it| format!(": {it}")).unwrap_or_default();
        let text = format!("is asked again, though it was {}{because}", one.condition);
        let entry = record::entry(RecordKind::Config, upstream.host.as_str(), &text);
        record::note(&store, vec![entry]).await.map_err(failed)?;
        report.left_alone_until = one.until.map(time);
        report.was = Some(one.condition);
    }
    context.output.tell(&report);
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct RetryReport {
    upstream: String,
    /// `limited`, `resting`. None: it was not left alone, so nothing was done.
    was: Option<String>,
    left_alone_until: Option<String>,
}

impl Report for RetryReport {
    const KIND: &'static str = "shelf-retry";

    fn show(&self, out: &Output) {
        let Self { upstream, was, left_alone_until } = self;
        let Some(was) = was else {
            return out.result(format!("{upstream} is not left alone: nothing to do"));
        };
        let until =
            left_alone_until.as_ref().map(|end| format!(" until {end}")).unwrap_or_default();
        out.result(format!("{upstream} is asked again; it was {was}{until}"));
    }
}

//! `larder shelf retry`: an upstream that is left alone is asked again.

use larder_store::{Kind, RETRY, Standing, now};

use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::time;
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
        let names: Vec<&str> =
            config.upstreams.iter().map(|one| one.name.get_ref().as_str()).collect();
        let cause = format!("there is no such upstream; there are {}", names.join(", "));
        return Err(Failure::usage(what(), cause, "`larder check` tells how they stand"));
    };
    let store = open_store(config)?;
    let failed = |error| Failure::store(what(), &error);
    let standing = store.standing().await.map_err(failed)?;
    let found = standing.into_iter().find(|one| one.host == upstream.host);
    let left_alone = found.filter(|one| one.until.is_some_and(|until| until > now()));
    let Some(one) = left_alone else {
        if context.output.json {
            context.output.document(
                &serde_json::json!({ "upstream": upstream.host, "was": null, "until": null }),
            );
        } else {
            context.output.result(format!("{} is not left alone: nothing to do", upstream.host));
        }
        return Ok(Exit::Done);
    };
    let wish =
        Standing { condition: RETRY.into(), until: None, cause: None, at: now(), ..one.clone() };
    store.note_standing(vec![wish]).await.map_err(failed)?;
    let because = args.because.as_ref().map(|because| format!(": {because}")).unwrap_or_default();
    let entry = record::entry(
        Kind::Config,
        upstream.host.as_str(),
        &format!("is asked again, though it was {}{because}", one.condition),
    );
    record::note(&store, vec![entry]).await.map_err(failed)?;
    let until = one.until.map(time);
    if context.output.json {
        context.output.document(&serde_json::json!({
            "upstream": upstream.host, "was": one.condition, "until": until,
        }));
    } else {
        let until = until.map(|until| format!(" until {until}")).unwrap_or_default();
        context
            .output
            .result(format!("{} is asked again; it was {}{until}", upstream.host, one.condition));
    }
    Ok(Exit::Done)
}

//! `larder policy explain`: whether somebody may pull something, and by which line.

use larder_core::access::Who;
use serde::Serialize;

use super::super::key::Whose;
use crate::context::{Context, read_lock, reference_here, store_if_any};
use crate::failure::{Exit, Outcome};
use crate::output::{BAD, DIM, GOOD, STRONG, WARN, paint};
use crate::policy::{Judge, Judged};

/// Say whether a cluster or account may pull an image, and which line decides
///
/// Exit status 1 says that it may not.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The image: an upstream's, or the larder's
    #[arg(value_name = "REF")]
    image: String,
    #[command(flatten)]
    whose: Whose,
}

#[derive(Serialize)]
struct Report<'r> {
    image: String,
    who: String,
    allowed: bool,
    /// The repository of the larder. None: it is not in the larder.
    repository: Option<&'r str>,
    origin: String,
    own: bool,
    class: Option<&'r str>,
    grant: Option<Grant<'r>>,
    /// Why the operator has blocked it. None: nobody has.
    blocked: Option<&'r str>,
    verdict: &'static str,
    rule: Option<Rule<'r>>,
}

#[derive(Serialize)]
struct Grant<'r> {
    allowed: bool,
    pattern: Option<&'r str>,
    line: Option<String>,
    of: &'r str,
}

#[derive(Serialize)]
struct Rule<'r> {
    name: &'r str,
    because: &'r str,
    lacks: Option<String>,
    line: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = format!("cannot explain {}", args.image);
    let config = context.config()?;
    let who = args.whose.who(&what, &config)?;
    let reference = reference_here(&args.image, &config)?;
    let judge = Judge::new(&config, store_if_any(&config)?);
    let judged = judge.reference(&who, &reference, &read_lock(&config)?).await?;
    if context.output.json {
        context.output.document(&Report {
            image: reference.to_string(),
            who: who.to_string(),
            allowed: judged.allowed(),
            repository: judged.repository.as_ref().map(larder_core::name::RepositoryName::as_str),
            origin: judged.origin.to_string(),
            own: judged.own,
            class: judged.class.as_deref(),
            grant: judged.grant.as_ref().map(|grant| Grant {
                allowed: grant.allowed,
                pattern: grant.pattern.as_deref(),
                line: grant.line.as_ref().map(ToString::to_string),
                of: &grant.grants,
            }),
            verdict: judged.verdict.word(),
            blocked: judged.blocked.as_deref(),
            rule: judged.rule.map(|rule| Rule {
                name: &rule.name,
                because: &rule.because,
                lacks: judged.lack.as_ref().map(ToString::to_string),
                line: rule.line.to_string(),
            }),
        });
    } else {
        show(&who, &reference.to_string(), &judged, config.is_open(), context);
    }
    Ok(if judged.allowed() { Exit::Done } else { Exit::No })
}

fn show(who: &Who, image: &str, judged: &Judged<'_>, open: bool, context: &Context) {
    use larder_core::policy::Verdict;
    let word = match (judged.allowed(), judged.verdict) {
        (false, _) => paint(BAD, "may not pull"),
        (true, Verdict::Warn) => paint(WARN, "may pull, with a warning,"),
        (true, _) => paint(GOOD, "may pull"),
    };
    let mut lines = vec![format!("{} {word} {image}", paint(STRONG, who.described()))];
    match &judged.repository {
        Some(repository) if judged.own => lines.push(format!("  image  {repository}, our own")),
        Some(repository) => lines.push(format!("  image  {repository}, from {}", judged.origin)),
        None => lines.push("  image  not in the larder: nothing brings it in".to_owned()),
    }
    lines.push(format!("  class  {}", judged.class.as_deref().unwrap_or("none")));
    let at = |line: &str| paint(DIM, format!("  {line}"));
    lines.push(match &judged.grant {
        Some(grant) => {
            let line = grant.line.as_ref().map(|line| at(&line.to_string())).unwrap_or_default();
            match &grant.pattern {
                Some(pattern) => format!("  grant  {} name {pattern}{line}", grant.grants),
                None => format!("  grant  {} do not name it{line}", grant.grants),
            }
        }
        None if open => "  grant  not asked: `access = \"open\"`".to_owned(),
        None => "  grant  not asked: it is not pulled from the larder".to_owned(),
    });
    lines.push(match judged.rule {
        Some(rule) => {
            let reason = rule.reason(judged.lack.as_ref());
            format!("  rule   {}: {reason}{}", judged.verdict.word(), at(&rule.line.to_string()))
        }
        None => "  rule   none matches, so it may".to_owned(),
    });
    if let Some(because) = &judged.blocked {
        let because = larder_core::shown::shown(because);
        lines.push(format!(
            "  {}  {because}; `larder shelf unblock` lifts it",
            paint(BAD, "blocked")
        ));
    }
    context.output.result(lines.join("\n"));
}

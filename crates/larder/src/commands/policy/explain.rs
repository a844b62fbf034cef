//! `larder policy explain`: whether somebody may pull something, and by which line.

use larder_core::access::Who;
use larder_core::policy::{Case, Judgement, Ruling};
use schemars::JsonSchema;
use serde::Serialize;

use super::super::key::KeyHolder;
use crate::context::{Context, reference_here, store_if_any, with_whole_digest};
use crate::failure::{Exit, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, WARN, paint};
use crate::policy::Judge;

/// Say whether a cluster or account may pull an image, and which line decides
///
/// Exit status 1 says that it may not.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The image: an upstream's, or the larder's
    #[arg(value_name = "REF")]
    image: String,
    #[command(flatten)]
    whose: KeyHolder,
}

#[derive(Serialize, JsonSchema)]
pub struct PolicyExplanation {
    image: String,
    who: String,
    /// Whether nothing of this larder stands against it.
    allowed: bool,
    /// `allow`, `warn`, `deny`, `not-ours`, `unknown`.
    ruling: &'static str,
    /// The repository of the larder. None: it is not in the larder.
    repository: Option<String>,
    origin: String,
    own: bool,
    class: Option<String>,
    grant: Option<ExplainedGrant>,
    /// Why the operator has blocked it. None: nobody has.
    blocked: Option<String>,
    verdict: &'static str,
    rule: Option<ExplainedRule>,
    #[serde(skip)]
    text: String,
}

#[derive(Serialize, JsonSchema)]
struct ExplainedGrant {
    allowed: bool,
    pattern: Option<String>,
    line: Option<String>,
    /// Whose grants they are, in words.
    of: String,
}

#[derive(Serialize, JsonSchema)]
struct ExplainedRule {
    name: String,
    because: String,
    lacks: Option<String>,
    line: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = format!("cannot explain {}", args.image);
    let config = context.config()?;
    let who = args.whose.who(&what, &config)?;
    let image = with_whole_digest(&args.image, Some(&config)).await?;
    let reference = reference_here(&image, &config)?;
    let judge = Judge::new(&config, store_if_any(&config)?)?;
    let case = judge.court.reference(&reference);
    let judged = judge.judge(&who, &case).await?;
    context.output.tell(&PolicyExplanation {
        image: reference.to_string(),
        who: who.to_string(),
        allowed: !judged.ruling.is_refused(),
        ruling: judged.ruling.word(),
        repository: case.here().map(ToString::to_string),
        origin: case.image.to_string(),
        own: case.own,
        class: case.class.map(str::to_owned),
        grant: judged.grant.as_ref().map(|grant| ExplainedGrant {
            allowed: grant.allowed,
            pattern: grant.pattern.clone(),
            line: grant.line.as_ref().map(ToString::to_string),
            of: grant.grants.clone(),
        }),
        verdict: judged.verdict.word(),
        blocked: judged.blocked.clone(),
        rule: judged.rule.map(|rule| ExplainedRule {
            name: rule.name.clone(),
            because: rule.because.clone(),
            lacks: judged.lack.as_ref().map(ToString::to_string),
            line: rule.line.to_string(),
        }),
        text: text(&who, &reference.to_string(), &case, &judged),
    });
    Ok(if judged.ruling.is_refused() { Exit::No } else { Exit::Done })
}

impl Report for PolicyExplanation {
    const KIND: &'static str = "policy-explanation";

    fn show(&self, out: &Output) {
        out.result(&self.text);
    }
}

fn text(who: &Who, image: &str, case: &Case<'_>, judged: &Judgement<'_>) -> String {
    let who = paint(STRONG, who.described());
    let mut lines = vec![match judged.ruling {
        Ruling::Refused => format!("{who} {} {image}", paint(BAD, "may not pull")),
        Ruling::Unknown => {
            format!("{who} {} {image}: it cannot be told", paint(BAD, "may not pull"))
        }
        Ruling::Warned => format!("{who} {} {image}", paint(WARN, "may pull, with a warning,")),
        Ruling::Allowed => format!("{who} {} {image}", paint(GOOD, "may pull")),
        Ruling::NotOurs => {
            format!(
                "{image} is {}: the larder does not decide whether {who} may pull it",
                paint(DIM, "not ours")
            )
        }
    }];
    lines.extend(judged.undeclared.iter().map(|it| format!("  {}   {it}", paint(WARN, "note"))));
    lines.push(match (&case.place, case.own) {
        (Ok(repository), true) => format!("  image  {repository}, our own"),
        (Ok(repository), false) => format!("  image  {repository}, from {}", case.image),
        (Err(elsewhere), _) => format!("  image  {}", elsewhere.sentence()),
    });
    lines.push(format!("  class  {}", case.class.unwrap_or("none")));
    let at = |line: &str| paint(DIM, format!("  {line}"));
    lines.push(match &judged.grant {
        Some(grant) => {
            let line = grant.line.as_ref().map(|line| at(&line.to_string())).unwrap_or_default();
            match &grant.pattern {
                Some(pattern) => format!("  grant  {} name {pattern}{line}", grant.grants),
                None => format!("  grant  {} do not name it{line}", grant.grants),
            }
        }
        None if case.place.is_ok() => "  grant  not asked: `access = \"open\"`".to_owned(),
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
    lines.join("\n")
}

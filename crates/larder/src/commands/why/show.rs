//! What `larder why` says: the cause in plain words, what to do, then the steps.

use std::time::Duration;

use larder_core::diagnosis::{Confidence, Finding, Remedy, Step, Verdict};
use larder_core::shown::cut;
use serde_json::{Value, json};

use super::ask::{Answer, Line};
use super::exit;
use crate::context::Context;
use crate::failure::Exit;
use crate::output::{BAD, DIM, GOOD, STRONG, WARN, folded, paint};

/// Says what came of each image, and how it ends.
pub(super) fn answers(all: &[Answer], context: &Context) -> Exit {
    let fails = all.iter().any(|one| matches!(one.verdict, Verdict::Fails(_)));
    let open = all.iter().any(|one| matches!(one.verdict, Verdict::Undecided(_)));
    if context.output.json {
        let documents: Vec<Value> = all.iter().map(json).collect();
        context.output.document(&json!({ "images": documents }));
        return exit(fails, open);
    }
    for (number, answer) in all.iter().enumerate() {
        if number > 0 {
            context.output.result("");
        }
        one(answer, context);
    }
    exit(fails, open)
}

fn safe(text: &str) -> String {
    cut(text, 600)
}

fn one(answer: &Answer, context: &Context) {
    let out = |text: String| context.output.result(text);
    let width = context.output.width();
    let image = match answer.asked.written.as_str() {
        "" => "the pull".to_owned(),
        written => safe(written),
    };
    match &answer.verdict {
        Verdict::Succeeds(odd) => {
            out(format!("{}: {image}", paint(GOOD, "it can be pulled")));
            for finding in odd {
                out(format!("  {} {}", paint(WARN, "but"), folded(&safe(&finding.told), width, 6)));
                remedies(finding, &out);
            }
        }
        Verdict::Fails(finding) => {
            let sure = match finding.confidence {
                Confidence::Certain => String::new(),
                weaker => format!(" ({})", weaker.word()),
            };
            out(format!("{}{sure}: {}", paint(BAD, finding.cause.title()), paint(STRONG, image)));
            out(format!("  {}", folded(&safe(&finding.told), width, 2)));
            if !finding.or.is_empty() {
                let or: Vec<String> = finding
                    .or
                    .iter()
                    .map(|cause| format!("{} ({})", cause.title(), cause.word()))
                    .collect();
                let or = format!("runtimes say the same where {}", or.join(", or "));
                out(format!("  {}", folded(&or, width, 2)));
            }
            remedies(finding, &out);
        }
        Verdict::Undecided(missing) => {
            out(format!("{}: {image}", paint(WARN, "it cannot be told")));
            for one in missing {
                out(format!("  not known is {}", folded(&safe(one), width, 15)));
            }
        }
    }
    if !answer.steps.is_empty() {
        out(String::new());
    }
    let broken = match &answer.verdict {
        Verdict::Fails(finding) => Some(finding.cause.step()),
        _ => None,
    };
    for line in &answer.steps {
        out(step(line, broken, width));
    }
    for (host, said) in &answer.limits {
        let of = said.limit.map(|limit| format!(" of {limit}")).unwrap_or_default();
        let back = said
            .back_in
            .map(|back| format!("; all are back in {} min", back.as_secs().div_ceil(60)));
        let text = format!(
            "{host} lets {}{of} more pulls pass{}",
            said.remaining,
            back.unwrap_or_default()
        );
        let text = folded(&text, width, STEP);
        out(format!("  {} {:<10} {text}", paint(DIM, "·"), Step::Allowance.word()));
    }
    if let Some(event) = &answer.asked.event {
        let told = event.cause().map_or_else(
            || "the events only say that it failed".to_owned(),
            |(cause, told)| format!("the events say: {told} ({})", cause.word()),
        );
        let told = folded(&safe(&told), width, STEP);
        out(format!("  {} {:<10} {told}", paint(DIM, "·"), "events"));
    }
    if let Verdict::Fails(finding) = &answer.verdict {
        context.output.note(format!("more: `larder help cause {}`", finding.cause.word()));
    }
}

fn remedies(finding: &Finding, out: &dyn Fn(String)) {
    for (number, Remedy { text, command }) in finding.remedies.iter().enumerate() {
        let label = if number == 0 { paint(GOOD, "try") } else { "or ".into() };
        match command {
            Some(command) => {
                out(format!("  {label} {}: {}", safe(text), paint(STRONG, safe(command))));
            }
            None => out(format!("  {label} {}", safe(text))),
        }
    }
}

/// The column at which the text of a step begins.
const STEP: usize = 15;

fn step(line: &Line, broken: Option<Step>, width: Option<u16>) -> String {
    let mark = match line.holds {
        Some(true) => paint(GOOD, "✓"),
        Some(false) => paint(BAD, "✗"),
        None => paint(DIM, "·"),
    };
    let host = line.host.as_ref().map(|host| format!("{host}: ")).unwrap_or_default();
    let took = match line.took {
        short if short < Duration::from_millis(1) => String::new(),
        took => paint(DIM, format!(" {} ms", took.as_millis())),
    };
    let unfolded = line.holds == Some(false) && broken == Some(line.step);
    let text = safe(&format!("{host}{}", line.text));
    // What holds is one line; what broke is told whole.
    let text = match unfolded {
        true => text,
        false => text.chars().take(160).collect(),
    };
    let text = folded(&text, width, STEP);
    format!("  {mark} {:<10} {text}{took}", line.step.word())
}

/// One answer as a document.
pub(super) fn json(answer: &Answer) -> Value {
    let finding = |finding: &Finding| {
        json!({
            "cause": finding.cause.word(),
            "title": finding.cause.title(),
            "step": finding.cause.step().word(),
            "confidence": finding.confidence.word(),
            "told": finding.told,
            "ruled_out": finding.ruled_out.iter().map(|step| step.word()).collect::<Vec<_>>(),
            "remedies": finding.remedies.iter().map(|it| json!({ "text": it.text, "command": it.command })).collect::<Vec<_>>(),
        })
    };
    let (verdict, causes, missing) = match &answer.verdict {
        Verdict::Succeeds(odd) => ("succeeds", odd.iter().map(finding).collect(), Vec::new()),
        Verdict::Fails(one) => {
            let or = one.or.iter().map(|cause| {
                json!({
                    "cause": cause.word(), "title": cause.title(), "step": cause.step().word(),
                    "confidence": Confidence::Possible.word(), "told": cause.title(),
                    "ruled_out": [], "remedies": [],
                })
            });
            ("fails", [finding(one)].into_iter().chain(or).collect(), Vec::new())
        }
        Verdict::Undecided(missing) => ("undecided", Vec::new(), missing.clone()),
    };
    let steps = answer.steps.iter().map(|line| {
        json!({
            "step": line.step.word(), "host": line.host, "holds": line.holds, "text": line.text,
            "milliseconds": u64::try_from(line.took.as_millis()).unwrap_or(u64::MAX),
        })
    });
    let limits = answer.limits.iter().map(|(host, said)| {
        json!({ "host": host, "remaining": said.remaining, "limit": said.limit, "back_in": said.back_in.map(|back| back.as_secs()) })
    });
    let event = answer.asked.event.as_ref().map(|event| {
        json!({
            "reference": event.reference, "host": event.host, "status": event.status, "number": event.number,
            "cause": event.cause().map(|(cause, _)| cause.word()),
        })
    });
    json!({
        "image": answer.asked.written, "place": answer.asked.place, "verdict": verdict,
        "findings": causes, "missing": missing, "steps": steps.collect::<Vec<_>>(),
        "limits": limits.collect::<Vec<_>>(), "event": event,
    })
}

//! What `larder why` says: the cause in plain words, what to do, then the steps.

use std::time::Duration;

use larder_core::allowance::ReportedLimit;
use larder_core::diagnosis::{Cause, Confidence, Diagnosis, PullStep, PullVerdict, Remedy};
use larder_core::shown::cut;
use schemars::JsonSchema;
use serde::Serialize;

use super::ask::{StepLine, WhyAnswer};
use super::exit;
use crate::context::Context;
use crate::deployments::BrokenFile;
use crate::failure::Exit;
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, WARN, folded, paint};

/// Why each image can be pulled, or not.
#[derive(Serialize, JsonSchema)]
pub struct WhyReport {
    images: Vec<WhyImage>,
    /// Files that cannot be read, with `--all`.
    broken: Vec<BrokenFile>,
    #[serde(skip)]
    answers: Vec<WhyAnswer>,
    /// Whether each is one row of a table.
    #[serde(skip)]
    table: bool,
}

impl WhyReport {
    pub(super) fn new(answers: Vec<WhyAnswer>, broken: Vec<BrokenFile>, table: bool) -> Self {
        Self { images: answers.iter().map(WhyImage::of).collect(), broken, answers, table }
    }

    pub(super) fn is_broken(&self) -> bool {
        !self.broken.is_empty()
    }

    /// Images that cannot be pulled, and such of which it cannot be told.
    pub(super) fn counts(&self) -> (usize, usize) {
        let number = |word| self.images.iter().filter(|one| one.verdict == word).count();
        (number("fails"), number("undecided"))
    }
}

impl Report for WhyReport {
    const KIND: &'static str = "why";

    fn show(&self, out: &Output) {
        if self.table {
            return super::batch::show(&self.answers, self.counts(), &self.broken, out);
        }
        for (number, answer) in self.answers.iter().enumerate() {
            if number > 0 {
                out.result("");
            }
            one(answer, out);
        }
    }
}

/// Says what came of each image, and how it ends.
pub(super) fn answers(all: Vec<WhyAnswer>, context: &Context) -> Exit {
    let report = WhyReport::new(all, Vec::new(), false);
    context.output.tell(&report);
    let (fails, open) = report.counts();
    exit(fails > 0, open > 0)
}

fn safe(text: &str) -> String {
    cut(text, 600)
}

fn one(answer: &WhyAnswer, output: &Output) {
    let out = |text: String| output.result(text);
    let width = output.width();
    let image = match answer.asked.written.as_str() {
        "" => "the pull".to_owned(),
        written => safe(written),
    };
    match &answer.verdict {
        PullVerdict::Succeeds(odd) => {
            out(format!("{}: {image}", paint(GOOD, "it can be pulled")));
            for finding in odd {
                out(format!("  {} {}", paint(WARN, "but"), folded(&safe(&finding.told), width, 6)));
                remedies(finding, &out);
            }
        }
        PullVerdict::Fails(finding) => {
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
        PullVerdict::Undecided(missing) => {
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
        PullVerdict::Fails(finding) => Some(finding.cause.step()),
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
        out(format!("  {} {:<10} {text}", paint(DIM, "·"), PullStep::Allowance.word()));
    }
    if let Some(event) = &answer.asked.event {
        let told = event.cause().map_or_else(
            || "the events only say that it failed".to_owned(),
            |(cause, told)| format!("the events say: {told} ({})", cause.word()),
        );
        let told = folded(&safe(&told), width, STEP);
        out(format!("  {} {:<10} {told}", paint(DIM, "·"), "events"));
    }
    if let PullVerdict::Fails(finding) = &answer.verdict {
        output.note(format!("more: `larder help cause {}`", finding.cause.word()));
    }
}

fn remedies(finding: &Diagnosis, out: &dyn Fn(String)) {
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

fn step(line: &StepLine, broken: Option<PullStep>, width: Option<u16>) -> String {
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

#[derive(Serialize, JsonSchema)]
struct WhyImage {
    image: String,
    place: Option<String>,
    /// `succeeds`, `fails`, `undecided`.
    verdict: &'static str,
    findings: Vec<WhyFinding>,
    /// What would have to be known.
    missing: Vec<String>,
    steps: Vec<WhyStep>,
    /// What the hosts say of their limits.
    limits: Vec<WhyLimit>,
    event: Option<WhyEvent>,
}

#[derive(Serialize, JsonSchema)]
struct WhyFinding {
    cause: &'static str,
    title: &'static str,
    step: &'static str,
    /// `certain`, `likely`, `possible`.
    confidence: &'static str,
    told: String,
    /// The steps that are known to work.
    ruled_out: Vec<&'static str>,
    remedies: Vec<WhyRemedy>,
}

#[derive(Serialize, JsonSchema)]
struct WhyRemedy {
    text: String,
    command: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct WhyStep {
    step: &'static str,
    host: Option<String>,
    /// None: it could not be told.
    holds: Option<bool>,
    text: String,
    took_milliseconds: u64,
}

#[derive(Serialize, JsonSchema)]
struct WhyLimit {
    host: String,
    remaining_pulls: u64,
    /// Pulls in all. None: the host does not say.
    limit_pulls: Option<u64>,
    /// Until all are allowed again.
    back_in_seconds: Option<u64>,
}

/// What the cluster's event says.
#[derive(Serialize, JsonSchema)]
struct WhyEvent {
    reference: Option<String>,
    host: Option<String>,
    status: Option<u16>,
    /// The number of a refusal, for `larder log`.
    number: Option<String>,
    cause: Option<&'static str>,
}

impl WhyFinding {
    fn of(finding: &Diagnosis) -> Self {
        let remedy = |it: &Remedy| WhyRemedy {
            text: it.text.clone(),
            command: it.command.as_ref().map(ToString::to_string),
        };
        Self {
            cause: finding.cause.word(),
            title: finding.cause.title(),
            step: finding.cause.step().word(),
            confidence: finding.confidence.word(),
            told: finding.told.clone(),
            ruled_out: finding.ruled_out.iter().map(|step| step.word()).collect(),
            remedies: finding.remedies.iter().map(remedy).collect(),
        }
    }

    /// Something else that says the same to a runtime.
    fn possible(cause: Cause) -> Self {
        Self {
            cause: cause.word(),
            title: cause.title(),
            step: cause.step().word(),
            confidence: Confidence::Possible.word(),
            told: cause.title().to_owned(),
            ruled_out: Vec::new(),
            remedies: Vec::new(),
        }
    }
}

impl WhyImage {
    fn of(answer: &WhyAnswer) -> Self {
        let (verdict, findings, missing) = match &answer.verdict {
            PullVerdict::Succeeds(odd) => {
                ("succeeds", odd.iter().map(WhyFinding::of).collect(), Vec::new())
            }
            PullVerdict::Fails(one) => {
                let or = one.or.iter().map(|cause| WhyFinding::possible(*cause));
                let all = std::iter::once(WhyFinding::of(one)).chain(or);
                ("fails", all.collect(), Vec::new())
            }
            PullVerdict::Undecided(missing) => ("undecided", Vec::new(), missing.clone()),
        };
        let step = |line: &StepLine| WhyStep {
            step: line.step.word(),
            host: line.host.clone(),
            holds: line.holds,
            text: line.text.clone(),
            took_milliseconds: u64::try_from(line.took.as_millis()).unwrap_or(u64::MAX),
        };
        let limit = |(host, said): &(String, ReportedLimit)| WhyLimit {
            host: host.clone(),
            remaining_pulls: said.remaining,
            limit_pulls: said.limit,
            back_in_seconds: said.back_in.map(|back| back.as_secs()),
        };
        let event = answer.asked.event.as_ref().map(|event| WhyEvent {
            reference: event.reference.clone(),
            host: event.host.clone(),
            status: event.status,
            number: event.number.clone(),
            cause: event.cause().map(|(cause, _)| cause.word()),
        });
        Self {
            image: answer.asked.written.clone(),
            place: answer.asked.place.clone(),
            verdict,
            findings,
            missing,
            steps: answer.steps.iter().map(step).collect(),
            limits: answer.limits.iter().map(limit).collect(),
            event,
        }
    }
}

//! The same for every image of a set of deployments, as one table.

use std::collections::BTreeMap;

use futures_util::StreamExt as _;
use larder_core::diagnosis::{Confidence, PullVerdict};
use larder_core::shown::cut;

use super::Args;
use super::ask::{ImageQuestion, PullInquiry, WhyAnswer};
use super::exit;
use super::show::WhyReport;
use crate::context::Context;
use crate::deployments::{self, BrokenFile};
use crate::failure::{Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Table, WARN, count, paint};

/// Images that are asked about at once.
const AT_ONCE: usize = 8;

pub(super) async fn run(args: &Args, asker: &PullInquiry<'_>, context: &Context) -> Outcome {
    let resources = asker.config().map(|config| config.resources.clone()).unwrap_or_default();
    let read = deployments::named(&args.all, deployments::Sight::with(&resources));
    // One answer for each image in each namespace.
    let mut wanted: BTreeMap<(String, Option<String>), ImageQuestion> = BTreeMap::new();
    for file in &read.done {
        for one in file.pulled().filter(|one| args.takes(one, asker.config())) {
            let key = (one.text.clone(), one.workload.namespace.clone());
            wanted.entry(key).or_insert_with(|| ImageQuestion {
                written: one.text.clone(),
                namespace: one.workload.namespace.clone(),
                place: Some(format!("{}:{}", file.shown, one.position.line)),
                event: None,
            });
        }
    }
    let wanted: Vec<ImageQuestion> = wanted.into_values().collect();
    let answers: Vec<Result<WhyAnswer, Failure>> = futures_util::stream::iter(&wanted)
        .map(|asked| asker.answer(asked))
        .buffered(AT_ONCE)
        .collect()
        .await;
    let answers: Vec<WhyAnswer> = answers.into_iter().collect::<Result<_, _>>()?;
    let report = WhyReport::new(answers, read.broken, true);
    context.output.tell(&report);
    let (fails, open) = report.counts();
    let absent = deployments::missing(&args.all);
    Ok(exit(fails > 0 || report.is_broken(), open > 0).max(absent))
}

/// A row for each image.
pub(super) fn show(
    answers: &[WhyAnswer],
    (fails, open): (usize, usize),
    broken: &[BrokenFile],
    out: &Output,
) {
    let mut table = Table::new(out.width(), &["PULL", "IMAGE", "WHY", "WHERE"]);
    for answer in answers {
        table.row(row(answer));
    }
    if answers.is_empty() {
        out.note("no image is named there");
    } else {
        out.table(&table);
    }
    out.result(format!(
        "\n{}: {} would fail, {open} cannot be told",
        count(answers.len(), "image"),
        if fails > 0 { paint(BAD, fails) } else { fails.to_string() },
    ));
    for BrokenFile { file, cause } in broken {
        out.note(format!("{} {file} cannot be read: {cause}", paint(BAD, "broken:")));
    }
}

fn row(answer: &WhyAnswer) -> [String; 4] {
    let (pull, why) = match &answer.verdict {
        PullVerdict::Succeeds(odd) => (
            paint(GOOD, "works"),
            odd.iter().map(|one| paint(WARN, &one.told)).collect::<Vec<_>>().join("\n"),
        ),
        PullVerdict::Fails(finding) => {
            let sure = match finding.confidence {
                Confidence::Certain => String::new(),
                weaker => paint(DIM, format!(" ({})", weaker.word())),
            };
            (
                paint(BAD, "fails"),
                format!("{}{sure}\n{}", finding.cause.title(), paint(DIM, &finding.told)),
            )
        }
        PullVerdict::Undecided(missing) => {
            (paint(WARN, "unknown"), format!("not known: {}", missing.join("; ")))
        }
    };
    let image = cut(&answer.asked.written, 600);
    [pull, image, why, answer.asked.place.clone().unwrap_or_default()]
}

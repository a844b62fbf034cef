//! What node runtimes of three lines, their own client and their journals said in pulls that failed, each on its own:
//! with nothing else known, the cause is among those that the text can mean.

use larder_core::diagnosis::{Cause, Confidence, Evidence, PullVerdict, diagnose, read_events};
use serde::Deserialize;

#[derive(Deserialize)]
struct Text {
    text: String,
    accepted: Vec<String>,
}

#[test]
fn what_nodes_say_is_read_as_what_it_means() {
    let lines = include_str!("texts/nodes.jsonl").lines();
    let texts: Vec<Text> = lines.map(|line| serde_json::from_str(line).unwrap()).collect();
    let (mut first, mut any, mut odd) = (0, 0, Vec::new());
    for Text { text, accepted } in &texts {
        let event = read_events(text).into_iter().next();
        let evidence = Evidence { event, ..Evidence::default() };
        let PullVerdict::Fails(finding) = diagnose(&evidence) else {
            odd.push(format!("{accepted:?}: nothing is found in {text}"));
            continue;
        };
        let fits = |cause: &Cause| accepted.iter().any(|word| word == cause.word());
        let (right, among) = (fits(&finding.cause), finding.or.iter().any(fits));
        assert!(right || finding.confidence < Confidence::Certain, "certain and wrong: {text}");
        first += usize::from(right);
        any += usize::from(right || among);
        if !right && !among {
            odd.push(format!("{accepted:?}, not {}: {text}", finding.cause.word()));
        }
    }
    // Some say the same for several causes, and some lines of a journal mean nothing without the others.
    assert!(first * 100 >= texts.len() * 94, "{first} of {}: {odd:#?}", texts.len());
    assert!(any * 100 >= texts.len() * 95, "{any} of {}: {odd:#?}", texts.len());
}

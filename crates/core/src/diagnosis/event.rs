//! What the cluster's events, a node's journal or a runtime's error say. The wordings differ between
//! versions, so several of each are known.

mod refusal;
mod wording;

use super::{Cause, PullStep};
use crate::nodes::RuntimeSeries;

pub use refusal::refusal;
pub use wording::WordingFit;

/// The longest text that is read, in bytes.
const LIMIT: usize = 1024 * 1024;
/// Failures that are taken from one text.
const MOST: usize = 200;
/// Lines that one message may have.
const LINES: usize = 20;

/// One failure that a text tells of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PullEvent {
    /// The image. None: the text does not say.
    pub reference: Option<String>,
    /// The host that was asked. None: the text does not say.
    pub host: Option<String>,
    /// The status. None: there was none.
    pub status: Option<u16>,
    /// The number that a refusal of a larder carries. None: it carries none.
    pub number: Option<String>,
    /// The line, without what wraps it.
    pub text: String,
}

impl PullEvent {
    /// The line of the runtime that words it so. None: several do.
    pub fn line(&self) -> Option<RuntimeSeries> {
        let says = |words: &str| self.text.contains(words);
        if says("failed to resolve image: ")
            || says("%5BREDACTED%5D")
            || says("fetch failed")
            || says("failed to extract layer (")
        {
            Some(RuntimeSeries::Two)
        } else if says("pulling from host ") && says(" failed with status code [") {
            Some(RuntimeSeries::Six)
        } else {
            None
        }
    }
}

/// The distinct failures of a text, in their order: a line, several, or a whole description of a pod.
/// Lines that only say that there was one (`ImagePullBackOff`) count where nothing better is said.
pub fn read_events(text: &str) -> Vec<PullEvent> {
    let end = (0..=LIMIT.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let mut events: Vec<PullEvent> = Vec::new();
    let mut vague: Vec<PullEvent> = Vec::new();
    for message in messages(&text[..end]) {
        let Some(event) = read_message(&message) else { continue };
        let cause = event.cause().map(|it| it.0);
        let list = if cause.is_none() { &mut vague } else { &mut events };
        let same = |known: &&PullEvent| {
            known.reference == event.reference
                && known.cause().map(|it| it.0) == cause
                && known.host == event.host
        };
        if list.len() < MOST && !list.iter().any(|known| same(&known)) {
            list.push(event);
        }
    }
    let events = of_one_pull(events);
    let told = |event: &PullEvent| {
        let same =
            |known: &PullEvent| known.reference == event.reference || event.reference.is_none();
        events.iter().any(same)
    };
    let untold: Vec<PullEvent> = vague.into_iter().filter(|event| !told(event)).collect();
    events.into_iter().chain(untold).collect()
}

/// A journal has several lines of one pull, and only the last of them names the image: the others serve it. What
/// hides another failure ("not found", where a mirror could not be asked at all) takes over what they say.
fn of_one_pull(events: Vec<PullEvent>) -> Vec<PullEvent> {
    let (named, unnamed): (Vec<PullEvent>, Vec<PullEvent>) =
        events.into_iter().partition(|event| event.reference.is_some());
    if named.is_empty() {
        return unnamed;
    }
    let better = |event: &&PullEvent| {
        let step = event.cause().map(|it| it.0.step());
        matches!(step, Some(PullStep::Reach | PullStep::Trust))
    };
    let file = |event: &PullEvent| event.cause().is_some_and(|it| it.0 == Cause::MirrorFile);
    let better = unnamed.iter().find(better).cloned();
    let mut all: Vec<PullEvent> = unnamed.into_iter().filter(file).collect();
    for event in named {
        let hides = event.cause().is_some_and(|it| it.0 == Cause::AbsentOrHidden);
        let event = match better.as_ref().filter(|_| hides) {
            Some(better) => PullEvent { reference: event.reference, ..better.clone() },
            None => event,
        };
        let known = |one: &PullEvent| {
            one.reference == event.reference
                && one.cause().map(|it| it.0) == event.cause().map(|it| it.0)
        };
        if !all.iter().any(known) {
            all.push(event);
        }
    }
    all
}

/// The messages of a text: a line each, with the lines that go on from it. A registry's answer has line breaks, and
/// with them its sentence.
fn messages(text: &str) -> Vec<String> {
    let mut all: Vec<(String, usize)> = Vec::new();
    for line in text.lines() {
        match all.last_mut() {
            Some((last, lines)) if *lines < LINES && goes_on(last, line) => {
                last.push('\n');
                last.push_str(line.trim());
                *lines += 1;
            }
            _ => all.push((line.to_owned(), 1)),
        }
    }
    all.into_iter().map(|(message, _)| message).collect()
}

/// Whether a line belongs to the message before it: that ends in a status, and this one begins with one of the
/// standard's codes (Distribution Specification, "Error codes"), as runtimes write them.
fn goes_on(last: &str, line: &str) -> bool {
    if !(is_failure(last) && status(last).is_some()) {
        return false;
    }
    let line = line.trim();
    let Some((word, _)) = line.split_once(':') else { return false };
    let code = |c: char| c.is_ascii_lowercase() || c == ' ' || c == '_';
    line == "errors:" || (!word.is_empty() && word.len() <= 40 && word.chars().all(code))
}

fn is_failure(line: &str) -> bool {
    const SIGNS: [&str; 30] = [
        "failed to pull",
        "Failed to pull",
        "failed to resolve",
        "failed to copy",
        "failed to authorize",
        "failed to extract",
        "failed to unpack",
        "failed to fetch",
        "fetch failed",
        "pull access denied",
        "couldn't parse image",
        "failed to parse image",
        "Failed to apply default image tag",
        "Back-off pulling image",
        "ErrImagePull",
        "ErrImageNeverPull",
        "ImagePullBackOff",
        "InvalidImageName",
        "pull policy of Never",
        "trying next host",
        "hosts.toml",
        "failed to do request",
        "cancel pulling image",
        "reference for unknown type",
        "image pull secrets",
        "exec format error",
        "cannot be set when `config_path`",
        "get image config descriptor",
        "PullImage from image service failed",
        "pull QPS exceeded",
    ];
    // The runtime's own client says no more than the error.
    line.trim_start().starts_with("ctr: ") || SIGNS.iter().any(|sign| line.contains(sign))
}

fn read_message(message: &str) -> Option<PullEvent> {
    let text = message.trim().to_owned();
    let named = reference(&text);
    if !is_failure(&text) {
        // That a pull begins says something only where its name cannot be read.
        let begins = text.contains("PullImage ")
            && named.as_ref().is_some_and(|name| {
                let usual = crate::reference::Unqualified::default();
                crate::reference::Reference::read(name, &usual).is_err()
            });
        if !begins {
            return None;
        }
    }
    Some(PullEvent {
        host: host(&text),
        status: status(&text),
        number: number(&text),
        reference: named,
        text,
    })
}

/// What stands in quotes after one of the words that name an image, or bare where runtimes do not quote it.
fn reference(text: &str) -> Option<String> {
    const QUOTED: [&str; 13] = [
        "pull and unpack image ",
        "Failed to pull image ",
        "failed to pull image ",
        "resolve reference ",
        "pulling image ",
        "Pulling image ",
        "Container image ",
        "PullImage ",
        "parse image reference ",
        "parse image name ",
        "default image tag ",
        " image=",
        "Failed to inspect image ",
    ];
    const BARE: [&str; 4] =
        ["cancel pulling image ", "byte manifest for ", "failed to resolve image: ", "ctr: "];
    let plain = text.replace("\\\"", "\"");
    for word in QUOTED {
        if let Some((_, rest)) = plain.split_once(word)
            && let Some(rest) = rest.strip_prefix('"')
            && let Some((reference, _)) = rest.split_once('"')
            && !reference.is_empty()
        {
            return Some(reference.to_owned());
        }
    }
    for word in BARE {
        let Some((_, rest)) = plain.split_once(word) else { continue };
        let end = rest.find([' ', '"', '\n']).unwrap_or(rest.len());
        let found = rest[..end].trim_end_matches(':');
        if found.contains('/') && !found.contains("://") {
            return Some(found.to_owned());
        }
    }
    None
}

fn host(text: &str) -> Option<String> {
    // A field of the journal's, at the end of its line.
    if let Some((_, rest)) = text.rsplit_once(" host=") {
        let host = rest.trim_start_matches(['\\', '"']);
        let host = host.split(['"', ' ', '\\', '\n']).next().unwrap_or_default();
        if !host.is_empty() {
            return Some(host.to_owned());
        }
    }
    if let Some((_, rest)) = text.split_once("pulling from host ") {
        return rest.split(' ').next().map(str::to_owned);
    }
    let (_, rest) = text.split_once("://")?;
    let host = rest.split(['/', '"', ' ', '\\', '?', '\n']).next().unwrap_or_default();
    (!host.is_empty()).then(|| host.to_owned())
}

fn status(text: &str) -> Option<u16> {
    // Where runtimes write it, whatever follows: registries put words of their own there, or none.
    const BEFORE: [&str; 4] = [
        "unexpected status from ",
        "unexpected status code ",
        "failed with status code [",
        "unexpected status: ",
    ];
    let said = BEFORE.iter().find_map(|words| {
        let (_, rest) = text.rsplit_once(words)?;
        let rest = rest.lines().next().unwrap_or_default();
        // It stands behind the address, which may have a port.
        let at = if words.ends_with("status: ") { Some(rest) } else { None };
        let behind = rest.split(": ").skip(1);
        at.into_iter().chain(behind).find_map(|part| {
            let code = part.get(..3)?.parse::<u16>().ok()?;
            let ends = !part[3..].starts_with(|c: char| c.is_ascii_alphanumeric());
            (ends && (300..=599).contains(&code)).then_some(code)
        })
    });
    if said.is_some() {
        return said;
    }
    // The last number of three digits before one of the standard's phrases.
    let words: Vec<&str> = text.split([' ', ':', '"', '\n']).collect();
    let pairs = words.windows(2).rev();
    let known = |code: u16| (300..=599).contains(&code);
    for pair in pairs {
        if let Ok(code) = pair[0].parse::<u16>()
            && known(code)
            && pair[1].starts_with(|c: char| c.is_ascii_uppercase())
        {
            return Some(code);
        }
    }
    None
}

/// The number in brackets at the end of a refusal's sentence.
fn number(text: &str) -> Option<String> {
    let known = |c: char| c.is_ascii_alphanumeric() || c == '-';
    // Where nothing follows it may be of letters alone.
    let is_one = |inside: &str, after: &str| {
        let ends = after.trim_end_matches(['"', '\\', ' ', ')']).is_empty();
        (4..=40).contains(&inside.len())
            && inside.chars().all(known)
            && (inside.chars().any(|c| c.is_ascii_digit()) || (ends && inside.len() == 8))
    };
    let mut rest = text;
    for _ in 0..8 {
        let (before, after) = rest.rsplit_once(']')?;
        let (outside, inside) = before.rsplit_once('[')?;
        if is_one(inside, after) {
            return Some(inside.to_owned());
        }
        rest = outside;
    }
    None
}

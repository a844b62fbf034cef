//! Two images: are they the same, and what differs?

use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use super::examined::{Look, OnePlatform};
use super::{safe, shown_platform};
use crate::context::Context;
use crate::failure::Exit;
use crate::output::{BAD, GOOD, Output, Report, bytes, count, paint};

#[derive(Serialize, JsonSchema)]
pub struct Comparison {
    same: bool,
    first: Look,
    second: Look,
    /// In words, a line for each platform.
    differences: Vec<String>,
    /// Each value that differs, platform by platform.
    changed: Vec<ChangedValue>,
}

/// A value that differs.
#[derive(Serialize, JsonSchema, Clone)]
struct ChangedValue {
    /// null: they are made for none.
    platform: Option<String>,
    /// `created_at`, `entrypoint`, `cmd`, `user`, `working_dir`, `ports`, `volumes`, `stop_signal`, `health_check`,
    /// `env`, `label`, `annotation`.
    field: &'static str,
    /// Of a variable, a label or an annotation: its name. null: the field is one.
    name: Option<String>,
    /// null: the first has none.
    first: Option<String>,
    /// null: the second has none.
    second: Option<String>,
}

impl Report for Comparison {
    const KIND: &'static str = "image-comparison";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

pub(super) fn compare(first: Look, second: Look, context: &Context) -> Exit {
    let same = first.digest == second.digest;
    let (differences, changed) = match same {
        true => (Vec::new(), Vec::new()),
        false => (differences(&first, &second, ["first", "second"]), changed(&first, &second)),
    };
    context.output.tell(&Comparison { same, first, second, differences, changed });
    if same { Exit::Done } else { Exit::No }
}

fn show(comparison: &Comparison, out: &Output) {
    let Comparison { same, first, second, differences, changed } = comparison;
    if *same {
        out.result(format!(
            "{}: {} and {} are {}",
            paint(GOOD, "same"),
            first.reference,
            second.reference,
            first.digest
        ));
        // The same index need not hold the same platforms everywhere.
        for (these, those) in [(first, second), (second, first)] {
            let lacking = only(these, those);
            if !lacking.is_empty() {
                out.note(format!("{} does not hold {}", those.reference, lacking.join(", ")));
            }
        }
        return;
    }
    out.result(format!(
        "{}\n  {}  {}\n  {}  {}",
        paint(BAD, "they differ"),
        first.digest,
        first.reference,
        second.digest,
        second.reference
    ));
    for difference in differences {
        out.result(format!("  {difference}"));
    }
    let mut last = None;
    for one in changed {
        if last != Some(&one.platform) {
            out.result(format!("\n{}", one.platform.as_deref().unwrap_or("(none)")));
            last = Some(&one.platform);
        }
        let name = one.name.as_ref().map(|name| format!(" {}", safe(name))).unwrap_or_default();
        let value = |value: &Option<String>| value.as_deref().map_or_else(|| "(none)".into(), safe);
        out.result(format!("  {}{name}", one.field));
        out.result(format!("    - {}", value(&one.first)));
        out.result(format!("    + {}", value(&one.second)));
    }
}

/// The platforms that these have and those have not.
fn only(these: &Look, those: &Look) -> Vec<String> {
    let has =
        |one: &OnePlatform| those.platforms.iter().any(|other| other.platform == one.platform);
    these
        .platforms
        .iter()
        .filter(|one| !has(one))
        .map(|one| shown_platform(one.platform.as_ref()))
        .collect()
}

/// The platforms that both have and that are not the same.
fn pairs<'l>(first: &'l Look, second: &'l Look) -> Vec<(&'l OnePlatform, &'l OnePlatform)> {
    let other = |one: &&'l OnePlatform| {
        second.platforms.iter().find(|other| other.platform == one.platform)
    };
    first.platforms.iter().filter_map(|one| other(&one).map(|other| (one, other))).collect()
}

/// What differs, from the coarse to the fine. `called` is what the two are called there.
pub fn differences(first: &Look, second: &Look, called: [&str; 2]) -> Vec<String> {
    let mut found = Vec::new();
    for (these, those, which) in [(first, second, called[0]), (second, first, called[1])] {
        let platforms = only(these, those);
        if !platforms.is_empty() {
            found.push(format!("only the {which} is made for {}", platforms.join(", ")));
        }
    }
    if first.media_type != second.media_type {
        found.push(format!("media type: {} and {}", first.media_type, second.media_type));
    }
    for (one, other) in pairs(first, second) {
        let platform = shown_platform(one.platform.as_ref());
        if one.digest == other.digest {
            found.push(format!("{platform}: same"));
            continue;
        }
        let shared = one.layers.iter().filter(|layer| other.layers.contains(layer)).count();
        let mut parts = vec![format!(
            "{shared} of {} shared, {} and {}",
            count(one.layers.len().max(other.layers.len()), "layer"),
            bytes(one.size_bytes),
            bytes(other.size_bytes)
        )];
        let mut fields: Vec<&str> = values(one, other).iter().map(|one| word(one.field)).collect();
        fields.dedup();
        parts.extend(fields.iter().map(|field| format!("{field} changed")));
        found.push(format!("{platform}: {}", parts.join("; ")));
    }
    if found.is_empty() {
        found.push("only the index or manifest itself differs".into());
    }
    found
}

/// What a field is called in a sentence.
fn word(field: &str) -> &str {
    match field {
        "created_at" => "created",
        "cmd" => "arguments",
        "working_dir" => "folder",
        "stop_signal" => "stop signal",
        "health_check" => "health check",
        "env" => "variables",
        "label" => "labels",
        "annotation" => "annotations",
        other => other,
    }
}

fn changed(first: &Look, second: &Look) -> Vec<ChangedValue> {
    pairs(first, second).into_iter().flat_map(|(one, other)| values(one, other)).collect()
}

/// Each value that differs between two images of one platform.
fn values(one: &OnePlatform, other: &OnePlatform) -> Vec<ChangedValue> {
    let platform = one.platform.as_ref().map(ToString::to_string);
    let listed = |list: &[String]| (!list.is_empty()).then(|| list.join(" "));
    let single = [
        ("created_at", one.created_at.clone(), other.created_at.clone()),
        ("entrypoint", listed(&one.entrypoint), listed(&other.entrypoint)),
        ("cmd", listed(&one.cmd), listed(&other.cmd)),
        ("user", one.user.clone(), other.user.clone()),
        ("working_dir", one.working_dir.clone(), other.working_dir.clone()),
        ("ports", listed(&one.ports), listed(&other.ports)),
        ("volumes", listed(&one.volumes), listed(&other.volumes)),
        ("stop_signal", one.stop_signal.clone(), other.stop_signal.clone()),
        ("health_check", listed(&one.health_check), listed(&other.health_check)),
    ];
    let change = |field, name, first, second| ChangedValue {
        platform: platform.clone(),
        field,
        name,
        first,
        second,
    };
    let mut all: Vec<ChangedValue> = single
        .into_iter()
        .map(|(field, first, second)| change(field, None, first, second))
        .collect();
    let variables = |one: &OnePlatform| -> BTreeMap<String, String> {
        let split = one.env.iter().map(|text| text.split_once('=').unwrap_or((text, "")));
        split.map(|(name, value)| (name.to_owned(), value.to_owned())).collect()
    };
    let (env, other_env) = (variables(one), variables(other));
    for (field, first, second) in [
        ("env", &env, &other_env),
        ("label", &one.labels, &other.labels),
        ("annotation", &one.annotations, &other.annotations),
    ] {
        let names: BTreeSet<&String> = first.keys().chain(second.keys()).collect();
        all.extend(names.into_iter().map(|name| {
            let values = (first.get(name).cloned(), second.get(name).cloned());
            change(field, Some(name.clone()), values.0, values.1)
        }));
    }
    all.retain(|one| one.first != one.second);
    all
}

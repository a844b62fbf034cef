//! Services of one machine: `services: {board: {image: …}}`, with variables and their defaults.

use std::collections::HashSet;
use std::rc::Rc;

use super::super::finding::{ImageRole, Workload};
use super::super::overlays::name_of;
use super::super::place::{ImagePlace, TreeFindings, WrittenReference};
use super::super::variables;
use super::kubernetes::{images_of, values_of};
use super::{Dialect, FileContext, strings};
use larder_yaml::parse;
use larder_yaml::{NodeId, Tree};

const MAY_BE_BUILT: &str = "its variables make it what a service builds, or another image";
const IMAGE_SCHEME: &str = "docker-image://";

/// The services that a file builds, by their names. Empty: none, or it cannot be read.
pub fn built_services(text: &str) -> Vec<String> {
    let Ok(tree) = parse(text) else { return Vec::new() };
    let services = tree.documents.first().and_then(|top| tree.get(*top, "services"));
    let all = services.into_iter().flat_map(|services| tree.entries(services));
    all.filter(|(_, service)| !values_of(&tree, *service, "build").is_empty())
        .filter_map(|(name, _)| tree.scalar(name).map(str::to_owned))
        .collect()
}

/// Finds the images of all services. False: there are none.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    file: &FileContext<'_>,
    found: &mut TreeFindings,
) -> bool {
    // Long: one key of a service after the other.
    let Some(services) = tree.get(top, "services").filter(|node| tree.is_mapping(*node)) else {
        return false;
    };
    let is_service = |(_, value): (NodeId, NodeId)| {
        ["image", "build", "extends", "<<"].iter().any(|key| tree.get(value, key).is_some())
    };
    // Jobs have services beside them too.
    let of_jobs = ["jobs", "steps", "pipeline", "stages", "pipelines", "runs"];
    let is_pipeline = of_jobs.iter().any(|key| tree.get(top, key).is_some());
    if !tree.entries(services).any(is_service) || is_pipeline {
        return false;
    }
    let build_of = |service| values_of(tree, service, "build").into_iter().next();
    // What one service builds another may run: its name is made here, too.
    let called = |image: NodeId| {
        let known = |name: &str| Some((file.variables?.get(name)?.to_owned(), None));
        let text = tree.filled(image)?;
        let filled = variables::fill(text, 0, &known);
        let name = name_of(&filled.text);
        // With a variable in it the tag may become any.
        let last = text.rsplit('/').next().unwrap_or_default();
        let tag = (!last.contains('$')).then(|| filled.text[name.len()..].to_owned());
        (!filled.open).then(|| (name.to_owned(), tag))
    };
    let (mut built, mut filled): (HashSet<&str>, Vec<(String, Option<String>)>) =
        Default::default();
    // What another file beside it builds is built here, too.
    let is_built = |name: NodeId, service: NodeId| {
        let by_others =
            tree.scalar(name).is_some_and(|name| file.built.iter().any(|one| one == name));
        build_of(service).is_some() || by_others
    };
    for (_, service) in tree.entries(services).filter(|(name, one)| is_built(*name, *one)) {
        for image in images_of(tree, service) {
            filled.extend(called(image));
            built.extend(tree.filled(image));
        }
    }
    for (name, service) in tree.entries(services) {
        let kind = "service".to_owned();
        let named = tree.scalar(name).unwrap_or_default().to_owned();
        let owner = Rc::new(Workload { kind, name: named, ..Workload::default() });
        let mut add = |written, role, left| {
            let owner = Rc::clone(&owner);
            found.add(ImagePlace {
                owner,
                left,
                ..ImagePlace::new(written, Dialect::Compose, role)
            });
        };
        let build = build_of(service);
        for image in images_of(tree, service) {
            let text = tree.filled(image).unwrap_or_default();
            if is_built(name, service) || built.contains(text) {
                add(WrittenReference::Filled(image), ImageRole::Built, None);
            } else {
                // What its variables make of it may be what a service builds, or not.
                let made = called(image).is_some_and(|(name, tag)| {
                    let same =
                        |other: &Option<String>| tag.is_none() || other.is_none() || *other == tag;
                    filled.iter().any(|(other, its)| *other == name && same(its))
                });
                add(
                    WrittenReference::Filled(image),
                    ImageRole::Pulled,
                    made.then_some(MAY_BE_BUILT),
                );
            }
        }
        if let Some(context) = build.and_then(|build| tree.get(build, "additional_contexts")) {
            let listed = tree.items(context).into_iter().flatten();
            for value in tree.entries(context).map(|(_, value)| value).chain(listed) {
                let span = tree.nodes[value].span();
                let raw = tree.text.get(span.clone()).unwrap_or_default();
                if let Some(at) = raw.find(IMAGE_SCHEME) {
                    let from = at + IMAGE_SCHEME.len();
                    let end = raw[from..].find(['"', '\'']).map_or(raw.len(), |to| from + to);
                    add(
                        WrittenReference::Piece(value, span.start + from..span.start + end),
                        ImageRole::Pulled,
                        None,
                    );
                }
            }
        }
        if let Some(inline) = build.and_then(|build| tree.get(build, "dockerfile_inline")) {
            for span in strings::pieces(tree, inline, strings::Hint::Nothing) {
                add(WrittenReference::Piece(inline, span), ImageRole::Text, None);
            }
        }
        let volumes = tree.get(service, "volumes").and_then(|list| tree.items(list));
        for volume in volumes.into_iter().flatten() {
            if tree.text_of(volume, "type") == Some("image")
                && let Some(source) = tree.get(volume, "source")
            {
                add(WrittenReference::Filled(source), ImageRole::Pulled, None);
            }
        }
        texts(tree, service, &mut add);
    }
    true
}

/// The environment, as a map or as a list, and the words of the command.
fn texts(
    tree: &Tree<'_>,
    service: NodeId,
    add: &mut impl FnMut(WrittenReference, ImageRole, Option<&'static str>),
) {
    let mut piece = |node, hint| {
        for span in strings::pieces(tree, node, hint) {
            add(WrittenReference::Piece(node, span), ImageRole::Text, None);
        }
    };
    if let Some(environment) = tree.get(service, "environment") {
        for (key, value) in tree.entries(environment) {
            piece(value, strings::Hint::of_name(tree.scalar(key)));
        }
        for item in tree.items(environment).into_iter().flatten() {
            let name = tree.scalar(item).and_then(|text| text.split_once('='));
            piece(item, strings::Hint::of_name(name.map(|(name, _)| name)));
        }
    }
    for key in ["command", "entrypoint"] {
        let Some(words) = tree.get(service, key) else { continue };
        match tree.items(words) {
            Some(items) => {
                for word in items {
                    piece(word, strings::Hint::of_word(tree.scalar(word)));
                }
            }
            None => piece(words, strings::Hint::Nothing),
        }
    }
}

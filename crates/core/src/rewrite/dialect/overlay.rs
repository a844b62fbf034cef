//! An overlay's `images:`: for images of one name another, another tag, a digest.

use super::super::finding::ImageRole;
use super::super::place::{ImagePlace, ReferenceParts, TreeFindings, WrittenReference};
use super::{Dialect, FileContext, shape, strings};
use larder_yaml::{NodeId, Tree};

const KINDS: [&str; 2] = ["Kustomization", "Component"];

/// Finds the entries of an overlay. False: it is none.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    file: &FileContext<'_>,
    found: &mut TreeFindings,
) -> bool {
    let kind = tree.text_of(top, "kind");
    let by_shape = || {
        let images = tree.get(top, "images").and_then(|list| tree.items(list));
        images.into_iter().flatten().any(|one| {
            let changes = ["newName", "newTag", "digest"];
            tree.text_of(one, "name").is_some()
                && changes.iter().any(|key| tree.get(one, key).is_some())
        })
    };
    match kind {
        Some(kind) if KINDS.contains(&kind) => {}
        // Values may have such a list too.
        None if !shape::is_named_values(file) && by_shape() => {}
        _ => return false,
    }
    let images = tree.get(top, "images").and_then(|list| tree.items(list));
    for one in images.into_iter().flatten() {
        let Some(name) = tree.get(one, "name").filter(|name| tree.filled(*name).is_some()) else {
            continue;
        };
        let filled = |key| tree.get(one, key).filter(|node| tree.scalar(*node).is_some());
        let parts = ReferenceParts {
            registry: None,
            name,
            tag: filled("newTag"),
            digest: filled("digest"),
            usual_tag: None,
            above: false,
            global: false,
        };
        let written = WrittenReference::Overlay(parts, filled("newName"));
        found.add(ImagePlace::new(written, Dialect::Overlay, ImageRole::Pulled));
    }
    let patches = ["patches", "patchesStrategicMerge", "patchesJson6902"];
    for list in patches.iter().filter_map(|key| tree.get(top, key)) {
        for patch in tree.items(list).into_iter().flatten() {
            let text = tree.get(patch, "patch").unwrap_or(patch);
            for span in strings::pieces(tree, text, strings::Hint::Nothing) {
                found.add(ImagePlace::new(
                    WrittenReference::Piece(text, span),
                    Dialect::Overlay,
                    ImageRole::Text,
                ));
            }
        }
    }
    true
}

//! Task definitions: `containerDefinitions`, alone or within the template of a whole stack.

use super::super::finding::ImageRole;
use super::super::place::{ImagePlace, TreeFindings, WrittenReference};
use super::{Dialect, FileContext};
use larder_yaml::{NodeId, Tree};

/// Finds the images of all container definitions. False: there are none.
pub(super) fn find(
    tree: &Tree<'_>,
    top: NodeId,
    _file: &FileContext<'_>,
    found: &mut TreeFindings,
) -> bool {
    let mut any = false;
    let mut stack = vec![top];
    // Aliases are not followed: what they stand for is met where it is defined.
    while let Some(node) = stack.pop() {
        if tree.resolve(node) != node {
            continue;
        }
        stack.extend(tree.items(node).into_iter().flatten());
        for (key, value) in tree.entries(node) {
            let key = tree.scalar(key).unwrap_or_default();
            let list = matches!(key, "containerDefinitions" | "ContainerDefinitions");
            match tree.items(value).filter(|_| list) {
                Some(containers) => {
                    any = true;
                    for container in containers {
                        let get = |a, b| tree.get(container, a).or_else(|| tree.get(container, b));
                        if let Some(image) = get("image", "Image") {
                            let place = ImagePlace::new(
                                WrittenReference::Whole(image),
                                Dialect::Tasks,
                                ImageRole::Pulled,
                            );
                            found.add(ImagePlace { container: get("name", "Name"), ..place });
                        }
                    }
                }
                None => stack.push(value),
            }
        }
    }
    any
}

//! What is not there, by the record of the larder or the word of a registry.

use super::alone::again;
use super::{Certain, ContentAccess, Evidence, FoundCause, Visit, found};
use crate::diagnosis::Cause;

/// What is not there, by the word of somebody who may see. None: it is there, or nobody could say.
pub(super) fn gone(e: &Evidence, visit: &Visit) -> Option<FoundCause> {
    let record = e.record.as_ref()?;
    let by = &record.by;
    let image = &e.written;
    let near = |names: &[String], what: &str| match names {
        [] => String::new(),
        names => format!("; {what} {}", names.join(", ")),
    };
    Some(match &record.access {
        ContentAccess::There => return None,
        ContentAccess::NoRepository(names) => found(
            Cause::RepositoryMissing,
            Certain,
            format!("there is no repository for {image} ({by}){}", near(names, "there is")),
        )
        .say("check how the name is written")
        .wanted(e),
        ContentAccess::NoTag(names) => found(
            Cause::TagMissing,
            Certain,
            format!(
                "the repository of {image} is there, but it has no such tag ({by}){}",
                near(names, "it has")
            ),
        )
        .run("see all tags", format!("larder look --tags {image}"))
        .wanted(e),
        ContentAccess::NoDigest => found(
            Cause::DigestMissing,
            Certain,
            format!("the repository of {image} does not have this digest ({by})"),
        )
        .say("name a digest that is there: registries delete what no tag points to")
        .run("see what the tag is now", format!("larder look {image}")),
        ContentAccess::Removed(how) => {
            let answer = found(
                Cause::Removed,
                Certain,
                format!("{image} was here, and is not any more: {how}"),
            )
            .run("see who removed it", "larder log --kind delete");
            again(e, answer)
        }
        ContentAccess::NotBroughtIn => found(
            Cause::NotBroughtIn,
            Certain,
            format!("{image} is locked, and was not brought in yet"),
        )
        .run("bring it in", "larder intake run"),
        ContentAccess::NoShelf(shelves) => found(
            Cause::NoShelf,
            Certain,
            format!("{} has no such shelf{}", visit.host, near(shelves, "the shelves are")),
        )
        .say("write the shelf's name, or declare it with [[shelf]]"),
        ContentAccess::OutsideShelf(why) => found(Cause::OutsideShelf, Certain, why.clone())
            .say("let the [[shelf]] take it in (`only`, `skip`), or bring the image in")
            .wanted(e),
    })
}

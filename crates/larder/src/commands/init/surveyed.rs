//! A configuration from what deployments name.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::PathBuf;

use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::reference::Reference;

use crate::context::{Context, read_reference};
use crate::deployments::{self, NamedImages, Sight};
use crate::failure::{Exit, Failure};
use crate::output::count;

/// What is named of one registry.
#[derive(Default)]
struct Named {
    images: BTreeMap<RepositoryName, ImageTags>,
}

#[derive(Default)]
struct ImageTags {
    tags: BTreeSet<Tag>,
    digests: BTreeSet<String>,
    /// Whether it is named without a tag.
    bare: bool,
}

/// The sections of a configuration for all that files name.
pub(super) fn begin(
    paths: &[PathBuf],
    url: &str,
    cache: bool,
    context: &Context,
) -> Result<String, Failure> {
    let found = deployments::candidates(paths, Sight::default());
    let read = deployments::each_of(&found.files, Sight::default(), |one, scan| {
        Ok(NamedImages::of(&one.shown, scan))
    });
    if deployments::missing(paths) != Exit::Done {
        let cause = "a path of `--survey` is not there";
        return Err(Failure::usage("cannot begin from deployments", cause, "check the paths"));
    }
    let own = url.split("://").last().unwrap_or(url).split('/').next().unwrap_or_default();
    let mut registries: BTreeMap<Host, Named> = BTreeMap::new();
    let mut unread = 0;
    for finding in read.done.iter().flat_map(|file| &file.findings) {
        if !finding.is_certain() || !finding.is_run() {
            continue;
        }
        match read_reference(&finding.text, None) {
            Ok(reading) if reading.reference.host.as_str() == own => {}
            Ok(reading) => {
                let Reference { host, repository, tag, digest } = reading.reference;
                let image =
                    registries.entry(host).or_default().images.entry(repository).or_default();
                image.bare |= tag.is_none() && digest.is_none();
                image.tags.extend(tag.filter(|_| digest.is_none()));
                image.digests.extend(digest.map(|digest| digest.to_string()));
            }
            Err(_) => unread += 1,
        }
    }
    if registries.is_empty() {
        let cause = "no image is named there that comes from elsewhere";
        let remedy = "name the files and folders of deployments";
        return Err(Failure::usage("cannot begin from deployments", cause, remedy).ending(Exit::No));
    }
    let broken = read.broken.len();
    if broken > 0 || unread > 0 {
        context.output.note(format!(
            "note: {} and {} could not be read; `larder survey` says why",
            count(broken, "file"),
            count(unread, "image")
        ));
    }
    Ok(written(&registries, cache))
}

fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}

fn written(registries: &BTreeMap<Host, Named>, cache: bool) -> String {
    let names = names(registries);
    let mut text = String::from("# Where the images of our deployments come from.\n");
    for (host, name) in &names {
        let _ = write!(
            text,
            "[[upstream]]\nname = {}\nhost = {}\n\
             # TO SAY: does it want a login?  credentials = {{ env = \"NAME_SECRET\" }}\n\
             # TO SAY: does it limit pulls?   allowance = {{ pulls = 100, per = \"6h\" }}\n\n",
            quoted(name),
            quoted(host.as_str())
        );
    }
    text.push_str("# What we call images by where they come from. TO SAY: which of them are trusted, and where?\n");
    for (host, name) in &names {
        let class = quoted(name);
        let _ = write!(
            text,
            "[[class]]\nname = {class}\nmatch = [{}]\n\n",
            quoted(&format!("{host}/**"))
        );
    }
    if cache {
        for (host, name) in &names {
            let images = registries[host].images.keys();
            let only: BTreeSet<String> = images
                .map(|name| {
                    name.as_str()
                        .rsplit_once('/')
                        .map_or("*".to_owned(), |(path, _)| format!("{path}/**"))
                })
                .collect();
            let only: Vec<String> = only.iter().map(|text| quoted(text)).collect();
            let _ = write!(
                text,
                "[[shelf]]\nname = {0}\ncaches = {0}\nonly = [{1}]\n\
                 # TO SAY: how much may it take?  limit = \"40 GiB\"\n\n",
                quoted(name),
                only.join(", ")
            );
        }
        return text;
    }
    text.push_str(
        "[[shelf]]\nname = \"vendor\"\n\n# Which images we want, as deployments name them today.\n",
    );
    let mut taken = BTreeSet::new();
    for (host, named) in registries {
        for (repository, image) in &named.images {
            let to = target(&names[host], repository, &mut taken);
            let mut tags: Vec<String> = image.tags.iter().map(|tag| quoted(tag.as_str())).collect();
            tags.extend(image.digests.iter().map(|digest| quoted(digest)));
            if image.bare {
                tags.push(quoted(Tag::latest().as_str()));
                text.push_str("# TO SAY: it is named without a tag; which version is meant?\n");
            }
            let image = quoted(&format!("{host}/{repository}"));
            let _ = write!(
                text,
                "[[intake]]\nimage = {image}\ntags = {{ exact = [{}] }}\nto = {}\n\n",
                tags.join(", "),
                quoted(&to)
            );
        }
    }
    text.push_str("# TO SAY: who pulls, on which platforms?\n# [[cluster]]\n# name = \"…\"\n# platforms = [\"linux/amd64\"]\n");
    text
}

/// A short name for each registry, each once.
fn names(registries: &BTreeMap<Host, Named>) -> BTreeMap<Host, String> {
    let mut names: BTreeMap<Host, String> = BTreeMap::new();
    for host in registries.keys() {
        let parts: Vec<&str> = host.name().split('.').collect();
        // Of registry.example.com it is `example` that tells it from others.
        let short = match parts.len() {
            0 | 1 => host.name(),
            parts_of => parts[parts_of - 2],
        };
        let clean = |text: &str| -> String {
            let keep =
                |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' };
            text.chars().map(keep).collect::<String>().trim_matches('-').to_owned()
        };
        let mut name = clean(short);
        // An address says nothing by its numbers alone.
        if name.is_empty()
            || name.bytes().all(|one| one.is_ascii_digit())
            || names.values().any(|one| *one == name)
        {
            name = format!("r-{}", clean(host.as_str()));
        }
        names.insert(host.clone(), name);
    }
    names
}

/// Where an image goes: by its last part; with its registry and more of its name where that is taken.
fn target(registry: &str, repository: &RepositoryName, taken: &mut BTreeSet<String>) -> String {
    let last = repository.as_str().rsplit('/').next().unwrap_or_default();
    let short = format!("vendor/{last}");
    let to = if taken.contains(&short) { format!("vendor/{registry}/{repository}") } else { short };
    taken.insert(to.clone());
    to
}

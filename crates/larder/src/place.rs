//! Where an image is or goes: a reference, or a layout folder or archive on this machine.
//!
//! A path is told from a reference by how it is written: it starts with `/`, `./` or `../`, or
//! ends with `.tar`. After a `#` stands the name of one of its images.

use std::path::PathBuf;

use larder_core::digest::Digest;
use larder_core::name::Tag;
use larder_core::reference::{Reference, Selector};
use larder_transfer::{Archive, Layout, NewArchive, Own, Remote, Source, Target};

use crate::config::Config;
use crate::context::{open_store, own, read_reference, reference};
use crate::failure::Failure;

/// A place as written.
#[derive(Debug, Clone)]
pub enum Place {
    Registry(Reference),
    /// In a folder, with the image's name there.
    Folder(PathBuf, Option<String>),
    /// In an archive, with the image's name there.
    Archive(PathBuf, Option<String>),
}

/// A place that was opened to read from.
pub struct OpenedSource {
    /// Where the image is.
    pub source: Box<dyn Source>,
    /// What to ask for there.
    pub selector: Selector,
    /// The tag that it has there. None: it has none.
    pub tag: Option<Tag>,
}

impl OpenedSource {
    /// An image in a layout: its name there may be a tag or a whole reference.
    fn named(source: Box<dyn Source>, digest: Digest, name: Option<String>) -> Self {
        let tag = name.and_then(|name| name.rsplit(':').next()?.parse().ok());
        Self { source, selector: Selector::Digest(digest), tag }
    }
}

impl Place {
    /// Reads a place.
    pub fn read(text: &str, config: Option<&Config>) -> Result<Self, Failure> {
        let (path, name) = match text.split_once('#') {
            Some((path, name)) => (path, Some(name.to_owned())),
            None => (text, None),
        };
        let is_tar = std::path::Path::new(path)
            .extension()
            .is_some_and(|end| end.eq_ignore_ascii_case("tar"));
        if is_tar && !path.contains(':') {
            return Ok(Self::Archive(path.into(), name));
        }
        if matches!(path, "." | "..")
            || ["/", "./", "../"].iter().any(|start| path.starts_with(start))
        {
            return Ok(Self::Folder(path.into(), name));
        }
        Ok(Self::Registry(reference(text, config)?))
    }

    /// Whether it is in this larder's own store on this machine.
    fn is_own(reference: &Reference, config: Option<&Config>) -> bool {
        config.is_some_and(|config| {
            config.larder.has_name(&reference.host)
                && (config.new_store || crate::context::has_store(config).unwrap_or(true))
        })
    }

    /// Reads a place that is written to. A registry must be named there: what a short name stands for is good
    /// enough to read from, but nothing is published on a registry that nobody typed.
    pub fn read_target(text: &str, config: Option<&Config>) -> Result<Self, Failure> {
        let place = Self::read(text, config)?;
        let Self::Registry(reference) = &place else { return Ok(place) };
        let what = format!("cannot copy to `{}`", text.escape_debug());
        let path = text.split_once('#').map_or(text, |(path, _)| path);
        let packed = [".tar.gz", ".tgz", ".tar.zst", ".tar.xz", ".tar.bz2"];
        if packed.iter().any(|end| path.to_ascii_lowercase().ends_with(end)) {
            let remedy = format!("write {}.tar, and compress it afterwards", stem(path));
            return Err(Failure::usage(
                what,
                "archives are written uncompressed, as `.tar`",
                remedy,
            ));
        }
        if read_reference(text, config).is_ok_and(|reading| reading.ambiguous) {
            let cause = "it names no registry, and nothing is pushed to one that is not named";
            let shelf = config.filter(|config| {
                let first = text.split(['/', ':', '@']).next().unwrap_or_default();
                config.storing_shelves().iter().any(|shelf| shelf == first)
            });
            let remedy = match shelf {
                Some(config) => {
                    let own = &config.larder.url.host;
                    format!("write {own}/{text} for this larder, or ./{text} for a folder")
                }
                None => format!("write ./{text} for a folder, or {reference} for that registry"),
            };
            return Err(Failure::usage(what, cause, remedy));
        }
        Ok(place)
    }

    /// Opens it to read from.
    pub fn source(&self, config: Option<&Config>) -> Result<OpenedSource, Failure> {
        let what = |path: &PathBuf| format!("cannot read {}", larder_transfer::files::named(path));
        match self {
            Self::Registry(reference) => {
                let repository = reference.repository.clone();
                let source: Box<dyn Source> = match config {
                    Some(config) if Self::is_own(reference, Some(config)) => {
                        Box::new(Own::new(open_store(config)?, repository))
                    }
                    _ => Box::new(Remote::new(registry(reference, config)?, repository)),
                };
                let tag = match reference.selector() {
                    Selector::Tag(tag) => Some(tag),
                    Selector::Digest(_) => reference.tag.clone(),
                };
                Ok(OpenedSource { source, selector: reference.selector(), tag })
            }
            Self::Folder(path, name) => {
                let layout =
                    Layout::open(path).map_err(|error| Failure::transfer(what(path), &error))?;
                let found = layout.find(name.as_deref());
                let (digest, name) =
                    found.map_err(|error| Failure::transfer(what(path), &error.into()))?;
                Ok(OpenedSource::named(Box::new(layout), digest, name))
            }
            Self::Archive(path, name) => {
                let archive =
                    Archive::open(path).map_err(|error| Failure::transfer(what(path), &error))?;
                let found = archive.find(name.as_deref());
                let (digest, name) =
                    found.map_err(|error| Failure::transfer(what(path), &error.into()))?;
                Ok(OpenedSource::named(Box::new(archive), digest, name))
            }
        }
    }

    /// Opens it to write to, with the tag that is to be set there. `from` and the tag that the image
    /// has there give what this place leaves open.
    pub fn target(
        &self,
        from: &Self,
        tag_there: Option<Tag>,
        config: Option<&Config>,
    ) -> Result<(Box<dyn Target>, Option<Tag>), Failure> {
        let what =
            |path: &PathBuf| format!("cannot write to {}", larder_transfer::files::named(path));
        let tag = |name: &Option<String>| -> Result<Option<Tag>, Failure> {
            match name {
                Some(name) => name.parse().map(Some).map_err(|error| {
                    Failure::usage(format!("cannot name an image `{name}`"), error, "")
                }),
                None => Ok(tag_there.clone()),
            }
        };
        match self {
            Self::Registry(reference) => {
                if let Some(digest) = &reference.digest {
                    return Err(Failure::usage(
                        format!("cannot copy to {reference}"),
                        format!(
                            "where something goes is named by a tag, not by the digest {}",
                            digest.short()
                        ),
                        "leave the digest out; it stays the same by itself",
                    ));
                }
                let repository = reference.repository.clone();
                let target: Box<dyn Target> = match config {
                    Some(config) if Self::is_own(reference, Some(config)) => {
                        config.check_shelf(format!("cannot copy to {reference}"), &repository)?;
                        Box::new(own(open_store(config)?, config, repository))
                    }
                    _ => {
                        let remote = Remote::new(registry(reference, config)?, repository);
                        match from {
                            Self::Registry(from) if from.host == reference.host => {
                                Box::new(remote.beside(from.repository.clone()))
                            }
                            _ => Box::new(remote),
                        }
                    }
                };
                // An image that is named by its digest alone is taken by it alone; one that has no
                // name where it is gets the usual one.
                let by_digest = matches!(from, Self::Registry(from) if from.digest.is_some());
                let usual = (!by_digest).then(Tag::latest);
                Ok((target, reference.tag.clone().or(tag_there).or(usual)))
            }
            Self::Folder(path, name) => {
                let tag = tag(name)?;
                let layout =
                    Layout::make(path).map_err(|error| Failure::transfer(what(path), &error))?;
                Ok((Box::new(layout), tag))
            }
            Self::Archive(path, name) => {
                let tag = tag(name)?;
                let archive = NewArchive::make(path)
                    .map_err(|error| Failure::transfer(what(path), &error))?;
                Ok((Box::new(archive), tag))
            }
        }
    }
}

/// A path without the endings of a compressed archive.
fn stem(path: &str) -> &str {
    let name = path.rfind('/').map_or(0, |slash| slash + 1);
    path[name..].find(".t").map_or(path, |dot| &path[..name + dot])
}

fn registry(
    reference: &Reference,
    config: Option<&Config>,
) -> Result<larder_client::Registry, Failure> {
    match config {
        Some(config) => {
            let upstream = config.upstream_for(&reference.host, Some(&reference.repository));
            config.registry_as(&reference.host, upstream)
        }
        None => {
            let host = &reference.host;
            let wrong = |error: &dyn std::fmt::Display| {
                Failure::usage(format!("cannot reach {host}"), error, "")
            };
            let endpoint = larder_client::Endpoint::of_host(host).map_err(|error| wrong(&error))?;
            larder_client::Registry::new(larder_client::Options::new(host.as_str(), endpoint))
                .map_err(|error| wrong(&error))
        }
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Registry(reference) => write!(f, "{reference}"),
            Self::Folder(path, None) | Self::Archive(path, None) => {
                write!(f, "{}", larder_transfer::files::named(path))
            }
            Self::Folder(path, Some(name)) | Self::Archive(path, Some(name)) => {
                write!(f, "{}#{name}", larder_transfer::files::named(path))
            }
        }
    }
}

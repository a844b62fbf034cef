//! The stand-in registry with the image of a layout folder, for measurements: it sends blobs from memory, so that
//! as little as can be of what is measured is the other end's.
//!
//! Usage: held_in_memory LAYOUT NAME:TAG      prints the address at which it listens, until SIGTERM
#![allow(clippy::print_stdout, clippy::print_stderr)]

use std::error::Error;
use std::path::Path;

use larder_core::digest::Digest;
use larder_core::document::{Document, media_type};
use larder_standin::{SampleImage, SampleLayer, Upstream, UpstreamPlan};
use tokio::signal::unix::{SignalKind, signal};

/// A blob of the layout under its digest.
fn read(layout: &Path, digest: &Digest) -> Result<Vec<u8>, Box<dyn Error>> {
    Ok(std::fs::read(layout.join("blobs/sha256").join(digest.hex()))?)
}

/// The one image of a layout.
fn image(layout: &Path) -> Result<SampleImage, Box<dyn Error>> {
    let index =
        Document::read(std::fs::read(layout.join("index.json"))?.into(), Some(media_type::INDEX))?;
    let digest = index.children().first().ok_or("the layout has no image")?.digest.clone();
    let document = read(layout, &digest)?.into();
    let document = Document::read(document, Some(media_type::MANIFEST))?;
    let blobs = document.blobs().map(|blob| {
        let bytes = read(layout, &blob.digest)?.into();
        Ok(SampleLayer { digest: blob.digest.clone(), bytes })
    });
    let blobs = blobs.collect::<Result<_, Box<dyn Error>>>()?;
    Ok(SampleImage { blobs, documents: vec![(digest, document)] })
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [layout, name] = arguments.as_slice() else {
        eprintln!("usage: held_in_memory LAYOUT NAME:TAG");
        std::process::exit(2);
    };
    let (repository, tag) = name.rsplit_once(':').ok_or("the name lacks a tag")?;
    let folder = tempfile::tempdir()?;
    let plan = UpstreamPlan { from_memory: true, ..UpstreamPlan::default() };
    let upstream = Upstream::start(folder.path(), plan).await?;
    upstream.hold(&repository.parse()?, &tag.parse()?, &image(Path::new(layout))?).await?;
    println!("{}", upstream.endpoint());
    signal(SignalKind::terminate())?.recv().await;
    Ok(())
}

//! `larder parcel show`: what is in a parcel, and what of it a receipt does not have.

use std::path::PathBuf;

use larder_core::digest::Digest;
use larder_core::parcel::{Contents, ParcelFeed, ParcelImage, Receipt};
use larder_transfer::parcel::{Parcel, read_receipt};
use schemars::JsonSchema;
use serde::Serialize;

use super::ParcelArgs;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GOOD, Output, Report, Table, WARN, bytes, count, paint, short, since};

/// Show what is in a parcel
///
/// Only its signed contents are read; `larder parcel verify` checks every byte.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    named: ParcelArgs,
    /// Compare it with this receipt
    #[arg(long, value_name = "RECEIPT")]
    against: Option<PathBuf>,
}

#[derive(Serialize, JsonSchema)]
pub struct ParcelReport {
    made_by: String,
    made_at: String,
    signed_by: String,
    size_bytes: u64,
    blobs: usize,
    left_out: usize,
    volumes: Vec<String>,
    images: Vec<ParcelLine>,
    /// Advisories that come along.
    feeds: Vec<FeedLine>,
    against: Option<AgainstReceipt>,
}

#[derive(Serialize, JsonSchema)]
struct ParcelLine {
    name: String,
    image: String,
    #[schemars(with = "String")]
    digest: Digest,
    companions: usize,
    /// What it is to the receipt's larder. None: no receipt was named.
    state: Option<&'static str>,
}

/// Advisories of a parcel.
#[derive(Serialize, JsonSchema)]
struct FeedLine {
    name: String,
    /// When they were taken in where the parcel was made.
    taken_in_at: String,
    origin: String,
    /// Whether what their statements hide counts as hidden there.
    own: bool,
}

/// The parcel as the receipt's larder sees it.
#[derive(Serialize, JsonSchema)]
struct AgainstReceipt {
    larder: String,
    made_at: String,
    /// Blobs that come along and that it does not have.
    new_blobs: usize,
    new_bytes: u64,
    /// Blobs that are left out although it does not have them.
    lacking: usize,
}

pub fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let trust = args.named.trust(config.as_ref())?;
    let what = || format!("cannot show the parcel {}", args.named.shown());
    let parcel =
        Parcel::open(&args.named.paths, &trust).map_err(|error| Failure::parcel(what(), &error))?;
    let contents = &parcel.contents;
    let receipt = match &args.against {
        Some(path) => {
            Some(read_receipt(path, &trust).map_err(|error| Failure::parcel(what(), &error))?.0)
        }
        None => None,
    };
    let report = ParcelReport {
        made_by: contents.made_by.clone(),
        made_at: contents.made_at.clone(),
        signed_by: parcel.signed_by.clone(),
        size_bytes: contents.total(),
        blobs: contents.blobs.len(),
        left_out: contents.held.len(),
        volumes: contents.volumes.iter().map(|volume| volume.name.clone()).collect(),
        images: contents.images.iter().map(|image| line(image, receipt.as_ref())).collect(),
        feeds: contents.feeds.iter().map(feed_line).collect(),
        against: receipt.as_ref().map(|receipt| against(contents, receipt)),
    };
    context.output.tell(&report);
    Ok(Exit::Done)
}

fn feed_line(feed: &ParcelFeed) -> FeedLine {
    FeedLine {
        name: feed.name.clone(),
        taken_in_at: feed.taken_in_at.clone(),
        origin: feed.origin.clone(),
        own: feed.own,
    }
}

fn line(image: &ParcelImage, receipt: Option<&Receipt>) -> ParcelLine {
    ParcelLine {
        name: format!("{}:{}", image.to, image.tag),
        image: image.image.to_string(),
        digest: image.digest.clone(),
        companions: image.companions.len(),
        state: receipt.map(|receipt| state(receipt, image)),
    }
}

fn state(receipt: &Receipt, image: &ParcelImage) -> &'static str {
    match receipt.digest(&image.to, &image.tag) {
        None => "new",
        Some(digest) if *digest == image.digest => "same",
        Some(_) => "other",
    }
}

fn against(contents: &Contents, receipt: &Receipt) -> AgainstReceipt {
    let new: Vec<u64> = contents
        .blobs
        .iter()
        .filter(|blob| !receipt.blobs.contains(&blob.digest))
        .map(|blob| blob.size)
        .collect();
    AgainstReceipt {
        larder: receipt.made_by.clone(),
        made_at: receipt.made_at.clone(),
        new_blobs: new.len(),
        new_bytes: new.iter().sum(),
        lacking: contents.held.iter().filter(|held| !receipt.blobs.contains(held)).count(),
    }
}

impl Report for ParcelReport {
    const KIND: &'static str = "parcel";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &ParcelReport, out: &Output) {
    let mut table =
        Table::new(out.width(), &["IMAGE", "FROM", "DIGEST", "COMPANIONS", "AT THE FAR SIDE"])
            .sparing(&["COMPANIONS", "DIGEST", "FROM"]);
    for line in &report.images {
        let state = match line.state {
            Some("new") => paint(WARN, "new there"),
            Some("other") => paint(WARN, "another digest there"),
            Some(_) => paint(GOOD, "there already"),
            None => String::new(),
        };
        let companions = match line.companions {
            0 => paint(DIM, "—"),
            number => number.to_string(),
        };
        let digest = short(&line.digest).to_owned();
        table.row([line.name.clone(), line.image.clone(), digest, companions, state]);
    }
    out.table(&table);
    let left_out = match report.left_out {
        0 => String::new(),
        number => format!(", {} left out", count(number, "blob")),
    };
    out.result(format!(
        "{}, {}{left_out}, {} in {}; made by {} {}, signed by {}",
        count(report.images.len(), "image"),
        count(report.blobs, "blob"),
        bytes(report.size_bytes),
        count(report.volumes.len(), "volume"),
        report.made_by,
        since(&report.made_at, now()),
        report.signed_by
    ));
    for feed in &report.feeds {
        let own = if feed.own { ", our own" } else { "" };
        out.result(format!("advisories of {}{own}, as of {}", feed.name, feed.taken_in_at));
    }
    if let Some(against) = &report.against {
        let lacking = match against.new_blobs {
            0 => "all of it".to_owned(),
            new => format!("all but {} of it ({})", count(new, "blob"), bytes(against.new_bytes)),
        };
        out.result(format!(
            "{} had {lacking}, by its receipt of {}",
            against.larder,
            since(&against.made_at, now())
        ));
        if against.lacking > 0 {
            let lacking = count(against.lacking, "blob");
            out.result(paint(WARN, format!("{lacking} that the parcel leaves out are not there")));
        }
    }
}

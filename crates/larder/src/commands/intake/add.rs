//! `larder intake add`: write wanted images into `larder.toml`, and leave the rest of it alone.

use std::collections::HashMap;

use larder_core::lock::Want;
use larder_core::name::Tag;
use larder_core::platform::Platform;
use larder_core::reference::Image;
use larder_transfer::files::with_stdin;
use schemars::JsonSchema;
use serde::Serialize;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value, value};

use super::charts::{self, ChartImages};
use super::edit::EditedFile;
use crate::config::{Config, Destination};
use crate::context::{Context, reference, shown};
use crate::failure::{Exit, Failure, Outcome};
use crate::images::{Ends, NamedImages};
use crate::output::{Output, Report, WARN, paint};

/// Want images: write them into larder.toml
///
/// Comments and order of the file stay.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  larder intake add bazaar.example/library/kettle:2 --platform linux/amd64\n  \
    larder intake add charts.ventworks.example/boiler:1.2.0 --with-images"
)]
pub struct Args {
    /// The images, each with its tag or digest; `-` reads them from stdin, one a line
    #[arg(required = true)]
    references: Vec<String>,
    /// Where in the larder it goes, shelf first [default: the shelf where others are brought in, and the image's last part]
    #[arg(long, value_name = "SHELF/NAME")]
    to: Option<String>,
    /// Only for this platform (again for more) [default: all]
    #[arg(long, value_name = "OS/ARCH")]
    platform: Vec<Platform>,
    /// Want all tags of all repositories that match, as in HOST/PATH/**: the registry is asked which there are
    #[arg(long, conflicts_with = "to")]
    all: bool,
    /// The references are charts: want the images too that their values and templates name. `--platform` is for these
    #[arg(long, conflicts_with = "all")]
    with_images: bool,
    /// Say what would be written, and write nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, JsonSchema)]
struct AddedWish {
    #[schemars(with = "String")]
    image: Image,
    /// null: all tags.
    #[schemars(with = "Option<String>")]
    tag: Option<Tag>,
    to: String,
    /// Whether it was wanted already.
    known: bool,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let what = || format!("cannot add to {}", shown(&config.path));
    let mut file = EditedFile::read(&config.path)?;
    let references = with_stdin(&args.references);
    let references =
        references.map_err(|error| Failure::io("cannot read the references from stdin", &error))?;
    let (mut added, mut failed) = (Vec::new(), Vec::new());
    let (shelf, mut places) = (usual_shelf(&config), HashMap::new());
    let ends = Ends::new(&config, None)?;
    for text in references.iter().filter(|_| args.all) {
        let named = NamedImages::read(text, &config, "cannot add")?;
        let repositories = ends.repositories(&named).await?;
        if repositories.is_empty() {
            let failure = Failure::usage(
                format!("cannot add {text}"),
                "no repository there matches",
                "`larder find` shows what there is",
            );
            failed.push((text.clone(), failure.ending(Exit::No)));
        }
        for repository in repositories {
            let image = Image { host: named.host.clone(), repository };
            let wish = add_all(image, args, &config, &mut file.document);
            match wish {
                Ok(wish) => added.push(wish),
                Err(failure) => failed.push((text.clone(), failure)),
            }
        }
    }
    for text in references.iter().filter(|_| !args.all) {
        let platforms = if args.with_images { &[][..] } else { &args.platform };
        let to = args.to.as_deref().map_or(WishedPlace::Shelf(&shelf), WishedPlace::Repository);
        match add(text, to, platforms, &config, &mut file.document) {
            Ok(wish) => {
                places.insert(text, wish.to.clone());
                added.push(wish);
            }
            Err(failure) => failed.push((text.clone(), failure)),
        }
    }
    // One that is wrong is an error of the call; of many, the others are done.
    if let ([_], 1) = (failed.as_slice(), references.len())
        && let Some((_, failure)) = failed.pop()
    {
        return Err(failure);
    }
    if let (Some(_), 2..) = (
        &args.to,
        added.iter().map(|one| &one.image).collect::<std::collections::BTreeSet<_>>().len(),
    ) {
        return Err(Failure::usage(
            what(),
            "`--to` names one place, and these are several images",
            "add them one by one",
        ));
    }
    let mut charts = Vec::new();
    for text in references.iter().filter(|_| args.with_images) {
        let named = charts::named_by(text, &config).await?;
        // They lie on the chart's shelf.
        let beside = places.get(text).and_then(|to| to.parse::<Destination>().ok());
        let beside = beside.filter(|to| to.host.is_none());
        let beside = beside.map(|to| to.repository.first_component().to_owned());
        let to = WishedPlace::Shelf(beside.as_deref().unwrap_or(&shelf));
        for image in &named.images {
            match add(image, to, &args.platform, &config, &mut file.document) {
                Ok(wish) => added.push(wish),
                Err(failure) => failed.push((image.clone(), failure)),
            }
        }
        charts.push(named);
    }
    if !args.dry_run {
        file.write(&config)?;
    }
    let refused = failed.iter().map(|(reference, failure)| RefusedWish {
        reference: reference.clone(),
        cause: failure.cause.clone(),
    });
    let refused = refused.collect();
    context.output.tell(&AddReport { dry_run: args.dry_run, images: added, charts, refused });
    for (_, failure) in &failed {
        context.output.failure(failure);
    }
    Ok(failed.iter().map(|(_, failure)| failure.exit).max().unwrap_or(Exit::Done))
}

/// What could not be wanted.
#[derive(Serialize, JsonSchema)]
struct RefusedWish {
    /// As it was given.
    reference: String,
    cause: String,
}

#[derive(Serialize, JsonSchema)]
pub struct AddReport {
    /// Whether nothing was written.
    dry_run: bool,
    images: Vec<AddedWish>,
    /// What the charts name, with `--with-images`.
    charts: Vec<ChartImages>,
    /// What could not be wanted; all others were written.
    refused: Vec<RefusedWish>,
}

impl Report for AddReport {
    const KIND: &'static str = "intake-add";

    fn show(&self, out: &Output) {
        for AddedWish { image, tag, to, known } in &self.images {
            let verb = match (known, self.dry_run) {
                (true, _) => "wanted already",
                (false, true) => "would be wanted",
                (false, false) => "wanted",
            };
            let want = match tag {
                Some(tag) => Want { image: image.clone(), tag: tag.clone() }.to_string(),
                None => format!("{image}, all tags"),
            };
            out.result(format!("{verb}: {want}, to {to}"));
        }
        for ChartImages { images, own, unsure, .. } in &self.charts {
            for image in own {
                out.result(format!("from here already: {image}"));
            }
            if images.is_empty() && own.is_empty() {
                out.note("the chart names no image that can be told without running it");
            }
            for one in unsure {
                out.result(format!("{} {}", paint(WARN, "not told:"), one.line()));
            }
            if !unsure.is_empty() {
                out.note("Run the chart with your values and give the result to `larder survey --missing -`: it finds the rest.");
            }
        }
        if !self.images.is_empty() {
            out.note("Next: `larder intake lock` resolves the tags to digests.");
        }
    }
}

/// Where a new wish is to lie.
#[derive(Clone, Copy)]
enum WishedPlace<'p> {
    Repository(&'p str),
    /// Somewhere on this shelf.
    Shelf(&'p str),
}

fn add(
    text: &str,
    to: WishedPlace<'_>,
    platforms: &[Platform],
    config: &Config,
    document: &mut DocumentMut,
) -> Result<AddedWish, Failure> {
    // Long: one wish after the other, and what each would be written as.
    let what = || format!("cannot add {text}");
    let reference = reference(text, Some(config))?;
    // By its digest it is the same image whatever tag stands beside it.
    let (tag, written) = match (&reference.digest, &reference.tag) {
        (Some(digest), _) => {
            let tag = Tag::of_digest(digest).ok_or_else(|| {
                let cause = format!("only sha256 digests can be wanted, not {digest}");
                Failure::usage(what(), cause, "name its tag; the lock keeps the digest")
            })?;
            (tag, digest.to_string())
        }
        (None, Some(tag)) => (tag.clone(), tag.to_string()),
        (None, None) => {
            let remedy = format!("write {text}:TAG; `larder look --tags {text}` lists them");
            return Err(Failure::usage(what(), "it names no tag", remedy));
        }
    };
    let image = reference.image();
    if config.larder.has_name(&image.host) {
        return Err(Failure::usage(
            what(),
            "it names this larder itself",
            "name the upstream's image",
        ));
    }
    let entries =
        document.entry("intake").or_insert(Item::ArrayOfTables(toml_edit::ArrayOfTables::new()));
    let Some(entries) = entries.as_array_of_tables_mut() else {
        return Err(Failure::usage(
            what(),
            "`intake` is not written as [[intake]] tables there",
            "add it by hand",
        ));
    };
    let named = image.to_string();
    if let Some(entry) =
        entries.iter_mut().find(|entry| entry.get("image").and_then(Item::as_str) == Some(&named))
    {
        let to = entry.get("to").and_then(Item::as_str).unwrap_or_default().to_owned();
        let Some(list) = entry
            .get_mut("tags")
            .and_then(|tags| tags.get_mut("exact"))
            .and_then(Item::as_array_mut)
        else {
            let remedy = "see whether that pattern takes the tag, or change it by hand";
            return Err(Failure::usage(
                what(),
                format!("{named} is wanted by a pattern of tags"),
                remedy,
            ));
        };
        let known = list.iter().any(|known| known.as_str() == Some(written.as_str()));
        if !known {
            list.push(written.as_str());
        }
        return Ok(AddedWish { image, tag: Some(tag), to, known });
    }
    if config.intake.iter().any(|intake| *intake.image.get_ref() == image) {
        return Err(Failure::usage(
            what(),
            format!("{named} is wanted in an included file"),
            "change it there",
        ));
    }
    let taken = entries.iter().filter_map(|entry| entry.get("to")?.as_str().map(str::to_owned));
    let taken: Vec<String> = taken.collect();
    let to = match to {
        WishedPlace::Repository(to) => to.to_owned(),
        WishedPlace::Shelf(shelf) => default_target(&image, shelf, config, &taken),
    };
    let tags = ("exact", Value::Array([written.as_str()].into_iter().collect()));
    entries.push(entry(&image, tags, platforms, &to));
    Ok(AddedWish { image, tag: Some(tag), to, known: false })
}

/// A new entry.
fn entry(image: &Image, (rule, tags): (&str, Value), platforms: &[Platform], to: &str) -> Table {
    let mut entry = Table::new();
    entry["image"] = value(image.to_string());
    let mut table = InlineTable::new();
    table.insert(rule, tags);
    entry["tags"] = value(table);
    if !platforms.is_empty() {
        entry["platforms"] = value(platforms.iter().map(ToString::to_string).collect::<Array>());
    }
    entry["to"] = value(to);
    entry
}

/// Wants all tags of an image.
fn add_all(
    image: Image,
    args: &Args,
    config: &Config,
    document: &mut DocumentMut,
) -> Result<AddedWish, Failure> {
    let what = || format!("cannot add {image}");
    if config.larder.has_name(&image.host) {
        let remedy = "name the upstream's images";
        return Err(Failure::usage(what(), "it names this larder itself", remedy));
    }
    if let Some(known) = config.intake_of(&image) {
        let to = known.to.get_ref().to_string();
        return Ok(AddedWish { image, tag: None, to, known: true });
    }
    let entries =
        document.entry("intake").or_insert(Item::ArrayOfTables(toml_edit::ArrayOfTables::new()));
    let Some(entries) = entries.as_array_of_tables_mut() else {
        let cause = "`intake` is not written as [[intake]] tables there";
        return Err(Failure::usage(what(), cause, "add it by hand"));
    };
    // With its whole name: many repositories may end alike.
    let to = format!("{}/{}", usual_shelf(config), image.repository);
    entries.push(entry(&image, ("match", Value::from("*")), &args.platform, &to));
    Ok(AddedWish { image, tag: None, to, known: false })
}

/// The shelf where images are brought in already, else the first that stores.
fn usual_shelf(config: &Config) -> String {
    let own = |to: &Image| to.host == config.larder.url.host;
    let brought = config.intake.iter().map(|intake| config.destination(intake)).find(own);
    let brought = brought.map(|to| to.repository.first_component().to_owned());
    let storing = || config.shelves.iter().find(|shelf| shelf.caching.is_none());
    let declared = || storing().map(|shelf| shelf.name.get_ref().to_string());
    brought.or_else(declared).unwrap_or_else(|| "vendor".to_owned())
}

/// A shelf and the image's last part; with more of its name where that is taken. `written`: what is taken by entries
/// that are not read yet.
fn default_target(image: &Image, shelf: &str, config: &Config, written: &[String]) -> String {
    let taken = |to: &String| {
        let read = config.intake.iter().any(|intake| intake.to.get_ref().to_string() == *to);
        read || written.contains(to)
    };
    let name = image.repository.as_str();
    let last = name.rsplit('/').next().unwrap_or(name);
    let whole = format!("{shelf}/{name}");
    let short = Some(format!("{shelf}/{last}")).filter(|to| !taken(to));
    let long = || Some(whole.clone()).filter(|to| !taken(to));
    let host = || {
        // A host is a part of a repository's name once its port's colon is none.
        let host = image.host.to_string().to_ascii_lowercase().replace([':', '[', ']'], "-");
        format!("{shelf}/{}/{name}", host.trim_matches('-'))
    };
    short.or_else(long).unwrap_or_else(host)
}

//! `larder inventory`: the packages of an image, with the layer that brought each.

pub mod changes;
pub mod fill;
pub mod sbom;

use std::collections::BTreeMap;

use larder_core::digest::Digest;
use larder_core::inventory::{ImageInventory, ImagePackage, OsRelease};
use larder_core::platform::Platform;
use larder_core::sbom::{SbomForm, differences};
use larder_core::shown::cut;
use larder_transfer::files::with_stdin;
use larder_transfer::inventory::{FoundSbom, ReadImage};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::inventory::{NamedInventory, kind, kinds, read, remark};
use crate::output::{DIM, Output, Report, STRONG, Table, WARN, bytes, count, paint, short};

/// Say which packages are in an image, and which layer brought each; with two, what differs
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "A reference, a layout folder (`./folder#name`) or an archive (`file.tar#name`).\n\
    Each layer is read once; what is known of layers that the larder holds is kept.\n\
    With two, exit status 1 says that their packages differ."
)]
pub struct Args {
    /// What to look into; `-` reads it from stdin
    #[arg(required_unless_present = "fill")]
    reference: Option<String>,
    /// What to compare it with
    other: Option<String>,
    /// The platform [default: the clusters' first, else the image's first]
    #[arg(long, value_name = "OS/ARCH")]
    platform: Option<Platform>,
    /// Order by kind and name, by layer, or by name alone
    #[arg(long, value_name = "ORDER", value_enum, default_value_t)]
    by: Order,
    /// With what later layers removed or replaced
    #[arg(long, conflicts_with = "other")]
    removed: bool,
    /// Write a bill of materials instead: spdx (2.3) or cyclonedx (1.6), as JSON
    #[arg(long, value_name = "FORM", conflicts_with_all = ["other", "fill"], hide_possible_values = true)]
    sbom: Option<sbom::Form>,
    /// Put the bill of materials beside the image, as a companion
    #[arg(long, requires = "sbom")]
    attach: bool,
    /// Read all layers that the larder holds and that were not read yet
    #[arg(long, conflicts_with_all = ["reference", "other", "platform", "removed"])]
    fill: bool,
}

/// In which order packages are listed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Order {
    #[default]
    Kind,
    Layer,
    Name,
}

/// What is in an image.
#[derive(Serialize, JsonSchema)]
pub struct InventoryReport {
    reference: String,
    /// Of the platform's manifest.
    #[schemars(with = "String")]
    digest: Digest,
    /// null: its configuration does not say.
    #[schemars(with = "Option<String>")]
    platform: Option<Platform>,
    /// The system that it is made of. null: nothing in it says so.
    system: Option<SystemRow>,
    /// The lowest first.
    layers: Vec<LayerRow>,
    packages: Vec<PackageRow>,
    /// What was not read: nothing may be taken to be absent because it is not listed.
    not_read: Vec<UnreadRow>,
    /// Bills of materials that came with it, beside our own reading.
    sboms: Vec<SbomRow>,
    /// Layers that were read just now; of the others it was known.
    layers_read: usize,
    #[serde(skip)]
    order: Order,
    #[serde(skip)]
    removed: bool,
    #[serde(skip)]
    kinds: Vec<(&'static str, usize)>,
}

#[derive(Serialize, JsonSchema)]
struct SystemRow {
    id: String,
    /// null: it has no number, as what is not released yet.
    version: Option<String>,
    name: String,
}

#[derive(Serialize, JsonSchema)]
struct LayerRow {
    /// Counted from 1.
    number: usize,
    #[schemars(with = "String")]
    digest: Digest,
    size_bytes: u64,
    /// The build step that made it. null: not said.
    command: Option<String>,
    /// Packages that it brought and that are still there.
    packages: usize,
}

#[derive(Serialize, JsonSchema)]
pub(super) struct PackageRow {
    /// `deb`, `rpm`, `apk`, `npm`, `go`, `rust`, `python`, `java`, `ruby`.
    kind: &'static str,
    name: String,
    version: String,
    /// null: not said.
    architecture: Option<String>,
    /// What it was built from, which advisories name.
    source_name: String,
    source_version: String,
    /// Its package URL.
    purl: String,
    /// What says that it is there.
    path: String,
    /// The layer that brought it, counted from 1.
    layer: usize,
    /// The layer that removed or replaced it. null: it is there.
    removed_in: Option<usize>,
    /// The version that took its place. null: it is there, or nothing did.
    replaced_by: Option<String>,
    /// The system's package that it belongs to. null: to none.
    part_of: Option<String>,
    /// Whether it is another than the one that this package brought.
    altered: bool,
    /// The package that carries it inside of itself. null: none.
    inside: Option<String>,
    /// Whether its name or version is guessed; no advisory is matched with it.
    guessed: bool,
    #[serde(skip)]
    remark: String,
}

#[derive(Serialize, JsonSchema)]
struct SbomRow {
    /// Of the companion, or of the record of its building.
    #[schemars(with = "String")]
    digest: Digest,
    /// `spdx`, `cyclonedx`. null: it cannot be read.
    form: Option<&'static str>,
    /// What made it. null: it does not say.
    made_by: Option<String>,
    /// Packages that it lists.
    packages: usize,
    /// Entries of it that have no package URL, with which nothing is compared.
    unnamed: usize,
    /// Where it and our own reading are not the same.
    differences: Vec<SbomDifferenceRow>,
    /// Why it cannot be read. null: it can.
    cause: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct SbomDifferenceRow {
    /// As in package URLs.
    kind: String,
    name: String,
    /// Versions that it lists and that we did not find.
    listed: Vec<String>,
    /// Versions that we found and that it does not list.
    found: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct UnreadRow {
    /// Counted from 1.
    layer: usize,
    /// null: the layer itself, or a part of it.
    path: Option<String>,
    cause: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    if args.fill {
        return fill::run(context).await;
    }
    let given: Vec<String> = args.reference.iter().chain(&args.other).cloned().collect();
    let what = "cannot read the reference from stdin";
    let mut all = with_stdin(&given).map_err(|error| Failure::io(what, &error))?;
    for text in &mut all {
        *text = with_whole_digest(text, config.as_ref()).await?.into_owned();
    }
    let platform = args.platform.as_ref();
    match all.as_slice() {
        [reference] => {
            let named = read(reference, platform, config.as_ref(), context).await?;
            if let Some(form) = args.sbom {
                return match args.attach {
                    true => sbom::attach(form, &named, config.as_ref(), context).await,
                    false => Ok(sbom::write(form, &named, context)),
                };
            }
            context.output.tell(&InventoryReport::of(&named, args));
            Ok(Exit::Done)
        }
        [reference, other] if args.sbom.is_none() => {
            let before = read(reference, platform, config.as_ref(), context).await?;
            let after = read(other, platform, config.as_ref(), context).await?;
            Ok(changes::tell(&before, &after, context))
        }
        all => {
            let cause = format!("it names {}", count(all.len(), "reference"));
            Err(Failure::usage(what, cause, "name one, or two to compare"))
        }
    }
}

impl PackageRow {
    pub(super) fn of(one: &ImagePackage, release: Option<&OsRelease>) -> Self {
        let package = &one.package;
        let architecture = Some(package.architecture.clone());
        let owner = one.owner.as_ref();
        Self {
            kind: kind(package.ecosystem),
            name: package.name.clone(),
            version: package.version.clone(),
            architecture: architecture.filter(|architecture| !architecture.is_empty()),
            source_name: package.source_name().to_owned(),
            source_version: package.source_version().to_owned(),
            purl: package.url(release).to_string(),
            path: one.path.clone(),
            layer: one.layer + 1,
            removed_in: one.removed.as_ref().map(|removal| removal.layer + 1),
            replaced_by: one.removed.as_ref().and_then(|removal| removal.replaced_by.clone()),
            part_of: owner.map(|owner| owner.name.clone()),
            altered: owner.is_some_and(|owner| owner.is_altered),
            inside: one.inside.clone(),
            guessed: package.standing == larder_core::inventory::PackageStanding::Guessed,
            remark: remark(one),
        }
    }

    fn is_there(&self) -> bool {
        self.removed_in.is_none()
    }

    fn end(&self) -> String {
        match (self.removed_in, &self.replaced_by) {
            (None, _) => String::new(),
            (Some(layer), None) => format!("removed by layer {layer}"),
            (Some(layer), Some(by)) => format!("replaced by {by} in layer {layer}"),
        }
    }
}

impl SbomRow {
    fn of(found: &FoundSbom, inventory: &ImageInventory) -> Self {
        let digest = found.digest.clone();
        let sbom = match &found.sbom {
            Ok(sbom) => sbom,
            Err(cause) => {
                let cause = Some(cause.clone());
                let (packages, unnamed, differences) = (0, 0, Vec::new());
                let (form, made_by) = (None, None);
                return Self { digest, form, made_by, packages, unnamed, differences, cause };
            }
        };
        let differences = differences(sbom, inventory).into_iter().map(|one| SbomDifferenceRow {
            kind: one.kind,
            name: one.name,
            listed: one.listed,
            found: one.found,
        });
        Self {
            digest,
            form: Some(match sbom.form {
                SbomForm::Spdx => "spdx",
                SbomForm::CycloneDx => "cyclonedx",
            }),
            made_by: Some(cut(&sbom.made_by, 200)).filter(|made_by| !made_by.is_empty()),
            packages: sbom.packages.len(),
            unnamed: sbom.unnamed,
            differences: differences.collect(),
            cause: None,
        }
    }

    fn show(&self, out: &Output) {
        let digest = short(&self.digest);
        if let Some(cause) = &self.cause {
            return out.result(format!("  sbom      {digest} cannot be read: {cause}"));
        }
        let form = self.form.unwrap_or_default();
        let by = self.made_by.as_deref().map_or(String::new(), |by| format!(" by {by}"));
        let differ = match self.differences.len() {
            0 => "the same as we read".to_owned(),
            number => format!("{} from what we read", count(number, "difference")),
        };
        let packages = count(self.packages, "package");
        out.result(format!("  sbom      {form}{by} ({digest}): {packages}, {differ}"));
    }

    /// What it has that we have not read, and the other way round.
    fn show_differences(&self, out: &Output) {
        if self.differences.is_empty() {
            return;
        }
        out.result(format!("\n{}", paint(STRONG, format!("sbom {}", short(&self.digest)))));
        let columns = ["KIND", "NAME", "IT LISTS", "WE READ"];
        let mut table = Table::new(out.width(), &columns);
        for one in &self.differences {
            let versions = |all: &[String]| match all {
                [] => "-".to_owned(),
                all => all.join(" "),
            };
            let (listed, found) = (versions(&one.listed), versions(&one.found));
            table.row([one.kind.clone(), one.name.clone(), listed, found]);
        }
        out.table(&table);
    }
}

impl InventoryReport {
    fn of(named: &NamedInventory, args: &Args) -> Self {
        let NamedInventory { reference, read, .. } = named;
        let ReadImage { inventory, layers, .. } = read;
        let release = inventory.release.as_ref();
        let mut brought: BTreeMap<usize, usize> = BTreeMap::new();
        for one in inventory.packages.iter().filter(|one| one.removed.is_none()) {
            *brought.entry(one.layer).or_default() += 1;
        }
        let layers = layers.iter().enumerate().map(|(index, layer)| LayerRow {
            number: index + 1,
            digest: layer.digest.clone(),
            size_bytes: layer.size_bytes,
            command: layer.step.clone(),
            packages: brought.get(&index).copied().unwrap_or(0),
        });
        Self {
            reference: reference.clone(),
            digest: read.digest.clone(),
            platform: read.platform.clone(),
            system: release.map(|release| SystemRow {
                id: release.id.clone(),
                version: release.version_id.clone(),
                name: release.shown(),
            }),
            layers: layers.collect(),
            packages: inventory.packages.iter().map(|one| PackageRow::of(one, release)).collect(),
            not_read: unread(inventory),
            sboms: named.sboms.iter().map(|found| SbomRow::of(found, inventory)).collect(),
            layers_read: read.read,
            order: args.by,
            removed: args.removed,
            kinds: kinds(inventory).into_iter().map(|(one, count)| (kind(one), count)).collect(),
        }
    }

    fn by_layer(&self, out: &Output) {
        for layer in &self.layers {
            let of_it = |row: &&PackageRow| row.layer == layer.number && row.is_there();
            let gone = |row: &&PackageRow| row.removed_in == Some(layer.number);
            let rows: Vec<&PackageRow> = self.packages.iter().filter(of_it).collect();
            let removed: Vec<&PackageRow> = self.packages.iter().filter(gone).collect();
            let step = layer.command.as_deref().map_or("(no step is known)".to_owned(), step);
            let size = bytes(layer.size_bytes);
            let head = format!("layer {}  {}  {size}", layer.number, short(&layer.digest));
            out.result(format!("\n{}\n  {}", paint(STRONG, head), paint(DIM, step)));
            if rows.is_empty() && removed.is_empty() {
                out.result("  no package came or went");
            }
            if !rows.is_empty() {
                let mut table = Table::new(out.width(), &["  KIND", "NAME", "VERSION", "PATH"])
                    .sparing(&["PATH"]);
                for row in rows {
                    let kind = format!("  {}", row.kind);
                    table.row([kind, row.name.clone(), row.version.clone(), row.path.clone()]);
                }
                out.table(&table);
            }
            for row in removed {
                let by = row.replaced_by.as_ref().map_or_else(
                    || "removed".to_owned(),
                    |version| format!("replaced by {version}"),
                );
                let (kind, name, version) = (row.kind, &row.name, &row.version);
                out.result(format!("  {kind} {name} {version} of layer {}: {by}", row.layer));
            }
        }
    }
}

/// What was not read, for people and programs.
fn unread(inventory: &ImageInventory) -> Vec<UnreadRow> {
    let row = |(layer, one): &(usize, larder_core::inventory::Unread)| UnreadRow {
        layer: layer + 1,
        path: Some(one.path.clone()).filter(|path| !path.is_empty()),
        cause: one.why.clone(),
    };
    inventory.unread.iter().map(row).collect()
}

/// A build step on a line, without what a builder puts before each.
pub fn step(command: &str) -> String {
    let command = command.split_whitespace().collect::<Vec<_>>().join(" ");
    let (instruction, rest) = match command.strip_prefix("RUN ") {
        Some(rest) => ("RUN ", rest),
        None => ("", command.as_str()),
    };
    let rest = rest.strip_prefix("/bin/sh -c ").unwrap_or(rest);
    let rest = rest.strip_prefix("#(nop) ").unwrap_or(rest);
    cut(&format!("{instruction}{rest}"), 90)
}

impl Report for InventoryReport {
    const KIND: &'static str = "inventory";

    fn show(&self, out: &Output) {
        let platform = self.platform.as_ref().map_or_else(String::new, |one| format!(" for {one}"));
        out.result(format!("{}{platform}", paint(STRONG, &self.reference)));
        let system = self.system.as_ref().map_or("nothing in it says so", |system| &system.name);
        out.result(format!("  system    {system}"));
        let there = self.packages.iter().filter(|row| row.is_there()).count();
        let kinds: Vec<String> =
            self.kinds.iter().map(|(kind, number)| format!("{number} {kind}")).collect();
        let kinds =
            if kinds.is_empty() { String::new() } else { format!(": {}", kinds.join(", ")) };
        out.result(format!("  packages  {}{kinds}", count(there, "package")));
        let gone = self.packages.len() - there;
        if gone > 0 {
            out.result(format!("            {gone} more were removed or replaced by later layers"));
        }
        out.result(format!("  layers    {}", count(self.layers.len(), "layer")));
        if !self.not_read.is_empty() {
            let told = format!("{} not read, so that there may be more", self.not_read.len());
            out.result(format!("  {}  {told}", paint(WARN, "not read")));
        }
        self.sboms.iter().for_each(|sbom| sbom.show(out));
        let shown = |row: &&PackageRow| self.removed || row.is_there();
        if self.order == Order::Layer {
            self.by_layer(out);
        } else if self.packages.iter().any(|row| shown(&row)) {
            let mut rows: Vec<&PackageRow> = self.packages.iter().filter(shown).collect();
            match self.order {
                Order::Name => rows.sort_by_key(|row| (row.name.to_lowercase(), row.kind)),
                _ => rows.sort_by_key(|row| (row.kind, row.name.to_lowercase())),
            }
            let remark = |row: &PackageRow| match row.is_there() {
                true => row.remark.clone(),
                false => row.end(),
            };
            // Where nothing is to be remarked there is no column for it.
            let is_plain = rows.iter().all(|row| remark(row).is_empty());
            let columns = ["KIND", "NAME", "VERSION", "LAYER", "PATH", "REMARK"];
            let columns = if is_plain { &columns[..5] } else { &columns[..] };
            let mut table = Table::new(out.width(), columns).sparing(&["PATH", "REMARK"]);
            for row in rows {
                let mut cells = vec![
                    row.kind.to_owned(),
                    row.name.clone(),
                    row.version.clone(),
                    row.layer.to_string(),
                    row.path.clone(),
                ];
                if !is_plain {
                    cells.push(remark(row));
                }
                table.row(cells);
            }
            out.result("");
            out.table(&table);
        }
        self.sboms.iter().for_each(|sbom| sbom.show_differences(out));
        for row in &self.not_read {
            let path = row.path.as_deref().map_or(String::new(), |path| format!(", {path}"));
            let told = paint(WARN, "not read");
            out.result(format!("{told}: layer {}{path}: {}", row.layer, row.cause));
        }
    }
}

//! Two images: which packages came, went, rose or fell, and which layer did it.

use larder_core::digest::Digest;
use larder_core::inventory::{InventoryChange, PackageChange, compare};
use schemars::JsonSchema;
use serde::Serialize;

use super::{PackageRow, UnreadRow, step, unread};
use crate::context::Context;
use crate::failure::Exit;
use crate::inventory::NamedInventory;
use crate::output::{GONE, GOOD, Output, Report, STRONG, Table, WARN, count, paint};

/// What the packages of two images have that is not the same.
#[derive(Serialize, JsonSchema)]
pub struct InventoryComparison {
    same: bool,
    before: ComparedImage,
    after: ComparedImage,
    changes: Vec<ChangeRow>,
}

#[derive(Serialize, JsonSchema)]
struct ComparedImage {
    reference: String,
    #[schemars(with = "String")]
    digest: Digest,
    /// What of it was not read: of that it is not known whether it is the same.
    not_read: Vec<UnreadRow>,
}

#[derive(Serialize, JsonSchema)]
struct ChangeRow {
    /// `added`, `gone`, `up`, `down`, `other`: another version that nobody can order.
    change: &'static str,
    before: Option<PackageRow>,
    after: Option<PackageRow>,
    /// The build step that brought what is there now. null: it is gone, or not said.
    by: Option<String>,
}

/// Tells how two images differ.
pub fn tell(before: &NamedInventory, after: &NamedInventory, context: &Context) -> Exit {
    let changes = compare(&before.read.inventory, &after.read.inventory);
    let report = InventoryComparison {
        same: changes.is_empty(),
        before: ComparedImage::of(before),
        after: ComparedImage::of(after),
        changes: changes.iter().map(|change| ChangeRow::of(change, before, after)).collect(),
    };
    context.output.tell(&report);
    if report.same { Exit::Done } else { Exit::No }
}

impl ComparedImage {
    fn of(named: &NamedInventory) -> Self {
        Self {
            reference: named.reference.clone(),
            digest: named.read.digest.clone(),
            not_read: unread(&named.read.inventory),
        }
    }
}

impl ChangeRow {
    fn of(change: &InventoryChange<'_>, before: &NamedInventory, after: &NamedInventory) -> Self {
        let release = |named: &'_ NamedInventory| named.read.inventory.release.clone();
        let by = change.after.and_then(|one| after.read.layers.get(one.layer)?.step.clone());
        Self {
            change: match change.change {
                PackageChange::Added => "added",
                PackageChange::Gone => "gone",
                PackageChange::Up => "up",
                PackageChange::Down => "down",
                PackageChange::Other => "other",
            },
            before: change.before.map(|one| PackageRow::of(one, release(before).as_ref())),
            after: change.after.map(|one| PackageRow::of(one, release(after).as_ref())),
            by,
        }
    }

    fn shown(&self) -> String {
        match self.change {
            "added" | "up" => paint(GOOD, self.change),
            "gone" | "down" => paint(GONE, self.change),
            _ => paint(WARN, "changed"),
        }
    }
}

impl Report for InventoryComparison {
    const KIND: &'static str = "inventory-comparison";

    fn show(&self, out: &Output) {
        out.result(format!("before  {}", paint(STRONG, &self.before.reference)));
        out.result(format!("after   {}", paint(STRONG, &self.after.reference)));
        if self.same {
            out.result("both have the same packages");
        } else {
            let columns = ["CHANGE", "KIND", "NAME", "BEFORE", "AFTER", "BY"];
            let mut table = Table::new(out.width(), &columns).sparing(&["BY"]);
            for row in &self.changes {
                let Some(one) = row.after.as_ref().or(row.before.as_ref()) else { continue };
                let version = |row: &Option<PackageRow>| {
                    row.as_ref().map_or_else(|| "-".to_owned(), |row| row.version.clone())
                };
                let by = match (&row.after, &row.by) {
                    (Some(after), Some(by)) => format!("layer {}: {}", after.layer, step(by)),
                    (Some(after), None) => format!("layer {}", after.layer),
                    (None, _) => String::new(),
                };
                table.row([
                    row.shown(),
                    one.kind.to_owned(),
                    one.name.clone(),
                    version(&row.before),
                    version(&row.after),
                    by,
                ]);
            }
            out.result("");
            out.table(&table);
            out.result(count(self.changes.len(), "difference"));
        }
        for image in [&self.before, &self.after] {
            for row in &image.not_read {
                let path = row.path.as_deref().map_or(String::new(), |path| format!(", {path}"));
                let (told, name) = (paint(WARN, "not read"), &image.reference);
                out.result(format!("{told}: {name}, layer {}{path}: {}", row.layer, row.cause));
            }
        }
    }
}

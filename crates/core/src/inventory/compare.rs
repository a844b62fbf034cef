//! What two images have that is not the same.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use super::{ImageInventory, ImagePackage, InstalledPackage};
use crate::version::{Ecosystem, Version};

/// What became of a package from one image to another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PackageChange {
    Added,
    Gone,
    /// A later version.
    Up,
    /// An earlier version.
    Down,
    /// Another version, of which nobody can say whether it is a later one.
    Other,
}

/// A package that is not the same in both.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InventoryChange<'i> {
    pub change: PackageChange,
    pub before: Option<&'i ImagePackage>,
    pub after: Option<&'i ImagePackage>,
}

/// All packages that are not the same in both, by ecosystem and name.
pub fn compare<'i>(
    before: &'i ImageInventory,
    after: &'i ImageInventory,
) -> Vec<InventoryChange<'i>> {
    type Versions<'i> = BTreeMap<&'i str, &'i ImagePackage>;
    type Key<'i> = (Ecosystem, &'i str, &'i str);
    fn by_name(inventory: &ImageInventory) -> BTreeMap<Key<'_>, Versions<'_>> {
        let mut all: BTreeMap<Key<'_>, Versions<'_>> = BTreeMap::new();
        for one in inventory.packages.iter().filter(|one| one.removed.is_none()) {
            let InstalledPackage { ecosystem, name, architecture, version, .. } = &one.package;
            all.entry((*ecosystem, name, architecture)).or_default().entry(version).or_insert(one);
        }
        all
    }
    let (old, new) = (by_name(before), by_name(after));
    let none = Versions::new();
    let mut changes = Vec::new();
    let mut keys: Vec<&Key> = old.keys().chain(new.keys()).collect();
    keys.sort();
    keys.dedup();
    for key in keys {
        let (old, new) = (old.get(key).unwrap_or(&none), new.get(key).unwrap_or(&none));
        let gone: Vec<_> = old.iter().filter(|(version, _)| !new.contains_key(*version)).collect();
        let added: Vec<_> = new.iter().filter(|(version, _)| !old.contains_key(*version)).collect();
        // One instead of one is a change of it. Of several nobody can say which became which.
        if let ([(_, before)], [(_, after)]) = (gone.as_slice(), added.as_slice()) {
            let change = change(&before.package, &after.package);
            changes.push(InventoryChange { change, before: Some(before), after: Some(after) });
            continue;
        }
        changes.extend(gone.iter().map(|(_, one)| InventoryChange {
            change: PackageChange::Gone,
            before: Some(one),
            after: None,
        }));
        changes.extend(added.iter().map(|(_, one)| InventoryChange {
            change: PackageChange::Added,
            before: None,
            after: Some(one),
        }));
    }
    changes
}

fn change(before: &InstalledPackage, after: &InstalledPackage) -> PackageChange {
    let read = |package: &InstalledPackage| Version::read(package.ecosystem, &package.version);
    let order = match (read(before), read(after)) {
        (Ok(before), Ok(after)) => after.compare(&before),
        _ => None,
    };
    match order {
        Some(Ordering::Greater) => PackageChange::Up,
        Some(Ordering::Less) => PackageChange::Down,
        _ => PackageChange::Other,
    }
}

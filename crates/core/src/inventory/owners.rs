//! Which files does a package of the operating system say are its own?
//!
//! A library that the system's package brought is mended by that package, and advisories of its language are not about it;
//! unless somebody has put another there since, which only its content tells.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use super::content::path_print;

/// Files that packages own, of those that other readers would take for packages or programs.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnedFiles {
    /// The packages' names.
    pub packages: Vec<String>,
    /// Place, package (by its number above), and the beginning of the content's hash; 0: it is not said.
    pub files: Vec<(u64, u32, u64)>,
}

/// The most that are kept of one list.
const MOST: usize = 200_000;

impl OwnedFiles {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    /// Takes up a file of a package, if anybody would ask about it. False: there are too many.
    pub(super) fn add(&mut self, package: &str, path: &str, content: u64) -> bool {
        let path = path.trim_start_matches('/');
        if !is_asked_about(path) {
            return true;
        }
        if self.files.len() >= MOST {
            return false;
        }
        if self.packages.last().is_none_or(|last| last != package) {
            self.packages.push(package.to_owned());
        }
        let number = u32::try_from(self.packages.len() - 1).unwrap_or(u32::MAX);
        self.files.push((owned_print(path), number, content));
        true
    }
}

/// The place of a file, where `/bin` and `/usr/bin` are the same: lists still say the former.
pub(super) fn owned_print(path: &str) -> u64 {
    path_print(with_usr(path).as_bytes())
}

fn with_usr(path: &str) -> Cow<'_, str> {
    let first = path.split('/').next().unwrap_or_default();
    match first == "bin" || first == "sbin" || first.starts_with("lib") {
        true => Cow::Owned(format!("usr/{path}")),
        false => Cow::Borrowed(path),
    }
}

/// Whether a file may be one of those that name a package of a language, or a program.
fn is_asked_about(path: &str) -> bool {
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let ends = |ending: &str| {
        name.len() > ending.len()
            && name.as_bytes()[name.len() - ending.len()..].eq_ignore_ascii_case(ending.as_bytes())
    };
    matches!(name, "package.json" | "METADATA" | "PKG-INFO")
        || [".gemspec", ".egg-info", ".jar", ".war", ".ear"].into_iter().any(ends)
        || folder.rsplit('/').next().is_some_and(|last| matches!(last, "bin" | "sbin"))
        || folder.split('/').any(|part| part == "libexec" || part == "cli-plugins")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_asked_about_is_kept() {
        let mut owned = OwnedFiles::default();
        for path in ["/usr/bin/ember", "/bin/ember2", "usr/lib/node_modules/x/package.json"] {
            assert!(owned.add("ember", path, 0), "{path}");
        }
        assert!(owned.add("ember", "/usr/share/doc/ember/copyright", 0));
        assert!(owned.add("bellows", "/usr/share/java/bellows.JAR", 5));
        assert_eq!((owned.files.len(), owned.packages.len()), (4, 2));
        assert_eq!(owned.files[1].0, owned_print("usr/bin/ember2"));
        assert_eq!(owned.files[3], (owned_print("usr/share/java/bellows.JAR"), 1, 5));
    }
}

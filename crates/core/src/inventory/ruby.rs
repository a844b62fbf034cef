//! Gems of Ruby: `specifications/NAME-VERSION.gemspec`, which is a program and never run.

use super::{InstalledPackage, kept};
use crate::version::Ecosystem;

/// Whether a path is that of an installed gem's specification.
pub(super) fn is_specification(path: &str) -> bool {
    let Some((folder, name)) = path.rsplit_once('/') else { return false };
    let folder = folder.strip_suffix("/default").unwrap_or(folder);
    let is_there = folder == "specifications" || folder.ends_with("/specifications");
    is_there && name.len() > ".gemspec".len() && name.ends_with(".gemspec")
}

/// The gem, by the lines that give its name and version, else by its file's name. None: neither has them.
pub(super) fn gem(path: &str, text: &[u8]) -> Option<InstalledPackage> {
    let text = String::from_utf8_lossy(text);
    let value = |field: &str| {
        text.lines().take(1000).find_map(|line| {
            let line = line.trim_start();
            let (object, rest) = line.split_once('.')?;
            let rest = rest.strip_prefix(field)?.trim_start().strip_prefix('=')?.trim_start();
            let is_name = object.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
            let quote = rest.chars().next().filter(|sign| is_name && matches!(sign, '"' | '\''))?;
            let (value, _) = rest[1..].split_once(quote)?;
            kept(value).map(str::to_owned)
        })
    };
    let by_name = || {
        let name = path.rsplit('/').next()?.strip_suffix(".gemspec")?;
        // A platform may stand behind the version.
        let mut dashes = name.match_indices('-').map(|(at, _)| at);
        let at = dashes.rfind(|at| name[at + 1..].starts_with(|c: char| c.is_ascii_digit()))?;
        let version = name[at + 1..].split('-').next()?;
        Some((kept(&name[..at])?.to_owned(), kept(version)?.to_owned()))
    };
    let said = value("name").zip(value("version"));
    let (name, version) = said.or_else(by_name)?;
    Some(InstalledPackage::of_language(Ecosystem::RubyGems, &name, &version))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gems_are_named_by_their_lines_and_by_their_files() {
        let folder = "usr/lib/ruby/gems/3.1.0/specifications";
        let text = b"# -*- encoding: utf-8 -*-\nGem::Specification.new do |s|\n  s.name = \"ember-bellows\".freeze\n  s.version = \"1.2.3\"\n  s.required_ruby_version = \"3\"\n";
        let gem = |path: &str, text: &[u8]| {
            super::gem(path, text).map(|gem| format!("{} {}", gem.name, gem.version))
        };
        assert_eq!(gem("x/a-1.gemspec", text).as_deref(), Some("ember-bellows 1.2.3"));
        let path = format!("{folder}/ember-bellows-1.2.3-x86_64-linux.gemspec");
        assert_eq!(gem(&path, b"").as_deref(), Some("ember-bellows 1.2.3"));
        assert_eq!(gem("specifications/x.gemspec", b"s.name = name"), None);
        assert!(is_specification(&path));
        assert!(is_specification(&format!("{folder}/default/json-2.6.1.gemspec")));
        assert!(!is_specification("app/bellows.gemspec"));
        assert!(!is_specification("specifications/.gemspec"));
    }
}

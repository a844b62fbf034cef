//! Whose is a file? A configuration that somebody else can write runs no program and gets no secret.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

/// Who runs this program.
#[derive(Debug, Clone, Copy)]
struct Me {
    user: u32,
    group: u32,
}

/// What the system says of a file.
#[derive(Debug, Clone, Copy)]
struct FileFacts {
    user: u32,
    group: u32,
    mode: u32,
}

impl From<&fs::Metadata> for FileFacts {
    fn from(metadata: &fs::Metadata) -> Self {
        Self { user: metadata.uid(), group: metadata.gid(), mode: metadata.mode() }
    }
}

/// Why a file may say something that its reader does not mean. None: only the reader and root can write it.
fn fault(me: Me, of: FileFacts) -> Option<String> {
    if of.user != me.user && of.user != 0 {
        return Some(format!("it belongs to the user {}", of.user));
    }
    if of.mode & 0o002 != 0 {
        return Some("everybody can write it".into());
    }
    (of.mode & 0o020 != 0 && of.group != me.group)
        .then(|| format!("the group {} can write it", of.group))
}

/// Why a file is not to be believed, in a sentence that names it. None: it is, or it is not there.
pub fn foreign(path: &Path) -> Option<String> {
    let me = Me {
        user: rustix::process::geteuid().as_raw(),
        group: rustix::process::getegid().as_raw(),
    };
    // A link is as good as who made it, and what it leads to as who can write that. The mode of a link means nothing.
    let link = fs::symlink_metadata(path).ok();
    let made = link.map(|of| FileFacts { mode: 0o600, ..FileFacts::from(&of) });
    let there = fs::metadata(path).ok().map(|of| FileFacts::from(&of));
    let why = made.into_iter().chain(there).find_map(|of| fault(me, of))?;
    Some(format!("{}: {why}", larder_transfer::files::named(path)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_others_can_write_is_foreign() {
        let me = Me { user: 1000, group: 1000 };
        let of = |user, group, mode| fault(me, FileFacts { user, group, mode });
        for (user, group, mode) in [
            (1000, 1000, 0o644),
            (0, 0, 0o644),
            (1000, 5, 0o604),
            (1000, 1000, 0o664),
            (0, 1000, 0o660),
        ] {
            assert_eq!(of(user, group, mode), None, "{user} {group} {mode:o}");
        }
        for (user, group, mode) in
            [(65534, 1000, 0o600), (1000, 1000, 0o646), (1000, 5, 0o664), (0, 0, 0o660)]
        {
            assert!(of(user, group, mode).is_some(), "{user} {group} {mode:o}");
        }
    }
}

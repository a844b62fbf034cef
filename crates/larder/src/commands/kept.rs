//! What is kept of each command that is interrupted.

/// What is kept when a command is interrupted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// It reads, and writes at its end or not at all.
    Unchanged,
    /// What stays, in a sentence that says all.
    Stays(&'static str),
    /// What was done stays, and the same call goes on within what was being done.
    GoesOn(&'static str),
    /// What was done stays, and the same call does the rest.
    Again(&'static str),
    /// Whether it was done cannot be said here; another command tells.
    See(&'static str, &'static str),
}

/// What is kept of a command, such as `intake run`. None: it sees to signals itself.
///
/// # Panics
///
/// When there is no such command; a test names them all.
pub fn kept(command: &str) -> Option<Kept> {
    const LAYERS: &str =
        "the layers that have come stay, and no tag was moved before its image was whole";
    const FILES: &str = "each file is as it was or written whole";
    Some(match command {
        "serve" => return None,
        "demo" => Kept::Stays("its servers have ended, and a folder that `--into` named stays"),
        "log" => Kept::Stays("the record is as it was, and hours that were exported stay"),
        "check" | "survey" | "look" | "find" | "why" | "report" | "help" | "completions"
        | "node-login" => Kept::Unchanged,
        "advisory list" | "advisory show" | "advisory check" => Kept::Unchanged,
        "intake list" | "intake diff" | "intake status" => Kept::Unchanged,
        "parcel verify" | "parcel show" => Kept::Unchanged,
        "shelf list" | "shelf show" | "shelf users" => Kept::Unchanged,
        "handoff check" | "handoff read" | "handoff guide" => Kept::Unchanged,
        "key list" | "key test" => Kept::Unchanged,
        "policy check" | "policy explain" | "policy diff" | "policy rehearse" => Kept::Unchanged,
        "advisory import" => Kept::Again("each advisory is as it was or new as a whole"),
        "advisory drop" => {
            Kept::See("they are dropped together or not at all", "larder advisory list")
        }
        "intake add" | "intake remove" => {
            Kept::See("larder.toml is as it was or written whole", "larder intake list")
        }
        "intake lock" => Kept::Again("the lock file is as it was or written whole"),
        "intake run" | "copy" | "promote" | "shelf warm" => Kept::GoesOn(LAYERS),
        "sign" => Kept::GoesOn("signatures that were written stay"),
        "inventory" => Kept::GoesOn("what was read of layers to the end stays"),
        "parcel pack" => Kept::GoesOn(
            "what came over the network stays, and no parcel is there before it is whole",
        ),
        "parcel unpack" => Kept::GoesOn(LAYERS),
        "parcel receipt" | "parcel sign-key" | "init" | "man" | "rewrite" | "handoff write"
        | "handoff move" => Kept::Again(FILES),
        "handoff apply" => Kept::Again("what the cluster has taken stays there"),
        "shelf drop" | "shelf tidy" => {
            Kept::Again("what was dropped is dropped, and nothing else was touched")
        }
        "shelf retry" | "shelf block" | "shelf unblock" => {
            Kept::See("it is done or not at all", "larder shelf show")
        }
        "store verify" => Kept::Again("the store is as it was; repairs that were made stay"),
        "store collect" => {
            Kept::Again("what was freed is freed, and nothing that is needed was touched")
        }
        "store backup" => {
            Kept::GoesOn("what was copied stays, and a backup is there only when all of it is")
        }
        "store restore" | "store move" => {
            Kept::GoesOn("what was copied stays, and the store that was there is as it was")
        }
        "store convert" => Kept::Again("the store has the old form or the new one"),
        "key issue" | "key rotate" | "key revoke" => {
            Kept::See("it is done or not at all", "larder key list")
        }
        "rounds" => Kept::See("a line is silenced or not at all", "larder rounds --silenced"),
        other => panic!("nothing says what is kept of `{other}`"),
    })
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    #[test]
    fn of_every_command_it_is_said_what_is_kept() {
        fn walk(command: &clap::Command, path: &str, seen: &mut usize) {
            let mut below = command.get_subcommands().peekable();
            if below.peek().is_none() {
                *seen += 1;
                assert_eq!(kept(path).is_none(), path == "serve", "{path}");
            }
            for one in below {
                walk(one, format!("{path} {}", one.get_name()).trim(), seen);
            }
        }
        let mut seen = 0;
        walk(&crate::Cli::command(), "", &mut seen);
        assert!(seen > 50, "{seen}");
    }
}

//! An error as the operator reads it: what failed, the cause as it was met, and what to try.

use std::fmt;
use std::path::Path;

use larder_client::{ClientError, NotThere};
use larder_core::parcel::SignedError;
use larder_store::StoreError;
use larder_transfer::parcel::ParcelError;
use larder_transfer::{LayoutError, TransferError};

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// It ran, and the answer is "no".
    No = 1,
    /// The call or the configuration is wrong.
    Usage = 2,
    /// A remote could not be reached or refused us.
    Remote = 3,
    /// Content did not match its digest.
    Content = 4,
}

/// An error in three parts, and how the program ends with it.
#[derive(Debug, Clone)]
pub struct Failure {
    /// What failed: "cannot bring in …".
    pub what: String,
    /// The cause as it was met.
    pub cause: String,
    /// What to try. Empty: nothing better than mending the cause is known.
    pub remedy: String,
    /// How the program ends.
    pub exit: Exit,
}

impl Failure {
    /// The call or the configuration is wrong.
    pub fn usage(
        what: impl Into<String>,
        cause: impl fmt::Display,
        remedy: impl Into<String>,
    ) -> Self {
        Self {
            what: line(&what.into()),
            cause: line(&cause.to_string()),
            remedy: line(&remedy.into()),
            exit: Exit::Usage,
        }
    }

    /// The same with another end.
    #[must_use]
    pub fn ending(mut self, exit: Exit) -> Self {
        self.exit = exit;
        self
    }

    /// A file or folder of ours that the system refuses.
    pub fn io(what: impl Into<String>, cause: &std::io::Error) -> Self {
        let remedy = match cause.kind() {
            std::io::ErrorKind::NotFound => "check the path",
            std::io::ErrorKind::PermissionDenied | std::io::ErrorKind::ReadOnlyFilesystem => {
                "check who may write there"
            }
            std::io::ErrorKind::StorageFull => "free some space on that disk",
            _ => "",
        };
        Self::usage(what, cause, remedy)
    }

    /// The same of a file that `what` does not name.
    pub fn file(what: impl Into<String>, path: &Path, cause: &std::io::Error) -> Self {
        let there = format!("{}: {cause}", larder_transfer::files::shown(path));
        Self { cause: there, ..Self::io(what, cause) }
    }

    /// What a remote did.
    pub fn remote(what: impl Into<String>, error: &ClientError) -> Self {
        let (remedy, exit) = advice(error);
        Self {
            what: line(&what.into()),
            cause: line(&error.to_string()),
            remedy: line(&remedy),
            exit,
        }
    }

    /// What the store did.
    pub fn store(what: impl Into<String>, error: &StoreError) -> Self {
        let (remedy, exit) = match error {
            StoreError::Mismatch { .. } => ("fetch it again; it was not kept", Exit::Content),
            error if error.is_full() => (
                "free some space: `larder store collect --uploads` frees unfinished uploads, `larder shelf drop` and then `larder store collect --grace 0s` images; `reserve` under [larder] says how much is kept free",
                Exit::Usage,
            ),
            StoreError::Served => (
                "stop that one first, or give this one a `data` folder of its own in larder.toml",
                Exit::Usage,
            ),
            StoreError::Vanished(_) => ("run it again: it is brought anew", Exit::No),
            StoreError::Io { .. } => (
                "check `data` in larder.toml: the folder, its disk and who may write there",
                Exit::Usage,
            ),
            StoreError::Objects { .. } => (
                "check `objects` in larder.toml: its address, its key and what that key may do",
                Exit::Remote,
            ),
            error if error.is_refused() => (
                "check the user, the password and the database in `records`; the user needs `GRANT CONNECT, CREATE ON DATABASE`, and in its schema `GRANT USAGE, CREATE`: it owns the tables that it makes",
                Exit::Usage,
            ),
            error if error.is_away() => (
                "check `records` in larder.toml, and that the database server runs and lets this machine in",
                Exit::Remote,
            ),
            StoreError::Foreign(_) => (
                "give this larder a `prefix` of its own in `objects`; if that other store is no more, remove the object",
                Exit::Usage,
            ),
            error if error.is_frozen() => (
                "`larder store move` says where to: use that one, or bring the move to its end, or give it up with `--cancel`",
                Exit::No,
            ),
            StoreError::Version { .. } => ("use a newer larder with this store", Exit::Usage),
            StoreError::Earlier { .. } => (
                "`larder store convert` converts it, and so does `larder serve`; copy the store's folder first",
                Exit::Usage,
            ),
            StoreError::Size { .. } => ("have the image mended where it comes from", Exit::Content),
            StoreError::Missing(_) => ("bring these in first", Exit::No),
            StoreError::Quota(_) => (
                "`larder shelf show SHELF` shows what takes it; `larder shelf tidy` and `larder shelf drop` make room, or raise `quota` of its [[shelf]]",
                Exit::No,
            ),
            StoreError::Immutable { .. } => (
                "use another tag, or name it in `movable` of its [[shelf]] in larder.toml",
                Exit::No,
            ),
            _ => ("", Exit::Usage),
        };
        Self {
            what: line(&what.into()),
            cause: line(&error.to_string()),
            remedy: remedy.into(),
            exit,
        }
    }

    /// An error about a parcel or a receipt.
    pub fn parcel(what: impl Into<String>, error: &ParcelError) -> Self {
        let (remedy, exit) = match error {
            ParcelError::Io { source, .. } => {
                return Self { cause: error.to_string(), ..Self::io(what, source) };
            }
            ParcelError::Store(error) => return Self::store(what, error),
            ParcelError::Files(_) => ("name the parcel's folder, or its files", Exit::Usage),
            ParcelError::Incomplete(_) => ("have these files sent again", Exit::No),
            ParcelError::Stranger { .. } => (
                "if it is whose it should be, add the key to `trust` in [parcel] of larder.toml",
                Exit::No,
            ),
            ParcelError::Shelf { .. } => (
                "`trust` in [parcel] names the shelves of each key; nothing was unpacked",
                Exit::No,
            ),
            ParcelError::Key { .. } => ("`larder parcel sign-key` makes one", Exit::Usage),
            ParcelError::Receipt { .. } => ("`larder parcel receipt` writes one", Exit::Usage),
            ParcelError::Signed { source: SignedError::Shape, .. } => {
                ("name the file that `larder parcel` wrote", Exit::Usage)
            }
            ParcelError::Signed { .. } | ParcelError::Contents(_) => {
                ("have it sent again", Exit::Content)
            }
            ParcelError::Altered(_) => {
                ("have the bad files sent again; nothing of them was kept", Exit::Content)
            }
            ParcelError::NotHeld { .. } => {
                ("have it packed without `--since`, or since a receipt of today", Exit::No)
            }
        };
        Self::usage(what, error, remedy).ending(exit)
    }

    /// What moving an image met.
    pub fn transfer(what: impl Into<String>, error: &TransferError) -> Self {
        let what = what.into();
        match error {
            TransferError::Client(error) => Self::remote(what, error),
            TransferError::Store(error) => Self::store(what, error),
            TransferError::Mismatch { .. } => {
                let remedy = "have the source mended; it was not kept";
                Self::usage(what, error, remedy).ending(Exit::Content)
            }
            TransferError::Everywhere(met) => match met.first() {
                Some(first) => {
                    let exit = met.iter().map(|one| Self::transfer("", one).exit).max();
                    let failure = Self::transfer(what, first);
                    let exit = exit.unwrap_or(failure.exit);
                    Self { cause: error.to_string(), exit, ..failure }
                }
                None => Self::usage(what, "there is no place to take it from", ""),
            },
            TransferError::Trimmed { .. } => {
                let remedy = "`larder intake lock` locks it for the platforms that are wanted now";
                Self::usage(what, error, remedy).ending(Exit::No)
            }
            TransferError::NotHeld(_) => {
                let remedy = "`larder shelf list` and `larder shelf show` say what it has";
                Self::usage(what, error, remedy).ending(Exit::No)
            }
            TransferError::NoPlatform { .. } => Self::usage(
                what,
                error,
                "ask for one of those, or leave the platforms out to take all",
            )
            .ending(Exit::No),
            TransferError::Layout(LayoutError::SeveralImages { .. }) => {
                Self::usage(what, error, "name one: PATH#NAME").ending(Exit::No)
            }
            TransferError::Layout(LayoutError::NotFound(_) | LayoutError::NoImage { .. }) => {
                Self::usage(what, error, "`larder look PATH` shows what is in it").ending(Exit::No)
            }
            TransferError::Layout(LayoutError::Io { doing, source }) => {
                let remedy = match source.kind() {
                    std::io::ErrorKind::NotFound => "check the path",
                    _ => "check the path, and who may read and write there",
                };
                match *doing == what {
                    true => Self::usage(what, source, remedy),
                    false => Self::usage(what, error, remedy),
                }
            }
            TransferError::Layout(LayoutError::Occupied { .. }) => {
                Self::usage(what, error, "name another, or remove what is there")
            }
            TransferError::Layout(_)
            | TransferError::Document { .. }
            | TransferError::Depth
            | TransferError::Family
            | TransferError::TooManyCompanions(_) => {
                Self::usage(what, error, "").ending(Exit::Content)
            }
        }
    }
}

/// A part of an error on one line: texts from outside in it begin none of their own.
fn line(text: &str) -> String {
    larder_core::shown::shown(text).into_owned()
}

/// What to try, and how the program ends, for each thing that a remote can do.
fn advice(error: &ClientError) -> (String, Exit) {
    let exit = match error {
        ClientError::Setup(_) => Exit::Usage,
        ClientError::Mismatch { .. }
        | ClientError::Length { .. }
        | ClientError::Chart { .. }
        | ClientError::Document { .. } => Exit::Content,
        _ => Exit::Remote,
    };
    let remedy = match error {
        ClientError::Unreachable { host, cause, .. } if cause.contains("certificate") => {
            format!(
                "name the one by which {host} knows us with `certificate` (and `certificate_key`) in its [[upstream]]"
            )
        }
        ClientError::Unreachable { host, endpoint, .. } => {
            format!(
                "check the network and the name; where {host} is reached otherwise than at {endpoint}, say so with `endpoint` in an [[upstream]]"
            )
        }
        ClientError::Untrusted { host, .. } => {
            format!(
                "name the authority's certificate with `ca` in the [[upstream]] of {host}, if you trust it"
            )
        }
        ClientError::Denied { signed_in: false, host, .. } => {
            format!("add `credentials` to the [[upstream]] of {host} in larder.toml")
        }
        ClientError::Denied { signed_in: true, host, status: 401, .. } => {
            format!("check the name and the secret that `credentials` of {host} lead to")
        }
        ClientError::TokenHost { host, at } => {
            format!(
                "if that host signs people in for {host}, write `token_hosts = [\"{at}\"]` into its [[upstream]] in larder.toml"
            )
        }
        ClientError::Login { host, .. } => {
            format!("see to it that what `credentials` of {host} name gives a login again")
        }
        ClientError::Denied { host, .. } => {
            format!(
                "ask {host} to allow this account; some registries also answer so when the repository does not exist"
            )
        }
        ClientError::NotFound { wanted: NotThere::Repository(_), .. } => {
            "check the name; registries also answer so when the account may not see it".into()
        }
        ClientError::NotFound { wanted: NotThere::Tag(_), .. } => {
            "check the tag; `larder look --tags IMAGE` lists those that exist".into()
        }
        ClientError::NotFound { .. } => {
            "the registry lost it, or never had it; ask its keeper".into()
        }
        ClientError::Foreign { host, .. } => {
            format!(
                "where its maker's terms allow it, `foreign = true` in the [[upstream]] of {host} has it fetched from there"
            )
        }
        ClientError::RateLimited { .. } => {
            "wait, sign in with an account that may pull more, or pull fewer images at once".into()
        }
        ClientError::Cut { .. } => "try again: what came is lost, other layers are kept".into(),
        ClientError::Mismatch { .. } | ClientError::Length { .. } => {
            "it was not kept; try again, and if it stays so, tell the registry's keeper".into()
        }
        ClientError::Refused { status: 500.., .. } => {
            "the registry has a fault; try again later".into()
        }
        ClientError::Chart { .. } => {
            "it was not kept; tell whoever keeps that chart repository".into()
        }
        ClientError::ChartElsewhere { host, .. } => {
            format!(
                "where you trust that place, `foreign = true` in the [[upstream]] of {host} has it fetched from there"
            )
        }
        ClientError::Protocol { .. } => {
            "check that the address is a registry's and not a proxy's or portal's".into()
        }
        _ => String::new(),
    };
    (remedy, exit)
}

/// What is said of a name that is not known: the one that was meant, or all that there are.
pub fn unknown<'k>(what: &str, name: &str, known: impl IntoIterator<Item = &'k str>) -> String {
    const SHOWN: usize = 20;
    let name = larder_core::shown::cut(name, 100);
    let known: Vec<&str> = known.into_iter().collect();
    let rest = match (larder_core::nearest::nearest(&name, known.iter().copied()), known.len()) {
        (Some(near), _) => format!("did you mean `{near}`?"),
        (None, 0) => "none is declared".to_owned(),
        (None, many) => {
            let more = if many > SHOWN { ", …" } else { "" };
            format!("there are: {}{more}", known[..many.min(SHOWN)].join(", "))
        }
    };
    format!("there is no {what} `{name}`; {rest}")
}

/// What a command gives back.
pub type Outcome = Result<Exit, Failure>;

#[cfg(test)]
mod tests {
    use larder_core::digest::Digest;

    use super::*;

    #[test]
    fn what_a_remote_did_decides_how_the_program_ends_and_what_to_try() {
        let host = || "bazaar.example".to_owned();
        let (digest, other) = (Digest::of(b"a"), Digest::of(b"b"));
        let denied = |status, signed_in| ClientError::Denied {
            host: host(),
            status,
            action: "the pull of library/kettle".into(),
            signed_in,
            message: None,
        };
        for (error, exit, remedy) in [
            (
                ClientError::Unreachable {
                    host: host(),
                    endpoint: "https://x".into(),
                    cause: "refused".into(),
                },
                Exit::Remote,
                "`endpoint`",
            ),
            (
                ClientError::Untrusted { host: host(), cause: "unknown issuer".into() },
                Exit::Remote,
                "`ca`",
            ),
            (denied(401, false), Exit::Remote, "add `credentials`"),
            (denied(403, false), Exit::Remote, "add `credentials`"),
            (denied(401, true), Exit::Remote, "check the name and the secret"),
            (denied(403, true), Exit::Remote, "ask bazaar.example to allow"),
            (
                ClientError::NotFound { host: host(), wanted: NotThere::Tag("2".into()) },
                Exit::Remote,
                "--tags",
            ),
            (
                ClientError::NotFound { host: host(), wanted: NotThere::Repository("a".into()) },
                Exit::Remote,
                "may not see it",
            ),
            (
                ClientError::Mismatch { host: host(), expected: digest.clone(), actual: other },
                Exit::Content,
                "it was not kept",
            ),
            (
                ClientError::Length {
                    host: host(),
                    digest: digest.clone(),
                    expected: 1,
                    actual: 2,
                },
                Exit::Content,
                "it was not kept",
            ),
            (
                ClientError::Cut {
                    host: host(),
                    digest,
                    received: 1,
                    size: 2,
                    cause: "eof".into(),
                },
                Exit::Remote,
                "other layers are kept",
            ),
            (
                ClientError::Refused {
                    host: host(),
                    status: 503,
                    action: "x".into(),
                    message: None,
                },
                Exit::Remote,
                "try again later",
            ),
            (
                ClientError::Protocol { host: host(), cause: "x".into() },
                Exit::Remote,
                "a proxy's or portal's",
            ),
            (
                ClientError::Chart { host: host(), chart: "x 1".into(), cause: "x".into() },
                Exit::Content,
                "tell whoever keeps",
            ),
            (
                ClientError::ChartElsewhere { host: host(), chart: "x 1".into(), at: "x".into() },
                Exit::Remote,
                "foreign = true",
            ),
            (
                ClientError::Login { host: host(), cause: "x".into() },
                Exit::Remote,
                "gives a login again",
            ),
            (ClientError::Setup("x".into()), Exit::Usage, ""),
        ] {
            let failure = Failure::remote("cannot bring in kettle:2", &error);
            assert_eq!(failure.exit, exit, "{error}");
            assert!(failure.remedy.contains(remedy), "{error}: {}", failure.remedy);
            assert_eq!(failure.cause, error.to_string());
        }
    }

    #[test]
    fn the_worst_of_several_ends_counts() {
        let ends = [Exit::No, Exit::Remote, Exit::Done, Exit::Usage];
        assert_eq!(ends.into_iter().max(), Some(Exit::Remote));
        assert!(Exit::Content > Exit::Remote);
    }
}

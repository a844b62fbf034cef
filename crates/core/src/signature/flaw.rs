//! Why a signature that was found does not count.

use std::fmt;

use crate::digest::Digest;
use crate::shown::cut;

/// Why it does not count. Texts of strangers are cut and filtered where they are shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Flaw {
    /// What was found is no signature of a form that is known.
    NoSignature,
    /// What holds it says that it is about something else than it was found for.
    WrongSubject,
    TooLarge,
    Malformed(&'static str),
    /// The payload, the statement or the content calls itself something else.
    WrongType(String),
    Unsupported(&'static str),
    WrongAlgorithm(String),
    /// It must be understood, and is not.
    UnknownCritical(String),
    UntrustedChain(&'static str),
    CertificateUsage(&'static str),
    NameConstraint,
    /// The certificate's dates, in seconds since 1970.
    CertificateExpired {
        from: i64,
        until: i64,
    },
    RevocationUnknown(&'static str),
    CertificateRevoked,
    /// The names that the certificate has.
    WrongSigner(Vec<String>),
    /// By no key that is known. The key that it names itself, which proves nothing.
    BadSignature {
        named: Option<String>,
    },
    /// In seconds since 1970.
    SignatureExpired(i64),
    NotYet(i64),
    Log(&'static str),
    NotForThisRepository {
        signer: String,
    },
    KeyRevoked {
        signer: String,
    },
    /// Over another content: by whom, and over which, where that can be told.
    WrongDigest {
        signer: String,
        digest: Option<Digest>,
    },
    WrongTarget {
        signer: String,
    },
    WrongIdentity {
        signer: String,
        named: String,
    },
    WrongPredicate {
        signer: String,
        predicate: String,
    },
    Condition {
        signer: String,
    },
    /// Older than is asked for, or of no time that can be believed.
    Stale {
        signer: String,
        at: Option<i64>,
    },
}

/// The longest text of a stranger that is kept, in characters.
pub(super) const LONGEST: usize = 300;

impl Flaw {
    /// Cuts texts of strangers to what anybody reads.
    pub fn shorten(&mut self) {
        let shorten = |text: &mut String| {
            if text.len() > LONGEST {
                *text = cut(text, LONGEST);
            }
        };
        match self {
            Self::WrongType(text) | Self::WrongAlgorithm(text) | Self::UnknownCritical(text) => {
                shorten(text);
            }
            Self::WrongSigner(names) => {
                names.truncate(10);
                names.iter_mut().for_each(shorten);
            }
            Self::BadSignature { named } => named.iter_mut().for_each(shorten),
            Self::WrongIdentity { named, .. } => shorten(named),
            Self::WrongPredicate { predicate, .. } => shorten(predicate),
            _ => {}
        }
    }

    /// The reason in one word.
    pub fn word(&self) -> &'static str {
        match self {
            Self::NoSignature => "no-signature",
            Self::WrongSubject => "wrong-subject",
            Self::TooLarge => "too-large",
            Self::Malformed(_) => "malformed",
            Self::WrongType(_) => "wrong-type",
            Self::Unsupported(_) => "unsupported",
            Self::WrongAlgorithm(_) => "wrong-algorithm",
            Self::UnknownCritical(_) => "unknown-critical",
            Self::UntrustedChain(_) => "untrusted-chain",
            Self::CertificateUsage(_) => "certificate-usage",
            Self::NameConstraint => "name-constraint",
            Self::CertificateExpired { .. } => "certificate-expired",
            Self::RevocationUnknown(_) => "revocation-unknown",
            Self::CertificateRevoked => "certificate-revoked",
            Self::WrongSigner(_) => "wrong-signer",
            Self::BadSignature { .. } => "bad-signature",
            Self::SignatureExpired(_) => "signature-expired",
            Self::NotYet(_) => "not-yet",
            Self::Log(_) => "log",
            Self::NotForThisRepository { .. } => "not-for-this-repository",
            Self::KeyRevoked { .. } => "key-revoked",
            Self::WrongDigest { .. } => "wrong-digest",
            Self::WrongTarget { .. } => "wrong-target",
            Self::WrongIdentity { .. } => "wrong-identity",
            Self::WrongPredicate { .. } => "wrong-predicate",
            Self::Condition { .. } => "condition",
            Self::Stale { .. } => "stale",
        }
    }

    /// How far it came: of several that do not count, the one that came farthest is told first.
    pub fn rank(&self) -> u8 {
        match self {
            Self::NoSignature => 0,
            Self::WrongSubject | Self::TooLarge | Self::Malformed(_) | Self::WrongType(_) => 1,
            Self::Unsupported(_) | Self::WrongAlgorithm(_) | Self::UnknownCritical(_) => 2,
            Self::BadSignature { .. } | Self::UntrustedChain(_) => 3,
            Self::CertificateUsage(_)
            | Self::NameConstraint
            | Self::CertificateExpired { .. }
            | Self::RevocationUnknown(_)
            | Self::CertificateRevoked
            | Self::WrongSigner(_) => 4,
            Self::NotForThisRepository { .. } | Self::KeyRevoked { .. } => 5,
            Self::WrongDigest { .. } | Self::WrongTarget { .. } | Self::WrongIdentity { .. } => 6,
            Self::WrongPredicate { .. } => 7,
            Self::Log(_) | Self::SignatureExpired(_) | Self::NotYet(_) => 8,
            Self::Condition { .. } | Self::Stale { .. } => 9,
        }
    }
}

fn day(at: i64) -> String {
    let at = jiff::Timestamp::from_second(at);
    at.map_or_else(|_| "no day".to_owned(), |at| at.strftime("%Y-%m-%d").to_string())
}

impl fmt::Display for Flaw {
    /// What is said of it behind "one".
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoSignature => f.write_str("is no signature of a form that is read"),
            Self::WrongSubject => f.write_str("hangs on another image"),
            Self::TooLarge => f.write_str("is larger than any that is read"),
            Self::Malformed(what) => write!(f, "is broken: {what}"),
            Self::WrongType(kind) => write!(f, "signs something else (`{}`)", cut(kind, 80)),
            Self::Unsupported(what) => write!(f, "is of a kind that is not verified here: {what}"),
            Self::WrongAlgorithm(name) => {
                write!(f, "names an algorithm that does not count (`{}`)", cut(name, 40))
            }
            Self::UnknownCritical(name) => {
                write!(f, "must not be believed without understanding `{}`", cut(name, 80))
            }
            Self::UntrustedChain(what) => write!(f, "is by a certificate of nobody's: {what}"),
            Self::CertificateUsage(what) => write!(f, "is by a certificate that may not sign: {what}"),
            Self::NameConstraint => f.write_str(
                "is by a certificate whose authority limits its names in a way that it breaks, or that cannot be judged",
            ),
            Self::CertificateExpired { from, until } => {
                let (from, until) = (day(*from), day(*until));
                write!(f, "is by a certificate that is good from {from} to {until}, and by no proof of that time")
            }
            Self::RevocationUnknown(what) => {
                write!(f, "is by a certificate of which nobody says whether it was revoked: {what}")
            }
            Self::CertificateRevoked => f.write_str("is by a certificate that was revoked"),
            Self::WrongSigner(names) => {
                let names = if names.is_empty() { "nobody".to_owned() } else { names.join(", ") };
                write!(f, "is by {}", cut(&names, 200))
            }
            Self::BadSignature { named: None } => f.write_str("is by a key that nobody named"),
            Self::BadSignature { named: Some(key) } => {
                write!(f, "is by a key that nobody named (it says `{}`)", cut(key, 64))
            }
            Self::SignatureExpired(at) => write!(f, "ended on {}", day(*at)),
            Self::NotYet(at) => write!(f, "says that it was made on {}, which is not yet", day(*at)),
            Self::Log(what) => write!(f, "is not proved by a log: {what}"),
            Self::NotForThisRepository { signer } => {
                write!(f, "is by {signer}, who does not speak for this repository")
            }
            Self::KeyRevoked { signer } => write!(f, "is by a key of {signer} that was revoked"),
            Self::WrongDigest { signer, digest: Some(digest) } => {
                write!(f, "is by {signer} over another image ({digest})")
            }
            Self::WrongDigest { signer, digest: None } => write!(f, "is by {signer} over no image that it names"),
            Self::WrongTarget { signer } => {
                write!(f, "is by {signer} over the same digest with another size or type")
            }
            Self::WrongIdentity { signer, named } => {
                write!(f, "is by {signer} for another repository (`{}`)", cut(named, 200))
            }
            Self::WrongPredicate { signer, predicate } => {
                write!(f, "is by {signer} and says something else (`{}`)", cut(predicate, 200))
            }
            Self::Condition { signer } => write!(f, "is by {signer} and does not say what is asked"),
            Self::Stale { signer, at: Some(at) } => {
                write!(f, "is by {signer} and of {}, which is too long ago", day(*at))
            }
            Self::Stale { signer, at: None } => {
                write!(f, "is by {signer} and of no time that can be believed")
            }
        }
    }
}

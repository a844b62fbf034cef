//! What came of asking a host, in words.

use super::evidence::Outcome;

impl Outcome {
    /// What it is, in words.
    pub fn described(&self) -> String {
        describe(self)
    }
}

fn describe(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Pulls { digest, .. } => format!("it can be pulled ({digest})"),
        Outcome::UnknownHost => "the name is not known".into(),
        Outcome::NameService(why) => format!("the name service gives no answer: {why}"),
        Outcome::Refused(at) => format!("nothing listens at {at}"),
        Outcome::NoAnswer => "nothing answers at the address".into(),
        Outcome::Reset => "the connection was broken off".into(),
        Outcome::PlainHttp => "it speaks plain HTTP, and was asked by HTTPS".into(),
        Outcome::WantsTls => "it wants HTTPS, and was asked by plain HTTP".into(),
        Outcome::NotHttp(what) => format!("what came is no answer of a registry: {what}"),
        Outcome::CaptivePage(title) => format!("a web page came instead of an answer: {title}"),
        Outcome::Proxy(what) => format!("a proxy is in the way: {what}"),
        Outcome::Stalled => "it took the request and did not answer".into(),
        Outcome::RedirectLoop(what) => format!("the redirects lead nowhere: {what}"),
        Outcome::UnknownAuthority(who) => {
            format!("its certificate is by {who}, which is not trusted")
        }
        Outcome::WrongName(names) => format!("its certificate is for {names}"),
        Outcome::CertificateExpired(when) => format!("its certificate ended {when}"),
        Outcome::CertificateEarly(when) => format!("its certificate begins {when}"),
        Outcome::ClientCertificate => "it wants a certificate of the node".into(),
        Outcome::Unauthorized { shown, said } => {
            let with = if *shown { "with a sign-in" } else { "without a sign-in" };
            format!("401 {with}{}", quoted(said.as_ref()))
        }
        Outcome::TokenDown(why) => format!("its token service cannot be reached: {why}"),
        Outcome::TokenRefused { status, said, .. } => {
            format!("its token service answers {status}{}", quoted(said.as_ref()))
        }
        Outcome::TokenOdd(why) => format!("its token service gives no token: {why}"),
        Outcome::TokenWithoutAccess { said, .. } => {
            format!("the token does not allow the pull{}", quoted(said.as_ref()))
        }
        Outcome::Forbidden(said) => format!("403{}", quoted(said.as_ref())),
        Outcome::NotFound => "404: it is not there, or may not be seen".into(),
        Outcome::ChildMissing(digest) => format!("the platform's manifest {digest} is not there"),
        Outcome::BlobMissing(digest) => format!("the blob {digest} is not there"),
        Outcome::BlobCorrupt(what) => format!("altered content: {what}"),
        Outcome::BlobLength(what) => format!("wrong length: {what}"),
        Outcome::StreamCut(what) => format!("broke off: {what}"),
        Outcome::PlatformMissing(present) => format!("made for {} only", present.join(", ")),
        Outcome::ManifestTooLarge(size) => {
            format!("a manifest of {size} bytes; runtimes take 4,393,216 at most")
        }
        Outcome::ManifestOdd(why) => format!("a manifest that cannot be used: {why}"),
        Outcome::NoImage(what) => format!("no image that a node can run: {what}"),
        Outcome::OddHead(what) => format!("an answer to HEAD that runtimes cannot use: {what}"),
        Outcome::RateLimited(Some(seconds)) => format!("429, again in {}", span(*seconds)),
        Outcome::RateLimited(None) => "429".into(),
        Outcome::Failing { status, said } => format!("{status}{}", quoted(said.as_ref())),
    }
}

pub(super) fn span(seconds: u64) -> String {
    match seconds {
        0..=119 => format!("{seconds} s"),
        120..=7199 => format!("{} min", seconds / 60),
        _ => format!("{} h", seconds / 3600),
    }
}

pub(super) fn quoted(said: Option<&String>) -> String {
    said.map_or_else(String::new, |said| format!(": “{said}”"))
}

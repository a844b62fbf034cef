//! What came of asking a host, in words.

use super::evidence::HostOutcome;

impl HostOutcome {
    /// What it is, in words.
    pub fn described(&self) -> String {
        describe(self)
    }
}

fn describe(outcome: &HostOutcome) -> String {
    match outcome {
        HostOutcome::Pulls { digest, .. } => format!("it can be pulled ({digest})"),
        HostOutcome::UnknownHost => "the name is not known".into(),
        HostOutcome::NameService(why) => format!("the name service gives no answer: {why}"),
        HostOutcome::Refused(at) => format!("nothing listens at {at}"),
        HostOutcome::NoAnswer => "nothing answers at the address".into(),
        HostOutcome::Reset => "the connection was broken off".into(),
        HostOutcome::PlainHttp => "it speaks plain HTTP, and was asked by HTTPS".into(),
        HostOutcome::WantsTls => "it wants HTTPS, and was asked by plain HTTP".into(),
        HostOutcome::NotHttp(what) => format!("what came is no answer of a registry: {what}"),
        HostOutcome::CaptivePage(title) => format!("a web page came instead of an answer: {title}"),
        HostOutcome::Proxy(what) => format!("a proxy is in the way: {what}"),
        HostOutcome::Stalled => "it took the request and did not answer".into(),
        HostOutcome::RedirectLoop(what) => format!("the redirects lead nowhere: {what}"),
        HostOutcome::UnknownAuthority(who) => {
            format!("its certificate is by {who}, which is not trusted")
        }
        HostOutcome::WrongName(names) => format!("its certificate is for {names}"),
        HostOutcome::CertificateExpired(when) => format!("its certificate ended {when}"),
        HostOutcome::CertificateEarly(when) => format!("its certificate begins {when}"),
        HostOutcome::ClientCertificate => "it wants a certificate of the node".into(),
        HostOutcome::Unauthorized { shown, said } => {
            let with = if *shown { "with a sign-in" } else { "without a sign-in" };
            format!("401 {with}{}", quoted(said.as_ref()))
        }
        HostOutcome::TokenDown(why) => format!("its token service cannot be reached: {why}"),
        HostOutcome::TokenRefused { status, said, .. } => {
            format!("its token service answers {status}{}", quoted(said.as_ref()))
        }
        HostOutcome::TokenOdd(why) => format!("its token service gives no token: {why}"),
        HostOutcome::TokenWithoutAccess { said, .. } => {
            format!("the token does not allow the pull{}", quoted(said.as_ref()))
        }
        HostOutcome::Forbidden(said) => format!("403{}", quoted(said.as_ref())),
        HostOutcome::NotFound => "404: it is not there, or may not be seen".into(),
        HostOutcome::ChildMissing(digest) => {
            format!("the platform's manifest {digest} is not there")
        }
        HostOutcome::BlobMissing(digest) => format!("the blob {digest} is not there"),
        HostOutcome::BlobCorrupt(what) => format!("altered content: {what}"),
        HostOutcome::BlobLength(what) => format!("wrong length: {what}"),
        HostOutcome::StreamCut(what) => format!("broke off: {what}"),
        HostOutcome::PlatformMissing(present) => format!("made for {} only", present.join(", ")),
        HostOutcome::ManifestTooLarge(size) => {
            format!("a manifest of {size} bytes; runtimes take 4,393,216 at most")
        }
        HostOutcome::ManifestOdd(why) => format!("a manifest that cannot be used: {why}"),
        HostOutcome::NoImage(what) => format!("no image that a node can run: {what}"),
        HostOutcome::OddHead(what) => format!("an answer to HEAD that runtimes cannot use: {what}"),
        HostOutcome::RateLimited(Some(seconds)) => format!("429, again in {}", span(*seconds)),
        HostOutcome::RateLimited(None) => "429".into(),
        HostOutcome::Failing { status, said } => format!("{status}{}", quoted(said.as_ref())),
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

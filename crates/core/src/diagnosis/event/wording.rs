//! Which cause do these words mean? The wordings of the node runtime's lines, of its own client and of the kubelet.

use super::{PullEvent, refusal};
use crate::diagnosis::Cause;
use crate::reference::{Reference, Unqualified};

/// What a text fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WordingFit {
    /// The cause that it fits best.
    pub cause: Cause,
    /// What it says, in a sentence.
    pub told: String,
    /// Causes of which runtimes say the very same. Empty: it is said of no other.
    pub or: Vec<Cause>,
}

impl WordingFit {
    fn new(cause: Cause, told: impl Into<String>) -> Self {
        Self { cause, told: told.into(), or: Vec::new() }
    }

    fn or(mut self, others: &[Cause]) -> Self {
        self.or = others.to_vec();
        self
    }
}

/// Words that mean one cause, whatever stands around them; the sentence has `{host}` and `{image}` in it. The first
/// that fits counts.
const PLAIN: &[(&[&str], Cause, &str)] = &[
    (
        &["must be lowercase", "must be lower case"],
        Cause::UpperCase,
        "{image}: names are lower case",
    ),
    (
        &["pull policy of Never", "ErrImageNeverPull"],
        Cause::NeverPulled,
        "{image} is not on the node, and the pod forbids that it is pulled (`imagePullPolicy: Never`)",
    ),
    (
        &["no space left on device", "disk quota exceeded", "DiskPressure"],
        Cause::DiskFull,
        "the node has no room for {image}",
    ),
    (&["read-only file system"], Cause::ReadOnly, "the node's disk takes no writes"),
    (&["too many open files"], Cause::TooManyFiles, "the node's runtime has no file handles left"),
    (
        &[
            "unable to read CA cert",
            "unable to load CA cert",
            "unable to read CERT file",
            "unable to read KEY file",
            "failed to load X509 key pair",
        ],
        Cause::MirrorFile,
        "a mirror file names a certificate or key that the node cannot read",
    ),
    (
        &[
            "failed to decode hosts.toml",
            "/hosts.toml\" error=",
            "invalid `host` tree",
            "failed to parse hosts.toml",
        ],
        Cause::MirrorFile,
        "the runtime drops a mirror file that it cannot read",
    ),
    (
        &["`mirrors` cannot be set when `config_path`"],
        Cause::MirrorNotRead,
        "the runtime's configuration names mirrors twice, and is not loaded",
    ),
    (
        &[
            "certificate signed by unknown authority",
            "unable to get local issuer certificate",
            "self-signed certificate",
            "self signed certificate",
        ],
        Cause::UnknownAuthority,
        "the node does not trust the certificate of {host}",
    ),
    (
        &[
            "certificate is valid for",
            "certificate is not valid for",
            "doesn't contain any IP SANs",
            "relies on legacy Common Name",
        ],
        Cause::WrongName,
        "the certificate of {host} is for another name",
    ),
    (
        &["tls: certificate required", "tls: bad certificate", "tls: unknown certificate"],
        Cause::ClientCertificate,
        "{host} wants a certificate of the node",
    ),
    (
        &[
            "first record does not look like a TLS handshake",
            "server gave HTTP response to HTTPS client",
        ],
        Cause::PlainHttp,
        "{host} speaks plain HTTP, and HTTPS was asked for",
    ),
    (
        &[
            "HTTP request to an HTTPS server",
            "400 Bad Request: Client sent an HTTP",
            "malformed HTTP response \\\"\\\\x15\\\\x03",
            "malformed HTTP response \"\\x15\\x03",
            "malformed HTTP response \\\"\\x15\\x03",
        ],
        Cause::WantsTls,
        "{host} wants HTTPS",
    ),
    (
        &["proxyconnect", "Proxy Authentication Required", "Forbidden by proxy"],
        Cause::Proxy,
        "a proxy stands between the node and {host}",
    ),
    (
        &["server misbehaving", "read udp", "Temporary failure in name resolution"],
        Cause::NameService,
        "the node's name service gives no answer",
    ),
    (&["stopped after 10 redirects"], Cause::RedirectLoop, "{host} redirects in a circle"),
    (
        &["unexpected media type text/html"],
        Cause::CaptivePage,
        "what answers at {host} is no registry",
    ),
    (
        &["malformed HTTP response", "malformed HTTP status", "malformed HTTP version"],
        Cause::NotHttp,
        "what answers at {host} is no registry",
    ),
    (
        &["no match for platform", "no matching manifest"],
        Cause::PlatformMissing,
        "{image} is not made for the node's platform",
    ),
    (
        &["no realm specified for token auth challenge"],
        Cause::TokenOdd,
        "{host} asks for a token, and does not say where tokens are issued",
    ),
    (
        &["schema 1 image manifests are no longer supported", "\": no signatures"],
        Cause::ManifestOdd,
        "what {host} gives for {image} is of no type that runtimes take",
    ),
    (&["exec format error"], Cause::WrongArchitecture, "{image} is for another architecture"),
    (&["rejecting "], Cause::ManifestTooLarge, "the manifest of {image} is too large"),
    (
        &["unexpected commit digest", "failed commit on ref", "digest verification failed"],
        Cause::BlobCorrupt,
        "what {host} sent is not what its digest says",
    ),
    (
        &["failed size validation", "unexpected commit size"],
        Cause::BlobLength,
        "what {host} sent has another length",
    ),
    (
        &[
            "number of layers and diffIDs don't match",
            "invalid desc sha",
            "no processor for media-type",
            "unexpected media type",
            "unsupported media type",
        ],
        Cause::ManifestOdd,
        "the manifest of {image} is none that the runtime can use",
    ),
    (
        &["mismatched image rootfs and manifest layers"],
        Cause::NoImage,
        "{image} is no image that a node can run",
    ),
    (
        &["reports content size of zero", "reference for unknown type: application/json"],
        Cause::OddHead,
        "{host} answers HEAD in a way that runtimes cannot use",
    ),
    (
        &["did not include a token", "unable to decode token response"],
        Cause::TokenOdd,
        "the token service of {host} gives no token",
    ),
    (
        &["no basic auth credentials"],
        Cause::NoCredential,
        "{host} wants a sign-in, and the pod has none",
    ),
    (
        &["Unable to retrieve some image pull secrets"],
        Cause::SecretMissing,
        "the kubelet cannot find a pull secret that the pod names",
    ),
    (
        &["pull QPS exceeded", "registry_qps"],
        Cause::RateLimited,
        "the kubelet itself bounds how often it pulls (`registryPullQPS`)",
    ),
    (
        &["exceeds the maximum image size", "image size exceeds"],
        Cause::ImageTooLarge,
        "{image} is larger than the node allows",
    ),
];

impl PullEvent {
    /// What the text fits. None: it only says that there was a failure.
    pub fn said(&self) -> Option<WordingFit> {
        if let Some(cause) = refusal(&self.text) {
            return Some(WordingFit::new(cause, self.own_words(cause)));
        }
        self.by_reference().or_else(|| self.by_wording()).or_else(|| self.by_status())
    }

    /// The cause that the text fits best, and what it says. None: it only says that there was a failure.
    pub fn cause(&self) -> Option<(Cause, String)> {
        self.said().map(|said| (said.cause, said.told))
    }

    fn has(&self, words: &str) -> bool {
        self.text.contains(words)
    }

    fn any(&self, all: &[&str]) -> bool {
        all.iter().any(|words| self.has(words))
    }

    fn fill(&self, sentence: &str) -> String {
        let image = self.reference.as_deref().unwrap_or("the image");
        let host = self.host.as_deref().unwrap_or("the registry");
        sentence.replace("{image}", image).replace("{host}", host)
    }

    /// A larder's own sentence, without what the runtime wraps it in.
    fn own_words(&self, cause: Cause) -> String {
        let image = self.reference.as_deref().unwrap_or("the image");
        let plain = self.text.replace("\\\"", "\"");
        let begins = [
            "denied: ",
            "unauthorized: ",
            "toomanyrequests: ",
            "unknown: ",
            "server message: ",
            "Forbidden: ",
            "Unauthorized: ",
            "Unavailable: ",
            "Gateway: ",
        ];
        let sentence = begins.iter().find_map(|word| plain.rsplit_once(word)).map(|(_, rest)| rest);
        let sentence =
            sentence.map(|rest| rest.lines().next().unwrap_or(rest).trim_matches(['"', ' ']));
        match sentence.filter(|sentence| refusal(sentence).is_some()) {
            Some(sentence) => format!("the larder says: {sentence}"),
            None => self.fill(&format!("the larder says of {image}: {}", cause.title())),
        }
    }

    /// A reference that no node can read says all by itself.
    fn by_reference(&self) -> Option<WordingFit> {
        let told = || self.fill("{image} cannot be read as a reference");
        if let Some(reference) = &self.reference
            && let Err(malformed) = Reference::read(reference, &Unqualified::default())
        {
            return Some(WordingFit::new(Cause::of_name(&malformed), told()));
        }
        if self.any(&["invalid checksum digest", "unsupported digest algorithm"]) {
            return Some(WordingFit::new(Cause::BadDigest, told()));
        }
        let unreadable = [
            "invalid reference format",
            "invalid reference",
            "InvalidImageName",
            "couldn't parse image",
            "object required",
        ];
        self.any(&unreadable).then(|| WordingFit::new(Cause::Malformed, told()))
    }

    fn by_wording(&self) -> Option<WordingFit> {
        // Long: wordings in the order in which they must be tried.
        if self.has("certificate has expired or is not yet valid") {
            let early = self.has("is before");
            let cause = if early { Cause::CertificateEarly } else { Cause::CertificateExpired };
            let told = self.fill("the certificate of {host} is not good at the node's time");
            return Some(WordingFit::new(cause, told));
        }
        // What is said of a token service is not said of the registry.
        if self.has("failed to authorize")
            || self.any(&["fetch oauth token", "fetch anonymous token"])
        {
            return Some(self.by_token());
        }
        let plain = PLAIN.iter().find(|(words, ..)| self.any(words));
        if let Some((_, cause, sentence)) = plain {
            let said = WordingFit::new(*cause, self.fill(sentence));
            return Some(match cause {
                Cause::PlainHttp => said.or(&[Cause::MirrorNotRead]),
                Cause::NoImage => said.or(&[Cause::ManifestOdd]),
                _ => said,
            });
        }
        if let Some(said) = self.by_transport() {
            return Some(said);
        }
        if self.has("content at ") && self.has("/manifests/sha256:") {
            let told = self.fill("a manifest that {image} leads to is not at {host}");
            return Some(
                WordingFit::new(Cause::ChildMissing, told)
                    .or(&[Cause::DigestMissing, Cause::TagMoved]),
            );
        }
        if self.has("content at ") && self.has("/blobs/") {
            return Some(WordingFit::new(
                Cause::BlobMissing,
                self.fill("a part of {image} is not there"),
            ));
        }
        if self.has("could not fetch content descriptor") {
            let odd = ["(application/json)", "(text/", "(application/octet-stream)"];
            return Some(match self.any(&odd) {
                true => WordingFit::new(
                    Cause::OddHead,
                    self.fill("{host} answers HEAD in a way that runtimes cannot use"),
                ),
                false if self.any(&["manifest.v", "manifest.list", "image.index"]) => {
                    WordingFit::new(
                        Cause::ChildMissing,
                        self.fill("a manifest that {image} leads to is not there"),
                    )
                }
                false => {
                    WordingFit::new(Cause::BlobMissing, self.fill("a part of {image} is not there"))
                }
            });
        }
        if self.any(&["failed to extract layer", "invalid tar header", "gzip: invalid"]) {
            let told =
                self.fill("a part of {image} cannot be unpacked: it is broken where it was made");
            return Some(WordingFit::new(Cause::BlobCorrupt, told).or(&[Cause::Snapshotter]));
        }
        if self.any(&[
            "unexpected EOF",
            "failed to read expected number of bytes",
            "short read: expected",
        ]) {
            return Some(
                WordingFit::new(Cause::StreamCut, self.fill("{host} broke off in the middle"))
                    .or(&[Cause::BlobCorrupt]),
            );
        }
        if self.has("snapshotter") || self.has("failed to prepare extraction snapshot") {
            return Some(WordingFit::new(
                Cause::Snapshotter,
                "the node's own store of unpacked layers fails",
            ));
        }
        if self.has("invalid_token") {
            let told = self.fill("{host} does not take the token any more");
            return Some(
                WordingFit::new(Cause::WrongCredential, told)
                    .or(&[Cause::KeyRevoked, Cause::KeyExpired]),
            );
        }
        if self.any(&["insufficient_scope", "pull access denied"]) {
            let told = "{image} is not there, or the account may not pull it: the text is the same for both";
            return Some(
                WordingFit::new(Cause::TokenWithoutAccess, self.fill(told))
                    .or(&[Cause::AbsentOrHidden]),
            );
        }
        None
    }

    /// Where no answer came.
    fn by_transport(&self) -> Option<WordingFit> {
        let told = |cause, sentence: &str| Some(WordingFit::new(cause, self.fill(sentence)));
        if self.has("no such host") {
            return told(Cause::UnknownHost, "the node does not know the name {host}");
        }
        if self.has("connection refused") {
            return told(Cause::Refused, "nothing listens at {host}");
        }
        if self.any(&["connection reset by peer", "broken pipe", ": EOF"])
            && !self.has("unexpected EOF")
        {
            return told(Cause::Reset, "{host} breaks the connection off");
        }
        if self.any(&[
            "i/o timeout",
            "TLS handshake timeout",
            "no route to host",
            "network is unreachable",
            "host is down",
        ]) {
            return told(Cause::NoAnswer, "nothing answers at {host}");
        }
        let silent = [
            "context deadline exceeded",
            "Deadline Exceeded",
            "DeadlineExceeded",
            "context canceled",
            "no progress in",
            "timeout awaiting response headers",
        ];
        if self.any(&silent) {
            return told(Cause::Stalled, "{host} did not answer in time");
        }
        // A proxy that refuses to connect: its status comes without a number.
        let phrases = [
            "Forbidden",
            "Bad Gateway",
            "Service Unavailable",
            "Gateway Timeout",
            "Unauthorized",
            "Not Found",
            "Bad Request",
            "Method Not Allowed",
        ];
        let plain = self.text.replace("\\\"", "\"");
        let after = plain
            .split_once("failed to do request: ")
            .and_then(|(_, rest)| rest.split_once("\": "));
        if let Some((_, rest)) = after
            && phrases.iter().any(|phrase| rest.starts_with(phrase))
        {
            return told(Cause::Proxy, "a proxy stands between the node and {host}");
        }
        None
    }

    /// What the token service came to.
    fn by_token(&self) -> WordingFit {
        let anonymous = self.has("anonymous token");
        let odd = ["did not include a token", "unable to decode token response"];
        if self.any(&odd) {
            return WordingFit::new(
                Cause::TokenOdd,
                self.fill("the token service of {host} gives no token"),
            );
        }
        if self.has("no basic auth credentials") {
            return WordingFit::new(
                Cause::NoCredential,
                self.fill("{host} wants a sign-in, and the pod has none"),
            );
        }
        let trust = PLAIN.iter().find(|(words, cause, _)| {
            cause.step() == crate::diagnosis::PullStep::Trust && self.any(words)
        });
        if let Some((_, cause, sentence)) = trust {
            return WordingFit::new(*cause, self.fill(sentence));
        }
        match self.status {
            Some(401) if anonymous => WordingFit::new(
                Cause::NoCredential,
                "the token service wants a sign-in, and the pod has none",
            )
            .or(&[Cause::TokenRefused]),
            Some(401) => WordingFit::new(
                Cause::WrongCredential,
                self.fill("the token service of {host} does not accept the name and secret"),
            ),
            Some(429) => WordingFit::new(
                Cause::RateLimited,
                "the token service limits how often it is asked",
            ),
            Some(status) => {
                let said = WordingFit::new(
                    Cause::TokenRefused,
                    self.fill(&format!(
                        "the token service of {{host}} refuses: it answers {status}"
                    )),
                );
                let other = if anonymous { Cause::NoCredential } else { Cause::WrongCredential };
                if status == 403 { said.or(&[other]) } else { said }
            }
            None if self.has("failed to do request") || self.by_transport().is_some() => {
                WordingFit::new(Cause::TokenDown, "the token service cannot be reached")
            }
            None => WordingFit::new(Cause::TokenRefused, "the token service gives no token"),
        }
    }

    fn by_status(&self) -> Option<WordingFit> {
        let told = |cause, sentence: &str| Some(WordingFit::new(cause, self.fill(sentence)));
        // Said only where another host is asked next; the older lines say it of the last one too.
        let goes_on = self.has("trying next host");
        let other = match (&self.host, &self.reference) {
            (Some(host), Some(reference)) => Reference::read(reference, &Unqualified::default())
                .is_ok_and(|read| read.reference.host.as_str() != host),
            _ => false,
        };
        if goes_on && (self.has("after status: ") || other) {
            let status =
                self.status.map_or_else(String::new, |status| format!(": it answers {status}"));
            let told = self.fill(&format!("the mirror {{host}} is skipped{status}"));
            let by = self.of_status().map(|said| said.cause);
            return Some(WordingFit::new(Cause::MirrorSkipped, told).or(by.as_slice()));
        }
        if self.has("http.StatusNotFound") {
            return told(Cause::AbsentOrHidden, "{image} is not at {host}, or may not be seen");
        }
        if let Some(said) = self.of_status() {
            return Some(said);
        }
        let end = self.text.trim_end_matches(['"', '.', ' ']);
        end.ends_with("not found").then(|| {
            let told = "{image} is not there, or may not be seen: the text is the same for both";
            // The newest runtimes say so too where one host has it not and another cannot be asked at all.
            WordingFit::new(Cause::AbsentOrHidden, self.fill(told)).or(&[Cause::MirrorSkipped])
        })
    }

    fn of_status(&self) -> Option<WordingFit> {
        let told = |cause, sentence: &str| Some(WordingFit::new(cause, self.fill(sentence)));
        match self.status? {
            401 => told(
                Cause::NoCredential,
                "{host} wants a sign-in, or does not accept the one it got",
            )
            .map(|said| said.or(&[Cause::WrongCredential])),
            403 => told(Cause::Forbidden, "{host} forbids the pull"),
            404 => told(Cause::AbsentOrHidden, "{image} is not at {host}, or may not be seen"),
            410 => told(Cause::AbsentOrHidden, "{host} says that {image} is gone"),
            408 => told(Cause::Failing, "{host} says that the request took too long"),
            429 => told(Cause::RateLimited, "{host} limits how much is pulled"),
            // Plain HTTP at a port that speaks TLS is answered so.
            400 if !self.has("https://") => {
                told(Cause::WantsTls, "{host} does not take the request: it may want HTTPS")
                    .map(|said| said.or(&[Cause::ManifestOdd]))
            }
            300..=399 | 405 | 501 => {
                told(Cause::OddHead, "{host} answers HEAD in a way that runtimes cannot use")
            }
            status @ 500..=599 => told(Cause::Failing, &format!("{{host}} answers {status}")),
            status => told(Cause::Forbidden, &format!("{{host}} answers {status}"))
                .map(|said| said.or(&[Cause::ManifestOdd])),
        }
    }
}

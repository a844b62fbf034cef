//! What the cluster's events, a node's journal or a runtime's error say. The wordings differ between
//! versions, so several of each are known.

use super::Cause;

/// The longest text that is read, in bytes.
const LIMIT: usize = 1024 * 1024;
/// Failures that are taken from one text.
const MOST: usize = 200;

/// One failure that a text tells of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Event {
    /// The image. None: the text does not say.
    pub reference: Option<String>,
    /// The host that was asked. None: the text does not say.
    pub host: Option<String>,
    /// The status. None: there was none.
    pub status: Option<u16>,
    /// The number that a refusal of a larder carries. None: it carries none.
    pub number: Option<String>,
    /// The line, without what wraps it.
    pub text: String,
}

/// The distinct failures of a text, in their order: a line, several, or a whole description of a pod.
/// Lines that only say that there was one (`ImagePullBackOff`) count where nothing better is said.
pub fn read_events(text: &str) -> Vec<Event> {
    let end = (0..=LIMIT.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    let mut events: Vec<Event> = Vec::new();
    let mut vague: Vec<Event> = Vec::new();
    for line in text[..end].lines() {
        let Some(event) = read_line(line) else { continue };
        let is_vague = event.cause().is_none();
        let list = if is_vague { &mut vague } else { &mut events };
        let same = |known: &&Event| {
            known.reference == event.reference
                && known.cause().map(|it| it.0) == event.cause().map(|it| it.0)
                && known.host == event.host
        };
        if list.len() < MOST && !list.iter().any(|known| same(&known)) {
            list.push(event);
        }
    }
    let told = |event: &Event| events.iter().any(|known| known.reference == event.reference);
    let untold: Vec<Event> = vague.into_iter().filter(|event| !told(event)).collect();
    events.into_iter().chain(untold).collect()
}

fn read_line(line: &str) -> Option<Event> {
    const SIGNS: [&str; 14] = [
        "failed to pull",
        "Failed to pull",
        "failed to resolve",
        "pull access denied",
        "couldn't parse image",
        "failed to parse image",
        "Failed to apply default image tag",
        "Back-off pulling image",
        "ErrImagePull",
        "ImagePullBackOff",
        "InvalidImageName",
        "trying next host",
        "failed to decode hosts.toml",
        "failed to do request",
    ];
    if !SIGNS.iter().any(|sign| line.contains(sign)) {
        return None;
    }
    let text = line.trim().to_owned();
    Some(Event {
        reference: reference(&text),
        host: host(&text),
        status: status(&text),
        number: number(&text),
        text,
    })
}

/// What stands in quotes after one of the words that name an image.
fn reference(text: &str) -> Option<String> {
    let plain = text.replace("\\\"", "\"");
    for word in [
        "pull and unpack image ",
        "Failed to pull image ",
        "resolve reference ",
        "pulling image ",
        "parse image reference ",
        "parse image name ",
        "default image tag ",
        "Pulling image ",
    ] {
        if let Some((_, rest)) = plain.split_once(word)
            && let Some(rest) = rest.strip_prefix('"')
            && let Some((reference, _)) = rest.split_once('"')
            && !reference.is_empty()
        {
            return Some(reference.to_owned());
        }
    }
    None
}

fn host(text: &str) -> Option<String> {
    if let Some((_, rest)) = text.split_once("pulling from host ") {
        return rest.split(' ').next().map(str::to_owned);
    }
    let (_, rest) = text.split_once("://")?;
    let host = rest.split(['/', '"', ' ', '\\']).next().unwrap_or_default();
    (!host.is_empty()).then(|| host.to_owned())
}

fn status(text: &str) -> Option<u16> {
    // The last number of three digits before one of the standard's phrases.
    let words: Vec<&str> = text.split([' ', ':', '"']).collect();
    let pairs = words.windows(2).rev();
    let known = |code: u16| (400..=599).contains(&code);
    for pair in pairs {
        if let Ok(code) = pair[0].parse::<u16>()
            && known(code)
            && pair[1].starts_with(|c: char| c.is_ascii_uppercase())
        {
            return Some(code);
        }
    }
    None
}

/// The number in brackets at the end of a refusal's sentence.
fn number(text: &str) -> Option<String> {
    let (before, _) = text.rsplit_once(']')?;
    let (_, inside) = before.rsplit_once('[')?;
    let known = |c: char| c.is_ascii_alphanumeric() || c == '-';
    (inside.len() >= 4 && inside.chars().all(known) && inside.chars().any(|c| c.is_ascii_digit()))
        .then(|| inside.to_owned())
}

/// The cause in the words of a larder's own refusal. None: it is none, or of another kind.
pub fn refusal(text: &str) -> Option<Cause> {
    let causes = [
        ("nobody signed in", Cause::NoCredential),
        ("is refused by rule `", Cause::RuleDenies),
        ("may not pull", Cause::GrantMissing),
        ("no grant names it", Cause::GrantMissing),
    ];
    causes.into_iter().find(|(words, _)| text.contains(words)).map(|(_, cause)| cause)
}

impl Event {
    /// The cause that the text fits best, and what it says. None: it only says that there was a failure.
    pub fn cause(&self) -> Option<(Cause, String)> {
        let text = self.text.as_str();
        let has = |words: &str| text.contains(words);
        let any = |all: &[&str]| all.iter().any(|words| text.contains(words));
        let image = self.reference.clone().unwrap_or_else(|| "the image".into());
        let host = self.host.clone().unwrap_or_else(|| "the registry".into());
        let is = |cause: Cause, told: String| Some((cause, told));
        if any(&["must be lowercase"]) {
            return is(Cause::UpperCase, format!("{image}: names are lower case"));
        }
        if any(&[
            "invalid reference format",
            "invalid reference",
            "InvalidImageName",
            "couldn't parse image",
        ]) {
            let cause = match &self.reference {
                Some(reference) if reference.contains("://") => Cause::Scheme,
                Some(reference) if reference.contains(char::is_whitespace) => Cause::Blank,
                _ => Cause::Malformed,
            };
            return is(cause, format!("{image} cannot be read as a reference"));
        }
        if has("failed to decode hosts.toml") {
            return is(
                Cause::MirrorFile,
                "the runtime drops a mirror file that it cannot read".into(),
            );
        }
        if has("signed by unknown authority") {
            return is(
                Cause::UnknownAuthority,
                format!("the node does not trust the certificate of {host}"),
            );
        }
        if has("certificate has expired or is not yet valid") {
            let early = text.contains("is before");
            let cause = if early { Cause::CertificateEarly } else { Cause::CertificateExpired };
            return is(cause, format!("the certificate of {host} is not good at the node's time"));
        }
        if any(&["certificate is valid for", "certificate is not valid for"]) {
            return is(Cause::WrongName, format!("the certificate of {host} is for another name"));
        }
        if any(&["tls: certificate required", "tls: bad certificate"]) {
            return is(Cause::ClientCertificate, format!("{host} wants a certificate of the node"));
        }
        if any(&[
            "first record does not look like a TLS handshake",
            "server gave HTTP response to HTTPS client",
        ]) {
            return is(
                Cause::PlainHttp,
                format!("{host} speaks plain HTTP, and HTTPS was asked for"),
            );
        }
        if any(&["HTTP request to an HTTPS server", "400 Bad Request: Client sent an HTTP"]) {
            return is(Cause::WantsTls, format!("{host} wants HTTPS"));
        }
        if any(&["proxyconnect", "Proxy Authentication Required", "Forbidden by proxy"]) {
            return is(Cause::Proxy, format!("a proxy stands between the node and {host}"));
        }
        if has("no such host") {
            return is(Cause::UnknownHost, format!("the node does not know the name {host}"));
        }
        if any(&["server misbehaving", "read udp"]) {
            return is(Cause::NameService, "the node's name service gives no answer".into());
        }
        if has("connection refused") {
            return is(Cause::Refused, format!("nothing listens at {host}"));
        }
        if has("connection reset by peer") {
            return is(Cause::Reset, format!("{host} breaks the connection off"));
        }
        if any(&["i/o timeout", "TLS handshake timeout"]) {
            return is(Cause::NoAnswer, format!("nothing answers at {host}"));
        }
        if any(&["context deadline exceeded", "Deadline Exceeded", "DeadlineExceeded"]) {
            return is(Cause::Stalled, format!("{host} did not answer in time"));
        }
        if has("stopped after 10 redirects") {
            return is(Cause::RedirectLoop, format!("{host} redirects in a circle"));
        }
        if any(&["malformed HTTP response", "unexpected media type text/html"]) {
            let page = has("text/html");
            let cause = if page { Cause::CaptivePage } else { Cause::NotHttp };
            return is(cause, format!("what answers at {host} is no registry"));
        }
        if any(&["no match for platform", "no matching manifest"]) {
            return is(
                Cause::PlatformMissing,
                format!("{image} is not made for the node's platform"),
            );
        }
        if has("exec format error") {
            return is(Cause::WrongArchitecture, format!("{image} is for another architecture"));
        }
        if any(&["unexpected commit digest", "failed commit on ref"]) {
            return is(Cause::BlobCorrupt, format!("what {host} sent is not what its digest says"));
        }
        if any(&["failed size validation"]) {
            return is(Cause::BlobLength, format!("what {host} sent has another length"));
        }
        if any(&["unexpected EOF", "failed to read expected number of bytes"]) {
            return is(Cause::StreamCut, format!("{host} broke off in the middle"));
        }
        if has("could not fetch content descriptor") {
            return is(Cause::BlobMissing, format!("a part of {image} is not there"));
        }
        if has("rejecting") && has("byte manifest") {
            return is(Cause::ManifestTooLarge, format!("the manifest of {image} is too large"));
        }
        if has("reports content size of zero") {
            return is(
                Cause::OddHead,
                format!("{host} answers HEAD in a way that runtimes cannot use"),
            );
        }
        if any(&["did not include a token", "unable to decode token response"]) {
            return is(Cause::TokenOdd, format!("the token service of {host} gives no token"));
        }
        if has("insufficient_scope") || has("pull access denied") {
            return is(
                Cause::TokenWithoutAccess,
                format!(
                    "{image} is not there, or the account may not pull it: the text is the same for both"
                ),
            );
        }
        if any(&["toomanyrequests", "Too Many Requests"]) || self.status == Some(429) {
            return is(Cause::RateLimited, format!("{host} limits how much is pulled"));
        }
        match refusal(text) {
            Some(cause @ Cause::RuleDenies) => {
                return is(cause, format!("a rule of the larder denies {image}"));
            }
            Some(cause @ Cause::GrantMissing) => {
                return is(cause, format!("no grant names {image}"));
            }
            Some(cause) => {
                return is(cause, format!("{host} wants a sign-in, and the pod has none"));
            }
            None => {}
        }
        match self.status {
            Some(401) => is(
                Cause::NoCredential,
                format!("{host} wants a sign-in, or does not accept the one it got"),
            ),
            Some(403) if has("failed to fetch") => {
                is(Cause::TokenRefused, format!("the token service of {host} refuses"))
            }
            Some(403) => is(Cause::Forbidden, format!("{host} forbids the pull")),
            Some(status @ 500..=599) if has("failed to fetch") => {
                is(Cause::TokenRefused, format!("the token service of {host} answers {status}"))
            }
            Some(status @ 500..=599) => is(Cause::Failing, format!("{host} answers {status}")),
            _ if text.trim_end_matches(['"', '.', ' ']).ends_with("not found") => is(
                Cause::AbsentOrHidden,
                format!("{image} is not there, or may not be seen: the text is the same for both"),
            ),
            _ => None,
        }
    }
}

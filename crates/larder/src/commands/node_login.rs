//! `larder node-login`: the kubelet's credential provider.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use larder_client::{Web, WebOptions};
use larder_core::access::key::Key;
use larder_core::reference::{Reference, Unqualified};
use larder_transfer::files::{CA_LIMIT, read_bounded};
use serde::Deserialize;
use serde_json::{Value, json};

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};

/// Turn a pod's service account into a pull token, for the kubelet
///
/// An executable of the kubelet's credential-provider protocol (v1): it reads a request on standard
/// input and answers on standard output. `larder handoff write` writes the kubelet's configuration for
/// it. It reads no larder.toml. Where the kubelet sends no service account's token, `--key-file` names
/// the key that is used instead.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The larder's address
    #[arg(long, value_name = "URL")]
    larder: String,
    /// The authority that is trusted for it (PEM)
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// A file with `USER:KEY`, for requests without a service account's token
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// The host of references, where it is another than the address's
    #[arg(long, value_name = "HOST")]
    host: Option<String>,
}

const VERSION: &str = "credentialprovider.kubelet.k8s.io/v1";
/// The largest request, in bytes.
const LIMIT: u64 = 1024 * 1024;
/// So many seconds before its end a token is no longer used again.
const MARGIN: u64 = 120;

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct LoginRequest {
    api_version: String,
    kind: String,
    image: String,
    #[serde(default)]
    service_account_token: String,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: one exchange with the kubelet, refusals first.
    let what = "cannot sign the node in";
    let wrong = |cause: String| {
        Failure::usage(
            what,
            cause,
            "it is called by the kubelet, as `larder handoff write` configures it",
        )
    };
    let unread = |path: &Path, error: &std::io::Error| Failure::file(what, path, error);
    let mut text = String::new();
    std::io::stdin()
        .take(LIMIT)
        .read_to_string(&mut text)
        .map_err(|error| Failure::io(what, &error))?;
    let request: LoginRequest = serde_json::from_str(&text)
        .map_err(|_| wrong("standard input holds no CredentialProviderRequest".into()))?;
    if request.api_version != VERSION || request.kind != "CredentialProviderRequest" {
        let found = format!("{} {}", request.api_version, request.kind);
        let found = larder_core::shown::cut(&found, 120);
        return Err(wrong(format!("the request is a {found}; {VERSION} is spoken")));
    }
    let address = args.larder.split_once("://").map_or(args.larder.as_str(), |(_, rest)| rest);
    let host = args.host.as_deref().unwrap_or_else(|| address.trim_end_matches('/'));
    let reference = Reference::read(&request.image, &Unqualified::default());
    let reference =
        reference.map_err(|error| wrong(format!("the image's name: {}", error.reason)))?.reference;
    if reference.host.as_str() != host {
        return Err(wrong(format!("{} is no image of {host}", reference.image())));
    }
    let (user, secret) = match (&request.service_account_token, &args.key_file) {
        (token, _) if !token.is_empty() => (String::new(), token.clone()),
        (_, Some(path)) => {
            let bytes = read_bounded(path, 4096).map_err(|error| unread(path, &error))?;
            let text = String::from_utf8_lossy(&bytes).into_owned();
            let (user, key) = text.trim().rsplit_once(':').unwrap_or(("", text.trim()));
            let key: Key = key.parse().map_err(|error| {
                wrong(format!("{}: {error}", larder_transfer::files::named(path)))
            })?;
            (user.to_owned(), key.reveal().to_owned())
        }
        _ => {
            let cause =
                "the kubelet sent no service account's token, and `--key-file` names no key";
            return Err(wrong(cause.into()));
        }
    };
    let remote = |cause: String| {
        let what = format!("cannot sign the node in at {}", args.larder);
        let remedy =
            "check the address and `--ca`; `larder log --kind failed` says what the larder refused";
        Failure::usage(what, cause, remedy).ending(Exit::Remote)
    };
    let ca = match &args.ca {
        Some(path) => read_bounded(path, CA_LIMIT).map_err(|error| unread(path, &error))?,
        None => Vec::new(),
    };
    let web = Web::new(&args.larder, WebOptions { ca, ..WebOptions::default() }).map_err(remote)?;
    let form = form(&[
        ("grant_type", "password"),
        ("username", &user),
        ("password", &secret),
        ("service", host),
        ("scope", &format!("repository:{}:pull", reference.repository)),
    ]);
    let content = Some(("application/x-www-form-urlencoded", form.into_bytes()));
    let answer = web.send("POST", "/larder/token", content).await.map_err(remote)?;
    let said: Value = serde_json::from_slice(&answer.body).unwrap_or_default();
    if answer.status != 200 {
        let why = said["errors"][0]["message"].as_str().unwrap_or("nothing more is said");
        let why = larder_core::shown::cut(why, 300);
        return Err(remote(format!("it answered {}: {why}", answer.status)));
    }
    let token = said["access_token"].as_str().unwrap_or_default();
    if token.is_empty() {
        return Err(remote("it answered without a token".into()));
    }
    let life = said["expires_in"].as_u64().unwrap_or(0).saturating_sub(MARGIN);
    context.output.standard_document(&json!({
        "apiVersion": VERSION,
        "kind": "CredentialProviderResponse",
        // The token names one repository: it is good for no other image.
        "cacheKeyType": "Image",
        "cacheDuration": format!("{}m{}s", life / 60, life % 60),
        "auth": { host: { "username": "token", "password": token } },
    }));
    Ok(Exit::Done)
}

/// Parameters as a form has them.
fn form(pairs: &[(&str, &str)]) -> String {
    let encode = |text: &str| {
        let mut encoded = String::new();
        for byte in text.bytes() {
            match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' => {
                    encoded.push(char::from(byte));
                }
                byte => encoded.push_str(&format!("%{byte:02X}")),
            }
        }
        encoded
    };
    let pairs: Vec<String> =
        pairs.iter().map(|(name, value)| format!("{name}={}", encode(value))).collect();
    pairs.join("&")
}

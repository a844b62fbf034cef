//! `larder handoff read`: what a pull secret says.

use std::io::Read as _;
use std::path::{Path, PathBuf};

use larder_core::access::key::{Key, Pepper};
use larder_core::handoff::{Login, PullSecret, SecretLogin, read_secrets};
use larder_core::shown::cut;
use larder_store::{KeyRecord, now};
use larder_transfer::files::read_bounded;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, WARN, paint, time, until};

/// Say what is in a pull secret: hosts, users, keys, until when, and whether its fields agree
///
/// Reads Secrets in YAML or JSON and clients' configurations; the secret itself is never shown. Exit
/// status 1 says that something in it cannot work.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The files; `-` reads standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// A reference for which it may be offered (again for more)
    #[arg(long, value_name = "REF")]
    image: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct ReadSecret {
    file: String,
    namespace: Option<String>,
    name: Option<String>,
    r#type: Option<String>,
    logins: Vec<ReadLogin>,
}

#[derive(Serialize, JsonSchema)]
struct ReadLogin {
    host: String,
    user: String,
    /// `key`, `password`, `identity-token`, `token`, or nothing.
    holds: Option<&'static str>,
    /// The secret without what is secret.
    shown: Option<String>,
    key: Option<String>,
    /// `good`, `expired`, `revoked`, `unknown`. None: it is no key, or the larder's store is not here.
    state: Option<&'static str>,
    expires_at: Option<String>,
    agrees: bool,
    /// The references that were asked about, for which a kubelet offers it.
    serves: Vec<String>,
    #[serde(skip)]
    left: Option<i64>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let (mut rows, mut unread) = (Vec::new(), Vec::new());
    let (known, pepper) = known(context, "cannot tell which keys are good").await?;
    for file in &args.files {
        match secrets(file) {
            Ok(secrets) => rows.extend(secrets.into_iter().map(|secret| {
                let PullSecret { namespace, name, kind, mut logins } = secret;
                // As kubelets try them.
                logins.sort_by(|a, b| b.order().cmp(&a.order()));
                let logins = logins
                    .iter()
                    .map(|login| entry(login, args, known.as_deref(), pepper.as_ref()));
                let file = larder_transfer::files::named(file);
                ReadSecret { file, namespace, name, r#type: kind, logins: logins.collect() }
            })),
            Err(failure) => unread.push(failure),
        }
    }
    // Of one file, that is all there is to say.
    if let ([], [_]) = (rows.as_slice(), unread.as_slice()) {
        return Err(unread.remove(0));
    }
    let fits = |row: &ReadSecret| {
        row.r#type.as_deref().is_none_or(|kind| kind.starts_with("kubernetes.io/dockerc"))
    };
    let bad = rows
        .iter()
        .any(|row| !fits(row) || row.logins.is_empty() || row.logins.iter().any(ReadLogin::is_bad));
    let several = args.files.len() > 1;
    context.output.tell(&SecretsReport { secrets: rows, several, asked: args.image.clone() });
    for failure in &unread {
        context.output.failure(failure);
    }
    let exit = if bad { Exit::No } else { Exit::Done };
    Ok(unread.iter().map(|failure| failure.exit).fold(exit, Exit::max))
}

/// The secrets of a file.
fn secrets(file: &Path) -> Result<Vec<PullSecret>, Failure> {
    let what = format!("cannot read {}", larder_transfer::files::named(file));
    let text = read(file).map_err(|error| Failure::io(&what, &error))?;
    read_secrets(&text).map_err(|error| {
        let remedy = "give a Secret as `kubectl get secret NAME -o yaml` prints it";
        Failure::usage(&what, error, remedy).ending(Exit::No)
    })
}

#[derive(Serialize, JsonSchema)]
pub struct SecretsReport {
    secrets: Vec<ReadSecret>,
    /// Whether several files were read.
    #[serde(skip)]
    several: bool,
    /// The references that were asked about.
    #[serde(skip)]
    asked: Vec<String>,
}

impl Report for SecretsReport {
    const KIND: &'static str = "pull-secrets";

    fn show(&self, out: &Output) {
        let mut file = "";
        for secret in &self.secrets {
            if self.several && secret.file != file {
                file = &secret.file;
                out.result(paint(DIM, format!("{file}:")));
            }
            show(secret, &self.asked, out);
        }
    }
}

/// Reads a file, or standard input.
pub fn read(path: &Path) -> std::io::Result<String> {
    let bytes = if path.as_os_str() == "-" {
        let mut bytes = Vec::new();
        std::io::stdin().take(larder_core::objects::LIMIT as u64).read_to_end(&mut bytes)?;
        bytes
    } else {
        read_bounded(path, larder_core::objects::LIMIT)?
    };
    String::from_utf8(bytes).map_err(|_| std::io::Error::other("it is no UTF-8 text"))
}

/// The keys of the larder, where its configuration and store are here.
async fn known(
    context: &Context,
    what: &str,
) -> Result<(Option<Vec<KeyRecord>>, Option<Pepper>), Failure> {
    let Some(config): Option<Config> = context.config_if_any()? else { return Ok((None, None)) };
    let Some(store) = store_if_any(&config)? else { return Ok((None, None)) };
    let keys = store.keys().await.map_err(|error| Failure::store(what, &error))?;
    Ok((Some(keys), Some(Pepper::new(&crate::access::secret(&config)?))))
}

fn entry(
    login: &Login,
    args: &Args,
    known: Option<&[KeyRecord]>,
    pepper: Option<&Pepper>,
) -> ReadLogin {
    let held = login.held.as_ref().map(SecretLogin::reveal);
    let key = held.and_then(|text| text.parse::<Key>().ok());
    let record = key.as_ref().zip(known).zip(pepper).map(|((key, known), pepper)| {
        known.iter().find(|one| one.id == key.id() && pepper.verifies(key, &one.hash))
    });
    let holds = match (&login.held, &key) {
        (None, _) => None,
        (Some(_), Some(_)) => Some("key"),
        (Some(SecretLogin::Identity(_)), None) => Some("identity-token"),
        (Some(SecretLogin::Password(text)), None)
            if text.matches('.').count() == 2 && text.starts_with("eyJ") =>
        {
            Some("token")
        }
        (Some(SecretLogin::Password(_)), None) => Some("password"),
    };
    let state = record.map(|record| match record {
        None => "unknown",
        Some(one) if one.revoked.is_some() => "revoked",
        Some(one) if !one.is_good(now()) => "expired",
        Some(_) => "good",
    });
    let expires = record.flatten().and_then(|one| one.expires);
    ReadLogin {
        host: login.host.clone(),
        user: login.user.clone(),
        holds,
        shown: match (&key, held) {
            (Some(key), _) => Some(format!("{key:?}")),
            // Not even how long it is.
            (None, Some(_)) => Some("not shown".to_owned()),
            (None, None) => None,
        },
        key: key.as_ref().map(|key| key.id().to_string()),
        state,
        expires_at: expires.map(time),
        agrees: login.agrees,
        serves: args.image.iter().filter(|image| login.serves(image)).cloned().collect(),
        left: expires,
    }
}

impl ReadLogin {
    fn is_bad(&self) -> bool {
        !self.agrees
            || self.holds.is_none()
            || matches!(self.state, Some("unknown" | "revoked" | "expired"))
    }
}

fn show(row: &ReadSecret, asked: &[String], out: &Output) {
    let safe = |text: &str| cut(text, 600);
    let mut lines = Vec::new();
    match (&row.r#type, &row.name) {
        (None, _) => lines.push(paint(STRONG, "a client's configuration")),
        (Some(kind), name) => {
            let name = name.as_deref().unwrap_or("(no name)");
            let namespace = row.namespace.as_deref().unwrap_or("(no namespace)");
            lines.push(format!(
                "{}  {}",
                paint(STRONG, format!("Secret {}/{}", safe(namespace), safe(name))),
                paint(DIM, safe(kind))
            ));
            if !kind.starts_with("kubernetes.io/dockerc") {
                lines.push(paint(BAD, "  kubelets do not read a secret of this type"));
            }
        }
    }
    if row.logins.is_empty() {
        lines.push(paint(BAD, "  it holds no login"));
    }
    for one in &row.logins {
        let user = if one.user.is_empty() { "(no user)".to_owned() } else { safe(&one.user) };
        let what = match (&one.holds, &one.shown) {
            (Some(what), Some(shown)) => format!("{what} {shown}"),
            _ => paint(BAD, "nothing"),
        };
        lines.push(format!("  {}  user {user}  {what}", safe(&one.host)));
        let left = one.left.map(|end| format!(", {} left", until(end, now()))).unwrap_or_default();
        match one.state {
            Some("good") => {
                lines.push(paint(GOOD, format!("    this larder issued it; it is good{left}")));
            }
            Some("unknown") => lines.push(paint(BAD, "    this larder issued no such key")),
            Some(state) => {
                lines.push(paint(BAD, format!("    this larder issued it; it is {state}")));
            }
            None if one.holds == Some("key") => lines.push(paint(
                WARN,
                "    the larder's store is not here: whether it is good cannot be told",
            )),
            None => {}
        }
        if !one.agrees {
            lines.push(paint(
                BAD,
                "    user and password say one thing, the combined field another",
            ));
        }
        for image in asked {
            let word = if one.serves.contains(image) {
                paint(GOOD, "is offered for")
            } else {
                paint(DIM, "is not offered for")
            };
            lines.push(format!("    {word} {}", safe(image)));
        }
    }
    out.result(lines.join("\n"));
}

//! Where an upstream's name and secret come from: the environment, a file, a program, or an auth file
//! with the programs that it names. The secret itself appears in no message.

use std::io::{Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use larder_client::{Account, Credentials as Login, Fresh};
use larder_core::handoff::{SecretLogin, read_secrets};
use larder_core::name::Host;
use larder_transfer::files::read_bounded;
use serde::Deserialize;

use super::model::Config;
use super::upstream::{CredentialSource, SourcedLogin, UpstreamConfig};
use crate::failure::Failure;

/// How long a program may take, and how much it may say.
const PATIENCE: Duration = Duration::from_secs(30);
const LIMIT: usize = 64 * 1024;
/// The largest auth file, in bytes.
const AUTH_FILE: usize = 1024 * 1024;

impl Config {
    /// With which login an upstream is asked first, and where that came from. None: anonymously.
    pub fn login_of(&self, upstream: &UpstreamConfig) -> Result<Option<SourcedLogin>, Failure> {
        Ok(self.found(upstream)?.map(|(sourced, _)| sourced.clone()))
    }

    /// With which account an upstream is asked. None: anonymously.
    pub fn account_of(&self, upstream: &UpstreamConfig) -> Result<Option<Account>, Failure> {
        Ok(self.found(upstream)?.map(|(_, account)| account.clone()))
    }

    /// The login for a proxy.
    pub fn login_at_proxy(
        &self,
        host: Host,
        credentials: &CredentialSource,
    ) -> Result<Login, Failure> {
        let origin =
            Origin { folder: self.folder().to_owned(), host, credentials: credentials.clone() };
        self.check_origin(&origin)?;
        origin.look().map(|sourced| sourced.login)
    }

    /// Whether a login may be read from its source.
    fn check_origin(&self, origin: &Origin) -> Result<(), Failure> {
        let Origin { host, credentials, .. } = origin;
        let file = credentials.file.as_ref().or(credentials.auth_file.as_ref());
        let file = file.map(|path| self.folder().join(path));
        self.check_secret(&format!("cannot sign in to {host}"), file.as_deref())
    }

    fn found<'u>(
        &self,
        upstream: &'u UpstreamConfig,
    ) -> Result<Option<&'u (SourcedLogin, Account)>, Failure> {
        let Some(credentials) = &upstream.credentials else { return Ok(None) };
        if let Some(found) = upstream.login.get() {
            return Ok(Some(found));
        }
        let (folder, host) = (self.folder().to_owned(), upstream.host.clone());
        let origin = Origin { folder, host, credentials: credentials.clone() };
        self.check_origin(&origin)?;
        let sourced = origin.look()?;
        let account = match credentials.env {
            // Our environment stays as it is.
            Some(_) => Account::fixed(sourced.login.clone()),
            None => Account::from_source(
                upstream.host.as_str(),
                fresh(sourced.clone()),
                Arc::new(move || origin.look().map(fresh).map_err(|failure| failure.cause)),
            ),
        };
        Ok(Some(upstream.login.get_or_init(|| (sourced, account))))
    }
}

fn fresh(sourced: SourcedLogin) -> Fresh {
    let until = sourced.until.and_then(|until| u64::try_from(until).ok());
    let until = until.map(|until| SystemTime::UNIX_EPOCH + Duration::from_millis(until));
    Fresh { login: sourced.login, until }
}

/// Where the login for a host comes from.
struct Origin {
    /// Where relative paths start.
    folder: PathBuf,
    host: Host,
    credentials: CredentialSource,
}

impl Origin {
    fn look(&self) -> Result<SourcedLogin, Failure> {
        let what = || format!("cannot sign in to {}", self.host);
        match &self.credentials {
            CredentialSource { env: Some(name), file: None, command: None, auth_file: None } => {
                let text = std::env::var(name).map_err(|_| {
                    let cause = format!("the environment variable {name} is not set");
                    Failure::usage(what(), cause, format!("set {name} to `NAME:SECRET`"))
                })?;
                plain(&what(), &text, format!("the environment variable {name}"))
            }
            CredentialSource { env: None, file: Some(path), command: None, auth_file: None } => {
                let path = self.folder.join(path);
                let bytes = read_bounded(&path, LIMIT)
                    .map_err(|error| Failure::file(what(), &path, &error))?;
                let text = String::from_utf8_lossy(&bytes);
                plain(&what(), &text, larder_transfer::files::named(&path))
            }
            CredentialSource { env: None, file: None, command: Some(words), auth_file: None } => {
                let [program, arguments @ ..] = words.as_slice() else {
                    return Err(Failure::usage(
                        what(),
                        "`command` names no program",
                        "write `credentials = { command = [\"PROGRAM\", \"ARGUMENT\"] }`",
                    ));
                };
                let source = format!("the program {program}");
                let text = run(&what(), &self.folder, program, arguments, "")?;
                answered(&what(), &text, source)
            }
            CredentialSource { env: None, file: None, command: None, auth_file: Some(path) } => {
                self.read_auth_file(&what(), path)
            }
            _ => Err(Failure::usage(
                what(),
                "`credentials` names no source, or several",
                "write one of `{ env = \"NAME\" }`, `{ file = \"PATH\" }`, `{ command = [\"PROGRAM\"] }`, `{ auth-file = \"PATH\" }`",
            )),
        }
    }

    /// An auth file in the form that clients share: a program for this host, a program for all, or a
    /// login in the file itself, in this order.
    fn read_auth_file(&self, what: &str, path: &Path) -> Result<SourcedLogin, Failure> {
        let host = &self.host;
        let path = match path.strip_prefix("~") {
            Ok(rest) => std::env::home_dir().unwrap_or_default().join(rest),
            Err(_) => self.folder.join(path),
        };
        let shown = larder_transfer::files::named(&path);
        let bytes =
            read_bounded(&path, AUTH_FILE).map_err(|error| Failure::file(what, &path, &error))?;
        let text = String::from_utf8_lossy(&bytes);
        let wrong = |cause: String| Failure::usage(what, format!("{shown}: {cause}"), "");
        let file: AuthFile = serde_json::from_str(&text)
            .map_err(|_| wrong("it is no auth file (JSON with `auths`)".into()))?;
        let helper = file.cred_helpers.get(host.as_str()).or(file.creds_store.as_ref());
        if let Some(name) = helper {
            let plain = !name.is_empty()
                && name.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c));
            if !plain {
                return Err(wrong("it names a helper program that cannot exist".into()));
            }
            let program = format!("docker-credential-{name}");
            let text = run(what, &self.folder, &program, &["get".into()], host.as_str())?;
            let answer: Helped = serde_json::from_str(&text).map_err(|_| {
                Failure::usage(what, format!("{program} answered with no login"), "")
            })?;
            let login = Login { user: answer.username, secret: answer.secret.into() };
            let source = format!("{program}, as {shown} says");
            return Ok(SourcedLogin { login, source, until: None });
        }
        let read = read_secrets(&text).map_err(|error| wrong(error.to_string()))?;
        let mut logins = read.into_iter().flat_map(|one| one.logins);
        let found = logins.find(|login| login.serves(&format!("{host}/")));
        match found.map(|login| (login.user, login.held)) {
            None => Err(Failure::usage(
                what,
                format!("{shown} has no login for {host}"),
                "add one to it, or leave `credentials` out",
            )),
            Some((user, Some(SecretLogin::Password(secret)))) => {
                let login = Login { user, secret: secret.into() };
                Ok(SourcedLogin { login, source: shown, until: None })
            }
            Some((_, Some(SecretLogin::Identity(_)))) => Err(wrong(format!(
                "for {host} it has an identity token; a user and a password are needed"
            ))),
            Some((_, None)) => Err(wrong(format!("its entry for {host} is empty"))),
        }
    }
}

#[derive(Deserialize)]
struct AuthFile {
    #[serde(default, rename = "credHelpers")]
    cred_helpers: std::collections::BTreeMap<String, String>,
    #[serde(default, rename = "credsStore")]
    creds_store: Option<String>,
}

/// What a helper program answers.
#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Helped {
    username: String,
    secret: String,
}

/// What a program may answer instead of `NAME:SECRET`.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct HelperAnswer {
    user: String,
    secret: String,
    /// Until when, in RFC 3339.
    expires: Option<String>,
}

fn plain(what: &str, text: &str, source: String) -> Result<SourcedLogin, Failure> {
    match text.trim().split_once(':') {
        Some((user, secret)) if !user.is_empty() && !secret.is_empty() => {
            let login = Login { user: user.to_owned(), secret: secret.into() };
            Ok(SourcedLogin { login, source, until: None })
        }
        _ => Err(Failure::usage(what, format!("{source} does not hold `NAME:SECRET`"), "")),
    }
}

fn answered(what: &str, text: &str, source: String) -> Result<SourcedLogin, Failure> {
    if !text.trim_start().starts_with('{') {
        return plain(what, text, source);
    }
    let wrong = || {
        let cause = format!("{source} answered with JSON of another form");
        Failure::usage(
            what,
            cause,
            "it says {\"user\": …, \"secret\": …, \"expires\": \"2027-01-01T00:00:00Z\"}",
        )
    };
    let HelperAnswer { user, secret, expires } = serde_json::from_str(text).map_err(|_| wrong())?;
    let until = match expires {
        None => None,
        Some(text) => {
            let time: jiff::Timestamp = text.parse().map_err(|_| wrong())?;
            Some(time.as_millisecond())
        }
    };
    if until.is_some_and(|until| until <= larder_store::now()) {
        return Err(Failure::usage(
            what,
            format!("{source} answered with a login that has expired"),
            "",
        ));
    }
    Ok(SourcedLogin { login: Login { user, secret: secret.into() }, source, until })
}

/// What a program with its arguments says.
pub(super) fn said_by(what: &str, folder: &Path, words: &[String]) -> Result<String, Failure> {
    let [program, arguments @ ..] = words else { return Err(no_program(what)) };
    run(what, folder, program, arguments, "")
}

/// What a program with its arguments answers to some bytes.
pub(super) fn answered_by(
    what: &str,
    folder: &Path,
    words: &[String],
    input: &[u8],
) -> Result<Vec<u8>, Failure> {
    let [program, arguments @ ..] = words else { return Err(no_program(what)) };
    answer(what, folder, program, arguments, input)
}

fn no_program(what: &str) -> Failure {
    let remedy = "write `command = [\"PROGRAM\", \"ARGUMENT\"]`";
    Failure::usage(what, "`command` names no program", remedy)
}

fn run(
    what: &str,
    folder: &Path,
    program: &str,
    arguments: &[String],
    input: &str,
) -> Result<String, Failure> {
    let said = answer(what, folder, program, arguments, input.as_bytes())?;
    String::from_utf8(said).map_err(|_| {
        let cause = format!("{program}: its answer is no UTF-8");
        Failure::usage(what, cause, "run it by hand to see what it says")
    })
}

/// Runs a program and gives what it says; what it complains of goes to our own error output.
fn answer(
    what: &str,
    folder: &Path,
    program: &str,
    arguments: &[String],
    input: &[u8],
) -> Result<Vec<u8>, Failure> {
    let wrong = |cause: String| {
        Failure::usage(what, format!("{program}: {cause}"), "run it by hand to see what it says")
    };
    let mut child = Command::new(program)
        .args(arguments)
        .current_dir(if folder.as_os_str().is_empty() { Path::new(".") } else { folder })
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::inherit())
        .spawn()
        .map_err(|error| wrong(error.to_string()))?;
    if let Some(mut to) = child.stdin.take() {
        // One that reads nothing is no fault.
        let _ = to.write_all(input);
    }
    let from = child.stdout.take();
    let reader = std::thread::spawn(move || {
        let mut text = Vec::new();
        let read = from.map(|from| from.take(LIMIT as u64).read_to_end(&mut text));
        read.transpose().map(|_| text)
    });
    let begun = Instant::now();
    let status = loop {
        match child.try_wait().map_err(|error| wrong(error.to_string()))? {
            Some(status) => break status,
            None if begun.elapsed() > PATIENCE => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(wrong(format!("it takes longer than {} s", PATIENCE.as_secs())));
            }
            None => std::thread::sleep(Duration::from_millis(10)),
        }
    };
    if !status.success() {
        return Err(wrong(format!("it ended with {status}")));
    }
    let text = reader.join().map_err(|_| wrong("its answer was lost".into()))?;
    text.map_err(|error| wrong(error.to_string()))
}

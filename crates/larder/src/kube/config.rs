//! The operator's kubeconfig: which cluster, and as whom.

use std::path::{Path, PathBuf};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_client::{Web, WebOptions};
use larder_core::objects::{self, text};
use secrecy::SecretString;
use serde_json::Value;

use crate::failure::Failure;
use crate::files::read_bounded;

/// The largest file that is read, in bytes.
const LIMIT: usize = 4 * 1024 * 1024;
/// How long a program that gives credentials may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// Which cluster is meant.
#[derive(Debug, Clone, clap::Args)]
pub struct Reach {
    /// The kubeconfig [default: $KUBECONFIG, else ~/.kube/config]
    #[arg(long, value_name = "FILE")]
    pub kubeconfig: Option<PathBuf>,
    /// Its context [default: the current one]
    #[arg(long, value_name = "NAME")]
    pub context: Option<String>,
}

impl Reach {
    fn path(&self) -> Option<PathBuf> {
        if let Some(path) = &self.kubeconfig {
            return Some(path.clone());
        }
        let named = std::env::var_os("KUBECONFIG").filter(|named| !named.is_empty());
        if let Some(named) = named {
            return std::env::split_paths(&named).next();
        }
        std::env::var_os("HOME").map(|home| Path::new(&home).join(".kube/config"))
    }
}

struct File {
    path: PathBuf,
    content: Value,
}

impl File {
    fn wrong(&self, cause: impl std::fmt::Display) -> Failure {
        let what = format!("cannot use the kubeconfig {}", crate::files::named(&self.path));
        Failure::usage(what, cause, "name another with `--kubeconfig` or `--context`")
    }

    /// An entry of one of its lists of named things.
    fn named(&self, list: &str, name: &str, inner: &str) -> Result<&Value, Failure> {
        let entries = self.content[list].as_array().map(Vec::as_slice).unwrap_or_default();
        let found = entries.iter().find(|entry| text(entry, &["name"]) == Some(name));
        let found = found.and_then(|entry| entry.get(inner));
        found.ok_or_else(|| self.wrong(format!("`{list}` has no `{name}`")))
    }

    /// What stands in a field as base64, or in the file that another one names.
    fn bytes(&self, from: &Value, data: &str, file: &str) -> Result<Option<Vec<u8>>, Failure> {
        if let Some(encoded) = text(from, &[data]) {
            let decoded = STANDARD.decode(encoded.trim());
            return decoded.map(Some).map_err(|_| self.wrong(format!("`{data}` is no base64")));
        }
        let Some(path) = text(from, &[file]) else { return Ok(None) };
        let path = self.path.parent().unwrap_or(Path::new(".")).join(path);
        let read = read_bounded(&path, LIMIT);
        read.map(Some)
            .map_err(|error| self.wrong(format!("{}: {error}", crate::files::named(&path))))
    }
}

/// Opens the way to the cluster, and tells its address.
pub async fn open(reach: &Reach) -> Result<(Web, String), Failure> {
    let path = reach.path().ok_or_else(|| {
        Failure::usage(
            "cannot find the kubeconfig",
            "no file is named",
            "name it with `--kubeconfig`",
        )
    })?;
    let mut file = File { path, content: Value::Null };
    let read = read_bounded(&file.path, LIMIT).map_err(|error| file.wrong(error))?;
    let read = String::from_utf8(read).map_err(|_| file.wrong("it is no UTF-8 text"))?;
    let documents = objects::read(&read).map_err(|error| file.wrong(error))?;
    file.content = documents.into_iter().next().unwrap_or_default();
    let current = text(&file.content, &["current-context"]).filter(|name| !name.is_empty());
    let context = reach.context.as_deref().or(current);
    let context = context.ok_or_else(|| file.wrong("it has no current context"))?;
    let context = file.named("contexts", context, "context")?;
    let cluster = text(context, &["cluster"]).unwrap_or_default();
    let cluster = file.named("clusters", cluster, "cluster")?;
    let server =
        text(cluster, &["server"]).ok_or_else(|| file.wrong("the cluster has no server"))?;
    if cluster["insecure-skip-tls-verify"] == true {
        let cause = "`insecure-skip-tls-verify`: secrets are sent only to a server that is known";
        return Err(file.wrong(cause));
    }
    let ca = file.bytes(cluster, "certificate-authority-data", "certificate-authority")?;
    let mut options = WebOptions { ca: ca.unwrap_or_default(), ..WebOptions::default() };
    if let Some(user) = text(context, &["user"]).filter(|user| !user.is_empty()) {
        sign_in(&file, file.named("users", user, "user")?, &mut options).await?;
    }
    let server = server.trim_end_matches('/').to_owned();
    let web = Web::new(&server, options).map_err(|cause| file.wrong(cause))?;
    Ok((web, server))
}

async fn sign_in(file: &File, user: &Value, options: &mut WebOptions) -> Result<(), Failure> {
    let bearer = |token: &str| Some(SecretString::from(format!("Bearer {}", token.trim())));
    if let Some(token) = text(user, &["token"]) {
        options.authorization = bearer(token);
    } else if let Some(token) = file.bytes(user, "", "tokenFile")? {
        let token = String::from_utf8(token).map_err(|_| file.wrong("the token is no text"))?;
        options.authorization = bearer(&token);
    }
    let certificate = file.bytes(user, "client-certificate-data", "client-certificate")?;
    let key = file.bytes(user, "client-key-data", "client-key")?;
    if let Some((certificate, key)) = certificate.zip(key) {
        options.identity = Some([certificate, b"\n".to_vec(), key].concat());
    }
    if let Some(exec) = user.get("exec").filter(|exec| exec.is_object()) {
        let status = run(file, exec).await?;
        if let Some(token) = text(&status, &["token"]) {
            options.authorization = bearer(token);
        }
        let parts = (text(&status, &["clientCertificateData"]), text(&status, &["clientKeyData"]));
        if let (Some(certificate), Some(key)) = parts {
            options.identity = Some(format!("{certificate}\n{key}").into_bytes());
        }
    }
    Ok(())
}

/// Runs the program that gives the credentials (client authentication API, "ExecCredential").
async fn run(file: &File, exec: &Value) -> Result<Value, Failure> {
    let program = text(exec, &["command"]).ok_or_else(|| file.wrong("`exec` names no command"))?;
    let version = text(exec, &["apiVersion"]).unwrap_or("client.authentication.k8s.io/v1");
    let arguments = exec["args"].as_array().cloned().unwrap_or_default();
    let variables = exec["env"].as_array().cloned().unwrap_or_default();
    let info = serde_json::json!({
        "apiVersion": version, "kind": "ExecCredential", "spec": { "interactive": false },
    });
    let mut command = tokio::process::Command::new(program);
    command
        .args(arguments.iter().filter_map(Value::as_str))
        .envs(variables.iter().filter_map(|it| text(it, &["name"]).zip(text(it, &["value"]))))
        .env("KUBERNETES_EXEC_INFO", info.to_string())
        .stdin(std::process::Stdio::null())
        .stderr(std::process::Stdio::inherit())
        .kill_on_drop(true);
    let wrong = |cause: String| file.wrong(format!("`{program}` gave no credentials: {cause}"));
    let done = tokio::time::timeout(PATIENCE, command.output()).await;
    let done = done.map_err(|_| wrong("it takes too long".into()))?;
    let done = done.map_err(|error| wrong(error.to_string()))?;
    if !done.status.success() {
        return Err(wrong(format!("it ended with {}", done.status)));
    }
    let read: Result<Value, _> = serde_json::from_slice(&done.stdout);
    let status = read.ok().and_then(|mut read| read.get_mut("status").map(Value::take));
    status.ok_or_else(|| wrong("it answered with no ExecCredential".into()))
}

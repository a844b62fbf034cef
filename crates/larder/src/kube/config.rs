//! The operator's kubeconfig: which cluster, and as whom.

use std::path::{Path, PathBuf};
use std::time::Duration;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_client::{Web, WebOptions};
use larder_core::objects::{self, text};
use larder_transfer::files::read_bounded;
use secrecy::SecretString;
use serde_json::Value;

use crate::failure::Failure;

/// The largest file that is read, in bytes.
const LIMIT: usize = 4 * 1024 * 1024;
/// How long a program that gives credentials may take.
const PATIENCE: Duration = Duration::from_secs(30);

/// Which cluster is meant.
#[derive(Debug, Clone, clap::Args)]
pub struct ApiReach {
    /// The kubeconfig [default: the files of $KUBECONFIG, else ~/.kube/config]
    #[arg(long, value_name = "FILE")]
    pub kubeconfig: Option<PathBuf>,
    /// Its context [default: the current one]
    #[arg(long, value_name = "NAME")]
    pub context: Option<String>,
    /// Take any certificate of the cluster's API, where the kubeconfig says `insecure-skip-tls-verify`:
    /// anyone in between reads the secrets
    #[arg(long)]
    pub any_certificate: bool,
}

impl ApiReach {
    /// The files, and whether each has to be there.
    fn paths(&self) -> Vec<(PathBuf, bool)> {
        if let Some(path) = &self.kubeconfig {
            return vec![(path.clone(), true)];
        }
        let named = std::env::var_os("KUBECONFIG").filter(|named| !named.is_empty());
        if let Some(named) = named {
            let paths = std::env::split_paths(&named).filter(|path| !path.as_os_str().is_empty());
            return paths.map(|path| (path, false)).collect();
        }
        let home = std::env::var_os("HOME").map(|home| Path::new(&home).join(".kube/config"));
        home.map(|path| (path, true)).into_iter().collect()
    }
}

/// One file.
struct KubeconfigFile {
    path: PathBuf,
    content: Value,
}

/// All files together: of each name, the first that has it counts.
struct KubeconfigFiles(Vec<KubeconfigFile>);

impl KubeconfigFile {
    fn wrong(&self, cause: impl std::fmt::Display) -> Failure {
        let what =
            format!("cannot use the kubeconfig {}", larder_transfer::files::named(&self.path));
        Failure::usage(what, cause, "name another with `--kubeconfig` or `--context`")
    }

    /// A path in it: from its own folder.
    fn beside(&self, path: &str) -> PathBuf {
        self.path.parent().unwrap_or(Path::new(".")).join(path)
    }

    /// What stands in a field as base64, or in the file that another one names.
    fn bytes(&self, from: &Value, data: &str, file: &str) -> Result<Option<Vec<u8>>, Failure> {
        if let Some(encoded) = text(from, &[data]).filter(|encoded| !encoded.is_empty()) {
            let decoded = STANDARD.decode(encoded.trim());
            return decoded.map(Some).map_err(|_| self.wrong(format!("`{data}` is no base64")));
        }
        let Some(path) = text(from, &[file]).filter(|path| !path.is_empty()) else {
            return Ok(None);
        };
        let path = self.beside(path);
        let read = read_bounded(&path, LIMIT);
        read.map(Some).map_err(|error| {
            self.wrong(format!("{}: {error}", larder_transfer::files::named(&path)))
        })
    }
}

impl KubeconfigFiles {
    /// Reads them. One that need not be there may be missing, but not all.
    fn read(reach: &ApiReach) -> Result<Self, Failure> {
        let paths = reach.paths();
        let mut files = Vec::new();
        let mut missing = None;
        for (path, needed) in paths {
            let mut file = KubeconfigFile { path, content: Value::Null };
            let read = match read_bounded(&file.path, LIMIT) {
                Err(error) if !needed && error.kind() == std::io::ErrorKind::NotFound => {
                    missing.get_or_insert_with(|| file.wrong(error));
                    continue;
                }
                read => read.map_err(|error| file.wrong(error))?,
            };
            let read = String::from_utf8(read).map_err(|_| file.wrong("it is no UTF-8 text"))?;
            let documents = objects::read(&read).map_err(|error| file.wrong(error))?;
            file.content = documents.into_iter().next().unwrap_or_default();
            files.push(file);
        }
        match (files.is_empty(), missing) {
            (false, _) => Ok(Self(files)),
            (true, Some(missing)) => Err(missing),
            (true, None) => Err(Failure::usage(
                "cannot find the kubeconfig",
                "no file is named",
                "name it with `--kubeconfig`",
            )),
        }
    }

    fn wrong(&self, cause: impl std::fmt::Display) -> Failure {
        self.0[0].wrong(cause)
    }

    fn current(&self) -> Option<&str> {
        let named = |file: &'_ KubeconfigFile| {
            text(&file.content, &["current-context"]).is_some_and(|it| !it.is_empty())
        };
        let file = self.0.iter().find(|file| named(file))?;
        text(&file.content, &["current-context"])
    }

    /// An entry of the lists of named things, and the file that has it.
    fn named(
        &self,
        list: &str,
        name: &str,
        inner: &str,
    ) -> Result<(&KubeconfigFile, &Value), Failure> {
        for file in &self.0 {
            let entries = file.content[list].as_array().map(Vec::as_slice).unwrap_or_default();
            let found = entries.iter().find(|entry| text(entry, &["name"]) == Some(name));
            if let Some(found) = found {
                let inner = found.get(inner);
                return inner
                    .map(|inner| (file, inner))
                    .ok_or_else(|| file.wrong(format!("`{list}` has an empty `{name}`")));
            }
        }
        Err(self.wrong(format!("`{list}` has no `{name}`")))
    }
}

/// Opens the way to the cluster, and tells its address.
pub async fn open(reach: &ApiReach) -> Result<(Web, String), Failure> {
    let files = KubeconfigFiles::read(reach)?;
    let context = reach.context.as_deref().or(files.current());
    let context = context.ok_or_else(|| files.wrong("it has no current context"))?;
    let (_, context) = files.named("contexts", context, "context")?;
    let name = text(context, &["cluster"]).unwrap_or_default();
    let (file, cluster) = files.named("clusters", name, "cluster")?;
    let server =
        text(cluster, &["server"]).ok_or_else(|| file.wrong("the cluster has no server"))?;
    let server = server.trim_end_matches('/').to_owned();
    let unverified = cluster["insecure-skip-tls-verify"] == true;
    if unverified && !reach.any_certificate {
        let cause = "`insecure-skip-tls-verify`: secrets are sent only to a server that is known";
        return Err(Failure::usage(
            format!("cannot use the kubeconfig {}", larder_transfer::files::named(&file.path)),
            cause,
            "name its authority (`certificate-authority`); or add `--any-certificate`, and anyone in between reads the secrets",
        ));
    }
    let ca = file.bytes(cluster, "certificate-authority-data", "certificate-authority")?;
    let mut options = WebOptions {
        ca: ca.unwrap_or_default(),
        proxy: proxy(file, cluster)?,
        any_certificate: unverified,
        ..WebOptions::default()
    };
    if let Some(name) = text(cluster, &["tls-server-name"]).filter(|name| !name.is_empty()) {
        options.server_name = Some((name.to_owned(), addresses(file, &server, &options).await?));
    }
    if let Some(user) = text(context, &["user"]).filter(|user| !user.is_empty()) {
        let (from, user) = files.named("users", user, "user")?;
        let ca = options.ca.clone();
        let cluster = KubeCluster { server: &server, ca: &ca, said: cluster };
        sign_in(from, user, &cluster, &mut options).await?;
    }
    if !is_safe(&server) {
        let cause = format!(
            "{server} is plain HTTP, and no token and no secret goes there: everybody on the way reads it"
        );
        return Err(file.wrong(cause));
    }
    let web = Web::new(&server, options).map_err(|cause| file.wrong(cause))?;
    Ok((web, server))
}

/// Whether what is sent there stays between the two: HTTPS, or this machine.
fn is_safe(server: &str) -> bool {
    let server = server.to_ascii_lowercase();
    let Some(rest) = server.strip_prefix("http://") else { return server.starts_with("https://") };
    let host = rest.split('/').next().unwrap_or(rest);
    host.parse::<larder_core::name::Host>().is_ok_and(|host| host.is_loopback())
}

/// The proxy that a cluster's entry names.
fn proxy(file: &KubeconfigFile, cluster: &Value) -> Result<Option<String>, Failure> {
    let Some(url) = text(cluster, &["proxy-url"]).filter(|url| !url.is_empty()) else {
        return Ok(None);
    };
    match url.split_once("://") {
        Some(("http" | "https", _)) => Ok(Some(url.to_owned())),
        _ => {
            Err(file
                .wrong("`proxy-url` is no address of HTTP or HTTPS; others are not spoken here"))
        }
    }
}

/// The addresses of a server that is asked for by another name.
async fn addresses(
    file: &KubeconfigFile,
    server: &str,
    options: &WebOptions,
) -> Result<Vec<std::net::SocketAddr>, Failure> {
    if options.proxy.is_some() {
        return Err(file.wrong("`tls-server-name` and `proxy-url` together are not supported"));
    }
    let rest = server.strip_prefix("https://").unwrap_or(server);
    let place = rest.split('/').next().unwrap_or(rest);
    let has_port = place.rsplit_once(':').is_some_and(|(_, port)| port.parse::<u16>().is_ok());
    let place = if has_port { place.to_owned() } else { format!("{place}:443") };
    let found = tokio::net::lookup_host(&place).await;
    let found = found.map_err(|error| file.wrong(format!("{place}: {error}")))?;
    Ok(found.collect())
}

/// The cluster for which somebody signs in.
struct KubeCluster<'c> {
    server: &'c str,
    ca: &'c [u8],
    said: &'c Value,
}

impl KubeCluster<'_> {
    /// As a program that gives credentials is told of it (client authentication API, "Cluster").
    fn info(&self) -> Value {
        let mut info = serde_json::json!({ "server": self.server });
        if !self.ca.is_empty() {
            info["certificate-authority-data"] = STANDARD.encode(self.ca).into();
        }
        for key in ["tls-server-name", "insecure-skip-tls-verify", "proxy-url"] {
            if let Some(value) = self.said.get(key).filter(|value| !value.is_null()) {
                info[key] = value.clone();
            }
        }
        let extensions = self.said["extensions"].as_array().map(Vec::as_slice).unwrap_or_default();
        let named =
            |one: &&Value| text(one, &["name"]) == Some("client.authentication.k8s.io/exec");
        if let Some(config) = extensions.iter().find(named).and_then(|one| one.get("extension")) {
            info["config"] = config.clone();
        }
        info
    }
}

async fn sign_in(
    file: &KubeconfigFile,
    user: &Value,
    cluster: &KubeCluster<'_>,
    options: &mut WebOptions,
) -> Result<(), Failure> {
    let bearer = |token: &str| Some(SecretString::from(format!("Bearer {}", token.trim())));
    let field = |name: &str| text(user, &[name]).filter(|text| !text.is_empty());
    if let Some((name, password)) = field("username").zip(field("password")) {
        let both = STANDARD.encode(format!("{name}:{password}"));
        options.authorization = Some(SecretString::from(format!("Basic {both}")));
    }
    // A file goes before what is written down: it is the one that is renewed.
    if let Some(token) = file.bytes(user, "", "tokenFile")? {
        let token = String::from_utf8(token).map_err(|_| file.wrong("the token is no text"))?;
        options.authorization = bearer(&token);
    } else if let Some(token) = field("token") {
        options.authorization = bearer(token);
    }
    impersonate(file, user, options)?;
    let certificate = file.bytes(user, "client-certificate-data", "client-certificate")?;
    let key = file.bytes(user, "client-key-data", "client-key")?;
    if let Some((certificate, key)) = certificate.zip(key) {
        options.identity = Some([certificate, b"\n".to_vec(), key].concat());
    }
    if let Some(exec) = user.get("exec").filter(|exec| exec.is_object()) {
        let status = run(file, exec, cluster).await?;
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

/// As whom somebody acts (Kubernetes API, "User impersonation").
fn impersonate(
    file: &KubeconfigFile,
    user: &Value,
    options: &mut WebOptions,
) -> Result<(), Failure> {
    let Some(name) = text(user, &["as"]).filter(|name| !name.is_empty()) else {
        let more = ["as-uid", "as-groups", "as-user-extra"];
        if more.iter().any(|key| user.get(key).is_some_and(|value| !value.is_null())) {
            return Err(file.wrong(
                "the user acts with the groups of somebody, and `as` does not say of whom",
            ));
        }
        return Ok(());
    };
    let mut say =
        |name: &str, value: &str| options.headers.push((name.to_owned(), value.to_owned()));
    say("Impersonate-User", name);
    if let Some(uid) = text(user, &["as-uid"]) {
        say("Impersonate-Uid", uid);
    }
    for group in user["as-groups"].as_array().into_iter().flatten().filter_map(Value::as_str) {
        say("Impersonate-Group", group);
    }
    for (key, values) in user["as-user-extra"].as_object().into_iter().flatten() {
        for value in values.as_array().into_iter().flatten().filter_map(Value::as_str) {
            say(&format!("Impersonate-Extra-{key}"), value);
        }
    }
    Ok(())
}

/// Runs the program that gives the credentials (client authentication API, "ExecCredential").
async fn run(
    file: &KubeconfigFile,
    exec: &Value,
    cluster: &KubeCluster<'_>,
) -> Result<Value, Failure> {
    let named = text(exec, &["command"]).ok_or_else(|| file.wrong("`exec` names no command"))?;
    if text(exec, &["interactiveMode"]) == Some("Always") {
        let cause = format!("`{named}` must be able to ask at a terminal, and here nobody can");
        return Err(file.wrong(cause));
    }
    // A path is one from the kubeconfig's folder; a name alone is looked for as everywhere.
    let program = match named.contains('/') {
        true => file.beside(named),
        false => PathBuf::from(named),
    };
    let version = text(exec, &["apiVersion"]).unwrap_or("client.authentication.k8s.io/v1");
    let arguments = exec["args"].as_array().cloned().unwrap_or_default();
    let variables = exec["env"].as_array().cloned().unwrap_or_default();
    let mut info = serde_json::json!({
        "apiVersion": version, "kind": "ExecCredential", "spec": { "interactive": false },
    });
    if exec["provideClusterInfo"] == true {
        info["spec"]["cluster"] = cluster.info();
    }
    let mut command = tokio::process::Command::new(program);
    command
        .args(arguments.iter().filter_map(Value::as_str))
        .envs(variables.iter().filter_map(|it| text(it, &["name"]).zip(text(it, &["value"]))))
        .env("KUBERNETES_EXEC_INFO", info.to_string())
        .stdin(std::process::Stdio::null())
        .stderr(std::process::Stdio::inherit())
        .kill_on_drop(true);
    let hint = text(exec, &["installHint"]).map(|hint| format!(" ({})", hint.trim()));
    let hint = hint.unwrap_or_default();
    let wrong = |cause: String| file.wrong(format!("`{named}` gave no credentials: {cause}{hint}"));
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

#[cfg(test)]
mod tests {
    use super::is_safe;

    #[test]
    fn no_secret_goes_in_the_clear_beyond_this_machine() {
        for safe in [
            "https://10.4.0.1:6443",
            "http://127.0.0.1:8001",
            "http://localhost/x",
            "http://[::1]:1",
        ] {
            assert!(is_safe(safe), "{safe}");
        }
        for open in [
            "http://10.4.0.1:6443",
            "HTTP://10.4.0.1:6443",
            "ftp://127.0.0.1",
            "http://api.emberfall.example",
            "http://localhost.emberfall.example",
            "http://u@127.0.0.1",
        ] {
            assert!(!is_safe(open), "{open}");
        }
    }
}

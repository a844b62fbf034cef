//! With what a pod pulls: its service account, its secrets, and what the kubelet is given for it.

use std::path::PathBuf;
use std::time::Duration;

use larder_client::Credentials;
use larder_core::objects::text;
use larder_core::rewrite::Finding;
use serde_json::Value;

/// A kubelet's credential provider.
#[derive(Debug, Clone)]
pub(crate) struct Provider {
    pub program: PathBuf,
    pub arguments: Vec<String>,
    pub audience: String,
}

/// With what a pod pulls.
#[derive(Debug, Clone)]
pub(crate) struct PodLogins {
    pub namespace: String,
    pub account: String,
    pub secrets: Vec<String>,
}

/// With what a finding's pod pulls.
pub(crate) fn pulling(documents: &[Value], finding: &Finding) -> PodLogins {
    let workload = &finding.workload;
    let namespace = workload.namespace.clone().unwrap_or_else(|| "default".into());
    let its = |one: &&Value| {
        text(one, &["kind"]) == Some(&*workload.kind)
            && text(one, &["metadata", "name"]) == Some(&*workload.name)
            && text(one, &["metadata", "namespace"]).unwrap_or("default") == namespace
    };
    let spec = documents.iter().find(its).map(|one| match workload.kind.as_str() {
        "Pod" => &one["spec"],
        "CronJob" => &one["spec"]["jobTemplate"]["spec"]["template"]["spec"],
        _ => &one["spec"]["template"]["spec"],
    });
    let spec = spec.unwrap_or(&Value::Null);
    let named = spec["imagePullSecrets"].as_array().map(Vec::as_slice).unwrap_or_default();
    PodLogins {
        account: text(spec, &["serviceAccountName"]).unwrap_or("default").to_owned(),
        secrets: named.iter().filter_map(|it| text(it, &["name"])).map(str::to_owned).collect(),
        namespace,
    }
}

/// Asks a credential provider as the kubelet does (credential provider API v1). One that fails ends the
/// pull's hope for a login, not the pull.
pub(crate) async fn ask(
    provider: &Provider,
    image: &str,
    token: &str,
    host: &str,
) -> Result<Option<Credentials>, String> {
    use tokio::io::AsyncWriteExt as _;
    let request = serde_json::json!({
        "apiVersion": "credentialprovider.kubelet.k8s.io/v1", "kind": "CredentialProviderRequest",
        "image": image, "serviceAccountToken": token,
    });
    let mut child = tokio::process::Command::new(&provider.program)
        .args(&provider.arguments)
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .kill_on_drop(true)
        .spawn()
        .map_err(|error| format!("the credential provider cannot be run: {error}"))?;
    if let Some(mut input) = child.stdin.take() {
        let sent = input.write_all(request.to_string().as_bytes()).await;
        sent.map_err(|error| format!("the credential provider takes no request: {error}"))?;
    }
    let done = tokio::time::timeout(Duration::from_secs(30), child.wait_with_output()).await;
    let Ok(Ok(done)) = done else { return Ok(None) };
    let Ok(answer) = serde_json::from_slice::<Value>(&done.stdout) else { return Ok(None) };
    let login = &answer["auth"][host];
    let parts = (text(login, &["username"]), text(login, &["password"]));
    let (Some(user), Some(secret)) = parts else { return Ok(None) };
    Ok(Some(Credentials { user: user.to_owned(), secret: secret.to_owned().into() }))
}

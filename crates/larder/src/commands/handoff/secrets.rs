//! The files of `larder handoff write` that let pods pull: secrets and their links, or what nodes need
//! to sign in with their pods' service accounts.

use std::path::{Path, PathBuf};

use larder_core::access::key::KeyId;
use larder_core::handoff::{NodeLogin, WantedSecret};
use larder_core::objects;
use larder_store::Store;
use larder_transfer::files::read_bounded;

use crate::config::{ClusterConfig, Config};
use crate::failure::Failure;
use crate::handoff::{self, SecretPlace, SecretTurn};

/// A file of the handoff.
pub struct SecretFile {
    pub path: PathBuf,
    pub content: Vec<u8>,
    /// Whether its owner alone may read it.
    pub secret: bool,
    /// Whose new key it gets once it is written. None: the content is all of it.
    pub fresh: Option<WantedSecret>,
}

/// Where a namespace's secret lies in the folder.
fn place(wanted: &WantedSecret) -> PathBuf {
    Path::new("secrets").join(format!("{}.yaml", wanted.namespace))
}

/// The secret that an earlier handoff wrote into the folder. None: none, or none that can be read.
fn earlier(folder: &Path, wanted: &WantedSecret) -> Option<(Vec<u8>, serde_json::Value)> {
    let bytes = read_bounded(&folder.join(place(wanted)), objects::LIMIT).ok()?;
    let read = objects::read(std::str::from_utf8(&bytes).ok()?).ok()?;
    let [secret] = <[serde_json::Value; 1]>::try_from(read).ok()?;
    Some((bytes, secret))
}

/// The pull secrets and their links. A secret that is in the folder and holds a good key stays. No key is issued yet:
/// that is done when its file is written.
pub async fn files(
    config: &Config,
    store: &Store,
    wanted: &[WantedSecret],
    folder: &Path,
) -> Result<Vec<SecretFile>, Failure> {
    let what = "cannot write the pull secrets";
    let known = store.keys().await.map_err(|error| Failure::store(what, &error))?;
    let mut files = Vec::new();
    for one in wanted {
        let there = earlier(folder, one);
        let found = there.as_ref().map(|(_, secret)| secret);
        let (content, fresh) = match (handoff::turn(config, one, found, &known)?, &there) {
            (SecretTurn::Stays, Some((bytes, _))) => (bytes.clone(), None),
            _ => {
                // What could not be done is told before anything is done.
                handoff::room(config, store, one, SecretPlace::Folder, &known).await?;
                (Vec::new(), Some(one.clone()))
            }
        };
        files.push(SecretFile { path: place(one), content, secret: true, fresh });
        let path = Path::new("service-accounts").join(format!("{}.yaml", one.namespace));
        let content = documents(&one.links());
        files.push(SecretFile { path, content, secret: false, fresh: None });
    }
    Ok(files)
}

/// The file of a pull secret with a new key.
pub async fn with_key(
    config: &Config,
    store: &Store,
    wanted: &WantedSecret,
    expires: Option<i64>,
) -> Result<(Vec<u8>, KeyId), Failure> {
    let fresh = handoff::fresh(config, store, wanted, SecretPlace::Folder, expires).await?;
    Ok((documents(std::slice::from_ref(&fresh.0)), fresh.1))
}

/// Objects as one YAML stream. Each begins its document, so that files that are put together stay apart.
pub fn documents(all: &[serde_json::Value]) -> Vec<u8> {
    let documents = all.iter().map(|object| format!("---\n{}", objects::write(object)));
    documents.collect::<String>().into_bytes()
}

/// What nodes need to sign in with their pods' service accounts.
pub fn node_login(login: &NodeLogin) -> SecretFile {
    let path = Path::new("node-login").join("credential-provider.yaml");
    let content = objects::write(&login.provider()).into_bytes();
    SecretFile { path, content, secret: false, fresh: None }
}

/// What to do with the files.
pub fn page(
    cluster: &ClusterConfig,
    wanted: &[WantedSecret],
    login: Option<&NodeLogin>,
    host: &str,
) -> String {
    let name = cluster.name.get_ref();
    let mut text = format!("# Pulling from {host} in {name}\n\n");
    if let Some(login) = login {
        text.push_str(&format!(
            "Pods pull with the token of their service account: no secret is stored in the cluster.\n\n\
             1. Copy the `larder` program to each node, into the folder that the kubelet's\n   \
             `--image-credential-provider-bin-dir` names; it must be called `larder`.\n\
             2. Copy `node-login/credential-provider.yaml` to the file that `--image-credential-provider-config` names,\n   \
             or add its provider to the one that is there, and restart the kubelet.\n\
             3. The kubelet must send service accounts' tokens to credential providers (feature\n   \
             `KubeletServiceAccountTokenForCredentialProviders`), and its node may ask for the audience\n   \
             `{}`.\n\n\
             ## Test\n\nStart a pod with an image of {host}, and look for its sign-in in `larder log --who {name}`.\n",
            login.audience
        ));
        text.push_str(&door_page(cluster));
        return text;
    }
    text.push_str(
        "1. `kubectl apply -f secrets/`: the pull secrets. Keep these files as you keep passwords; they can be\n   \
         deleted once they are applied.\n\
         2. `kubectl apply --server-side -f service-accounts/`: pods of these accounts use the secrets from then on.\n\n\
         `larder handoff apply` does both through the cluster's API; `larder handoff check` compares.\n\n",
    );
    for one in wanted {
        text.push_str(&format!(
            "- {}: secret `{}`, user `{}`, service accounts {}\n",
            one.namespace,
            one.name,
            one.user,
            one.service_accounts.join(", ")
        ));
    }
    text.push_str(&format!(
        "\n## Test\n\nStart a pod with an image of {host} in each namespace. When a pull fails, the event carries a\n\
         reference number: `larder log NUMBER` says what was refused, and by which line. How a node itself is tested,\n\
         NODES.md says.\n\n\
         ## Undo\n\n\
         `kubectl delete -f secrets/` takes the pull secrets away; take their names out of `imagePullSecrets` of the\n\
         service accounts (`kubectl edit serviceaccount NAME`). `larder key list` names the keys, and `larder key revoke KEY`\n\
         ends them.\n"
    ));
    text.push_str(&door_page(cluster));
    text
}

/// What to do with the door's file. Empty: the cluster has no door.
fn door_page(cluster: &ClusterConfig) -> String {
    if cluster.door.is_none() {
        return String::new();
    }
    format!(
        "\n## The door\n\n\
         `kubectl apply --server-side -f door/webhooks.yaml`: from then on the cluster's API asks the larder about\n\
         every pod and workload before it takes it. The path in that file is a secret: who knows it can ask for {}.\n\
         `kubectl apply -f door/names.yaml`, where that file is and the cluster is of version 1.30 or later: what the rules\n\
         decide by names alone, the API then holds by itself, with and without the larder.\n\
         Try it with `kubectl apply --dry-run=server` first: it says what would be changed or refused.\n",
        cluster.name.get_ref()
    )
}

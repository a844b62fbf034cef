//! A cluster's own API: the few requests that a handoff needs, with the operator's kubeconfig.

mod config;

use larder_client::{Web, WebAnswer};
use larder_core::objects::text;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use serde_json::Value;

use crate::failure::{Exit, Failure};

pub use config::ApiReach;

/// Who applies, as the platform's managed fields name it.
const MANAGER: &str = "iron-larder";

/// Objects that are read of one list at the most.
const MOST: usize = 100_000;
/// Objects that are asked for at once.
const PAGE: usize = 500;

/// A cluster's API.
pub struct Kube {
    web: Web,
    server: String,
}

impl Kube {
    /// The cluster of a kubeconfig's context.
    pub async fn connect(reach: &ApiReach) -> Result<Self, Failure> {
        let (web, server) = config::open(reach).await?;
        Ok(Self { web, server })
    }

    /// Where it is reached.
    pub fn server(&self) -> &str {
        &self.server
    }

    fn failure(&self, doing: &str, cause: String) -> Failure {
        let what = format!("cannot {doing} at the cluster's API {}", self.server);
        let remedy =
            "check the kubeconfig, its context, and what its user may do (`kubectl auth can-i`)";
        Failure::usage(what, cause, remedy).ending(Exit::Remote)
    }

    async fn send(
        &self,
        doing: &str,
        method: &str,
        path: &str,
        content: Option<(&str, Vec<u8>)>,
    ) -> Result<WebAnswer, Failure> {
        let answer = self.web.send(method, path, content).await;
        answer.map_err(|cause| self.failure(doing, cause))
    }

    fn read(&self, doing: &str, answer: &WebAnswer) -> Result<Value, Failure> {
        let said: Value = serde_json::from_slice(&answer.body).unwrap_or_default();
        if (200..300).contains(&answer.status) {
            return Ok(said);
        }
        // The platform's Status says why, in words.
        let why = said["message"].as_str().unwrap_or("nothing more is said");
        let why = larder_core::shown::cut(why, 400);
        Err(self.failure(doing, format!("it answered {}: {why}", answer.status)))
    }

    /// An object, or a list of them. None: there is no such object.
    pub async fn get(&self, path: &str) -> Result<Option<Value>, Failure> {
        let doing = format!("read {path}");
        let answer = self.send(&doing, "GET", path, None).await?;
        if answer.status == 404 {
            return Ok(None);
        }
        self.read(&doing, &answer).map(Some)
    }

    /// All objects of a kind: of the whole cluster where its user may list them, else of these namespaces. And whether
    /// it is the whole cluster.
    pub async fn list_all_or(
        &self,
        kind: &str,
        namespaces: &[&str],
    ) -> Result<(Vec<Value>, bool), Failure> {
        let path = format!("/api/v1/{kind}");
        let (doing, one) = (format!("read {path}"), format!("{path}?limit=1"));
        if self.send(&doing, "GET", &one, None).await?.status != 403 {
            return Ok((self.list(&path).await?, true));
        }
        let mut all = Vec::new();
        for namespace in namespaces {
            all.extend(self.list(&format!("/api/v1/namespaces/{namespace}/{kind}")).await?);
        }
        Ok((all, false))
    }

    /// All objects of a list, page by page. An API without this kind has none of them.
    pub async fn list(&self, path: &str) -> Result<Vec<Value>, Failure> {
        let doing = format!("read {path}");
        let mut items = Vec::new();
        let mut next = format!("?limit={PAGE}");
        loop {
            let answer = self.send(&doing, "GET", &format!("{path}{next}"), None).await?;
            // What was listed so far has grown too old: all of it in one piece (Kubernetes API, "Retrieving large
            // results sets in chunks").
            if answer.status == 410 && next.contains("continue=") {
                items.clear();
                next = String::new();
                continue;
            }
            if answer.status == 404 {
                return Ok(items);
            }
            let mut page = self.read(&doing, &answer)?;
            if let Some(page) = page.as_object_mut() {
                items.append(&mut larder_core::objects::items(page));
            }
            if items.len() > MOST {
                let cause = format!("it has more than {MOST} of them, which are not read");
                return Err(self.failure(&doing, cause));
            }
            let more = text(&page, &["metadata", "continue"]).unwrap_or_default();
            if more.is_empty() {
                return Ok(items);
            }
            let more = utf8_percent_encode(more, NON_ALPHANUMERIC);
            next = format!("?limit={PAGE}&continue={more}");
        }
    }

    /// The version of the cluster's API: major, minor. Of one that does not tell it, the lowest.
    pub async fn version(&self) -> Result<(u32, u32), Failure> {
        let version = self.get("/version").await?.unwrap_or_default();
        let number = |key: &str| {
            let text = text(&version, &[key]).unwrap_or_default();
            text.trim_end_matches(|c: char| !c.is_ascii_digit()).parse::<u32>().unwrap_or(0)
        };
        Ok((number("major"), number("minor")))
    }

    /// Takes an object away.
    pub async fn delete(&self, path: &str) -> Result<(), Failure> {
        let doing = format!("delete {path}");
        let answer = self.send(&doing, "DELETE", path, None).await?;
        self.read(&doing, &answer).map(drop)
    }

    /// Applies an object on the server's side: fields of others stay (Kubernetes API, "Server-Side
    /// Apply").
    pub async fn apply(&self, path: &str, object: &Value) -> Result<(), Failure> {
        let doing = format!("apply {path}");
        let path = format!("{path}?fieldManager={MANAGER}&force=true");
        let content = Some(("application/apply-patch+yaml", object.to_string().into_bytes()));
        let answer = self.send(&doing, "PATCH", &path, content).await?;
        self.read(&doing, &answer).map(drop)
    }
}

/// The path of an object of the core group.
pub fn path(namespace: &str, kind: &str, name: &str) -> String {
    format!("/api/v1/namespaces/{namespace}/{kind}/{name}")
}

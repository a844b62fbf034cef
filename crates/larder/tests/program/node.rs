//! A node's runtime as it pulls, and the shelves that it pulls from.

use std::thread;
use std::time::{Duration, Instant};

use larder_core::digest::Digest;
use serde_json::Value;

use crate::house::House;
use crate::serving::{Answer, Serving, ask};

/// What a node's runtime accepts of a manifest.
pub const ACCEPT: &str = "application/vnd.docker.distribution.manifest.v2+json, \
    application/vnd.docker.distribution.manifest.list.v2+json, \
    application/vnd.oci.image.manifest.v1+json, application/vnd.oci.image.index.v1+json, */*";

/// A shelf over each upstream; `more` goes to the first.
pub fn shelves(more: &str) -> String {
    format!(
        "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nonly = [\"library/**\"]\n{more}\n\n\
         [[shelf]]\nname = \"gauges\"\ncaches = \"ventworks\"\n\n[[shelf]]\nname = \"vendor\"\n\n\
         [[cluster]]\nname = \"control-room\"\nplatforms = [\"linux/amd64\"]\n"
    )
}

pub fn serve(house: &House, more: &str) -> Serving {
    house.configure(&shelves(more));
    Serving::start(house)
}

/// How a node reaches the larder: a path in front of `/v2/`, and what follows each path.
#[derive(Clone, Copy)]
pub struct Way<'w> {
    pub host: &'w str,
    pub prefix: &'w str,
    pub query: &'w str,
}

pub fn straight(serving: &Serving) -> Way<'_> {
    Way { host: serving.host(), prefix: "", query: "" }
}

impl Way<'_> {
    pub fn get(self, method: &str, path: &str, accept: &str) -> Option<Answer> {
        let path = format!("{}/v2/{path}{}", self.prefix, self.query);
        let agent = ("user-agent", "containerd/1.6.20~ds1");
        let headers: &[(&str, &str)] = match method {
            "HEAD" => &[("accept", accept), agent],
            _ => &[("accept", accept), agent, ("accept-encoding", "gzip")],
        };
        ask(self.host, method, &path, headers, b"")
    }

    /// Pulls as a runtime does: HEAD by tag, then everything by digest, each verified. What went
    /// wrong is told in a few words.
    pub fn pull(self, repository: &str, tag: &str) -> Result<Digest, String> {
        let head = self.get("HEAD", &format!("{repository}/manifests/{tag}"), ACCEPT);
        let head = head.ok_or("no answer to HEAD")?;
        if head.status != 200 {
            return Err(head.head.lines().next().unwrap_or_default().to_owned());
        }
        let digest: Digest = field(&head, "docker-content-digest").parse().unwrap();
        let kind = field(&head, "content-type");
        let body = self.content(&format!("{repository}/manifests/{digest}"), &digest, &kind)?;
        assert_eq!(field(&head, "content-length"), body.len().to_string());
        let mut document: Value = serde_json::from_slice(&body).unwrap();
        if let Some(children) = document["manifests"].as_array() {
            let mine = |child: &&Value| child["platform"]["architecture"] == "amd64";
            let child = children.iter().find(mine).ok_or("no match for platform")?.clone();
            let (name, kind) = (&child["digest"], child["mediaType"].as_str().unwrap());
            let name: Digest = name.as_str().unwrap().parse().unwrap();
            let body = self.content(&format!("{repository}/manifests/{name}"), &name, kind)?;
            document = serde_json::from_slice(&body).unwrap();
        }
        let layers = document["layers"].as_array().unwrap().clone();
        for blob in std::iter::once(&document["config"]).chain(&layers) {
            let name: Digest = blob["digest"].as_str().unwrap().parse().unwrap();
            let kind = blob["mediaType"].as_str().unwrap();
            self.content(&format!("{repository}/blobs/{name}"), &name, kind)?;
        }
        Ok(digest)
    }

    /// Asks what a tag points to, and nothing else.
    pub fn get_tag(self, repository: &str, tag: &str) {
        self.get("HEAD", &format!("{repository}/manifests/{tag}"), ACCEPT).unwrap();
    }

    fn content(self, path: &str, digest: &Digest, kind: &str) -> Result<Vec<u8>, String> {
        let answer = self.get("GET", path, &format!("{kind}, */*"));
        let answer = answer.ok_or_else(|| format!("{path}: broken off"))?;
        if answer.status != 200 {
            return Err(format!("{path}: {} {}", answer.status, answer.text()));
        }
        assert_eq!(Digest::of(&answer.body), *digest, "wrong content was answered as whole");
        Ok(answer.body)
    }
}

pub fn field(answer: &Answer, name: &str) -> String {
    let start = format!("{name}: ");
    let line = answer.head.lines().find(|line| line.to_ascii_lowercase().starts_with(&start));
    line.map(|line| line[start.len()..].to_owned()).unwrap_or_default()
}

/// The requests that an upstream was sent, without those for tokens.
pub fn requests(upstream: &larder_standin::Upstream) -> Vec<(String, usize)> {
    let all = upstream.take_requests().into_iter();
    all.filter(|(line, _)| !line.contains("token")).collect()
}

/// Asks again until it is so.
pub fn wait_until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        thread::sleep(Duration::from_millis(50));
    }
}

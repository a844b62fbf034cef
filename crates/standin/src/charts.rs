//! A made-up chart, and a plain chart repository that has it: an index and archives over HTTP.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use axum::Router;
use axum::extract::Request;
use axum::http::{StatusCode, header};
use axum::middleware::Next;
use axum::response::IntoResponse as _;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use larder_core::chart::ChartArtifact;
use larder_core::digest::Digest;
use larder_core::document::Document;

use crate::fault::Faults;
use crate::image::{SampleImage, SampleLayer};
use crate::serve_on_loopback;

/// The chart of a boiler room: what it installs is told by values, by a template, and by one that nobody can tell
/// before it has run.
pub const BOILER: &[(&str, &str)] = &[
    (
        "Chart.yaml",
        "apiVersion: v2\nname: boiler\nversion: 1.2.0\nappVersion: \"2\"\ndescription: A boiler room, made up\n",
    ),
    (
        "values.yaml",
        "image:\n  repository: bazaar.example/library/kettle\n  tag: \"2\"\nhistory:\n  enabled: true\n  image: bazaar.example/library/brinedb:5.2\nprobe:\n  registry: ventworks.example\n",
    ),
    (
        "templates/room.yaml",
        "apiVersion: apps/v1\nkind: Deployment\nmetadata:\n  name: boiler\nspec:\n  template:\n    spec:\n      containers:\n        - name: boiler\n          image: \"{{ .Values.image.repository }}:{{ .Values.image.tag }}\"\n        - name: log\n          image: bazaar.example/library/ashlog:1.4\n        - name: probe\n          image: \"{{ .Values.probe.registry }}/gauges/{{ include \"probe\" . }}\"\n",
    ),
];

/// Packs a chart's files, as whoever publishes one does.
///
/// # Errors
/// Never, as it is written to memory.
pub fn packed_chart(name: &str, files: &[(&str, &str)]) -> std::io::Result<Bytes> {
    let to = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    let mut archive = tar::Builder::new(to);
    for (path, text) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(text.len() as u64);
        header.set_mode(0o644);
        archive.append_data(&mut header, format!("{name}/{path}"), text.as_bytes())?;
    }
    Ok(archive.into_inner()?.finish()?.into())
}

/// The same chart as a registry has it.
///
/// # Panics
///
/// When it is no chart.
#[allow(clippy::expect_used)] // charts that this module itself has packed
pub fn chart_image(archive: Bytes) -> SampleImage {
    let chart = ChartArtifact::of(archive).expect("a chart of our own");
    let document = Document::read(chart.manifest, None).expect("a document of our own");
    let blob = |digest: &Digest, bytes: &Bytes| SampleLayer {
        digest: digest.clone(),
        bytes: bytes.clone(),
    };
    SampleImage {
        blobs: vec![
            blob(&chart.config_digest, &chart.config),
            blob(&chart.archive_digest, &chart.archive),
        ],
        documents: vec![(chart.digest, document)],
    }
}

/// A chart repository on a free loopback port.
pub struct ChartRepository {
    pub address: SocketAddr,
    /// What goes wrong with it.
    pub faults: Faults,
    /// Its files, by their names.
    files: Arc<Mutex<BTreeMap<String, Bytes>>>,
}

impl ChartRepository {
    /// Starts one below `/charts`. `login`: `NAME:SECRET`, which it then wants.
    ///
    /// # Errors
    /// When it cannot listen.
    pub async fn start(login: Option<&str>) -> std::io::Result<Self> {
        let faults = Faults::default();
        let files: Arc<Mutex<BTreeMap<String, Bytes>>> = Arc::default();
        let (failing, held) = (faults.clone(), Arc::clone(&files));
        let wanted = login.map(|login| format!("Basic {}", STANDARD.encode(login)));
        let router = Router::new()
            .fallback(move |request: Request| {
                let given = request.headers().get(header::AUTHORIZATION).cloned();
                let given = given.and_then(|given| given.to_str().ok().map(str::to_owned));
                let name = request.uri().path().trim_start_matches("/charts/").to_owned();
                let found = held.lock().unwrap_or_else(PoisonError::into_inner).get(&name).cloned();
                let refused = wanted.is_some() && given != wanted;
                async move {
                    if refused {
                        let ask = [(header::WWW_AUTHENTICATE, "Basic realm=\"charts\"")];
                        return (StatusCode::UNAUTHORIZED, ask).into_response();
                    }
                    match found {
                        Some(bytes) => bytes.into_response(),
                        None => StatusCode::NOT_FOUND.into_response(),
                    }
                }
            })
            .layer(axum::middleware::from_fn(move |request: Request, next: Next| {
                let failing = failing.clone();
                async move { failing.answer(request, next).await }
            }));
        let address = serve_on_loopback("a stand-in chart repository", router, None).await?;
        Ok(Self { address, faults, files })
    }

    /// Its address, as an operator writes it.
    pub fn endpoint(&self) -> String {
        format!("http://{}/charts", self.address)
    }

    /// Puts a file there.
    pub fn put(&self, name: &str, content: impl Into<Bytes>) {
        let mut files = self.files.lock().unwrap_or_else(PoisonError::into_inner);
        files.insert(name.to_owned(), content.into());
    }

    /// Puts versions of a chart there, each with its archive, and the index of them.
    pub fn publish(&self, name: &str, versions: &[(&str, Bytes)]) {
        let mut index = format!("apiVersion: v1\nentries:\n  {name}:\n");
        for (version, archive) in versions {
            let (digest, file) = (Digest::of(archive), format!("{name}-{version}.tgz"));
            index.push_str(&format!(
                "  - name: {name}\n    version: {version}\n    digest: {}\n    urls:\n    - {file}\n",
                digest.hex()
            ));
            self.put(&file, archive.clone());
        }
        self.put("index.yaml", index);
    }
}

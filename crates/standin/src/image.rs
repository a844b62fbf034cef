//! Made-up images: the same plan gives the same bytes. Layers hold text and binaries, and
//! compress about as well as real ones.

use std::io::Write as _;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::{Document, media_type};
use larder_core::platform::Platform;
use serde_json::json;

/// The made-up system that the shared base is made of.
const SYSTEM: [(&str, &str); 2] = [
    (
        "usr/lib/os-release",
        "ID=emberfall\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Emberfall Hearth 12\"\n",
    ),
    (
        "var/lib/dpkg/status",
        "Package: hearth-base\nStatus: install ok installed\nArchitecture: all\nVersion: 12.4\n\nPackage: libember1\nStatus: install ok installed\nArchitecture: amd64\nSource: ember (2.3-1)\nVersion: 2.3-1+b2\n\nPackage: bellows\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.8-2\n",
    ),
];

/// What an image shall be made of.
#[derive(Debug, Clone)]
pub struct ImagePlan {
    /// What it is called; all content grows from this name.
    pub name: String,
    /// For which platforms. With one, the image is a single manifest; with more, an index.
    pub platforms: Vec<Platform>,
    /// Names of layers that other images share, from the lowest up.
    pub shared: Vec<String>,
    /// How many layers of its own it has on top.
    pub own: usize,
    /// About how many bytes each layer has before compression.
    pub layer_size: usize,
    /// Whether the documents have the older schema-2 media types.
    pub schema2: bool,
    /// Files that its layers hold besides, by layer: the name of a shared one, or `own 0`, `own 1` and so on. A shared
    /// layer is the same in all images whose plans say the same of it.
    pub files: Vec<LayerFile>,
    /// What its configuration says besides: `config` is added to, all else stands beside it. Null: nothing.
    pub says: serde_json::Value,
}

impl ImagePlan {
    /// Two platforms, a shared base and two layers of its own.
    pub fn new(name: impl Into<String>) -> Self {
        Self {
            name: name.into(),
            platforms: vec![
                Platform::new("linux", "amd64", None),
                Platform::new("linux", "arm64", None),
            ],
            shared: vec!["base".into()],
            own: 2,
            layer_size: 600_000,
            schema2: false,
            files: SYSTEM
                .iter()
                .map(|(path, content)| LayerFile {
                    layer: "base".into(),
                    path: (*path).to_owned(),
                    content: (*content).to_owned(),
                })
                .collect(),
            says: serde_json::Value::Null,
        }
    }

    /// With a file in a layer.
    #[must_use]
    pub fn with_file(mut self, layer: &str, path: &str, content: &str) -> Self {
        let (layer, path) = (layer.to_owned(), path.to_owned());
        self.files.push(LayerFile { layer, path, content: content.to_owned() });
        self
    }

    /// For these platforms.
    #[must_use]
    pub fn for_platforms(mut self, platforms: &[&str]) -> Self {
        self.platforms = platforms.iter().filter_map(|text| text.parse().ok()).collect();
        self
    }
}

/// A file that a layer holds.
#[derive(Debug, Clone)]
pub struct LayerFile {
    pub layer: String,
    pub path: String,
    pub content: String,
}

/// A blob: a layer or a configuration.
#[derive(Debug, Clone)]
pub struct SampleLayer {
    pub digest: Digest,
    pub bytes: Bytes,
}

/// A made image: its blobs, and its documents with the top one last.
#[derive(Debug, Clone)]
pub struct SampleImage {
    /// Layers and configurations.
    pub blobs: Vec<SampleLayer>,
    /// Manifests, then the index if there is one.
    pub documents: Vec<(Digest, Document)>,
}

impl SampleImage {
    /// The digest of the whole: of the index, or of the only manifest.
    pub fn digest(&self) -> &Digest {
        &self.documents[self.documents.len() - 1].0
    }
}

/// Makes an image.
#[allow(clippy::expect_used)] // documents that this function itself has written
pub fn image(plan: &ImagePlan) -> SampleImage {
    let [index_type, manifest_type, config_type, layer_type] = if plan.schema2 {
        [
            media_type::SCHEMA2_LIST,
            media_type::SCHEMA2_MANIFEST,
            media_type::SCHEMA2_CONFIG,
            "application/vnd.docker.image.rootfs.diff.tar.gzip",
        ]
    } else {
        [media_type::INDEX, media_type::MANIFEST, media_type::CONFIG, media_type::LAYER_GZIP]
    };
    let mut blobs: Vec<SampleLayer> = Vec::new();
    let mut documents = Vec::new();
    let mut children = Vec::new();
    for platform in &plan.platforms {
        let shared = plan.shared.iter().map(|name| (name.clone(), format!("{name} {platform}")));
        let own = (0..plan.own)
            .map(|number| (format!("own {number}"), format!("{} {platform} {number}", plan.name)));
        let layers: Vec<(String, String)> = shared.chain(own).collect();
        let made: Vec<(SampleLayer, Digest)> = layers
            .iter()
            .map(|(name, seed)| {
                let files = plan.files.iter().filter(|file| file.layer == *name);
                layer(seed, plan.layer_size, files)
            })
            .collect();
        let step = |(name, _): &(String, String)| match name.strip_prefix("own ") {
            Some(number) => format!("RUN /bin/sh -c make-up step-{number}"),
            None => format!("COPY {name} /"),
        };
        let mut history: Vec<_> =
            layers.iter().map(|layer| json!({ "created_by": step(layer) })).collect();
        history.push(json!({ "created_by": "CMD [\"--serve\"]", "empty_layer": true }));
        let mut config = json!({
            "created": "2026-02-03T04:05:06Z",
            "architecture": platform.architecture,
            "os": platform.os,
            "config": {
                "Entrypoint": [format!("/usr/bin/{}", plan.name.rsplit('/').next().unwrap_or_default().split(' ').next().unwrap_or_default())],
                "Cmd": ["--serve"],
                "User": "1000",
                "Labels": {
                    "org.opencontainers.image.title": plan.name,
                    "org.opencontainers.image.vendor": "Ventworks (made up)",
                },
            },
            "history": history,
            "rootfs": { "type": "layers", "diff_ids": made.iter().map(|(_, id)| id).collect::<Vec<_>>() },
        });
        if let Some(variant) = &platform.variant {
            config["variant"] = json!(variant);
        }
        for (key, value) in plan.says.as_object().into_iter().flatten() {
            match (key.as_str(), value.as_object()) {
                ("config", Some(run)) => {
                    run.iter().for_each(|(key, value)| config["config"][key] = value.clone());
                }
                _ => config[key] = value.clone(),
            }
        }
        let config = blob(config.to_string().into());
        let describe = |media_type: &str, layer: &SampleLayer| json!({ "mediaType": media_type, "digest": layer.digest, "size": layer.bytes.len() });
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": manifest_type,
            "config": describe(config_type, &config),
            "layers": made.iter().map(|(layer, _)| describe(layer_type, layer)).collect::<Vec<_>>(),
        });
        let (digest, document) = document(manifest.to_string(), manifest_type);
        let mut child = json!({
            "mediaType": manifest_type,
            "digest": digest,
            "size": document.bytes.len(),
            "platform": { "os": platform.os, "architecture": platform.architecture },
        });
        if let Some(variant) = &platform.variant {
            child["platform"]["variant"] = json!(variant);
        }
        children.push(child);
        documents.push((digest, document));
        blobs.extend(made.into_iter().map(|(layer, _)| layer));
        blobs.push(config);
    }
    if plan.platforms.len() > 1 {
        let index = json!({ "schemaVersion": 2, "mediaType": index_type, "manifests": children });
        documents.push(document(index.to_string(), index_type));
    }
    SampleImage { blobs, documents }
}

/// Makes an artifact about an image: one small blob and a manifest. With `says`, the manifest names
/// its subject; without, only the tag under which it lies does.
pub fn companion(subject: &Digest, kind: &str, says: bool) -> SampleImage {
    artifact(subject, kind, says, format!("{kind} of {subject}, made up"))
}

/// Makes an artifact about an image with this content.
pub fn artifact(subject: &Digest, kind: &str, says: bool, content: String) -> SampleImage {
    let empty = blob(Bytes::from_static(b"{}"));
    let body = blob(content.into());
    let mut manifest = json!({
        "schemaVersion": 2,
        "mediaType": media_type::MANIFEST,
        "artifactType": kind,
        "config": { "mediaType": "application/vnd.oci.empty.v1+json", "digest": empty.digest, "size": 2 },
        "layers": [{ "mediaType": kind, "digest": body.digest, "size": body.bytes.len() }],
        "annotations": { "org.opencontainers.image.created": "2026-02-03T04:05:06Z" },
    });
    if says {
        // Nobody checks a subject's size.
        manifest["subject"] =
            json!({ "mediaType": media_type::MANIFEST, "digest": subject, "size": 1 });
    }
    let manifest = document(manifest.to_string(), media_type::MANIFEST);
    SampleImage { blobs: vec![empty, body], documents: vec![manifest] }
}

#[allow(clippy::expect_used)] // documents that this module itself has written
fn document(text: String, media_type: &str) -> (Digest, Document) {
    let digest = Digest::of(text.as_bytes());
    let document = Document::read(text.into(), Some(media_type)).expect("a document of our own");
    (digest, document)
}

fn blob(bytes: Bytes) -> SampleLayer {
    SampleLayer { digest: Digest::of(&bytes), bytes }
}

/// A compressed layer and the digest of what it holds uncompressed.
#[allow(clippy::expect_used)] // writing into memory cannot fail
fn layer<'f>(
    seed: &str,
    size: usize,
    files: impl Iterator<Item = &'f LayerFile>,
) -> (SampleLayer, Digest) {
    let mut random = Random::new(seed);
    let mut archive = tar::Builder::new(Vec::new());
    let folder = format!("srv/{:08x}", random.next() >> 32);
    for (name, content) in [
        (format!("{folder}/notes.txt"), random.text(size / 2)),
        (format!("{folder}/table.csv"), random.text(size / 4)),
        (format!("{folder}/program"), random.bytes(size / 4)),
    ]
    .into_iter()
    .chain(files.map(|file| (file.path.clone(), file.content.clone().into_bytes())))
    {
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        header.set_mode(0o644);
        header.set_mtime(1_770_000_000);
        archive.append_data(&mut header, name, content.as_slice()).expect("written to memory");
    }
    let plain = archive.into_inner().expect("written to memory");
    let mut packed = flate2::GzBuilder::new().write(Vec::new(), flate2::Compression::new(4));
    packed.write_all(&plain).expect("written to memory");
    let packed = packed.finish().expect("written to memory");
    (blob(packed.into()), Digest::of(&plain))
}

/// A generator of numbers that look random and are the same for the same seed.
struct Random(u64);

const WORDS: [&str; 16] = [
    "steam", "valve", "gauge", "pressure", "wellhead", "brine", "turbine", "flow", "heat", "shift",
    "reading", "alarm", "normal", "opened", "closed", "checked",
];

impl Random {
    fn new(seed: &str) -> Self {
        let start = seed.bytes().fold(0xcbf2_9ce4_8422_2325_u64, |hash, byte| {
            (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        });
        Self(start | 1)
    }

    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    fn text(&mut self, size: usize) -> Vec<u8> {
        let mut text = Vec::with_capacity(size + 32);
        while text.len() < size {
            let number = self.next();
            text.extend_from_slice(WORDS[(number % 16) as usize].as_bytes());
            let _ = write!(text, " {}", (number >> 8) % 1000);
            text.push(if number.is_multiple_of(11) { b'\n' } else { b' ' });
        }
        text
    }

    fn bytes(&mut self, size: usize) -> Vec<u8> {
        (0..size.div_ceil(8)).flat_map(|_| self.next().to_le_bytes()).collect()
    }
}

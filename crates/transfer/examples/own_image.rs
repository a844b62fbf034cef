//! Writes an image of the larder itself, as a layout, from a folder that holds its root. The same folder gives the same
//! bytes. `scripts/package` calls it:
//!
//! ```text
//! own_image ROOT LAYOUT TAG CREATED ARCHITECTURE [LABEL=VALUE]…
//! ```

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::{fs, io};

use bytes::Bytes;
use flate2::Compression;
use flate2::write::GzEncoder;
use futures_util::StreamExt as _;
use futures_util::stream;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, media_type};
use larder_core::name::Tag;
use larder_transfer::{Layout, ManifestRole, Target as _};
use serde_json::{Value, json};

/// The user that the larder runs as: nobody's on any node.
const USER: u64 = 65532;
/// What belongs to that user.
const OWN: [&str; 2] = ["var/lib/larder", "etc/larder"];

type Failed = Box<dyn std::error::Error>;

fn main() -> Result<(), Failed> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [root, layout, tag, created, architecture, labels @ ..] = words.as_slice() else {
        return Err("own_image ROOT LAYOUT TAG CREATED ARCHITECTURE [LABEL=VALUE]…".into());
    };
    let labels: Option<BTreeMap<&str, &str>> =
        labels.iter().map(|label| label.split_once('=')).collect();
    let labels = labels.ok_or("a label is LABEL=VALUE")?;
    let tar = packed(Path::new(root))?;
    let mut layer = GzEncoder::new(Vec::new(), Compression::best());
    layer.write_all(&tar)?;
    let layer = Bytes::from(layer.finish()?);
    let config = json!({
        "created": created,
        "architecture": architecture,
        "os": "linux",
        "config": {
            "User": format!("{USER}:{USER}"),
            "Entrypoint": ["/usr/bin/larder"],
            "Cmd": ["--config", "/etc/larder/larder.toml", "serve"],
            "Env": ["PATH=/usr/bin", "SSL_CERT_FILE=/etc/ssl/certs/ca-certificates.crt"],
            "WorkingDir": "/var/lib/larder",
            "Volumes": { "/var/lib/larder": {} },
            "ExposedPorts": { "5080/tcp": {}, "5081/tcp": {} },
            "StopSignal": "SIGTERM",
            "Labels": labels,
        },
        "history": [{ "created": created, "created_by": "scripts/package" }],
        "rootfs": { "type": "layers", "diff_ids": [Digest::of(&tar).to_string()] },
    });
    let config = Bytes::from(serde_json::to_vec(&config)?);
    let manifest = json!({
        "schemaVersion": 2,
        "mediaType": media_type::MANIFEST,
        "config": descriptor(media_type::CONFIG, &config),
        "layers": [descriptor(media_type::LAYER_GZIP, &layer)],
        "annotations": labels,
    });
    let manifest = Bytes::from(serde_json::to_vec(&manifest)?);
    let digest = Digest::of(&manifest);
    let document = Document::read(manifest, None)?;
    let tag: Tag = tag.parse()?;
    let target = Layout::make(Path::new(layout))?;
    let runtime = tokio::runtime::Runtime::new()?;
    runtime.block_on(async {
        for (descriptor, bytes) in document.descriptors().zip([config, layer]) {
            put(&target, descriptor, bytes).await?;
        }
        target.take_manifest(&digest, &document, ManifestRole::Image(Some(&tag)), false).await?;
        target.finish().await
    })?;
    writeln!(io::stdout(), "{digest}")?;
    Ok(())
}

async fn put(
    target: &Layout,
    descriptor: &Descriptor,
    bytes: Bytes,
) -> Result<(), larder_transfer::TransferError> {
    target.take_blob(descriptor, stream::iter([Ok(bytes)]).boxed()).await
}

fn descriptor(media_type: &str, bytes: &[u8]) -> Value {
    json!({ "mediaType": media_type, "digest": Digest::of(bytes).to_string(), "size": bytes.len() })
}

/// A folder as an archive: sorted, without times, and with owners that this machine knows nothing of.
fn packed(root: &Path) -> Result<Vec<u8>, Failed> {
    let mut paths = Vec::new();
    below(root, &mut paths)?;
    paths.sort();
    let mut archive = tar::Builder::new(Vec::new());
    for path in paths {
        let name = path.strip_prefix(root)?;
        let metadata = fs::symlink_metadata(&path)?;
        let mut header = tar::Header::new_ustar();
        let is_own = OWN.iter().any(|own| name.starts_with(own));
        let owner = if is_own { USER } else { 0 };
        header.set_uid(owner);
        header.set_gid(owner);
        header.set_mtime(0);
        header.set_mode(metadata.permissions().mode() & 0o7777);
        header.set_size(0);
        if metadata.is_dir() {
            header.set_entry_type(tar::EntryType::Directory);
            archive.append_data(&mut header, format!("{}/", name.display()), io::empty())?;
        } else if metadata.is_symlink() {
            header.set_entry_type(tar::EntryType::Symlink);
            archive.append_link(&mut header, name, fs::read_link(&path)?)?;
        } else {
            header.set_entry_type(tar::EntryType::Regular);
            header.set_size(metadata.len());
            archive.append_data(&mut header, name, fs::File::open(&path)?)?;
        }
    }
    Ok(archive.into_inner()?)
}

fn below(folder: &Path, paths: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if fs::symlink_metadata(&path)?.is_dir() {
            below(&path, paths)?;
        }
        paths.push(path);
    }
    Ok(())
}

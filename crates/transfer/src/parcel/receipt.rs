//! Receipts: what a larder holds, signed and compressed.

use std::collections::BTreeSet;
use std::io::{Read as _, Write as _};
use std::path::Path;

use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use larder_core::digest::Digest;
use larder_core::parcel::{HeldImage, Receipt, SIGNED_LIMIT, SignedText};
use larder_core::signature::SigningKey;
use larder_store::Store;

use super::{ParcelError, SignerTrust};

/// What a store holds now, which is `made_at` (RFC 3339).
pub async fn receipt_of(
    name: &str,
    made_at: String,
    store: &Store,
) -> Result<Receipt, ParcelError> {
    const PAGE: usize = 10_000;
    let mut images: Vec<HeldImage> = Vec::new();
    loop {
        let after = images.last().map(|last| (last.name.clone(), last.tag.clone()));
        let page = store.tags_after(after.as_ref(), PAGE).await?;
        if page.is_empty() {
            break;
        }
        images.extend(page.into_iter().map(|(name, tag, digest)| HeldImage { name, tag, digest }));
    }
    let mut blobs: BTreeSet<Digest> = BTreeSet::new();
    loop {
        let page = store.digests_after(blobs.last(), PAGE).await?;
        if page.is_empty() {
            break;
        }
        blobs.extend(page);
    }
    Ok(Receipt { made_by: name.to_owned(), made_at, images, blobs })
}

/// Writes a receipt to a file, in the place of one that is there.
pub fn write_receipt(path: &Path, receipt: &Receipt, key: &SigningKey) -> Result<(), ParcelError> {
    let text = SignedText::write(&receipt.write(), key);
    let pack = || -> std::io::Result<()> {
        let mut packed = GzEncoder::new(Vec::new(), Compression::best());
        packed.write_all(text.as_bytes())?;
        crate::files::replace(path, &packed.finish()?)
    };
    pack().map_err(ParcelError::io(format!("cannot write {}", crate::files::named(path))))
}

/// Reads a receipt, and says by what digest a parcel remembers it and who signed it.
pub fn read_receipt(
    path: &Path,
    trust: &SignerTrust,
) -> Result<(Receipt, Digest, String), ParcelError> {
    let what = crate::files::named(path);
    let doing = || ParcelError::io(format!("cannot read {what}"));
    let mut bytes = Vec::new();
    let file = crate::files::open_regular(path).map_err(doing())?;
    // However small the file, what comes out of it has a limit too.
    let mut unpacked = GzDecoder::new(file).take(SIGNED_LIMIT as u64 + 1);
    unpacked.read_to_end(&mut bytes).map_err(doing())?;
    if bytes.len() > SIGNED_LIMIT {
        return Err(doing()(std::io::Error::other(format!(
            "it has more than {SIGNED_LIMIT} bytes"
        ))));
    }
    let text =
        String::from_utf8(bytes).map_err(|_| doing()(std::io::Error::other("it is no UTF-8")))?;
    let (said, signed_by) = trust.read(&what, &text)?;
    let receipt = Receipt::read(said)
        .map_err(|source| ParcelError::Receipt { what: what.clone(), source })?;
    Ok((receipt, Digest::of(said.as_bytes()), signed_by))
}

//! Is every byte of a parcel what its signed contents say?

use std::collections::BTreeSet;

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::{Digest, Hasher};
use larder_core::parcel::ArchiveEntry;
use larder_store::{Purpose, Store, StoreError};
use tokio::task::spawn_blocking;

use super::volumes::{PIECE, Volumes};
use super::{Parcel, ParcelError};
use crate::Watch;
use crate::{TransferError, pour};
use std::sync::Arc;

/// The most faults that are listed one by one.
const LISTED: usize = 20;

/// What to do with the blobs while they are verified.
#[derive(Clone, Copy)]
pub enum Pour<'p> {
    No,
    /// Put them into the store's blobs, where nobody sees them yet: each is hashed once on its way.
    /// What is there already was verified when it came.
    Into(&'p Store),
}

/// One entry that is not what it should be.
struct EntryFault {
    start: u64,
    end: u64,
    text: String,
}

/// Compares every byte with what the contents say.
///
/// # Errors
/// [`ParcelError::Altered`] with all that is wrong, and in which volumes.
pub async fn verify(
    parcel: &Parcel,
    pour: Pour<'_>,
    watch: impl Watch + 'static,
) -> Result<(), ParcelError> {
    let progress: Arc<dyn Watch> = Arc::new(watch);
    progress.expect(parcel.contents.total());
    let at_once = std::thread::available_parallelism().map_or(2, std::num::NonZero::get) * 2;
    let outcomes: Vec<Result<Option<EntryFault>, ParcelError>> =
        stream::iter(&parcel.shape.entries)
            .map(|entry| check(parcel, entry, pour, &progress))
            .buffer_unordered(at_once.min(8))
            .collect()
            .await;
    let mut faults = Vec::new();
    for outcome in outcomes {
        faults.extend(outcome?);
    }
    // Two empty blocks end the archive.
    let end = parcel.shape.entries.last().map_or(0, ArchiveEntry::end);
    let count = usize::try_from(parcel.shape.total - end).unwrap_or(0);
    let mut tail = vec![0; count];
    read(&parcel.volumes, end, &mut tail)?;
    if tail.iter().any(|byte| *byte != 0) {
        let text = format!("something follows the end of the archive, at byte {end}");
        faults.push(EntryFault { start: end, end: parcel.shape.total, text });
    }
    if faults.is_empty() {
        return Ok(());
    }
    faults.sort_by_key(|fault| fault.start);
    Err(ParcelError::Altered(describe(parcel, &faults)?))
}

fn read(volumes: &Volumes, at: u64, buffer: &mut [u8]) -> Result<(), ParcelError> {
    volumes.read_at(at, buffer).map_err(ParcelError::io("cannot read the parcel"))
}

/// Checks an entry: its headers, its content and what fills its last block.
async fn check(
    parcel: &Parcel,
    entry: &ArchiveEntry,
    pour: Pour<'_>,
    progress: &Arc<dyn Watch>,
) -> Result<Option<EntryFault>, ParcelError> {
    let fault = |text: String| Some(EntryFault { start: entry.start, end: entry.end(), text });
    let expected = entry.head();
    let mut head = vec![0; expected.len()];
    read(&parcel.volumes, entry.start, &mut head)?;
    if head != expected {
        let found = found_instead(&head);
        return Ok(fault(format!(
            "at byte {} there stands {found} instead of {}",
            entry.start, entry.name
        )));
    }
    let mut fill = vec![0; usize::try_from(entry.end() - entry.content_end()).unwrap_or(0)];
    read(&parcel.volumes, entry.content_end(), &mut fill)?;
    if fill.iter().any(|byte| *byte != 0) {
        return Ok(fault(format!("something is hidden behind {}", entry.name)));
    }
    match (&entry.fixed, &entry.digest) {
        (Some(expected), _) => {
            let mut text = vec![0; expected.len()];
            read(&parcel.volumes, entry.content(), &mut text)?;
            let same = text == expected.as_bytes();
            Ok((!same)
                .then(|| fault(format!("{} is not that of the contents", entry.name)))
                .flatten())
        }
        (None, Some(digest)) => {
            let altered = match pour {
                Pour::No => hash(parcel, entry, digest, progress).await?,
                Pour::Into(store) => take(parcel, entry, digest, store, progress).await?,
            };
            Ok(altered.and_then(fault))
        }
        (None, None) => Ok(None),
    }
}

/// Hashes a blob. Some: what is wrong with it.
async fn hash(
    parcel: &Parcel,
    entry: &ArchiveEntry,
    digest: &Digest,
    progress: &Arc<dyn Watch>,
) -> Result<Option<String>, ParcelError> {
    let (volumes, progress) = (parcel.volumes.clone(), Arc::clone(progress));
    let (start, end) = (entry.content(), entry.content_end());
    let algorithm = digest.algorithm();
    let hashed = spawn_blocking(move || -> Result<Digest, ParcelError> {
        let mut hasher = Hasher::new(algorithm);
        let mut piece = vec![0; PIECE];
        let mut at = start;
        while at < end {
            let count = usize::try_from(end - at).unwrap_or(PIECE).min(PIECE);
            read(&volumes, at, &mut piece[..count])?;
            hasher.update(&piece[..count]);
            progress.advance(count as u64);
            at += count as u64;
        }
        Ok(hasher.finish())
    });
    let actual = hashed.await.unwrap_or_else(|_| {
        Err(ParcelError::io("cannot hash the parcel")(std::io::Error::other("the thread ended")))
    })?;
    Ok((actual != *digest).then(|| format!("{digest} is altered: it has the digest {actual}")))
}

/// Takes a blob into the store. Some: what is wrong with it.
async fn take(
    parcel: &Parcel,
    entry: &ArchiveEntry,
    digest: &Digest,
    store: &Store,
    progress: &Arc<dyn Watch>,
) -> Result<Option<String>, ParcelError> {
    if store.size_on_disk(digest).await? == Some(entry.size) {
        progress.advance(entry.size);
        return Ok(None);
    }
    let Some((content, size)) = parcel.content(digest) else { return Ok(None) };
    let writer = store.write_once(Purpose::Keep).await?;
    let poured = match pour(writer, content).await {
        Ok(writer) => store.keep_content(digest, writer).await.map(drop),
        Err(TransferError::Store(error)) => Err(error),
        Err(error) => {
            return Err(ParcelError::Files(format!("the parcel cannot be read: {error}")));
        }
    };
    progress.advance(size);
    match poured {
        Ok(()) => Ok(None),
        Err(StoreError::Mismatch { actual, .. }) => {
            Ok(Some(format!("{digest} is altered: it has the digest {actual}")))
        }
        Err(error) => Err(error.into()),
    }
}

/// What a tar reader would see in the place of an entry.
fn found_instead(head: &[u8]) -> String {
    let mut archive = tar::Archive::new(head);
    let entry = archive.entries().ok().and_then(|mut entries| entries.next()?.ok());
    let Some(entry) = entry else { return "no entry".into() };
    let name = String::from_utf8_lossy(&entry.path_bytes()).escape_debug().to_string();
    let kind = entry.header().entry_type();
    let link =
        entry.link_name_bytes().map(|to| String::from_utf8_lossy(&to).escape_debug().to_string());
    let shown = match link {
        Some(to) => format!("a link `{name}` to `{to}`"),
        None if kind.is_character_special() || kind.is_block_special() => {
            format!("a device `{name}`")
        }
        None if kind.is_file() => format!("`{name}` of {} bytes", entry.size()),
        None => format!("`{name}`, which is no regular file"),
    };
    let climbs = name.starts_with('/') || name.split('/').any(|part| part == "..");
    if climbs { format!("{shown}, which leads out of the archive,") } else { shown }
}

/// The faults in words, and which volumes are bad: those whose checksum is another.
fn describe(parcel: &Parcel, faults: &[EntryFault]) -> Result<Vec<String>, ParcelError> {
    let mut lines: Vec<String> =
        faults.iter().take(LISTED).map(|fault| fault.text.clone()).collect();
    if faults.len() > LISTED {
        lines.push(format!("and {} more", faults.len() - LISTED));
    }
    let volumes = &parcel.contents.volumes;
    let touched: BTreeSet<usize> = faults
        .iter()
        .flat_map(|fault| parcel.volumes.of(fault.start, fault.end))
        .filter(|number| *number < volumes.len())
        .collect();
    for number in touched {
        let crc = parcel.volumes.crc(number).map_err(ParcelError::io("cannot read the parcel"))?;
        let crc = format!("{crc:08x}");
        let (expected, path) = (&volumes[number], parcel.volumes.paths()[number].display());
        if crc == expected.crc32 {
            continue;
        }
        let other = volumes.iter().find(|other| other.crc32 == crc && other.name != expected.name);
        lines.push(match other {
            Some(other) => format!("{path} is bad: it is {} under a wrong name", other.name),
            None => format!(
                "{path} is bad: its checksum is {crc} instead of {}; it is damaged, or of another parcel",
                expected.crc32
            ),
        });
    }
    Ok(lines)
}

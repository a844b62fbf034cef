//! Advisories that come along in a parcel, for those who can ask nobody.

use std::io::{self, Read, Write as _};

use bytes::{Buf as _, Bytes};
use futures_util::StreamExt as _;
use larder_core::digest::Digest;
use larder_core::document::Descriptor;
use larder_core::parcel::ParcelFeed;
use larder_core::shown::cut;
use larder_store::{Feed, Store, StoreError};
use larder_transfer::parcel::{NewParcel, Parcel, SignerTrust};
use larder_transfer::{Content, Target as _, TransferError};
use schemars::JsonSchema;
use serde::Serialize;
use tokio::sync::mpsc;

use crate::commands::advisory::taking::Taking;
use crate::context::now;
use crate::failure::Failure;
use crate::output::time;

/// A feed on its way into a parcel.
pub(super) struct PackedFeed {
    pub about: ParcelFeed,
    bytes: Bytes,
}

impl PackedFeed {
    /// Its file, with its size in bytes.
    pub fn needs(&self) -> (Digest, u64) {
        (self.about.file.clone(), self.bytes.len() as u64)
    }

    /// Writes its file.
    pub async fn write(&self, to: &NewParcel) -> Result<(), TransferError> {
        let (digest, size) = self.needs();
        let blob = Descriptor::plain("application/gzip", digest, size);
        if to.has_blob(&blob).await? {
            return Ok(());
        }
        let bytes = self.bytes.clone();
        let content = futures_util::stream::once(async move { Ok(bytes) });
        to.take_blob(&blob, content.boxed()).await
    }
}

/// All advisories that were taken in here: the same ones make the same file.
pub(super) async fn packed(store: &Store) -> Result<Vec<PackedFeed>, Failure> {
    let failed = |error: StoreError| Failure::store("cannot read the advisories", &error);
    let mut all = Vec::new();
    for feed in store.feeds().await.map_err(failed)? {
        let file = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        let fold = |file: &mut flate2::write::GzEncoder<Vec<u8>>, document: &[u8]| {
            // It is written to memory, which does not fail.
            let _ = file.write_all(document).and_then(|()| file.write_all(b"\n"));
        };
        let file = store.fold_feed(&feed.name, file, fold).await.map_err(failed)?;
        let bytes = file.finish().map_err(|error| Failure::io("cannot pack advisories", &error))?;
        let about = ParcelFeed {
            name: feed.name,
            origin: cut(&feed.origin, 500),
            taken_in_at: time(feed.imported_at),
            own: feed.is_trusted,
            unmatched: feed.unmatched,
            file: Digest::of(&bytes),
        };
        all.push(PackedFeed { about, bytes: bytes.into() });
    }
    Ok(all)
}

/// A feed that came in a parcel.
#[derive(Serialize, JsonSchema)]
pub struct UnpackedFeed {
    feed: String,
    /// When it was taken in where the parcel was made.
    taken_in_at: String,
    new: u64,
    changed: u64,
    same: u64,
    /// Those that were here and are in the parcel no more.
    removed: u64,
    statements: u64,
    /// Whether what its statements hide counts as hidden here.
    own: bool,
    /// Why it was left out. null: it was taken in.
    left: Option<String>,
}

impl UnpackedFeed {
    fn of(feed: &ParcelFeed) -> Self {
        Self {
            feed: feed.name.clone(),
            taken_in_at: feed.taken_in_at.clone(),
            new: 0,
            changed: 0,
            same: 0,
            removed: 0,
            statements: 0,
            own: false,
            left: None,
        }
    }

    /// For people.
    pub fn line(&self) -> String {
        let Self { feed, taken_in_at, new, changed, same, statements, .. } = self;
        match &self.left {
            Some(left) => format!("advisories of {feed} stay as they are: {left}"),
            None => format!(
                "advisories of {feed} as of {taken_in_at}: {new} new, {changed} changed, {same} the same, {statements} statements"
            ),
        }
    }
}

/// What is done with the advisories of a parcel.
pub(super) struct FeedsWish<'w> {
    pub parcel: &'w Parcel,
    pub store: &'w Store,
    pub trust: &'w SignerTrust,
    /// Whether what is older than what is here is taken in too.
    pub older: bool,
    pub dry_run: bool,
}

impl FeedsWish<'_> {
    /// Takes them in.
    pub async fn carry_out(&self) -> Result<Vec<UnpackedFeed>, Failure> {
        let failed = |error: StoreError| Failure::store("cannot take in advisories", &error);
        let parcel = self.parcel;
        if parcel.contents.feeds.is_empty() {
            return Ok(Vec::new());
        }
        let here = self.store.feeds().await.map_err(failed)?;
        // A signer that is trusted for some shelves alone does not say what counts as hidden on all.
        let is_whole = self.trust.shelves_of(&parcel.signed_by).is_none();
        let mut all = Vec::new();
        for feed in &parcel.contents.feeds {
            let mut told = UnpackedFeed::of(feed);
            let known = here.iter().find(|one| one.name == feed.name);
            let taken_in_at = feed.taken_in_at.parse::<jiff::Timestamp>();
            let imported_at = taken_in_at.map_or(0, jiff::Timestamp::as_millisecond).min(now());
            if let Some(known) =
                known.filter(|known| known.imported_at > imported_at && !self.older)
            {
                let at = time(known.imported_at);
                told.left = Some(format!("they were taken in here at {at}, which is later"));
                all.push(told);
                continue;
            }
            told.own = (feed.own && is_whole) || known.is_some_and(|known| known.is_trusted);
            if !self.dry_run {
                self.take(feed, imported_at, &mut told).await?;
            }
            all.push(told);
        }
        if !self.dry_run {
            self.store.note_held().await.map_err(failed)?;
        }
        Ok(all)
    }

    async fn take(
        &self,
        feed: &ParcelFeed,
        imported_at: i64,
        told: &mut UnpackedFeed,
    ) -> Result<(), Failure> {
        let what = || format!("cannot take in the advisories of {}", feed.name);
        let failed = |error: StoreError| Failure::store(what(), &error);
        let Some((content, _)) = self.parcel.content(&feed.file) else {
            let cause = "the parcel leaves them out";
            return Err(Failure::usage(what(), cause, "pack it anew without `--since`"));
        };
        let at = now();
        let taking = Taking { store: self.store, feed: &feed.name, at, dry_run: false };
        let (pieces, name) = (Pieces::of(content), feed.name.clone());
        let read = taking.take(|_| (), move |files| files.compressed(&name, pieces));
        let (outcome, taken) = read.await.map_err(failed)?;
        outcome.map_err(|error| Failure::io(what(), &error))?;
        let origin = format!("{}, in a parcel of {}", feed.origin, self.parcel.contents.made_by);
        let noted = Feed {
            name: feed.name.clone(),
            origin: cut(&origin, 500),
            digest: taken.digest.to_string(),
            imported_at,
            newest: taken.newest.unwrap_or(0),
            advisories: 0,
            unmatched: feed.unmatched,
            is_trusted: told.own,
        };
        // All of it is in the parcel, so what is not there is there no more.
        let whole = (taken.refused_count == 0).then_some(at);
        told.removed = self.store.finish_feed(noted, whole).await.map_err(failed)?;
        (told.new, told.changed) = (taken.advisories.new, taken.advisories.changed);
        (told.same, told.statements) = (taken.advisories.same, taken.statements);
        Ok(())
    }
}

/// What is read of a parcel, for a thread of its own.
struct Pieces {
    from: mpsc::Receiver<Result<Bytes, TransferError>>,
    piece: Bytes,
}

impl Pieces {
    fn of(mut content: Content) -> Self {
        let (to, from) = mpsc::channel(4);
        tokio::spawn(async move {
            while let Some(piece) = content.next().await {
                if to.send(piece).await.is_err() {
                    return;
                }
            }
        });
        Self { from, piece: Bytes::new() }
    }
}

impl Read for Pieces {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        while self.piece.is_empty() {
            match self.from.blocking_recv() {
                Some(Ok(piece)) => self.piece = piece,
                Some(Err(error)) => return Err(io::Error::other(error.to_string())),
                None => return Ok(0),
            }
        }
        let count = self.piece.len().min(to.len());
        self.piece.copy_to_slice(&mut to[..count]);
        Ok(count)
    }
}

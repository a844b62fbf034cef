//! Several places for the same content, tried in turn.

use std::ops::Range;

use async_trait::async_trait;
use bytes::Bytes;
use larder_core::companion::Companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::reference::Selector;

use super::{Content, Source, TransferError};

/// Places for the same content. What one of them cannot give is asked of the next; the content's
/// digest tells whether it is the same.
pub struct Several {
    places: Vec<Box<dyn Source>>,
}

impl Several {
    /// In this order. There must be one at least, or nothing is ever found.
    pub fn new(places: Vec<Box<dyn Source>>) -> Self {
        Self { places }
    }
}

#[async_trait]
impl Source for Several {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        let mut met = Vec::new();
        for place in &self.places {
            match place.manifest(selector).await {
                Ok(found) => return Ok(found),
                Err(error) => met.push(error),
            }
        }
        Err(TransferError::together(met))
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        let mut met = Vec::new();
        for place in 0..self.places.len() {
            match self.blob_at(place, blob).await {
                Ok(content) => return Ok(content),
                Err(error) => met.push(error),
            }
        }
        Err(TransferError::together(met))
    }

    async fn companions(&self, about: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        let mut met = Vec::new();
        for place in &self.places {
            match place.companions(about).await {
                Ok(found) => return Ok(found),
                Err(error) => met.push(error),
            }
        }
        Err(TransferError::together(met))
    }

    async fn piece(
        &self,
        blob: &Descriptor,
        range: &Range<u64>,
    ) -> Result<Option<Bytes>, TransferError> {
        for place in &self.places {
            if let Ok(Some(piece)) = place.piece(blob, range).await {
                return Ok(Some(piece));
            }
        }
        Ok(None)
    }

    fn places(&self) -> usize {
        self.places.len()
    }

    async fn blob_at(&self, place: usize, blob: &Descriptor) -> Result<Content, TransferError> {
        match self.places.get(place) {
            Some(place) => place.blob(blob).await,
            None => Err(TransferError::NotHeld(blob.digest.to_string())),
        }
    }

    async fn blob_from(
        &self,
        place: usize,
        blob: &Descriptor,
        from: u64,
    ) -> Result<Option<Content>, TransferError> {
        match self.places.get(place) {
            Some(place) => place.blob_from(0, blob, from).await,
            None => Ok(None),
        }
    }

    async fn small_blob(&self, blob: &Descriptor, limit: usize) -> Result<Bytes, TransferError> {
        let mut met = Vec::new();
        for place in &self.places {
            match place.small_blob(blob, limit).await {
                Ok(found) => return Ok(found),
                Err(error) => met.push(error),
            }
        }
        Err(TransferError::together(met))
    }
}

//! What every handler works with.

use larder_core::name::RepositoryName;
use larder_store::Store;

use crate::error::{ApiError, Code};

/// One registry.
pub struct App {
    /// Its bytes and records.
    pub store: Store,
    /// The shelves that take pushes. Empty: any name does.
    pub shelves: Vec<String>,
    /// Whether pushes are refused altogether.
    pub read_only: bool,
}

impl App {
    /// Refuses a push to where nothing can be pushed, and says where it can.
    pub(crate) fn check_push(&self, repository: &RepositoryName) -> Result<(), ApiError> {
        if self.read_only {
            return Err(ApiError::new(Code::Denied, "this registry is read-only"));
        }
        let shelf = repository.first_component();
        if self.shelves.is_empty() || self.shelves.iter().any(|known| known == shelf) {
            return Ok(());
        }
        let message = format!(
            "there is no shelf `{shelf}` here; the shelves are: {}",
            self.shelves.join(", ")
        );
        Err(ApiError::new(Code::NameUnknown, message))
    }
}

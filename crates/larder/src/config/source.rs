//! A configuration file with its text, so that what is wrong can be shown where it stands.

use std::path::PathBuf;
use std::sync::Arc;

use toml::Spanned;

use super::fault;
use super::model::ConfigFile;
use crate::failure::Failure;

/// A file with its text, for messages.
pub(super) struct ConfigSource {
    pub path: PathBuf,
    /// The path as the operator would write it from here.
    pub shown: Arc<str>,
    pub text: String,
    pub file: ConfigFile,
}

impl ConfigSource {
    /// The line of a byte, counted from 1.
    pub fn line(&self, byte: usize) -> usize {
        self.text.get(..byte).unwrap_or_default().matches('\n').count() + 1
    }

    pub fn fault<T>(&self, at: &Spanned<T>, message: &str, remedy: &str) -> Failure {
        fault::at(&self.path, &self.text, at.span().start, message, remedy)
    }
}

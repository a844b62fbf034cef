//! Editing a configuration file, so that all else in it stays.

use std::path::{Path, PathBuf};

use larder_transfer::files::replace;
use toml_edit::{ArrayOfTables, DocumentMut, Item};

use crate::config::Config;
use crate::context::shown;
use crate::failure::Failure;

/// A configuration file that is being edited.
pub struct EditedFile {
    path: PathBuf,
    before: String,
    pub document: DocumentMut,
}

impl EditedFile {
    /// Reads a file.
    pub fn read(path: &Path) -> Result<Self, Failure> {
        let what = || format!("cannot edit {}", shown(path));
        let before = std::fs::read_to_string(path).map_err(|error| Failure::io(what(), &error))?;
        let document = before
            .parse()
            .map_err(|error: toml_edit::TomlError| Failure::usage(what(), error.message(), ""))?;
        Ok(Self { path: path.to_owned(), before, document })
    }

    /// Its `[[intake]]` entries. None: it has none, or writes them otherwise.
    pub fn intake(&mut self) -> Option<&mut ArrayOfTables> {
        self.document.get_mut("intake").and_then(Item::as_array_of_tables_mut)
    }

    /// Writes it, if something changed. Nothing is written that could not be read again.
    pub fn write(self, config: &Config) -> Result<(), Failure> {
        let what = || format!("cannot edit {}", shown(&self.path));
        let changed = self.document.to_string();
        if changed == self.before {
            return Ok(());
        }
        let put = |text: &str| {
            replace(&self.path, text.as_bytes()).map_err(|error| Failure::io(what(), &error))
        };
        put(&changed)?;
        if let Err(failure) = crate::config::load(&config.path, config.provenance) {
            put(&self.before)?;
            return Err(failure);
        }
        Ok(())
    }
}

//! Which of the open forms is a document in?

use serde::Deserialize;
use serde::de::IgnoredAny;

use super::osv::{Advisory, LARGEST, MalformedAdvisory, read_advisory};
use super::statement::{Statement, read_openvex};
use super::{CsafDocument, read_csaf};

/// What a document holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PublishedDocument {
    /// OSV.
    Advisory(Box<Advisory>),
    /// CSAF.
    Csaf(CsafDocument),
    /// OpenVEX.
    Statements(Vec<Statement>),
}

#[derive(Deserialize)]
struct Outline {
    id: Option<IgnoredAny>,
    modified: Option<IgnoredAny>,
    document: Option<IgnoredAny>,
    statements: Option<IgnoredAny>,
}

/// Reads a document in any of the forms.
pub fn read_document(bytes: &[u8]) -> Result<PublishedDocument, MalformedAdvisory> {
    if bytes.len() > LARGEST {
        return Err(MalformedAdvisory::Large);
    }
    let outline: Outline = serde_json::from_slice(bytes).map_err(|error| {
        let is_other = bytes.trim_ascii_start().first() != Some(&b'{');
        MalformedAdvisory::Shape(match is_other {
            true => "it is no JSON object".to_owned(),
            false => error.to_string(),
        })
    })?;
    match outline {
        Outline { document: Some(_), .. } => read_csaf(bytes).map(PublishedDocument::Csaf),
        Outline { statements: Some(_), .. } => {
            read_openvex(bytes).map(PublishedDocument::Statements)
        }
        Outline { id: Some(_), modified: Some(_), .. } => {
            read_advisory(bytes).map(|one| PublishedDocument::Advisory(Box::new(one)))
        }
        _ => Err(MalformedAdvisory::Shape("it is neither OSV nor CSAF nor OpenVEX".to_owned())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_are_told_apart_by_their_fields() {
        let osv = br#"{"id":"EMBER-2026-0001","modified":"2026-10-01T00:00:00Z"}"#;
        assert!(matches!(read_document(osv), Ok(PublishedDocument::Advisory(_))));
        let vex = br#"{"timestamp":"2026-10-01T00:00:00Z","statements":[]}"#;
        assert!(matches!(read_document(vex), Ok(PublishedDocument::Statements(_))));
        let csaf = br#"{"document":{"tracking":{"id":"V-1","current_release_date":"2026-10-01T00:00:00Z"}}}"#;
        assert!(matches!(read_document(csaf), Ok(PublishedDocument::Csaf(_))));
        for bad in ["{}", "[]", "", "5"] {
            assert!(read_document(bad.as_bytes()).is_err(), "{bad}");
        }
    }
}

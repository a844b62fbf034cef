//! `larder --version --verbose`: which program is this, exactly?

use std::ffi::OsString;

use schemars::JsonSchema;
use serde::Serialize;

use crate::output::{Output, Report};

/// Of which commit it is. Empty: it was not asked for, in a development build.
pub const COMMIT: &str = env!("LARDER_COMMIT");

/// Says it where the call asks for nothing else. False: it asks for something else.
pub fn told(words: impl Iterator<Item = OsString>) -> bool {
    let (mut version, mut verbose, mut json) = (false, false, false);
    for word in words {
        match word.to_str() {
            Some("--version" | "-V") => version = true,
            Some("--verbose" | "-v" | "-vv") => verbose = true,
            Some("-vV" | "-Vv") => (version, verbose) = (true, true),
            Some("--json") => json = true,
            Some("--quiet" | "-q" | "--new-store") => {}
            _ => return false,
        }
    }
    if !(version && verbose) {
        return false;
    }
    let features =
        [("demo", cfg!(feature = "demo")), ("traces", cfg!(feature = "traces"))].into_iter();
    let report = VersionReport {
        version: env!("CARGO_PKG_VERSION"),
        commit: Some(COMMIT).filter(|commit| !commit.is_empty()),
        profile: env!("LARDER_PROFILE"),
        target: env!("LARDER_TARGET"),
        features: features.filter(|(_, on)| *on).map(|(name, _)| name).collect(),
        libraries: env!("LARDER_LIBRARIES").split(", ").collect(),
    };
    Output { json, ..Output::default() }.tell(&report);
    true
}

/// Which program it is.
#[derive(Serialize, JsonSchema)]
pub struct VersionReport {
    version: &'static str,
    /// Of the source. null: a development build, which does not ask for it.
    commit: Option<&'static str>,
    /// How it was built: `dist` in packages.
    profile: &'static str,
    /// For which kind of machine.
    target: &'static str,
    /// What can be left out when it is built, and was not.
    features: Vec<&'static str>,
    /// Those that speak TLS and HTTP and keep records, each with its version.
    libraries: Vec<&'static str>,
}

impl Report for VersionReport {
    const KIND: &'static str = "version";

    fn show(&self, out: &Output) {
        let Self { version, profile, target, .. } = self;
        let commit = self.commit.unwrap_or("not told, for this is a development build");
        let features =
            if self.features.is_empty() { "none".to_owned() } else { self.features.join(", ") };
        let libraries = self.libraries.join(", ");
        out.result(format!(
            "larder {version}\ncommit    {commit}\nprofile   {profile}\ntarget    {target}\nfeatures  {features}\nlibraries {libraries}"
        ));
    }
}

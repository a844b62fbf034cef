//! A chart's archive and an index of charts of any bytes are read or refused; templates are filled in or left open.
#![no_main]

use std::path::Path;
use std::sync::Arc;

use larder_core::chart::{ChartArchive, ChartHelpers, ChartIndex, ChartScope};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(chart) = ChartArchive::read(bytes) {
        for (path, _) in &chart.files {
            assert!(path.is_relative() && !path.components().any(|part| part.as_os_str() == ".."));
        }
    }
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let _index = ChartIndex::read(text);
    // Values, helpers and what is filled in, each up to the next line of dashes.
    let mut parts = text.splitn(3, "\n-----\n");
    let mut next = || parts.next().unwrap_or_default();
    let (values, helpers, filled) = (next(), next(), next());
    let file = |path: &str, text: &str| (Path::new(path).to_path_buf(), text.as_bytes().to_vec());
    let chart = ChartArchive {
        name: "boiler".into(),
        version: "1.2.0".into(),
        description: serde_json::Value::Null,
        files: vec![file("values.yaml", values), file("templates/_helpers.tpl", helpers)],
    };
    let scope = ChartScope::of(&chart, Path::new("templates/x.yaml"), &Arc::new(ChartHelpers::of(&chart)));
    if let Some(said) = scope.fill(filled) {
        assert!(said.len() <= 4096);
    }
});

//! What a chart says of itself, as a registry has it.

use serde_json::Value;

use super::wire;
use crate::document::Document;

/// Charts that one may want below it.
const MOST: usize = 1000;

/// A chart in a registry, by its configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChartDescription {
    pub name: String,
    pub version: String,
    /// The version of what it installs. None: it does not say.
    pub app_version: Option<String>,
    /// In a sentence. None: it does not say.
    pub about: Option<String>,
    /// The charts that it wants below it, each with the versions that will do.
    pub wants: Vec<String>,
}

impl ChartDescription {
    /// Of a manifest and its configuration. None: it is no chart, or does not say what it is.
    pub fn of(document: &Document, config: &[u8]) -> Option<Self> {
        document.config().filter(|config| config.media_type == wire::CONFIG)?;
        let read: Value = serde_json::from_slice(config).ok()?;
        let text =
            |value: &Value| value.as_str().filter(|text| !text.is_empty()).map(str::to_owned);
        let wants = read["dependencies"].as_array().into_iter().flatten().take(MOST);
        let wants = wants.filter_map(|one| {
            let version = text(&one["version"]).map(|version| format!(" {version}"));
            Some(format!("{}{}", text(&one["name"])?, version.unwrap_or_default()))
        });
        Some(Self {
            name: text(&read["name"])?,
            version: text(&read["version"])?,
            app_version: text(&read["appVersion"]),
            about: text(&read["description"]),
            wants: wants.collect(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::super::archive::tests::packed;
    use super::super::artifact::ChartArtifact;
    use super::*;

    #[test]
    fn a_chart_says_what_it_is() {
        let text = "name: b\nversion: 1.2.0\nappVersion: \"3\"\ndescription: boils\ndependencies:\n- {name: pump, version: 2.x}\n- {name: pipe}\n- 7\n";
        let chart = ChartArtifact::of(packed(&[("b/Chart.yaml", text)]).into()).unwrap();
        let document = Document::read(chart.manifest.clone(), None).unwrap();
        let said = ChartDescription::of(&document, &chart.config).unwrap();
        assert_eq!((said.name.as_str(), said.version.as_str()), ("b", "1.2.0"));
        assert_eq!(
            (said.app_version.as_deref(), said.about.as_deref()),
            (Some("3"), Some("boils"))
        );
        assert_eq!(said.wants, ["pump 2.x", "pipe"]);
        for odd in ["", "[]", "{\"name\": \"b\"}", "{\"name\": 1, \"version\": \"2\"}"] {
            assert_eq!(ChartDescription::of(&document, odd.as_bytes()), None, "{odd}");
        }
    }
}

//! What else an image's configuration says: read for people, and deciding nothing.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::null_is_default;

/// The parts of a configuration that only people ask for.
#[derive(Debug, Clone, Default, Deserialize)]
pub struct ImageDetails {
    #[serde(default, rename = "config", deserialize_with = "null_is_default")]
    pub run: RunDetails,
    /// How it was built, the first step first.
    #[serde(default, deserialize_with = "null_is_default")]
    pub history: Vec<HistoryStep>,
}

impl ImageDetails {
    /// Reads a configuration blob. What has another form than the standard's says nothing.
    pub fn read(bytes: &[u8]) -> Self {
        serde_json::from_slice(bytes).unwrap_or_default()
    }
}

/// How an image is run, beside its command.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub struct RunDetails {
    /// Variables, each as `NAME=VALUE`.
    #[serde(default, deserialize_with = "null_is_default")]
    pub env: Vec<String>,
    /// Ports that it listens on, as `PORT/PROTOCOL`.
    #[serde(default, rename = "ExposedPorts", deserialize_with = "keys")]
    pub ports: Vec<String>,
    /// Folders that it expects to outlive it.
    #[serde(default, deserialize_with = "keys")]
    pub volumes: Vec<String>,
    /// The folder in which it starts. None: the root.
    #[serde(default)]
    pub working_dir: Option<String>,
    /// What tells it to stop. None: SIGTERM.
    #[serde(default)]
    pub stop_signal: Option<String>,
    /// How it is asked whether it is well. None: it is not. Not part of the standard, and common all the same.
    #[serde(default)]
    pub healthcheck: Option<HealthCheck>,
}

/// How an image is asked whether it is well.
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub struct HealthCheck {
    /// The command, with `CMD` or `CMD-SHELL` before it.
    #[serde(default, deserialize_with = "null_is_default")]
    pub test: Vec<String>,
    /// How often, in nanoseconds. None: as the runtime likes.
    #[serde(default)]
    pub interval: Option<i64>,
}

/// A step of an image's build.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct HistoryStep {
    #[serde(default)]
    pub created: Option<String>,
    /// The command that made the layer. None: not said.
    #[serde(default)]
    pub created_by: Option<String>,
    #[serde(default)]
    pub comment: Option<String>,
    /// Whether it made no layer.
    #[serde(default)]
    pub empty_layer: bool,
}

/// The keys of an object whose values say nothing.
#[allow(clippy::zero_sized_map_values)] // a set cannot be read from an object
fn keys<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Vec<String>, D::Error> {
    let all: Option<BTreeMap<String, serde::de::IgnoredAny>> = Deserialize::deserialize(from)?;
    Ok(all.unwrap_or_default().into_keys().collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_another_form_says_nothing() {
        let text = r#"{"config": {"Env": ["A=b"], "ExposedPorts": {"80/tcp": {}}, "Volumes": null, "Healthcheck":
            {"Test": ["CMD", "true"]}}, "history": [{"created_by": "RUN x", "empty_layer": true}]}"#;
        let details = ImageDetails::read(text.as_bytes());
        assert_eq!(
            (details.run.env, details.run.ports),
            (vec!["A=b".into()], vec!["80/tcp".into()])
        );
        assert!(details.history[0].empty_layer && details.run.volumes.is_empty());
        let odd = ImageDetails::read(br#"{"config": {"Env": {"A": 1}, "ExposedPorts": []}}"#);
        assert!(odd.run.env.is_empty() && odd.run.ports.is_empty());
    }
}

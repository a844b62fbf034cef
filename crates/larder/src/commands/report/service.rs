//! What the larders did hour by hour, as they noted it while they served.

use std::collections::BTreeMap;

use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::output::time;

/// The kind of the samples of what larders did in an hour. Each has a figure and the larder's name.
pub const SERVICE_SAMPLES: &str = "service";
/// The figures, in this order.
pub const SERVICE_FIGURES: [&str; 5] = ["requests", "failed", "refused", "sent", "received"];

/// Hours are kept for so long, in milliseconds.
const KEPT: i64 = 7 * 24 * 3_600_000;

/// What was done in a week.
#[derive(Serialize, JsonSchema, Default)]
pub struct ServiceFigures {
    /// Of all hours together.
    pub all: ServiceHour,
    pub hours: Vec<ServiceHour>,
}

/// What all larders together did in an hour.
#[derive(Serialize, JsonSchema, Default)]
pub struct ServiceHour {
    /// When the hour began. null: of all hours.
    pub at: Option<String>,
    pub requests: u64,
    /// What could not be answered (status 5xx).
    pub failed: u64,
    /// What was not let through.
    pub refused: u64,
    /// Bytes of bodies.
    pub sent_bytes: u64,
    pub received_bytes: u64,
    #[serde(skip)]
    pub millis: i64,
}

impl ServiceHour {
    fn add(&mut self, figure: &str, value: u64) {
        let to = match figure {
            "requests" => &mut self.requests,
            "failed" => &mut self.failed,
            "refused" => &mut self.refused,
            "sent" => &mut self.sent_bytes,
            "received" => &mut self.received_bytes,
            _ => return,
        };
        *to = to.saturating_add(value);
    }
}

impl ServiceFigures {
    /// Of the last days, a week at most.
    pub async fn gather(store: &Store, since: i64, now: i64) -> Result<Self, StoreError> {
        let mut figures = Self::default();
        let mut hours: BTreeMap<i64, ServiceHour> = BTreeMap::new();
        for sample in store.samples(SERVICE_SAMPLES, since.max(now - KEPT)).await? {
            let figure = sample.name.split(' ').next().unwrap_or_default();
            let new = || ServiceHour {
                at: Some(time(sample.at)),
                millis: sample.at,
                ..ServiceHour::default()
            };
            hours.entry(sample.at).or_insert_with(new).add(figure, sample.value);
            figures.all.add(figure, sample.value);
        }
        figures.hours = hours.into_values().collect();
        Ok(figures)
    }
}

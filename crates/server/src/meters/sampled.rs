//! Figures that somebody else works out now and then, because that takes more than a look: what shelves hold, what was
//! done last, how images are.

use prometheus::{IntGaugeVec, Opts, Registry};

/// One of these figures.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Figure {
    ShelfBytes,
    ShelfTags,
    ShelfQuota,
    AccountBytes,
    AccountQuota,
    RepositoryBytes,
    RepositoryQuota,
    OpenUploads,
    OpenUploadBytes,
    CertificateEnd,
    ConfigurationGood,
    ConfigurationWaiting,
    LastRun,
    VerifySound,
    IntakeWanted,
    IntakeMissing,
    IntakeFailed,
    IntakeMoved,
    Advisories,
    Leases,
}

/// Each with its name, its labels, and what it means.
const FIGURES: &[(Figure, &str, &[&str], &str)] = &[
    (
        Figure::ShelfBytes,
        "larder_shelf_bytes",
        &["shelf"],
        "What a shelf holds, content that its images share once",
    ),
    (Figure::ShelfTags, "larder_shelf_tags", &["shelf"], "Tags of a shelf"),
    (
        Figure::ShelfQuota,
        "larder_shelf_quota_bytes",
        &["shelf"],
        "What a shelf may hold, where it has a quota",
    ),
    (
        Figure::AccountBytes,
        "larder_account_bytes",
        &["shelf", "account"],
        "What an account has brought to a shelf on which accounts have a quota",
    ),
    (
        Figure::AccountQuota,
        "larder_account_quota_bytes",
        &["shelf"],
        "What each account may bring to a shelf, where that has a quota",
    ),
    (
        Figure::RepositoryBytes,
        "larder_repository_bytes",
        &["repository"],
        "What the largest repositories of a shelf hold on which repositories have a quota",
    ),
    (
        Figure::RepositoryQuota,
        "larder_repository_quota_bytes",
        &["shelf"],
        "What each repository of a shelf may hold, where that has a quota",
    ),
    (
        Figure::OpenUploads,
        "larder_uploads_open",
        &[],
        "Uploads that are not finished, also those to which nobody sends now",
    ),
    (
        Figure::OpenUploadBytes,
        "larder_uploads_open_bytes",
        &[],
        "What these take on this larder's disk or in its object store",
    ),
    (
        Figure::CertificateEnd,
        "larder_certificate_expires_timestamp_seconds",
        &["file"],
        "When the certificate that is served ends",
    ),
    (
        Figure::ConfigurationGood,
        "larder_configuration_good",
        &[],
        "1: the configuration holds as its file has it; 0: the file cannot be used, so what held before holds",
    ),
    (
        Figure::ConfigurationWaiting,
        "larder_configuration_waiting",
        &[],
        "1: a part of the configuration waits for a new start",
    ),
    (
        Figure::LastRun,
        "larder_last_run_timestamp_seconds",
        &["what"],
        "When this was last done: intake, verify, collect, backup, survey, export; 0: never",
    ),
    (
        Figure::VerifySound,
        "larder_verify_sound",
        &[],
        "1: when everything was last read again, all of it was right; 0: some was damaged or missing",
    ),
    (Figure::IntakeWanted, "larder_intake_wanted", &[], "Images that the lock has"),
    (
        Figure::IntakeMissing,
        "larder_intake_missing",
        &[],
        "Images that the lock has and the larder has not, or otherwise",
    ),
    (
        Figure::IntakeFailed,
        "larder_intake_failed",
        &[],
        "Images that could not be brought in when that was last tried",
    ),
    (
        Figure::IntakeMoved,
        "larder_intake_moved",
        &[],
        "Images whose tag has moved at its upstream since they were brought in",
    ),
    (
        Figure::Advisories,
        "larder_advisories",
        &["severity"],
        "Advisories about packages of images here, by severity; worked out once an hour, with packages that are not touched by them left out",
    ),
    (
        Figure::Leases,
        "larder_leases",
        &[],
        "Jobs that one larder does for all that share the store",
    ),
];

/// A figure's value, with what its labels say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SampledValue {
    pub figure: Figure,
    pub labels: Vec<String>,
    pub value: i64,
}

impl SampledValue {
    /// One without labels.
    pub fn of(figure: Figure, value: impl TryInto<i64>) -> Self {
        Self { figure, labels: Vec::new(), value: value.try_into().unwrap_or(i64::MAX) }
    }

    /// One with a label.
    pub fn for_one(figure: Figure, label: impl Into<String>, value: impl TryInto<i64>) -> Self {
        Self { labels: vec![label.into()], ..Self::of(figure, value) }
    }
}

pub(super) struct SampledFigures(Vec<(Figure, IntGaugeVec)>);

impl SampledFigures {
    #[allow(clippy::expect_used)] // names and labels are fixed: a wrong one fails the first test
    pub(super) fn new(registry: &Registry) -> Self {
        let one = |(figure, name, labels, help): &(Figure, &str, &[&str], &str)| {
            let gauge = IntGaugeVec::new(Opts::new(*name, *help), labels).expect("a fixed name");
            registry.register(Box::new(gauge.clone())).expect("registered once");
            (*figure, gauge)
        };
        Self(FIGURES.iter().map(one).collect())
    }

    /// Puts these in the place of all values of these figures: what has none any more is told no more.
    pub(super) fn set(&self, figures: &[Figure], values: &[SampledValue]) {
        for (figure, gauge) in self.0.iter().filter(|(figure, _)| figures.contains(figure)) {
            gauge.reset();
            for one in values.iter().filter(|value| value.figure == *figure) {
                let labels: Vec<&str> = one.labels.iter().map(String::as_str).collect();
                match gauge.get_metric_with_label_values(&labels) {
                    Ok(gauge) => gauge.set(one.value),
                    Err(error) => {
                        tracing::error!(%error, figure = ?figure, "a figure cannot be told");
                    }
                }
            }
        }
    }
}

//! The made-up Emberfall Geothermal: its upstreams' images and its deployments.

use crate::image::{ImagePlan, SampleImage, image};

/// The public upstream's host.
pub const BAZAAR: &str = "bazaar.example";
/// The vendor's host.
pub const VENTWORKS: &str = "ventworks.example";
/// The account at the vendor's, made up like all else.
pub const VENTWORKS_LOGIN: &str = "emberfall:not-a-real-secret";

/// The deployments, as file name and text.
pub const DEPLOYMENTS: [(&str, &str); 3] = [
    ("wellhead-historian.yaml", include_str!("../sample/deploy/wellhead-historian.yaml")),
    ("steam-board.yaml", include_str!("../sample/deploy/steam-board.yaml")),
    ("leak-watch.yaml", include_str!("../sample/deploy/leak-watch.yaml")),
];

/// What the public upstream holds: repository, tag, image.
pub fn bazaar_images() -> Vec<(&'static str, &'static str, SampleImage)> {
    let many = ["linux/amd64", "linux/arm64", "linux/arm/v7"];
    vec![
        ("library/kettle", "2", image(&ImagePlan::new("library/kettle 2").for_platforms(&many))),
        (
            "library/brinedb",
            "5.2",
            image(&ImagePlan { own: 4, ..ImagePlan::new("library/brinedb 5.2") }),
        ),
        (
            "library/brinedb",
            "5.3",
            image(&ImagePlan { own: 4, ..ImagePlan::new("library/brinedb 5.3") }),
        ),
        (
            "library/ashlog",
            "1.4",
            image(&ImagePlan { schema2: true, ..ImagePlan::new("library/ashlog 1.4") }),
        ),
        ("community/pipewatch", "0.9", image(&ImagePlan::new("community/pipewatch 0.9"))),
    ]
}

/// What the vendor holds: repository, tag, image.
pub fn ventworks_images() -> Vec<(&'static str, &'static str, SampleImage)> {
    let single = vendor("gauges/valve-twin 3.1").for_platforms(&["linux/amd64"]);
    vec![
        ("gauges/steamgauge", "1.8", image(&vendor("gauges/steamgauge 1.8"))),
        ("gauges/steamgauge", "1.9.2", image(&vendor("gauges/steamgauge 1.9.2"))),
        ("gauges/valve-twin", "3.1", image(&single)),
    ]
}

/// An image on the vendor's own layer, which brings a library.
fn vendor(name: &str) -> ImagePlan {
    ImagePlan { shared: vec!["base".into(), "vendor".into()], ..ImagePlan::new(name) }.with_file(
        "vendor",
        LIBRARY,
        r#"{"name": "pressurekit", "version": "2.1.0"}"#,
    )
}

const LIBRARY: &str = "opt/gauges/node_modules/pressurekit/package.json";

/// What the vendor publishes once its library is mended: on a newer layer of its own.
pub fn mended_steamgauge() -> SampleImage {
    let plan = ImagePlan::new("gauges/steamgauge 1.9.3");
    let plan = ImagePlan { shared: vec!["base".into(), "vendor 2".into()], ..plan };
    image(&plan.with_file("vendor 2", LIBRARY, r#"{"name": "pressurekit", "version": "2.2.0"}"#))
}

/// What is published about that library.
pub const ADVISORY: &str = include_str!("../sample/EMBER-2026-0001.json");

/// What the public upstream one day puts under `kettle:2`.
pub fn moved_kettle() -> SampleImage {
    image(&ImagePlan::new("library/kettle 2 again"))
}

/// What the vendor one day puts under a tag that was thought to stand still.
pub fn moved_steamgauge() -> SampleImage {
    image(&vendor("gauges/steamgauge 1.9.2 again"))
}

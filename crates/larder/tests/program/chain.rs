//! A larder of larders: one at each site, which caches what a central one has.

use crate::house::{House, OWN};
use crate::serve::{Authority, wait_for};
use crate::serving::Serving;

/// A central larder with two images, and what an edge needs to reach it.
struct Centre {
    house: House,
}

impl Centre {
    fn new(more: &str) -> Self {
        let house = House::new();
        house.configure(&format!(
            "[[shelf]]\nname = \"vendor\"\n\n[[shelf]]\nname = \"payroll\"\n\n{more}"
        ));
        let text = house.read("larder.toml").replace("access = \"open\"", "access = \"grants\"");
        house.write("larder.toml", text);
        for to in ["vendor/kettle:2", "vendor/spare:1", "payroll/books:1"] {
            house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/{to}")).ends(0);
        }
        Self { house }
    }

    /// An edge that caches this one.
    fn edge(&self, centre: &Serving, upstream: &str, shelf: &str) -> Serving {
        let text = format!(
            "[larder]\nname = \"north\"\nurl = \"https://north.emberfall.example\"\naccess = \"open\"\n\n\
             [[upstream]]\nname = \"centre\"\nhost = \"{OWN}\"\nendpoint = \"{}\"\n{upstream}\n\n\
             [[shelf]]\nname = \"centre\"\ncaches = \"centre\"\nrecheck = \"0s\"\n{shelf}\n",
            centre.address
        );
        self.house.write("north/larder.toml", text);
        Serving::with(&self.house, "--config north/larder.toml --new-store")
    }

    /// The lines of the centre's record about pulls.
    fn pulls(&self) -> String {
        self.house.larder("log --kind pull").out
    }
}

/// The status of a pull of a manifest and of all that it leads to, as a node does it.
fn pull(serving: &Serving, image: &str, tag: &str) -> u16 {
    let mut wanted = vec![format!("/v2/{image}/manifests/{tag}")];
    while let Some(path) = wanted.pop() {
        let got = serving.ask("GET", &path);
        if got.status != 200 {
            return got.status;
        }
        if path.contains("/blobs/") {
            continue;
        }
        let manifest: serde_json::Value = serde_json::from_slice(&got.body).unwrap();
        let children = manifest["manifests"].as_array().into_iter().flatten();
        wanted.extend(
            children
                .take(1)
                .map(|one| format!("/v2/{image}/manifests/{}", one["digest"].as_str().unwrap())),
        );
        let blobs = manifest["layers"].as_array().into_iter().flatten();
        let blobs = blobs.chain(manifest.get("config"));
        wanted.extend(
            blobs.map(|one| format!("/v2/{image}/blobs/{}", one["digest"].as_str().unwrap())),
        );
    }
    200
}

#[test]
fn an_edge_gives_what_the_centre_has_and_goes_on_without_it() {
    let centre = Centre::new("[[account]]\nname = \"edge-north\"\npull = [\"vendor/**\"]\n");
    let issued = centre.house.larder("key issue --account edge-north --json").ends(0).json();
    let secret = issued["secret"].as_str().unwrap();
    centre.house.write("edge-key", format!("edge-north:{secret}"));
    let serving = Serving::start(&centre.house);
    let edge = centre.edge(
        &serving,
        "credentials = { file = \"../edge-key\" }\nallowance = { pulls = 100, per = \"6h\" }",
        "only = [\"vendor/kettle\", \"payroll/**\"]",
    );
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200);
    // Not within its reach, and not within its grant.
    let beyond = edge.ask("GET", "/v2/centre/vendor/spare/manifests/1");
    assert_eq!(beyond.status, 403, "{}", beyond.text());
    let denied = edge.ask("GET", "/v2/centre/payroll/books/manifests/1");
    assert!(matches!(denied.status, 403 | 404 | 502), "{} {}", denied.status, denied.text());
    // The centre counts it under the edge's name, and nobody else's.
    let counted = || {
        let said = centre.pulls();
        said.contains("edge-north") && said.contains("vendor/kettle")
    };
    wait_for(counted);
    assert!(!centre.pulls().contains("payroll"), "{}", centre.pulls());
    // A tag that moves at the centre moves at the edge, within what it may pull.
    let before = edge.ask("GET", "/v2/centre/vendor/kettle/manifests/2").body;
    centre
        .house
        .larder(&format!("copy ventworks.example/gauges/steamgauge:1.9.2 {OWN}/vendor/kettle:2"))
        .ends(0);
    let moved = edge.ask("GET", "/v2/centre/vendor/kettle/manifests/2");
    assert_eq!(moved.status, 200);
    assert_ne!(moved.body, before);
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200);
    // The centre goes away: what the edge has is given, what it has not says why.
    assert_eq!(serving.stop("TERM"), 0);
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200);
    let missing = edge.ask("GET", "/v2/centre/vendor/kettle/manifests/never");
    assert!(missing.status >= 500 || missing.status == 404, "{}", missing.status);
    assert!(!missing.text().contains(secret) && !edge.log().contains(secret));
    assert_eq!(edge.stop("TERM"), 0);
    let status = centre.house.larder("shelf show centre --config north/larder.toml").ends(0);
    status.says(&["vendor/kettle"]);
}

#[test]
fn an_edge_is_known_by_its_certificate() {
    let centre = Centre::new(
        "[[cluster]]\nname = \"edge-north\"\ncertificate = \"edge.pem\"\npull = [\"vendor/**\"]\n",
    );
    let house = &centre.house;
    let authority = Authority::new();
    let (cert, key) = authority.certificate();
    house.write("cert.pem", cert);
    house.write("key.pem", key);
    house.write("authority.pem", authority.0.pem());
    let (edge, edge_key) = authority.certificate();
    house.write("edge.pem", &edge);
    house.write("edge-and-key.pem", edge + &edge_key);
    let tls =
        "[larder]\ntls = { cert = \"cert.pem\", key = \"key.pem\", clients = \"authority.pem\" }\n";
    house.write("larder.toml", house.read("larder.toml").replacen("[larder]\n", tls, 1));
    let serving = Serving::start(house);
    let with = "ca = \"../authority.pem\"\ncertificate = \"../edge-and-key.pem\"";
    let edge = centre.edge(&serving, with, "");
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200, "{}", edge.log());
    let denied = edge.ask("GET", "/v2/centre/payroll/books/manifests/1");
    assert!(matches!(denied.status, 401 | 403 | 404 | 502), "{} {}", denied.status, denied.text());
    wait_for(|| {
        let said = centre.pulls();
        said.contains("edge-north") && said.contains("vendor/kettle")
    });
}

#[test]
fn an_edge_keeps_to_its_allowance() {
    let centre = Centre::new("[[account]]\nname = \"edge-north\"\npull = [\"vendor/**\"]\n");
    let issued = centre.house.larder("key issue --account edge-north --json").ends(0).json();
    centre.house.write("edge-key", format!("edge-north:{}", issued["secret"].as_str().unwrap()));
    let serving = Serving::start(&centre.house);
    let upstream =
        "credentials = { file = \"../edge-key\" }\nallowance = { pulls = 2, per = \"6h\" }";
    let edge = centre.edge(&serving, upstream, "");
    // The index and one manifest.
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200);
    let beyond = edge.ask("GET", "/v2/centre/vendor/spare/manifests/1");
    assert_eq!(beyond.status, 503, "{}", beyond.text());
    assert!(beyond.header("retry-after").is_some(), "{}", beyond.head);
    // What is here goes on, and is not taken for new.
    let copy = format!("copy ventworks.example/gauges/steamgauge:1.9.2 {OWN}/vendor/kettle:2");
    centre.house.larder(&copy).ends(0);
    assert_eq!(pull(&edge, "centre/vendor/kettle", "2"), 200);
}

//! Files of the demo that are too long to stand among its deeds.

use larder_standin::{BAZAAR, Upstream, VENTWORKS};

use super::stage::OWN;

/// Two workloads of the demo's cluster: one that runs, and one whose tag is misspelt.
pub const BOARD: &str = "\
apiVersion: apps/v1
kind: Deployment
metadata: {name: steam-board, namespace: scada}
spec:
  selector: {matchLabels: {app: steam-board}}
  template:
    metadata: {labels: {app: steam-board}}
    spec:
      containers: [{name: board, image: \"larder.emberfall.example:5080/vendor/steamgauge:1.9.2\"}]
---
apiVersion: v1
kind: Pod
metadata: {name: broken-board, namespace: scada}
spec:
  containers: [{name: board, image: \"larder.emberfall.example:5080/vendor/steamgauge:1.9.22\"}]
";
/// The larder.toml of the story's first larder.
pub fn configuration(bazaar: &Upstream, ventworks: &Upstream) -> String {
    format!(
        r#"[larder]
name = "emberfall"
url = "http://{OWN}"
data = "larder-data"
unqualified = "{BAZAAR}/library"
access = "open"

[[upstream]]
name = "bazaar"
host = "{BAZAAR}"
endpoint = "{}"

[[upstream]]
name = "ventworks"
host = "{VENTWORKS}"
endpoint = "{}"
credentials = {{ env = "VENTWORKS_LOGIN" }}

[[shelf]]
name = "vendor"

[[intake]]
image = "{VENTWORKS}/gauges/steamgauge"
tags = {{ exact = ["1.9.2"] }}
companions = true                            # its signature and its list of materials
to = "vendor/steamgauge"

[[intake]]
image = "{VENTWORKS}/gauges/valve-twin"
tags = {{ match = "3.*" }}
to = "vendor/valve-twin"

[[intake]]
image = "{BAZAAR}/library/brinedb"
tags = {{ exact = ["5.2"] }}
platforms = ["linux/amd64"]                  # the only cluster that runs it
to = "vendor/brinedb"

[[intake]]
image = "{BAZAAR}/library/ashlog"
tags = {{ exact = ["1.4"] }}
to = "vendor/ashlog"

[[class]]
name = "vetted"
match = ["{VENTWORKS}/**"]

[[class]]
name = "community"
match = ["{BAZAAR}/community/**"]

[[cluster]]
name = "turbine-hall"
platforms = ["linux/amd64"]
"#,
        bazaar.endpoint(),
        ventworks.endpoint()
    )
}

//! What a cluster runs, and what of it could be pulled if all upstreams were gone.

use larder_standin::Api;
use serde_json::json;

use crate::house::{House, OWN};
use crate::node::{shelves, straight, wait_until};
use crate::serving::Serving;

/// The house with a cluster that runs these images, each in a workload.
fn cluster(house: &House, images: &[&str]) -> Api {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let api = Api::new("control-room", &["default"]).unwrap();
    for (number, image) in images.iter().enumerate() {
        let name = format!("w{number}");
        let spec = json!({ "containers": [{ "name": "c", "image": image }] });
        api.put(
            &format!("/apis/apps/v1/namespaces/default/deployments/{name}"),
            json!({
                "apiVersion": "apps/v1", "kind": "Deployment",
                "metadata": { "name": name, "namespace": "default" },
                "spec": { "template": { "spec": spec } },
            }),
        );
    }
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    api
}

#[test]
fn a_cluster_is_warmed_before_its_upstreams_go_and_that_can_be_seen() {
    let house = House::new();
    house.configure(&shelves(""));
    let own = format!("{OWN}/vendor/kettle:2");
    house.larder(&format!("copy bazaar.example/library/kettle:2 {own}")).ends(0);
    let _api = cluster(
        &house,
        &[
            "bazaar.example/library/kettle:2",
            "bazaar.example/library/brinedb:5.2",
            "elsewhere.example/tool:1",
            &own,
        ],
    );
    let held = "survey --cluster control-room --kubeconfig kubeconfig --held";
    house.larder(held).ends(1).says(&[
        "bazaar.example/library/kettle:2",
        "2 is not here",
        "it does not come through this larder",
        "1 of 4 images could be pulled if all upstreams were gone",
    ]);
    let warm = "shelf warm --cluster control-room --kubeconfig kubeconfig";
    house.larder(&format!("{warm} --dry-run")).ends(0).says(&[
        "bazaar/library/kettle:2",
        "bazaar/library/brinedb:5.2",
        "2 images would be fetched",
    ]);
    house.larder(warm).ends(0).says(&["fetched"]);
    let told = house.larder(&format!("{held} --json")).ends(1).json();
    let images = told["images"].as_array().unwrap();
    let lost: Vec<&str> = images
        .iter()
        .filter(|one| !one["why"].is_null())
        .map(|one| one["image"].as_str().unwrap())
        .collect();
    assert_eq!(lost, ["elsewhere.example/tool:1"], "{told}");
    // And so it is: nobody is asked any more.
    let gone = house.read("larder.toml").replace(&house.bazaar.endpoint(), "http://127.0.0.1:1");
    house.write("larder.toml", gone);
    let serving = Serving::start(&house);
    straight(&serving).pull("bazaar/library/brinedb", "5.2").unwrap();
    house.larder("shelf warm --cluster nobody --kubeconfig kubeconfig").ends(2).says(&["nobody"]);
}

#[test]
fn an_image_of_which_a_part_is_missing_is_not_held() {
    let house = House::new();
    house.configure(&shelves(""));
    let serving = Serving::start(&house);
    // One platform is pulled, by a node of it.
    straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    let pod = |architecture: &str| {
        house.write(
            "pods/pod.yaml",
            format!(
                "apiVersion: v1\nkind: Pod\nmetadata: {{name: k}}\nspec:\n  \
                 nodeSelector: {{kubernetes.io/arch: {architecture}}}\n  \
                 containers: [{{name: k, image: \"bazaar.example/library/kettle:2\"}}]\n"
            ),
        );
    };
    pod("amd64");
    // A node has the last bytes before they are kept.
    wait_until("it is kept", || house.larder("survey pods --held").exit == 0);
    house.larder("survey pods --held").ends(0).says(&["1 of 1 image could be pulled"]);
    // What the disk has lost is not held, whatever the ledger says.
    let layer = larder_standin::image(&crate::house::small("kettle")).documents[0].1.clone();
    let layer = layer.blobs().last().unwrap().digest.hex().to_owned();
    let data = house.path("larder-data");
    let is_it =
        |path: &std::path::PathBuf| path.file_stem().is_some_and(|stem| stem == layer.as_str());
    let file = crate::causes::upstreams::walk(&data).into_iter().find(is_it);
    let (file, aside) = (file.unwrap(), house.path("aside"));
    std::fs::rename(&file, &aside).unwrap();
    house.larder("survey pods --held").ends(1).says(&["1 of ", "are not here"]);
    std::fs::rename(&aside, &file).unwrap();
    pod("arm64");
    house.larder("survey pods --held").ends(1).says(&["linux/arm64: its manifest is not here"]);
    pod("s390x");
    house.larder("survey pods --held").ends(1).says(&["it is not made for linux/s390x"]);
    house.larder("survey pods --held --missing").ends(2);
}

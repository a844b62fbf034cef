//! Traces of requests, sent to a stand-in as OpenTelemetry says (OTLP over HTTP). Without the feature, that is said.

use crate::house::House;
use crate::node::wait_until;
use crate::serving::Serving;

#[cfg(not(feature = "traces"))]
#[test]
fn without_the_feature_nothing_is_traced_and_that_is_said() {
    let house = House::new();
    let mut command = house.command("serve --listen 127.0.0.1:0");
    command.env("OTEL_EXPORTER_OTLP_ENDPOINT", "http://127.0.0.1:1");
    let serving = Serving::spawn(command, house.path("serve.log"));
    wait_until("it is said", || serving.log().contains("built without the feature `traces`"));
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
}

#[cfg(feature = "traces")]
#[test]
fn requests_and_what_upstreams_are_asked_for_are_traced() {
    let house = House::new();
    let collector = house.runtime.block_on(larder_standin::EventReceiver::start()).unwrap();
    house.configure("[[shelf]]\nname = \"hub\"\ncaches = \"bazaar\"\n");
    let mut command = house.command("serve --listen 127.0.0.1:0");
    command.env("OTEL_EXPORTER_OTLP_ENDPOINT", format!("http://{}", collector.address));
    command.env("OTEL_BSP_SCHEDULE_DELAY", "200");
    let serving = Serving::spawn(command, house.path("serve.log"));
    let trace = "4bf92f3577b34da6a3ce929d0e0e4736";
    let parent = format!("00-{trace}-00f067aa0ba902b7-01");
    let path = "/v2/hub/library/kettle/manifests/2";
    let answer = crate::serving::ask(serving.host(), "GET", path, &[("traceparent", &parent)], b"");
    assert_eq!(answer.unwrap().status, 200);
    assert_eq!(serving.ask("GET", "/v2/hub/library/none/manifests/2").status, 404);
    let spans = || {
        let posted = collector.posted().into_iter().map(|one| one.json());
        let spans = posted.flat_map(|one| {
            one["resourceSpans"][0]["scopeSpans"][0]["spans"]
                .as_array()
                .cloned()
                .unwrap_or_default()
        });
        spans.collect::<Vec<_>>()
    };
    let named = |name: &str| spans().into_iter().find(|span| span["name"] == name);
    wait_until("the spans are there", || {
        named("GET manifest").is_some() && named("upstream").is_some()
    });
    let request = spans()
        .into_iter()
        .find(|span| span["traceId"] == trace && span["name"] == "GET manifest")
        .unwrap();
    assert_eq!(request["parentSpanId"], "00f067aa0ba902b7", "{request}");
    let told = request["attributes"].to_string();
    assert!(told.contains(path) && told.contains("http.response.status_code"), "{told}");
    // What the upstream was asked belongs to it, and nothing of it is in the log.
    let of_it = |span: &serde_json::Value| span["traceId"] == trace && span["name"] == "upstream";
    assert!(spans().iter().any(of_it), "{:?}", spans());
    assert_eq!(serving.stop("TERM"), 0);
    assert!(!house.read("serve.log").contains("larder_trace"));
}

#[cfg(feature = "traces")]
#[test]
fn a_collector_that_is_away_changes_nothing() {
    let house = House::new();
    let mut command = house.command("serve --listen 127.0.0.1:0");
    command.env("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT", "http://127.0.0.1:1/v1/traces");
    let serving = Serving::spawn(command, house.path("serve.log"));
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
    wait_until("it goes on", || serving.ask("GET", "/v2/").status == 200);
    assert_eq!(serving.stop("TERM"), 0);
}

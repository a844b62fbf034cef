//! The demo's chapters about who signed what. Each one checks that what it tells is so.

use std::time::{Duration, Instant};

use larder_standin::{BAZAAR, VENTWORKS};

use super::guarded::{GATE, pod};
use super::stage::{OWN, Stage};
use crate::failure::{Exit, Failure};

const RELEASED: &str = "https://ventworks.example/released/v1";
const APPROVED: &str = "https://emberfall.example/approved/v1";

fn hold(stage: &Stage, holds: bool, what: &str) -> Result<(), Failure> {
    if holds { Ok(()) } else { Err(stage.broken(what)) }
}

/// A larder.toml with which somebody signs at the vendor's registry.
fn desk(signer: &str, ventworks: &str) -> String {
    format!(
        r#"[larder]
name = "{signer}"
url = "http://{signer}.example"

[[upstream]]
name = "ventworks"
host = "{VENTWORKS}"
endpoint = "{ventworks}"
credentials = {{ env = "VENTWORKS_LOGIN" }}

[[signer]]
name = "{signer}"
images = ["{VENTWORKS}/**"]
keys = ["release.pem"]
statements = ["{RELEASED}"]
sign = {{ key = "release.key" }}
"#
    )
}

/// The running larder notices a changed file within two seconds: until then pods are started as before.
async fn until(stage: &mut Stage, image: &str, runs: bool) -> Result<(), Failure> {
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        stage.renew_nodes();
        // The door refuses some before they are pods.
        if stage.start_pod_quietly_in("scada", image).await.unwrap_or(false) == runs {
            stage.renew_nodes();
            return Ok(());
        }
        hold(stage, Instant::now() < deadline, "the changed configuration is not taken up")?;
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

pub async fn by_the_vendor(stage: &mut Stage) -> Result<(), Failure> {
    let ventworks = stage.ventworks.endpoint();
    let (gauge, twin) = ("steamgauge:1.9.3", "valve-twin:3.1");
    for (place, signer, image) in
        [("vendor", "ventworks-release", gauge), ("stranger", "somebody", twin)]
    {
        stage.add(&format!("{place}/larder.toml"), &desk(signer, &ventworks))?;
        let made = stage.larder_quietly(place, "sign --new-key release.key").await?;
        hold(stage, made == 0, "no key was made")?;
        let sign = format!("sign {VENTWORKS}/gauges/{image} --as {signer} --because released");
        match place {
            "vendor" => {
                stage.larder_at(place, &sign, Exit::Done).await?;
            }
            _ => hold(stage, stage.larder_quietly(place, &sign).await? == 0, "it is not signed")?,
        }
    }
    stage.notice("That was the vendor, at their own desk; a stranger who may push there signs valve-twin:3.1. We know the vendor's key, from a file:\n");
    let path = format!("{GATE}/larder.toml");
    let text = stage.text(&path)?;
    stage.add(&format!("{GATE}/trust/ventworks.pem"), &stage.text("vendor/release.pem")?)?;
    let more = format!(
        r#"
[[intake]]
image = "{VENTWORKS}/gauges/valve-twin"
tags = {{ exact = ["3.1"] }}
to = "vendor/valve-twin"

[[class]]
name = "vetted"
match = ["{VENTWORKS}/**"]

[[signer]]
name = "ventworks-release"
images = ["{VENTWORKS}/**"]
keys = ["trust/ventworks.pem"]
statements = ["{RELEASED}"]

[[rule]]
name = "vetted images are signed"
classes = ["vetted"]
verdict = "deny"
because = "ask the vendor"
asks = {{ signed_by = ["ventworks-release"] }}
"#
    );
    stage.replace(&path, &format!("{text}{more}"))?;
    stage.show(&path, "[[signer]]")?;
    for image in [gauge, twin] {
        let copy = format!("copy {VENTWORKS}/gauges/{image} {OWN}/vendor/{image} --companions");
        hold(stage, stage.larder_quietly(GATE, &copy).await? == 0, "an image was not copied")?;
    }
    // Somebody's own content under the vendor's name.
    let altered = format!("copy {BAZAAR}/library/ashlog:1.4 {OWN}/vendor/steamgauge:1.9.4");
    hold(stage, stage.larder_quietly(GATE, &altered).await? == 0, "an image was not copied")?;
    let look = format!("look --signatures {OWN}/vendor/{gauge}");
    let told = stage.larder_at(GATE, &look, Exit::Done).await?;
    hold(stage, told.contains("is signed by ventworks-release"), "the signature does not hold")?;
    let twin = format!("{OWN}/vendor/{twin}");
    until(stage, &twin, false).await?;
    let gauge = format!("{OWN}/vendor/{gauge}");
    let pods = stage.offer(&pod("gauge", "", &gauge)).await?.unwrap_or_default();
    let runs = pods.first().is_some_and(larder_standin::Pod::is_running);
    hold(stage, runs, "what the vendor signed does not run")?;
    stage.notice("The stranger's signature, and an image that somebody altered and calls 1.9.4:\n");
    let altered = format!("{OWN}/vendor/steamgauge:1.9.4");
    for (name, image) in [("twin", &twin), ("altered", &altered)] {
        let pods = stage.offer(&pod(name, "", image)).await?;
        hold(stage, pods.is_none(), "the door lets it in")?;
    }
    let check = format!("policy check {twin} {altered} --cluster turbine-hall --namespace scada");
    let told = stage.larder_at(GATE, &check, Exit::No).await?;
    for why in ["is by a key that nobody named", "no other signature was found"] {
        hold(stage, told.contains(why), "the reason is another")?;
    }
    stage.notice("Nobody was asked over the network: the key is a file, and what was found is kept for the next pod.");
    Ok(())
}

pub async fn by_us(stage: &mut Stage) -> Result<(), Failure> {
    stage.larder_at(GATE, "sign --new-key trust/approval.key", Exit::Done).await?;
    let path = format!("{GATE}/larder.toml");
    let text = stage.text(&path)?;
    let (old, new) = ("pull = [\"vendor/**\"]", "pull = [\"vendor/**\", \"prod/**\"]");
    hold(stage, text.contains(old), "the configuration is another one")?;
    let more = format!(
        r#"
[[signer]]
name = "emberfall-approval"
images = ["**"]
keys = ["trust/approval.pem"]
statements = ["{APPROVED}"]
sign = {{ key = "trust/approval.key" }}

[[rule]]
name = "prod is approved"
images = ["{OWN}/prod/**"]
verdict = "deny"
because = "promote it with our approval"
asks = {{ signed_by = ["emberfall-approval"] }}
"#
    );
    stage.replace(&path, &format!("{}{more}", text.replacen(old, new, 1)))?;
    let promote = "promote dev/board:1.0 prod/ --because released";
    stage.larder_at(GATE, promote, Exit::No).await?;
    let approve = format!("{promote} --sign-as emberfall-approval");
    let done = stage.larder_at(GATE, &approve, Exit::Done).await?;
    hold(stage, done.contains("1 image signed"), "it was not signed")?;
    let look = format!("look --signatures {OWN}/prod/board:1.0");
    let told = stage.larder_at(GATE, &look, Exit::Done).await?;
    hold(stage, told.contains("is signed by emberfall-approval"), "the approval does not hold")?;
    until(stage, &format!("{OWN}/prod/board:1.0"), true).await?;
    stage.notice("At the door: what we approved, and what was promoted yesterday, without:\n");
    let ours = stage.offer(&pod("board-new", "", &format!("{OWN}/prod/board:1.0"))).await?;
    let runs = ours.unwrap_or_default().first().is_some_and(larder_standin::Pod::is_running);
    hold(stage, runs, "what we approved does not run")?;
    let other = stage.offer(&pod("board-old", "", &format!("{OWN}/prod/board:1.1"))).await?;
    hold(stage, other.is_none(), "the door lets it in")?;
    // The rules were for these two chapters.
    let without =
        text.split("\n[[intake]]\nimage = \"ventworks.example/gauges/valve-twin\"").next();
    stage.replace(&path, without.unwrap_or_default())?;
    until(stage, &format!("{OWN}/vendor/valve-twin:3.1"), true).await
}

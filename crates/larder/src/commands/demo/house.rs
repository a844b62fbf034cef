//! The demo's chapters about keeping the house. Each one checks that what it tells is so.

use larder_standin::{ADVISORY, BAZAAR, VENTWORKS, mended_steamgauge};

use super::guarded::GATE;
use super::stage::{OWN, Stage};
use crate::failure::{Exit, Failure};

fn hold(stage: &Stage, holds: bool, what: &str) -> Result<(), Failure> {
    if holds { Ok(()) } else { Err(stage.broken(what)) }
}

pub async fn who_uses_this(stage: &mut Stage) -> Result<(), Failure> {
    let users = "shelf users vendor/steamgauge:1.9.2";
    stage.wait_for(GATE, users, "Pod/steam-board").await?;
    let told = stage.larder_at(GATE, users, Exit::Done).await?;
    hold(stage, told.contains("Pod/steam-board"), "the workload is not named")?;
    stage.notice("The door saw the workload, and the record has the pull. Before anything is dropped, it is said who would be hurt:\n");
    let drop = "shelf drop vendor/steamgauge:1.9.2 --dry-run";
    let told = stage.larder_at(GATE, drop, Exit::Done).await?;
    hold(stage, told.contains("used by turbine-hall/scada"), "nobody would be hurt")
}

pub async fn what_is_wrong_with_it(stage: &mut Stage) -> Result<(), Failure> {
    let wrong = |error| stage.broken(error);
    let (repository, tag) =
        ("gauges/steamgauge".parse().map_err(wrong)?, "1.9.3".parse().map_err(wrong)?);
    let mended = mended_steamgauge();
    stage.ventworks.hold(&repository, &tag, &mended).await.map_err(|error| stage.broken(error))?;
    for image in ["steamgauge:1.8", "steamgauge:1.9.3", "valve-twin:3.1"] {
        let copy = format!("copy {VENTWORKS}/gauges/{image} {OWN}/vendor/{image}");
        hold(stage, stage.larder_quietly(GATE, &copy).await? == 0, "an image was not copied")?;
    }
    let twin = format!("{OWN}/vendor/valve-twin:3.1");
    let (runs, _) = stage.start_pod_in("scada", &twin).await?;
    hold(stage, runs, "the twin does not run")?;
    let gauge = format!("inventory {OWN}/vendor/steamgauge:1.9.2");
    let told = stage.larder_at(GATE, &gauge, Exit::Done).await?;
    hold(stage, told.contains("pressurekit"), "the library is not found")?;
    stage.notice("An advisory comes in on a disk; nobody has to be asked. Layers that were copied are read once:\n");
    stage.add(&format!("{GATE}/advisories/EMBER-2026-0001.json"), ADVISORY)?;
    stage.larder_at(GATE, "inventory --fill", Exit::Done).await?;
    stage.larder_at(GATE, "advisory import advisories", Exit::Done).await?;
    let check = "advisory check --by advisory --fail-on high";
    stage.wait_for(GATE, check, "vendor/valve-twin:3.1").await?;
    let told = stage.larder_at(GATE, check, Exit::No).await?;
    for words in ["brings it into", "Pod/steam-board", "1.9.3"] {
        hold(stage, told.contains(words), "it is not traced")?;
    }
    stage.notice("One layer of the vendor's brings it into three images; two workloads of turbine-hall run two of them; one newer tag is here that lacks it.\n");
    let told = stage.larder_at(GATE, "shelf show vendor", Exit::Done).await?;
    hold(stage, told.contains("poor"), "nobody is told how the images are")?;
    stage
        .notice("What would a rule do that refuses such images? It is tried on what was pulled:\n");
    let text = stage.text(&format!("{GATE}/larder.toml"))?;
    stage.add(&format!("{GATE}/stricter.toml"), &format!("{text}{STRICTER}"))?;
    stage.show(&format!("{GATE}/stricter.toml"), "[[rule]]\nname = \"no known")?;
    let rehearse = "policy rehearse --rules stricter.toml";
    let told = stage.larder_at(GATE, rehearse, Exit::Done).await?;
    hold(stage, told.contains("because it runs there"), "what runs would be stopped")?;
    stage.notice("What runs is warned of, and goes on; where it does not run yet, it is refused.");
    Ok(())
}

/// A rule that the gate does not have yet.
const STRICTER: &str = r#"
[[rule]]
name = "no known critical holes"
images = ["ventworks.example/**"]
verdict = "deny"
because = "take the newer tag"
asks = { advisories = "none above high" }
"#;

pub async fn promoted(stage: &mut Stage) -> Result<(), Failure> {
    let path = format!("{GATE}/larder.toml");
    let more = "\n[[shelf]]\nname = \"dev\"\nquota = \"20 MiB\"\n\n[[shelf]]\nname = \"prod\"\nimmutable = [\"*\"]\n\n[[keep]]\nmatch = [\"dev/**\"]\nnewest = 1\n";
    let text = stage.text(&path)?;
    stage.replace(&path, &format!("{text}{more}"))?;
    for (image, tag) in [("library/kettle:2", "1.0"), ("library/ashlog:1.4", "1.1")] {
        let copy = format!("copy {BAZAAR}/{image} {OWN}/dev/board:{tag}");
        hold(stage, stage.larder_quietly(GATE, &copy).await? == 0, "the board was not pushed")?;
    }
    stage
        .larder_at(GATE, "promote dev/board:1.* prod/ --because released --dry-run", Exit::Done)
        .await?;
    let done =
        stage.larder_at(GATE, "promote dev/board:1.1 prod/ --because released", Exit::Done).await?;
    hold(stage, done.contains("0 blobs copied"), "something was sent")?;
    let told = stage.larder_at(GATE, "log --kind promote", Exit::Done).await?;
    hold(stage, told.contains("because released"), "the record does not say why")?;
    stage
        .notice("The same image by its digest; nothing was sent, and the record says who and why.");
    Ok(())
}

pub async fn tidied(stage: &mut Stage) -> Result<(), Failure> {
    stage.show(&format!("{GATE}/larder.toml"), "[[keep]]")?;
    let plan = stage.larder_at(GATE, "shelf tidy --explain --grace 0s", Exit::Done).await?;
    hold(stage, plan.contains("1 image would go"), "the older board stays")?;
    let done = stage.larder_at(GATE, "shelf tidy --yes --grace 0s", Exit::Done).await?;
    hold(stage, done.contains("1 image gone"), "the older board is still there")?;
    stage.notice("What the lock names and what the cluster runs stays, whatever is written. From now on `tidy = \"daily 03:00\"` lets `larder serve` do this by itself.");
    Ok(())
}

pub async fn this_morning(stage: &mut Stage) -> Result<(), Failure> {
    // A machine whose disk is full has something urgent.
    let urgent = stage.larder_quietly(GATE, "rounds").await? == Exit::No as i32;
    let exit = if urgent { Exit::No } else { Exit::Done };
    let told = stage.larder_at(GATE, "rounds", exit).await?;
    hold(stage, told.contains("never backed up"), "the backup is not missed")?;
    stage.notice("Each line says how bad, since when, and what to type. `larder report --into page` writes it all on one page.");
    Ok(())
}

//! The demo's chapters about charts, and about who is told what happens. Each one checks that what it tells is so.

use std::time::{Duration, Instant};

use larder_standin::{BOILER, ChartRepository, EventReceiver, PostedEvent, packed_chart};

use super::guarded::GATE;
use super::stage::{OWN, Stage};
use crate::failure::{Exit, Failure};

fn hold(stage: &Stage, holds: bool, what: &str) -> Result<(), Failure> {
    if holds { Ok(()) } else { Err(stage.broken(what)) }
}

pub async fn a_chart_and_its_images(stage: &mut Stage) -> Result<(), Failure> {
    let charts = ChartRepository::start(None).await.map_err(|error| stage.broken(error))?;
    let boiler = packed_chart("boiler", BOILER).map_err(|error| stage.broken(error))?;
    charts.publish("boiler", &[("1.2.0", boiler)]);
    let path = format!("{GATE}/larder.toml");
    let more = format!(
        "\n[[upstream]]\nname = \"ventworks-charts\"\nhost = \"charts.ventworks.example\"\nendpoint = \"{}\"\nform = \"chart-index\"\n",
        charts.endpoint()
    );
    stage.replace(&path, &(stage.text(&path)? + &more))?;
    stage.larder_at(GATE, "look charts.ventworks.example/boiler:1.2.0", Exit::Done).await?;
    let add = "intake add charts.ventworks.example/boiler:1.2.0 --to vendor/charts/boiler --with-images --platform linux/amd64";
    let told = stage.larder_at(GATE, add, Exit::Done).await?;
    hold(stage, told.contains("library/ashlog:1.4"), "an image of the chart is not named")?;
    hold(stage, told.contains("not told:"), "what cannot be told is not said")?;
    stage.notice("The chart is read and not run: what only its templates know is told, for a person to add. Then it comes in like an image:\n");
    stage.larder_at(GATE, "intake lock", Exit::Done).await?;
    stage.larder_at(GATE, "intake run", Exit::Done).await?;
    let held = format!("look {OWN}/vendor/charts/boiler:1.2.0");
    hold(stage, stage.larder_quietly(GATE, &held).await? == 0, "the chart is not here")
}

pub async fn somebody_is_told(stage: &mut Stage) -> Result<(), Failure> {
    let receiver = EventReceiver::start().await.map_err(|error| stage.broken(error))?;
    let path = format!("{GATE}/larder.toml");
    let more = format!(
        "\n[[notify]]\nname = \"on-call\"\nurl = \"http://{}/hook\"\nabout = [\"refused\", \"backup\", \"key-ends\", \"advisory\"]\nsecret = {{ file = \"on-call.secret\" }}\n",
        receiver.address
    );
    stage.add(&format!("{GATE}/on-call.secret"), "a made-up secret of a receiver\n")?;
    stage.replace(&path, &(stage.text(&path)? + &more))?;
    stage.show(&path, "[[notify]]")?;
    let tried = stage.larder_at(GATE, "check --tell", Exit::Done).await?;
    hold(stage, tried.contains("has the event"), "the receiver has no event")?;
    let posted = |about: &str| {
        let all = receiver.posted();
        all.iter().map(PostedEvent::json).find(|one| one["data"]["about"] == about)
    };
    let deadline = Instant::now() + Duration::from_secs(60);
    // The running larder has taken the receiver up when it tells that no backup was made.
    while posted("backup").is_none() {
        hold(stage, Instant::now() < deadline, "nobody is told of the backup")?;
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    stage.start_pod_in("scada", &format!("{OWN}/vendor/pipewatch:0.9")).await?;
    let event = loop {
        if let Some(event) = posted("refused") {
            break event;
        }
        hold(stage, Instant::now() < deadline, "nobody is told of the refusal")?;
        tokio::time::sleep(Duration::from_millis(200)).await;
    };
    stage.notice("What the receiver has some seconds later, signed:\n");
    let text = serde_json::to_string_pretty(&event).map_err(|error| stage.broken(error))?;
    stage.say(format!("{text}\n"));
    let number = event["data"]["number"].as_str().unwrap_or_default().to_owned();
    let found = stage.larder_quietly(GATE, &format!("log {number}")).await? == 0;
    hold(stage, found, "the record does not have the line")?;
    stage.notice(&format!("`larder log {number}` finds the line of the record. What does not arrive is told again; nothing waits for it."));
    Ok(())
}

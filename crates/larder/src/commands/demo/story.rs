//! The demo's chapters. Each one checks that what it tells is so.

use std::time::Duration;

use larder_standin::{BAZAAR, FaultKind, VENTWORKS, moved_kettle, moved_steamgauge};

use super::stage::{OWN, Stage};
use crate::failure::{Exit, Failure};

fn hold(stage: &Stage, holds: bool, what: &str) -> Result<(), Failure> {
    if holds { Ok(()) } else { Err(stage.broken(what)) }
}

pub async fn the_cluster_cannot_pull(stage: &mut Stage) -> Result<(), Failure> {
    let (running, failing) = stage.apply().await?;
    hold(stage, running == 0 && failing == 4, "a pod runs although nothing can be pulled")?;
    stage.notice(
        "Two causes hide behind events that look alike: hosts that these nodes cannot reach, and in leak-watch a reference that no node can read.",
    );
    Ok(())
}

pub async fn know_what_runs(stage: &mut Stage) -> Result<(), Failure> {
    let survey = stage.larder("survey deploy", Exit::No).await?;
    hold(
        stage,
        survey.contains("meant: bazaar.example/library/ashlog:1.4"),
        "the typed-in scheme is not explained",
    )?;
    stage.notice("One reference has a scheme typed in front, one is ambiguous, and two images nobody brings in yet. So we mend the one and want the others:\n");
    stage.mend("leak-watch.yaml", "http://bazaar", "bazaar")?;
    stage
        .larder(&format!("intake add kettle:2 {BAZAAR}/community/pipewatch:0.9"), Exit::Done)
        .await?;
    Ok(())
}

pub async fn look_before_taking(stage: &mut Stage) -> Result<(), Failure> {
    let look =
        stage.larder(&format!("look {VENTWORKS}/gauges/steamgauge:1.9.2"), Exit::Done).await?;
    hold(
        stage,
        look.contains("linux/arm64") && look.contains("entrypoint"),
        "the image is not described",
    )?;
    let blobs =
        stage.ventworks.take_requests().keys().filter(|line| line.contains("/blobs/")).count();
    hold(stage, blobs == 2, "more was fetched than the two configurations")?;
    stage.notice("The vendor wants a sign-in, which larder.toml takes from an environment variable. Only manifests and configurations were fetched, no layer.");
    Ok(())
}

pub async fn bring_it_in(stage: &mut Stage) -> Result<(), Failure> {
    stage.larder("intake lock", Exit::Done).await?;
    stage.notice("Nothing was brought in yet; the difference says what a run would do:\n");
    stage.larder("intake diff", Exit::No).await?;
    let run = stage.larder("intake run", Exit::Done).await?;
    hold(stage, run.contains("6 images brought in"), "not every image was brought in")?;
    let signed = format!("look --companions {OWN}/vendor/steamgauge:1.9.2");
    let signed = stage.larder(&signed, Exit::Done).await?;
    hold(stage, signed.contains("signature"), "the signature did not come along")?;
    stage.notice("Everything went by digest. Layers that several images share were moved once, and brinedb only for the platform that needs it.");
    Ok(())
}

pub async fn serve_it(stage: &mut Stage) -> Result<(), Failure> {
    stage.serve("").await?;
    let shelf = stage.larder("shelf show vendor", Exit::Done).await?;
    hold(stage, shelf.contains("(linux/arm64)"), "the platform that was left out is not told")?;
    Ok(())
}

pub async fn make_deployments_use_it(stage: &mut Stage) -> Result<(), Failure> {
    let diff = stage.larder("rewrite deploy", Exit::Done).await?;
    hold(stage, diff.contains("do not move to 5.3 before the audit"), "a comment was lost")?;
    stage.larder("rewrite --write deploy", Exit::Done).await?;
    stage.larder("rewrite --check deploy", Exit::Done).await?;
    let (running, failing) = stage.apply().await?;
    hold(stage, running == 4 && failing == 0, "a pod does not run from the larder")?;
    stage.notice(
        "Every pod runs, and every byte came from the larder: the nodes still reach nothing else.",
    );
    Ok(())
}

/// A team's files, in four dialects.
const TEAM: [(&str, &str); 5] = [
    ("chart/Chart.yaml", "apiVersion: v2\nname: board\nversion: 0.3.0\nappVersion: \"1.9.2\"\n"),
    (
        "chart/values.yaml",
        "# The board in the control room.\nreplicas: 2\nimage:\n  registry: ventworks.example   # the vendor's\n  repository: gauges/steamgauge\n  tag: \"\"                       # the chart's appVersion\n",
    ),
    (
        "compose.yaml",
        "services:\n  twin:\n    image: ${REGISTRY:-ventworks.example}/gauges/valve-twin:3.1   # as on the rig\n  board:\n    build: .\n    image: emberfall/board:dev\n",
    ),
    (
        "Dockerfile",
        "ARG KETTLE=2\nFROM bazaar.example/library/kettle:${KETTLE} AS boil\nFROM boil\nCOPY --from=bazaar.example/library/ashlog:1.4 /ashlog /\n",
    ),
    (
        "workload.yaml",
        "apiVersion: v1\nkind: Pod\nmetadata: {name: night-watch, namespace: scada}\nspec:\n  # one container; it needs no more\n  containers:\n  - {name: log, image: 'bazaar.example/library/ashlog:1.4'}   # quoted since the incident\n",
    ),
];

pub async fn every_dialect(stage: &mut Stage) -> Result<(), Failure> {
    for (name, text) in TEAM {
        stage.add(&format!("team/{name}"), text)?;
    }
    stage.larder("survey --by file team", Exit::Done).await?;
    let diff = stage.larder("rewrite team --secret larder-pull", Exit::Done).await?;
    for kept in ["# the vendor's", "# quoted since the incident", "emberfall/board:dev"] {
        hold(stage, diff.contains(kept), "something else was changed")?;
    }
    hold(stage, diff.contains("+  imagePullSecrets:"), "the pull secret is not put in")?;
    stage.larder("rewrite --write team", Exit::Done).await?;
    stage.larder("rewrite --check team", Exit::Done).await?;
    stage.larder("rewrite --write --back team", Exit::Done).await?;
    for (name, text) in TEAM {
        hold(stage, stage.text(&format!("team/{name}"))? == text, "the way back leads elsewhere")?;
    }
    stage.notice("Tags stay where they are written, what a build makes keeps its name, and the way back gave every file byte for byte.");
    Ok(())
}

pub async fn nothing_twice(stage: &mut Stage) -> Result<(), Failure> {
    stage.bazaar.take_requests();
    stage.ventworks.take_requests();
    let run = stage.larder("intake run", Exit::Done).await?;
    let requests = stage.bazaar.take_requests().len() + stage.ventworks.take_requests().len();
    hold(stage, run.contains("nothing to do") && requests == 0, "something was fetched again")?;
    stage.notice(
        "The upstreams were not even asked: the lock and the larder's own records are enough.",
    );
    Ok(())
}

pub async fn a_tag_moves(stage: &mut Stage) -> Result<(), Failure> {
    let moved = moved_steamgauge();
    let wrong = |error| stage.broken(error);
    let (repository, tag) =
        ("gauges/steamgauge".parse().map_err(wrong)?, "1.9.2".parse().map_err(wrong)?);
    stage.ventworks.hold(&repository, &tag, &moved).await.map_err(|error| stage.broken(error))?;
    let diff = stage.larder("intake diff", Exit::No).await?;
    hold(stage, diff.contains("moved upstream; the lock holds"), "the move is not told")?;
    let ours = format!("{OWN}/vendor/steamgauge:1.9.2");
    stage.larder(&format!("look {VENTWORKS}/gauges/steamgauge:1.9.2 {ours}"), Exit::No).await?;
    let review = "intake lock --dry-run --only ventworks.example/**";
    let review = stage.larder(review, Exit::Done).await?;
    let lost = review.contains("companions that it has no more");
    hold(stage, lost, "the lost signature is not told")?;
    let run = stage.larder("intake run", Exit::Done).await?;
    hold(stage, run.contains("nothing to do"), "what moved was taken without being locked")?;
    stage.notice(
        "The new content is not signed. Nothing changes in the clusters until somebody reviews the move and writes a new lock.",
    );
    Ok(())
}

/// The folder of the larder in front of control-room.
const FRONT: &str = "control-room";

pub async fn cached_on_demand(stage: &mut Stage) -> Result<(), Failure> {
    let bazaar = stage.bazaar.endpoint();
    stage.add(
        &format!("{FRONT}/larder.toml"),
        &format!(
            "[larder]\nname = \"control-room\"\nurl = \"http://{OWN}\"\naccess = \"open\"\n\n\
             [[upstream]]\nname = \"bazaar\"\nhost = \"{BAZAAR}\"\nendpoint = \"{bazaar}\"\n\n\
             [[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nonly = [\"library/**\"]\nrecheck = \"1s\"\nkeep = \"14d\"\n\n\
             [[cluster]]\nname = \"control-room\"\nplatforms = [\"linux/amd64\"]\n"
        ),
    )?;
    stage.show(&format!("{FRONT}/larder.toml"), "[[shelf]]")?;
    let write = "handoff write control-room --nodes --into nodes";
    stage.larder_at(FRONT, write, Exit::Done).await?;
    stage.larder_at(FRONT, "check --nodes nodes", Exit::Done).await?;
    stage.new_cluster("control-room", &format!("{FRONT}/nodes/certs.d"));
    stage.serve(FRONT).await?;
    stage.bazaar.take_requests();
    let kettle = format!("{BAZAAR}/library/kettle:2");
    let mut took = Vec::new();
    for which in ["first", "second"] {
        let began = std::time::Instant::now();
        let runs = stage.start_pod(&kettle).await?.0;
        took.push((which, began.elapsed(), stage.bazaar.take_requests().len()));
        hold(stage, runs, "a pod does not run through the cache")?;
        stage.renew_nodes();
    }
    hold(stage, took[0].2 > 2 && took[1].2 == 0, "the upstream was asked again")?;
    for (which, time, requests) in took {
        let milliseconds = time.as_millis();
        stage.notice(&format!("The {which} node's pull took {milliseconds} ms; the upstream was sent {requests} requests."));
    }
    Ok(())
}

pub async fn the_upstream_goes_down(stage: &mut Stage) -> Result<(), Failure> {
    stage.bazaar.faults.add(None, "/v2/", usize::MAX, FaultKind::Status(503, None));
    let kettle = format!("{BAZAAR}/library/kettle:2");
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let (runs, _) = stage.start_pod(&kettle).await?;
    hold(stage, runs, "what was cached is not served while the upstream is down")?;
    stage.notice("What is here is served; the larder's log and a `Warning` field say that it may be out of date.");
    stage.bazaar.faults.clear();
    Ok(())
}

pub async fn moved_refused_and_gone(stage: &mut Stage) -> Result<(), Failure> {
    let wrong = |error| stage.broken(error);
    let (repository, tag) = ("library/kettle".parse().map_err(wrong)?, "2".parse().map_err(wrong)?);
    let moved = moved_kettle();
    stage.bazaar.hold(&repository, &tag, &moved).await.map_err(|error| stage.broken(error))?;
    let look = stage.larder_at(FRONT, "look bazaar/library/kettle:2 --upstream", Exit::No).await?;
    hold(stage, look.contains("confirmed"), "the larder's own answer is not told")?;
    // The larder leaves an upstream alone for a while that failed again and again.
    let deadline = std::time::Instant::now() + Duration::from_secs(20);
    let kettle = format!("{BAZAAR}/library/kettle:2");
    loop {
        stage.renew_nodes();
        stage.start_pod_quietly(&kettle).await?;
        let front = format!("look {kettle} --upstream");
        if stage.larder_quietly(FRONT, &front).await? == Exit::Done as i32 {
            break;
        }
        hold(stage, std::time::Instant::now() < deadline, "the move was not found")?;
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    stage.larder_at(FRONT, "look bazaar/library/kettle:2 --upstream", Exit::Done).await?;
    stage.notice("The next pull after the tag's second found the move. What nobody named when the cache was set up is refused, and the pod's events say why:\n");
    let (runs, said) = stage.start_pod(&format!("{BAZAAR}/community/pipewatch:0.9")).await?;
    hold(stage, !runs && said.contains("reaches only library/**"), "the refusal has no reason")?;
    stage.larder_at(FRONT, "shelf show bazaar", Exit::Done).await?;
    stage.notice("What nobody pulls goes. Nobody wants to wait a fortnight for it here, so `keep` is made two seconds:\n");
    stage.change(FRONT, "larder.toml", "keep = \"14d\"", "keep = \"2s\"")?;
    stage.serve(FRONT).await?;
    let deadline = std::time::Instant::now() + Duration::from_secs(30);
    while stage.larder_quietly(FRONT, "shelf show bazaar/library/kettle:2").await? == 0 {
        hold(stage, std::time::Instant::now() < deadline, "what nobody pulls does not go")?;
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    stage.larder_at(FRONT, "shelf show bazaar/library/kettle:2", Exit::No).await?;
    stage.notice(
        "Nobody pulled it within `keep`, so it was evicted; every pull starts that time again.",
    );
    Ok(())
}

/// The air-gapped larder's folder.
const FAR: &str = "turbine-hall";

pub async fn across_the_gap(stage: &mut Stage) -> Result<(), Failure> {
    stage.add(
        &format!("{FAR}/larder.toml"),
        &format!(
            "[larder]\nname = \"turbine-hall\"\nurl = \"http://{OWN}\"     # inside the gap, this name leads here\naccess = \"open\"\n\n[[shelf]]\nname = \"vendor\"\n"
        ),
    )?;
    let ours = stage.larder("parcel sign-key parcel.pem", Exit::Done).await?;
    let theirs = stage.larder_at(FAR, "parcel sign-key parcel.pem", Exit::Done).await?;
    for (file, name, key) in [
        ("larder.toml".to_owned(), "turbine-hall", theirs),
        (format!("{FAR}/larder.toml"), "emberfall", ours),
    ] {
        let key = key.trim();
        let text = format!("\n[parcel]\nsign = \"parcel.pem\"\ntrust = {{ {name} = \"{key}\" }}\n");
        stage.add(&file, &text)?;
    }
    stage.notice(
        "Each side keeps its own key, and names the other's in [parcel] of its larder.toml.\n",
    );
    stage.larder("parcel pack disk/week-48 --volume 2MiB", Exit::Done).await?;
    stage.larder("parcel show disk/week-48", Exit::Done).await?;
    stage.notice(
        "The disk is carried over. Before anything is written there, every byte is checked.\n",
    );
    let verified = stage.larder_at(FAR, "parcel verify ../disk/week-48", Exit::Done).await?;
    hold(stage, verified.contains("signed by emberfall"), "the parcel was not believed")?;
    let unpacked = "parcel unpack ../disk/week-48 --receipt ../disk/turbine-hall.receipt";
    let unpacked = stage.larder_at(FAR, unpacked, Exit::Done).await?;
    hold(stage, unpacked.contains("6 images"), "not every image was unpacked")?;
    stage.serve(FAR).await?;
    let (running, failing) = stage.apply().await?;
    hold(stage, running == 4 && failing == 0, "a pod does not run behind the gap")?;
    stage.notice(
        "The same deployments run behind the gap, from the same digests, signatures included.",
    );
    Ok(())
}

pub async fn only_the_difference(stage: &mut Stage) -> Result<(), Failure> {
    stage.larder(&format!("intake add {BAZAAR}/library/brinedb:5.3"), Exit::Done).await?;
    stage.larder("intake lock", Exit::Done).await?;
    stage.larder("intake run", Exit::Done).await?;
    stage.larder("parcel pack disk/week-49 --since disk/turbine-hall.receipt", Exit::Done).await?;
    let (before, now) =
        (stage.size("disk/week-48/parcel.tar.001")?, stage.size("disk/week-49/parcel.tar")?);
    hold(stage, now < before, "the second parcel is not smaller than a volume of the first")?;
    let shown = "parcel show disk/week-49 --against disk/turbine-hall.receipt";
    let shown = stage.larder(shown, Exit::Done).await?;
    hold(stage, shown.contains("new there"), "the difference is not told")?;
    stage.larder_at(FAR, "parcel unpack ../disk/week-49", Exit::Done).await?;
    let status = stage.larder("intake status", Exit::Done).await?;
    hold(stage, status.contains("in place"), "the record does not say what was brought in")?;
    stage.notice("A few layers crossed the gap, and both sides hold the same.");
    Ok(())
}

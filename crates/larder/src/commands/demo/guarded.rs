//! The demo's chapters about who may pull what. Each one checks that what it tells is so.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use larder_standin::{BAZAAR, VENTWORKS};

use super::stage::{OWN, Stage};
use crate::failure::{Exit, Failure};

/// The folder of the larder that asks who comes.
pub const GATE: &str = "gate";
const RULE: &str = "turbine hall: nothing unvetted";

fn hold(stage: &Stage, holds: bool, what: &str) -> Result<(), Failure> {
    if holds { Ok(()) } else { Err(stage.broken(what)) }
}

pub async fn a_pod_without_a_secret(stage: &mut Stage) -> Result<(), Failure> {
    let api = &stage.cluster_api()?;
    let (bazaar, ventworks) = (stage.bazaar.endpoint(), stage.ventworks.endpoint());
    let text = format!(
        r#"[larder]
name = "gate"
url = "http://{OWN}"
access = "grants"

[[upstream]]
name = "bazaar"
host = "{BAZAAR}"
endpoint = "{bazaar}"

[[upstream]]
name = "ventworks"
host = "{VENTWORKS}"
endpoint = "{ventworks}"
credentials = {{ env = "VENTWORKS_LOGIN" }}

[[intake]]
image = "{VENTWORKS}/gauges/steamgauge"
tags = {{ exact = ["1.9.2"] }}
to = "vendor/steamgauge"

[[intake]]
image = "{BAZAAR}/community/pipewatch"
tags = {{ exact = ["0.9"] }}
to = "vendor/pipewatch"

[[class]]
name = "community"
match = ["{BAZAAR}/community/**"]

[[cluster]]
name = "turbine-hall"
namespaces = ["scada", {{ name = "historian", pull = ["vendor/pipewatch"] }}]
pull = ["vendor/**"]

[[rule]]
name = "{RULE}"
clusters = ["turbine-hall"]
namespaces = ["scada"]
classes = ["community"]
verdict = "deny"
because = "runs the turbines; ask for an intake entry instead"
"#
    );
    stage.add(&format!("{GATE}/larder.toml"), &text)?;
    stage.show(&format!("{GATE}/larder.toml"), "[[cluster]]")?;
    for step in ["intake lock", "intake run"] {
        hold(stage, stage.larder_quietly(GATE, step).await? == 0, "the images are not brought in")?;
    }
    stage.guarded_cluster("turbine-hall", api);
    stage.serve(GATE).await?;
    let gauge = format!("{OWN}/vendor/steamgauge:1.9.2");
    let (runs, said) = stage.start_pod_in("scada", &gauge).await?;
    hold(stage, !runs && said.contains("give the pod the pull secret"), "the event has no reason")?;
    stage.notice("The event says what is missing, and carries a number by which the operator finds the refusal.");
    Ok(())
}

pub async fn the_handoff(stage: &mut Stage) -> Result<(), Failure> {
    let gauge = format!("{OWN}/vendor/steamgauge:1.9.2");
    let apply = "handoff apply turbine-hall --kubeconfig ../kubeconfig";
    stage.larder_at(GATE, &format!("{apply} --dry-run"), Exit::Done).await?;
    stage.larder_at(GATE, apply, Exit::Done).await?;
    let check = "handoff check turbine-hall --kubeconfig ../kubeconfig";
    stage.larder_at(GATE, check, Exit::Done).await?;
    let (runs, _) = stage.start_pod_in("scada", &gauge).await?;
    hold(stage, runs, "the pod does not run with its secret")?;
    stage.renew_nodes();
    let (runs, said) = stage.start_pod_in("historian", &gauge).await?;
    let why = "historian of turbine-hall may not pull vendor/steamgauge";
    hold(stage, !runs && said.contains(why), "the other namespace may pull it too")?;
    stage.notice("The secrets went from the larder to the cluster; nobody saw them. The other namespace has grants of its own, and this is not among them:\n");
    let explain = format!("policy explain {gauge} --cluster turbine-hall --namespace historian");
    stage.larder_at(GATE, &explain, Exit::No).await?;
    Ok(())
}

pub async fn a_rotation_under_traffic(stage: &mut Stage) -> Result<(), Failure> {
    let api = &stage.cluster_api()?;
    let (stop, failed, done) = (
        Arc::<AtomicBool>::default(),
        Arc::<AtomicUsize>::default(),
        Arc::<AtomicUsize>::default(),
    );
    let mut traffic = stage.another_cluster("turbine-hall", api);
    let pulling = {
        let (stop, failed, done) = (Arc::clone(&stop), Arc::clone(&failed), Arc::clone(&done));
        tokio::spawn(async move {
            let pod = format!(
                "apiVersion: v1\nkind: Pod\nmetadata: {{name: busy, namespace: scada}}\nspec: {{containers: [{{name: one, image: \"{OWN}/vendor/steamgauge:1.9.2\"}}]}}\n"
            );
            while !stop.load(Ordering::Relaxed) {
                traffic.renew_nodes();
                let runs = traffic.apply(&pod).await.is_ok_and(|pods| pods[0].is_running());
                if !runs {
                    failed.fetch_add(1, Ordering::Relaxed);
                }
                done.fetch_add(1, Ordering::Relaxed);
            }
        })
    };
    let apply = "handoff apply turbine-hall --namespace scada --kubeconfig ../kubeconfig --rotate";
    stage.larder_at(GATE, apply, Exit::Done).await?;
    // The use of keys is written down once a second.
    stage.wait_for(GATE, "key list", "127.0.0.1").await?;
    stage.larder_at(GATE, "key list", Exit::Done).await?;
    let finish = "key rotate --cluster turbine-hall --namespace scada --finish";
    stage.larder_at(GATE, finish, Exit::No).await?;
    stage.notice("The first key was used a moment ago, so it is not ended. Nobody wants to wait a day for it here:\n");
    let deadline = Instant::now() + Duration::from_secs(30);
    let idle = format!("{finish} --idle 1s");
    while stage.larder_quietly(GATE, &idle).await? != 0 {
        hold(stage, Instant::now() < deadline, "the first key stays in use")?;
        tokio::time::sleep(Duration::from_millis(300)).await;
    }
    let before = done.load(Ordering::Relaxed);
    while done.load(Ordering::Relaxed) < before + 3 {
        hold(stage, Instant::now() < deadline, "nothing is pulled any more")?;
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    stop.store(true, Ordering::Relaxed);
    pulling.await.map_err(|error| stage.broken(error))?;
    let (failed, done) = (failed.load(Ordering::Relaxed), done.load(Ordering::Relaxed));
    hold(stage, failed == 0 && done > 3, "a pull failed during the rotation")?;
    stage.larder_at(GATE, "log --kind key", Exit::Done).await?;
    stage.notice(&format!("{done} pulls went on meanwhile, and none failed."));
    Ok(())
}

pub async fn a_rule_says_why(stage: &mut Stage) -> Result<(), Failure> {
    stage.show(&format!("{GATE}/larder.toml"), "[[rule]]")?;
    let image = format!("{OWN}/vendor/pipewatch:0.9");
    let (runs, said) = stage.start_pod_in("scada", &image).await?;
    hold(stage, !runs && said.contains("ask for an intake entry instead ["), "there is no reason")?;
    let number = said.rsplit_once('[').and_then(|(_, rest)| rest.split(']').next());
    let number = number.unwrap_or_default().to_owned();
    // The record is written once a second.
    stage.wait_for(GATE, &format!("log {number}"), &number).await?;
    let log = stage.larder_at(GATE, &format!("log {number}"), Exit::Done).await?;
    hold(stage, log.contains("decided by"), "the record does not tell the line")?;
    stage
        .add(&format!("{GATE}/Dockerfile"), &format!("FROM {BAZAAR}/community/pipewatch:0.9\n"))?;
    let check = "policy check Dockerfile --cluster turbine-hall --namespace scada";
    stage.larder_at(GATE, check, Exit::No).await?;
    stage.notice("A build learns it before it runs.");
    Ok(())
}

pub async fn the_rehearsal(stage: &mut Stage) -> Result<(), Failure> {
    let path = format!("{GATE}/larder.toml");
    let text = stage.text(&path)?;
    let narrow = text.replace("pull = [\"vendor/**\"]", "pull = [\"vendor/pipewatch\"]");
    stage.add(&format!("{GATE}/narrow.toml"), &narrow)?;
    stage.larder_at(GATE, "policy diff larder.toml narrow.toml", Exit::No).await?;
    let rehearsed = stage.larder_at(GATE, "policy rehearse --rules narrow.toml", Exit::No).await?;
    hold(stage, rehearsed.contains("turbine-hall/scada"), "the rehearsal refuses nobody")?;
    stage.notice("Nothing was changed, and nobody was refused: that is what a rehearsal is for.");
    Ok(())
}

/// The name under which the cluster's API reaches the door.
const DOOR: &str = "door.emberfall.example";

/// A pod of the namespace of the turbines.
pub fn pod(name: &str, more: &str, image: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{name: {name}, namespace: scada}}\nspec: {{{more}containers: [{{name: one, image: \"{image}\"}}]}}\n"
    )
}

pub async fn the_door(stage: &mut Stage) -> Result<(), Failure> {
    let path = format!("{GATE}/larder.toml");
    let text = stage.text(&path)?;
    let cluster = "name = \"turbine-hall\"\n";
    let door = format!("{cluster}door = {{ url = \"https://{DOOR}\" }}\n");
    stage.replace(&path, &text.replacen(cluster, &door, 1))?;
    stage.show(&path, "[[cluster]]")?;
    stage
        .larder_at(
            GATE,
            "handoff apply turbine-hall --kubeconfig ../kubeconfig --door-unasked",
            Exit::Done,
        )
        .await?;
    stage.reach_larder_as(DOOR);
    let gauge = format!("{VENTWORKS}/gauges/steamgauge:1.9.2");
    // The running larder notices the changed file within two seconds.
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        stage.renew_nodes();
        if stage.start_pod_quietly_in("scada", &gauge).await.unwrap_or(false) {
            break;
        }
        hold(stage, Instant::now() < deadline, "the door changes nothing")?;
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    stage.renew_nodes();
    stage.notice(&format!(
        "A developer applies a pod that names {gauge}, which these nodes cannot reach:\n"
    ));
    let pods = stage.offer(&pod("steam-board", "", &gauge)).await?.unwrap_or_default();
    let ours = format!("{OWN}/vendor/steamgauge:1.9.2");
    let said = pods.first().map(ToString::to_string).unwrap_or_default();
    hold(stage, said.contains("Running") && said.contains(&ours), "the pod was not corrected")?;
    stage.notice(
        "It runs from the larder, with the pull secret attached. And the community image:\n",
    );
    let refused =
        stage.offer(&pod("leak-watch", "", &format!("{BAZAAR}/community/pipewatch:0.9"))).await?;
    hold(stage, refused.is_none(), "the door lets it in")?;
    Ok(())
}

pub async fn four_that_look_alike(stage: &mut Stage) -> Result<(), Failure> {
    let api = &stage.cluster_api()?;
    let spaces = "/api/v1/namespaces";
    let secret = api.get(&format!("{spaces}/historian/secrets/larder-pull")).unwrap_or_default();
    let mut elsewhere = secret.clone();
    elsewhere["metadata"]["name"] = "historian-pull".into();
    api.put(&format!("{spaces}/historian/secrets/historian-pull"), elsewhere);
    let logins = serde_json::json!({ "auths": { VENTWORKS: { "username": "emberfall", "password": "not-a-real-secret" } } });
    let vendor = serde_json::json!({
        "apiVersion": "v1", "kind": "Secret", "type": "kubernetes.io/dockerconfigjson",
        "metadata": { "name": "vendor-pull", "namespace": "scada" },
        "stringData": { ".dockerconfigjson": logins.to_string() },
    });
    api.put(&format!("{spaces}/scada/secrets/vendor-pull"), vendor);
    api.add_account("scada", "gauges");
    // The pods below are older than the door, which would have mended one of them.
    for kind in ["mutating", "validating"] {
        let hooks = format!("/apis/admissionregistration.k8s.io/v1/{kind}webhookconfigurations");
        api.put(&format!("{hooks}/larder-door-turbine-hall"), serde_json::json!({}));
    }
    stage.renew_nodes();
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let situations = [
        ("board-a", "imagePullSecrets: [{name: larder-pul}], ", "does not exist"),
        ("board-b", "imagePullSecrets: [{name: historian-pull}], ", "in another namespace"),
        ("board-c", "imagePullSecrets: [{name: vendor-pull}], ", "for another host"),
        ("board-d", "serviceAccountName: gauges, ", "neither the pod nor its service account"),
    ];
    let mut told = Vec::new();
    for (name, more, _) in situations {
        let text = pod(name, more, &image);
        let pods = stage.offer(&text).await?.unwrap_or_default();
        let Some(started) = pods.first() else { return Err(stage.broken("the pod is not taken")) };
        let mut event = String::new();
        for (number, one) in started.events.iter().enumerate().filter(|(_, one)| one.warning) {
            let object = serde_json::json!({
                "metadata": { "name": format!("{name}-{number}"), "namespace": "scada" },
                "involvedObject": { "name": name }, "message": one.message,
            });
            api.put(&format!("{spaces}/scada/events/{name}-{number}"), object);
            if event.is_empty() {
                event.clone_from(&one.message);
            }
        }
        told.push(event);
        let object = larder_core::objects::read(&text).map_err(|error| stage.broken(error))?;
        let object = object.into_iter().next().unwrap_or_default();
        api.put(&format!("{spaces}/scada/pods/{name}"), object);
    }
    hold(
        stage,
        told.iter().all(|one| *one == told[0] && one.contains("403")),
        "the events differ",
    )?;
    stage.notice("The same words four times. The pull, made again as each pod would make it:\n");
    let at = stage.address().to_owned();
    for (name, _, words) in situations {
        let line = format!(
            "why --cluster turbine-hall --namespace scada --workload pod/{name} --kubeconfig ../kubeconfig --larder {at}"
        );
        let why = stage.larder_at(GATE, &line, Exit::No).await?;
        hold(stage, why.contains(words), "another cause is told")?;
    }
    stage.notice("Four causes, each with what to do.");
    Ok(())
}

pub async fn without_stored_credentials(stage: &mut Stage) -> Result<(), Failure> {
    let api = &stage.cluster_api()?;
    stage.add(&format!("{GATE}/cluster-keys.json"), &api.key_set().to_string())?;
    let identity = format!(
        "namespaces = [\"scada\"]\nidentity = {{ issuer = \"{}\", keys = \"cluster-keys.json\" }}",
        api.issuer()
    );
    let old = "namespaces = [\"scada\", { name = \"historian\", pull = [\"vendor/pipewatch\"] }]";
    let path = format!("{GATE}/larder.toml");
    let text = stage.text(&path)?;
    hold(stage, text.contains(old), "the configuration is another one")?;
    stage.replace(&path, &text.replace(old, &identity))?;
    stage.show(&path, "[[cluster]]")?;
    stage.larder_at(GATE, "handoff write turbine-hall --into ../handoff", Exit::Done).await?;
    api.add_namespace("scada");
    stage.guarded_cluster("turbine-hall", api);
    stage.ask_node_login();
    let gauge = format!("{OWN}/vendor/steamgauge:1.9.2");
    // The running larder notices the changed file within two seconds.
    let deadline = Instant::now() + Duration::from_secs(20);
    while !stage.start_pod_quietly_in("scada", &gauge).await? {
        hold(stage, Instant::now() < deadline, "the pod does not run without a secret")?;
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    stage.renew_nodes();
    let (runs, _) = stage.start_pod_in("scada", &gauge).await?;
    hold(stage, runs, "the pod does not run without a secret")?;
    let signed = "log --kind sign-in --who turbine-hall --limit 3";
    stage.wait_for(GATE, signed, "service account scada/default").await?;
    let signed = stage.larder_at(GATE, signed, Exit::Done).await?;
    hold(stage, signed.contains("service account scada/default"), "the record tells another")?;
    stage.notice("The running larder took up the changed configuration by itself; the record names the service account.");
    Ok(())
}

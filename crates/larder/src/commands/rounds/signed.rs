//! Whose signatures end, and which images are no more signed by whom they were when they were locked.

use std::collections::BTreeMap;

use larder_core::reference::Selector;
use larder_core::rounds::{Concern, Urgency, ends};
use larder_core::shown::shown;
use larder_core::signature::Trust;
use larder_store::Store;
use larder_transfer::{Own, Source as _};

use crate::config::Config;
use crate::context::{now, read_lock};
use crate::failure::Failure;
use crate::output::{count, time};
use crate::signatures::{Judging, gathered, signers_of};

/// Images that are told one by one.
const EACH: usize = 10;
/// Images that are looked at.
const LOOKED: usize = 5000;

/// All of it, in no order.
pub async fn all(config: &Config, store: &Store) -> Result<Vec<Concern>, Failure> {
    if config.signers.is_empty() {
        return Ok(Vec::new());
    }
    let mut found = signers(config);
    // Where a file cannot be read, nothing counts, and that is said already.
    if let Ok(trust) = config.trust() {
        found.extend(images(config, store, &trust).await?);
    }
    Ok(found)
}

fn concern(
    name: String,
    urgency: Urgency,
    since: Option<i64>,
    text: &str,
    remedy: &str,
) -> Concern {
    let text = shown(text).into_owned();
    Concern { name, urgency, since, text, remedy: remedy.to_owned() }
}

/// Signers whose files cannot be used, and what of them ends.
fn signers(config: &Config) -> Vec<Concern> {
    let (mut found, now) = (Vec::new(), now());
    for one in &config.signers {
        let name = one.name.get_ref();
        let signer = match config.signer(one) {
            Ok(signer) => signer,
            Err(failure) => {
                let text = format!("the signer {name} cannot be used: {}", failure.cause);
                found.push(concern(
                    format!("signer/{name}"),
                    Urgency::Urgent,
                    None,
                    &text,
                    "larder check",
                ));
                continue;
            }
        };
        let authorities = &signer.authorities;
        let ending = [
            ("authorities", "the authorities of the signer", authorities.end(), "end"),
            ("lists", "a list of revocations of the signer", authorities.lists_end(), "end"),
        ];
        for (kind, what, end, verb) in ending {
            let Some(end) = end.map(|end| end.saturating_mul(1000)) else { continue };
            let Some(mut urgency) = ends(end, now) else { continue };
            // Nobody is refused for a list that is not asked for.
            if kind == "lists" && !one.revocations_required {
                urgency = Urgency::Notice;
            }
            let has_ended = end <= now;
            let verb = if has_ended { format!("{verb}ed") } else { format!("{verb}s") };
            let text = format!("{what} {name} {verb} {}", time(end));
            let remedy = "get the new file from whoever signs, and put it where larder.toml says";
            found.push(concern(
                format!("{kind}/{name}"),
                urgency,
                has_ended.then_some(end),
                &text,
                remedy,
            ));
        }
    }
    found
}

/// Images that are locked as signed by somebody, and are not now; and signatures that end.
async fn images(config: &Config, store: &Store, trust: &Trust) -> Result<Vec<Concern>, Failure> {
    let (mut found, mut gone, now) = (Vec::new(), Vec::new(), now());
    let mut ending: BTreeMap<String, (i64, usize)> = BTreeMap::new();
    let lock = read_lock(config)?;
    let signed = lock.entries.iter().filter(|(_, locked)| !locked.signed_by.is_empty());
    for (want, locked) in signed.take(LOOKED) {
        let Some(intake) = config.intake_of(&want.image) else { continue };
        let target = config.destination(intake);
        if target.host != config.larder.url.host {
            continue;
        }
        let what = || format!("cannot read the signatures of {}:{}", want.image, want.tag);
        let here = format!("{}/{}:{}", target.host, target.repository, want.tag);
        let source = Own::new(store.clone(), target.repository);
        // The signature is over what the upstream has: a trimmed index is another.
        let image = match source.manifest(&Selector::Digest(locked.digest.clone())).await {
            Ok(image) => image,
            Err(error) if error.is_missing() => continue,
            Err(error) => return Err(Failure::transfer(what(), &error)),
        };
        let gathered = gathered(&source, &image, &[])
            .await
            .map_err(|error| Failure::transfer(what(), &error))?;
        let (names, tags) = ([want.image.to_string()], [want.tag.to_string()]);
        let judging = Judging { trust, names: &names, tags: &tags };
        let examined = judging.examine(&image, &[], &gathered);
        let now_by = signers_of(&examined);
        for signer in locked.signed_by.iter().filter(|name| !now_by.contains(name)) {
            gone.push((format!("{}:{}", want.image, want.tag), here.clone(), signer.clone()));
        }
        for proven in examined.iter().filter_map(|one| one.outcome.as_ref().ok()) {
            let Some(until) = proven.until.map(|until| until.saturating_mul(1000)) else {
                continue;
            };
            if locked.signed_by.contains(&proven.signer) && ends(until, now).is_some() {
                let (first, number) = ending.entry(proven.signer.clone()).or_insert((until, 0));
                (*first, *number) = ((*first).min(until), *number + 1);
            }
        }
    }
    for (image, here, signer) in gone.iter().take(EACH) {
        let text = format!("{image} was signed by {signer} when it was locked, and is not now");
        let remedy = format!("larder look --signatures {here}");
        found.push(concern(format!("signed/{image}"), Urgency::Urgent, None, &text, &remedy));
    }
    if gone.len() > EACH {
        let more = gone.len() - EACH;
        let text = format!(
            "{more} more images are not signed any more by whom they were when they were locked"
        );
        found.push(concern(
            "signed".to_owned(),
            Urgency::Urgent,
            None,
            &text,
            "larder intake lock --dry-run",
        ));
    }
    for (signer, (first, number)) in ending {
        if let Some(urgency) = ends(first, now) {
            let text = format!(
                "{} of {signer} will not count any more: the first from {} on",
                count(number, "signature"),
                time(first)
            );
            let remedy = "have it signed again, or stamped with a time that is believed";
            found.push(concern(format!("ending/{signer}"), urgency, None, &text, remedy));
        }
    }
    Ok(found)
}

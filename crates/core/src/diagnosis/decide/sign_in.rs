//! Causes at the sign-in: what the pod shows, and what is wrong with it.

use super::existence::gone;
use super::{Certain, Evidence, FoundCause, Likely, found, quoted};
use crate::diagnosis::Cause;
use crate::diagnosis::evidence::{Credential, KeyState, Secret, SecretFault, Visit};

pub(super) fn sign_in(
    e: &Evidence,
    visit: &Visit,
    shown: bool,
    said: Option<&String>,
) -> FoundCause {
    // A registry that asks for a sign-in may only hide that nothing is there.
    if let Some(gone) = gone(e, visit) {
        return gone;
    }
    let known = if e.record.is_some() { Certain } else { Likely };
    match &e.credential {
        Some(credential) => by_credential(e, visit, credential, shown, said).at_most(known),
        None if shown => wrong(visit, None, said).at_most(Likely),
        None => no_credential(e, visit).at_most(Likely),
    }
}

/// What has a cluster sign in at its larder.
pub(super) fn to_sign_in(e: &Evidence, answer: FoundCause) -> FoundCause {
    // Nodes with an identity need no secret: they sign in with the service account's token.
    match e.identity {
        true => answer
            .say("the nodes of this cluster sign in by themselves (`larder node-login`), and this one did not: its kubelet's journal says why")
            .run("write the kubelet's configuration anew", "larder handoff write CLUSTER --into INTO"),
        false => answer
            .run("hand the cluster its pull secrets", "larder handoff apply CLUSTER")
            .run("see what the cluster has", "larder handoff check CLUSTER"),
    }
}

pub(super) fn no_credential(e: &Evidence, visit: &Visit) -> FoundCause {
    let told = format!("{} wants a sign-in for {}, and the pod has none", visit.host, e.written);
    let answer = found(Cause::NoCredential, Certain, told);
    match visit.ours {
        true => to_sign_in(e, answer),
        false => answer
            .say("give the pod a pull secret of that registry")
            .say("bring the image in, so that nodes need no account there"),
    }
}

pub(super) fn wrong(visit: &Visit, secret: Option<&Secret>, said: Option<&String>) -> FoundCause {
    let whose = secret
        .map_or_else(String::new, |secret| format!(" (user {} of {})", secret.user, secret.from));
    let told = format!("{} does not accept the name and secret{whose}{}", visit.host, quoted(said));
    found(Cause::WrongCredential, Certain, told)
        .run("see what the secret holds", "larder handoff read SECRET")
        .say("write the secret anew with the account's present password or token")
}

pub(super) fn by_credential(
    e: &Evidence,
    visit: &Visit,
    credential: &Credential,
    shown: bool,
    said: Option<&String>,
) -> FoundCause {
    match credential {
        Credential::None => no_credential(e, visit),
        Credential::Unfit(fault) => unfit(visit, fault),
        Credential::Fits(secret) if !secret.agrees => found(
            Cause::SecretDisagrees,
            Certain,
            format!("{}: user and password say one thing, the combined field another", secret.from),
        )
        .run("see both", "larder handoff read SECRET")
        .run("write it anew", "larder handoff apply CLUSTER"),
        Credential::Fits(secret) => match &secret.key {
            Some(KeyState::Expired(when)) => found(
                Cause::KeyExpired,
                Certain,
                format!("the key in {} expired {when}", secret.from),
            )
            .run("hand over a new one", "larder handoff apply CLUSTER"),
            Some(KeyState::Revoked(when)) => found(
                Cause::KeyRevoked,
                Certain,
                format!("the key in {} was revoked {when}", secret.from),
            )
            .run("hand over a new one", "larder handoff apply CLUSTER"),
            Some(KeyState::Unknown) => found(
                Cause::KeyUnknown,
                Certain,
                format!("this larder did not issue the key in {}", secret.from),
            )
            .say("check whether the secret is that of another larder")
            .run("hand over a new one", "larder handoff apply CLUSTER"),
            Some(KeyState::Good) | None if shown => wrong(visit, Some(secret), said),
            Some(KeyState::Good) | None => no_credential(e, visit).at_most(Likely),
        },
    }
}

pub(super) fn unfit(visit: &Visit, fault: &SecretFault) -> FoundCause {
    let apply = "larder handoff apply CLUSTER";
    match fault {
        SecretFault::Missing { name, near: Some(near), .. } => found(
            Cause::SecretMissing,
            Certain,
            format!(
                "there is no pull secret {name} in the pod's namespace; did you mean {near}?"
            ),
        )
        .say(format!(
            "write {near} where the pod, or its service account, names {name} in `imagePullSecrets`"
        )),
        SecretFault::Missing { name, elsewhere, .. } if !elsewhere.is_empty() => found(
            Cause::SecretElsewhere,
            Certain,
            format!("the pull secret {name} is not in the pod's namespace; one of that name is in {}", elsewhere.join(", ")),
        )
        .run("bring it to this namespace", "larder handoff move SECRET --namespace NAMESPACE --into INTO")
        .run("give each namespace its own", apply),
        SecretFault::Missing { name, .. } => found(
            Cause::SecretMissing,
            Certain,
            format!("there is no pull secret {name} in the pod's namespace"),
        )
        .run("hand it over", apply),
        SecretFault::Type(kind) => found(
            Cause::SecretType,
            Certain,
            format!("the pull secret has the type {kind}, which kubelets do not read"),
        )
        .run("write it anew", apply),
        SecretFault::Unreadable(why) => {
            found(Cause::SecretUnreadable, Certain, format!("the pull secret cannot be read: {why}"))
                .run("write it anew", apply)
        }
        SecretFault::Host(hosts) => found(
            Cause::SecretHost,
            Certain,
            format!("the pull secret is for {}, not for {}", hosts.join(", "), visit.host),
        )
        .say("write host and port in the secret as the reference has them")
        .run("write it anew", apply),
        SecretFault::NotLinked(name) => found(
            Cause::NotLinked,
            Certain,
            format!("the namespace has the pull secret {name}, and neither the pod nor its service account names it"),
        )
        .run("link it (to the accounts that `service_accounts` of the [[cluster]] names)", apply)
        .say(format!("name it in the pod: `imagePullSecrets: [{{name: {name}}}]`")),
    }
}

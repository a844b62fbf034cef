//! Is it granted? What a request needs, and how it is refused.

use axum::http::{HeaderValue, header};
use larder_core::access::scope::scope_text;
use larder_core::access::{Action, Who};
use larder_store::{RecordKind, now};

use super::record::{RecordSubject, RecordedDeed};
use super::{Caller, Gate, Head};
use crate::error::{ApiError, Code};
use crate::listen::Secure;
use crate::operation::{Operation, about};
use crate::path::EndPoint;
use crate::plan::Plan;

/// Whether a request may be answered at once. False: it may not, or only [`check`] can tell.
pub(crate) fn passes(plan: &Plan, caller: &Caller, operation: Operation<'_>) -> bool {
    if plan.court.open {
        return true;
    }
    match operation.needs() {
        Some((action, repository)) => {
            let good = caller.token.as_ref().is_none_or(|token| {
                token.check(now() / 1000).is_ok() && token.allows(action, repository)
            });
            good && plan.court.grants.may(&caller.who, action, repository)
        }
        None => false,
    }
}

/// Lets a request through, or refuses it; what is refused is written down.
pub(crate) async fn check(
    gate: &Gate,
    plan: &Plan,
    caller: &Caller,
    operation: Operation<'_>,
    head: Head<'_>,
) -> Result<(), ApiError> {
    if passes(plan, caller, operation) {
        return Ok(());
    }
    let challenge =
        |error: Option<&str>, scope: Option<String>| challenge(plan, head, error, scope.as_deref());
    let Some((action, repository)) = operation.needs() else {
        // The base end point says whether somebody is let in at all; the catalog looks for itself.
        return match (operation.target, &caller.who) {
            (EndPoint::Base, Who::Anonymous) if !caller.node => {
                let error = ApiError::new(Code::Unauthorized, "sign in first");
                Err(challenge(None, None).apply(error))
            }
            _ => Ok(()),
        };
    };
    let scope = || {
        let actions: &[Action] = match action {
            Action::Pull => &[Action::Pull],
            Action::Push => &[Action::Pull, Action::Push],
            Action::Delete => &[Action::Delete],
        };
        Some(scope_text(repository, actions))
    };
    let granted = plan.court.grants.may(&caller.who, action, repository);
    if let Some(token) = &caller.token
        && !caller.node
    {
        if let Some((digest, is_manifest)) = operation.content()
            && (action == Action::Pull && granted)
            && (token.is_just_over(now() / 1000) && token.allows(action, repository))
            && token.goes_on(&gate.store, repository, digest, is_manifest).await?
        {
            return Ok(());
        }
        if let Err(error) = token.check(now() / 1000) {
            let error = ApiError::new(Code::Unauthorized, format!("{error}; sign in again"));
            return Err(challenge(Some("invalid_token"), scope()).apply(error));
        }
        if granted {
            let message = format!("the token does not name {} of {repository}", action.word());
            let error = ApiError::new(Code::Unauthorized, message);
            return Err(challenge(Some("insufficient_scope"), scope()).apply(error));
        }
    }
    if caller.who == Who::Anonymous && caller.token.is_none() && !caller.node {
        let message = format!("sign in to {} {repository}", action.phrase());
        return Err(challenge(None, scope()).apply(ApiError::new(Code::Unauthorized, message)));
    }
    let decision = plan.court.grants.decide(&caller.who, action, repository);
    let message = match (&caller.who, caller.node) {
        (Who::Anonymous, false) => format!(
            "nobody signed in, and {repository} is not for everybody; give the pod the pull secret of this larder"
        ),
        (Who::Anonymous, true) => format!(
            "this node has not said to which cluster it belongs in a way that is believed, and {repository} is not for everybody"
        ),
        (who, _) => format!(
            "{} may not {} {repository}: no grant names it",
            who.described(),
            action.phrase()
        ),
    };
    let mut happened = RecordedDeed::of(caller, RecordKind::Refused, &message);
    happened.reference = about(operation.target).map(RecordSubject::Text);
    happened.line = decision.line.map(|line| line.to_string());
    let number = gate.recorder.note(&happened);
    gate.meters.refused("grant", "");
    Err(ApiError::new(Code::Denied, format!("{message}{number}")))
}

/// Whether somebody may see the list of repositories at all.
pub(crate) fn refuse_catalog(plan: &Plan, caller: &Caller, head: Head<'_>) -> Result<(), ApiError> {
    let scope = Some("registry:catalog:*");
    if plan.court.open {
        return Ok(());
    }
    match &caller.token {
        Some(token) if token.check(now() / 1000).is_err() || !token.allows_catalog() => {
            let expired = token.check(now() / 1000).is_err();
            let error = if expired { "invalid_token" } else { "insufficient_scope" };
            let refused = ApiError::new(Code::Unauthorized, "the token does not name the catalog");
            Err(challenge(plan, head, Some(error), scope).apply(refused))
        }
        None if caller.who == Who::Anonymous => {
            let refused = ApiError::new(Code::Unauthorized, "sign in to list repositories");
            Err(challenge(plan, head, None, scope).apply(refused))
        }
        _ => Ok(()),
    }
}

/// What tells a client how to sign in (RFC 9110, section 11.6.1; token protocol, "challenge").
pub(crate) struct ChallengeHeaders(Vec<HeaderValue>);

impl ChallengeHeaders {
    /// Has a refusal carry it.
    pub fn apply(self, error: ApiError) -> ApiError {
        let name = header::WWW_AUTHENTICATE;
        self.0.into_iter().fold(error, |error, value| error.with_header(name.clone(), value))
    }
}

pub(crate) fn challenge(
    plan: &Plan,
    head: Head<'_>,
    error: Option<&str>,
    scope: Option<&str>,
) -> ChallengeHeaders {
    let secure = head.extensions.get::<Secure>().is_some();
    // A client that reaches us by another name than ours gets its token there too.
    let host = head.headers.get(header::HOST).and_then(|host| host.to_str().ok());
    let plain = |host: &&str| {
        host.len() <= 255 && host.chars().all(|c| c.is_ascii_alphanumeric() || ".-:[]".contains(c))
    };
    let base = match host.filter(plain) {
        Some(host) if host != plan.host().as_str() => {
            format!("{}://{host}", if secure { "https" } else { "http" })
        }
        _ => plan.url.trim_end_matches('/').to_owned(),
    };
    let mut bearer =
        format!("Bearer realm=\"{base}{}\",service=\"{}\"", super::TOKEN_PATH, plan.host());
    for (name, value) in [("scope", scope), ("error", error)] {
        if let Some(value) = value {
            bearer.push_str(&format!(",{name}=\"{value}\""));
        }
    }
    // On two lines: clients that read one line only take what they know.
    let basic = format!("Basic realm=\"{}\"", plan.host());
    let lines = [bearer, basic];
    ChallengeHeaders(lines.iter().filter_map(|line| HeaderValue::from_str(line).ok()).collect())
}

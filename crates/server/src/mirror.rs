//! Requests of nodes that ask for an upstream's image and are sent through the larder.
//!
//! A runtime adds `ns=HOST` to requests that it sends to a mirror; who it is, its configuration tells
//! with a path in front of `/v2/` or with a header of its own. Nothing here is ever answered 401: a
//! runtime would hand over the upstream's pull secret.

use axum::http::uri::{Authority, PathAndQuery};
use axum::http::{Request, Uri, header};
use larder_core::name::Host;
use percent_encoding::percent_decode_str;

use crate::app::App;
use crate::error::{ApiError, Code};
use crate::front;
use crate::limits::{Asker, Client, ClientCertificate, FromNode};
use crate::plan::{Plan, PlannedCluster};

/// What a node's configuration puts in front of `/v2/`, before the cluster's name.
const PREFIX: &str = "/c/";
/// The header by which a node's configuration names its cluster.
pub(crate) const HEADER: &str = "larder-cluster";

/// Brings a node's request into the form in which all others come: the repository with its shelf in
/// front.
pub(crate) fn receive<B>(app: &App, plan: &Plan, request: &mut Request<B>) -> Result<(), ApiError> {
    // Long: the ways in which a node may ask, the surest first.
    front::check(plan, request)?;
    let uri = request.uri();
    let prefixed = uri.path().starts_with(PREFIX);
    let query = uri.query().unwrap_or_default();
    let namespace = query.split('&').find_map(|pair| pair.strip_prefix("ns="));
    let said = request.headers().get(HEADER);
    if !prefixed && namespace.is_none() && said.is_none() {
        if let Some(cluster) = by_certificate(plan, request) {
            request.extensions_mut().insert(Asker { cluster, shown: true });
        }
        return lengthen(app, request);
    }
    let denied = |message: String| ApiError::new(Code::Denied, message);
    let mut path = uri.path();
    let mut cluster = match said.map(|said| said.to_str()) {
        Some(Ok(name)) => Some(name.to_owned()),
        Some(Err(_)) => return Err(denied(format!("the header {HEADER} names no cluster"))),
        None => None,
    };
    if let Some(rest) = path.strip_prefix(PREFIX) {
        let (name, _) = rest.split_once('/').unwrap_or((rest, ""));
        cluster = Some(name.to_owned());
        path = &rest[name.len()..];
    }
    let shown = by_certificate(plan, request);
    if let (Some(shown), Some(said)) = (&shown, &cluster)
        && shown != said
    {
        return Err(denied(format!(
            "the certificate that was shown is that of the cluster {shown}"
        )));
    }
    let is_shown = shown.is_some();
    let cluster = cluster.or(shown);
    let known = |name: &String| plan.cluster(name).is_some();
    // Only who may be a node is told which clusters and upstreams there are.
    let address = request.extensions().get::<Client>().map(|client| client.0);
    let near = address.is_some_and(|address| {
        plan.clusters.iter().flat_map(|cluster| &cluster.nodes).any(|one| one.holds(address))
    });
    let may_know = plan.court.open || is_shown || near;
    match &cluster {
        Some(name) if !known(name) && may_know => {
            let name = name.chars().take(60).collect::<String>();
            let message = format!("this larder knows no cluster `{}`", name.escape_debug());
            return Err(denied(message));
        }
        None if plan.refuse_strangers => {
            let message = "this larder serves the nodes of its clusters; have the node's \
                 configuration written by `larder handoff write`";
            return Err(denied(message.into()));
        }
        _ => {}
    }
    let mut target = path.to_owned();
    let host = namespace.map(|namespace| percent_decode_str(namespace).decode_utf8_lossy());
    // A mirror file for the larder's own name, or for all names, leads our own images here as well.
    let own = host.as_deref().is_some_and(|host| is_own(plan, request, host));
    if let Some(host) = host.filter(|_| !own) {
        let shelf = host.parse::<Host>().ok().and_then(|host| app.cache.shelf_for(&host));
        let Some(shelf) = shelf else {
            let upstreams = app.cache.upstreams();
            let cached: Vec<&str> = upstreams.iter().map(|one| one.host().as_str()).collect();
            let host = host.chars().take(100).collect::<String>();
            let all = match cached.is_empty() {
                true => "nothing".to_owned(),
                false => cached.join(", "),
            };
            let all = if may_know { format!("; it caches: {all}") } else { String::new() };
            return Err(denied(format!(
                "no shelf of this larder caches {}{all}",
                host.escape_debug()
            )));
        };
        if let Some(rest) = path.strip_prefix("/v2/").filter(|rest| !rest.is_empty()) {
            target = format!("/v2/{}/{rest}", shelf.name);
        }
    }
    let rest: Vec<&str> =
        query.split('&').filter(|pair| !pair.is_empty() && !pair.starts_with("ns=")).collect();
    if !rest.is_empty() {
        target = format!("{target}?{}", rest.join("&"));
    }
    let believed = |name: &String| {
        let networks = plan.cluster(name).map(|cluster| cluster.nodes.as_slice());
        let near = |at| networks.unwrap_or_default().iter().any(|network| network.holds(at));
        plan.court.open || is_shown || address.is_some_and(near)
    };
    // Of our own images, the pod's key is asked for where it says more than its node does.
    let by_key =
        own && cluster.as_ref().is_none_or(|name| !believed(name) || plan.has_own_grants(name));
    go_to(request, &target)?;
    if by_key {
        return lengthen(app, request);
    }
    if let Some(cluster) = cluster.filter(known) {
        request.extensions_mut().insert(Asker { cluster, shown: is_shown });
    }
    request.extensions_mut().insert(FromNode);
    lengthen(app, request)
}

/// Whether a name is the larder's: its own, one of its others, or the one by which this request reaches it.
fn is_own<B>(plan: &Plan, request: &Request<B>, name: &str) -> bool {
    let Ok(name) = name.parse::<Host>() else { return false };
    let reached = request.headers().get(header::HOST).and_then(|host| host.to_str().ok());
    let reached = reached.or_else(|| request.uri().authority().map(Authority::as_str));
    plan.is_own(&name) || reached.and_then(|host| host.parse().ok()).as_ref() == Some(&name)
}

/// The cluster whose certificate was shown.
fn by_certificate<B>(plan: &Plan, request: &Request<B>) -> Option<String> {
    let ClientCertificate(shown) = request.extensions().get::<ClientCertificate>()?;
    let its = |cluster: &&PlannedCluster| cluster.certificate.as_ref() == Some(shown);
    plan.clusters.iter().find(its).map(|cluster| cluster.name.clone())
}

/// Writes a short name out: where references without a registry mean `HOST/PREFIX/…` of the upstream
/// that a shelf caches, `SHELF/kettle` is `SHELF/PREFIX/kettle`.
fn lengthen<B>(app: &App, request: &mut Request<B>) -> Result<(), ApiError> {
    let uri = request.uri();
    let Some((shelf, rest)) = uri.path().strip_prefix("/v2/").and_then(|rest| rest.split_once('/'))
    else {
        return Ok(());
    };
    let Some(prefix) = app.cache.shelf_named(shelf).and_then(|shelf| shelf.short.clone()) else {
        return Ok(());
    };
    let mut parts = rest.splitn(3, '/');
    let (Some(name), Some(kind), Some(last)) = (parts.next(), parts.next(), parts.next()) else {
        return Ok(());
    };
    let is_short = matches!(kind, "manifests" | "blobs" | "tags" | "referrers")
        && !last.contains('/')
        && prefix.as_str() != name;
    if !is_short {
        return Ok(());
    }
    let query = uri.query().map(|query| format!("?{query}")).unwrap_or_default();
    let target = format!("/v2/{shelf}/{prefix}/{rest}{query}");
    go_to(request, &target)
}

fn go_to<B>(request: &mut Request<B>, target: &str) -> Result<(), ApiError> {
    let wrong = || ApiError::new(Code::Unsupported, "there is nothing at this path");
    let mut parts = request.uri().clone().into_parts();
    parts.path_and_query = Some(target.parse::<PathAndQuery>().map_err(|_| wrong())?);
    *request.uri_mut() = Uri::from_parts(parts).map_err(|_| wrong())?;
    Ok(())
}

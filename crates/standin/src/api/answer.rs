//! What the stand-in cluster's API answers: who asks, what they may, and what comes of it, with the platform's own
//! refusals (Kubernetes API conventions, "Response Status Kind").

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::{HeaderMap, Method, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_core::objects::text;
use serde_json::{Value, json};

use super::Api;
use super::apply::{apply, patch, shown_path};
use super::kinds::{ApiPlace, ObjectKind, discovery, path_of};
use super::lists::{Query, list, table};
use crate::door::{AdmittedObject, admit};

/// What a request body may have, in bytes.
const MOST: usize = 1 << 20;
const JSON: &str = "application/json";

/// The platform's word for what went wrong.
pub(super) struct ApiFault(StatusCode, &'static str, String);

impl From<ApiFault> for Response {
    fn from(ApiFault(code, reason, message): ApiFault) -> Self {
        let mut body = json!({
            "kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Failure", "reason": reason,
            "message": message, "code": code.as_u16(),
        });
        // `KIND "NAME" is invalid: FIELD: WHY`
        if let (422, Some((named, why))) = (code.as_u16(), message.split_once(" is invalid: "))
            && let Some((kind, name)) = named.split_once(' ')
            && let Some((field, why)) = why.split_once(": ")
        {
            body["details"] = json!({
                "kind": kind, "name": name.trim_matches('"'),
                "causes": [{ "reason": "FieldValueInvalid", "message": why, "field": field }],
            });
        }
        (code, [(header::CONTENT_TYPE, JSON)], body.to_string()).into_response()
    }
}

fn answered(status: StatusCode, value: &Value) -> Response {
    (status, [(header::CONTENT_TYPE, JSON)], value.to_string()).into_response()
}

/// A time in RFC 3339, in seconds since 1970. None: it is none.
pub(super) fn seconds(text: &str) -> Option<i64> {
    text.parse::<jiff::Timestamp>().ok().map(jiff::Timestamp::as_second)
}

/// Now, in RFC 3339.
pub(crate) fn time() -> String {
    let now = jiff::Timestamp::from_second(larder_store::now() / 1000);
    now.map(|now| now.to_string()).unwrap_or_default()
}

pub(super) async fn answer(State(api): State<Api>, request: Request) -> Response {
    match respond(&api, request).await {
        Ok(response) => response,
        Err(wrong) => wrong.into(),
    }
}

async fn respond(api: &Api, request: Request) -> Result<Response, ApiFault> {
    let (parts, body) = request.into_parts();
    let path = parts.uri.path().trim_end_matches('/').to_owned();
    if path == "/openid/v1/jwks" {
        return Ok(answered(StatusCode::OK, &api.key_set()));
    }
    let shown = parts.headers.get(header::AUTHORIZATION).and_then(|it| it.to_str().ok());
    if shown.and_then(|shown| shown.strip_prefix("Bearer ")) != Some(api.operator_token()) {
        return Err(ApiFault(StatusCode::UNAUTHORIZED, "Unauthorized", "Unauthorized".into()));
    }
    if path == "/version" {
        let version = json!({
            "major": "1", "minor": "32", "gitVersion": "v1.32.0", "gitCommit": "", "gitTreeState": "clean",
            "buildDate": "2026-01-01T00:00:00Z", "goVersion": "", "compiler": "gc", "platform": "linux/amd64",
        });
        return Ok(answered(StatusCode::OK, &version));
    }
    if let Some(found) = discovery(&path) {
        return Ok(answered(StatusCode::OK, &found));
    }
    let query = Query::read(parts.uri.query());
    let body = axum::body::to_bytes(body, MOST).await.map_err(|_| {
        ApiFault(StatusCode::PAYLOAD_TOO_LARGE, "RequestEntityTooLarge", "limit is 1048576".into())
    })?;
    if path == "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews" {
        return Ok(answered(StatusCode::CREATED, &review(api, &body)));
    }
    let unknown = || {
        let message = "the server could not find the requested resource";
        ApiFault(StatusCode::NOT_FOUND, "NotFound", message.into())
    };
    let place = ApiPlace::read(&path).ok_or_else(unknown)?;
    let kind = place.kind().ok_or_else(unknown)?;
    let verb = match (&parts.method, place.name) {
        (&Method::GET, None) if query.is("watch") => "watch",
        (&Method::GET, None) => "list",
        (&Method::GET, Some(_)) => "get",
        (&Method::POST, _) => "create",
        (&Method::PUT, _) => "update",
        (&Method::PATCH, _) => "patch",
        (&Method::DELETE, Some(_)) => "delete",
        _ => {
            let message = "the server does not allow this method on the requested resource";
            return Err(ApiFault(
                StatusCode::METHOD_NOT_ALLOWED,
                "MethodNotAllowed",
                message.into(),
            ));
        }
    };
    permit(api, verb, kind, &place)?;
    let accepts = |form: &str| {
        let accept = parts.headers.get(header::ACCEPT).and_then(|it| it.to_str().ok());
        accept.is_some_and(|accept| accept.contains(form))
    };
    let form = parts.headers.get(header::CONTENT_TYPE).and_then(|it| it.to_str().ok());
    if form.is_some_and(|form| form.contains("protobuf")) {
        // The platform's own takes it; this one says that it does not.
        let message = "the body of the request was in an unknown format - accepted media types include: application/json, application/yaml (a stand-in reads no protocol buffers; use `kubectl apply`)";
        return Err(ApiFault(
            StatusCode::UNSUPPORTED_MEDIA_TYPE,
            "UnsupportedMediaType",
            message.into(),
        ));
    }
    match verb {
        "list" | "watch" | "get" => read(api, &path, kind, &place, &query, accepts("as=Table")),
        "create" => create(api, kind, &place, &query, &body).await,
        "update" | "patch" => change(api, &path, kind, &place, &query, &parts.headers, &body).await,
        _ => delete(api, &path, kind, &place, &query),
    }
}

/// Whether the operator may do it.
fn permit(api: &Api, verb: &str, kind: ObjectKind, place: &ApiPlace<'_>) -> Result<(), ApiFault> {
    let reads = matches!(verb, "get" | "list" | "watch");
    let namespace = match kind.name {
        "Namespace" => place.name,
        _ => place.namespace,
    };
    if api.may(reads, namespace) {
        return Ok(());
    }
    let named = place.name.map(|name| format!(" \"{name}\"")).unwrap_or_default();
    let scope = match namespace.filter(|_| kind.namespaced) {
        Some(space) => format!("in the namespace \"{space}\""),
        None => "at the cluster scope".to_owned(),
    };
    let (plural, group) = (kind.plural, kind.group);
    let message = format!(
        "{plural}{named} is forbidden: User \"operator\" cannot {verb} resource \"{plural}\" in API group \"{group}\" {scope}"
    );
    Err(ApiFault(StatusCode::FORBIDDEN, "Forbidden", message))
}

/// Whether the operator may do what it asks about.
fn review(api: &Api, body: &Bytes) -> Value {
    let mut asked: Value = serde_json::from_slice(body).unwrap_or_default();
    let about = &asked["spec"]["resourceAttributes"];
    let reads = text(about, &["verb"]).is_some_and(|verb| matches!(verb, "get" | "list" | "watch"));
    let namespace = text(about, &["namespace"]).filter(|space| !space.is_empty());
    let allowed = api.may(reads, namespace);
    asked["kind"] = json!("SelfSubjectAccessReview");
    asked["apiVersion"] = json!("authorization.k8s.io/v1");
    asked["status"] = json!({ "allowed": allowed });
    asked
}

fn absent(kind: ObjectKind, name: &str) -> ApiFault {
    let group = if kind.group.is_empty() { String::new() } else { format!(".{}", kind.group) };
    let message = format!("{}{group} \"{name}\" not found", kind.plural);
    ApiFault(StatusCode::NOT_FOUND, "NotFound", message)
}

fn read(
    api: &Api,
    path: &str,
    kind: ObjectKind,
    place: &ApiPlace<'_>,
    query: &Query,
    as_table: bool,
) -> Result<Response, ApiFault> {
    let now = larder_store::now() / 1000;
    if let Some(name) = place.name {
        let path = place.part.map_or(path, |part| path.strip_suffix(part).unwrap_or(path));
        let object =
            api.shown(path.trim_end_matches('/'), kind).ok_or_else(|| absent(kind, name))?;
        let version = api.version();
        return Ok(match as_table {
            true => answered(StatusCode::OK, &table(kind, &[object], version, now)),
            false => answered(StatusCode::OK, &object),
        });
    }
    let selected = |object: &Value| query.selects(object);
    // The followers are told of what changes from here on; those that name no version are told of all that is there first.
    let changes = api.changes();
    let (objects, version) = api.all(kind, place.namespace);
    let objects: Vec<Value> = objects.into_iter().filter(selected).collect();
    if query.is("watch") {
        let first = match query.get("resourceVersion") {
            None | Some("0") => objects,
            Some(_) => Vec::new(),
        };
        let namespace = place.namespace.map(str::to_owned);
        return Ok(watch(&first, changes, kind, namespace, query.clone()));
    }
    if as_table {
        return Ok(answered(StatusCode::OK, &table(kind, &objects, version, now)));
    }
    let version = version + u64::from(api.hurries() && query.get("continue").is_some());
    list(kind, &objects, query, version)
        .map(|list| answered(StatusCode::OK, &list))
        .map_err(|message| ApiFault(StatusCode::GONE, "Expired", message))
}

/// A stream of what changes, an event a line.
fn watch(
    first: &[Value],
    changes: tokio::sync::broadcast::Receiver<super::ApiChange>,
    kind: ObjectKind,
    namespace: Option<String>,
    query: Query,
) -> Response {
    let line = |word: &str, object: &Value| {
        Bytes::from(json!({ "type": word, "object": object }).to_string() + "\n")
    };
    let begin: Vec<Bytes> = first.iter().map(|object| line("ADDED", object)).collect();
    let end = query.get("timeoutSeconds").and_then(|it| it.parse().ok()).unwrap_or(300);
    let end = tokio::time::Instant::now() + std::time::Duration::from_secs(end);
    let stream = futures_util::stream::unfold(
        (begin.into_iter(), changes),
        move |(mut begin, mut changes)| {
            let (namespace, query) = (namespace.clone(), query.clone());
            async move {
                if let Some(bytes) = begin.next() {
                    return Some((Ok::<_, std::io::Error>(bytes), (begin, changes)));
                }
                loop {
                    let change = tokio::time::timeout_at(end, changes.recv()).await.ok()?.ok()?;
                    let place = ApiPlace::read(&change.path)?;
                    let its = place.kind().is_some_and(|it| it.name == kind.name)
                        && (namespace.is_none() || place.namespace == namespace.as_deref())
                        && query.selects(&change.object);
                    if its {
                        return Some((Ok(line(change.word, &change.object)), (begin, changes)));
                    }
                }
            }
        },
    );
    ([(header::CONTENT_TYPE, JSON)], Body::from_stream(stream)).into_response()
}

/// The object in a body.
fn object_in(body: &Bytes) -> Result<Value, ApiFault> {
    let read = std::str::from_utf8(body).ok().and_then(|it| larder_core::objects::read(it).ok());
    read.and_then(|all| all.into_iter().next()).filter(Value::is_object).ok_or_else(|| {
        ApiFault(
            StatusCode::BAD_REQUEST,
            "BadRequest",
            "the object provided is unrecognized".into(),
        )
    })
}

fn invalid(kind: ObjectKind, name: &str, why: &str) -> ApiFault {
    let message = format!("{} \"{name}\" is invalid: {why}", kind.name);
    ApiFault(StatusCode::UNPROCESSABLE_ENTITY, "Invalid", message)
}

/// What the platform itself asks of an object.
fn validate(kind: ObjectKind, name: &str, object: &Value) -> Result<(), ApiFault> {
    let wrong = |why: &str| Err(invalid(kind, name, why));
    match kind.name {
        "Deployment" | "StatefulSet" | "DaemonSet" => {
            let wanted = object["spec"]["selector"]["matchLabels"].as_object();
            let Some(wanted) = wanted.filter(|wanted| !wanted.is_empty()) else {
                return wrong("spec.selector: Required value");
            };
            let labels = &object["spec"]["template"]["metadata"]["labels"];
            if wanted.iter().any(|(key, value)| labels[key] != *value) {
                return wrong(
                    "spec.template.metadata.labels: Invalid value: `selector` does not match template `labels`",
                );
            }
        }
        "Pod" => {
            let containers = object["spec"]["containers"].as_array();
            let Some(containers) = containers.filter(|all| !all.is_empty()) else {
                return wrong("spec.containers: Required value");
            };
            for (at, container) in containers.iter().enumerate() {
                if text(container, &["name"]).is_none_or(str::is_empty) {
                    return wrong(&format!("spec.containers[{at}].name: Required value"));
                }
            }
        }
        _ => {}
    }
    Ok(())
}

/// An object as the platform keeps it.
fn kept(
    kind: ObjectKind,
    namespace: Option<&str>,
    mut object: Value,
    before: Option<&Value>,
) -> Value {
    object["kind"] = json!(kind.name);
    object["apiVersion"] = json!(kind.version());
    if let Some(space) = namespace {
        object["metadata"]["namespace"] = json!(space);
    }
    if let Some(metadata) = object["metadata"].as_object_mut() {
        metadata.remove("managedFields");
    }
    match before {
        Some(before) => {
            for key in ["uid", "creationTimestamp"] {
                object["metadata"][key] = before["metadata"][key].clone();
            }
        }
        None => {
            object["metadata"]["creationTimestamp"] = json!(time());
            object["metadata"]["uid"] = json!(super::uid());
        }
    }
    // Texts of a secret are kept encoded.
    if kind.name == "Secret"
        && let Some(texts) = object.as_object_mut().and_then(|it| it.remove("stringData"))
    {
        for (key, value) in texts.as_object().into_iter().flatten() {
            object["data"][key] = json!(STANDARD.encode(value.as_str().unwrap_or_default()));
        }
    }
    object
}

/// Lets an object in: the platform's own admission, then the webhooks. What the person who applied it is told.
async fn admitted(
    api: &Api,
    kind: ObjectKind,
    namespace: Option<&str>,
    mut object: Value,
) -> Result<(Value, Vec<String>), ApiFault> {
    if let (Some(space), "Pod") = (namespace, kind.name) {
        api.give_account(space, &mut object)
            .map_err(|message| ApiFault(StatusCode::FORBIDDEN, "Forbidden", message))?;
    }
    let AdmittedObject { object, warnings } =
        admit(api, &api.hosts(), object).await.map_err(|text| {
            let text = text.strip_prefix("Error from server ").unwrap_or(&text);
            match text.strip_prefix("(Forbidden): ") {
                Some(message) => ApiFault(StatusCode::FORBIDDEN, "Forbidden", message.to_owned()),
                None => {
                    let message = text.strip_prefix("(InternalError): ").unwrap_or(text);
                    ApiFault(StatusCode::INTERNAL_SERVER_ERROR, "InternalError", message.to_owned())
                }
            }
        })?;
    Ok((object, warnings))
}

/// An answer with what the person who applied something is told (RFC 9110, "Warning", as the platform uses it).
fn warned(mut response: Response, warnings: &[String]) -> Response {
    for warning in warnings {
        let text: String = warning.chars().filter(|c| !c.is_control()).collect();
        let text = text.replace('\\', "\\\\").replace('"', "\\\"");
        if let Ok(value) = format!("299 - \"{text}\"").parse() {
            response.headers_mut().append(header::WARNING, value);
        }
    }
    response
}

/// That a namespace is there.
fn check_namespace(api: &Api, namespace: Option<&str>) -> Result<(), ApiFault> {
    match namespace {
        Some(space) if api.get(&format!("/api/v1/namespaces/{space}")).is_none() => {
            let message = format!("namespaces \"{space}\" not found");
            Err(ApiFault(StatusCode::NOT_FOUND, "NotFound", message))
        }
        _ => Ok(()),
    }
}

fn manager_of(query: &Query) -> &str {
    query.get("fieldManager").unwrap_or("unknown")
}

async fn create(
    api: &Api,
    kind: ObjectKind,
    place: &ApiPlace<'_>,
    query: &Query,
    body: &Bytes,
) -> Result<Response, ApiFault> {
    check_namespace(api, place.namespace)?;
    let mut object = object_in(body)?;
    let made = text(&object, &["metadata", "generateName"])
        .map(|start| format!("{start}{}", &super::uid()[..5]));
    if text(&object, &["metadata", "name"]).is_none()
        && let Some(made) = made
    {
        object["metadata"]["name"] = json!(made);
    }
    let Some(name) = text(&object, &["metadata", "name"]).map(str::to_owned) else {
        let why = "metadata.name: Required value: name or generateName is required";
        return Err(invalid(kind, "", why));
    };
    let path = path_of(kind, place.namespace, &name);
    if api.get(&path).is_some() {
        let message = format!("{} \"{name}\" already exists", kind.plural);
        return Err(ApiFault(StatusCode::CONFLICT, "AlreadyExists", message));
    }
    validate(kind, &name, &object)?;
    let object = kept(kind, place.namespace, object, None);
    let (object, warnings) = admitted(api, kind, place.namespace, object).await?;
    if !query.is("dryRun") {
        api.update(&path, object.clone(), manager_of(query));
        if kind.name == "Namespace" {
            api.add_account(&name, "default");
        }
    }
    let shown = api.shown(&path, kind).unwrap_or(object);
    Ok(warned(answered(StatusCode::CREATED, &shown), &warnings))
}

#[allow(clippy::too_many_arguments)]
async fn change(
    api: &Api,
    path: &str,
    kind: ObjectKind,
    place: &ApiPlace<'_>,
    query: &Query,
    headers: &HeaderMap,
    body: &Bytes,
) -> Result<Response, ApiFault> {
    // Long: one kind of change after the other.
    let name = place.name.unwrap_or_default();
    check_namespace(api, place.namespace)?;
    let form =
        headers.get(header::CONTENT_TYPE).and_then(|it| it.to_str().ok()).unwrap_or_default();
    let form = form.split(';').next().unwrap_or_default().trim();
    let given = object_in(body)?;
    let before = api.get(path);
    let manager = manager_of(query);
    let (after, managers) = match form {
        "application/apply-patch+yaml" => {
            if query.get("fieldManager").is_none() {
                let why = "PatchOptions.meta.k8s.io \"\" is invalid: fieldManager: Required value: is required for apply patch";
                return Err(ApiFault(StatusCode::UNPROCESSABLE_ENTITY, "Invalid", why.into()));
            }
            if text(&given, &["metadata", "name"]) != Some(name) {
                let message = "the name of the object does not match the name on the URL";
                return Err(ApiFault(StatusCode::BAD_REQUEST, "BadRequest", message.into()));
            }
            let managers = api.managers(path);
            let base = before.clone().unwrap_or(Value::Null);
            let given = kept(kind, place.namespace, given, before.as_ref());
            let mut own = given.clone();
            if let Some(metadata) = own["metadata"].as_object_mut() {
                metadata.remove("uid");
                metadata.remove("creationTimestamp");
            }
            let force = query.is("force");
            let (mut after, managers) =
                apply(&base, &managers, &own, manager, force).map_err(|conflicts| {
                    let named: Vec<String> = conflicts
                        .iter()
                        .map(|(who, path)| {
                            let version = kind.version();
                            format!("conflict with \"{who}\" using {version}: {}", shown_path(path))
                        })
                        .collect();
                    let many = if named.len() == 1 { "" } else { "s" };
                    let message = format!(
                        "Apply failed with {} conflict{many}: {}",
                        named.len(),
                        named.join("\n")
                    );
                    ApiFault(StatusCode::CONFLICT, "Conflict", message)
                })?;
            for key in ["uid", "creationTimestamp"] {
                after["metadata"][key] = given["metadata"][key].clone();
            }
            (after, Some(managers))
        }
        "application/merge-patch+json" | "application/strategic-merge-patch+json" => {
            let strategic = form.contains("strategic");
            let before = before.clone().ok_or_else(|| absent(kind, name))?;
            let after = patch(before.clone(), &given, strategic);
            (kept(kind, place.namespace, after, Some(&before)), None)
        }
        JSON => {
            let before = before.clone().ok_or_else(|| absent(kind, name))?;
            (kept(kind, place.namespace, given, Some(&before)), None)
        }
        _ => {
            let message = "the body of the request was in an unknown format - accepted media types include: application/json-patch+json, application/merge-patch+json, application/apply-patch+yaml";
            return Err(ApiFault(
                StatusCode::UNSUPPORTED_MEDIA_TYPE,
                "UnsupportedMediaType",
                message.into(),
            ));
        }
    };
    if let Some(before) = &before {
        let typed = |it: &Value| text(it, &["type"]).unwrap_or("Opaque").to_owned();
        if kind.name == "Secret" && typed(before) != typed(&after) {
            return Err(invalid(kind, name, "type: Invalid value: field is immutable"));
        }
    }
    if place.part.is_none() {
        validate(kind, name, &after)?;
    }
    let (after, warnings) = match kind.name {
        // Of a pod that is there only what is not its specification changes.
        "Pod" if before.is_some() => (after, Vec::new()),
        _ => admitted(api, kind, place.namespace, after).await?,
    };
    if !query.is("dryRun") {
        match managers {
            Some(managers) => api.store(path, after.clone(), Some(managers)),
            None => api.update(path, after.clone(), manager),
        }
    }
    let status = if before.is_none() { StatusCode::CREATED } else { StatusCode::OK };
    let shown = api.shown(path, kind).unwrap_or(after);
    Ok(warned(answered(status, &shown), &warnings))
}

fn delete(
    api: &Api,
    path: &str,
    kind: ObjectKind,
    place: &ApiPlace<'_>,
    query: &Query,
) -> Result<Response, ApiFault> {
    let name = place.name.unwrap_or_default();
    let found = api.get(path).ok_or_else(|| absent(kind, name))?;
    if !query.is("dryRun") {
        if kind.name == "Namespace" {
            api.remove_below(path);
        }
        api.remove(path);
    }
    let details = json!({ "name": name, "kind": kind.plural, "uid": found["metadata"]["uid"] });
    let done = json!({ "kind": "Status", "apiVersion": "v1", "metadata": {}, "status": "Success", "details": details });
    Ok(answered(StatusCode::OK, &done))
}

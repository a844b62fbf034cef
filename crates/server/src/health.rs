//! Is it alive, and can it do its work? For what restarts it, and for what sends it clients.

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse as _, Response};

use crate::app::App;

/// It answers; that is all.
pub(crate) fn alive() -> Response {
    plain(StatusCode::OK, "alive\n".to_owned())
}

/// Whether the store can be written and the ledger answers, each in a line. A larder whose disk has only
/// its reserve left still serves pulls, so it is ready, and says so.
pub(crate) async fn ready(app: &App) -> Response {
    let mut lines = Lines { fine: true, text: String::new() };
    if app.peers.is_stopping() {
        lines.say("stop", Some("it is about to end"));
    }
    let told = |error: larder_store::StoreError| {
        tracing::error!(%error, "not ready");
        "fails; the log has the cause"
    };
    let room = app.store.check_room(0).await;
    let full = matches!(room, Err(larder_store::StoreError::Full { .. }));
    if full {
        lines.say("store", None);
    } else {
        lines.say("store", app.store.probe().await.err().map(told));
    }
    match app.store.away() {
        None => lines.say("ledger", app.store.repositories(None, 1).await.err().map(told)),
        // All that share it would be gone at once: what is known is given meanwhile.
        Some((since, most)) if since < most => lines.add(&format!(
            "ledger: away for {} seconds; what is known is given for {} seconds more",
            since.as_secs(),
            most.saturating_sub(since).as_secs()
        )),
        Some((since, _)) => {
            lines.say("ledger", Some(&format!("away for {} seconds", since.as_secs())));
        }
    }
    match room {
        Ok(()) => lines.add("room: ok"),
        Err(error) => lines.add(&format!("room: {error}; pushes are refused, pulls go on")),
    }
    if app.store.is_shared() {
        lines.add(&app.peers.line(&app.plan().fingerprint));
    }
    // It gives what it has: it stays ready.
    if let Ok(Some(state)) = app.store.move_state().await
        && state.stage != larder_store::MoveStage::Copying
    {
        lines.add("writes: the store moves to another place; pushes are refused, pulls go on");
    }
    let status = if lines.fine { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    plain(status, lines.text)
}

/// What is said, and whether all of it is well.
struct Lines {
    fine: bool,
    text: String,
}

impl Lines {
    /// What makes it unready where there is trouble with it.
    fn say(&mut self, what: &str, trouble: Option<&str>) {
        self.fine &= trouble.is_none();
        self.add(&format!("{what}: {}", trouble.unwrap_or("ok")));
    }

    fn add(&mut self, line: &str) {
        self.text.push_str(line);
        self.text.push('\n');
    }
}

pub(crate) fn plain(status: StatusCode, text: String) -> Response {
    let mut response = (status, text).into_response();
    let kind = HeaderValue::from_static("text/plain; charset=utf-8");
    response.headers_mut().insert(header::CONTENT_TYPE, kind);
    response
}

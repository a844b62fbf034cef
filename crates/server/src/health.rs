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
    let mut fine = true;
    let mut lines = String::new();
    let mut say = |what: &str, trouble: Option<String>| {
        fine &= trouble.is_none();
        lines.push_str(&format!("{what}: {}\n", trouble.as_deref().unwrap_or("ok")));
    };
    let told = |error: larder_store::StoreError| {
        tracing::error!(%error, "not ready");
        "fails; the log has the cause".to_owned()
    };
    let room = app.store.check_room(0).await;
    let full = matches!(room, Err(larder_store::StoreError::Full { .. }));
    if full {
        say("store", None);
    } else {
        say("store", app.store.probe().await.err().map(told));
    }
    say("ledger", app.store.repositories(None, 1).await.err().map(told));
    match room {
        Ok(()) => lines.push_str("room: ok\n"),
        Err(error) => lines.push_str(&format!("room: {error}; pushes are refused, pulls go on\n")),
    }
    // It gives what it has: it stays ready.
    if let Ok(Some(state)) = app.store.move_state().await
        && state.stage != larder_store::MoveStage::Copying
    {
        lines.push_str(
            "writes: the store moves to another place; pushes are refused, pulls go on\n",
        );
    }
    let status = if fine { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    plain(status, lines)
}

pub(crate) fn plain(status: StatusCode, text: String) -> Response {
    let mut response = (status, text).into_response();
    let kind = HeaderValue::from_static("text/plain; charset=utf-8");
    response.headers_mut().insert(header::CONTENT_TYPE, kind);
    response
}

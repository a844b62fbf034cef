//! Content that nobody may have: what an operator has blocked is refused at once, wherever it is asked for.

use larder_core::access::stop::Stop;
use larder_core::digest::Digest;
use larder_store::{Moment, RecordKind};

use crate::access::{Caller, RecordSubject, RecordedDeed};
use crate::app::App;
use crate::error::{ApiError, Code};

/// The sentence for those who are refused.
pub(crate) fn sentence(what: &str, stop: &Stop) -> String {
    format!("{what} is blocked in this larder: {}", stop.because)
}

/// Whether some content may be answered without a look. False: it is blocked, or nobody can tell at once.
pub(crate) fn passes(app: &App, moment: &Moment, digest: &Digest) -> bool {
    app.gate.keys.at(moment).is_some_and(|keys| keys.stops.content(digest).is_none())
}

/// Refuses content that is blocked; what is refused is written down.
pub(crate) async fn check<'d>(
    app: &App,
    caller: Option<&Caller>,
    about: &str,
    digests: impl IntoIterator<Item = &'d Digest>,
) -> Result<(), ApiError> {
    let keys = app.gate.keys.now(&app.store).await?;
    if keys.stops.has_no_content() {
        return Ok(());
    }
    let Some((digest, stop)) = digests
        .into_iter()
        .find_map(|digest| keys.stops.content(digest).map(|stop| (digest, stop)))
    else {
        return Ok(());
    };
    let message = sentence(digest.short(), stop);
    let number = caller.map(|caller| {
        let mut happened = RecordedDeed::of(caller, RecordKind::Refused, &message);
        happened.reference = Some(RecordSubject::Text(about.to_owned()));
        app.recorder.note(&happened)
    });
    let number = number.map(|number| number.to_string()).unwrap_or_default();
    app.meters.refused("blocked", "");
    Err(ApiError::new(Code::Denied, format!("{message}{number}")))
}

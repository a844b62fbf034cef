//! Events for others: made from the record's lines and from what needs a decision, and posted to who wants them.

use std::time::Duration;

use larder_client::{Web, WebOptions};
use larder_core::notice::{About, ConcernChange, Event, EventData, MEDIA_TYPE, Turn};
use larder_store::RecordEntry;

use crate::config::{Config, NotifyConfig};
use crate::failure::Failure;
use crate::output::time;

/// How long a receiver may take.
const PATIENCE: Duration = Duration::from_secs(15);

/// Whom events are posted to.
pub struct Receiver {
    web: Web,
    signing: Option<larder_core::notice::SigningSecret>,
}

/// Why a receiver does not have an event.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undelivered {
    pub cause: String,
    /// How long it wants to be left alone.
    pub pause: Option<Duration>,
    /// Whether it says that it never wants to hear of anything again.
    pub for_good: bool,
}

impl From<String> for Undelivered {
    fn from(cause: String) -> Self {
        Self { cause, pause: None, for_good: false }
    }
}

impl Receiver {
    /// Reads what is sent along with events; nothing is sent yet.
    pub fn new(one: &NotifyConfig, config: &Config) -> Result<Self, Failure> {
        let secrets = one.secrets(config)?;
        let address = one.address();
        let address = address.as_ref().map_or("", |address| address.as_str());
        let options = WebOptions {
            ca: secrets.ca,
            authorization: secrets.authorization,
            ..WebOptions::default()
        };
        let web = Web::new(address, options).map_err(|cause| {
            let what = format!("cannot tell {}", one.name());
            Failure::usage(what, cause, "check `url` and `ca` in its [[notify]]")
        })?;
        Ok(Self { web, signing: secrets.signing })
    }

    /// Posts an event. The receiver has it when its answer is one of success (RFC 9110, section 15.3).
    pub async fn tell(&self, event: &Event, at: i64) -> Result<(), Undelivered> {
        let body = event.bytes().map_err(|error| error.to_string())?;
        let headers = self.signing.as_ref().map(|key| key.headers(&event.id, at / 1000, &body));
        let headers = headers.as_ref().map_or(&[][..], |headers| headers);
        let content = Some((MEDIA_TYPE, body));
        let sent = tokio::time::timeout(PATIENCE, self.web.send_with("POST", "", content, headers));
        let answer = sent
            .await
            .map_err(|_| format!("it has not answered for {} s", PATIENCE.as_secs()))??;
        match answer.status {
            200..=299 => Ok(()),
            status => Err(Undelivered {
                cause: format!("it answers {status}"),
                pause: answer.retry_after.map(Duration::from_secs),
                for_good: status == 410,
            }),
        }
    }
}

/// The event that a line of the record is.
pub fn of_entry(config: &Config, about: About, entry: &RecordEntry) -> Event {
    let filled = |text: &String| Some(text.clone()).filter(|text| !text.is_empty());
    let data = EventData {
        larder: config.larder.name.clone(),
        about: about.word(),
        turn: Turn::Happened.word(),
        text: entry.text.clone(),
        number: Some(entry.number.clone()),
        who: filled(&entry.who),
        by: entry.by.clone().or_else(|| entry.origin.clone()),
        address: entry.address.clone(),
        reference: entry.reference.clone(),
        line: entry.line.clone(),
        ..EventData::default()
    };
    let (id, subject) = (entry.number.clone(), entry.reference.clone());
    Event::new(source(config), id, about.word(), subject, time(entry.first), data)
}

/// The event that stands for many lines of one kind; `last` is the last of them.
pub fn of_many(config: &Config, about: About, count: usize, last: &RecordEntry) -> Event {
    let mut event = of_entry(config, about, last);
    event.id = format!("{}/{count}", event.id);
    event.data.text = format!("{count} more, the last: {}", event.data.text);
    event.data.remedy = Some(format!("larder log --kind {} --since 1h", last.kind.word()));
    event.data.stands_for = Some(count);
    event
}

/// The event that a change of what needs a decision is. `at`: when it was seen.
pub fn of_change(config: &Config, change: &ConcernChange<'_>, at: i64) -> Event {
    let concern = change.concern;
    let data = EventData {
        larder: config.larder.name.clone(),
        about: change.about.word(),
        turn: change.turn.word(),
        text: concern.map_or_else(
            || format!("{} needs no decision any more", change.name),
            |concern| concern.text.clone(),
        ),
        urgency: concern.map(|concern| concern.urgency.word()),
        remedy: concern.map(|one| one.remedy.clone()).filter(|remedy| !remedy.is_empty()),
        since_at: concern.and_then(|concern| concern.since).map(time),
        ..EventData::default()
    };
    let id = format!("{}/{}/{at}", change.name, change.turn.word());
    let subject = Some(change.name.to_owned());
    Event::new(source(config), id, change.about.word(), subject, time(at), data)
}

/// An event by which a receiver is tried.
pub fn trial(config: &Config, at: i64) -> Event {
    let data = EventData {
        larder: config.larder.name.clone(),
        about: TRIAL,
        turn: Turn::Happened.word(),
        text: "`larder check --tell` tries whether events arrive".to_owned(),
        ..EventData::default()
    };
    Event::new(source(config), format!("{TRIAL}/{at}"), TRIAL, None, time(at), data)
}

/// What an event is about that tries a receiver.
const TRIAL: &str = "trial";

fn source(config: &Config) -> String {
    config.larder.url.endpoint.to_string()
}

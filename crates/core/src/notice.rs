//! What others are told when it happens: events in the JSON form of CloudEvents 1.0, sent and signed as the common rules
//! for webhooks say.

use std::collections::BTreeMap;
use std::fmt;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::hmac;
use serde::Serialize;

use crate::rounds::{Concern, Urgency};

/// What an event is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum About {
    /// Something was not let through.
    Refused,
    /// Something was let through although a rule warns of it.
    Warned,
    /// Somebody signed in with a wrong or expired secret.
    SignInFailed,
    /// An image was pushed.
    Pushed,
    /// An image was brought in.
    BroughtIn,
    /// An image was copied here, or from here.
    Copied,
    /// An image was promoted.
    Promoted,
    /// An image came by parcel.
    Unpacked,
    /// An image was signed.
    Signed,
    /// An image was dropped.
    Dropped,
    /// A key was issued, rotated or revoked.
    Key,
    /// The configuration was read anew.
    Configuration,
    /// A tag moved at its upstream, or is gone there.
    Moved,
    /// An image could not be brought in.
    IntakeFailed,
    /// An image that deployments or rules want is not there, or lacks something.
    Lacking,
    /// A key ends soon.
    KeyEnds,
    /// The certificate that is served ends soon.
    CertificateEnds,
    /// A signature, or what it rests on, ends soon.
    SignatureEnds,
    /// An image is not signed as it should be, or a signer cannot be verified.
    Signature,
    /// Something that was published touches images that run.
    Advisory,
    /// A system gets no mends any more, or will not soon.
    SystemEnds,
    /// What is published was not taken in for long.
    Feed,
    /// An exception from a rule ends.
    ExceptionEnds,
    /// The disk gets full.
    Room,
    /// A shelf or an account gets near to its quota.
    Quota,
    /// An upstream cannot be reached or refuses us.
    Upstream,
    /// A larder that serves is not as it should be.
    Serving,
    /// A backup is due.
    Backup,
    /// Everything is to be read again.
    Verify,
    /// Something that is held is damaged or missing.
    Damage,
    /// A cluster's handoff is not as it should be.
    Handoff,
    /// Something waits to be tidied, or lies unused.
    Tidy,
    /// Deployments name images that are not covered, or the survey is old.
    Survey,
    /// The lock is not as the configuration wants it.
    Lock,
    /// The record is to be exported.
    Export,
    /// The store is being moved.
    StoreMove,
    /// Somebody asks in a cluster's name that nobody knows.
    UnknownCluster,
    /// A receiver of events cannot be told.
    Notify,
}

/// Each with its word, and with the words under which the record and the rounds have it.
const ALL: &[(About, &str, &[&str], &[&str])] = &[
    (About::Refused, "refused", &["refused"], &[]),
    (About::Warned, "warned", &["warned"], &[]),
    (About::SignInFailed, "sign-in-failed", &["failed"], &[]),
    (About::Pushed, "pushed", &["push"], &[]),
    (About::BroughtIn, "brought-in", &["intake"], &[]),
    (About::Copied, "copied", &["copy"], &[]),
    (About::Promoted, "promoted", &["promote"], &[]),
    (About::Unpacked, "unpacked", &["unpack"], &[]),
    (About::Signed, "signed", &["sign"], &[]),
    (About::Dropped, "dropped", &["delete"], &[]),
    (About::Key, "key", &["key"], &[]),
    (About::Configuration, "configuration", &["config"], &[]),
    (About::Moved, "moved", &[], &["moved"]),
    (About::IntakeFailed, "intake-failed", &[], &["intake"]),
    (About::Lacking, "lacking", &[], &["lacking"]),
    (About::KeyEnds, "key-ends", &[], &["key"]),
    (About::CertificateEnds, "certificate-ends", &[], &["certificate"]),
    (About::SignatureEnds, "signature-ends", &[], &["ending"]),
    (About::Signature, "signature", &[], &["signed", "signer"]),
    (About::Advisory, "advisory", &[], &["advisory"]),
    (About::SystemEnds, "system-ends", &[], &["system"]),
    (About::Feed, "feed", &[], &["feed"]),
    (About::ExceptionEnds, "exception-ends", &[], &["exception"]),
    (About::Room, "room", &[], &["room"]),
    (About::Quota, "quota", &[], &["quota"]),
    (About::Upstream, "upstream", &[], &["upstream"]),
    (About::Serving, "serving", &[], &["serving"]),
    (About::Backup, "backup", &[], &["backup"]),
    (About::Verify, "verify", &[], &["verify"]),
    (About::Damage, "damage", &[], &["damage"]),
    (About::Handoff, "handoff", &[], &["handoff"]),
    (About::Tidy, "tidy", &[], &["tidy", "unused"]),
    (About::Survey, "survey", &[], &["survey"]),
    (About::Lock, "lock", &[], &["lock"]),
    (About::Export, "export", &[], &["export"]),
    (About::StoreMove, "store-move", &[], &["move"]),
    (About::UnknownCluster, "unknown-cluster", &[], &["unknown"]),
    (About::Notify, "notify", &[], &["notify"]),
];

impl About {
    /// The words of all, in their order.
    pub fn words() -> impl Iterator<Item = &'static str> {
        ALL.iter().map(|(_, word, ..)| *word)
    }

    /// As it is written.
    pub fn word(self) -> &'static str {
        ALL.iter().find(|(about, ..)| *about == self).map_or("", |(_, word, ..)| word)
    }

    /// Of its word.
    pub fn of(word: &str) -> Option<Self> {
        ALL.iter().find(|(_, own, ..)| *own == word).map(|(about, ..)| *about)
    }

    /// Of a kind of lines of the record. None: nobody is told of these.
    pub fn of_record(kind: &str) -> Option<Self> {
        ALL.iter().find(|(_, _, kinds, _)| kinds.contains(&kind)).map(|(about, ..)| *about)
    }

    /// Whether strangers can make it happen as often as they like: then not each time is told apart.
    pub fn is_of_strangers(self) -> bool {
        matches!(self, Self::Refused | Self::Warned | Self::SignInFailed)
    }

    /// Whether it is something that lasts, and is looked for among what needs a decision.
    pub fn lasts(self) -> bool {
        ALL.iter().any(|(about, .., names)| *about == self && !names.is_empty())
    }

    /// Of what the rounds name so, such as `key/turbine-hall`. None: the record's lines tell it already.
    pub fn of_concern(name: &str) -> Option<Self> {
        let first = name.split('/').next().unwrap_or_default();
        ALL.iter().find(|(.., names)| names.contains(&first)).map(|(about, ..)| *about)
    }
}

impl fmt::Display for About {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// How something stands that lasts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Turn {
    /// It was done, once.
    Happened,
    /// It needs a decision from now on.
    Began,
    /// It is more urgent than it was.
    Worse,
    /// It needs none any more.
    Ended,
}

impl Turn {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Happened => "happened",
            Self::Began => "began",
            Self::Worse => "worse",
            Self::Ended => "ended",
        }
    }
}

/// How often what strangers make happen is told apart, of each kind.
#[derive(Debug, Default)]
pub struct Pace {
    /// The minute that runs: when it began, and what was told in it.
    since: Option<Instant>,
    told: BTreeMap<About, u32>,
}

impl Pace {
    /// Events of one kind in a minute.
    pub const MOST: u32 = 30;

    /// Whether one more may be told by itself.
    pub fn allows(&mut self, about: About, now: Instant) -> bool {
        if self.since.is_none_or(|since| now - since >= Duration::from_secs(60)) {
            self.since = Some(now);
            self.told.clear();
        }
        let told = self.told.entry(about).or_default();
        *told += 1;
        !about.is_of_strangers() || *told <= Self::MOST
    }
}

/// That something which needs a decision has changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConcernChange<'c> {
    pub about: About,
    pub turn: Turn,
    /// Its name.
    pub name: &'c str,
    /// None: it ended.
    pub concern: Option<&'c Concern>,
}

/// What somebody is to be told of: what needs a decision now, against what was told by name. What is less urgent than
/// `least` is not told; what was told ends only when it is not there at all.
pub fn changes<'c>(
    told: &'c BTreeMap<String, Urgency>,
    open: &'c [Concern],
    wanted: &[About],
    least: Urgency,
) -> Vec<ConcernChange<'c>> {
    let mut changes = Vec::new();
    for concern in open {
        let Some(about) = About::of_concern(&concern.name).filter(|one| wanted.contains(one))
        else {
            continue;
        };
        let turn = match told.get(&concern.name) {
            None if concern.urgency <= least => Turn::Began,
            // The worst is the least.
            Some(before) if concern.urgency < *before => Turn::Worse,
            _ => continue,
        };
        changes.push(ConcernChange { about, turn, name: &concern.name, concern: Some(concern) });
    }
    for name in told.keys().filter(|name| !open.iter().any(|one| one.name == **name)) {
        if let Some(about) = About::of_concern(name) {
            changes.push(ConcernChange { about, turn: Turn::Ended, name, concern: None });
        }
    }
    changes
}

/// An event (CloudEvents 1.0, JSON Event Format, section 3). Attributes of ours: none.
#[derive(Debug, Clone, Serialize)]
pub struct Event {
    specversion: &'static str,
    /// With `source` it is unique: whoever gets it twice has it once.
    pub id: String,
    /// The larder's address.
    source: String,
    r#type: String,
    /// The image, the key or the name of what needs a decision. None: nothing in particular.
    #[serde(skip_serializing_if = "Option::is_none")]
    subject: Option<String>,
    /// RFC 3339.
    time: String,
    datacontenttype: &'static str,
    pub data: EventData,
}

/// What happened.
#[derive(Debug, Clone, Default, Serialize)]
pub struct EventData {
    /// The larder's name.
    pub larder: String,
    /// A word of [`About`].
    pub about: &'static str,
    /// `happened`, `began`, `worse`, `ended`.
    pub turn: &'static str,
    /// In a sentence.
    pub text: String,
    /// `urgent`, `soon`, `notice`. None: it happened, or ended.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub urgency: Option<&'static str>,
    /// The command to type.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// Since when, RFC 3339.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since_at: Option<String>,
    /// The number by which `larder log` finds the line of the record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub number: Option<String>,
    /// Who, by the user's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub who: Option<String>,
    /// By which key, service account or command.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// From which address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<String>,
    /// What it was about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reference: Option<String>,
    /// The line of the configuration that decided.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<String>,
    /// How many of these it stands for; what else is said is of the last one. None: itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stands_for: Option<usize>,
}

/// The media type of an event (CloudEvents 1.0, JSON Event Format, section 3).
pub const MEDIA_TYPE: &str = "application/cloudevents+json; charset=utf-8";

/// Before what an event is about, in its type.
const TYPE: &str = "iron-larder";

impl Event {
    /// An event of a larder. `source`: its address. `time`: RFC 3339.
    pub fn new(
        source: String,
        id: String,
        about: &str,
        subject: Option<String>,
        time: String,
        data: EventData,
    ) -> Self {
        let (specversion, datacontenttype) = ("1.0", "application/json");
        let r#type = format!("{TYPE}.{about}");
        let subject = subject.filter(|subject| !subject.is_empty());
        Self { specversion, id, source, r#type, subject, time, datacontenttype, data }
    }

    /// As it is sent.
    ///
    /// # Errors
    /// Never, as all of it is text.
    pub fn bytes(&self) -> Result<Vec<u8>, serde_json::Error> {
        serde_json::to_vec(self)
    }
}

/// What a receiver and we know alone: with it each request is signed.
#[derive(Clone)]
pub struct SigningSecret(hmac::Key);

/// Why a text is no secret to sign with.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SigningSecretError {
    #[error("it has {0} bytes; 16 at least are needed, and 32 random ones are good")]
    Short(usize),
    #[error("behind `whsec_` stands no base64")]
    Encoding,
}

impl SigningSecret {
    /// The fewest bytes that are taken.
    const LEAST: usize = 16;

    /// Reads one: text as it is, or base64 behind `whsec_`.
    ///
    /// # Errors
    /// It is too short, or no base64.
    pub fn parse(text: &str) -> Result<Self, SigningSecretError> {
        let text = text.trim();
        let bytes = match text.strip_prefix("whsec_") {
            Some(encoded) => STANDARD.decode(encoded).map_err(|_| SigningSecretError::Encoding)?,
            None => text.as_bytes().to_vec(),
        };
        if bytes.len() < Self::LEAST {
            return Err(SigningSecretError::Short(bytes.len()));
        }
        Ok(Self(hmac::Key::new(hmac::HMAC_SHA256, &bytes)))
    }

    /// The fields that sign a request: its id, when it was sent in seconds since 1970, and the HMAC-SHA256 of
    /// `ID.TIME.BODY` in base64 behind `v1,`.
    pub fn headers(&self, id: &str, seconds: i64, body: &[u8]) -> [(&'static str, String); 3] {
        let mut context = hmac::Context::with_key(&self.0);
        context.update(format!("{id}.{seconds}.").as_bytes());
        context.update(body);
        let signature = STANDARD.encode(context.sign());
        [
            ("webhook-id", id.to_owned()),
            ("webhook-timestamp", seconds.to_string()),
            ("webhook-signature", format!("v1,{signature}")),
        ]
    }
}

impl fmt::Debug for SigningSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SigningSecret(…)")
    }
}

/// How long to wait after so many failures in a row; what the receiver asks for counts, within an hour.
pub fn pause(failures: u32, asked: Option<Duration>) -> Duration {
    const FIRST: Duration = Duration::from_secs(5);
    const LONGEST: Duration = Duration::from_secs(5 * 60);
    const ASKED: Duration = Duration::from_secs(3600);
    let own = FIRST.saturating_mul(1 << failures.saturating_sub(1).min(10)).min(LONGEST);
    own.max(asked.unwrap_or_default().min(ASKED))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_strangers_do_is_told_so_often_and_the_rest_always() {
        let (mut pace, now) = (Pace::default(), Instant::now());
        let mut told = |about, at| (0..100).filter(|_| pace.allows(about, at)).count();
        assert_eq!(told(About::Refused, now), 30);
        assert_eq!(told(About::SignInFailed, now + Duration::from_secs(59)), 30);
        assert_eq!(told(About::Refused, now + Duration::from_secs(59)), 0);
        assert_eq!(told(About::Pushed, now), 100);
        assert_eq!(told(About::Refused, now + Duration::from_secs(60)), 30);
    }

    fn concern(name: &str, urgency: Urgency) -> Concern {
        let (text, remedy) = ("text".into(), String::new());
        Concern { name: name.into(), urgency, since: None, text, remedy }
    }

    #[test]
    fn every_word_is_its_own() {
        for (about, word, ..) in ALL {
            assert_eq!(About::of(word), Some(*about));
            assert_eq!(about.word(), *word);
        }
        assert!(About::Room.lasts() && !About::Refused.lasts());
        assert_eq!(About::of_record("delete"), Some(About::Dropped));
        assert_eq!(About::of_record("pull"), None);
        assert_eq!(About::of_concern("key/turbine-hall/scada"), Some(About::KeyEnds));
        assert_eq!(About::of_concern("refused/turbine-hall/x"), None);
    }

    #[test]
    fn what_lasts_is_told_when_it_begins_gets_worse_and_ends() {
        let wanted = [About::Room, About::KeyEnds];
        let mut told = BTreeMap::new();
        let open = [
            concern("room", Urgency::Soon),
            concern("backup", Urgency::Urgent),
            concern("key/a", Urgency::Notice),
        ];
        let of = |told: &BTreeMap<String, Urgency>, open: &[Concern], least| {
            let changes = changes(told, open, &wanted, least);
            let all = changes.iter().map(|one| format!("{} {}", one.name, one.turn.word()));
            all.collect::<Vec<_>>()
        };
        assert_eq!(of(&told, &open, Urgency::Notice), ["room began", "key/a began"]);
        assert_eq!(of(&told, &open, Urgency::Soon), ["room began"]);
        told.insert("room".to_owned(), Urgency::Soon);
        assert_eq!(of(&told, &open, Urgency::Soon), [""; 0]);
        let worse = [concern("room", Urgency::Urgent)];
        assert_eq!(of(&told, &worse, Urgency::Soon), ["room worse"]);
        let better = [concern("room", Urgency::Notice)];
        assert_eq!(of(&told, &better, Urgency::Soon), [""; 0]);
        assert_eq!(of(&told, &[], Urgency::Soon), ["room ended"]);
    }

    #[test]
    fn a_request_is_signed_as_the_rules_for_webhooks_say() {
        let secret = SigningSecret::parse("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw\n").unwrap();
        let id = "msg_p5jXN8AQM9LWM0D4loKWxJek";
        let [(_, own), (_, at), (_, signature)] =
            secret.headers(id, 1_614_265_330, br#"{"test": 2432232314}"#);
        assert_eq!((own.as_str(), at.as_str()), (id, "1614265330"));
        assert_eq!(signature, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
        assert_eq!(SigningSecret::parse("short").unwrap_err(), SigningSecretError::Short(5));
        assert_eq!(SigningSecret::parse("whsec_?").unwrap_err(), SigningSecretError::Encoding);
        assert_eq!(format!("{secret:?}"), "SigningSecret(…)");
    }

    #[test]
    fn pauses_grow_and_are_bounded() {
        let seconds = |failures, asked: Option<u64>| {
            pause(failures, asked.map(Duration::from_secs)).as_secs()
        };
        assert_eq!([1, 2, 3].map(|failures| seconds(failures, None)), [5, 10, 20]);
        assert_eq!([seconds(9, None), seconds(u32::MAX, None)], [300, 300]);
        assert_eq!([seconds(1, Some(60)), seconds(9, Some(60))], [60, 300]);
        assert_eq!(seconds(1, Some(u64::MAX)), 3600);
    }

    #[test]
    fn an_event_has_the_attributes_that_the_specification_asks_for() {
        let data = EventData {
            larder: "emberfall".into(),
            about: About::Room.word(),
            turn: Turn::Began.word(),
            text: "4 GiB are left".into(),
            urgency: Some(Urgency::Urgent.word()),
            ..EventData::default()
        };
        let at = "2026-05-01T08:00:00Z".to_owned();
        let source = "https://larder.emberfall.example".to_owned();
        let event = Event::new(source, "room/1".into(), "room", Some(String::new()), at, data);
        let json: serde_json::Value = serde_json::from_slice(&event.bytes().unwrap()).unwrap();
        assert_eq!(
            json,
            serde_json::json!({
                "specversion": "1.0", "id": "room/1", "source": "https://larder.emberfall.example",
                "type": "iron-larder.room", "time": "2026-05-01T08:00:00Z",
                "datacontenttype": "application/json",
                "data": {
                    "larder": "emberfall", "about": "room", "turn": "began",
                    "text": "4 GiB are left", "urgency": "urgent"
                }
            })
        );
    }
}

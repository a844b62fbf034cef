//! `larder key issue`: a new key.

use std::path::PathBuf;

use larder_core::access::Who;
use larder_core::access::key::Key;
use larder_core::quantity::Span;
use larder_store::{KeyRecord, Store, now};
use larder_transfer::files::write_secret;
use schemars::JsonSchema;
use serde::Serialize;

use super::KeyHolder;
use crate::config::Config;
use crate::context::{Context, shown};
use crate::failure::{Exit, Failure, Outcome};
use crate::keys::{ends, good_keys, make};
use crate::output::{Output, Report, STRONG, paint, time};

/// Issue a key and print it, this once
///
/// It is stored as a keyed hash: nobody can print it again. The user's name to it is that of the cluster
/// (`turbine-hall`), the namespace (`turbine-hall/scada`) or the account.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    whose: KeyHolder,
    #[command(flatten)]
    how: How,
}

/// How a key is issued.
#[derive(Debug, Clone, clap::Args)]
pub struct How {
    /// How long it is good: 90d, 12h, or `never`
    #[arg(long, value_name = "SPAN", default_value = "90d")]
    pub expires: Expires,
    /// Write it into this file, which its owner alone may read, instead of printing it
    #[arg(long, value_name = "FILE")]
    pub into: Option<PathBuf>,
}

/// How long a key is good.
#[derive(Debug, Clone, Copy)]
pub enum Expires {
    After(Span),
    Never,
}

impl std::str::FromStr for Expires {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        if text == "never" {
            return Ok(Self::Never);
        }
        let span: Span =
            text.parse().map_err(|error: larder_core::quantity::SpanError| error.to_string())?;
        if span.0.is_zero() {
            Err("a key is good for longer than nothing".into())
        } else {
            Ok(Self::After(span))
        }
    }
}

impl Expires {
    /// Until when, in milliseconds since 1970. None: until it is revoked.
    pub fn end(self) -> Option<i64> {
        match self {
            Self::Never => None,
            Self::After(Span(span)) => {
                let span = i64::try_from(span.as_millis()).unwrap_or(i64::MAX);
                Some(now().saturating_add(span))
            }
        }
    }
}

/// A key as it is shown, once.
#[derive(Serialize, JsonSchema)]
pub struct KeyReport {
    user: String,
    key: String,
    issued_at: String,
    /// None: it is good until it is revoked.
    expires_at: Option<String>,
    /// None: it is in `file`.
    secret: Option<String>,
    file: Option<String>,
    #[serde(skip)]
    ends: String,
}

impl Report for KeyReport {
    const KIND: &'static str = "key";

    fn show(&self, out: &Output) {
        out.result(format!("user  {}", paint(STRONG, &self.user)));
        match (&self.secret, &self.file) {
            (Some(secret), _) => out.result(format!("key   {}", paint(STRONG, secret))),
            (None, file) => {
                out.result(format!("key   in {}", file.as_deref().unwrap_or_default()));
            }
        }
        out.note(format!(
            "{} ({}). Nobody can print it again; `larder handoff write` puts keys into pull secrets.",
            self.ends, self.key
        ));
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot issue a key";
    let who = args.whose.who(what, config)?;
    if let Some(there) = good_keys(store, &who).await?.last() {
        let cause = format!("{} has a key already: {}, {}", who.described(), there.id, ends(there));
        let remedy =
            "`larder key rotate` issues a second one beside it; `larder key revoke` ends it";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    let (key, record) = make(config, store, &who, args.how.expires.end(), None).await?;
    hand_out(&who, &key, &record, &args.how, context)
}

/// Prints a key or writes it into its file.
pub fn hand_out(who: &Who, key: &Key, record: &KeyRecord, how: &How, context: &Context) -> Outcome {
    if let Some(path) = &how.into {
        let text = format!("{}\n", key.reveal());
        write_secret(path, text.as_bytes()).map_err(|error| {
            let mut failure = Failure::io(
                format!("cannot write the key into {}", larder_transfer::files::named(path)),
                &error,
            );
            failure.remedy =
                format!("revoke it with `larder key revoke {}`, and issue another", record.id);
            failure
        })?;
    }
    context.output.tell(&KeyReport {
        user: who.to_string(),
        key: record.id.to_string(),
        issued_at: time(record.issued),
        expires_at: record.expires.map(time),
        secret: how.into.is_none().then(|| key.reveal().to_owned()),
        file: how.into.as_ref().map(|path| shown(path)),
        ends: ends(record),
    });
    Ok(Exit::Done)
}

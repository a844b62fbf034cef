//! `larder key`: credentials of clusters, their namespaces, and accounts.

mod issue;
mod list;
mod revoke;
mod rotate;
mod test;

pub use issue::Expires;

use larder_core::access::Who;
use larder_core::access::key::{Key, KeyId, Pepper, random, short_name};
use larder_store::{Entry, KeyRecord, Kind, Store, now};

use crate::access::secret;
use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Failure, Outcome};
use crate::output::{ago, time, until};

/// What can be done with keys.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    Issue(issue::Args),
    List(list::Args),
    Rotate(rotate::Args),
    Revoke(revoke::Args),
    Test(test::Args),
}

/// Whose key is meant.
#[derive(Debug, Clone, clap::Args)]
pub struct Whose {
    /// The cluster, as [[cluster]] names it
    #[arg(long, value_name = "NAME", required_unless_present = "account")]
    pub cluster: Option<String>,
    /// One of its namespaces [default: the cluster as a whole]
    #[arg(long, value_name = "NAME", requires = "cluster")]
    pub namespace: Option<String>,
    /// A person or a pipeline, as [[account]] names it
    #[arg(long, value_name = "NAME", conflicts_with_all = ["cluster", "namespace"])]
    pub account: Option<String>,
}

impl Whose {
    /// Whom that means.
    pub fn who(&self, what: &str, config: &Config) -> Result<Who, Failure> {
        let who = match (&self.account, &self.cluster) {
            (Some(account), _) => Who::Account(account.as_str().into()),
            (None, cluster) => {
                Who::cluster(cluster.as_deref().unwrap_or_default(), self.namespace.as_deref())
            }
        };
        if config.grants.knows(&who) {
            return Ok(who);
        }
        let all: Vec<String> = config.grants.everybody().iter().map(Who::to_string).collect();
        let known = if all.is_empty() { "nobody".into() } else { all.join(", ") };
        let remedy = "declare it with [[cluster]] or [[account]] in larder.toml";
        let cause = format!("{} is not declared; declared are: {known}", who.described());
        Err(Failure::usage(what, cause, remedy))
    }
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = open_store(&config)?;
    match command {
        Command::Issue(args) => issue::run(&args, &config, &store, context).await,
        Command::List(args) => list::run(&args, &config, &store, context).await,
        Command::Rotate(args) => rotate::run(&args, &config, &store, context).await,
        Command::Revoke(args) => revoke::run(&args, &store, context).await,
        Command::Test(args) => test::run(&args, &config, &store, context).await,
    }
}

fn failed(doing: &str) -> impl Fn(larder_store::StoreError) -> Failure {
    let doing = doing.to_owned();
    move |error| Failure::store(doing.clone(), &error)
}

/// The keys of somebody that are good now, the oldest first.
pub async fn good_keys(store: &Store, who: &Who) -> Result<Vec<KeyRecord>, Failure> {
    let all = store.keyring.keys().await.map_err(failed("cannot read the keys"))?;
    let (user, at) = (who.to_string(), now());
    Ok(all.into_iter().filter(|key| key.user == user && key.is_good(at)).collect())
}

/// Makes a key and records it. What it returns is the only time that the secret is seen.
pub async fn make(
    config: &Config,
    store: &Store,
    who: &Who,
    expires: Option<i64>,
    replaces: Option<KeyId>,
) -> Result<(Key, KeyRecord), Failure> {
    let what = "cannot issue a key";
    let bytes = random();
    let bytes =
        bytes.ok_or_else(|| Failure::usage(what, "the system gave no random numbers", ""))?;
    let key = Key::new(&bytes);
    let record = KeyRecord {
        id: key.id(),
        user: who.to_string(),
        hash: Pepper::new(&secret(config)?).hash(&key),
        issued: now(),
        expires,
        revoked: None,
        replaces,
        used: None,
        used_from: None,
    };
    store.keyring.add_key(record.clone()).await.map_err(failed(what))?;
    let text = format!("issued for {who}, {}", ends(&record));
    note(store, &record.id, &text).await?;
    Ok((key, record))
}

/// Writes down what was done to a key.
async fn note(store: &Store, id: &KeyId, text: &str) -> Result<(), Failure> {
    let number = random().map_or_else(|| id.to_string(), short_name);
    let entry = Entry {
        number,
        first: now(),
        last: now(),
        count: 1,
        kind: Kind::Key,
        who: String::new(),
        by: None,
        address: None,
        reference: Some(id.to_string()),
        line: None,
        text: text.to_owned(),
        same: None,
    };
    store.record.write_down(vec![entry]).await.map_err(failed("cannot write the record"))
}

fn ends(key: &KeyRecord) -> String {
    key.expires.map_or_else(
        || "good until it is revoked".into(),
        |end| format!("good until {}", time(end)),
    )
}

/// When and from where a key was last used.
fn last_use(key: &KeyRecord) -> String {
    match (key.used, key.used_from.as_deref().unwrap_or_default()) {
        (None, _) => "never".into(),
        (Some(at), "") => ago(at, now()),
        (Some(at), from) => format!("{} from {from}", ago(at, now())),
    }
}

/// How a key stands, in a word or two.
fn state(key: &KeyRecord) -> (bool, String) {
    let at = now();
    match (key.revoked, key.expires) {
        (Some(_), _) => (false, "revoked".into()),
        (None, Some(end)) if end <= at => (false, "expired".into()),
        (None, Some(end)) => (true, format!("{} left", until(end, at))),
        (None, None) => (true, "does not expire".into()),
    }
}

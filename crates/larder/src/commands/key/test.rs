//! `larder key test`: what a credential is good for, and which of several wins.

use std::io::Read as _;
use std::path::PathBuf;

use larder_client::{Web, WebOptions};
use larder_core::access::Who;
use larder_core::access::key::{Key, KeyError, Pepper};
use larder_store::{Store, now};
use larder_transfer::files::read_bounded;
use schemars::JsonSchema;
use secrecy::SecretString;
use serde::Serialize;

use super::{last_use, state};
use crate::access::secret;
use crate::config::Config;
use crate::context::{Context, reference_here, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::keys::failed;
use crate::output::{BAD, DIM, GOOD, Output, Report, STRONG, paint, time};
use crate::policy::Judge;

/// The order in which a request's credentials win.
const ORDER: [(&str, &str); 4] = [
    ("Authorization", "a key or a cluster's token (Basic), a token of the larder (Bearer)"),
    ("certificate", "the one that [[cluster]] `certificate` names"),
    ("cluster's name", "from a node's configuration, where [[cluster]] `nodes` has its address"),
    ("nothing", "what `anonymous` under [larder] names"),
];

/// Say what a key is good for: whose it is, until when, and what it may pull
///
/// The key comes from a file or from standard input, never from the command line. What a request brings
/// along wins in this order, and a wrong one is refused instead of being passed over: `Authorization`,
/// then a certificate, then the cluster that a node names, then nothing.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file with the key, or with `USER:KEY`; `-` reads standard input
    #[arg(default_value = "-")]
    file: PathBuf,
    /// Images of the larder that it shall pull (again for more)
    #[arg(long, value_name = "REF")]
    image: Vec<String>,
    /// Also sign in at the larder with it
    #[arg(long)]
    online: bool,
    /// With `--online`: where the larder is reached from here [default: its `url`]
    #[arg(long, value_name = "ADDRESS", requires = "online")]
    larder: Option<String>,
}

#[derive(Serialize, JsonSchema)]
pub struct KeyTest {
    key: String,
    user: String,
    good: bool,
    /// Why it lets nobody in. None: it does.
    cause: Option<String>,
    expires_at: Option<String>,
    used_at: Option<String>,
    pull: Vec<String>,
    push: Vec<String>,
    images: Vec<TestedImage>,
    /// Whether the larder at `url` took it. None: it was not asked.
    online: Option<bool>,
    /// The order in which a request's credentials count.
    order: Vec<&'static str>,
    #[serde(skip)]
    state: String,
    #[serde(skip)]
    last_use: String,
}

#[derive(Serialize, JsonSchema)]
struct TestedImage {
    image: String,
    allowed: bool,
    /// The line of the configuration that decides. None: none does.
    line: Option<String>,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot test the key";
    let text = read(&args.file).map_err(|error| Failure::file(what, &args.file, &error))?;
    let text = text.trim();
    let (said, secret_text) = match text.rsplit_once(':') {
        Some((user, secret)) => (Some(user), secret),
        None => (None, text),
    };
    let key: Key = secret_text.parse().map_err(|error: KeyError| {
        let remedy =
            "pull secrets are read by `larder handoff read`; give the key alone, or `USER:KEY`";
        Failure::usage(what, error, remedy).ending(Exit::No)
    })?;
    let pepper = Pepper::new(&secret(config)?);
    let all = store.keys().await.map_err(failed(what))?;
    let known = all.iter().find(|one| one.id == key.id() && pepper.verifies(&key, &one.hash));
    let Some(known) = known else {
        let cause = format!("this larder issued no such key ({})", key.id());
        return Err(Failure::usage(what, cause, "`larder key list --all` shows those that it did")
            .ending(Exit::No));
    };
    let who = config.grants.who(&known.user);
    let cause = match &who {
        _ if !known.is_good(now()) => Some(format!("it is {}", state(known).1)),
        None => Some(format!("{} is no longer declared in larder.toml", known.user)),
        Some(_) => said
            .filter(|said| *said != known.user)
            .map(|said| format!("it is the key of {}, not of {said}", known.user)),
    };
    let judge = Judge::new(config, Some(store.clone()))?;
    let mut images = Vec::new();
    for image in &args.image {
        let image = with_whole_digest(image, Some(config)).await?;
        let reference = reference_here(&image, config)?;
        let whose = who.clone().unwrap_or(Who::Anonymous);
        let judged = judge.reference(&whose, &reference).await?;
        let allowed = !judged.ruling.is_refused() && judged.elsewhere.is_none() && cause.is_none();
        let decided = judged.grant.as_ref().and_then(|grant| grant.line.as_ref());
        let line = judged.reason().and_then(|(_, line)| line).or(decided.map(ToString::to_string));
        images.push(TestedImage { image: image.into_owned(), allowed, line });
    }
    let permits = who.as_ref().and_then(|who| config.grants.permits(who));
    let online = match args.online {
        true => Some(sign_in(args, config, &known.user, &key).await?),
        false => None,
    };
    let report = KeyTest {
        key: known.id.to_string(),
        user: known.user.clone(),
        good: cause.is_none(),
        cause,
        expires_at: known.expires.map(time),
        used_at: known.used.map(time),
        pull: permits.map(|it| it.pull.texts().map(str::to_owned).collect()).unwrap_or_default(),
        push: permits.map(|it| it.push.texts().map(str::to_owned).collect()).unwrap_or_default(),
        images,
        online,
        order: ORDER.iter().map(|(name, _)| *name).collect(),
        state: state(known).1,
        last_use: last_use(known),
    };
    let fine = report.good && report.images.iter().all(|it| it.allowed) && online != Some(false);
    context.output.tell(&report);
    Ok(if fine { Exit::Done } else { Exit::No })
}

fn read(path: &std::path::Path) -> std::io::Result<String> {
    const LIMIT: usize = 4096;
    if path.as_os_str() == "-" {
        let mut text = String::new();
        std::io::stdin().take(LIMIT as u64).read_to_string(&mut text)?;
        return Ok(text);
    }
    let bytes = read_bounded(path, LIMIT)?;
    String::from_utf8(bytes).map_err(|_| std::io::Error::other("it is not UTF-8"))
}

async fn sign_in(args: &Args, config: &Config, user: &str, key: &Key) -> Result<bool, Failure> {
    use base64::Engine as _;
    let url = args.larder.clone().unwrap_or_else(|| config.larder.url.endpoint.to_string());
    let remote = |cause: String| {
        let what = format!("cannot sign in at {url}");
        Failure::usage(what, cause, "check `url` under [larder], and that `larder serve` runs")
            .ending(Exit::Remote)
    };
    let pair = format!("{user}:{}", key.reveal());
    let value = format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(pair));
    let authorization = Some(SecretString::from(value));
    let web =
        Web::new(&url, WebOptions { authorization, ..WebOptions::default() }).map_err(remote)?;
    let answer = web.send("GET", "/larder/token", None).await.map_err(remote)?;
    Ok(answer.status == 200)
}

impl Report for KeyTest {
    const KIND: &'static str = "key-test";

    fn show(&self, out: &Output) {
        out.result(self.text());
    }
}

impl KeyTest {
    fn text(&self) -> String {
        let (report, state, used) = (self, &self.state, &self.last_use);
        let verdict = match &report.cause {
            None => paint(GOOD, format!("is good: {state}")),
            Some(cause) => paint(BAD, format!("lets nobody in: {cause}")),
        };
        let mut lines = vec![
            format!("{} of {} {verdict}", report.key, paint(STRONG, &report.user)),
            format!("  last used  {used}"),
        ];
        for (word, patterns) in [("pull", &report.pull), ("push", &report.push)] {
            if !patterns.is_empty() {
                lines.push(format!("  may {word}   {}", patterns.join(", ")));
            }
        }
        for TestedImage { image, allowed, line } in &report.images {
            let word = if *allowed { paint(GOOD, "may pull") } else { paint(BAD, "may not pull") };
            let line = line.as_ref().map(|line| format!(" ({line})")).unwrap_or_default();
            lines.push(format!("  {word} {image}{}", paint(DIM, line)));
        }
        match report.online {
            Some(true) => lines.push(format!("  {}", paint(GOOD, "the larder takes it"))),
            Some(false) => lines.push(format!("  {}", paint(BAD, "the larder refuses it"))),
            None => {}
        }
        lines.push("\nOf what a request brings along, the first of these counts:".into());
        for (number, (name, what)) in ORDER.iter().enumerate() {
            let mark = if number == 0 { paint(GOOD, "this key") } else { String::new() };
            lines.push(
                format!("  {} {name:<15} {} {mark}", number + 1, paint(DIM, what))
                    .trim_end()
                    .to_owned(),
            );
        }
        lines.join("\n")
    }
}

//! `larder policy check`: would these images be let through?

use std::path::{Path, PathBuf};

use larder_core::access::Who;
use larder_core::policy::{Elsewhere, Lack, Ruling};
use larder_core::rewrite::{FindingAccess, Nature};
use larder_core::shown::cut;
use schemars::JsonSchema;
use serde::Serialize;

use super::cluster;
use crate::config::Config;
use crate::context::{Context, read_reference, reference_here, store_if_any, with_whole_digest};
use crate::deployments::{self, BrokenFile, Sight};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, count, paint};
use crate::pick::Pick;
use crate::policy::Judge;

/// Say which images of deployments and Dockerfiles would be refused, before anything is built or applied
///
/// Without `--cluster` it is asked for every cluster that is declared. Exit status 1 says that something
/// would be refused.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Files, folders and references; `-` reads deployments from stdin
    #[arg(required = true, value_name = "PATH|REF")]
    what: Vec<String>,
    #[command(flatten)]
    pick: Pick,
    /// For this cluster only
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    /// For this namespace, where a file names none
    #[arg(long, value_name = "NAME", requires = "cluster")]
    namespace: Option<String>,
    /// Show only these: deny, unknown, warn, not-ours, allow
    #[arg(long, value_delimiter = ',', value_name = "VERDICT,…", value_parser = clap::builder::PossibleValuesParser::new(VERDICTS), hide_possible_values = true)]
    verdict: Vec<String>,
    /// In which order
    #[arg(long, value_enum, default_value_t)]
    sort: PullOrder,
}

impl Args {
    /// Whether an image is asked about. What cannot be read matches no pattern.
    fn takes(&self, one: &CheckedImage, config: &Config) -> bool {
        match read_reference(&one.written, Some(config)) {
            Ok(reading) => self.pick.takes(&reading.reference.image()),
            Err(_) => self.pick.only.is_empty(),
        }
    }
}

/// One image in one place.
struct CheckedImage {
    written: String,
    place: Option<String>,
    namespace: Option<String>,
    /// Only a build can tell what it is.
    open: bool,
}

#[derive(Serialize, JsonSchema)]
pub struct PolicyCheck {
    /// The pulls, those of the verdicts that were asked for.
    images: Vec<CheckedPull>,
    broken: Vec<BrokenFile>,
    counts: VerdictCounts,
}

/// How many pulls there are of each kind, whatever is shown.
#[derive(Serialize, JsonSchema)]
struct VerdictCounts {
    asked: usize,
    /// Those that would be refused: `deny`, and `unknown` under a denying rule.
    refused: usize,
    warned: usize,
    not_ours: usize,
    unknown: usize,
}

impl VerdictCounts {
    fn of(rows: &[CheckedPull]) -> Self {
        let number = |word: &str| rows.iter().filter(|row| row.verdict == word).count();
        Self {
            asked: rows.len(),
            refused: rows.iter().filter(|row| row.refused).count(),
            warned: number("warn"),
            not_ours: number("not-ours"),
            unknown: number("unknown"),
        }
    }
}

/// The order of the rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
enum PullOrder {
    /// As they are named
    #[default]
    Place,
    /// The worst first
    Verdict,
    /// By the name of the image
    Image,
}

fn severity(verdict: &str) -> usize {
    VERDICTS.iter().position(|one| *one == verdict).unwrap_or(VERDICTS.len())
}

/// From the worst to the best.
const VERDICTS: [&str; 5] = ["deny", "unknown", "warn", "not-ours", "allow"];

/// One image for one cluster.
#[derive(Serialize, JsonSchema)]
struct CheckedPull {
    image: String,
    place: Option<String>,
    cluster: String,
    namespace: Option<String>,
    /// `allow`, `warn`, `deny`, `not-ours` where it does not come through this larder, or `unknown` where
    /// it cannot be told.
    verdict: &'static str,
    /// Whether it would be refused: `deny`, and `unknown` where a denying rule may concern it.
    refused: bool,
    class: Option<String>,
    reason: Option<String>,
    line: Option<String>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let (found, broken) = collect(args, &config).await?;
    let absent =
        if broken.iter().any(|one| one.cause == ABSENT) { Exit::Usage } else { Exit::Done };
    let clusters: Vec<String> = match &args.cluster {
        Some(name) => {
            cluster("cannot check the policy", &config, name, args.namespace.as_deref())?;
            vec![name.clone()]
        }
        None => config.clusters.iter().map(|one| one.name.get_ref().clone()).collect(),
    };
    if clusters.is_empty() {
        let cause = "larder.toml declares no cluster";
        return Err(Failure::usage(
            "cannot check the policy",
            cause,
            "declare one with [[cluster]]",
        ));
    }
    let judge = Judge::new(&config, store_if_any(&config)?)?;
    let mut rows = Vec::new();
    for one in found.iter().filter(|one| args.takes(one, &config)) {
        let namespace = one.namespace.as_ref().or(args.namespace.as_ref());
        for name in &clusters {
            let who = Who::cluster(name, namespace.map(String::as_str));
            rows.push(row(one, &who, &judge, &config).await?);
        }
    }
    let counts = VerdictCounts::of(&rows);
    let refused = counts.refused;
    rows.retain(|row| args.verdict.is_empty() || args.verdict.iter().any(|one| one == row.verdict));
    match args.sort {
        PullOrder::Place => {}
        PullOrder::Verdict => rows.sort_by_key(|row| severity(row.verdict)),
        PullOrder::Image => rows.sort_by(|a, b| a.image.cmp(&b.image)),
    }
    let report = PolicyCheck { images: rows, broken, counts };
    context.output.tell(&report);
    let fine = refused == 0 && report.broken.is_empty();
    let exit = if fine { Exit::Done } else { Exit::No };
    Ok(exit.max(absent))
}

/// What is decided of one image for somebody.
async fn row(
    one: &CheckedImage,
    who: &Who,
    judge: &Judge,
    config: &Config,
) -> Result<CheckedPull, Failure> {
    let cluster = who.cluster_name().unwrap_or_default();
    let mut row = CheckedPull {
        image: one.written.clone(),
        place: one.place.clone(),
        cluster: cluster.to_owned(),
        namespace: who.namespace().map(str::to_owned),
        verdict: Ruling::Unknown.word(),
        refused: judge.court.rules.may_deny(cluster, who.namespace()),
        class: None,
        reason: None,
        line: None,
    };
    let reading = match read_reference(&one.written, Some(config)) {
        Ok(reading) => reading,
        Err(_) if one.open => {
            row.reason = Some(OPEN.to_owned());
            return Ok(row);
        }
        Err(malformed) => {
            row.reason = Some(malformed.reason.to_string());
            return Ok(row);
        }
    };
    let case = judge.court.reference(&reading.reference);
    let judged = judge.judge(who, &case).await?;
    row.class = case.class.map(str::to_owned);
    // What depends on a tag that nobody knows here cannot be told.
    let asks_name =
        matches!(judged.lack, Some(Lack::Digest | Lack::FixedTag(_) | Lack::Unknown(_)));
    let leads_here = matches!(judged.elsewhere, None | Some(Elsewhere::NotLocked(_)));
    if one.open && leads_here && (asks_name || !judged.ruling.is_refused()) {
        row.reason = Some(OPEN.to_owned());
        row.refused = judged.ruling.is_refused();
        return Ok(row);
    }
    (row.verdict, row.refused) = (judged.ruling.word(), judged.ruling.is_refused());
    if let Some((reason, line)) = judged.reason() {
        (row.reason, row.line) = (Some(reason), line);
    }
    Ok(row)
}

/// Said of a path that is not there.
const ABSENT: &str = "there is no such file";

/// Said of an image whose tag a build or a template fills in.
const OPEN: &str = "its tag is decided in another place: only what fills it in can tell";

async fn collect(
    args: &Args,
    config: &Config,
) -> Result<(Vec<CheckedImage>, Vec<BrokenFile>), Failure> {
    let (mut found, mut broken) = (Vec::new(), Vec::new());
    let mut paths: Vec<PathBuf> = Vec::new();
    for what in &args.what {
        let path = Path::new(what);
        if what != "-" && !path.exists() {
            // What looks like a path and is not there is a mistake, no image.
            if what.starts_with(['.', '/'])
                || [".yaml", ".yml", ".json"].iter().any(|end| what.ends_with(end))
            {
                broken.push(BrokenFile { file: what.clone(), cause: ABSENT.into() });
                continue;
            }
            let what = with_whole_digest(what, Some(config)).await?;
            let written = reference_here(&what, config)?.to_string();
            found.push(CheckedImage { written, place: None, namespace: None, open: false });
            continue;
        }
        paths.push(path.to_owned());
    }
    let read = deployments::named(&paths, Sight::with(&config.resources));
    broken.extend(read.broken);
    for file in read.done {
        // What a build makes is not pulled, and what stands in a text may be no image.
        let pulled = file.findings.into_iter().filter(|one| {
            matches!(one.nature(), Nature::Image | Nature::Open)
                && !matches!(&one.access, FindingAccess::Leave(_) if one.text.is_empty())
        });
        found.extend(pulled.map(|one| {
            let (kind, name) = (&one.workload.kind, &one.workload.name);
            let whose = match (name.is_empty(), &one.container) {
                (true, Some(by)) => by.clone(),
                _ => format!("{kind} {name}"),
            };
            let open = one.tag_elsewhere || one.nature() == Nature::Open;
            CheckedImage {
                place: Some(format!("{}:{}  {whose}", file.shown, one.position.line)),
                namespace: one.workload.namespace,
                open,
                written: one.text,
            }
        }));
    }
    Ok((found, broken))
}

impl Report for PolicyCheck {
    const KIND: &'static str = "policy-check";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(PolicyCheck { images: rows, broken, counts }: &PolicyCheck, out: &Output) {
    let mut table = Table::new(out.width(), &["VERDICT", "IMAGE", "CLUSTER", "WHERE"]);
    for row in rows {
        let verdict = match row.verdict {
            "deny" => paint(BAD, "deny"),
            "warn" => paint(WARN, "warn"),
            "unknown" => paint(WARN, "unknown"),
            "not-ours" => paint(DIM, "not ours"),
            word => paint(GOOD, word),
        };
        let mut image = vec![cut(&row.image, 600)];
        image.extend(row.reason.clone());
        image.extend(row.line.as_ref().map(|line| paint(DIM, line)));
        let who = match &row.namespace {
            Some(namespace) => format!("{}/{namespace}", row.cluster),
            None => row.cluster.clone(),
        };
        table.row([verdict, image.join("\n"), who, row.place.clone().unwrap_or_default()]);
    }
    if !rows.is_empty() {
        out.table(&table);
    }
    let VerdictCounts { asked, refused, warned, not_ours, unknown } = counts;
    out.result(format!(
        "\n{} asked: {refused} refused, {warned} with a warning, {not_ours} not ours, {unknown} that cannot be told",
        count(*asked, "pull")
    ));
    for BrokenFile { file, cause } in broken {
        out.note(format!("{} {file} cannot be read: {cause}", paint(BAD, "broken:")));
    }
}

//! `larder sign`: our own signature over images, and the key for it.

use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

use larder_core::digest::Digest;
use larder_core::reference::Reference;
use larder_core::signature::{KeyKind, PrivateKey, public_pem};
use larder_transfer::files::{named, with_stdin};
use schemars::JsonSchema;
use serde::Serialize;

use crate::approval::{ApprovalWish, Approved, Approver, SignedOutcome};
use crate::config::{Config, read_private_key};
use crate::context::{Context, reference_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::images::{Ends, NamedImages};
use crate::output::{DIM, GOOD, Output, Report, Table, count, paint, short};
use crate::record;

/// Failures that are told one by one.
const TOLD: usize = 20;

/// Sign images in the name of one of our own signers, after our rules let them through
///
/// The signature lies beside the image, as others' do: an approval with who, when and why in an envelope (DSSE). What is
/// signed already is left alone. With --new-key and --show-key it is about the key instead.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "IMAGE is HOST/REPOSITORY:TAG or SHELF/REPOSITORY:TAG; repository and tag may be patterns; `-` reads lines.\n\
    NAME is a [[signer]] of larder.toml with `sign = { key = \"FILE\" }` or `sign = { command = [\"PROGRAM\"] }`.\n\n\
    Examples:\n  larder sign --new-key trust/approval.key\n  \
    larder sign vendor/steamgauge:1.9.2 --as emberfall-approval --because \"passed on the bench\"\n  \
    larder sign 'vendor/**:*' --as emberfall-approval --because \"what runs today\" --dry-run"
)]
pub struct Args {
    /// Which images
    #[arg(value_name = "IMAGE", required_unless_present_any = ["new_key", "show_key"])]
    images: Vec<String>,
    /// In whose name: a signer of larder.toml
    #[arg(long = "as", value_name = "NAME", required_unless_present_any = ["new_key", "show_key"])]
    signer: Option<String>,
    /// Why: it stands in the signature and in the record
    #[arg(long, value_name = "TEXT", required_unless_present_any = ["new_key", "show_key"])]
    because: Option<String>,
    /// Beside it also the small form, for verifiers that know a bare key and nothing else
    #[arg(long, conflicts_with_all = ["new_key", "show_key"])]
    small: bool,
    /// Sign also what is signed already, as where a rule asks for a recent signature
    #[arg(long, conflicts_with_all = ["new_key", "show_key"])]
    anew: bool,
    /// Write with the login of this upstream, by its name
    #[arg(long, value_name = "NAME", conflicts_with_all = ["new_key", "show_key"])]
    account: Option<String>,
    /// Say what would be done, and do nothing
    #[arg(long, conflicts_with_all = ["new_key", "show_key"])]
    dry_run: bool,
    /// Make a key, write it to this new file, and tell its public half
    #[arg(long, value_name = "FILE", conflicts_with_all = ["images", "show_key"])]
    new_key: Option<PathBuf>,
    /// Of which kind the new key is
    #[arg(long, value_name = "KIND", value_enum, requires = "new_key", default_value = "p256")]
    kind: Kind,
    /// Tell the public half of the key in this file
    #[arg(long, value_name = "FILE", conflicts_with = "images")]
    show_key: Option<PathBuf>,
}

/// A kind of key.
#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum Kind {
    /// ECDSA with P-256, which nearly every verifier reads
    P256,
    /// Ed25519
    Ed25519,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    if let Some(path) = &args.new_key {
        let kind = match args.kind {
            Kind::P256 => KeyKind::P256,
            Kind::Ed25519 => KeyKind::Ed25519,
        };
        let key = make(path, kind)?;
        let report = ImageKeyReport::of(path, &key, true)?;
        report.write_public()?;
        context.output.tell(&report);
        return Ok(Exit::Done);
    }
    if let Some(path) = &args.show_key {
        let key = read_private_key("cannot show the key", path)?;
        context.output.tell(&ImageKeyReport::of(path, &key, false)?);
        return Ok(Exit::Done);
    }
    let (Some(name), Some(because)) = (&args.signer, &args.because) else {
        unreachable!("both are required")
    };
    let config = context.config()?;
    let wish = ApprovalWish { name, because, small: args.small, anew: args.anew };
    let approver = Approver::new(&config, wish)?;
    let ends = Ends::new(&config, args.account.clone())?;
    let mut report = SigningReport {
        signer: name.clone(),
        dry_run: args.dry_run,
        because: because.clone(),
        own: format!("{}/", config.larder.url.host),
        ..SigningReport::default()
    };
    let mut failures = Vec::new();
    for image in images(args, &config, &ends).await? {
        match sign(&approver, &ends, &image, args.dry_run).await {
            Ok((digest, outcome)) => {
                let small = outcome.small_is_new;
                report.signed += usize::from(outcome.wrote());
                report.there_already += usize::from(!outcome.wrote());
                report.images.push(SignedImage {
                    image: image.to_string(),
                    digest: Some(digest),
                    approved: outcome.is_new,
                    small,
                    cause: None,
                });
            }
            Err(failure) => {
                report.failed += 1;
                report.images.push(SignedImage {
                    image: image.to_string(),
                    digest: None,
                    approved: false,
                    small: None,
                    cause: Some(failure.cause.clone()),
                });
                failures.push(failure);
            }
        }
    }
    context.output.tell(&report);
    for failure in failures.iter().take(TOLD) {
        context.output.failure(failure);
    }
    if failures.len() > TOLD {
        let more = failures.len() - TOLD;
        context.output.note(format!("and {} that failed too", count(more, "image")));
    }
    Ok(failures.iter().map(|failure| failure.exit).max().unwrap_or(Exit::Done))
}

/// The images that are meant.
async fn images(args: &Args, config: &Config, ends: &Ends<'_>) -> Result<Vec<Reference>, Failure> {
    let what = "cannot sign";
    let texts = with_stdin(&args.images)
        .map_err(|error| Failure::io(format!("{what}: cannot read stdin"), &error))?;
    let mut all = Vec::new();
    for text in &texts {
        if !crate::images::is_pattern(text) {
            let text = crate::context::with_whole_digest(text, Some(config)).await?;
            all.push(reference_here(&text, config)?);
            continue;
        }
        let found = ends.named(&NamedImages::read(text, config, what)?).await?;
        if found.is_empty() {
            let remedy = "`larder look --tags` and `larder find` show what there is";
            let failure =
                Failure::usage(format!("{what} {text}"), "no image there matches", remedy);
            return Err(failure.ending(Exit::No));
        }
        all.extend(found.into_iter().map(|one| one.image));
    }
    if all.is_empty() {
        return Err(Failure::usage(what, "stdin names no image", "write one a line"));
    }
    all.sort();
    all.dedup();
    Ok(all)
}

async fn sign(
    approver: &Approver<'_>,
    ends: &Ends<'_>,
    image: &Reference,
    dry_run: bool,
) -> Result<(Digest, SignedOutcome), Failure> {
    let what = format!("cannot sign {image}");
    let source = ends.source(image)?;
    let found = source.manifest(&image.selector()).await;
    let found = found.map_err(|error| Failure::transfer(what, &error))?;
    let target = match dry_run {
        true => None,
        false => Some(ends.target(image, image)?),
    };
    let held = ends.own_store(&image.host).map(|store| (store, image));
    let from = &*source;
    let of = Approved { image, found: &found, trimmed_from: None, from, held };
    let outcome = approver.sign(&*source, target.as_deref(), of).await?;
    if outcome.wrote() && !dry_run {
        record::note_signed(ends, image, &found.0, approver.said()).await?;
    }
    Ok((found.0, outcome))
}

/// Makes a key in a new file that only its owner reads.
fn make(path: &Path, kind: KeyKind) -> Result<PrivateKey, Failure> {
    let what = "cannot make a key";
    for there in [path, &public_file(path)] {
        if there.exists() {
            let cause = format!("{} is there, and no key is ever replaced", named(there));
            let remedy = "`larder sign --show-key FILE` tells the public half of a key; name another file for a new one";
            return Err(Failure::usage(what, cause, remedy));
        }
    }
    let (key, pem) = PrivateKey::generate(kind).map_err(|error| Failure::usage(what, error, ""))?;
    write_new(path, &pem, 0o600).map_err(|error| Failure::file(what, path, &error))?;
    Ok(key)
}

/// An image that was to be signed.
#[derive(Serialize, JsonSchema)]
struct SignedImage {
    image: String,
    /// null: it was not signed, or could not be read.
    #[schemars(with = "Option<String>")]
    digest: Option<Digest>,
    /// Whether an approval was written, or would be. false: there is one, or it failed.
    approved: bool,
    /// The same for the small form. null: it was not asked for.
    small: Option<bool>,
    /// Why it was not signed. null: it is.
    cause: Option<String>,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct SigningReport {
    signer: String,
    /// Whether nothing was written.
    dry_run: bool,
    because: String,
    images: Vec<SignedImage>,
    /// How many were signed, or would be.
    signed: usize,
    there_already: usize,
    failed: usize,
    /// What this larder's images begin with.
    #[serde(skip)]
    own: String,
}

impl Report for SigningReport {
    const KIND: &'static str = "signing";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["", "IMAGE", "DIGEST"]);
        for one in self.images.iter().filter(|one| one.cause.is_none()) {
            let is_new = one.approved || one.small == Some(true);
            let state = match (is_new, one.approved, one.small) {
                (false, ..) => paint(DIM, "there"),
                (true, ..) if self.dry_run => paint(GOOD, "new"),
                (true, true, Some(true)) => paint(GOOD, "signed, small too"),
                (true, false, _) => paint(GOOD, "small form signed"),
                (true, true, _) => paint(GOOD, "signed"),
            };
            let digest = one.digest.as_ref().map_or_else(String::new, |one| short(one).to_owned());
            let name = one.image.strip_prefix(&self.own).unwrap_or(&one.image);
            let name = name.split('@').next().unwrap_or(name).to_owned();
            table.row([state, name, digest]);
        }
        if self.images.iter().any(|one| one.cause.is_none()) {
            out.table(&table);
        }
        let (signed, signer) = (count(self.signed, "image"), &self.signer);
        out.result(match self.dry_run {
            true => format!(
                "{signed} would be signed as {signer}, {} signed already, {} cannot be",
                self.there_already, self.failed
            ),
            false => format!(
                "{signed} signed as {signer}, {} already, {} failed",
                self.there_already, self.failed
            ),
        });
    }
}

#[derive(Serialize, JsonSchema)]
pub struct ImageKeyReport {
    /// The private half.
    file: PathBuf,
    kind: String,
    /// The public half, as PEM.
    public: String,
    /// The SHA-256 of its SubjectPublicKeyInfo.
    id: String,
    /// The file with the public half. null: it was shown, and not written.
    public_file: Option<PathBuf>,
}

/// Where the public half of a key goes.
fn public_file(path: &Path) -> PathBuf {
    match path.extension().is_some_and(|end| end == "pem") {
        true => path.with_extension("pub.pem"),
        false => path.with_extension("pem"),
    }
}

fn write_new(path: &Path, text: &str, mode: u32) -> std::io::Result<()> {
    let mut file = OpenOptions::new().write(true).create_new(true).mode(mode).open(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}

impl ImageKeyReport {
    fn of(path: &Path, key: &PrivateKey, made: bool) -> Result<Self, Failure> {
        let public = key.public().map_err(|error| {
            Failure::usage(
                "cannot show the key",
                error,
                "make another: `larder sign --new-key FILE`",
            )
        })?;
        Ok(Self {
            file: path.to_owned(),
            kind: public.kind().to_string(),
            public: public_pem(&public),
            id: public.id(),
            public_file: made.then(|| public_file(path)),
        })
    }

    /// Writes the public half beside the other.
    fn write_public(&self) -> Result<(), Failure> {
        let Some(path) = &self.public_file else { return Ok(()) };
        write_new(path, &self.public, 0o644)
            .map_err(|error| Failure::file("cannot write the public half", path, &error))
    }
}

impl Report for ImageKeyReport {
    const KIND: &'static str = "sign-key";

    fn show(&self, out: &Output) {
        out.result(self.public.trim_end());
        let file = named(&self.file);
        out.note(format!("{} {}", self.kind, self.id));
        let Some(public) = self.public_file.as_deref().map(named) else { return };
        out.note(format!("{file} holds the half that signs; only its owner reads it. {public} is for everybody who verifies."));
        out.note(format!(
            "Next: add to larder.toml, with a name and a type of your own:\n\n[[signer]]\nname = \"emberfall-approval\"\nimages = [\"**\"]\nkeys = [\"{public}\"]\nstatements = [\"https://emberfall.example/approved/v1\"]\nsign = {{ key = \"{file}\" }}",
        ));
    }
}

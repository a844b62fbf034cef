//! `larder look --signatures`: everything that calls itself a signature of an image, each with what it is worth.

use std::collections::BTreeSet;

use larder_core::digest::Digest;
use larder_core::shown::cut;
use larder_core::signature::{Examined, Proven, SignatureForm, SignedBy, Trust};
use larder_transfer::signatures as gather;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{
    BAD, DIM, GOOD, Output, Report, STRONG, Table, WARN, count, date, paint, short, time,
};
use crate::place::{OpenedSource, Place};
use crate::signatures::{FoundDocument, Judging, documents, names_of};

/// The most platforms of one index whose signatures are looked for.
const PLATFORMS: usize = 100;

/// What was found beside an image as its signatures.
#[derive(Serialize, JsonSchema)]
pub struct SignaturesReport {
    image: String,
    #[schemars(with = "String")]
    digest: Digest,
    /// The names under which it was judged, as `host/repository`. Empty: it has none, so that no signer speaks for it.
    names: Vec<String>,
    /// The signers whose signatures over it hold.
    signed_by: Vec<String>,
    signatures: Vec<OneSignature>,
    /// How many `[[signer]]` the configuration has.
    signers: usize,
}

/// Something that calls itself a signature.
#[derive(Serialize, JsonSchema)]
struct OneSignature {
    #[schemars(with = "String")]
    companion: Digest,
    /// What it hangs on: the image, or one of the platforms of an index.
    #[schemars(with = "String")]
    about: Digest,
    /// `dsse`, `jws`, `cose`, `small`, `bundle`. null: none that is read.
    form: Option<&'static str>,
    /// Whether it holds, by a signer that the configuration names.
    holds: bool,
    signer: Option<String>,
    /// The key, by the SHA-256 of its SubjectPublicKeyInfo. null: it is a certificate's, or nobody's.
    key: Option<String>,
    /// The names of its certificate.
    certificate: Vec<String>,
    /// When it was made. null: nobody says.
    made_at: Option<String>,
    /// Until when it holds. null: no end is known.
    until: Option<String>,
    /// What a statement says: its predicate type. null: no more than that it is signed.
    says: Option<String>,
    /// Why it does not hold, in one word. null: it holds.
    flaw: Option<&'static str>,
    /// The same in a sentence's end.
    reason: Option<String>,
    #[serde(skip)]
    is_signature: bool,
    #[serde(skip)]
    at: Option<i64>,
    #[serde(skip)]
    end: Option<i64>,
}

fn form(form: SignatureForm) -> &'static str {
    match form {
        SignatureForm::Dsse => "dsse",
        SignatureForm::Jws => "jws",
        SignatureForm::Cose => "cose",
        SignatureForm::Small => "small",
        SignatureForm::Bundle => "bundle",
    }
}

impl OneSignature {
    fn of(examined: Examined, about: &Digest) -> Self {
        let mut one = Self {
            companion: examined.companion,
            about: about.clone(),
            form: examined.form.map(form),
            holds: false,
            signer: None,
            key: None,
            certificate: Vec::new(),
            made_at: None,
            until: None,
            says: None,
            flaw: None,
            reason: None,
            is_signature: false,
            at: None,
            end: None,
        };
        let moment = |at: i64| time(at.saturating_mul(1000));
        match examined.outcome {
            Err(flaw) => {
                one.flaw = Some(flaw.word());
                one.reason = Some(cut(&flaw.to_string(), 400));
            }
            Ok(Proven { signer, by, at, until, said, is_signature, .. }) => {
                (one.holds, one.is_signature) = (true, is_signature);
                one.signer = Some(signer);
                match by {
                    SignedBy::Key(key) => one.key = Some(key),
                    SignedBy::Certificate(names) => {
                        one.certificate = names.iter().map(|name| cut(name, 200)).collect();
                    }
                }
                (one.made_at, one.until) = (at.map(moment), until.map(moment));
                (one.at, one.end) = (at, until);
                one.says = said.map(|said| cut(&said.predicate_type, 200));
            }
        }
        one
    }
}

/// The indexes of this larder's repository that list an image; none of anywhere else.
async fn listing(
    place: &Place,
    image: &Digest,
    config: Option<&Config>,
) -> Result<Vec<Digest>, Failure> {
    let (Place::Registry(reference), Some(config)) = (place, config) else { return Ok(Vec::new()) };
    let store = match config.larder.has_name(&reference.host) {
        true => store_if_any(config)?,
        false => None,
    };
    let Some(store) = store else { return Ok(Vec::new()) };
    let indexes = store.listing(&reference.repository, image).await;
    indexes.map_err(|error| Failure::store(format!("cannot read what lists {place}"), &error))
}

/// Lists them.
pub async fn run(
    text: &str,
    named: Option<&str>,
    context: &Context,
    config: Option<&Config>,
) -> Outcome {
    let place = Place::read(text, config)?;
    let trust = match config {
        Some(config) => config.trust()?,
        None => Trust::default(),
    };
    let reference = match (named, &place) {
        (Some(named), _) => Some(crate::context::reference(named, config)?),
        (None, Place::Registry(reference)) => Some(reference.clone()),
        (None, _) => None,
    };
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let failed =
        |error| Failure::transfer(format!("cannot read the signatures of {place}"), &error);
    let top = source.manifest(&selector).await.map_err(failed)?;
    let (digest, document) = &top;
    let children = document.children().iter().map(|child| child.digest.clone());
    let platforms = children.filter(|child| document.lists_platform(child)).take(PLATFORMS);
    let indexes = listing(&place, digest, config).await?;
    let mut others = documents(&*source, platforms.chain(indexes)).await.map_err(failed)?;
    others.retain(|(_, one)| one.children().is_empty() || one.lists_platform(digest));
    let all: Vec<&FoundDocument> = std::iter::once(&top).chain(&others).collect();
    let about: Vec<Digest> = all.iter().map(|(digest, _)| digest.clone()).collect();
    let gathered = gather(&*source, about).await.map_err(failed)?;
    let names = reference.as_ref().map(|one| names_of(one, config)).unwrap_or_default();
    let tags: Vec<String> =
        reference.iter().filter_map(|one| Some(one.tag.as_ref()?.to_string())).collect();
    let judging = Judging { trust: &trust, names: &names, tags: &tags };
    let found: Vec<OneSignature> = all
        .into_iter()
        .flat_map(|one| {
            let own = gathered.iter().filter(|found| found.about == one.0);
            let examined = judging.examine(one, &[], own);
            examined.into_iter().map(|found| OneSignature::of(found, &one.0)).collect::<Vec<_>>()
        })
        .collect();
    // An index vouches for what it lists, and none of its platforms for it.
    let is_platform = |about: &Digest| document.lists_platform(about);
    let holds = |one: &&OneSignature| one.holds && one.is_signature && !is_platform(&one.about);
    let signed_by: BTreeSet<String> =
        found.iter().filter(holds).filter_map(|one| one.signer.clone()).collect();
    let digest = digest.clone();
    context.output.tell(&SignaturesReport {
        image: place.to_string(),
        digest,
        names,
        signed_by: signed_by.into_iter().collect(),
        signatures: found,
        signers: trust.signers.len(),
    });
    Ok(Exit::Done)
}

impl Report for SignaturesReport {
    const KIND: &'static str = "image-signatures";

    fn show(&self, out: &Output) {
        if self.signatures.is_empty() {
            return out.result(format!(
                "nothing that calls itself a signature lies beside {}",
                self.image
            ));
        }
        let columns = ["SIGNATURE", "ABOUT", "FORM", "BY", "WHAT IT IS WORTH"];
        let mut table = Table::new(out.width(), &columns).sparing(&["FORM"]);
        for one in &self.signatures {
            let about = match one.about == self.digest {
                true => "the image".to_owned(),
                false => short(&one.about).to_owned(),
            };
            let by = one.signer.clone().unwrap_or_else(|| paint(DIM, "-"));
            let form = one.form.unwrap_or("-").to_owned();
            table.row([short(&one.companion).to_owned(), about, form, by, one.worth()]);
        }
        out.table(&table);
        out.result(match self.signed_by.as_slice() {
            [] => match self.signatures.iter().any(|one| one.holds) {
                false => format!("nobody who is named has signed {}", self.image),
                true => format!("of what holds, nothing is a signature over {} itself", self.image),
            },
            all => format!("{} is signed by {}", self.image, paint(STRONG, all.join(", "))),
        });
        if self.names.is_empty() {
            out.note("It has no name here, so that no signer speaks for it: `--as HOST/REPOSITORY:TAG` says what it is.");
        }
        if self.signers == 0 {
            out.note(
                "No [[signer]] is named in the configuration, so that nobody's signature counts.",
            );
        } else {
            let signers = count(self.signers, "signer");
            out.note(paint(DIM, format!("judged by {signers} of the configuration")));
        }
    }
}

impl OneSignature {
    fn worth(&self) -> String {
        if let Some(reason) = &self.reason {
            let colour = if self.flaw == Some("bad-signature") { WARN } else { BAD };
            return format!("{} it {reason}", paint(colour, "does not count:"));
        }
        let key = self.key.as_ref().map(|key| format!(" by key {}", key.get(..12).unwrap_or(key)));
        let by = key.unwrap_or_else(|| format!(" by {}", self.certificate.join(", ")));
        let at = self
            .at
            .map_or_else(String::new, |at| format!(", of {}", date(at.saturating_mul(1000))));
        let end = self
            .end
            .map_or_else(String::new, |end| format!(", until {}", date(end.saturating_mul(1000))));
        let says = self.says.as_ref().map_or_else(String::new, |says| format!(", says {says}"));
        format!("{}{by}{at}{end}{says}", paint(GOOD, "holds"))
    }
}

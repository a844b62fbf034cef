//! Who signed an image, wherever it is: read there, and held against the signers of the configuration.

use std::collections::BTreeSet;

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::policy::{
    Case, Court, Fact, ImageFacts, ImageName, RuleAnswer, SignatureFacts, Verdict,
};
use larder_core::reference::{Reference, Selector};
use larder_core::signature::{Examined, GatheredCompanion, Question, Target, Trust, examine};
use larder_store::Store;
use larder_transfer::{Source, TransferError, signatures};

use crate::config::Config;
use crate::context::now;
use crate::failure::{Exit, Failure};

/// A manifest with its digest.
pub type FoundDocument = (Digest, Document);

/// The names that an image has here, and had where it comes from, as `host/repository`.
pub fn names_of(reference: &Reference, config: Option<&Config>) -> Vec<String> {
    let mut names = vec![format!("{}/{}", reference.host, reference.repository)];
    if let Some(config) = config.filter(|config| config.larder.has_name(&reference.host)) {
        let origin = config.routes().origins().of(&reference.repository);
        names.extend(origin.map(|image| image.to_string()));
    }
    names
}

/// Under which names an image is judged, and by whom.
#[derive(Clone, Copy)]
pub struct Judging<'j> {
    pub trust: &'j Trust,
    /// As `host/repository`.
    pub names: &'j [String],
    pub tags: &'j [String],
}

impl Judging<'_> {
    /// What was gathered of an image, and of indexes that list it, examined.
    pub fn examine<'g>(
        &self,
        image: &FoundDocument,
        indexes: &[FoundDocument],
        gathered: impl IntoIterator<Item = &'g GatheredCompanion>,
    ) -> Vec<Examined> {
        fn target((digest, document): &FoundDocument) -> Target<'_> {
            Target { digest, media_type: &document.media_type, bytes: &document.bytes }
        }
        let indexes: Vec<Target<'_>> = indexes.iter().map(target).collect();
        let question = Question {
            names: self.names,
            tags: self.tags,
            image: target(image),
            indexes: &indexes,
            now: now().div_euclid(1000),
        };
        examine(self.trust, &question, gathered.into_iter().map(GatheredCompanion::found))
    }
}

/// The signers whose signatures hold, by name.
pub fn signers_of(examined: &[Examined]) -> Vec<String> {
    let holding = examined.iter().filter_map(|one| one.outcome.as_ref().ok());
    let signed = holding.filter(|proven| proven.is_signature);
    let names: BTreeSet<String> = signed.map(|proven| proven.signer.clone()).collect();
    names.into_iter().collect()
}

/// What lies beside an image and the indexes that are given. Where nothing is, nothing was signed.
///
/// # Errors
/// It cannot be read.
pub async fn gathered(
    source: &dyn Source,
    image: &FoundDocument,
    indexes: &[FoundDocument],
) -> Result<Vec<GatheredCompanion>, TransferError> {
    let about = std::iter::once(image).chain(indexes).map(|(digest, _)| digest.clone());
    match signatures(source, about).await {
        Err(error) if error.is_missing() => Ok(Vec::new()),
        gathered => gathered,
    }
}

/// The indexes of this larder's repository that list an image.
///
/// # Errors
/// The store cannot be read.
pub async fn listing(
    store: &Store,
    held: &Reference,
    source: &dyn Source,
    image: &Digest,
) -> Result<Vec<FoundDocument>, Failure> {
    let what = || format!("cannot read what lists {held}");
    let indexes = store.listing(&held.repository, image).await;
    let indexes = indexes.map_err(|error| Failure::store(what(), &error))?;
    let mut all =
        documents(source, indexes).await.map_err(|error| Failure::transfer(what(), &error))?;
    all.retain(|(_, index)| index.lists_platform(image));
    Ok(all)
}

/// The manifests of these digests that are there.
///
/// # Errors
/// One is there and cannot be read.
pub async fn documents(
    source: &dyn Source,
    digests: impl IntoIterator<Item = Digest>,
) -> Result<Vec<FoundDocument>, TransferError> {
    let mut all = Vec::new();
    for one in digests {
        match source.manifest(&Selector::Digest(one)).await {
            Ok(found) => all.push(found),
            // An index may list what is not here.
            Err(error) if error.is_missing() => {}
            Err(error) => return Err(error),
        }
    }
    Ok(all)
}

/// The rules that ask who signed an image, as they hold for everybody: asked before it gets a tag.
pub struct SignatureGate<'g> {
    pub court: &'g Court,
    pub trust: &'g Trust,
}

/// An image that is about to get a tag.
pub struct JudgedImage<'j> {
    pub case: Case<'j>,
    pub found: &'j FoundDocument,
    /// Where it is read, with what was signed of it.
    pub from: &'j dyn Source,
    /// Where this larder's store holds it, with indexes that may list it. None: it does not.
    pub held: Option<(&'j Store, &'j Reference)>,
}

impl SignatureGate<'_> {
    /// What was signed of an image, by what lies where it is read. All else is asked when it is pulled.
    ///
    /// # Errors
    /// It cannot be read.
    pub async fn facts(&self, judged: &JudgedImage<'_>) -> Result<ImageFacts, Failure> {
        let JudgedImage { case, found, from, held } = judged;
        let indexes = match held {
            Some((store, held)) => listing(store, held, *from, &found.0).await?,
            None => Vec::new(),
        };
        let gathered = gathered(*from, found, &indexes).await.map_err(|error| {
            Failure::transfer(format!("cannot read the signatures of {}", case.image), &error)
        })?;
        let names = [case.image.to_string()];
        let tags: Vec<String> = case.named.tag.iter().map(ToString::to_string).collect();
        let judging = Judging { trust: self.trust, names: &names, tags: &tags };
        let is_withdrawn = self.trust.withdrawn.contains(&found.0);
        let found = judging.examine(found, &indexes, &gathered);
        Ok(ImageFacts {
            platforms: Fact::Later,
            held: Fact::Later,
            signed: Fact::Later,
            inside: Fact::Later,
            runs: Fact::Later,
            signatures: Fact::Is(SignatureFacts { found, is_withdrawn }),
        })
    }

    /// Refuses what a rule refuses.
    ///
    /// # Errors
    /// A rule refuses it.
    pub fn check(
        &self,
        judged: &JudgedImage<'_>,
        facts: &ImageFacts,
        what: String,
        remedy: &str,
    ) -> Result<(), Failure> {
        let named = ImageName { digest: Some(&judged.found.0), ..judged.case.named };
        let case = Case { named, ..judged.case.clone() };
        match self.court.rule(None, None, &case, facts, now()) {
            RuleAnswer::Decided { verdict: Verdict::Deny, rule: Some(rule), lack } => {
                let reason = rule.reason(lack.as_ref());
                let cause = format!("it is refused by {reason} ({})", rule.line);
                Err(Failure::usage(what, cause, remedy).ending(Exit::No))
            }
            RuleAnswer::Decided { .. } | RuleAnswer::Needs(_) => Ok(()),
        }
    }
}

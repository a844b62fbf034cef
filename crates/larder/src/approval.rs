//! Our own signature over an image: only after our own rules let it through, and once.

use larder_core::companion::list_tag;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::name::Tag;
use larder_core::policy::{Court, Fact, FactsWish};
use larder_core::reference::{Reference, Selector};
use larder_core::signature::{
    Approval, EMPTY_CONFIG, Examined, FoundBy, GatheredCompanion, Json, KeyUse, Proven, PublicKey,
    Said, SignatureForm, SignedBy, SignedLayer, Signer, ToSign, Trust, approval_companion,
    small_companion,
};
use larder_store::Store;
use larder_transfer::{ManifestRole, Source, Target, TransferError};

use crate::config::{Config, SignerConfig};
use crate::context::{now, read_lock};
use crate::failure::{Exit, Failure};
use crate::output::time;
use crate::record;
use crate::signatures::{FoundDocument, JudgedImage, Judging, SignatureGate, gathered, names_of};

/// Who signs, and what is asked before.
pub struct Approver<'c> {
    config: &'c Config,
    court: Court,
    signer: &'c SignerConfig,
    known: Signer,
    predicate_type: &'c str,
    trust: Trust,
    wish: ApprovalWish<'c>,
}

/// How somebody wants images to be signed.
#[derive(Debug, Clone, Copy)]
pub struct ApprovalWish<'w> {
    /// The signer in whose name.
    pub name: &'w str,
    pub because: &'w str,
    /// Whether the form for verifiers that read small payloads alone is written beside it.
    pub small: bool,
    /// Whether it is signed although it is already.
    pub anew: bool,
}

/// What is to be signed.
#[derive(Clone, Copy)]
pub struct Approved<'a> {
    /// By which name, in the place where the signature goes.
    pub image: &'a Reference,
    pub found: &'a FoundDocument,
    /// The digest of what it was trimmed from. None: it was not trimmed.
    pub trimmed_from: Option<&'a Digest>,
    /// Where it is read, with what others signed of it.
    pub from: &'a dyn Source,
    /// Where this larder's store holds it, and under which name. None: it does not.
    pub held: Option<(&'a Store, &'a Reference)>,
}

/// What came of it, or would.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SignedOutcome {
    /// Whether an approval was written. False: there was one.
    pub is_new: bool,
    /// The same for the small form. None: it was not wanted.
    pub small_is_new: Option<bool>,
}

impl SignedOutcome {
    /// Whether anything was written.
    pub fn wrote(self) -> bool {
        self.is_new || self.small_is_new == Some(true)
    }
}

impl<'c> Approver<'c> {
    /// In the name of a signer.
    ///
    /// # Errors
    /// There is no such signer, it signs nothing, or what is believed cannot be read.
    pub fn new(config: &'c Config, wish: ApprovalWish<'c>) -> Result<Self, Failure> {
        let name = wish.name;
        let what = || format!("cannot sign as {}", larder_core::shown::cut(name, 100));
        let Some(signer) = config.signers.iter().find(|one| one.name.get_ref() == name) else {
            let names = config.signers.iter().filter(|one| one.sign.is_some());
            let names: Vec<&str> = names.map(|one| one.name.get_ref().as_str()).collect();
            let remedy = match names.as_slice() {
                [] => "`larder sign --new-key FILE` makes a key, and says what to add".to_owned(),
                names => format!("those that sign here: {}", names.join(", ")),
            };
            return Err(Failure::usage(what(), "no [[signer]] has that name", remedy));
        };
        if wish.because.trim().is_empty() {
            let remedy = "say why; it stands in the signature and in the record";
            return Err(Failure::usage(what(), "`--because` says nothing", remedy));
        }
        let Some(predicate_type) = signer.statement_type().filter(|_| signer.sign.is_some()) else {
            let cause = "its [[signer]] says of nothing with which is signed";
            let remedy = "add `sign = { key = \"trust/approval.key\" }` to it; `larder sign --new-key FILE` makes a key";
            return Err(Failure::usage(what(), cause, remedy));
        };
        let trust = config.trust()?;
        let known = trust.signers.iter().find(|one| one.name == name).cloned();
        let known = known.ok_or_else(|| {
            Failure::usage(what(), "its keys cannot be read", "`larder check` says why")
        })?;
        let court = config.court(read_lock(config)?)?;
        Ok(Self { config, court, signer, known, predicate_type, trust, wish })
    }

    /// The name of the signer.
    pub fn name(&self) -> &str {
        self.signer.name.get_ref()
    }

    /// In whose name, and why: for the record.
    pub fn said(&self) -> (&str, &str) {
        (self.name(), self.wish.because)
    }

    fn what(&self, image: &Reference) -> String {
        format!("cannot sign {image} as {}", self.name())
    }

    /// What is said of an image.
    fn approval(&self, of: Approved<'_>) -> Approval {
        let case = self.court.reference(of.image);
        let origin = (!case.own).then(|| match case.named.tag {
            Some(tag) => format!("{}:{tag}", case.image),
            None => case.image.to_string(),
        });
        let held = of.held.map(|(_, held)| held).filter(|held| *held != of.image);
        Approval {
            by: self.name().to_owned(),
            run_by: record::origin(),
            because: self.wish.because.to_owned(),
            on: time(now()),
            class: case.class.map(str::to_owned),
            from: origin.or_else(|| held.map(ToString::to_string)),
            trimmed_from: of.trimmed_from.cloned(),
        }
    }

    /// Signs an image, unless it is signed already. `source` reads what lies where `target` writes; without a target it is
    /// only said what would be done.
    ///
    /// # Errors
    /// A rule refuses the image, the signer does not speak for it, or something cannot be read or written.
    pub async fn sign(
        &self,
        source: &dyn Source,
        target: Option<&dyn Target>,
        of: Approved<'_>,
    ) -> Result<SignedOutcome, Failure> {
        let (image, (digest, document)) = (of.image, of.found);
        let failed = |error: TransferError| Failure::transfer(self.what(image), &error);
        let names = names_of(image, Some(self.config));
        if !self.known.speaks_for(&names) {
            let cause = format!("{} does not speak for {}", self.name(), names.join(" or "));
            let remedy = "widen `images` of its [[signer]], or sign as somebody else";
            return Err(Failure::usage(self.what(image), cause, remedy).ending(Exit::No));
        }
        let judging = Judging { trust: &self.trust, names: &names, tags: &[] };
        let there = gathered(source, of.found, &[]).await.map_err(failed)?;
        let found = judging.examine(of.found, &[], &there);
        let is_there = |wanted: &dyn Fn(&Examined, &Proven) -> bool| {
            let counts = |one: &Examined| {
                let proven = one.outcome.as_ref();
                proven.is_ok_and(|proven| proven.signer == self.name() && wanted(one, proven))
            };
            !self.wish.anew && found.iter().any(counts)
        };
        let is_approved = is_there(&|_, proven| {
            proven.said.as_ref().is_some_and(|said| said.predicate_type == self.predicate_type)
        });
        let is_small = is_there(&|one, _| one.form == Some(SignatureForm::Small));
        let outcome = SignedOutcome {
            is_new: !is_approved,
            small_is_new: self.wish.small.then_some(!is_small),
        };
        if !outcome.wrote() {
            return Ok(outcome);
        }
        let approval = self.approval(of);
        // Of several of our own, one has to be the first.
        let ours: Vec<_> = self.config.signers.iter().filter(|one| one.sign.is_some()).collect();
        self.judge_with(of, &approval, &ours).await?;
        let Some(target) = target else { return Ok(outcome) };
        let usage = |error: &dyn std::fmt::Display| Failure::usage(self.what(image), error, "");
        if !is_approved {
            let statement =
                ToSign::approval(&image.image(), digest, self.predicate_type, &approval);
            let layer = self.seal(statement, image)?;
            let size = document.bytes.len() as u64;
            let subject = Descriptor::plain(&document.media_type, digest.clone(), size);
            let companion = approval_companion(&layer, subject, &approval.on);
            let companion = companion.map_err(|error| usage(&error))?;
            self.check_counts(of, (&companion, &layer), FoundBy::Reference, judging)?;
            write(target, (&companion, &layer), None).await.map_err(failed)?;
        }
        if self.wish.small && !is_small {
            let layer = self.seal(ToSign::small(&image.image(), digest), image)?;
            let tag: Tag =
                format!("{}.sig", list_tag(digest)).parse().map_err(|error| usage(&error))?;
            let before = match source.manifest(&Selector::Tag(tag.clone())).await {
                Ok((_, before)) => Some(before),
                Err(error) if error.is_missing() => None,
                Err(error) => return Err(failed(error)),
            };
            let companion = small_companion(&layer, before.as_ref()).map_err(|error| {
                let remedy =
                    format!("see what lies under the tag {tag}; no signature can be added to it");
                Failure::usage(self.what(image), error, remedy).ending(Exit::No)
            })?;
            self.check_counts(of, (&companion, &layer), FoundBy::Tag, judging)?;
            write(target, (&companion, &layer), Some(&tag)).await.map_err(failed)?;
        }
        target.finish().await.map_err(failed)?;
        Ok(outcome)
    }

    /// Refuses what our own rules refuse to everybody, with this signature on it.
    ///
    /// # Errors
    /// They do, or what they ask cannot be looked up.
    pub async fn judge(&self, of: Approved<'_>) -> Result<(), Failure> {
        self.judge_with(of, &self.approval(of), &[self.signer]).await
    }

    async fn judge_with(
        &self,
        of: Approved<'_>,
        approval: &Approval,
        signers: &[&SignerConfig],
    ) -> Result<(), Failure> {
        let digest = of.found.0.clone();
        let predicate = serde_json::to_vec(approval).ok().and_then(|bytes| Json::read(&bytes));
        let ours = signers.iter().filter_map(|signer| {
            Some(Examined {
                companion: digest.clone(),
                form: Some(SignatureForm::Dsse),
                outcome: Ok(Proven {
                    signer: signer.name.get_ref().clone(),
                    by: SignedBy::Key(String::new()),
                    over: digest.clone(),
                    at: Some(now().div_euclid(1000)),
                    until: None,
                    said: Some(Said {
                        predicate_type: signer.statement_type()?.to_owned(),
                        predicate: predicate.clone()?,
                    }),
                    is_signature: true,
                }),
            })
        });
        let ours: Vec<Examined> = ours.collect();
        let gate = SignatureGate { court: &self.court, trust: &self.trust };
        let case = self.court.reference(of.image);
        let judged = JudgedImage {
            case: case.clone(),
            found: of.found,
            from: of.from,
            held: of.held.filter(|_| of.trimmed_from.is_none()),
        };
        let mut facts = gate.facts(&judged).await?;
        if let Fact::Is(signatures) = &mut facts.signatures {
            signatures.found.extend(ours);
        }
        if let Some((store, held)) = of.held {
            let wish =
                FactsWish { runs: None, signatures: None, ..self.court.wish(None, &case, now()) };
            // What a trimmed index leaves out was looked into with the rest.
            let digest = of.trimmed_from.unwrap_or(&of.found.0).clone();
            let known = store.facts(&held.repository, &Selector::Digest(digest), wish).await;
            let known = known.map_err(|error| Failure::store(self.what(of.image), &error))?;
            (facts.inside, facts.platforms) = (known.inside, known.platforms);
            // What the rules let be because it was here before is let be here too.
            let befores = self.court.rules.all().iter().filter_map(|rule| rule.held_before);
            let before = befores.min().unwrap_or(i64::MIN);
            if held == of.image && matches!(known.held, Fact::Is(since) if since < before) {
                facts.held = Fact::Is(i64::MIN);
            }
        } else {
            (facts.inside, facts.platforms) = (Fact::Unknown, Fact::Unknown);
        }
        let remedy =
            "what our own rules refuse is not approved: mend what is lacking, or change the rule";
        gate.check(&judged, &facts, self.what(of.image), remedy)
    }

    /// Signs, and finds out which of the signer's keys did.
    fn seal(&self, what: ToSign, image: &Reference) -> Result<SignedLayer, Failure> {
        let said = self.config.sign_as(self.signer, &what.message)?;
        // Programs write a signature as it is, or as a text.
        let text = std::str::from_utf8(&said).ok().and_then(from_base64);
        let verifies = |signature: &[u8]| -> Option<&PublicKey> {
            let keys = self.known.keys.iter();
            keys.into_iter().find(|key| key.verifies(KeyUse::OfItsKind, &what.message, signature))
        };
        let candidates = std::iter::once(said).chain(text);
        let found = candidates.into_iter().find_map(|one| verifies(&one).map(|key| (key, one)));
        match found {
            Some((key, signature)) => {
                let key = key.clone();
                Ok(what.sealed(&key, &signature))
            }
            None => {
                let cause = "what was signed with is none of its `keys`";
                let remedy = "add the public half to `keys` of its [[signer]]: `larder sign --show-key FILE` tells it";
                Err(Failure::usage(self.what(image), cause, remedy))
            }
        }
    }

    /// Refuses to write what would not count.
    fn check_counts(
        &self,
        of: Approved<'_>,
        (companion, layer): (&Document, &SignedLayer),
        how: FoundBy,
        judging: Judging<'_>,
    ) -> Result<(), Failure> {
        let gathered = GatheredCompanion {
            digest: Digest::of(&companion.bytes),
            about: of.found.0.clone(),
            how,
            manifest: companion.bytes.clone(),
            layers: [(layer.descriptor.digest.clone(), layer.bytes.to_vec())].into(),
        };
        let found = judging.examine(of.found, &[], &[gathered]);
        if found.iter().any(|one| one.outcome.as_ref().is_ok_and(|one| one.signer == self.name())) {
            return Ok(());
        }
        let why = found.iter().find_map(|one| one.outcome.as_ref().err());
        let why = why.map_or_else(String::new, |flaw| format!(": it {flaw}"));
        let cause = format!("what was signed would not count{why}");
        Err(Failure::usage(
            self.what(of.image),
            cause,
            "`larder check` says what is believed of whom",
        ))
    }
}

/// Writes a companion: its layer first, and what makes it visible last.
async fn write(
    target: &dyn Target,
    (companion, layer): (&Document, &SignedLayer),
    tag: Option<&Tag>,
) -> Result<(), TransferError> {
    let config = companion.blobs().next().map(|config| (config, EMPTY_CONFIG));
    // That of somebody else's signatures is there already.
    let config = config.filter(|(config, bytes)| config.digest == Digest::of(bytes));
    let blobs = config.into_iter().chain([(&layer.descriptor, &*layer.bytes)]);
    for (blob, bytes) in blobs {
        if !target.has_blob(blob).await? {
            let bytes = bytes::Bytes::copy_from_slice(bytes);
            let content = futures_util::StreamExt::boxed(futures_util::stream::iter([Ok(bytes)]));
            target.take_blob(blob, content).await?;
        }
    }
    let digest = Digest::of(&companion.bytes);
    target.take_manifest(&digest, companion, ManifestRole::Image(tag), false).await
}

/// The bytes of a text in base64, which may be cut into lines.
fn from_base64(text: &str) -> Option<Vec<u8>> {
    use base64::Engine as _;
    let text: String = text.split_ascii_whitespace().collect();
    base64::engine::general_purpose::STANDARD.decode(text).ok()
}

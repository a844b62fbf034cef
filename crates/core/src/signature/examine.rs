//! What was found beside an image: each signature in it is by whom, over what, and why it does not count.

use std::collections::BTreeMap;

use super::chain::{Authorities, Purpose};
use super::dsse::{Dsse, Said};
use super::flaw::Flaw;
use super::jose::Sealed;
use super::json::Json;
use super::log::{Log, LogProof, Logged, sha256};
use super::public_key::{KeyUse, MalformedKey, PublicKey};
use super::stamp::stamped_at;
use super::target::{Target, is_target};
use super::trust::{Signer, Trust};
use super::{cose, jose, wire};
use crate::certificate::CertificateUsage;
use crate::digest::Digest;
use crate::document::{Descriptor, Document};

/// The image that is asked about.
#[derive(Debug, Clone, Copy)]
pub struct Question<'q> {
    /// The names that it has and had (`host/repository`): its own, and where it comes from.
    pub names: &'q [String],
    /// The tags that it is asked by. Empty: it is asked by its digest.
    pub tags: &'q [String],
    pub image: Target<'q>,
    /// Indexes that are held and list it as a platform: a signature over one is over it.
    pub indexes: &'q [Target<'q>],
    /// In seconds since 1970.
    pub now: i64,
}

/// How a companion was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FoundBy {
    /// It refers to what it is about.
    Reference,
    /// A tag that is made from the digest leads to it.
    Tag,
}

/// Something that was found beside an image, or beside an index that lists it.
pub struct FoundCompanion<'c> {
    pub digest: &'c Digest,
    pub about: &'c Digest,
    pub how: FoundBy,
    /// Its manifest.
    pub bytes: &'c [u8],
    /// What could be read of its layers.
    pub layers: &'c BTreeMap<Digest, Vec<u8>>,
}

/// The same with what was read of it.
#[derive(Debug, Clone)]
pub struct GatheredCompanion {
    pub digest: Digest,
    pub about: Digest,
    pub how: FoundBy,
    pub manifest: bytes::Bytes,
    /// Those of its layers that may be signatures and could be read.
    pub layers: BTreeMap<Digest, Vec<u8>>,
}

impl GatheredCompanion {
    /// As it is examined.
    pub fn found(&self) -> FoundCompanion<'_> {
        FoundCompanion {
            digest: &self.digest,
            about: &self.about,
            how: self.how,
            bytes: &self.manifest,
            layers: &self.layers,
        }
    }
}

/// The endings of tags under which the older scheme keeps signatures and attestations beside an image.
pub const SIGNATURE_TAGS: [&str; 2] = ["sig", "att"];

/// The form of a signature.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SignatureForm {
    Dsse,
    Jws,
    Cose,
    Small,
    Bundle,
}

/// A signature that holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proven {
    pub signer: String,
    /// The key by the SHA-256 of its `SubjectPublicKeyInfo`, in hexadecimal; or the names of its certificate.
    pub by: SignedBy,
    /// The image, or an index that lists it.
    pub over: Digest,
    /// When it was made, in seconds since 1970: as a stamp or a log proves it, else as the signer says. None: nobody says.
    pub at: Option<i64>,
    /// Until when it holds: its own end, its certificate's, that of the lists of what was revoked. None: no end is known.
    pub until: Option<i64>,
    /// What it says. None: no more than that it is signed.
    pub said: Option<Said>,
    /// Whether it counts as a signature: it says no more, or says what its signer's statements count for.
    pub is_signature: bool,
}

/// Whose hand it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignedBy {
    Key(String),
    Certificate(Vec<String>),
}

/// One signature that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Examined {
    pub companion: Digest,
    /// None: there is none in it that could be read.
    pub form: Option<SignatureForm>,
    pub outcome: Result<Proven, Flaw>,
}

/// The most layers of one companion, and signatures that are verified of all.
const LAYERS: usize = 100;
const VERIFIED: usize = 200;
/// The largest signature, and the largest attestation, in bytes.
pub(super) const SIGNATURE_LIMIT: u64 = 1024 * 1024;
pub(super) const ATTESTATION_LIMIT: u64 = 16 * 1024 * 1024;
/// How far the clocks of signers may be ahead, in seconds.
pub(super) const AHEAD: i64 = 300;

/// The most that is read of a layer, in bytes. None: it is no signature.
pub fn layer_limit(media_type: &str) -> Option<u64> {
    match media_type {
        wire::DSSE => Some(ATTESTATION_LIMIT),
        wire::JWS | wire::COSE | wire::SMALL => Some(SIGNATURE_LIMIT),
        other if other.starts_with(wire::BUNDLE_FAMILY) => Some(ATTESTATION_LIMIT),
        _ => None,
    }
}

/// Goes through what was found.
pub(super) struct Examiner<'e> {
    pub trust: &'e Trust,
    pub question: &'e Question<'e>,
    left: usize,
}

/// Who a signature is by, and how long that holds.
pub(super) struct Hand<'e> {
    pub signer: &'e Signer,
    pub by: SignedBy,
    pub until: Option<i64>,
    /// The key or the certificate in DER, as a log names it.
    pub verifier: Vec<u8>,
}

impl Examined {
    /// About how many bytes of memory it takes.
    pub fn weight(&self) -> usize {
        let own = 2 * std::mem::size_of::<Self>();
        own + match &self.outcome {
            Ok(Proven { said: Some(said), .. }) => {
                said.predicate_type.len() + said.predicate.weight()
            }
            Ok(_) => 0,
            Err(_) => super::flaw::LONGEST,
        }
    }
}

/// Examines all that was found.
pub fn examine<'c>(
    trust: &Trust,
    question: &Question<'_>,
    found: impl IntoIterator<Item = FoundCompanion<'c>>,
) -> Vec<Examined> {
    let mut examiner = Examiner { trust, question, left: VERIFIED };
    let mut all = Vec::new();
    for one in found {
        let before = all.len();
        if let Err(flaw) = examiner.companion(&one, &mut all) {
            all.truncate(before);
            all.push(Examined { companion: one.digest.clone(), form: None, outcome: Err(flaw) });
        }
    }
    for one in &mut all {
        match &mut one.outcome {
            Ok(Proven { said: Some(said), .. }) if !trust.asked.contains(&said.predicate_type) => {
                said.predicate = Json::Null;
            }
            Ok(_) => {}
            Err(flaw) => flaw.shorten(),
        }
    }
    all
}

impl<'e> Examiner<'e> {
    fn companion(
        &mut self,
        found: &FoundCompanion<'_>,
        all: &mut Vec<Examined>,
    ) -> Result<(), Flaw> {
        let broken = |_| Flaw::Malformed("its manifest cannot be read");
        let bytes = bytes::Bytes::copy_from_slice(found.bytes);
        let document = Document::read(bytes, None).map_err(broken)?;
        if found.how == FoundBy::Reference {
            let subject = document.subject.as_ref().map(|subject| &subject.digest);
            if subject != Some(found.about) {
                return Err(Flaw::WrongSubject);
            }
        }
        let layers: Vec<&Descriptor> = document.blobs().skip(1).collect();
        if layers.len() > LAYERS {
            return Err(Flaw::TooLarge);
        }
        let mut is_any = false;
        for layer in layers {
            let Some(limit) = layer_limit(&layer.media_type) else { continue };
            if layer.media_type == wire::SMALL
                && !layer.annotations.contains_key(wire::SMALL_SIGNATURE)
            {
                continue;
            }
            is_any = true;
            let form = form_of(&layer.media_type);
            let mut add = |outcome: Result<Proven, Flaw>| {
                let companion = found.digest.clone();
                all.push(Examined { companion, form: Some(form), outcome });
            };
            if layer.size > limit {
                add(Err(Flaw::TooLarge));
                continue;
            }
            let Some(bytes) = found.layers.get(&layer.digest) else {
                add(Err(Flaw::Malformed("its content is not here")));
                continue;
            };
            if bytes.len() as u64 != layer.size {
                add(Err(Flaw::Malformed("its content has another size")));
                continue;
            }
            let Some(target) = self.target(found.about) else {
                // It is about what vouches for nothing: another image, or an index that does not list it.
                let digest = Some(found.about.clone());
                add(Err(Flaw::WrongDigest { signer: "whoever signed".to_owned(), digest }));
                continue;
            };
            match form {
                SignatureForm::Dsse => match read_dsse(bytes) {
                    Err(flaw) => add(Err(flaw)),
                    Ok(envelope) => self.dsse(&envelope, &target).into_iter().for_each(add),
                },
                SignatureForm::Jws => {
                    add(jose::read(bytes).and_then(|read| self.sealed(&read, &target)));
                }
                SignatureForm::Cose => {
                    add(cose::read(bytes).and_then(|read| self.sealed(&read, &target)));
                }
                SignatureForm::Small => add(self.small(layer, bytes, &target)),
                SignatureForm::Bundle => add(self.bundle(layer, bytes, &target)),
            }
        }
        if is_any { Ok(()) } else { Err(Flaw::NoSignature) }
    }

    /// What a signature about a digest would be over.
    fn target(&self, about: &Digest) -> Option<Target<'e>> {
        let all = self.question.indexes.iter().chain([&self.question.image]);
        let mut all = all.filter(|target| target.digest == about);
        all.next().copied()
    }

    fn spend(&mut self) -> Result<(), Flaw> {
        self.left = self.left.checked_sub(1).ok_or(Flaw::TooLarge)?;
        Ok(())
    }

    /// Whose key made a signature. What it names itself is only told.
    pub fn by_key(
        &mut self,
        with: KeyUse,
        message: &[u8],
        signature: &[u8],
        named: Option<&str>,
    ) -> Result<Hand<'e>, Flaw> {
        let mut best: Option<Flaw> = None;
        let (mut has_keys, mut has_fitting) = (false, false);
        for signer in &self.trust.signers {
            let revoked = signer.revoked.iter().map(|key| (key, true));
            for (key, is_revoked) in revoked.chain(signer.keys.iter().map(|key| (key, false))) {
                has_keys = true;
                if !key.takes(with) {
                    continue;
                }
                has_fitting = true;
                self.spend()?;
                if !key.verifies(with, message, signature) {
                    continue;
                }
                let name = signer.name.clone();
                if is_revoked {
                    return Err(Flaw::KeyRevoked { signer: name });
                }
                if !signer.speaks_for(self.question.names) {
                    best = Some(Flaw::NotForThisRepository { signer: name });
                    continue;
                }
                let by = SignedBy::Key(key.id());
                return Ok(Hand { signer, by, until: None, verifier: key.info().to_vec() });
            }
        }
        if has_keys && !has_fitting {
            return Err(Flaw::WrongAlgorithm("another than that of the keys".to_owned()));
        }
        Err(best.unwrap_or_else(|| Flaw::BadSignature { named: named.map(str::to_owned) }))
    }

    /// Whose certificate made a signature. A time that is believed counts where it lies within the certificate's dates.
    pub fn by_chain(
        &mut self,
        chain: &[Vec<u8>],
        with: KeyUse,
        message: &[u8],
        signature: &[u8],
        believed: Option<i64>,
    ) -> Result<Hand<'e>, Flaw> {
        // Long: what is asked of a certificate, in turn.
        let first = chain.first().ok_or(Flaw::Malformed("it comes with no certificate"))?;
        let leaf = CertificateUsage::read(first);
        let leaf = leaf.ok_or(Flaw::Malformed("its certificate cannot be read"))?;
        let key = PublicKey::read(&leaf.key).map_err(|error| match error {
            MalformedKey::Unsupported(what) | MalformedKey::Weak(what) => Flaw::Unsupported(what),
            MalformedKey::Shape => Flaw::Malformed("its certificate's key cannot be read"),
        })?;
        if !key.takes(with) {
            return Err(Flaw::WrongAlgorithm(
                "another than that of its certificate's key".to_owned(),
            ));
        }
        if let Some(signer) = self.trust.signers.iter().find(|signer| signer.revoked.contains(&key))
        {
            return Err(Flaw::KeyRevoked { signer: signer.name.clone() });
        }
        // Whoever gave the key itself needs nobody to certify it.
        if self.trust.signers.iter().any(|signer| signer.keys.contains(&key)) {
            let hand = self.by_key(with, message, signature, None)?;
            return Ok(Hand { verifier: first.clone(), ..hand });
        }
        let is_within = |at: &i64| (leaf.from..=leaf.until).contains(at);
        let believed = believed.filter(is_within);
        let at = believed.unwrap_or(self.question.now);
        let mut best: Option<Flaw> = None;
        let mut keep = |flaw: Flaw| {
            if best.as_ref().is_none_or(|best| flaw.rank() > best.rank()) {
                best = Some(flaw);
            }
        };
        for signer in &self.trust.signers {
            if signer.authorities.is_empty() {
                continue;
            }
            self.spend()?;
            let name = signer.name.clone();
            let certificate = match prove(&signer.authorities, chain, at, self.question.now) {
                Err(flaw) => {
                    keep(flaw);
                    continue;
                }
                Ok(certificate) => certificate,
            };
            let names: Vec<String> =
                certificate.emails.iter().chain(&certificate.uris).cloned().collect();
            if !signer.identity.as_ref().is_some_and(|identity| identity.is_of(&certificate)) {
                keep(Flaw::WrongSigner(names));
                continue;
            }
            if !signer.speaks_for(self.question.names) {
                keep(Flaw::NotForThisRepository { signer: name });
                continue;
            }
            if !key.verifies(with, message, signature) {
                return Err(Flaw::BadSignature { named: None });
            }
            let dates = believed.is_none().then_some(certificate.until);
            let until = dates.into_iter().chain(signer.authorities.required_until()).min();
            let by = SignedBy::Certificate(names);
            return Ok(Hand { signer, by, until, verifier: first.clone() });
        }
        Err(best.unwrap_or(Flaw::UntrustedChain("no authority is given")))
    }

    /// When the first of these stamps that is believed was made.
    pub fn stamped<'s>(
        &self,
        stamps: impl IntoIterator<Item = &'s Vec<u8>>,
        signature: &[u8],
    ) -> Option<i64> {
        let now = self.question.now;
        let mut stamps = stamps.into_iter().take(5);
        stamps.find_map(|stamp| stamped_at(stamp, signature, &self.trust.stamps, now))
    }

    /// That a log has it, where that is asked for.
    pub fn is_logged(
        &self,
        signer: &Signer,
        proof: Result<LogProof, &'static str>,
    ) -> Result<(), Flaw> {
        let is_required = self.trust.logs.iter().any(|log: &Log| log.is_required);
        match proof {
            _ if !is_required || !signer.is_logged => Ok(()),
            Ok(LogProof { is_of_required: true, .. }) => Ok(()),
            Ok(_) => Err(Flaw::Log("it is in another log than the one that is asked for")),
            Err(why) => Err(Flaw::Log(why)),
        }
    }

    fn sealed(&mut self, read: &Sealed, target: &Target<'_>) -> Result<Proven, Flaw> {
        let stamp = self.stamped(&read.stamps, &read.signature);
        let (signed, signature) = (&read.signed, &read.signature);
        let hand = match read.chain.is_empty() {
            true => self.by_key(read.with, signed, signature, read.named.as_deref())?,
            false => self.by_chain(&read.chain, read.with, signed, signature, stamp)?,
        };
        if read.content_type.as_deref() != Some(wire::TARGET) {
            return Err(Flaw::WrongType(read.content_type.clone().unwrap_or_default()));
        }
        is_target(&read.payload, &hand.signer.name, target)?;
        if let Some(until) = read.until.filter(|until| *until <= self.question.now) {
            return Err(Flaw::SignatureExpired(until));
        }
        if let Some(at) = read.at.filter(|at| *at > self.question.now + AHEAD) {
            return Err(Flaw::NotYet(at));
        }
        self.is_logged(hand.signer, Err("its form has no entry of a log"))?;
        Ok(Proven {
            signer: hand.signer.name.clone(),
            by: hand.by,
            over: target.digest.clone(),
            at: stamp.or(read.at),
            until: hand.until.into_iter().chain(read.until).min(),
            said: None,
            is_signature: true,
        })
    }

    fn dsse(&mut self, envelope: &Dsse, target: &Target<'_>) -> Vec<Result<Proven, Flaw>> {
        let signed = envelope.signed();
        let mut all = Vec::new();
        for (named, signature) in &envelope.signatures {
            let one = self.by_key(KeyUse::OfItsKind, &signed, signature, named.as_deref());
            let one = one.and_then(|hand| {
                let said = envelope.said(&hand.signer.name, target.digest)?;
                self.is_logged(hand.signer, Err("its form has no entry of a log"))?;
                Ok(Proven {
                    signer: hand.signer.name.clone(),
                    by: hand.by,
                    over: target.digest.clone(),
                    at: None,
                    until: None,
                    is_signature: hand.signer.counts(&said),
                    said: Some(said),
                })
            });
            all.push(one);
        }
        all
    }
}

fn prove(
    authorities: &Authorities,
    chain: &[Vec<u8>],
    at: i64,
    now: i64,
) -> Result<CertificateUsage, Flaw> {
    authorities.prove(chain, Purpose::CodeSigning, at, now)
}

fn read_dsse(bytes: &[u8]) -> Result<Dsse, Flaw> {
    let read = Json::read_object(bytes);
    Dsse::read(&read.ok_or(Flaw::Malformed("it cannot be read in one way only"))?)
}

/// What a log has to have of a DSSE envelope, or of anything else that is signed.
pub(super) fn logged<'l>(
    content: &[u8],
    is_dsse: bool,
    signature: &'l [u8],
    verifier: &'l [u8],
) -> Logged<'l> {
    Logged { content: sha256(content), is_dsse, signature, verifier }
}

fn form_of(media_type: &str) -> SignatureForm {
    match media_type {
        wire::DSSE => SignatureForm::Dsse,
        wire::JWS => SignatureForm::Jws,
        wire::COSE => SignatureForm::Cose,
        wire::SMALL => SignatureForm::Small,
        _ => SignatureForm::Bundle,
    }
}

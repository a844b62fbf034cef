//! Certificates: a chain to a given authority at a given time, and what the library that proves it leaves open.

use rustls_pki_types::{CertificateDer, UnixTime};
use webpki::{
    BorrowedCertRevocationList, CertRevocationList, EndEntityCert, Error, ExpirationPolicy,
    KeyUsage, OwnedCertRevocationList, RevocationCheckDepth, RevocationOptionsBuilder,
    UnknownStatusPolicy,
};

use super::flaw::Flaw;
use crate::certificate::{CertificateUsage, list_end};

/// What a certificate has to be for (RFC 5280, section 4.2.1.12).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purpose {
    CodeSigning,
    TimeStamping,
}

/// The most certificates that come with a signature.
pub const LONGEST_CHAIN: usize = 10;

const CODE_SIGNING: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 3, 3];
const TIME_STAMPING: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 3, 8];

/// Who is believed to certify others.
#[derive(Debug, Clone, Default)]
pub struct Authorities {
    /// In DER.
    certificates: Vec<Vec<u8>>,
    lists: Vec<RevocationList>,
    /// Whether nothing counts of which no list says that it was not revoked.
    lists_are_required: bool,
}

/// A list of what was revoked.
#[derive(Debug, Clone)]
struct RevocationList {
    list: std::sync::Arc<CertRevocationList<'static>>,
    /// In seconds since 1970.
    until: i64,
}

impl Purpose {
    fn id(self) -> &'static [u8] {
        match self {
            Self::CodeSigning => CODE_SIGNING,
            Self::TimeStamping => TIME_STAMPING,
        }
    }
}

impl Authorities {
    /// Takes certificates and lists in DER. Err: what is wrong with one of them.
    pub fn new(
        certificates: Vec<Vec<u8>>,
        lists: &[Vec<u8>],
        lists_are_required: bool,
    ) -> Result<Self, &'static str> {
        for one in &certificates {
            let der = CertificateDer::from(one.as_slice());
            if webpki::anchor_from_trusted_cert(&der).is_err()
                || CertificateUsage::read(one).is_none()
            {
                return Err("a certificate that is no authority's");
            }
        }
        let lists: Option<Vec<RevocationList>> = lists.iter().map(|der| read_list(der)).collect();
        let lists = lists.ok_or(
            "a list of what was revoked that cannot be read, or does not say when it ends",
        )?;
        Ok(Self { certificates, lists, lists_are_required })
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.certificates.is_empty()
    }

    /// When the first of the lists ends, in seconds since 1970.
    pub fn lists_end(&self) -> Option<i64> {
        self.lists.iter().map(|list| list.until).min()
    }

    /// The same where nothing counts without them.
    pub(super) fn required_until(&self) -> Option<i64> {
        self.lists_end().filter(|_| self.lists_are_required)
    }

    /// When the last of the certificates ends, in seconds since 1970.
    pub fn end(&self) -> Option<i64> {
        let all = self.certificates.iter().filter_map(|der| CertificateUsage::read(der));
        all.map(|one| one.until).max()
    }

    /// Proves that one of them certified the first of the certificates at a time, and that it may be used for a purpose.
    /// Times are in seconds since 1970; the lists are held against now.
    pub fn prove(
        &self,
        chain: &[Vec<u8>],
        purpose: Purpose,
        at: i64,
        now: i64,
    ) -> Result<CertificateUsage, Flaw> {
        let Some((first, more)) = chain.split_first() else {
            return Err(Flaw::Malformed("it comes with no certificate"));
        };
        if chain.len() > LONGEST_CHAIN {
            return Err(Flaw::Malformed("it comes with more certificates than are read"));
        }
        let leaf = CertificateUsage::read(first);
        let leaf = leaf.ok_or(Flaw::Malformed("its certificate cannot be read"))?;
        let der = CertificateDer::from(first.as_slice());
        let entity = EndEntityCert::try_from(&der).map_err(|error| told(&error, &leaf))?;
        let between: Vec<CertificateDer<'_>> =
            more.iter().map(|der| CertificateDer::from(der.as_slice())).collect();
        let trusted: Vec<CertificateDer<'_>> =
            self.certificates.iter().map(|der| CertificateDer::from(der.as_slice())).collect();
        let anchors: Vec<_> = trusted
            .iter()
            // A key that may not sign certificates has signed none; one that is trusted itself is its own anchor.
            .filter(|der| **der == CertificateDer::from(first.as_slice()) || may_certify(der))
            .filter_map(|der| webpki::anchor_from_trusted_cert(der).ok())
            .collect();
        let lists: Vec<&CertRevocationList<'_>> = self.lists.iter().map(|one| &*one.list).collect();
        let revocation = match RevocationOptionsBuilder::new(&lists) {
            Err(_) if self.lists_are_required => {
                return Err(Flaw::RevocationUnknown("there is no list"));
            }
            Err(_) => None,
            Ok(builder) => {
                let (unknown, ended) = match self.lists_are_required {
                    true => (UnknownStatusPolicy::Deny, ExpirationPolicy::Enforce),
                    false => (UnknownStatusPolicy::Allow, ExpirationPolicy::Ignore),
                };
                let builder = builder.with_depth(RevocationCheckDepth::Chain);
                Some(builder.with_status_policy(unknown).with_expiration_policy(ended).build())
            }
        };
        let time = UnixTime::since_unix_epoch(std::time::Duration::from_secs(
            u64::try_from(at).map_err(|_| Flaw::Malformed("its time is before 1970"))?,
        ));
        let path = entity
            .verify_for_usage(
                webpki::ALL_VERIFICATION_ALGS,
                &anchors,
                &between,
                time,
                KeyUsage::required_if_present(purpose.id()),
                revocation,
                None,
            )
            .map_err(|error| told(&error, &leaf))?;
        let may_all = path.intermediate_certificates().all(|one| may_certify(&one.der()));
        if !may_all {
            return Err(Flaw::CertificateUsage("a certificate between may not sign others"));
        }
        if !leaf.may_sign() {
            return Err(Flaw::CertificateUsage("its key is not for signatures"));
        }
        if !leaf.is_for(purpose.id()) {
            return Err(Flaw::CertificateUsage(match purpose {
                Purpose::CodeSigning => "it does not say that it is for code signing",
                Purpose::TimeStamping => "it does not say that it is for time stamps",
            }));
        }
        let is_alone = leaf.purposes.as_ref().is_some_and(|all| all.len() == 1);
        if purpose == Purpose::TimeStamping && !(is_alone && leaf.purposes_are_critical) {
            // RFC 3161, section 2.3.
            return Err(Flaw::CertificateUsage("it is not for time stamps alone"));
        }
        // The library holds them against the time of the signature.
        if self.lists_are_required && self.lists_end().is_some_and(|end| end < now) {
            return Err(Flaw::RevocationUnknown("a list of what was revoked is out of date"));
        }
        Ok(leaf)
    }
}

fn may_certify(der: &CertificateDer<'_>) -> bool {
    CertificateUsage::read(der).is_some_and(|one| one.may_certify())
}

fn read_list(der: &[u8]) -> Option<RevocationList> {
    let until = list_end(der)?;
    BorrowedCertRevocationList::from_der(der).ok()?;
    let list = OwnedCertRevocationList::from_der(der).ok()?;
    Some(RevocationList { list: std::sync::Arc::new(CertRevocationList::from(list)), until })
}

fn told(error: &Error, leaf: &CertificateUsage) -> Flaw {
    match error {
        Error::CertExpired { .. } | Error::CertNotValidYet { .. } => {
            Flaw::CertificateExpired { from: leaf.from, until: leaf.until }
        }
        Error::CertRevoked => Flaw::CertificateRevoked,
        Error::UnknownRevocationStatus => Flaw::RevocationUnknown("no list is of who certified it"),
        Error::CrlExpired { .. } => {
            Flaw::RevocationUnknown("a list of what was revoked is out of date")
        }
        Error::IssuerNotCrlSigner | Error::InvalidCrlSignatureForPublicKey => {
            Flaw::RevocationUnknown("a list of what was revoked is not by who certified it")
        }
        Error::NameConstraintViolation | Error::MalformedNameConstraint => Flaw::NameConstraint,
        Error::RequiredEkuNotFoundContext(_) | Error::EmptyEkuExtension => {
            Flaw::CertificateUsage("it is for something else")
        }
        Error::CaUsedAsEndEntity => Flaw::CertificateUsage("it is an authority's"),
        Error::EndEntityUsedAsCa => Flaw::CertificateUsage("who certified it is no authority"),
        Error::PathLenConstraintViolated => {
            Flaw::UntrustedChain("the chain is longer than its authority allows")
        }
        Error::InvalidSignatureForPublicKey => {
            Flaw::UntrustedChain("a signature in the chain is wrong")
        }
        Error::UnknownIssuer => Flaw::UntrustedChain("no authority that is given certified it"),
        _ => Flaw::UntrustedChain("the chain does not hold"),
    }
}

//! The constants that signatures have on the wire. They stand here and nowhere else.

/// DSSE: the media type of an envelope, and what stands in front of what is signed (DSSE 1.0, protocol).
pub(super) const DSSE: &str = "application/vnd.dsse.envelope.v1+json";
pub(super) const DSSE_CONTEXT: &str = "DSSEv1";
/// A statement of in-toto: the type of the payload, and the types that it gives itself (in-toto attestation framework 1.0).
pub(super) const STATEMENT: &str = "application/vnd.in-toto+json";
pub(super) const STATEMENT_TYPES: [&str; 2] =
    ["https://in-toto.io/Statement/v1", "https://in-toto.io/Statement/v0.1"];

/// The annotations of a companion's layer and of the companion: what a statement says of its type, and when it was made
/// (in-toto; Image Specification, "Pre-Defined Annotation Keys").
pub(super) const PREDICATE_TYPE: &str = "in-toto.io/predicate-type";
pub(super) const CREATED: &str = "org.opencontainers.image.created";

/// Envelopes of JOSE and COSE: media type, payload type, headers (RFC 7515, RFC 9052).
pub(super) const JWS: &str = "application/jose+json";
pub(super) const COSE: &str = "application/cose";
pub(super) const TARGET: &str = "application/vnd.cncf.notary.payload.v1+json";
pub(super) const SCHEME: &str = "io.cncf.notary.signingScheme";
pub(super) const SCHEME_CHAIN: &str = "notary.x509";
pub(super) const SCHEME_AUTHORITY: &str = "notary.x509.signingAuthority";
pub(super) const SIGNING_TIME: &str = "io.cncf.notary.signingTime";
pub(super) const AUTHENTIC_TIME: &str = "io.cncf.notary.authenticSigningTime";
pub(super) const EXPIRY: &str = "io.cncf.notary.expiry";
pub(super) const STAMP: &str = "io.cncf.notary.timestampSignature";

/// Small payloads: media type, annotations of the layer, and what the payload calls itself.
pub(super) const SMALL: &str = "application/vnd.dev.cosign.simplesigning.v1+json";
pub(super) const SMALL_SIGNATURE: &str = "dev.cosignproject.cosign/signature";
pub(super) const SMALL_CERTIFICATE: &str = "dev.sigstore.cosign/certificate";
pub(super) const SMALL_CHAIN: &str = "dev.sigstore.cosign/chain";
pub(super) const SMALL_LOG: &str = "dev.sigstore.cosign/bundle";
pub(super) const SMALL_STAMP: &str = "dev.sigstore.cosign/rfc3161timestamp";
pub(super) const SMALL_TYPES: [&str; 2] =
    ["cosign container image signature", "atomic container signature"];

/// Bundles: the media type that all of them begin with, and those that are read.
pub(super) const BUNDLE_FAMILY: &str = "application/vnd.dev.sigstore.bundle";
pub(super) const BUNDLES: [&str; 4] = [
    "application/vnd.dev.sigstore.bundle.v0.3+json",
    "application/vnd.dev.sigstore.bundle+json;version=0.3",
    "application/vnd.dev.sigstore.bundle+json;version=0.2",
    "application/vnd.dev.sigstore.bundle+json;version=0.1",
];

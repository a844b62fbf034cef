//! The constants that signatures have on the wire. They stand here and nowhere else.

/// DSSE: the media type of an envelope, and what stands in front of what is signed (DSSE 1.0, protocol).
pub const DSSE: &str = "application/vnd.dsse.envelope.v1+json";
pub const DSSE_CONTEXT: &str = "DSSEv1";
/// A statement of in-toto: the type of the payload, and the types that it gives itself (in-toto attestation framework 1.0).
pub const STATEMENT: &str = "application/vnd.in-toto+json";
pub const STATEMENT_TYPES: [&str; 2] =
    ["https://in-toto.io/Statement/v1", "https://in-toto.io/Statement/v0.1"];

/// Envelopes of JOSE and COSE: media type, payload type, headers (RFC 7515, RFC 9052).
pub const JWS: &str = "application/jose+json";
pub const COSE: &str = "application/cose";
pub const TARGET: &str = "application/vnd.cncf.notary.payload.v1+json";
pub const SCHEME: &str = "io.cncf.notary.signingScheme";
pub const SCHEME_CHAIN: &str = "notary.x509";
pub const SCHEME_AUTHORITY: &str = "notary.x509.signingAuthority";
pub const SIGNING_TIME: &str = "io.cncf.notary.signingTime";
pub const AUTHENTIC_TIME: &str = "io.cncf.notary.authenticSigningTime";
pub const EXPIRY: &str = "io.cncf.notary.expiry";
pub const STAMP: &str = "io.cncf.notary.timestampSignature";

/// Small payloads: media type, annotations of the layer, and what the payload calls itself.
pub const SMALL: &str = "application/vnd.dev.cosign.simplesigning.v1+json";
pub const SMALL_SIGNATURE: &str = "dev.cosignproject.cosign/signature";
pub const SMALL_CERTIFICATE: &str = "dev.sigstore.cosign/certificate";
pub const SMALL_CHAIN: &str = "dev.sigstore.cosign/chain";
pub const SMALL_LOG: &str = "dev.sigstore.cosign/bundle";
pub const SMALL_STAMP: &str = "dev.sigstore.cosign/rfc3161timestamp";
pub const SMALL_TYPES: [&str; 2] =
    ["cosign container image signature", "atomic container signature"];

/// Bundles: the media type that all of them begin with, and those that are read.
pub const BUNDLE_FAMILY: &str = "application/vnd.dev.sigstore.bundle";
pub const BUNDLES: [&str; 4] = [
    "application/vnd.dev.sigstore.bundle.v0.3+json",
    "application/vnd.dev.sigstore.bundle+json;version=0.3",
    "application/vnd.dev.sigstore.bundle+json;version=0.2",
    "application/vnd.dev.sigstore.bundle+json;version=0.1",
];

//! The causes that are told apart. The list is closed: each has a page in `docs/causes`.

use crate::reference::MalformedReference;

/// A step of a pull, in its order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum PullStep {
    /// What the reference says.
    Name,
    /// Whether it is allowed, by rules and grants.
    Policy,
    /// Whom the node asks.
    Route,
    /// Whether that host is there.
    Reach,
    /// Whether its certificate is believed.
    Trust,
    /// Whether the node is let in.
    SignIn,
    /// Whether it may pull this.
    Permission,
    /// Whether it is there.
    Existence,
    /// Whether it is for this kind of node.
    Platform,
    /// Whether all of it is there, and unaltered.
    Content,
    /// Whether the upstream lets us pull more today.
    Allowance,
    /// Whether the node itself can take it.
    Node,
}

impl PullStep {
    /// All, in their order.
    pub const ALL: [Self; 12] = [
        Self::Name,
        Self::Policy,
        Self::Route,
        Self::Reach,
        Self::Trust,
        Self::SignIn,
        Self::Permission,
        Self::Existence,
        Self::Platform,
        Self::Content,
        Self::Allowance,
        Self::Node,
    ];

    /// Its word, for people and in JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Policy => "policy",
            Self::Route => "route",
            Self::Reach => "reach",
            Self::Trust => "trust",
            Self::SignIn => "sign-in",
            Self::Permission => "permission",
            Self::Existence => "existence",
            Self::Platform => "platform",
            Self::Content => "content",
            Self::Allowance => "allowance",
            Self::Node => "node",
        }
    }
}

macro_rules! causes {
    ($($(#[doc = $doc:literal])+ $name:ident $word:literal $step:ident $title:literal;)*) => {
        /// Why a pull fails, or why it may soon.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Cause {
            $($(#[doc = $doc])+ $name,)*
        }

        impl Cause {
            /// All of them, in the order of their steps.
            pub const ALL: &'static [Self] = &[$(Self::$name,)*];

            /// Its word: that of its page, and in JSON.
            pub fn word(self) -> &'static str {
                match self { $(Self::$name => $word,)* }
            }

            /// The step at which it breaks.
            pub fn step(self) -> PullStep {
                match self { $(Self::$name => PullStep::$step,)* }
            }

            /// What is so, in a few words without names.
            pub fn title(self) -> &'static str {
                match self { $(Self::$name => $title,)* }
            }
        }
    };
}

impl Cause {
    /// Why a reference cannot be read.
    pub(crate) fn of_name(malformed: &MalformedReference) -> Self {
        match malformed.reason.word() {
            "scheme" => Self::Scheme,
            "blank" | "quote" => Self::Blank,
            "upper-case" => Self::UpperCase,
            "missing-repository" | "empty" => Self::NoRepository,
            "placeholder" => Self::Placeholder,
            "digest" => Self::BadDigest,
            _ => Self::Malformed,
        }
    }
}

causes! {
    /// `https://` or the like stands before the reference.
    Scheme "scheme" Name "a scheme is typed in front of the reference";
    /// A blank or an unseen character is in it.
    Blank "blank" Name "there is a blank in the reference";
    /// A name has upper-case letters.
    UpperCase "upper-case" Name "a repository name has upper-case letters";
    /// It names a registry and nothing in it.
    NoRepository "no-repository" Name "the reference names a registry, and no repository in it";
    /// A placeholder was not filled in.
    Placeholder "placeholder" Name "a placeholder was not filled in";
    /// Its digest is none.
    BadDigest "bad-digest" Name "the digest in the reference is not one";
    /// It breaks the rules for references in another way.
    Malformed "malformed" Name "the reference cannot be read";
    /// A short name means another registry on the node than it does here.
    ShortName "short-name" Name "a short name means another registry on the node";

    /// A rule denies it.
    RuleDenies "rule-denies" Policy "a rule denies it";
    /// It was stopped in an emergency.
    Blocked "blocked" Policy "it is blocked in this larder";

    /// The runtime never reads its mirror files.
    MirrorNotRead "mirror-not-read" Route "the runtime does not read its mirror configuration";
    /// A mirror file is dropped, because it cannot be read.
    MirrorFile "mirror-file" Route "a mirror file has an error, and the runtime drops it";
    /// A mirror did not answer as it should, and the runtime went on in silence.
    MirrorSkipped "mirror-skipped" Route "the mirror is skipped, and the upstream is asked instead";
    /// The path is not reached through the cached shelf.
    OutsideShelf "outside-shelf" Route "the cached shelf does not reach this repository";
    /// The larder has no shelf for it.
    NoShelf "no-shelf" Route "the larder has no such shelf";
    /// The node names a cluster that is not believed.
    StrangeNode "strange-node" Route "the larder does not believe where the node comes from";

    /// The name of the host is not known.
    UnknownHost "unknown-host" Reach "the host's name is not known";
    /// Nobody answers for names.
    NameService "name-service" Reach "the name service gives no answer";
    /// Nothing listens there.
    Refused "connection-refused" Reach "the connection is refused";
    /// Nothing comes back.
    NoAnswer "connection-timeout" Reach "nothing answers at that address";
    /// It is broken off.
    Reset "connection-reset" Reach "the connection is broken off";
    /// HTTPS is asked where plain HTTP is spoken.
    PlainHttp "plain-http" Reach "the registry speaks plain HTTP, and HTTPS is asked for";
    /// Plain HTTP is asked where TLS is wanted.
    WantsTls "wants-tls" Reach "the registry wants HTTPS, and plain HTTP is asked for";
    /// Something else is spoken there.
    NotHttp "not-http" Reach "what listens there is no registry";
    /// A page answers in its place.
    CaptivePage "captive-page" Reach "a web page answers in the registry's place";
    /// A proxy is in the way.
    Proxy "proxy" Reach "a proxy stands in the way";
    /// It takes the request and says nothing.
    Stalled "stalled" Reach "it takes the request and never answers";
    /// It sends on and on.
    RedirectLoop "redirect-loop" Reach "the registry redirects in a circle";

    /// The authority is not known to the node.
    UnknownAuthority "unknown-authority" Trust "the certificate's authority is not trusted";
    /// The certificate is for another name.
    WrongName "wrong-name" Trust "the certificate is for another name";
    /// It has expired.
    CertificateExpired "certificate-expired" Trust "the certificate has expired";
    /// It is not good yet, or the clock is wrong.
    CertificateEarly "certificate-early" Trust "the certificate is not good yet, or a clock is wrong";
    /// A certificate of the client is wanted.
    ClientCertificate "client-certificate" Trust "the registry wants a certificate from the node";

    /// Nothing is shown.
    NoCredential "no-credential" SignIn "the registry wants a sign-in, and the pod has none";
    /// The pull secret is not there.
    SecretMissing "secret-missing" SignIn "the pull secret does not exist";
    /// It is in another namespace.
    SecretElsewhere "secret-elsewhere" SignIn "the pull secret is in another namespace";
    /// It has another type.
    SecretType "secret-type" SignIn "the pull secret has the wrong type";
    /// It cannot be read.
    SecretUnreadable "secret-unreadable" SignIn "the pull secret cannot be read";
    /// It is for another host.
    SecretHost "secret-host" SignIn "the pull secret is for another host";
    /// Its parts disagree.
    SecretDisagrees "secret-disagrees" SignIn "the parts of the pull secret disagree";
    /// Neither pod nor service account names it.
    NotLinked "not-linked" SignIn "neither the pod nor its service account names the pull secret";
    /// The secret is not accepted.
    WrongCredential "wrong-credential" SignIn "the registry does not accept the name and secret";
    /// The key has expired.
    KeyExpired "key-expired" SignIn "the key has expired";
    /// The key was revoked.
    KeyRevoked "key-revoked" SignIn "the key was revoked";
    /// This larder never issued it.
    KeyUnknown "key-unknown" SignIn "this larder did not issue the key";
    /// The token service is not there.
    TokenDown "token-down" SignIn "the token service cannot be reached";
    /// It refuses.
    TokenRefused "token-refused" SignIn "the token service refuses";
    /// It answers with something else.
    TokenOdd "token-odd" SignIn "the token service gives no token";
    /// The token does not allow the pull.
    TokenWithoutAccess "token-without-access" SignIn "the token does not allow this pull";

    /// No grant names it.
    GrantMissing "grant-missing" Permission "no grant names the repository";
    /// The registry forbids it, and does not say whether it is there.
    Forbidden "forbidden" Permission "the registry forbids the pull";

    /// There is no such repository.
    RepositoryMissing "repository-missing" Existence "there is no such repository";
    /// There is no such tag.
    TagMissing "tag-missing" Existence "there is no such tag";
    /// There is no such digest.
    DigestMissing "digest-missing" Existence "there is no such digest";
    /// It was removed.
    Removed "removed" Existence "it was removed";
    /// It is wanted, and was not brought in yet.
    NotBroughtIn "not-brought-in" Existence "it is wanted, and was not brought in yet";
    /// The tag points to something else than it did.
    TagMoved "tag-moved" Existence "the tag points to something else than expected";
    /// It is not there, or may not be seen.
    AbsentOrHidden "absent-or-hidden" Existence "it is not there, or may not be seen";

    /// Not made for this platform.
    PlatformMissing "platform-missing" Platform "the image is not made for this platform";
    /// One image alone, of another architecture.
    WrongArchitecture "wrong-architecture" Platform "the image is for another architecture, and is pulled without complaint";

    /// A blob is not there.
    BlobMissing "blob-missing" Content "a part of the image is missing";
    /// A manifest that an index lists is not there.
    ChildMissing "child-missing" Content "the platform's manifest is missing";
    /// A blob is altered.
    BlobCorrupt "blob-corrupt" Content "a part of the image is not what its digest says";
    /// A blob has another length.
    BlobLength "blob-length" Content "a part of the image has another length than its manifest says";
    /// The stream ends early.
    StreamCut "stream-cut" Content "the registry breaks off in the middle";
    /// The manifest is larger than runtimes take.
    ManifestTooLarge "manifest-too-large" Content "the manifest is larger than runtimes take";
    /// The manifest cannot be used.
    ManifestOdd "manifest-odd" Content "the manifest cannot be used";
    /// It is of a kind that runtimes do not run.
    NoImage "no-image" Content "it is no image that a node can run";
    /// The answer to HEAD is one that runtimes cannot use.
    OddHead "odd-head" Content "the registry answers HEAD in a way that runtimes cannot use";

    /// The limit is reached.
    RateLimited "rate-limited" Allowance "the registry limits how much is pulled";
    /// The upstream fails.
    Failing "failing" Allowance "the registry fails";
    /// The upstream behind the cache cannot be asked.
    UpstreamDown "upstream-down" Allowance "the upstream behind the cached shelf cannot be asked";
    /// It works from what is held, while the upstream does not answer.
    StaleServed "stale-served" Allowance "an older answer is served while the upstream is away";

    /// Its disk is full.
    DiskFull "disk-full" Node "the node's disk is full";
    /// Its disk takes no writes.
    ReadOnly "read-only" Node "the node's disk takes no writes";
    /// Its runtime has no file handles left.
    TooManyFiles "too-many-files" Node "the node's runtime has too many open files";
    /// What keeps unpacked layers fails.
    Snapshotter "snapshotter" Node "the node cannot unpack the image";
    /// It is larger than the node allows.
    ImageTooLarge "image-too-large" Node "the image is larger than the node allows";
    /// The pod forbids that it is pulled.
    NeverPulled "never-pulled" Node "the pod forbids that the image is pulled";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_cause_has_a_word_of_its_own_and_they_stand_in_the_order_of_their_steps() {
        let words: std::collections::BTreeSet<&str> =
            Cause::ALL.iter().map(|cause| cause.word()).collect();
        assert_eq!(words.len(), Cause::ALL.len());
        assert!(Cause::ALL.len() > 60);
        assert!(Cause::ALL.is_sorted_by_key(|cause| cause.step()));
        let known = |c: char| c.is_ascii_lowercase() || c == '-';
        assert!(words.iter().all(|word| word.chars().all(known)));
    }
}

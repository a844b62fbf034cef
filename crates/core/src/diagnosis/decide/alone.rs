//! Causes that an answer tells by itself.

use super::{Certain, Evidence, FoundCause, HostOutcome, found};
use crate::diagnosis::Cause;

/// How content comes in again.
pub(super) fn again(e: &Evidence, answer: FoundCause) -> FoundCause {
    match &e.origin {
        Some(_) => answer.run("bring it in again", "larder intake run"),
        None => answer.say("push it again from where it was built, or bring it in from where it is whole: `larder copy`"),
    }
}

/// The cause of an answer that needs nothing else.
pub(super) fn by_answer_alone(e: &Evidence, host: &str, outcome: &HostOutcome) -> FoundCause {
    // Long: one row for each answer.
    let image = &e.written;
    let told = format!("{host}: {}", outcome.described());
    let certain = |cause| found(cause, Certain, told.clone());
    match outcome {
        HostOutcome::UnknownHost => certain(Cause::UnknownHost)
            .say(format!("check how `{host}` is written"))
            .say("if it is right, have the nodes' name service know it")
            .run("lead the pull through the larder", "larder rewrite --diff DEPLOYMENTS"),
        HostOutcome::NameService(_) => certain(Cause::NameService)
            .say("try it on a node: the name service of this machine does not answer, and nodes may have another"),
        HostOutcome::Refused(_) => certain(Cause::Refused)
            .say("check that the registry runs, and that the port is right")
            .say("check whether a firewall between node and registry refuses it"),
        HostOutcome::NoAnswer => certain(Cause::NoAnswer)
            .say("check the address, and whether a firewall on the way drops what is sent to it"),
        HostOutcome::Reset => certain(Cause::Reset)
            .say("look for what breaks connections off on the way: a firewall, a load balancer, or TLS where none is expected"),
        HostOutcome::PlainHttp => certain(Cause::PlainHttp)
            .say(format!("give {host} a certificate, or tell the runtime that it speaks plain HTTP"))
            .run("write such a configuration for the nodes", "larder handoff write CLUSTER --nodes --into INTO"),
        HostOutcome::WantsTls => certain(Cause::WantsTls)
            .say(format!("ask {host} by https://")),
        HostOutcome::NotHttp(_) => {
            certain(Cause::NotHttp).say("check the port: something else than a registry listens there")
        }
        HostOutcome::CaptivePage(_) => certain(Cause::CaptivePage)
            .say("a portal or a proxy answers for the registry: sign in to it, or take the node out of its reach"),
        HostOutcome::Proxy(_) => certain(Cause::Proxy)
            .say(format!("add {host} to the exceptions (NO_PROXY) of the runtime's service, or let the proxy pass it"))
            .say("set the runtime's own proxy: it does not use the one of a shell"),
        HostOutcome::Stalled => certain(Cause::Stalled)
            .say("restart the registry, or what stands in front of it: a node has no time-out for answers and waits for as long as it takes"),
        HostOutcome::RedirectLoop(_) => {
            certain(Cause::RedirectLoop).say("look at the rules of what stands in front of the registry: mostly HTTP is sent to HTTPS and back")
        }
        HostOutcome::UnknownAuthority(_) => certain(Cause::UnknownAuthority)
            .say("give the nodes the authority's certificate")
            .run("write it into their configuration", "larder handoff write CLUSTER --nodes --ca AUTHORITY --into INTO"),
        HostOutcome::WrongName(_) => certain(Cause::WrongName)
            .say("ask it by a name that is in its certificate, or get one for this name"),
        HostOutcome::CertificateExpired(_) => {
            certain(Cause::CertificateExpired).say("renew it; a larder takes up the new file by itself")
        }
        HostOutcome::CertificateEarly(_) => certain(Cause::CertificateEarly)
            .say("set the clock of the node, or of the machine that issued the certificate"),
        HostOutcome::ClientCertificate => certain(Cause::ClientCertificate)
            .run("give the nodes theirs", "larder handoff write CLUSTER --nodes --client-cert CERTIFICATE --client-key KEY --into INTO"),
        HostOutcome::TokenDown(_) => certain(Cause::TokenDown)
            .say("nodes must reach the token service too, which is another host than the registry's"),
        HostOutcome::TokenOdd(_) => certain(Cause::TokenOdd)
            .say("look at the realm that the registry names: what answers there is no token service"),
        HostOutcome::PlatformMissing(_) => certain(Cause::PlatformMissing)
            .run("see for which platforms it is made", format!("larder look {image}"))
            .say("bring in the platform as well (`platforms` of its intake entry), or run the pod on other nodes"),
        HostOutcome::ChildMissing(_) => certain(Cause::ChildMissing)
            .say(match &e.origin {
                Some(origin) => format!("the index lists the platform, and the registry does not have it: add it to `platforms` of the [[intake]] entry of {origin}, or take `platforms` out; then `larder intake lock` and `larder intake run`"),
                None => "the index lists the platform, and the registry does not have it: the image has to be pushed again with that platform".to_owned(),
            })
            .say("where an image is wanted for some platforms only, `trim = true` in its [[intake]] entry writes an index of these alone"),
        HostOutcome::BlobMissing(_) => again(e, certain(Cause::BlobMissing)
            .run("take out what is damaged, so that it can come again", "larder store verify --repair")),
        HostOutcome::BlobCorrupt(_) => again(e, certain(Cause::BlobCorrupt)
            .run("read the store again and take out what is damaged", "larder store verify --repair")),
        HostOutcome::BlobLength(_) => again(e, certain(Cause::BlobLength)
            .run("read the store again and take out what is damaged", "larder store verify --repair")),
        HostOutcome::StreamCut(_) => certain(Cause::StreamCut)
            .say("put a larder in between: it resumes where it broke off, and a node begins the whole image again each time"),
        HostOutcome::ManifestTooLarge(_) => {
            certain(Cause::ManifestTooLarge).say("ask its maker to split it, or to take annotations out")
        }
        HostOutcome::ManifestOdd(_) => {
            certain(Cause::ManifestOdd).say("push it again with a client that writes the standard's documents")
        }
        HostOutcome::NoImage(_) => certain(Cause::NoImage)
            .run("see what it is", format!("larder look {image}"))
            .say("name the image, not what belongs to it"),
        _ => certain(Cause::OddHead)
            .say("look for what alters answers between node and registry: a proxy that compresses or caches"),
    }
}

//! What is known of an image's content, for the rules.

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::policy::{Fact, FactsWish, ImageFacts};
use larder_core::reference::Selector;

use super::{CONFIG, MANIFEST, by_tag, image, pairs, push, put};

/// An index with one image for a platform.
fn index_for(child: &Digest, size: u64, platform: &str) -> Document {
    let (os, architecture) = platform.split_once('/').unwrap();
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{{"mediaType":"{MANIFEST}","digest":"{child}","size":{size},"platform":{{"os":"{os}","architecture":"{architecture}"}}}}]}}"#
    );
    Document::read(text.into(), None).unwrap()
}

/// Something that calls itself a signature of a manifest.
fn signature_of(subject: &Digest) -> Document {
    let config = Digest::of(CONFIG.as_bytes());
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","artifactType":"application/vnd.example.signature","config":{{"mediaType":"application/vnd.oci.empty.v1+json","digest":"{config}","size":{}}},"layers":[],"subject":{{"mediaType":"{MANIFEST}","digest":"{subject}","size":1}}}}"#,
        CONFIG.len()
    );
    Document::read(text.into(), None).unwrap()
}

fn platforms(facts: &ImageFacts) -> Vec<String> {
    match &facts.platforms {
        Fact::Is(all) => all.iter().map(ToString::to_string).collect(),
        _ => Vec::new(),
    }
}

#[tokio::test]
async fn what_is_not_here_is_unknown() {
    for pair in pairs() {
        let unknown =
            pair.two.facts(&pair.kettle, &by_tag("1"), FactsWish::default()).await.unwrap();
        assert_eq!(unknown, ImageFacts::UNKNOWN);
        let content = push(&pair.one, &pair.kettle, "no manifest").await;
        let facts = pair
            .two
            .facts(&pair.kettle, &Selector::Digest(content), FactsWish::default())
            .await
            .unwrap();
        assert_eq!(facts, ImageFacts::UNKNOWN);
    }
}

#[tokio::test]
async fn an_image_tells_its_platform_and_an_index_those_that_it_lists() {
    for pair in pairs() {
        let before = larder_store::now();
        let child = image(&pair.one, &pair.kettle, "layer", Some("1")).await;
        let facts = pair.two.facts(&pair.kettle, &by_tag("1"), FactsWish::default()).await.unwrap();
        assert_eq!(
            (platforms(&facts), &facts.signed),
            (vec!["linux/amd64".into()], &Fact::Is(false))
        );
        assert!(matches!(facts.held, Fact::Is(at) if at >= before), "{:?}", facts.held);
        let size = pair.one.size(&child).await.unwrap().unwrap();
        put(&pair.one, &pair.kettle, &index_for(&child, size, "linux/arm64"), Some("2")).await;
        let facts = pair.two.facts(&pair.kettle, &by_tag("2"), FactsWish::default()).await.unwrap();
        assert_eq!(platforms(&facts), ["linux/arm64"], "the index is what a node reads");
        // What no platform is given for, such as a statement about a build, is none.
        put(&pair.one, &pair.kettle, &index_for(&child, size, "unknown/unknown"), Some("3")).await;
        let facts = pair.two.facts(&pair.kettle, &by_tag("3"), FactsWish::default()).await.unwrap();
        assert!(platforms(&facts).is_empty());
    }
}

#[tokio::test]
async fn an_image_is_signed_by_what_refers_to_it_or_to_its_index() {
    for pair in pairs() {
        let child = image(&pair.one, &pair.kettle, "layer", None).await;
        let size = pair.one.size(&child).await.unwrap().unwrap();
        let index =
            put(&pair.one, &pair.kettle, &index_for(&child, size, "linux/amd64"), Some("1")).await;
        let signed = |selector: Selector| {
            let (store, kettle) = (pair.two.clone(), pair.kettle.clone());
            async move { store.facts(&kettle, &selector, FactsWish::default()).await.unwrap().signed }
        };
        assert_eq!(signed(by_tag("1")).await, Fact::Is(false));
        put(&pair.one, &pair.kettle, &signature_of(&index), None).await;
        assert_eq!(signed(by_tag("1")).await, Fact::Is(true));
        assert_eq!(signed(Selector::Digest(child)).await, Fact::Is(true), "with its index");
        // One by an older custom lies under a tag that is made from the digest.
        let other = image(&pair.one, &pair.kettle, "another", Some("2")).await;
        assert_eq!(signed(by_tag("2")).await, Fact::Is(false));
        let tag = format!("sha256-{}.sig", other.hex());
        image(&pair.one, &pair.kettle, "its signature", Some(&tag)).await;
        assert_eq!(signed(by_tag("2")).await, Fact::Is(true));
    }
}

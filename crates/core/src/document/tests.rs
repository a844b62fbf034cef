//! Documents are read as they are, and no further.

use super::*;

fn read(text: &str, announced: Option<&str>) -> Result<Document, DocumentError> {
    Document::read(Bytes::copy_from_slice(text.as_bytes()), announced)
}

fn descriptor(media_type: &str, platform: &str) -> String {
    let digest = Digest::of(platform.as_bytes());
    let (os, rest) = platform.split_once('/').unwrap();
    let (architecture, variant) = rest.split_once('/').unwrap_or((rest, ""));
    format!(
        r#"{{"mediaType":"{media_type}","digest":"{digest}","size":7,"platform":{{"os":"{os}","architecture":"{architecture}","variant":"{variant}"}}}}"#
    )
}

fn index(platforms: &[&str]) -> String {
    let list: Vec<_> = platforms.iter().map(|p| descriptor(media_type::MANIFEST, p)).collect();
    format!(r#"{{"schemaVersion":2,"manifests":[{}]}}"#, list.join(","))
}

#[test]
fn the_media_type_comes_from_outside_or_inside_or_the_shape() {
    let plain = index(&["linux/amd64"]);
    assert_eq!(read(&plain, None).unwrap().media_type, media_type::INDEX);
    let list = read(&plain, Some(media_type::SCHEMA2_LIST)).unwrap();
    assert_eq!(list.media_type, media_type::SCHEMA2_LIST);
    let charset = format!("{}; charset=utf-8", media_type::INDEX);
    assert_eq!(read(&plain, Some(&charset)).unwrap().media_type, media_type::INDEX);
    assert!(matches!(read(&plain, Some(media_type::MANIFEST)), Err(DocumentError::MediaType(_))));
    let said = plain.replacen('{', &format!(r#"{{"mediaType":"{}","#, media_type::INDEX), 1);
    assert!(matches!(
        read(&said, Some(media_type::SCHEMA2_LIST)),
        Err(DocumentError::Disagree { .. })
    ));
}

#[test]
fn what_is_no_document_is_refused_with_its_reason() {
    let both = r#"{"schemaVersion":2,"manifests":[],"layers":[]}"#;
    assert!(matches!(read(both, None), Err(DocumentError::Shape(_))));
    assert!(matches!(read("{}", None), Err(DocumentError::Shape(_))));
    assert!(matches!(read("<html>", None), Err(DocumentError::Shape(_))));
    let old = r#"{"schemaVersion":1,"name":"a","fsLayers":[]}"#;
    assert!(matches!(read(old, None), Err(DocumentError::Schema1)));
    let climbing = r#"{"manifests":[{"digest":"sha256:../../etc","size":1}]}"#;
    assert!(matches!(read(climbing, None), Err(DocumentError::Shape(_))));
    let many = index(&vec!["linux/amd64"; DESCRIPTOR_LIMIT + 1]);
    assert!(matches!(read(&many, None), Err(DocumentError::TooMany(_))));
    let deep = format!("{}{}", "[".repeat(100_000), "]".repeat(100_000));
    assert!(matches!(read(&deep, None), Err(DocumentError::Shape(_))));
}

#[test]
fn a_machine_finds_its_child() {
    let document =
        read(&index(&["unknown/unknown", "linux/arm/v6", "linux/arm/v7", "linux/amd64"]), None)
            .unwrap();
    let child = |on: &str| {
        document
            .child_for(&on.parse().unwrap())
            .and_then(Descriptor::platform)
            .map(|p| p.to_string())
    };
    assert_eq!(child("linux/armhf").as_deref(), Some("linux/arm/v7"));
    assert_eq!(child("linux/arm/v6").as_deref(), Some("linux/arm/v6"));
    assert_eq!(child("linux/x86_64").as_deref(), Some("linux/amd64"));
    assert_eq!(child("linux/arm64"), None);
}

#[test]
fn children_are_wanted_by_their_platform_or_must_be_asked() {
    let children = index(&["linux/amd64", "unknown/unknown"]);
    let mut bare = read(&children, None).unwrap().children().to_vec();
    let only = Platforms::Some(vec!["linux/amd64".parse().unwrap()]);
    assert_eq!(bare[0].is_wanted(&only), Some(true));
    assert_eq!(bare[1].is_wanted(&only), Some(false));
    assert_eq!(bare[1].is_wanted(&Platforms::All), Some(true));
    bare[0].raw_platform = None;
    assert_eq!(bare[0].is_wanted(&Platforms::All), Some(true));
    assert_eq!(bare[0].is_wanted(&only), None);
    bare[0].media_type = media_type::SCHEMA2_LIST.into();
    assert_eq!(bare[0].is_wanted(&only), Some(true));
}

#[test]
fn a_trimmed_index_keeps_all_but_what_is_left_out() {
    let text = index(&["linux/amd64", "linux/arm64"]);
    let text = text.replacen('{', r#"{"annotations":{"a":"b"},"x":1,"#, 1);
    let whole = read(&text, None).unwrap();
    let all: BTreeSet<Digest> = whole.children().iter().map(|c| c.digest.clone()).collect();
    assert!(whole.trimmed(&all).is_none(), "nothing is left out");
    let first = BTreeSet::from([whole.children()[0].digest.clone()]);
    let trimmed = whole.trimmed(&first).unwrap();
    assert_eq!(trimmed.children(), &whole.children()[..1]);
    assert_eq!(trimmed.annotations, whole.annotations);
    assert!(String::from_utf8_lossy(&trimmed.bytes).contains(r#""x":1"#));
    assert_eq!(whole.trimmed(&first).unwrap().bytes, trimmed.bytes, "the same bytes each time");
}

#[test]
fn null_fields_are_read_as_absent() {
    let config = ImageConfig::read(
        br#"{"os":"linux","architecture":"arm64","config":{"Entrypoint":null,"Cmd":["a"],"Labels":null}}"#,
    )
    .unwrap();
    assert_eq!(config.platform().unwrap().to_string(), "linux/arm64");
    assert_eq!(config.run.cmd, ["a"]);
    assert!(ImageConfig::read(b"{}").unwrap().platform().is_none());
}

proptest::proptest! {
    #[test]
    fn no_bytes_panic(bytes in proptest::collection::vec(0u8.., 0..300)) {
        let _ = Document::read(bytes.clone().into(), None);
        let _ = ImageConfig::read(&bytes);
    }

    #[test]
    fn mutated_documents_do_not_panic(at in 0usize..2000, byte in 0u8..) {
        let mut bytes = index(&["linux/amd64", "linux/arm/v7"]).into_bytes();
        let at = at % bytes.len();
        bytes[at] = byte;
        let _ = Document::read(bytes.into(), None);
    }
}

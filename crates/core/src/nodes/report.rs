//! What does the platform say of the images that nodes have?

use serde::Deserialize;

use crate::digest::Digest;
use crate::name::Tag;
use crate::reference::Image;

/// What one node has under a tag.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Present {
    pub node: String,
    pub digest: Digest,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum NodeObjects {
    List { items: Vec<ReportedNode> },
    One(ReportedNode),
}

#[derive(Deserialize)]
struct ReportedNode {
    metadata: Metadata,
    #[serde(default)]
    status: Status,
}

#[derive(Deserialize)]
struct Metadata {
    name: String,
}

#[derive(Deserialize, Default)]
struct Status {
    #[serde(default)]
    images: Vec<HeldNames>,
}

#[derive(Deserialize)]
struct HeldNames {
    #[serde(default)]
    names: Vec<String>,
}

/// Reads Kubernetes `Node` objects, one or a list, as JSON, and gives what each has of an image that
/// goes by any of these names, under this tag. A node without it is left out.
///
/// # Errors
/// Why it is no such document, in words.
pub fn read_report(text: &str, names: &[Image], tag: &Tag) -> Result<Vec<Present>, String> {
    let report: NodeObjects =
        serde_json::from_str(text).map_err(|_| "it holds no Node objects in JSON".to_owned())?;
    let nodes = match report {
        NodeObjects::List { items } => items,
        NodeObjects::One(node) => vec![node],
    };
    let mut present = Vec::new();
    for node in nodes {
        for held in node.status.images {
            let here = |name: &Image| held.names.contains(&format!("{name}:{tag}"));
            if !names.iter().any(here) {
                continue;
            }
            let digest = held.names.iter().find_map(|text| {
                let (before, digest) = text.split_once('@')?;
                names.iter().any(|name| name.to_string() == before).then(|| digest.parse().ok())?
            });
            if let Some(digest) = digest {
                present.push(Present { node: node.metadata.name.clone(), digest });
            }
        }
    }
    Ok(present)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nodes_tell_what_they_have() {
        let digest = Digest::of(b"x");
        let node = format!(
            r#"{{"kind":"Node","metadata":{{"name":"a"}},"status":{{"images":[
            {{"names":["bazaar.example/library/kettle@{digest}","bazaar.example/library/kettle:2"],"sizeBytes":1}},
            {{"names":["bazaar.example/library/kettle@sha256:x","bazaar.example/library/kettle:3"]}}]}}}}"#
        );
        let names: [Image; 2] = [
            "larder.example/bazaar/library/kettle".parse().unwrap(),
            "bazaar.example/library/kettle".parse().unwrap(),
        ];
        let tag = "2".parse().unwrap();
        let has = Present { node: "a".into(), digest };
        assert_eq!(read_report(&node, &names, &tag), Ok(vec![has.clone()]));
        let list = format!(r#"{{"kind":"List","items":[{node},{{"metadata":{{"name":"b"}}}}]}}"#);
        assert_eq!(read_report(&list, &names, &tag).unwrap(), [has]);
        assert_eq!(read_report(&node, &names[..1], &tag).unwrap(), []);
        assert!(read_report(&node, &names, &"3".parse().unwrap()).unwrap().is_empty());
        assert!(read_report("[]", &names, &tag).is_err());
    }
}

//! How fast are the decisions? `cargo bench -p larder-core`; compare within one run.
#![allow(missing_docs, clippy::unwrap_used)]

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_core::document::Document;
use larder_core::reference::{Reference, Unqualified};
use larder_core::rewrite::{Access, Edit, scan, splice};

fn main() {
    divan::main();
}

#[divan::bench(args = [Algorithm::Sha256, Algorithm::Sha512])]
fn hash(bencher: Bencher<'_, '_>, algorithm: Algorithm) {
    let bytes = vec![7; 4 << 20];
    bencher.counter(BytesCount::of_slice(&bytes)).bench_local(|| {
        let mut hasher = Hasher::new(algorithm);
        hasher.update(black_box(&bytes));
        hasher.finish()
    });
}

#[divan::bench]
fn read_a_reference() -> Reference {
    let unqualified = Unqualified::default();
    Reference::read(black_box("ventworks.example/gauges/steamgauge:1.9.2"), &unqualified)
        .unwrap()
        .reference
}

#[divan::bench]
fn read_an_index(bencher: Bencher<'_, '_>) {
    let child = format!(
        r#"{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{}","size":500,"platform":{{"os":"linux","architecture":"amd64"}}}}"#,
        Digest::of(b"child")
    );
    let text = format!(r#"{{"schemaVersion":2,"manifests":[{}]}}"#, vec![child; 12].join(","));
    let bytes = bytes::Bytes::from(text);
    bencher
        .counter(BytesCount::of_slice(&bytes))
        .bench_local(|| Document::read(black_box(&bytes).clone(), None).unwrap().children().len());
}

/// A file of a hundred workloads with two images each.
fn deployments() -> String {
    (0..100)
        .map(|n| {
            format!(
                "---\n# number {n}\napiVersion: apps/v1\nkind: Deployment\nmetadata: {{name: board-{n}}}\nspec:\n  template:\n    spec:\n      containers:\n      - name: a\n        image: bazaar.example/library/kettle:2   # why\n        env: [{{name: RETENTION, value: \"400d\"}}]\n      - name: b\n        image: 'ventworks.example/gauges/steamgauge:1.9.2'\n"
            )
        })
        .collect::<Vec<_>>()
        .concat()
}

#[divan::bench]
fn find_images(bencher: Bencher<'_, '_>) {
    let text = deployments();
    bencher
        .counter(BytesCount::of_str(&text))
        .bench_local(|| scan(black_box(&text)).unwrap().findings.len());
}

#[divan::bench]
fn change_images(bencher: Bencher<'_, '_>) {
    let text = deployments();
    let edits: Vec<Edit> = scan(&text)
        .unwrap()
        .findings
        .into_iter()
        .filter_map(|finding| match finding.access {
            Access::Edit(slot) => {
                Some(Edit { slot, text: "larder.example/vendor/kettle:2".into() })
            }
            Access::Leave(_) => None,
        })
        .collect();
    bencher
        .counter(BytesCount::of_str(&text))
        .bench_local(|| splice(black_box(&text), &edits).unwrap().len());
}

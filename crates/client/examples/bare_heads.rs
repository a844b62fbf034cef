//! The reference of `scripts/bench`: asks for each line of stdin, a URL, with a bare HEAD request,
//! 32 at once, and does nothing else.
#![allow(clippy::print_stdout, clippy::expect_used)]

use futures_util::stream::{self, StreamExt as _};

#[tokio::main]
async fn main() {
    rustls::crypto::ring::default_provider().install_default().expect("the first provider");
    let text = std::io::read_to_string(std::io::stdin()).expect("readable input");
    let client =
        reqwest::Client::builder().no_proxy().tls_certs_only([]).build().expect("a client");
    let ends = stream::iter(text.lines())
        .map(|url| client.head(url).send())
        .buffer_unordered(32)
        .filter(|answer| {
            std::future::ready(answer.as_ref().is_ok_and(|answer| answer.status().is_success()))
        })
        .count()
        .await;
    println!("{ends} answered");
}

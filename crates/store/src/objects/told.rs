//! What an object store says of a refusal, in words.

/// Codes that object stores refuse by, and what they mean to an operator.
const MEANINGS: [(&str, &str); 8] = [
    (
        "RequestTimeTooSkewed",
        "this machine's clock and its own differ by too much: set both by the same time server",
    ),
    (
        "SignatureDoesNotMatch",
        "the secret of the key is not the one that it knows, or `region` is not its own",
    ),
    ("InvalidAccessKeyId", "it does not know the key"),
    ("ExpiredToken", "the key has ended"),
    ("AccessDenied", "the key may not do that"),
    ("NoSuchBucket", "there is no such bucket"),
    ("AuthorizationHeaderMalformed", "`region` is not its own"),
    ("SlowDown", "it is asked too much"),
];
/// The longest that is said of anything else, in characters.
const MOST: usize = 300;

/// The cause of an error, without addresses and places that only we know.
pub(super) fn told(error: &object_store::Error) -> String {
    told_of(&error.to_string())
}

/// The same of a text that has the answer at its end.
pub(super) fn told_of(text: &str) -> String {
    let code = text.split("<Code>").nth(1).and_then(|rest| rest.split("</Code>").next());
    if let Some(code) = code {
        let meaning = MEANINGS.iter().find(|(known, _)| *known == code).map(|(_, words)| *words);
        return match meaning {
            Some(words) => format!("{words} ({code})"),
            None => format!("it says {code}"),
        };
    }
    let text = match text.split_once("Server returned ") {
        Some((_, answer)) => answer.strip_prefix("non-2xx status code: ").unwrap_or(answer),
        // What failed before there was an answer stands last.
        None => text.rsplit_once(" - ").map_or(text, |(_, cause)| cause),
    };
    text.trim().trim_end_matches(':').chars().take(MOST).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_put_into_words() {
        let answer = |code: &str| {
            format!(
                "The operation lacked the necessary privileges for path p: Error performing PUT http://127.0.0.1:1/b/p in 2ms - Server returned non-2xx status code: 403 Forbidden: <Error><Code>{code}</Code><Message>m</Message></Error>"
            )
        };
        assert_eq!(told_of(&answer("AccessDenied")), "the key may not do that (AccessDenied)");
        assert!(told_of(&answer("RequestTimeTooSkewed")).contains("clock"));
        assert_eq!(told_of(&answer("Odd")), "it says Odd");
        let plain = "Generic S3 error: Error performing GET http://x in 1ms, after 4 retries - Server returned error response: 503 Service Unavailable: ";
        assert_eq!(told_of(plain), "error response: 503 Service Unavailable");
        let cut = "Generic S3 error: Error performing GET http://x in 1ms - HTTP error: error sending request";
        assert_eq!(told_of(cut), "HTTP error: error sending request");
    }
}

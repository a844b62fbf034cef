//! A login goes to whom it belongs, and comes back from nobody.

use std::sync::{Arc, Mutex};

use crate::house::House;
use crate::stub::{http, listen};

/// Listens, and keeps every `Authorization` that it is sent.
fn spy(
    answer: impl Fn(&str) -> Option<Vec<u8>> + Send + Sync + 'static,
) -> (String, Arc<Mutex<Vec<String>>>) {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let seen = Arc::new(Mutex::new(Vec::new()));
    let kept = Arc::clone(&seen);
    std::thread::spawn(move || {
        use std::io::{Read as _, Write as _};
        for stream in listener.incoming().take(100) {
            let Ok(mut stream) = stream else { return };
            let (mut head, mut piece) = (Vec::new(), [0; 4096]);
            while !head.windows(4).any(|four| four == b"\r\n\r\n") {
                match stream.read(&mut piece) {
                    Ok(got) if got > 0 => head.extend_from_slice(&piece[..got]),
                    _ => break,
                }
            }
            let text = String::from_utf8_lossy(&head).into_owned();
            let shown =
                text.lines().filter(|line| line.to_ascii_lowercase().starts_with("authorization:"));
            kept.lock().unwrap().extend(shown.map(str::to_owned));
            if let Some(bytes) = answer(text.lines().next().unwrap_or_default()) {
                let _ = stream.write_all(&bytes);
            }
        }
    });
    (address, seen)
}

const LOOK: &str = "look vents.example/gauges/steamgauge:1.9.2";

fn house(endpoint: &str, more: &str) -> House {
    let house = House::new();
    house.add_upstream(
        "vents.example",
        &format!("http://{endpoint}"),
        &format!("credentials = {{ env = \"VENTWORKS_LOGIN\" }}\n{more}"),
    );
    house
}

#[test]
fn a_login_is_not_shown_to_a_realm_on_another_host() {
    let (stranger, seen) = spy(|line| http(line, "200 OK", "", "{\"token\":\"abcdefgh\"}"));
    let realm = stranger.clone();
    let upstream = listen(move |line| {
        let field =
            format!("www-authenticate: Bearer realm=\"http://{realm}/token\",service=\"x\"\r\n");
        http(line, "401 Unauthorized", &field, "{}")
    });
    let house = house(&upstream, "");
    for command in [LOOK, "check"] {
        house.larder(command).ends(3).says(&["token_hosts = [", &stranger]);
    }
    assert_eq!(*seen.lock().unwrap(), Vec::<String>::new());
    // Where the operator wrote it down, it is.
    let house = self::house(&upstream, &format!("token_hosts = [\"{stranger}\"]"));
    house.larder(LOOK).ends(3);
    assert!(!seen.lock().unwrap().is_empty());
}

#[test]
fn a_login_is_not_shown_to_where_a_redirect_leads() {
    for challenge in ["Basic realm=\"x\"", "Bearer realm=\"http://ATTACKER/token\""] {
        let own = Arc::new(Mutex::new(String::new()));
        let mine = Arc::clone(&own);
        let (attacker, seen) = spy(move |line| {
            let field = challenge.replace("ATTACKER", &mine.lock().unwrap());
            http(line, "401 Unauthorized", &format!("www-authenticate: {field}\r\n"), "{}")
        });
        own.lock().unwrap().clone_from(&attacker);
        let to = attacker.clone();
        let upstream = listen(move |line| {
            http(line, "307 Temporary Redirect", &format!("location: http://{to}/x\r\n"), "")
        });
        let house = house(&upstream, "");
        for command in [LOOK, "check"] {
            house.larder(command).ends(3);
        }
        assert_eq!(*seen.lock().unwrap(), Vec::<String>::new(), "{challenge}");
    }
}

#[test]
fn an_upstream_that_repeats_a_login_is_not_repeated() {
    let secret = larder_standin::VENTWORKS_LOGIN;
    let upstream = listen(move |line| {
        let body = format!(
            "{{\"errors\":[{{\"code\":\"DENIED\",\"message\":\"you sent {secret} as Basic ZW1iZXJmYWxsOlZFTlRXT1JLUw== \\u001b[2J\"}}]}}"
        );
        match line.contains("/v2/ ") {
            true => http(line, "401 Unauthorized", "www-authenticate: Basic realm=\"x\"\r\n", "{}"),
            false => http(line, "403 Forbidden", "", &body),
        }
    });
    let house = house(&upstream, "\n[[shelf]]\nname = \"vents\"\ncaches = \"vents.example\"\n");
    // The fixture looks for the secret in everything that the program prints.
    let run = house.larder(LOOK);
    assert!(!run.err.contains("ZW1iZXJm") && !run.err.contains('\u{1b}'), "{}", run.err);
    let serving = crate::serving::Serving::start(&house);
    let answer = serving.ask("GET", "/v2/vents/gauges/steamgauge/manifests/1.9.2");
    let password = secret.split(':').nth(1).unwrap();
    for text in [answer.head.as_str(), &answer.text(), &serving.log()] {
        assert!(
            !text.contains(password) && !text.contains("ZW1iZXJm") && !text.contains('\u{1b}'),
            "{text}"
        );
    }
}

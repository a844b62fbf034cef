//! Hosts that are not reached, or not believed.

use crate::causes::{cause, finds, upstream};
use crate::house::House;
use crate::stub::{http, listen, secure};

/// What is odd about a certificate.
type Change = fn(&mut rcgen::CertificateParams);

#[test]
fn hosts_that_cannot_be_reached() {
    let house = House::new();
    let closed = {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        format!("http://{}", listener.local_addr().unwrap())
    };
    let line = upstream(&house, "closed.example", &closed, "");
    finds(&house, &line, "connection-refused");
    let secure_but_plain = house.bazaar.endpoint().replace("http://", "https://");
    let line = upstream(&house, "plain.example", &secure_but_plain, "");
    finds(&house, &line, "plain-http");
    let (tls, _) = secure(&house, |_| {}, false);
    let line =
        upstream(&house, "wants.example", &tls.endpoint().replace("https://", "http://"), "");
    finds(&house, &line, "wants-tls");
    let banner = listen(|_| Some(b"SSH-2.0-x\r\n".to_vec()));
    let line = upstream(&house, "other.example", &format!("http://{banner}"), "");
    finds(&house, &line, "not-http");
    let gone = listen(|_| Some(Vec::new()));
    let line = upstream(&house, "gone.example", &format!("http://{gone}"), "");
    finds(&house, &line, "connection-reset");
    let silent = listen(|_| None);
    let line = upstream(&house, "silent.example", &format!("http://{silent}"), "");
    finds(&house, &line, "stalled");
    let page = listen(|line| {
        http(line, "200 OK", "content-type: text/html\r\n", "<title>Please sign in</title>")
    });
    let line = upstream(&house, "portal.example", &format!("http://{page}"), "");
    let told = finds(&house, &line, "captive-page");
    assert!(told.to_string().contains("Please sign in"));
    let proxy = listen(|line| http(line, "407 Proxy Authentication Required", "", ""));
    let line = upstream(&house, "proxied.example", &format!("http://{proxy}"), "");
    finds(&house, &line, "proxy");
    let circle = listen(|line| http(line, "307 Temporary Redirect", "location: /v2/again\r\n", ""));
    let line = upstream(&house, "circle.example", &format!("http://{circle}"), "");
    finds(&house, &line, "redirect-loop");
    // No name service is needed to know nothing of such a name; where there is none, that is told.
    let line = "why --json nowhere.invalid/library/kettle:2 --nodes bare --patience 5";
    let (found, _) = cause(&house.larder(line).ends(1));
    assert!(["unknown-host", "name-service"].contains(&found.as_str()), "{found}");
}

#[test]
fn certificates_that_are_not_believed() {
    let house = House::new();
    let situations: [(&str, Change, bool, bool, &str); 5] = [
        ("a.example", |_| {}, false, false, "unknown-authority"),
        (
            "b.example",
            |it| {
                it.subject_alt_names =
                    vec![rcgen::SanType::DnsName("other.example".try_into().unwrap())];
            },
            true,
            false,
            "wrong-name",
        ),
        (
            "c.example",
            |it| {
                (it.not_before, it.not_after) =
                    (rcgen::date_time_ymd(2020, 1, 1), rcgen::date_time_ymd(2021, 1, 1));
            },
            true,
            false,
            "certificate-expired",
        ),
        (
            "d.example",
            |it| {
                (it.not_before, it.not_after) =
                    (rcgen::date_time_ymd(2090, 1, 1), rcgen::date_time_ymd(2091, 1, 1));
            },
            true,
            false,
            "certificate-early",
        ),
        ("e.example", |_| {}, true, true, "client-certificate"),
    ];
    for (host, change, trusted, clients, wanted) in situations {
        let (tls, authority) = secure(&house, change, clients);
        let file = format!("{host}.pem");
        house.write(&file, authority);
        let ca = if trusted { format!("ca = \"{file}\"") } else { String::new() };
        let line = upstream(&house, host, &tls.endpoint(), &ca);
        let told = finds(&house, &line, wanted).to_string();
        match wanted {
            "unknown-authority" => assert!(told.contains("the house's own authority"), "{told}"),
            "wrong-name" => assert!(told.contains("other.example"), "{told}"),
            "certificate-expired" => assert!(told.contains("2021"), "{told}"),
            "certificate-early" => assert!(told.contains("2090"), "{told}"),
            _ => {}
        }
    }
}

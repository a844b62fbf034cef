//! Two larders that cache the same upstream: what one has fetched the other gives, and they spend one allowance.

use super::{Replicas, soon};
use crate::node::{requests, straight};

const SHELF: &str = "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n";

#[test]
fn what_both_are_asked_for_is_fetched_once() {
    let Some(replicas) = Replicas::new(SHELF) else { return };
    let a = replicas.serve_new("a");
    let b = replicas.serve("b");
    let house = &replicas.house;
    house.bazaar.take_requests();
    std::thread::scope(|scope| {
        let pulls: Vec<_> = [&a, &b, &a, &b]
            .into_iter()
            .map(|one| scope.spawn(|| straight(one).pull("bazaar/library/kettle", "2")))
            .collect();
        let pulled: Vec<_> = pulls.into_iter().map(|pull| pull.join().unwrap()).collect();
        assert!(pulled.iter().all(|one| one.is_ok() && *one == pulled[0]), "{pulled:?}");
    });
    let asked = requests(&house.bazaar);
    let blobs: Vec<_> = asked.iter().filter(|(line, _)| line.contains("/blobs/")).collect();
    assert!(!blobs.is_empty() && blobs.iter().all(|(_, times)| *times == 1), "{asked:?}");
    // What only one of them was asked for, the other gives without asking.
    straight(&a).pull("bazaar/library/ashlog", "1.4").unwrap();
    house.bazaar.take_requests();
    straight(&b).pull("bazaar/library/ashlog", "1.4").unwrap();
    assert_eq!(requests(&house.bazaar), []);
    assert_eq!(a.stop("TERM"), 0);
    straight(&b).pull("bazaar/library/kettle", "2").unwrap();
}

#[test]
fn they_spend_one_allowance() {
    let Some(replicas) = Replicas::new(SHELF) else { return };
    for one in ["a", "b"] {
        let path = format!("{one}/larder.toml");
        let text = replicas.house.read(&path);
        let name = "name = \"bazaar\"\nhost = \"bazaar.example\"\n";
        let spent = format!("{name}allowance = {{ pulls = 3, per = \"6h\" }}\n");
        replicas.house.write(&path, text.replacen(name, &spent, 1));
    }
    let a = replicas.serve_new("a");
    let b = replicas.serve("b");
    // An index and a manifest each.
    straight(&a).pull("bazaar/library/kettle", "2").unwrap();
    let second = straight(&b).pull("bazaar/library/ashlog", "1.4");
    assert!(second.is_err(), "four pulls were made of three");
    let refused = a.ask("GET", "/v2/bazaar/library/pumpd/manifests/2");
    assert_eq!(refused.status, 503, "{}", refused.text());
    // What one of them holds both give.
    soon("it is not given", || straight(&b).pull("bazaar/library/kettle", "2").is_ok());
}

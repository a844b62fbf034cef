//! What a key of the object store may not do is said in words, one by one, before anything is served.

use super::Replicas;
use crate::house::OWN;

#[test]
fn what_a_key_may_not_do_is_told_before_anything_is_served() {
    let Some(replicas) = Replicas::new("") else { return };
    let told = |name: &str| std::env::var(name).ok().filter(|address| !address.is_empty());
    let Some(strict) = told("LARDER_TEST_STRICT_BUCKET") else { return };
    let (lenient, strict) = (told("LARDER_TEST_BUCKET").unwrap(), strict);
    let endpoint = |address: &str| address.rsplit_once('/').unwrap().0.to_owned();
    let text =
        replicas.house.read("a/larder.toml").replace(&endpoint(&lenient), &endpoint(&strict));
    replicas.house.write("a/larder.toml", &text);
    let with = |key: &str| {
        replicas.house.write("objects-key", key);
        replicas.larder("a", "check --offline")
    };
    let secret = "not-a-real-secret";
    // Before there is a store, and afterwards.
    for round in 0..2 {
        with(&format!("larder:{secret}")).ends(0);
        for (key, words) in [
            ("larder:another-secret", ["the secret of the key is not", "cannot be written"]),
            ("nobody:another-secret", ["it does not know the key", "cannot be written"]),
            (
                &*format!("skewed:{secret}"),
                ["set both by the same time server", "cannot be written"],
            ),
            (&*format!("reader:{secret}"), ["the key may not do that", "cannot be written"]),
            (&*format!("keeper:{secret}"), ["the key may not do that", "cannot remove"]),
            (&*format!("blind:{secret}"), ["the key may not do that", "cannot be listed"]),
        ] {
            let said = with(key).ends(2);
            let said = format!("{}{}", said.out, said.err);
            for word in words.iter().chain(&["cannot use the larder's objects"]) {
                assert!(said.contains(word), "{round} {key}: `{word}` is not said: {said}");
            }
            assert!(!said.contains("secret\""), "{said}");
            assert!(!said.contains("another-secret") && !said.contains("not-a-real"), "{said}");
        }
        with(&format!("larder:{secret}")).ends(0);
        let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
        replicas.larder("a", &copy).ends(0);
    }
    // A signed request that is a little late holds; nothing of it is in the log.
    let serving = replicas.serve("a");
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    assert!(!serving.log().contains(secret));
}

#[test]
fn what_a_database_user_may_not_do_is_told() {
    let Some(replicas) = Replicas::new("") else { return };
    let server = std::env::var("LARDER_TEST_POSTGRES").unwrap();
    let role = format!("r{}", uuid::Uuid::now_v7().simple());
    replicas.house.runtime.block_on(async {
        let (client, connection) =
            tokio_postgres::connect(&server, tokio_postgres::NoTls).await.unwrap();
        tokio::spawn(connection);
        client.batch_execute(&format!("CREATE ROLE {role} LOGIN")).await.unwrap();
    });
    let text = replicas.house.read("a/larder.toml");
    let with = |from: &str, to: &str| {
        replicas.house.write("a/larder.toml", text.replace(from, to));
        let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
        replicas.larder("a", &copy)
    };
    let told = ["cannot open the larder's store", "GRANT USAGE, CREATE"];
    with("postgres://larder@", &format!("postgres://{role}@")).ends(2).says(&told);
    with("postgres://larder@", "postgres://nobody-here@").ends(2).says(&["check the user"]);
    let database = format!("{}/no-such-database", server.rsplit_once('/').unwrap().0);
    with(&server, &database).ends(2).says(&["does not exist", "check the user"]);
    with("nothing", "nothing").ends(0);
    // One that may not touch what is there already.
    with("postgres://larder@", &format!("postgres://{role}@")).ends(2).says(&told);
}

#[test]
fn a_place_that_another_store_has_is_refused() {
    let (Some(first), Some(second)) = (Replicas::new(""), Replicas::new("")) else { return };
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    first.larder("a", &copy).ends(0);
    let serving = first.serve("a");
    // Another database, and by a slip the same place in the object store.
    let prefix = |text: &str| text.split("prefix = \"").nth(1).unwrap()[..33].to_owned();
    let (ours, theirs) = (first.house.read("a/larder.toml"), second.house.read("a/larder.toml"));
    second.house.write("a/larder.toml", theirs.replacen(&prefix(&theirs), &prefix(&ours), 1));
    second.larder("a", "store collect --grace 0s --uploads --older 0s").ends(2);
    second
        .larder("a", "serve --new-store")
        .ends(2)
        .says(&["belongs to another store", "`prefix` of its own"]);
    second
        .larder("a", "store collect --grace 0s --uploads --older 0s")
        .ends(2)
        .says(&["another store"]);
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    first.larder("a", "store verify").ends(0);
}

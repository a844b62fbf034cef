//! Nothing is published or edited where nobody said so.

use crate::house::House;

#[test]
fn nothing_is_copied_to_a_registry_that_was_not_typed() {
    let house = House::new();
    house.larder("copy bazaar.example/library/kettle:2 ./lay/web").ends(0);
    for (target, try_this) in [
        ("web2.tar.gz", "web2.tar"),
        ("out.d/web2.tgz", "out.d/web2.tar"),
        ("web3", "./web3"),
        ("team/web3:1", "./team/web3:1"),
    ] {
        let dry = house.larder(&format!("copy ./lay/web {target} --dry-run"));
        dry.ends(2).says(&[target, try_this]);
        house.larder(&format!("copy ./lay/web {target}")).ends(2).says(&["error:", try_this]);
        // Without a configuration it would be a public registry.
        let mut command = house.command(&format!("copy ../lay/web {target}"));
        std::fs::create_dir_all(house.path("nowhere")).unwrap();
        let bare = crate::house::run(command.current_dir(house.folder.path()));
        bare.ends(2).says(&[try_this]);
    }
    assert!(house.bazaar.take_requests().keys().all(|request| !request.starts_with('P')));
    // Reading by a short name goes on.
    house.larder("copy kettle:2 ./lay/kettle").ends(0);
}

#[test]
fn a_base_that_is_made_of_other_arguments_is_left_alone() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n");
    let file = "ARG REG=bazaar.example\nARG BASE=${REG}/library/kettle:2\n\n# the base\nFROM ${BASE}\nRUN make\nFROM bazaar.example/library/ashlog:1.4\n";
    house.write("b/Dockerfile", file);
    house.larder("rewrite --write b").ends(1).says(&["put together from variables"]);
    let changed = house.read("b/Dockerfile");
    assert!(
        changed.starts_with(
            "ARG REG=bazaar.example\nARG BASE=${REG}/library/kettle:2\n\n# the base\nFROM ${BASE}\n"
        ),
        "{changed}"
    );
    assert!(changed.contains("/bazaar/library/ashlog:1.4"), "the rest of it is done: {changed}");
}

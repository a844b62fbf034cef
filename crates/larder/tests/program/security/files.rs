//! What others can write says nothing for us, and what is ours is nobody else's.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, chown};
use std::path::Path;

use crate::house::{House, run};
use crate::serving::Serving;

fn mode(path: &Path) -> u32 {
    fs::metadata(path).unwrap().permissions().mode() & 0o777
}

fn set_mode(path: &Path, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn a_configuration_of_others_runs_nothing() {
    let house = House::new();
    let marker = house.path("ran");
    let program = house.program("login", &format!("touch {}\necho a:b", marker.display()));
    house.add_upstream(
        "c.example",
        "http://127.0.0.1:9",
        &format!("credentials = {{ command = [\"{program}\"] }}"),
    );
    house.write("secret", "a:b");
    house.add_upstream("f.example", "http://127.0.0.1:9", "credentials = { file = \"secret\" }");
    let (config, secret) = (house.path("larder.toml"), house.path("secret"));
    let looks = [
        "look c.example/x:1",
        "look f.example/x:1",
        "look ventworks.example/gauges/steamgauge:1.9.2",
    ];
    let refused = |why: &str| {
        for line in looks {
            house.larder(line).ends(2).says(&[
                why,
                "given no secret and runs no program",
                "--config",
            ]);
        }
        fs::create_dir_all(house.path("below")).unwrap();
        let mut command = house.command("check");
        run(command.current_dir(house.path("below"))).says(&[why]);
        assert!(!marker.exists());
    };
    set_mode(&config, 0o646);
    refused("everybody can write it");
    // Only root can give files away; whoever else runs this has seen the rest.
    set_mode(&config, 0o644);
    if chown(&config, Some(65534), None).is_ok() {
        refused("it belongs to the user 65534");
        // Whoever names it means it.
        house.larder("look c.example/x:1 --config larder.toml").ends(3);
        assert!(marker.exists());
        fs::remove_file(&marker).unwrap();
        let mut command = house.command("look c.example/x:1");
        run(command.env("LARDER_CONFIG", "larder.toml")).ends(3);
        assert!(marker.exists());
        chown(&config, Some(0), None).unwrap();
    }
    // A secret's own file counts too, and so does what is included.
    set_mode(&secret, 0o666);
    house.larder("look f.example/x:1").ends(2).says(&["secret: everybody can write it"]);
    set_mode(&secret, 0o600);
    house.larder("look f.example/x:1").ends(3);
    let text = format!("include = [\"more/*.toml\"]\n{}", house.read("larder.toml"));
    house.write("larder.toml", text);
    house.write("more/a.toml", "");
    set_mode(&house.path("more/a.toml"), 0o666);
    house.larder("look f.example/x:1").ends(2).says(&["a.toml: everybody can write it"]);
}

#[test]
fn a_store_and_its_backups_are_their_owners_alone() {
    let house = House::new();
    house.bring_in();
    house.larder("store backup copy").ends(0);
    for folder in ["larder-data", "copy"] {
        let folder = house.path(folder);
        assert_eq!(mode(&folder), 0o700);
        let mut left = vec![folder];
        while let Some(at) = left.pop() {
            for entry in fs::read_dir(at).unwrap().flatten() {
                let path = entry.path();
                match path.is_dir() {
                    true => left.push(path),
                    false
                        if entry.file_name() == "serve.lock"
                            || entry.file_name() == "ledger.moment" => {}
                    false => assert_eq!(mode(&path) & 0o077, 0, "{}", path.display()),
                }
            }
        }
    }
    // A store from before is closed at the next start.
    set_mode(&house.path("larder-data"), 0o755);
    let serving = Serving::start(&house);
    assert_eq!(mode(&house.path("larder-data")), 0o700);
    assert!(
        serving.log().contains("others could enter the folder of the store"),
        "{}",
        serving.log()
    );
}

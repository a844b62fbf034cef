//! Logins that are replaced while a larder runs.

use larder_standin::{SignIn, image};

use crate::house::{House, small};
use crate::node::{Way, shelves, straight, wait_until};
use crate::serving::{Serving, ask};

const OLD: &str = "emberfall:not-a-real-secret";
const NEW: &str = "emberfall:another-made-up-one";

fn basic(login: &str) -> SignIn {
    SignIn::Basic { login: login.into() }
}

fn bearer(login: &str) -> SignIn {
    SignIn::Bearer { login: login.into() }
}

/// A house whose second upstream takes its login from there, and whose images are new each time.
struct Renewing {
    house: House,
    images: usize,
}

impl Renewing {
    fn new(credentials: &str) -> Self {
        let house = House::new();
        house.configure(&shelves("").replace(
            "[[shelf]]\nname = \"gauges\"",
            "[[shelf]]\nname = \"gauges\"\nstale = \"0s\"",
        ));
        let text = house.read("larder.toml");
        let from = "credentials = { env = \"VENTWORKS_LOGIN\" }";
        assert!(text.contains(from));
        house.write("larder.toml", text.replace(from, &format!("credentials = {credentials}")));
        Self { house, images: 0 }
    }

    /// Pulls what nobody pulled before.
    fn pull(&mut self, way: Way<'_>) -> Result<(), String> {
        self.images += 1;
        let (name, tag) = ("gauges/steamgauge", format!("3.{}", self.images));
        self.house.hold(&self.house.ventworks, name, &tag, &image(&small(&tag)));
        way.pull(&format!("gauges/{name}"), &tag).map(drop)
    }

    fn wait_for_a_pull(&mut self, way: Way<'_>) {
        wait_until("a login that was replaced is not taken up", || self.pull(way).is_ok());
    }
}

#[test]
fn a_running_larder_takes_up_a_login_that_was_replaced_in_its_file() {
    for sign_in in [basic, bearer] {
        let mut it = Renewing::new("{ file = \"login\" }");
        it.house.write("login", OLD);
        it.house.ventworks.change_sign_in(sign_in(OLD));
        let serving = Serving::start(&it.house);
        let way = straight(&serving);
        it.pull(way).unwrap();
        it.house.ventworks.change_sign_in(sign_in(NEW));
        it.house.write("login", NEW);
        it.wait_for_a_pull(way);
        it.pull(way).unwrap();
        let log = serving.log();
        assert!(!log.contains("not-a-real-secret") && !log.contains("another-made-up"), "{log}");
    }
}

#[test]
fn a_running_larder_asks_the_program_again_when_its_login_ends() {
    let mut it = Renewing::new("{ command = [\"./login\"] }");
    let said = |secret: &str, until: &str| {
        format!("{{\"user\":\"emberfall\",\"secret\":\"{secret}\",\"expires\":\"{until}\"}}")
    };
    it.house.program("login", "echo x >> asked\ncat answer");
    let soon = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(4);
    it.house.write("answer", said("not-a-real-secret", &soon.to_string()));
    it.house.ventworks.change_sign_in(basic(OLD));
    let serving = Serving::start(&it.house);
    let way = straight(&serving);
    it.pull(way).unwrap();
    // From now on only the new one is taken; nobody tells us but the end that was said.
    it.house.write("answer", said("another-made-up-one", "2199-01-01T00:00:00Z"));
    wait_until("its end", || jiff::Timestamp::now() > soon);
    it.house.ventworks.change_sign_in(basic(NEW));
    it.house.ventworks.take_requests();
    it.pull(way).unwrap();
    let asked = it.house.read("asked").lines().count();
    assert!((2..=3).contains(&asked), "{asked} times");
    it.pull(way).unwrap();
    assert_eq!(it.house.read("asked").lines().count(), asked);
}

#[test]
fn while_no_login_can_be_had_nodes_are_told_why_and_never_the_secret() {
    let mut it = Renewing::new("{ command = [\"./login\"] }");
    it.house.program("login", &format!("echo {OLD}"));
    it.house.ventworks.change_sign_in(bearer(OLD));
    let serving = Serving::start(&it.house);
    let way = straight(&serving);
    it.pull(way).unwrap();
    it.house.ventworks.change_sign_in(bearer(NEW));
    it.house.program("login", &format!("echo {NEW} >&2; exit 7"));
    wait_until("the program is asked again", || {
        it.pull(way).unwrap_err();
        serving.log().contains("it ended with exit status: 7")
    });
    let path = "/v2/gauges/gauges/steamgauge/manifests/nothing";
    let answer = ask(serving.host(), "GET", path, &[], b"").unwrap();
    assert!(answer.status >= 400, "{}", answer.head);
    assert!(!answer.text().contains("secret"), "{}", answer.text());
    it.house.program("login", &format!("echo {NEW}"));
    it.wait_for_a_pull(way);
}

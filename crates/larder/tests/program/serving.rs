//! A larder that serves, and a client of the simplest kind.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use crate::house::House;

pub struct Serving {
    pub child: Child,
    /// Its address, with the scheme.
    pub address: String,
    /// What it said at the start.
    pub said: Vec<String>,
    errors: std::path::PathBuf,
}

impl Serving {
    pub fn start(house: &House) -> Self {
        Self::with(house, "")
    }

    /// With more options.
    pub fn with(house: &House, options: &str) -> Self {
        let command = house.command(&format!("serve --listen 127.0.0.1:0 {options}"));
        Self::spawn(command, house.path("serve.log"))
    }

    /// With a log of JSON objects, where its address stands too.
    pub fn logging_json(house: &House, options: &str) -> Self {
        let mut command =
            house.command(&format!("serve --listen 127.0.0.1:0 --log json {options}"));
        let errors = house.path("serve.log");
        let log = std::fs::File::options().create(true).append(true).open(&errors).unwrap();
        let child = command.stdout(Stdio::null()).stderr(log).spawn().unwrap();
        let mut serving = Self { child, address: String::new(), said: Vec::new(), errors };
        crate::node::wait_until("it serves", || {
            let log = serving.log();
            let begun = log.lines().find(|line| line.contains(" serves on ")).map(str::to_owned);
            let Some(begun) = begun else { return false };
            let begun: serde_json::Value = serde_json::from_str(&begun).unwrap();
            let at = |key: &str| begun[key].as_str().unwrap().to_owned();
            serving.address = format!("{}://{}", at("scheme"), at("listen"));
            let figures = begun["metrics"].as_str();
            serving.said.extend(figures.map(|at| format!("  figures http://{at}/metrics")));
            true
        });
        serving
    }

    pub fn spawn(mut command: Command, errors: std::path::PathBuf) -> Self {
        let log = std::fs::File::options().create(true).append(true).open(&errors).unwrap();
        let mut child = command.stdout(Stdio::piped()).stderr(log).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        let mut said = Vec::new();
        loop {
            let mut line = String::new();
            let got = lines.read_line(&mut line).unwrap();
            assert!(got > 0, "it ended: {}", std::fs::read_to_string(&errors).unwrap());
            said.push(line.trim_end().to_owned());
            if line.contains(" access ") {
                break;
            }
        }
        // The rest is read so that nobody has to wait for us.
        std::thread::spawn(move || lines.read_to_string(&mut String::new()));
        let address = said[0].rsplit(' ').next().unwrap().to_owned();
        assert!(address.starts_with("http"), "{said:?}");
        Self { child, address, said, errors }
    }

    /// Its host and port.
    pub fn host(&self) -> &str {
        self.address.split("//").nth(1).unwrap()
    }

    pub fn log(&self) -> String {
        std::fs::read_to_string(&self.errors).unwrap()
    }

    pub fn signal(&self, signal: &str) {
        let id = self.child.id().to_string();
        Command::new("sh").args(["-c", &format!("kill -{signal} {id}")]).status().unwrap();
    }

    pub fn stop(mut self, signal: &str) -> i32 {
        self.signal(signal);
        self.child.wait().unwrap().code().unwrap_or(-1)
    }

    pub fn ask(&self, method: &str, path: &str) -> Answer {
        ask(self.host(), method, path, &[], b"").unwrap()
    }
}

impl Drop for Serving {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[derive(Debug)]
pub struct Answer {
    pub status: u16,
    pub head: String,
    pub body: Vec<u8>,
}

impl Answer {
    /// What a header says. None: it is not there.
    pub fn header(&self, name: &str) -> Option<&str> {
        let mut lines = self.head.lines().filter_map(|line| line.split_once(": "));
        lines.find(|(one, _)| one.eq_ignore_ascii_case(name)).map(|(_, value)| value)
    }

    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

/// One request over a connection of its own. None: there was no whole answer.
pub fn ask(
    host: &str,
    method: &str,
    path: &str,
    headers: &[(&str, &str)],
    body: &[u8],
) -> Option<Answer> {
    let mut stream = TcpStream::connect(host).ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let mut head = format!("{method} {path} HTTP/1.1\r\nhost: {host}\r\nconnection: close\r\n");
    for (name, value) in headers {
        head.push_str(&format!("{name}: {value}\r\n"));
    }
    head.push_str(&format!("content-length: {}\r\n\r\n", body.len()));
    stream.write_all(head.as_bytes()).ok()?;
    // A refusal may come before all is sent.
    let _ = stream.write_all(body);
    let mut all = Vec::new();
    stream.read_to_end(&mut all).ok()?;
    let end = all.windows(4).position(|four| four == b"\r\n\r\n")?;
    let head = String::from_utf8_lossy(&all[..end]).into_owned();
    let body = all[end + 4..].to_vec();
    let status = head.split(' ').nth(1)?.parse().ok()?;
    let length = head
        .lines()
        .find_map(|line| line.to_ascii_lowercase().strip_prefix("content-length: ")?.parse().ok());
    let body = match head.to_ascii_lowercase().contains("transfer-encoding: chunked") {
        true => unchunked(&body)?,
        false => body,
    };
    let whole = method == "HEAD" || length.is_none_or(|length: usize| length == body.len());
    whole.then_some(Answer { status, head, body })
}

/// A body that came in chunks. None: it broke off.
fn unchunked(mut body: &[u8]) -> Option<Vec<u8>> {
    let mut whole = Vec::new();
    loop {
        let end = body.windows(2).position(|two| two == b"\r\n")?;
        let length = usize::from_str_radix(std::str::from_utf8(&body[..end]).ok()?, 16).ok()?;
        body = &body[end + 2..];
        if length == 0 {
            return Some(whole);
        }
        whole.extend_from_slice(body.get(..length)?);
        body = body.get(length + 2..)?;
    }
}

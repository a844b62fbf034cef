//! The larder as a service of the system: it says when it is ready, that it is still alive, that it reads its
//! configuration again and that it stops, and takes sockets that were opened for it (sd_notify(3), sd_listen_fds(3)).
//!
//! Whoever starts it without such a manager notices nothing of this.

use std::net::TcpListener;
use std::os::linux::net::SocketAddrExt as _;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::time::Duration;

use listenfd::ListenFd;

use crate::failure::Failure;

/// The name of the socket that figures are served on; any other is the registry's.
const FIGURES: &str = "metrics";

/// Who is told how the service stands. None within: nobody asks.
pub struct Manager {
    socket: Option<(UnixDatagram, SocketAddr)>,
    /// How often it wants to hear that the service is alive. None: it does not ask.
    watchdog: Option<Duration>,
}

impl Manager {
    /// The one that started this process, if it says that it listens.
    pub fn of_this_process() -> Self {
        let named = std::env::var_os("NOTIFY_SOCKET").filter(|path| !path.is_empty());
        let address = named.and_then(|path| {
            use std::os::unix::ffi::OsStrExt as _;
            match path.as_bytes() {
                [b'@', name @ ..] => SocketAddr::from_abstract_name(name).ok(),
                _ => SocketAddr::from_pathname(&path).ok(),
            }
        });
        let socket = address.and_then(|address| Some((UnixDatagram::unbound().ok()?, address)));
        let watchdog = match &socket {
            Some(_) => watchdog(
                std::env::var("WATCHDOG_USEC").ok().as_deref(),
                std::env::var("WATCHDOG_PID").ok().as_deref(),
                std::process::id(),
            ),
            None => None,
        };
        Self { socket, watchdog }
    }

    fn tell(&self, state: &str) {
        if let Some((socket, address)) = &self.socket
            && let Err(error) = socket.send_to_addr(state.as_bytes(), address)
        {
            tracing::warn!(%error, "the service manager could not be told how the larder stands");
        }
    }

    /// It serves.
    pub fn ready(&self, status: &str) {
        self.tell(&format!("READY=1\nSTATUS={}", status.replace('\n', " ")));
    }

    /// It reads its configuration again; [`Manager::ready`] ends that.
    pub fn reloads(&self) {
        let now = rustix::time::clock_gettime(rustix::time::ClockId::Monotonic);
        let micros = now.tv_sec.saturating_mul(1_000_000).saturating_add(now.tv_nsec / 1000);
        self.tell(&format!("RELOADING=1\nMONOTONIC_USEC={micros}"));
    }

    /// It ends what runs, and takes nothing new.
    pub fn stops(&self) {
        self.tell("STOPPING=1\nSTATUS=ends what runs");
    }

    /// What it is busy with before it is ready.
    pub fn busy(&self, status: &str) {
        self.tell(&format!("STATUS={}", status.replace('\n', " ")));
    }

    /// Says that the service is alive for as long as `alive` says so; it is asked three times in the time that the
    /// manager waits. It never ends.
    pub async fn keep_telling<A: Future<Output = bool>>(&self, alive: impl Fn(Duration) -> A) {
        let Some(patience) = self.watchdog else { return std::future::pending().await };
        let each = patience / 3;
        loop {
            match alive(each).await {
                true => self.tell("WATCHDOG=1"),
                false => tracing::error!(
                    "threads that serve connections do not answer; the service manager is not told that the larder is alive"
                ),
            }
            tokio::time::sleep(each).await;
        }
    }
}

/// How often a manager wants to hear from a process. None: it does not ask this one.
fn watchdog(micros: Option<&str>, of: Option<&str>, this: u32) -> Option<Duration> {
    let micros: u64 = micros?.parse().ok().filter(|micros| *micros > 0)?;
    let is_ours = of.is_none_or(|of| of.parse() == Ok(this));
    is_ours.then(|| Duration::from_micros(micros))
}

/// The sockets that were opened for this process.
#[derive(Default)]
pub struct Handed {
    pub registry: Option<TcpListener>,
    pub figures: Option<TcpListener>,
}

/// Takes the sockets that were opened for this process, each once.
pub fn handed() -> Result<Handed, Failure> {
    // It is read before the names are taken away with the sockets.
    let names = std::env::var("LISTEN_FDNAMES").unwrap_or_default();
    let names: Vec<&str> = names.split(':').collect();
    let what = "cannot take the sockets that the service manager opened";
    let mut given = ListenFd::from_env();
    let mut handed = Handed::default();
    for place in 0..given.len() {
        let taken = given.take_tcp_listener(place);
        let socket = taken.map_err(|error| Failure::io(what, &error))?;
        let slot = match names.get(place) {
            Some(&FIGURES) => &mut handed.figures,
            _ => &mut handed.registry,
        };
        if slot.is_some() {
            let cause = "there are several for the registry, or several for figures";
            let remedy = "name one `FileDescriptorName=metrics` at most, and one other";
            return Err(Failure::usage(what, cause, remedy));
        }
        *slot = socket;
    }
    Ok(handed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_watchdog_counts_where_it_asks_this_process() {
        let minute = Some(Duration::from_secs(60));
        assert_eq!(watchdog(Some("60000000"), None, 7), minute);
        assert_eq!(watchdog(Some("60000000"), Some("7"), 7), minute);
        assert_eq!(watchdog(Some("60000000"), Some("8"), 7), None);
        assert_eq!(watchdog(Some("0"), None, 7), None);
        assert_eq!(watchdog(Some("soon"), None, 7), None);
        assert_eq!(watchdog(None, Some("7"), 7), None);
    }
}

//! What a client may take: connections, time, uploads. A slow client holds up nobody else.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::body::BodyDataStream;
use bytes::Bytes;
use futures_util::StreamExt as _;
use larder_core::access::network::Network;
use tokio::time::Instant;

/// Who sends a request: put into it by the listener.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Client(pub IpAddr);

/// Marks a request of which a proxy says in two fields that two different clients sent it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Unclear;

/// The certificate that a client has shown, in DER: put into each request by the listener.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ClientCertificate(pub Arc<[u8]>);

/// The cluster that a request says it comes from.
#[derive(Debug, Clone)]
pub(crate) struct Asker {
    pub cluster: String,
    /// Whether the cluster's certificate was shown.
    pub shown: bool,
}

/// Marks a request of a node that was sent here instead of to an upstream.
#[derive(Debug, Clone, Copy)]
pub(crate) struct FromNode;

/// The bounds of one listener.
#[derive(Debug, Clone, PartialEq)]
pub struct Limits {
    /// Who stands before us: what they say of whom they forward is believed.
    pub proxies: Vec<Network>,
    /// Connections that are open at once; more are closed as soon as they are accepted.
    pub connections: usize,
    /// Connections of one address; never more than a quarter of all.
    pub connections_per_client: usize,
    /// Files that are read at once for clients, whatever connections and streams they come by.
    pub readers: usize,
    /// Uploads that one address sends at once.
    pub uploads_per_client: usize,
    /// How long a request's header may take, and how long a connection may stay silent between
    /// requests.
    pub header_time: Duration,
    /// How long a body may not move at all, in either direction.
    pub stall: Duration,
    /// Bytes that a body sent to us must bring within each `stall`.
    pub least: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            proxies: Vec::new(),
            connections: 8192,
            connections_per_client: 2048,
            readers: 4096,
            uploads_per_client: 64,
            header_time: Duration::from_secs(15),
            stall: Duration::from_secs(30),
            least: 32 * 1024,
        }
    }
}

impl Limits {
    /// What clients may take, through whichever proxy.
    pub(crate) fn without_proxies(&self) -> Self {
        Self { proxies: Vec::new(), ..self.clone() }
    }
}

/// Something of which each client may have so many at once.
#[derive(Debug, Clone, Default)]
pub(crate) struct Slots {
    taken: Arc<Mutex<HashMap<IpAddr, usize>>>,
}

/// One that is taken. Dropped, it is free again.
#[derive(Debug)]
pub(crate) struct ConnectionSlot {
    client: IpAddr,
    slots: Slots,
}

impl Slots {
    /// None: this client has `most` already.
    pub fn take(&self, client: IpAddr, most: usize) -> Option<ConnectionSlot> {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let count = taken.entry(client).or_insert(0);
        if *count >= most {
            return None;
        }
        *count += 1;
        Some(ConnectionSlot { client, slots: self.clone() })
    }
}

impl Drop for ConnectionSlot {
    fn drop(&mut self) {
        let mut taken = self.slots.taken.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = taken.get_mut(&self.client) {
            *count -= 1;
            if *count == 0 {
                taken.remove(&self.client);
            }
        }
    }
}

/// Memory that requests hold of what clients chose to send or to ask for: so much in all, and a quarter of it for one
/// client.
#[derive(Debug, Clone)]
pub(crate) struct BufferBudget {
    most: usize,
    taken: Arc<Mutex<(usize, HashMap<IpAddr, usize>)>>,
}

/// Some of it. Dropped, it is free again.
#[derive(Debug)]
pub(crate) struct Share {
    client: IpAddr,
    bytes: usize,
    of: BufferBudget,
}

impl BufferBudget {
    /// Room for so many bytes.
    pub fn new(most: usize) -> Self {
        Self { most, taken: Arc::default() }
    }

    /// A share of nothing yet, for a client.
    pub fn share(&self, client: Option<IpAddr>) -> Share {
        let client = client.unwrap_or(IpAddr::from([0, 0, 0, 0]));
        Share { client, bytes: 0, of: self.clone() }
    }
}

impl Share {
    /// Takes so many bytes more. False: there are not so many for this client.
    pub fn grow(&mut self, bytes: usize) -> bool {
        let mut taken = self.of.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let its = taken.1.get(&self.client).copied().unwrap_or(0);
        if taken.0 + bytes > self.of.most || its + bytes > self.of.most / 4 {
            return false;
        }
        taken.0 += bytes;
        taken.1.insert(self.client, its + bytes);
        self.bytes += bytes;
        true
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut taken = self.of.taken.lock().unwrap_or_else(PoisonError::into_inner);
        taken.0 = taken.0.saturating_sub(self.bytes);
        if let Some(its) = taken.1.get_mut(&self.client) {
            *its = its.saturating_sub(self.bytes);
            if *its == 0 {
                taken.1.remove(&self.client);
            }
        }
    }
}

/// A request's body, read no slower than the limits allow.
pub(crate) struct PacedBody {
    body: BodyDataStream,
    stall: Duration,
    least: u64,
    since: Instant,
    moved: u64,
}

/// Why a body did not come to its end.
#[derive(Debug, thiserror::Error)]
pub(crate) enum BrokenConnection {
    #[error("it broke off: {0}")]
    Off(axum::Error),
    #[error("it came too slowly; nothing may take longer than {} s for {} KiB", .0.as_secs(), .1 / 1024)]
    Slow(Duration, u64),
}

impl PacedBody {
    /// A body that must come at the pace that the limits ask for.
    pub fn new(body: axum::body::Body, limits: &Limits) -> Self {
        let (stall, least) = (limits.stall, limits.least);
        Self { body: body.into_data_stream(), stall, least, since: Instant::now(), moved: 0 }
    }

    /// The next bytes. None: that was all.
    pub async fn next(&mut self) -> Result<Option<Bytes>, BrokenConnection> {
        let slow = || BrokenConnection::Slow(self.stall, self.least);
        let next = tokio::time::timeout(self.stall, self.body.next()).await.map_err(|_| slow())?;
        let chunk = match next {
            None => return Ok(None),
            Some(chunk) => chunk.map_err(BrokenConnection::Off)?,
        };
        self.moved += chunk.len() as u64;
        if self.moved >= self.least {
            (self.since, self.moved) = (Instant::now(), 0);
        } else if self.since.elapsed() > self.stall {
            return Err(slow());
        }
        Ok(Some(chunk))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_client_has_its_own_slots() {
        let slots = Slots::default();
        let (one, other) = (IpAddr::from([127, 0, 0, 1]), IpAddr::from([127, 0, 0, 2]));
        let (first, second) = (slots.take(one, 2), slots.take(one, 2));
        assert!(first.is_some() && second.is_some() && slots.take(one, 2).is_none());
        assert!(slots.take(other, 2).is_some());
        drop(first);
        assert!(slots.take(one, 2).is_some());
        drop(second);
        assert!(slots.taken.lock().unwrap().is_empty(), "nothing is kept of who has gone");
    }

    #[test]
    fn nobody_takes_more_memory_than_his_share() {
        let budget = BufferBudget::new(100);
        let client = |last: u8| Some(IpAddr::from([127, 0, 0, last]));
        let mut one = budget.share(client(1));
        assert!(one.grow(20) && !one.grow(6) && one.grow(5));
        assert!(!budget.share(client(1)).grow(1), "the same client again");
        let mut others: Vec<Share> = (2..5).map(|last| budget.share(client(last))).collect();
        assert!(others.iter_mut().all(|other| other.grow(25)));
        assert!(!budget.share(client(9)).grow(1), "all of it is taken");
        drop(one);
        assert!(budget.share(client(9)).grow(25));
        drop(others);
        assert_eq!(
            *budget.taken.lock().unwrap(),
            (0, HashMap::new()),
            "nothing is kept of who has gone"
        );
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_drips_is_given_up() {
        let drip = futures_util::stream::unfold(0, |n| async move {
            tokio::time::sleep(Duration::from_secs(5)).await;
            Some((Ok::<_, std::io::Error>(Bytes::from_static(b"x")), n + 1))
        });
        let limits = Limits::default();
        let mut paced = PacedBody::new(axum::body::Body::from_stream(drip.boxed()), &limits);
        let mut came = 0;
        let end = loop {
            match paced.next().await {
                Ok(Some(chunk)) => came += chunk.len(),
                Ok(None) => panic!("it never ends"),
                Err(error) => break error,
            }
        };
        assert!(matches!(end, BrokenConnection::Slow(..)));
        assert!((5..10).contains(&came), "{came}");
    }
}

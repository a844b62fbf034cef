//! Things that are done once for everybody who asks while they are being done.

use std::collections::HashMap;
use std::hash::Hash;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use tokio::sync::watch;

type OpenFlights<K, V> = Arc<Mutex<HashMap<K, (watch::Receiver<Option<V>>, Instant)>>>;

/// What is being done, by what it is about.
pub(crate) struct Flights<K, V> {
    open: OpenFlights<K, V>,
}

impl<K, V> Default for Flights<K, V> {
    fn default() -> Self {
        Self { open: Arc::default() }
    }
}

/// One that is under way.
pub(crate) struct Flight<V> {
    outcome: watch::Receiver<Option<V>>,
    /// How long it has been under way.
    pub age: Duration,
    /// Whether somebody else began it.
    pub is_joined: bool,
}

impl<V: Clone> Flight<V> {
    /// How it ended. None: it ended without an outcome.
    pub async fn land(mut self) -> Option<V> {
        let landed = self.outcome.wait_for(Option::is_some).await;
        landed.ok().and_then(|outcome| outcome.clone())
    }
}

/// Takes a flight off the list, however it ends.
struct ListedFlight<K: Eq + Hash, V>(OpenFlights<K, V>, Option<K>);

impl<K: Eq + Hash, V> Drop for ListedFlight<K, V> {
    fn drop(&mut self) {
        if let Some(key) = self.1.take() {
            self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&key);
        }
    }
}

impl<K, V> Flights<K, V>
where
    K: Eq + Hash + Clone + Send + 'static,
    V: Clone + Send + Sync + 'static,
{
    /// Joins what is being done, or begins it. It goes on when nobody waits for it any more.
    ///
    /// Who joins may have looked before an earlier one ended: `work` looks again before it begins.
    pub fn join<F>(&self, key: K, work: impl FnOnce() -> F) -> Flight<V>
    where
        F: Future<Output = V> + Send + 'static,
    {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((outcome, since)) = open.get(&key) {
            return Flight { outcome: outcome.clone(), age: since.elapsed(), is_joined: true };
        }
        let (tell, outcome) = watch::channel(None);
        open.insert(key.clone(), (outcome.clone(), Instant::now()));
        let listed = ListedFlight(Arc::clone(&self.open), Some(key));
        let work = work();
        let flown = async move {
            let value = work.await;
            drop(listed);
            tell.send_replace(Some(value));
        };
        let span = crate::traced::apart("look up");
        tokio::spawn(tracing::Instrument::instrument(flown, span));
        Flight { outcome, age: Duration::ZERO, is_joined: false }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test]
    async fn what_many_ask_for_is_done_once_also_when_they_leave() {
        let (flights, done) = (Flights::<u8, usize>::default(), Arc::new(AtomicUsize::new(0)));
        let join = |flights: &Flights<u8, usize>| {
            let done = Arc::clone(&done);
            flights.join(1, || async move {
                tokio::time::sleep(Duration::from_millis(20)).await;
                done.fetch_add(1, Ordering::Relaxed) + 1
            })
        };
        drop(join(&flights));
        let (one, other) = (join(&flights), join(&flights));
        assert_eq!((one.land().await, other.land().await), (Some(1), Some(1)));
        assert_eq!(join(&flights).land().await, Some(2), "the next is another");
    }

    #[tokio::test]
    async fn one_that_panics_is_over() {
        let flights = Flights::<u8, u8>::default();
        let flight = flights.join(1, || async { panic!("on purpose") });
        assert_eq!(flight.land().await, None);
        assert_eq!(flights.join(1, || async { 2 }).land().await, Some(2));
    }
}

//! Processor work whose length a client chooses: done by threads of its own, beside those that serve, with a
//! bound on how much waits and a way to break it off.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::thread;
use std::time::Duration;

use tokio::sync::oneshot;

/// Pieces of work that wait at once, for each thread.
const WAITING: usize = 64;
/// How far these threads stand back behind those that serve (`nice`).
const STANDS_BACK: i32 = 5;

type WorkerTask = Box<dyn FnOnce() + Send>;

/// Threads for processor work. Dropped, they end with what they are doing.
pub(crate) struct Workers {
    queue: mpsc::Sender<WorkerTask>,
    waiting: Arc<AtomicUsize>,
    most: usize,
}

/// Why there is no result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Undone {
    /// It took longer than it may; it was told to stop.
    Late,
    /// Too much waits already, or it failed.
    Busy,
}

/// Tells work that nobody waits for its result any more.
#[derive(Debug, Clone, Default)]
pub(crate) struct StopSignal(Arc<AtomicBool>);

impl StopSignal {
    /// The flag itself, for what reads it between two steps.
    pub fn flag(&self) -> &AtomicBool {
        &self.0
    }
}

/// Stops the work when the one that waits for it goes away.
struct StopsWhenDropped(StopSignal);

impl Drop for StopsWhenDropped {
    fn drop(&mut self) {
        self.0.0.store(true, Ordering::Relaxed);
    }
}

impl Default for Workers {
    /// One thread fewer than there are processors, so that serving always has one.
    fn default() -> Self {
        let processors = thread::available_parallelism().map_or(1, usize::from);
        Self::of(processors.saturating_sub(1).max(1))
    }
}

impl Workers {
    fn of(threads: usize) -> Self {
        let (queue, given) = mpsc::channel::<WorkerTask>();
        let (given, waiting) = (Arc::new(Mutex::new(given)), Arc::new(AtomicUsize::new(0)));
        for _ in 0..threads {
            let (given, waiting) = (Arc::clone(&given), Arc::clone(&waiting));
            let work = move || {
                // A system that does not know it lets them run like all others.
                let _ = rustix::process::setpriority_process(None, STANDS_BACK);
                loop {
                    let next = given.lock().unwrap_or_else(PoisonError::into_inner).recv();
                    let Ok(work) = next else { return };
                    let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
                    waiting.fetch_sub(1, Ordering::Relaxed);
                    if done.is_err() {
                        tracing::error!("a piece of processor work panicked");
                    }
                }
            };
            if let Err(error) = thread::Builder::new().name("work".into()).spawn(work) {
                tracing::error!(%error, "a thread for processor work could not be started");
            }
        }
        Self { queue, waiting, most: threads * WAITING }
    }

    /// Has it done, and waits for it, but no longer than `within`; then, and when the waiting caller goes away, its
    /// [`StopSignal`] is set.
    pub async fn run<T: Send + 'static>(
        &self,
        within: Duration,
        work: impl FnOnce(&StopSignal) -> T + Send + 'static,
    ) -> Result<T, Undone> {
        if self.waiting.fetch_add(1, Ordering::Relaxed) >= self.most {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return Err(Undone::Busy);
        }
        let stop = StopSignal::default();
        let stops = StopsWhenDropped(stop.clone());
        let (done, result) = oneshot::channel();
        let work: WorkerTask = Box::new(move || {
            // What nobody waits for any more is not begun.
            if !stop.0.load(Ordering::Relaxed) {
                let _ = done.send(work(&stop));
            }
        });
        if self.queue.send(work).is_err() {
            self.waiting.fetch_sub(1, Ordering::Relaxed);
            return Err(Undone::Busy);
        }
        let result = tokio::time::timeout(within, result).await;
        drop(stops);
        match result {
            Ok(Ok(result)) => Ok(result),
            Ok(Err(_)) => Err(Undone::Busy),
            Err(_) => Err(Undone::Late),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LONG: Duration = Duration::from_secs(30);

    #[tokio::test]
    async fn work_is_done_and_what_takes_too_long_is_told_to_stop() {
        let workers = Workers::of(1);
        assert_eq!(workers.run(LONG, |_| 7).await, Ok(7));
        let (told, ended) = mpsc::channel();
        let late = workers.run(Duration::from_millis(5), move |stop| {
            while !stop.flag().load(Ordering::Relaxed) {
                thread::yield_now();
            }
            told.send(()).unwrap();
        });
        assert_eq!(late.await, Err(Undone::Late));
        ended.recv_timeout(LONG).unwrap();
        assert_eq!(workers.run(LONG, |_| 8).await, Ok(8), "the thread is free again");
        let failed: Result<(), Undone> = workers.run(LONG, |_| panic!("on purpose")).await;
        assert_eq!(failed, Err(Undone::Busy));
        assert_eq!(workers.run(LONG, |_| 9).await, Ok(9), "and after a panic too");
    }

    #[tokio::test]
    async fn what_waits_is_bounded() {
        let workers = Arc::new(Workers::of(1));
        let (go, wait) = mpsc::channel::<()>();
        let first = tokio::spawn({
            let workers = Arc::clone(&workers);
            async move { workers.run(LONG, move |_| wait.recv().is_ok()).await }
        });
        let asked = Arc::new(AtomicUsize::new(0));
        let all: Vec<_> = (0..2 * WAITING)
            .map(|_| {
                let (workers, asked) = (Arc::clone(&workers), Arc::clone(&asked));
                tokio::spawn(async move {
                    asked.fetch_add(1, Ordering::Relaxed);
                    workers.run(LONG, |_| true).await
                })
            })
            .collect();
        // Those that find no room answer at once; the others wait for the first, until all have asked.
        while asked.load(Ordering::Relaxed) < 2 * WAITING {
            tokio::task::yield_now().await;
        }
        go.send(()).unwrap();
        let mut refused = 0;
        for one in all {
            refused += usize::from(one.await.unwrap() == Err(Undone::Busy));
        }
        assert!(refused >= WAITING, "{refused}");
        assert_eq!(first.await.unwrap(), Ok(true));
    }
}

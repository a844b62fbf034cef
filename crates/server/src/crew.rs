//! Threads, each of which serves its own connections from the first byte to the last: a connection stays with
//! one processor, and nobody wakes another thread for it.

use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::{self, JoinHandle};

use tokio::runtime::Builder;
use tokio::sync::mpsc::{UnboundedSender, unbounded_channel};

type CrewWork = Pin<Box<dyn Future<Output = ()> + Send>>;

/// As many threads as there are processors. Dropped, it breaks off what they still do.
pub struct Crew(Vec<Hand>);

/// One of its threads.
struct Hand {
    /// None: it was told to stop.
    work: Option<UnboundedSender<CrewWork>>,
    busy: Arc<AtomicUsize>,
    thread: Option<JoinHandle<()>>,
}

impl Crew {
    /// Starts the threads.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub fn start() -> io::Result<Self> {
        let processors = thread::available_parallelism().map_or(1, usize::from);
        (0..processors).map(|_| Hand::start()).collect::<io::Result<_>>().map(Self)
    }

    /// Has the thread do it that has the least to do.
    pub(crate) fn take(&self, work: impl Future<Output = ()> + Send + 'static) {
        let idlest = self.0.iter().min_by_key(|hand| hand.busy.load(Ordering::Relaxed));
        if let Some((hand, to)) = idlest.and_then(|hand| Some((hand, hand.work.as_ref()?))) {
            let counted = CountedWork::one(&hand.busy);
            let sent = to.send(Box::pin(async move {
                let _counted = counted;
                work.await;
            }));
            if sent.is_err() {
                tracing::error!("a thread that serves connections has ended");
            }
        }
    }
}

impl Crew {
    /// Whether each of its threads takes up something new within some time.
    pub async fn answers(&self, within: std::time::Duration) -> bool {
        let mut asked = Vec::with_capacity(self.0.len());
        for hand in &self.0 {
            let (tell, told) = tokio::sync::oneshot::channel::<()>();
            let work = Box::pin(async move {
                // Whoever asked may have stopped waiting.
                let _ = tell.send(());
            });
            match hand.work.as_ref().map(|to| to.send(work)) {
                Some(Ok(())) => asked.push(told),
                _ => return false,
            }
        }
        let all = async {
            for told in asked {
                if told.await.is_err() {
                    return false;
                }
            }
            true
        };
        tokio::time::timeout(within, all).await.unwrap_or(false)
    }
}

impl Hand {
    fn start() -> io::Result<Self> {
        let (work, mut given) = unbounded_channel::<CrewWork>();
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let serve = async move {
            while let Some(work) = given.recv().await {
                tokio::spawn(work);
            }
        };
        let thread = thread::Builder::new().name("connections".into());
        let thread = thread.spawn(move || runtime.block_on(serve))?;
        Ok(Self { work: Some(work), busy: Arc::default(), thread: Some(thread) })
    }
}

impl Drop for Hand {
    fn drop(&mut self) {
        self.work = None;
        // What it was doing is dropped before anybody goes on: nothing half done is left behind.
        if self.thread.take().is_some_and(|thread| thread.join().is_err()) {
            tracing::error!("a thread that serves connections has panicked");
        }
    }
}

/// Something that a hand is busy with, as long as it lasts.
struct CountedWork(Arc<AtomicUsize>);

impl CountedWork {
    fn one(busy: &Arc<AtomicUsize>) -> Self {
        busy.fetch_add(1, Ordering::Relaxed);
        Self(Arc::clone(busy))
    }
}

impl Drop for CountedWork {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;
    use std::sync::mpsc;
    use std::time::Duration;

    use super::*;

    const LONG: Duration = Duration::from_secs(30);

    fn of(hands: usize) -> Crew {
        Crew((0..hands).map(|_| Hand::start().unwrap()).collect())
    }

    #[test]
    fn every_hand_gets_its_share_and_keeps_it() {
        let crew = of(3);
        let (tell, told) = mpsc::channel();
        let (end, ended) = tokio::sync::watch::channel(());
        for _ in 0..12 {
            let (tell, mut ended) = (tell.clone(), ended.clone());
            crew.take(async move {
                tell.send(thread::current().id()).unwrap();
                let _ = ended.changed().await;
                tell.send(thread::current().id()).unwrap();
            });
        }
        let mut threads = HashMap::new();
        for _ in 0..12 {
            *threads.entry(told.recv_timeout(LONG).unwrap()).or_insert(0) += 1;
        }
        assert_eq!(threads.values().collect::<Vec<_>>(), [&4; 3]);
        drop(end);
        for _ in 0..12 {
            *threads.get_mut(&told.recv_timeout(LONG).unwrap()).unwrap() -= 1;
        }
        assert!(threads.values().all(|left| *left == 0), "none has moved to another thread");
    }

    #[test]
    fn work_that_panics_ends_nothing_else() {
        let crew = of(1);
        let (tell, told) = mpsc::channel();
        crew.take(async { panic!("as it is meant to") });
        crew.take(async move { tell.send(()).unwrap() });
        told.recv_timeout(LONG).unwrap();
        while crew.0[0].busy.load(Ordering::Relaxed) > 0 {
            thread::yield_now();
        }
    }

    #[tokio::test]
    async fn a_crew_of_which_one_is_stuck_does_not_answer() {
        let crew = of(2);
        assert!(crew.answers(LONG).await);
        let (end, ended) = mpsc::channel::<()>();
        crew.take(async move { assert!(ended.recv().is_err(), "it is dropped") });
        assert!(!crew.answers(Duration::from_millis(100)).await);
        drop(end);
        assert!(crew.answers(LONG).await);
    }

    #[test]
    fn what_runs_is_let_go_of_before_the_crew_is_gone() {
        struct Told(mpsc::Sender<()>);
        impl Drop for Told {
            fn drop(&mut self) {
                self.0.send(()).unwrap();
            }
        }
        let (crew, (tell, told)) = (of(2), mpsc::channel());
        for _ in 0..4 {
            let held = Told(tell.clone());
            crew.take(async move {
                let _held = held;
                std::future::pending::<()>().await;
            });
        }
        drop(crew);
        assert_eq!(told.try_iter().count(), 4);
    }
}

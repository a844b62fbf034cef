//! A thread that does one thing with the bytes of an upload, in their order, and is taken only while there
//! is something to do, so that a slow sender holds none.

use bytes::Bytes;
use tokio::task::{JoinHandle, spawn_blocking};

use crate::error::StoreError;

/// Bytes from the network that wait for a lane before the sender has to wait.
const QUEUE: usize = 1024 * 1024;
/// What a piece counts as at least: however small it is, it may hold on to memory of this size.
const LEAST: usize = 16 * 1024;

/// What is done with the bytes. It may wait for the disk.
pub(super) trait LaneStep: Send + 'static {
    /// Bytes for which it is worth its while to begin, while more come.
    const WORTH: usize;

    fn take(&mut self, pieces: &[Bytes]) -> Result<(), StoreError>;
}

pub(super) struct Lane<S> {
    turn: LaneTurn<S>,
    waiting: Vec<Bytes>,
    waiting_bytes: usize,
}

enum LaneTurn<S> {
    /// Nobody has it.
    Free(S),
    /// A thread has it.
    Taken(JoinHandle<Result<S, StoreError>>),
    /// It failed, and is no more.
    Gone,
}

impl<S: LaneStep> Lane<S> {
    /// A lane for one step, on which nothing goes yet.
    pub fn new(step: S) -> Self {
        Self { turn: LaneTurn::Free(step), waiting: Vec::new(), waiting_bytes: 0 }
    }

    /// Adds the next bytes.
    pub fn add(&mut self, chunk: Bytes) {
        self.waiting_bytes += chunk.len().max(LEAST);
        self.waiting.push(chunk);
    }

    /// Hands over what was added, and waits only while there is too much of it.
    pub async fn keep_up(&mut self) -> Result<(), StoreError> {
        let enough = match &self.turn {
            LaneTurn::Taken(thread) if !thread.is_finished() => QUEUE,
            LaneTurn::Taken(_) | LaneTurn::Free(_) => S::WORTH,
            LaneTurn::Gone => return Err(StoreError::Closed),
        };
        if self.waiting_bytes < enough {
            return Ok(());
        }
        self.hand_over().await
    }

    /// Whether the bytes come about as fast as they are dealt with, or faster.
    pub fn is_behind(&self) -> bool {
        self.waiting_bytes >= QUEUE / 2
    }

    /// What does the work, when nobody has it and nothing waits for it.
    pub fn idle(&mut self) -> Option<&mut S> {
        match &mut self.turn {
            LaneTurn::Free(step) if self.waiting.is_empty() => Some(step),
            LaneTurn::Free(_) | LaneTurn::Taken(_) | LaneTurn::Gone => None,
        }
    }

    /// Waits until all that was added is done. May be given up at any time, and waited for again.
    pub async fn rest(&mut self) -> Result<(), StoreError> {
        self.hand_over().await?;
        self.hand_over().await
    }

    /// What does the work, once all that was added is done.
    pub async fn end(mut self) -> Result<S, StoreError> {
        self.rest().await?;
        match self.turn {
            LaneTurn::Free(step) => Ok(step),
            LaneTurn::Taken(_) | LaneTurn::Gone => Err(StoreError::Closed),
        }
    }

    /// Once all that was added is done, does something else with what does the work.
    pub async fn then<T: Send + 'static>(
        &mut self,
        last: impl FnOnce(&mut S) -> Result<T, StoreError> + Send + 'static,
    ) -> Result<T, StoreError> {
        self.rest().await?;
        let LaneTurn::Free(mut step) = std::mem::replace(&mut self.turn, LaneTurn::Gone) else {
            return Err(StoreError::Closed);
        };
        let (step, done) = super::blocking(move || {
            let done = last(&mut step)?;
            Ok((step, done))
        })
        .await?;
        self.turn = LaneTurn::Free(step);
        Ok(done)
    }

    /// Looks at what does the work, which nobody has after a [`rest`](Self::rest).
    pub fn step(&mut self) -> Result<&mut S, StoreError> {
        match &mut self.turn {
            LaneTurn::Free(step) => Ok(step),
            LaneTurn::Taken(_) | LaneTurn::Gone => Err(StoreError::Closed),
        }
    }

    /// Waits for the thread, if one is busy, and hands it what waits.
    async fn hand_over(&mut self) -> Result<(), StoreError> {
        if let LaneTurn::Taken(thread) = &mut self.turn {
            let done = thread.await;
            self.turn = LaneTurn::Gone;
            self.turn = LaneTurn::Free(done.map_err(|_| StoreError::Closed)??);
        }
        if self.waiting.is_empty() {
            return Ok(());
        }
        match std::mem::replace(&mut self.turn, LaneTurn::Gone) {
            LaneTurn::Free(mut step) => {
                let pieces = std::mem::take(&mut self.waiting);
                self.waiting_bytes = 0;
                self.turn = LaneTurn::Taken(spawn_blocking(move || {
                    step.take(&pieces)?;
                    Ok(step)
                }));
                Ok(())
            }
            LaneTurn::Taken(_) | LaneTurn::Gone => Err(StoreError::Closed),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc;

    use futures_util::FutureExt as _;

    use super::*;

    /// Keeps what it is given, and fails at a byte of 255.
    #[derive(Default)]
    struct Kept(Vec<u8>);

    impl LaneStep for Kept {
        const WORTH: usize = 10_000;

        fn take(&mut self, pieces: &[Bytes]) -> Result<(), StoreError> {
            for piece in pieces {
                if piece.contains(&255) {
                    return Err(StoreError::NotFound("a number below 255".into()));
                }
                self.0.extend_from_slice(piece);
            }
            Ok(())
        }
    }

    #[tokio::test]
    async fn bytes_come_in_their_order_and_once() {
        let mut lane = Lane::new(Kept::default());
        let mut expected = Vec::new();
        for number in 0..200 {
            let chunk = vec![number; usize::from(number) * 1_000];
            expected.extend_from_slice(&chunk);
            lane.add(chunk.into());
            match number % 50 {
                0 => lane.rest().await.unwrap(),
                _ => lane.keep_up().await.unwrap(),
            }
        }
        let length = lane.then(|kept| Ok(kept.0.len())).await.unwrap();
        assert_eq!(length, expected.len());
        assert!(lane.end().await.unwrap().0 == expected);
    }

    #[tokio::test]
    async fn what_failed_says_so_and_is_closed() {
        let mut lane = Lane::new(Kept::default());
        lane.add(Bytes::from_static(&[1, 255]));
        assert!(matches!(lane.rest().await, Err(StoreError::NotFound(_))));
        lane.add(Bytes::from_static(&[2]));
        assert!(matches!(lane.keep_up().await, Err(StoreError::Closed)));
        assert!(lane.step().is_err());
        assert!(matches!(lane.end().await, Err(StoreError::Closed)));
    }

    /// Takes a turn only when it is told to.
    struct Told(mpsc::Receiver<()>, Kept);

    impl LaneStep for Told {
        const WORTH: usize = QUEUE / 2;

        fn take(&mut self, pieces: &[Bytes]) -> Result<(), StoreError> {
            self.0.recv().map_err(|_| StoreError::Closed)?;
            self.1.take(pieces)
        }
    }

    #[tokio::test]
    async fn what_is_not_worth_a_turn_waits_for_more_or_for_the_end() {
        let (tell, told) = mpsc::channel();
        let mut lane = Lane::new(Told(told, Kept::default()));
        lane.add(Bytes::from(vec![7; QUEUE / 2 - 1]));
        lane.keep_up().await.unwrap();
        assert!(lane.step().is_ok(), "nobody has begun");
        lane.add(Bytes::from_static(&[7]));
        lane.keep_up().await.unwrap();
        assert!(lane.step().is_err(), "now somebody has");
        lane.add(Bytes::from_static(&[7]));
        lane.keep_up().await.unwrap();
        for _ in 0..2 {
            tell.send(()).unwrap();
        }
        assert!(lane.end().await.unwrap().1.0 == vec![7; QUEUE / 2 + 1]);
    }

    #[tokio::test]
    async fn bytes_that_come_one_by_one_do_not_pile_up() {
        let (tell, told) = mpsc::channel();
        let mut lane = Lane::new(Told(told, Kept::default()));
        for _ in 0..QUEUE / 2 / LEAST {
            assert!(lane.step().is_ok(), "nobody has begun");
            lane.add(Bytes::from_static(&[7]));
            lane.keep_up().await.unwrap();
        }
        assert!(lane.step().is_err(), "now somebody has");
        tell.send(()).unwrap();
        assert_eq!(lane.end().await.unwrap().1.0.len(), QUEUE / 2 / LEAST);
    }

    #[tokio::test]
    async fn who_adds_waits_only_while_too_much_waits() {
        let (tell, told) = mpsc::channel();
        let mut lane = Lane::new(Told(told, Kept::default()));
        let chunk = Bytes::from(vec![7; QUEUE / 2]);
        // The first is taken, the second waits, and the third is too much.
        for _ in 0..2 {
            lane.add(chunk.clone());
            lane.keep_up().await.unwrap();
        }
        lane.add(chunk.clone());
        {
            let mut waits = Box::pin(lane.keep_up());
            assert!((&mut waits).now_or_never().is_none());
        }
        for _ in 0..3 {
            tell.send(()).unwrap();
        }
        assert_eq!(lane.end().await.unwrap().1.0.len(), 3 * chunk.len());
    }
}

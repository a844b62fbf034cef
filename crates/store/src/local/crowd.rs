//! How much content comes at once: whether all processors are at work with it.
//!
//! What is pushed is soon pulled, so it stays in the memory in which the system keeps files; but that memory
//! costs the processor more than the disk does, and a processor that has more to hash than it can has nothing
//! left for it. What is to be kept is hashed where it was received once no processor is idle.

use std::num::NonZero;
use std::sync::Arc;
use std::thread::available_parallelism;

/// What a file has when it counts as large. Less of it is always kept in memory: small content is
/// soon asked for.
pub(super) const LARGE: u64 = 8 * 1024 * 1024;
/// Uploads that may gather what comes because of the crowd: each holds several stages.
const GATHERING: usize = 8;

/// Counts those who hold it.
#[derive(Clone, Default)]
struct CrowdCount(Arc<()>);

impl CrowdCount {
    fn now(&self) -> usize {
        Arc::strong_count(&self.0) - 1
    }
}

pub(super) struct Crowd {
    busy: CrowdCount,
    gathering: CrowdCount,
    /// How many at once leave no processor idle.
    dense: usize,
}

impl Crowd {
    /// For as many processors as there are.
    pub fn new() -> Self {
        Self::for_processors(available_parallelism().map_or(1, NonZero::get))
    }

    fn for_processors(number: usize) -> Self {
        Self { busy: CrowdCount::default(), gathering: CrowdCount::default(), dense: number.max(2) }
    }

    /// One more that gives a processor work: a large upload, or one whose content is to be kept.
    pub fn join(&self) -> CrowdPlace {
        CrowdPlace { _busy: self.busy.clone(), gathering: None }
    }

    /// Whether there are so many that no processor is idle.
    pub fn is_dense(&self) -> bool {
        self.busy.now() >= self.dense
    }

    /// Has an upload gather what comes, when there is reason and room for it. It then goes on with that.
    pub fn gather(&self, place: &mut CrowdPlace) {
        if self.is_dense() && self.gathering.now() < GATHERING {
            place.gathering.get_or_insert_with(|| self.gathering.clone());
        }
    }
}

/// One of them, until it is dropped.
pub(super) struct CrowdPlace {
    _busy: CrowdCount,
    gathering: Option<CrowdCount>,
}

impl CrowdPlace {
    /// Whether the upload gathers what comes, so that it can go to the disk at once.
    pub fn gathers(&self) -> bool {
        self.gathering.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn gathering(crowd: &Crowd, places: &mut [CrowdPlace]) -> usize {
        for place in &mut *places {
            crowd.gather(place);
        }
        places.iter().filter(|place| place.gathers()).count()
    }

    #[test]
    fn uploads_gather_once_there_are_as_many_as_processors_and_then_go_on_with_it() {
        for processors in [2, 3, 6] {
            let crowd = Crowd::for_processors(processors);
            let mut places: Vec<CrowdPlace> = (1..processors).map(|_| crowd.join()).collect();
            assert_eq!(gathering(&crowd, &mut places), 0, "of {processors}, one is idle");
            places.push(crowd.join());
            assert_eq!(gathering(&crowd, &mut places), processors);
            places.truncate(1);
            assert_eq!(gathering(&crowd, &mut places), 1);
            drop(places);
            assert_eq!(gathering(&crowd, &mut [crowd.join()]), 0, "those who left are not counted");
        }
    }

    #[test]
    fn one_by_itself_never_gathers_on_one_processor_either() {
        let crowd = Crowd::for_processors(1);
        let mut places = vec![crowd.join()];
        assert_eq!(gathering(&crowd, &mut places), 0);
        places.push(crowd.join());
        assert_eq!(gathering(&crowd, &mut places), 2);
    }

    #[test]
    fn only_so_many_gather_as_there_is_memory_for() {
        let crowd = Crowd::for_processors(2);
        let mut places: Vec<CrowdPlace> = (0..3 * GATHERING).map(|_| crowd.join()).collect();
        assert_eq!(gathering(&crowd, &mut places), GATHERING);
        places.drain(..2);
        assert_eq!(gathering(&crowd, &mut places), GATHERING, "others come after those who ended");
    }
}

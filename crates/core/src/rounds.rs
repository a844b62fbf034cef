//! What needs a decision, worst first.

use std::fmt;

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Urgency {
    /// Somebody is hurt by it, or will be within days.
    Urgent,
    /// It becomes urgent if nobody looks at it.
    Soon,
    /// It is good to know.
    Notice,
}

impl Urgency {
    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::Urgent => "urgent",
            Self::Soon => "soon",
            Self::Notice => "notice",
        }
    }
}

impl fmt::Display for Urgency {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Something that needs a decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Concern {
    /// The same thing has the same name in each round: it is silenced by it.
    pub name: String,
    pub urgency: Urgency,
    /// Since when, in milliseconds since 1970. None: that is not known.
    pub since: Option<i64>,
    /// What is the matter, in a sentence.
    pub text: String,
    /// The command to type. Empty: there is none.
    pub remedy: String,
}

/// That somebody does not want to hear of something for a while.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Silence {
    pub name: String,
    pub because: String,
    /// Until when, in milliseconds since 1970.
    pub until: i64,
}

/// What is left to tell, and what is silenced.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Rounds {
    /// Worst first; of equals the oldest.
    pub open: Vec<Concern>,
    pub silenced: Vec<(Concern, Silence)>,
}

impl Rounds {
    /// Sorts concerns and takes those out that are silenced now.
    pub fn new(mut concerns: Vec<Concern>, silences: &[Silence], now: i64) -> Self {
        concerns.sort_by(|a, b| {
            let since = |one: &Concern| one.since.unwrap_or(i64::MAX);
            (a.urgency, since(a), &a.name).cmp(&(b.urgency, since(b), &b.name))
        });
        let mut rounds = Self::default();
        for concern in concerns {
            let silence = silences.iter().find(|one| one.name == concern.name && one.until > now);
            match silence {
                Some(silence) => rounds.silenced.push((concern, silence.clone())),
                None => rounds.open.push(concern),
            }
        }
        rounds
    }

    /// Whether anything is urgent.
    pub fn is_urgent(&self) -> bool {
        self.open.iter().any(|one| one.urgency == Urgency::Urgent)
    }
}

const DAY: i64 = 24 * 3_600_000;

/// How bad it is that something ends. None: it is far off.
pub fn ends(end: i64, now: i64) -> Option<Urgency> {
    match end - now {
        ..=259_200_000 => Some(Urgency::Urgent),
        259_200_001..=1_209_600_000 => Some(Urgency::Soon),
        _ => None,
    }
}

/// How bad it is that something was done last at a time, or never, where it should be done every so many days.
pub fn is_due(last: Option<i64>, each: i64, now: i64) -> Option<Urgency> {
    match last.map(|last| now - last) {
        None => Some(Urgency::Soon),
        Some(age) if age > 4 * each * DAY => Some(Urgency::Urgent),
        Some(age) if age > each * DAY => Some(Urgency::Soon),
        Some(_) => None,
    }
}

/// How bad it is that so much of a whole is taken.
pub fn fills(held: u64, most: u64) -> Option<Urgency> {
    let percent = u128::from(held) * 100 / u128::from(most.max(1));
    match percent {
        95.. => Some(Urgency::Urgent),
        85.. => Some(Urgency::Soon),
        _ => None,
    }
}

/// How bad it is that so many bytes of a disk are left: a large one may be nearly full for years.
pub fn room_is_short(left: u64, most: u64) -> Option<Urgency> {
    const GIB: u64 = 1024 * 1024 * 1024;
    let taken = most.saturating_sub(left);
    match fills(taken, most) {
        Some(Urgency::Urgent) if left < 20 * GIB => Some(Urgency::Urgent),
        Some(_) if left < 50 * GIB => Some(Urgency::Soon),
        _ => None,
    }
}

/// How bad it is that the same is refused again and again.
pub fn repeats(times: u64) -> Option<Urgency> {
    match times {
        50.. => Some(Urgency::Urgent),
        5.. => Some(Urgency::Soon),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn concern() -> impl Strategy<Value = Concern> {
        let urgency =
            prop_oneof![Just(Urgency::Urgent), Just(Urgency::Soon), Just(Urgency::Notice)];
        let since = proptest::option::of(0..1000i64);
        (0..20u8, urgency, since).prop_map(|(name, urgency, since)| Concern {
            name: format!("n/{name}"),
            urgency,
            since,
            text: String::new(),
            remedy: String::new(),
        })
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_the_worst_comes_first(
            concerns in prop::collection::vec(concern(), 0..30),
            silences in prop::collection::vec((0..20u8, 0..20i64), 0..10),
        ) {
            let silences: Vec<Silence> = silences
                .into_iter()
                .map(|(name, until)| Silence { name: format!("n/{name}"), because: String::new(), until })
                .collect();
            let rounds = Rounds::new(concerns.clone(), &silences, 10);
            prop_assert_eq!(rounds.open.len() + rounds.silenced.len(), concerns.len());
            prop_assert!(rounds.open.windows(2).all(|two| two[0].urgency <= two[1].urgency));
            prop_assert!(rounds.silenced.iter().all(|(one, silence)| one.name == silence.name && silence.until > 10));
            let silent = |name: &str| silences.iter().any(|one| one.name == name && one.until > 10);
            prop_assert!(rounds.open.iter().all(|one| !silent(&one.name)));
            let urgent = rounds.open.iter().any(|one| one.urgency == Urgency::Urgent);
            prop_assert_eq!(rounds.is_urgent(), urgent);
        }
    }

    #[test]
    fn what_ends_fills_and_repeats_is_judged() {
        let now = 100 * DAY;
        let end = |days: i64| ends(now + days * DAY, now);
        assert_eq!(
            [end(-1), end(3), end(4), end(14), end(15)],
            [
                Some(Urgency::Urgent),
                Some(Urgency::Urgent),
                Some(Urgency::Soon),
                Some(Urgency::Soon),
                None
            ]
        );
        let due = |days: i64| is_due(Some(now - days * DAY), 7, now);
        assert_eq!([due(7), due(8), due(29)], [None, Some(Urgency::Soon), Some(Urgency::Urgent)]);
        assert_eq!(is_due(None, 7, now), Some(Urgency::Soon));
        assert_eq!(
            [fills(84, 100), fills(85, 100), fills(95, 100)],
            [None, Some(Urgency::Soon), Some(Urgency::Urgent)]
        );
        assert_eq!(fills(1, 0), Some(Urgency::Urgent));
        let short = |left: u64, most: u64| room_is_short(left << 30, most << 30);
        assert_eq!(short(4, 100), Some(Urgency::Urgent));
        assert_eq!(
            [short(40, 900), short(100, 4000), short(20, 100)],
            [Some(Urgency::Soon), None, None]
        );
        assert_eq!(
            [repeats(4), repeats(5), repeats(50)],
            [None, Some(Urgency::Soon), Some(Urgency::Urgent)]
        );
    }
}

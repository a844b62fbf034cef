//! When is something due that is done each day or each week?

use std::fmt;
use std::str::FromStr;

const MINUTE: i64 = 60_000;
const DAY: i64 = 24 * 60 * MINUTE;
/// The days of the week, from the one on which the clock began (1970-01-01).
const WEEK: [&str; 7] =
    ["thursday", "friday", "saturday", "sunday", "monday", "tuesday", "wednesday"];

/// A time of each day, or of one day of each week, in UTC: `daily 03:00`, `sunday 04:30`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Schedule {
    /// Days after the clock's first, modulo a week. None: each day.
    weekday: Option<i64>,
    /// Minutes after midnight.
    minute: i64,
}

/// Why a text is no schedule.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no time of each day or week; write \"daily 03:00\" or \"sunday 04:30\", in UTC")]
pub struct ScheduleError(String);

impl FromStr for Schedule {
    type Err = ScheduleError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let read = || {
            let (day, time) = text.split_once(' ')?;
            let weekday = match day {
                "daily" => None,
                day => Some(i64::try_from(WEEK.iter().position(|name| *name == day)?).ok()?),
            };
            let (hour, minute) = time.split_once(':')?;
            let number = |text: &str, below: i64| {
                let digits = text.len() == 2 && text.bytes().all(|one| one.is_ascii_digit());
                digits.then(|| text.parse::<i64>().ok())?.filter(|number| *number < below)
            };
            Some(Self { weekday, minute: number(hour, 24)? * 60 + number(minute, 60)? })
        };
        read().ok_or_else(|| ScheduleError(text.chars().take(60).collect()))
    }
}

impl fmt::Display for Schedule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let day = self.weekday.and_then(|day| WEEK.get(usize::try_from(day).ok()?));
        write!(f, "{} {:02}:{:02}", day.unwrap_or(&"daily"), self.minute / 60, self.minute % 60)
    }
}

impl Schedule {
    /// When it is due next after a moment; both in milliseconds since 1970.
    pub fn after(&self, moment: i64) -> i64 {
        let day = moment.div_euclid(DAY);
        let ahead = self.weekday.map_or(0, |weekday| (weekday - day).rem_euclid(7));
        let due = (day + ahead) * DAY + self.minute * MINUTE;
        let each = if self.weekday.is_some() { 7 * DAY } else { DAY };
        if due > moment { due } else { due + each }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_is_written_is_read_and_nothing_else() {
        for text in ["daily 03:00", "sunday 23:59", "wednesday 00:00"] {
            assert_eq!(text.parse::<Schedule>().unwrap().to_string(), text);
        }
        for text in
            ["", "daily", "daily 3:00", "daily 24:00", "daily 03:60", "Sunday 03:00", "daily +3:00"]
        {
            let error = text.parse::<Schedule>().unwrap_err();
            assert!(error.to_string().contains("daily 03:00"), "{text}");
        }
    }

    #[test]
    fn the_next_time_is_told() {
        // 2026-11-29 is a Sunday.
        let midnight = 1_795_910_400_000;
        let at = |text: &str, moment| {
            (text.parse::<Schedule>().unwrap().after(moment) - midnight) / MINUTE
        };
        assert_eq!(at("daily 03:00", midnight), 180);
        assert_eq!(at("daily 03:00", midnight + 180 * MINUTE), 180 + 1440);
        assert_eq!(at("sunday 03:00", midnight), 180);
        assert_eq!(at("sunday 03:00", midnight + 200 * MINUTE), 180 + 7 * 1440);
        assert_eq!(at("monday 00:00", midnight), 1440);
    }

    proptest! {
        #[test]
        fn it_is_due_once_in_each_turn(weekday in proptest::option::of(0..7i64), minute in 0..1440i64, moment in 0..4_000_000_000_000i64) {
            let schedule = Schedule { weekday, minute };
            let (due, turn) = (schedule.after(moment), if weekday.is_some() { 7 * DAY } else { DAY });
            prop_assert!(due > moment && due <= moment + turn);
            prop_assert_eq!(schedule.after(due), due + turn);
            prop_assert_eq!(schedule.after(due - 1), due);
            prop_assert_eq!(due.rem_euclid(DAY), minute * MINUTE);
        }
    }
}

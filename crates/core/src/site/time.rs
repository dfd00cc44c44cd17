//! Hours of the day and dates, on the clock of a zone.

use chrono::{DateTime, Datelike, Days, NaiveDate, NaiveTime, TimeZone, Weekday};
use chrono_tz::Tz;

use crate::Moment;

/// Hours of certain days. `until` before `from` goes over midnight; the day is that of the beginning.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hours {
    pub from: NaiveTime,
    pub until: NaiveTime,
    /// Every day where none is named.
    pub days: Vec<Weekday>,
    pub zone: Tz,
}

impl Hours {
    fn on(&self, day: Weekday) -> bool {
        self.days.is_empty() || self.days.contains(&day)
    }

    /// Whether a moment lies within.
    pub fn holds(&self, now: Moment) -> bool {
        let local = now.with_timezone(&self.zone);
        let (day, time) = (local.weekday(), local.time());
        if self.from < self.until {
            self.on(day) && self.from <= time && time < self.until
        } else {
            (self.on(day) && self.from <= time) || (self.on(day.pred()) && time < self.until)
        }
    }

    /// The next beginning or end after a moment, on whatever day.
    pub fn next_edge(&self, now: Moment) -> Option<Moment> {
        let today = now.with_timezone(&self.zone).date_naive();
        let days = (0..3).filter_map(|n| today.checked_add_days(Days::new(n)));
        let edges = days.flat_map(|d| [self.from, self.until].map(|t| at(&self.zone, d, t)));
        edges.flatten().filter(|e| *e > now).min()
    }
}

/// Days from a first to a last, both included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Dates {
    pub from: Option<NaiveDate>,
    pub until: Option<NaiveDate>,
    pub zone: Tz,
}

impl Dates {
    /// Whether a moment lies within.
    pub fn holds(&self, now: Moment) -> bool {
        let day = now.with_timezone(&self.zone).date_naive();
        self.from.is_none_or(|f| f <= day) && self.until.is_none_or(|u| day <= u)
    }

    /// The last day, when it is over.
    pub fn ended(&self, now: Moment) -> Option<String> {
        let day = now.with_timezone(&self.zone).date_naive();
        self.until.filter(|u| *u < day).map(|u| u.to_string())
    }

    /// The next beginning or end after a moment.
    pub fn next_edge(&self, now: Moment) -> Option<Moment> {
        let after = self.until.and_then(|u| u.succ_opt());
        let edges = [self.from, after].into_iter().flatten().filter_map(|d| at(&self.zone, d, NaiveTime::MIN));
        edges.filter(|e| *e > now).min()
    }
}

/// A time of a day in a zone. Where the clock is put forward over it, the moment of the jump; where it is put back, the first.
fn at(zone: &Tz, day: NaiveDate, time: NaiveTime) -> Option<Moment> {
    let local = day.and_time(time);
    let found: Option<DateTime<Tz>> = zone.from_local_datetime(&local).earliest();
    found.or_else(|| zone.from_local_datetime(&(local + chrono::Duration::hours(1))).earliest()).map(|t| t.to_utc())
}

//! Answers kept for the time the site states, at most a fixed number of them. Failures are never kept.

use std::collections::HashMap;
use std::sync::Mutex;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::evidence::LookUpState;

/// The most answers kept of one directory.
const ENTRIES_MAX: usize = 10_000;

pub(super) struct Cache {
    good_for: Duration,
    entries: Mutex<HashMap<String, (LookUpState, Moment)>>,
}

impl Cache {
    pub(super) fn new(good_for: Duration) -> Cache {
        Cache { good_for, entries: Mutex::default() }
    }

    pub(super) fn get(&self, value: &str, now: Moment) -> Option<(LookUpState, Moment)> {
        let entries = self.entries.lock().unwrap_or_else(|e| e.into_inner());
        entries.get(value).filter(|(_, at)| now < *at + self.good_for).cloned()
    }

    pub(super) fn put(&self, value: &str, state: &LookUpState, now: Moment) {
        if self.good_for <= Duration::zero() {
            return;
        }
        let mut entries = self.entries.lock().unwrap_or_else(|e| e.into_inner());
        if entries.len() >= ENTRIES_MAX {
            entries.retain(|_, (_, at)| now < *at + self.good_for);
        }
        if entries.len() < ENTRIES_MAX {
            entries.insert(value.to_owned(), (state.clone(), now));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_used_for_the_stated_time_only() {
        let cache = Cache::new(Duration::seconds(30));
        let t = chrono::DateTime::from_timestamp(1_795_000_000, 0).unwrap();
        cache.put("a", &LookUpState::NoEntry, t);
        assert!(cache.get("a", t + Duration::seconds(29)).is_some());
        assert!(cache.get("a", t + Duration::seconds(30)).is_none());
        assert!(cache.get("b", t).is_none());
        let off = Cache::new(Duration::zero());
        off.put("a", &LookUpState::NoEntry, t);
        assert!(off.get("a", t).is_none());
    }
}

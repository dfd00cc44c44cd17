//! What a RADIUS client tells of a session of its own (RFC 2866): how it began, what passed, that it ended.
//!
//! News come in any order, come twice, or never come: the network loses them, and clients send again what was not answered. So an account is
//! made of news in such a way that neither their order nor their number counts. Two clocks are in it: the client's, by which news are
//! put in order, and ours, by which everything else here is told.

use std::collections::BTreeSet;
use std::net::IpAddr;

use chrono::Duration;
use serde::{Deserialize, Serialize};

use crate::Moment;

/// What news say (Acct-Status-Type, RFC 2866 section 5.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum News {
    /// It began.
    Start,
    /// It goes on.
    Interim,
    /// It is over, for a cause with a number (Acct-Terminate-Cause, RFC 2866 section 5.10).
    Stop { cause: Option<u32> },
}

/// One report of a client about one session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Report {
    pub news: News,
    /// The client's clock when it happened (Event-Timestamp, RFC 2869 section 5.3), where it says so.
    pub event: Option<Moment>,
    /// Our clock when it came, less how long the client says that it tried to send it (Acct-Delay-Time).
    pub at: Moment,
    /// How long the session lasts, where it says so.
    pub lasted: Option<Duration>,
    /// Octets from the person's machine, and to it.
    pub up: u64,
    pub down: u64,
    /// Addresses that the machine has by it.
    pub addresses: BTreeSet<IpAddr>,
}

impl Report {
    /// When it happened, for putting news in order: by the client's clock where it has one.
    pub fn order(&self) -> Moment {
        self.event.unwrap_or(self.at)
    }
}

/// What is known of a session at a client.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Account {
    /// When it began: the earliest that any report says, by the client's clock.
    pub began: Option<Moment>,
    /// Of when the latest news is, by the client's clock, and what it says of addresses.
    pub latest: Option<Moment>,
    pub addresses: BTreeSet<IpAddr>,
    /// Whether it told of the session while it went on.
    pub interim: bool,
    /// Octets from the machine, and to it: they only grow.
    pub up: u64,
    pub down: u64,
    /// When it ended by the client's clock, and why.
    pub ended: Option<(Moment, Option<u32>)>,
    /// When news came last, by our clock.
    pub heard: Option<Moment>,
    /// By how many seconds the client's clock is ahead of ours, where it tells.
    pub ahead: Option<i64>,
}

impl Account {
    /// The account with one more report.
    #[must_use]
    pub fn with(mut self, report: &Report) -> Account {
        let order = report.order();
        let began = match (report.news, report.lasted) {
            (News::Start, _) => Some(order),
            (_, Some(lasted)) => order.checked_sub_signed(lasted),
            _ => None,
        };
        self.began = [self.began, began].into_iter().flatten().min();
        self.addresses = match self.latest.map(|latest| order.cmp(&latest)) {
            Some(std::cmp::Ordering::Less) => self.addresses,
            // Of two of the same moment neither is later: both count.
            Some(std::cmp::Ordering::Equal) => self.addresses.union(&report.addresses).copied().collect(),
            _ => report.addresses.clone(),
        };
        if self.heard.is_none_or(|heard| report.at >= heard) {
            let ahead = report.event.map(|event| (event - report.at).num_seconds());
            // Reports of one moment may differ in what they say of the clock; the larger counts, whichever came first.
            self.ahead = if self.heard == Some(report.at) { self.ahead.max(ahead) } else { ahead };
        }
        self.latest = Some(self.latest.map_or(order, |l| l.max(order)));
        self.heard = Some(self.heard.map_or(report.at, |h| h.max(report.at)));
        self.interim |= report.news == News::Interim;
        self.up = self.up.max(report.up);
        self.down = self.down.max(report.down);
        if let News::Stop { cause } = report.news {
            self.ended = self.ended.max(Some((order, cause)));
        }
        self
    }

    /// Whether it is over. News of later than its end say that it goes on after all.
    pub fn is_over(&self) -> bool {
        self.ended.is_some_and(|(at, _)| self.latest.is_none_or(|latest| latest <= at))
    }

    /// Whether a report is newer than all that came before it: one that comes again is not.
    pub fn is_news(&self, report: &Report) -> bool {
        self.latest.is_none_or(|latest| report.order() > latest)
    }

    /// Whether a report is of another session that has the same number there: it began after this one ended.
    pub fn is_another(&self, report: &Report) -> bool {
        let starts = matches!(report.news, News::Start) || report.lasted.is_some();
        let began = report.order().checked_sub_signed(report.lasted.unwrap_or_default());
        starts && self.ended.zip(began).is_some_and(|((ended, _), began)| began > ended)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(seconds: i64) -> Moment {
        Moment::from_timestamp(1_800_000_000 + seconds, 0).unwrap_or_default()
    }

    fn report(news: News, seconds: i64, octets: u64) -> Report {
        Report {
            news,
            event: Some(at(seconds)),
            at: at(seconds + 2),
            lasted: Some(Duration::seconds(seconds)),
            up: octets,
            down: octets * 2,
            addresses: BTreeSet::from([IpAddr::from([10, 0, 0, (seconds % 7) as u8])]),
        }
    }

    #[test]
    fn a_session_is_told_from_start_to_stop_in_whatever_order_it_comes() {
        let start = Report { lasted: None, ..report(News::Start, 0, 0) };
        let all = [start, report(News::Interim, 60, 100), report(News::Stop { cause: Some(1) }, 90, 150)];
        for order in [[0, 1, 2], [2, 1, 0], [1, 0, 2], [2, 0, 1]] {
            let account = order.iter().fold(Account::default(), |a, i| a.with(&all[*i]));
            assert!(account.is_over(), "{order:?}");
            assert_eq!((account.up, account.down, account.began), (150, 300, Some(at(0))));
            assert_eq!((account.ended, account.ahead), (Some((at(90), Some(1))), Some(-2)));
            assert_eq!(account.addresses, all[2].addresses);
        }
        // Without the start, and without any clock, it is known all the same.
        let blind = Report { event: None, ..report(News::Interim, 60, 100) };
        let account = Account::default().with(&blind);
        assert_eq!((account.began, account.is_over(), account.ahead), (Some(at(2)), false, None));
    }

    #[test]
    fn what_goes_on_after_its_end_is_not_over_and_what_begins_after_it_is_another() {
        let stopped = Account::default().with(&report(News::Stop { cause: None }, 90, 150));
        let late = report(News::Interim, 80, 140);
        assert!(stopped.clone().with(&late).is_over() && !stopped.is_another(&late));
        let on = report(News::Interim, 120, 200);
        assert!(!stopped.clone().with(&on).is_over(), "it is told of after its end");
        assert!(stopped.is_news(&on) && !stopped.is_news(&late) && !stopped.clone().with(&on).is_news(&on));
        assert!(!stopped.is_another(&on), "it began before that");
        let again = Report { lasted: None, ..report(News::Start, 120, 0) };
        assert!(stopped.is_another(&again));
        let blind = Report { lasted: None, ..report(News::Interim, 120, 0) };
        assert!(!stopped.is_another(&blind), "it does not say when it began");
    }

    fn reports() -> impl Strategy<Value = Vec<Report>> {
        let news = prop_oneof![Just(News::Start), Just(News::Interim), (0u32..4).prop_map(|c| News::Stop { cause: Some(c) })];
        let one = (news, prop::option::of(0i64..20), 0i64..20, prop::option::of(0i64..20), 0u64..9, 0u8..3);
        let one = one.prop_map(|(news, event, came, lasted, octets, host)| Report {
            news,
            event: event.map(at),
            at: at(came),
            lasted: lasted.map(Duration::seconds),
            up: octets,
            down: octets,
            addresses: BTreeSet::from([IpAddr::from([10, 0, 0, host])]),
        });
        prop::collection::vec(one, 1..7)
    }

    proptest! {
        #[test]
        fn neither_order_nor_repetition_of_news_counts((all, mixed) in reports().prop_flat_map(|all| {
            let twice: Vec<Report> = all.iter().chain(&all).cloned().collect();
            (Just(all), Just(twice).prop_shuffle())
        })) {
            let once = all.iter().fold(Account::default(), |a, r| a.with(r));
            let again = mixed.iter().fold(Account::default(), |a, r| a.with(r));
            prop_assert_eq!(once, again);
        }

        #[test]
        fn what_passed_only_grows(all in reports()) {
            let mut account = Account::default();
            for r in &all {
                let next = account.clone().with(r);
                prop_assert!(next.up >= account.up && next.down >= account.down && next.heard >= account.heard);
                account = next;
            }
        }
    }
}

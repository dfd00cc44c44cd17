//! What machines asked the resolver for on which nobody was signed in: a trace of a trial sign-in. An engineer goes through a sign-in on a machine
//! of the zone, and reads which hosts its browser wanted. It is kept in memory, for minutes, and nothing of people who are signed in.

use std::collections::VecDeque;
use std::net::IpAddr;

use chrono::Duration;
use passeur_core::Moment;

/// How long a question is remembered, how many in all, and names of one machine.
const KEPT: Duration = Duration::minutes(30);
const IN_ALL: usize = 20_000;
const OF_ONE: usize = 200;

/// Questions, the oldest first.
#[derive(Debug, Default)]
pub(crate) struct Trace(VecDeque<(Moment, IpAddr, String)>);

impl Trace {
    /// Notes a question; one that was noted just before is not noted again.
    pub fn note(&mut self, machine: IpAddr, name: &str, now: Moment) {
        while self.0.front().is_some_and(|(at, ..)| now - *at > KEPT) {
            self.0.pop_front();
        }
        // The last few are what a browser repeats.
        if self.0.iter().rev().take(50).any(|(_, m, n)| *m == machine && n == name) {
            return;
        }
        let mine: Vec<usize> = (0..self.0.len()).filter(|at| self.0[*at].1 == machine).collect();
        if mine.len() >= OF_ONE {
            self.0.remove(mine[0]);
        }
        if self.0.len() >= IN_ALL {
            self.0.pop_front();
        }
        self.0.push_back((now, machine, name.to_owned()));
    }

    /// Names that a machine asked for by any of its addresses, the latest first, each once.
    pub fn of(&self, machine: &[IpAddr], now: Moment) -> Vec<String> {
        let mut out: Vec<String> = vec![];
        for (_, _, name) in self.0.iter().rev().filter(|(at, m, _)| machine.contains(m) && now - *at <= KEPT) {
            if !out.contains(name) {
                out.push(name.clone());
            }
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_is_remembered_for_a_while_and_takes_only_its_share() {
        let at = |m: i64| chrono::DateTime::UNIX_EPOCH + Duration::minutes(m);
        let (a, b, v6): (IpAddr, IpAddr, IpAddr) =
            ("10.70.0.9".parse().unwrap(), "10.70.0.10".parse().unwrap(), "fd70:70::9".parse().unwrap());
        let mut trace = Trace::default();
        trace.note(a, "login.example", at(0));
        trace.note(b, "news.example", at(1));
        trace.note(v6, "login.example", at(1));
        trace.note(v6, "cdn.example", at(2));
        assert_eq!(trace.of(&[a, v6], at(3)), ["cdn.example", "login.example"]);
        assert_eq!(trace.of(&[b], at(31)), ["news.example"]);
        assert_eq!(trace.of(&[b], at(32)), Vec::<String>::new());
        for n in 0..1_000 {
            trace.note(a, &format!("h{n}.example"), at(40));
        }
        trace.note(b, "news.example", at(40));
        let of_a = trace.of(&[a], at(40));
        assert_eq!((of_a.len(), of_a[0].as_str()), (OF_ONE, "h999.example"));
        assert_eq!(trace.0.len(), OF_ONE + 1, "what is old went");
    }
}

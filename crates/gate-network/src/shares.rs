//! How much of something machines may hold at a time: so many in all, and fewer of one address. Whoever is on the link asks as often as they like.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard};

/// What is held, by address. Cheap to clone.
#[derive(Clone)]
pub(crate) struct Shares {
    held: Arc<Mutex<HashMap<IpAddr, usize>>>,
    in_all: usize,
    of_one: usize,
}

/// One that is held, until it is dropped.
pub(crate) struct Share(Shares, IpAddr);

impl Shares {
    /// At most so many in all, and of one address.
    pub fn new(in_all: usize, of_one: usize) -> Shares {
        Shares { held: Arc::default(), in_all, of_one }
    }

    fn held(&self) -> MutexGuard<'_, HashMap<IpAddr, usize>> {
        self.held.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// One more for an address; none where it has its share, or all are taken.
    pub fn take(&self, address: IpAddr) -> Option<Share> {
        let mut all = self.held();
        let mine = all.get(&address).copied().unwrap_or(0);
        if mine >= self.of_one || all.values().sum::<usize>() >= self.in_all {
            return None;
        }
        all.insert(address, mine + 1);
        Some(Share(self.clone(), address))
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let mut all = self.0.held();
        if let Some(held) = all.get_mut(&self.1) {
            *held -= 1;
            if *held == 0 {
                all.remove(&self.1);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_address_takes_only_its_share_and_all_together_no_more_than_there_is() {
        let shares = Shares::new(20, 16);
        let [one, other, third] = [9, 10, 11].map(|n| IpAddr::from([10, 70, 0, n]));
        let held: Vec<Share> = (0..16).map(|_| shares.take(one).unwrap()).collect();
        assert!(shares.take(one).is_none());
        let rest: Vec<Share> = (0..4).map(|_| shares.take(other).unwrap()).collect();
        assert!(shares.take(third).is_none(), "all are taken");
        // What was refused holds nothing.
        drop(rest);
        assert_eq!(shares.held().len(), 1);
        drop(held);
        assert!(shares.take(one).is_some());
        assert_eq!(shares.held().len(), 0);
    }
}

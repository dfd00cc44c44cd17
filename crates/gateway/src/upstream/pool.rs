//! Connections kept open to upstreams: one pool a core, last used first. A connection comes back only after both bodies
//! ended cleanly. One over which a person was authenticated is kept for their session, and goes to no other.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard};

use hyper::client::conn::http1::SendRequest;
use passeur_live::clock::ticks;
use uuid::Uuid;

use super::budget::Budget;
use crate::stream::Upload;
use crate::target::Target;
use crate::waits::Waits;

/// The most idle connections to one address on a core.
const IDLE_MAX: usize = 128;
/// The most idle connections that are kept for one session, and for all sessions together.
const OWNED_MAX: usize = 6;
const OWNERS_MAX: usize = 4_000;
/// How long an idle connection is kept, in milliseconds.
const IDLE_MS: i64 = 30_000;

/// A connection that takes requests.
pub(crate) struct Sender {
    pub(super) requests: SendRequest<Upload>,
    pub(super) budget: Budget,
    /// Whether the upstream proved over it that it is the one that was asked for.
    pub(super) proven: bool,
}

/// Whom connections are kept for: somebody's session as one edition of a gate knows them.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Owner {
    pub(crate) session: Uuid,
    pub(crate) gate: String,
    pub(crate) edition: i32,
}

/// Whose connections: an upstream address, and whom they are kept for, where they are.
type Kept = (u64, Option<Arc<Owner>>);

struct Idle {
    sender: Sender,
    since: i64,
}

/// The pool of a core. The lock is never contended: it only lets a connection come back from wherever its body ended.
#[derive(Default)]
pub(crate) struct Pool {
    idle: Mutex<BTreeMap<Kept, Vec<Idle>>>,
    /// What waits for an answer, or for more of one.
    waits: Arc<Waits>,
}

impl Pool {
    fn idle(&self) -> MutexGuard<'_, BTreeMap<Kept, Vec<Idle>>> {
        self.idle.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub(super) fn waits(&self) -> &Arc<Waits> {
        &self.waits
    }

    /// The idle connection to a target that was used last, by a session where it is kept for one; closed ones are dropped on the
    /// way.
    pub(crate) fn take(&self, target: &Target, owner: Option<&Arc<Owner>>) -> Option<Sender> {
        let mut all = self.idle();
        let kept = all.get_mut(&(target.id, owner.cloned()))?;
        let mut i = kept.len();
        while i > 0 {
            i -= 1;
            if kept[i].sender.requests.is_closed() {
                kept.remove(i);
            } else if kept[i].sender.requests.is_ready() {
                return Some(kept.remove(i).sender);
            }
        }
        None
    }

    pub(crate) fn put(&self, target: &Target, owner: Option<Arc<Owner>>, sender: Sender) {
        if sender.requests.is_closed() {
            return;
        }
        let mut all = self.idle();
        if owner.is_some() && all.len() > OWNERS_MAX {
            return;
        }
        let most = if owner.is_some() { OWNED_MAX } else { IDLE_MAX };
        let kept = all.entry((target.id, owner)).or_default();
        if kept.len() < most {
            kept.push(Idle { sender, since: ticks() });
        }
    }

    /// Forgets every idle connection to a target: it lost one, so it was probably started anew.
    pub(crate) fn forget(&self, target: &Target) {
        self.idle().retain(|(id, _), _| *id != target.id);
    }

    /// Drops what was idle for too long, and wakes what has waited for too long.
    pub(crate) fn sweep(&self) {
        self.waits.sweep();
        let oldest = ticks() - IDLE_MS;
        self.idle().retain(|_, kept| {
            kept.retain(|i| i.since >= oldest && !i.sender.requests.is_closed());
            !kept.is_empty()
        });
    }
}

/// A connection in use for one exchange.
pub(crate) struct Lease {
    sender: Option<Sender>,
    pool: Arc<Pool>,
    target: Arc<Target>,
    owner: Option<Arc<Owner>>,
}

impl Lease {
    pub(crate) fn new(sender: Sender, pool: Arc<Pool>, target: Arc<Target>, owner: Option<Arc<Owner>>) -> Lease {
        Lease { sender: Some(sender), pool, target, owner }
    }

    /// Whether the upstream proved itself over this connection.
    pub(crate) fn is_proven(&self) -> bool {
        self.sender.as_ref().is_some_and(|s| s.proven)
    }

    /// It did.
    pub(crate) fn prove(&mut self) {
        if let Some(s) = &mut self.sender {
            s.proven = true;
        }
    }

    /// The address at its other end.
    pub(crate) fn address(&self) -> String {
        self.target.address.to_string()
    }

    /// Gives the connection back: only when both bodies ended cleanly.
    pub(crate) fn release(&mut self) {
        if let Some(sender) = self.sender.take() {
            self.pool.put(&self.target, self.owner.take(), sender);
        }
    }

    /// What waits for more of the answer.
    pub(crate) fn waits(&self) -> &Arc<Waits> {
        self.pool.waits()
    }

    /// The connection is not used again. What runs on it ends with its bodies.
    pub(crate) fn spend(&mut self) {
        self.sender = None;
    }
}

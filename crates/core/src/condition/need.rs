//! What is missing of a sign-in where a rule asks for more: so that exactly that is asked for, and nothing else.

use chrono::Duration;

use crate::circumstances::Circumstances;
use crate::identity::Identity;
use crate::site::{Condition, Truth};

/// What would have to be proven.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Need {
    /// One of these authentication contexts.
    pub contexts: Vec<String>,
    /// A sign-in not longer ago than this.
    pub fresh: Option<Duration>,
    /// One of these methods (RFC 8176).
    pub factors: Vec<String>,
    /// That the device is another than the one that was looked at: a browser that passes the sign-in host is looked at again.
    pub device: bool,
}

impl Need {
    /// Whether nothing is missing that could be asked for.
    pub fn is_empty(&self) -> bool {
        *self == Need::default()
    }

    fn join(&mut self, other: Need) {
        self.device |= other.device;
        if self.contexts.is_empty() {
            self.contexts = other.contexts;
        }
        if self.factors.is_empty() {
            self.factors = other.factors;
        }
        self.fresh = match (self.fresh, other.fresh) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
    }
}

impl Condition {
    /// What is missing for the condition to hold; of several parts of which one is enough, what is missing for the first.
    pub fn need(&self, who: &Identity, at: &Circumstances<'_>, gate: Option<&str>) -> Need {
        if self.judge(who, at, gate) == Truth::Yes {
            return Need::default();
        }
        match self {
            Condition::Context(wanted) => Need { contexts: wanted.clone(), ..Need::default() },
            Condition::SignedIn(limit) => Need { fresh: Some(*limit), ..Need::default() },
            Condition::Factor(wanted, _) => Need { factors: wanted.clone(), ..Need::default() },
            Condition::All(parts) => {
                let mut out = Need::default();
                parts.iter().for_each(|p| out.join(p.need(who, at, gate)));
                out
            }
            Condition::Any(parts) => parts.iter().map(|p| p.need(who, at, gate)).find(|n| !n.is_empty()).unwrap_or_default(),
            _ => Need::default(),
        }
    }
}

//! Requests of a gate as its conditions see them: two requests that look the same are decided alike.

use crate::circumstances::Circumstances;
use crate::condition::{Condition, Truth};
use crate::site::{Access, Effect, Gate, Place, Section, SectionAccess, Site};

/// The most parts of a gate's conditions that may depend on the request: each takes two bits.
pub(crate) const PARTS_MAX: usize = 32;

/// What a gate's conditions ask of single requests: networks, paths and methods, each once.
#[derive(Clone, Debug, Default)]
pub struct RequestView {
    parts: Vec<Condition>,
    timed: bool,
    paths: bool,
}

impl RequestView {
    /// Of a gate, from its rules and sections.
    pub fn of(gate: &Gate) -> RequestView {
        RequestView::over(&gate.access, gate.sections())
    }

    /// Of a place: nothing where the site has no such gate, or where rules decide nothing.
    pub fn at(site: &Site, place: &Place) -> RequestView {
        match place {
            Place::Console => site.engineers.as_ref().map(|access| RequestView::over(access, &[])).unwrap_or_default(),
            Place::Gate(name) => site.gate(name).map(RequestView::of).unwrap_or_default(),
            Place::Quay | Place::SignIn | Place::Trial => RequestView::default(),
        }
    }

    fn over(access: &Access, sections: &[Section]) -> RequestView {
        let mut conditions: Vec<&Condition> = vec![];
        for rule in access.rules.iter() {
            conditions.push(&rule.when);
            if let Effect::StepUp(need) = &rule.effect {
                conditions.push(need);
            }
        }
        for section in sections {
            if let SectionAccess::More { when, .. } = &section.access {
                conditions.push(when);
            }
        }
        let mut parts = vec![];
        conditions.iter().for_each(|c| c.of_request(&mut parts));
        let timed = conditions.iter().any(|c| c.is_timed());
        let paths = !sections.is_empty() || parts.iter().any(|p| matches!(p, Condition::Path(_)));
        RequestView { parts: parts.into_iter().cloned().collect(), timed, paths }
    }

    /// Whether all requests look the same.
    pub fn is_blind(&self) -> bool {
        self.parts.is_empty()
    }

    /// Whether what a request may do depends on its path: then a path that two servers could read differently is refused.
    pub fn judges_paths(&self) -> bool {
        self.paths
    }

    /// Whether time alone may change a decision.
    pub fn is_timed(&self) -> bool {
        self.timed
    }

    /// How many parts there are.
    pub(crate) fn len(&self) -> usize {
        self.parts.len()
    }

    /// How a request looks: two bits for each part.
    pub fn look(&self, at: &Circumstances<'_>) -> u64 {
        self.parts.iter().take(PARTS_MAX).enumerate().fold(0, |seen, (i, part)| {
            let bits = match part.judge_request(at) {
                Truth::No => 0,
                Truth::Unknown => 1,
                Truth::Yes => 2,
            };
            seen | bits << (2 * i)
        })
    }
}

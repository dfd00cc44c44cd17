//! Why an application that takes tickets is not shown one: what a gate is told by whoever fetches them, and tells in turn.

use passeur_core::step::Step;

/// Why an application is not shown a ticket, or did not take it.
#[derive(Clone, Debug)]
pub struct TicketFailed {
    pub step: Step,
    /// The ticket that the person's browser sent along is not on this node: their browser can send another.
    pub lost: bool,
}

impl TicketFailed {
    /// For a reason.
    pub fn of(step: Step) -> TicketFailed {
        TicketFailed { step, lost: false }
    }
}

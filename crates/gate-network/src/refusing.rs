//! A person whom the rules let in, and whose machine is not let through all the same: a crossing of its own, since the one of the decision says
//! that they came in.

use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::site::Gate;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::{Attempt, Who};
use passeur_engine::{Engine, sessions};
use passeur_store::StoreError;
use uuid::Uuid;

use crate::gate::NetworkGate;
use crate::standing::Stands;

/// Somebody whom the rules let in.
pub struct LetIn<'a> {
    pub who: Who,
    pub session: Uuid,
    pub evidence: Option<&'a Evidence>,
    /// The crossing that says so.
    pub crossing: CrossingId,
}

/// Records why a machine of theirs is not let through. The last step says it.
///
/// # Errors
/// Those of the store.
pub async fn not_through(
    engine: &Engine,
    (gate, facts): (&Gate, &RequestFacts),
    of: LetIn<'_>,
    outcome: Outcome,
    steps: Vec<Step>,
) -> Result<CrossingId, StoreError> {
    let mut attempt = Attempt::begin(engine, gate.place(), facts);
    let decided = step!(RulesLetIn { person: of.who.name.as_str(), crossing: of.crossing.to_string() });
    (attempt.who, attempt.session) = (Some(of.who), Some(of.session));
    if let Some(known) = of.evidence {
        attempt.set_evidence(known);
    }
    for step in std::iter::once(decided).chain(steps) {
        attempt.step(|| step);
    }
    attempt.record(outcome).await?;
    Ok(attempt.id)
}

impl NetworkGate {
    /// The same of a machine on a network or in a tunnel.
    ///
    /// # Errors
    /// Those of the store.
    pub(crate) async fn not_through(
        &self,
        gate: &Gate,
        stands: &Stands,
        outcome: Outcome,
        steps: Vec<Step>,
    ) -> Result<CrossingId, StoreError> {
        let (row, evidence) = (&stands.row, sessions::read_evidence(&stands.row));
        let who = Who { provider: row.provider.clone(), subject: row.subject.clone(), name: row.name.clone() };
        let of = LetIn { who, session: row.id, evidence: evidence.as_ref(), crossing: stands.crossing };
        not_through(&self.engine, (gate, &stands.facts), of, outcome, steps).await
    }
}

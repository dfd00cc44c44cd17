//! A person whom the rules let in, and whose machine is not let through all the same: a crossing of its own, since the one of the decision says
//! that they came in.

use passeur_core::crossing::Outcome;
use passeur_core::id::CrossingId;
use passeur_core::site::Gate;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Attempt;
use passeur_engine::sessions;
use passeur_store::StoreError;

use crate::gate::NetworkGate;
use crate::standing::Stands;

impl NetworkGate {
    /// Records why a machine is not let through. The last step says it.
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
        let mut attempt = Attempt::begin(&self.engine, gate.place(), &stands.facts);
        attempt.is_of(&stands.row);
        if let Some(known) = sessions::read_evidence(&stands.row) {
            attempt.set_evidence(&known);
        }
        let decided = step!(RulesLetIn { person: stands.row.name.as_str(), crossing: stands.crossing.to_string() });
        for step in std::iter::once(decided).chain(steps) {
            attempt.step(|| step);
        }
        attempt.record(outcome).await?;
        Ok(attempt.id)
    }
}

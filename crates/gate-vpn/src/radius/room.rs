//! Whether there is room for one more of a person at a RADIUS client: machines at a time, and what may pass within a day. A gateway knows
//! of neither; whoever is over is not let in there, or ordered out as soon as it tells of what passed.

use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, WhenFull};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Who;
use passeur_engine::programs::Begun;
use passeur_engine::{ending, rights};
use passeur_gate_network::entering::{MAKE_ROOM_TRIES, PACKET_MAX, QUOTA_SPAN};
use passeur_gate_network::refusing::{LetIn, not_through};
use passeur_store::{Entered, PresenceRow, RadiusRow, StoreError};

use super::RadiusGate;
use super::accounting::extend;

/// Why there is none.
pub(super) enum Full {
    /// The session is over meanwhile.
    Over,
    /// With words for the person, and the step that tells it.
    No(&'static str, Step),
}

impl RadiusGate {
    /// Keeps a session that its client is about to be told to open, where there is room. Machines that gave way to it there.
    pub(super) async fn room(
        &self,
        gate: &Gate,
        begun: &Begun,
        (row, at): (&PresenceRow, &RadiusRow),
    ) -> Result<Result<Vec<PresenceRow>, Full>, StoreError> {
        let Some(network) = gate.network() else { return Ok(Err(Full::Over)) };
        if let Some(quota) = row.quota {
            let used = self.passed(row).await?;
            if used.saturating_add(PACKET_MAX as i64) > quota {
                let step = step!(QuotaUsed { used, quota });
                return Ok(Err(Full::No("What may pass for you within a day is used up.", step)));
            }
        }
        // A machine that nobody sits at is one machine, wherever it is plugged in.
        let is_person = begun.evidence.way_in != WayIn::Machine;
        let most = begun.admitted.terms().and_then(|t| t.devices).unwrap_or(network.devices);
        let counted = is_person.then_some(most);
        let mut tries = 0;
        loop {
            let machines = match self.engine.store.enter_at_client(row, at, counted).await? {
                Entered::On { moved } => return Ok(Ok(moved)),
                Entered::Over => return Ok(Err(Full::Over)),
                Entered::Full(machines) => machines,
            };
            match machines.first() {
                Some(oldest) if network.when_full == WhenFull::EndOldest && tries < MAKE_ROOM_TRIES => {
                    tries += 1;
                    self.end_oldest(oldest).await?;
                }
                _ => {
                    let machines = machines.iter().map(|m| m.known_by().to_owned()).collect::<Vec<_>>();
                    let step = step!(DevicesFull { most: i64::from(most), machines });
                    return Ok(Err(Full::No("You have as many machines on as you may. End one of them first.", step)));
                }
            }
        }
    }

    /// Ends somebody's oldest machine: at a RADIUS client by its session, which is of that machine alone, and elsewhere without it.
    async fn end_oldest(&self, oldest: &PresenceRow) -> Result<(), StoreError> {
        let Some(session) = oldest.session_id else { return Ok(()) };
        if oldest.interface.is_empty() {
            return ending::end_here(&self.engine, &[session], "another machine", None).await.map(|_| ());
        }
        self.engine.store.leave(&[oldest.id], self.engine.now(), "another-machine").await?;
        rights::changed(&self.engine, session).await
    }

    /// How many octets passed for the person of a machine at its gate within the span of quotas, as far as it was told.
    async fn passed(&self, row: &PresenceRow) -> Result<i64, StoreError> {
        self.engine.store.passed(&row.person(), &row.gate, self.engine.now() - QUOTA_SPAN).await
    }

    /// Looks whether what a client told is more than may pass: its session is over then, and told once.
    pub(super) async fn over_quota(&self, row: &PresenceRow) -> Result<(), StoreError> {
        let (Some(quota), Some(session)) = (row.quota, row.session_id) else { return Ok(()) };
        let used = self.passed(row).await?;
        if used <= quota {
            return Ok(());
        }
        let (ended, _) = ending::end_here(&self.engine, &[session], "its quota", None).await?;
        if ended.contains(&session) {
            extend(self, row, step!(QuotaUsed { used, quota })).await?;
        }
        Ok(())
    }

    /// Whom the rules let in, and who is not let in all the same: their session ends, and a refused crossing of its own tells why.
    pub(super) async fn not_in(
        &self,
        gate: &Gate,
        facts: &RequestFacts,
        begun: &Begun,
        why: Step,
    ) -> Result<CrossingId, StoreError> {
        let (provider, subject) = (begun.evidence.provider.clone(), begun.evidence.subject.clone());
        let who = Who { provider, subject, name: begun.name.clone() };
        let of = LetIn { who, session: begun.session, evidence: Some(&begun.evidence), crossing: begun.crossing };
        let told = not_through(&self.engine, (gate, facts), of, Outcome::Refused, vec![why]).await?;
        ending::end_here(&self.engine, &[begun.session], "no room", None).await?;
        Ok(told)
    }
}

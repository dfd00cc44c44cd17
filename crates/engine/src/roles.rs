//! Roles are worked out at every decision. What they were before is kept, so that a crossing and the person's page can say when and
//! why they changed.

use passeur_core::circumstances::Circumstances;
use passeur_core::crossing::Outcome;
use passeur_core::decide::{Decision, why_roles};
use passeur_core::evidence::{Evidence, WayIn};
use passeur_core::site::{Place, Site};
use passeur_core::step;
use passeur_store::{PersonRoles, RoleChange, StoreError};

use crate::attempt::Attempt;
use crate::engine::Engine;
use crate::random::new_uuid;

/// The roles that a decision gives. None where it says nothing of them: a check failed before the rules, or more is to be proven.
pub fn of(decision: &Decision) -> Option<Vec<String>> {
    match decision {
        Decision::Admitted(a) => Some(a.roles().to_vec()),
        Decision::Refused(r) => (r.outcome == Outcome::Refused && r.need.is_none()).then(Vec::new),
    }
}

/// Notes which roles somebody has at a gate, or in the console, by a decision just made; a change is told in its crossing.
pub async fn note(
    engine: &Engine,
    site: &Site,
    attempt: &mut Attempt,
    place: &Place,
    evidence: &Evidence,
    at: &Circumstances<'_>,
    roles: &[String],
) -> Result<(), StoreError> {
    // Programs of somebody have their roles, and change none.
    if matches!(evidence.way_in, WayIn::AccessToken | WayIn::PersonalToken | WayIn::Certificate) {
        return Ok(());
    }
    let gate = place.to_string();
    let before = engine.store.roles_at(&evidence.provider, &evidence.person(), &gate).await?;
    let missing = |of: &[String], from: &[String]| of.iter().filter(|r| !from.contains(r)).cloned().collect::<Vec<_>>();
    let (gained, lost) = match &before {
        None => (vec![], vec![]),
        Some(b) => (missing(roles, &b.roles), missing(&b.roles, roles)),
    };
    let changed = !gained.is_empty() || !lost.is_empty();
    let now = engine.now();
    let since = match &before {
        Some(b) if !changed => b.since,
        _ => now,
    };
    let fresh = before.as_ref().is_some_and(|b| !changed && now - b.seen_at < chrono::Duration::hours(1));
    if fresh {
        return Ok(());
    }
    let crossing = before.as_ref().filter(|_| !changed).map_or_else(|| attempt.id.to_string(), |b| b.crossing.clone());
    let row = PersonRoles {
        provider: evidence.provider.clone(),
        subject: evidence.subject.clone(),
        gate: gate.clone(),
        roles: roles.to_vec(),
        since,
        crossing,
        seen_at: now,
        authority: evidence.person().authority,
    };
    let mut change = None;
    if let (true, Some(before)) = (changed, &before) {
        let both: Vec<String> = gained.iter().chain(&lost).cloned().collect();
        let why = why_roles(site, place, evidence, at, &both);
        attempt.step(|| {
            step!(RolesChanged {
                gate: gate.as_str(),
                gained: gained.clone(),
                lost: lost.clone(),
                why: why.clone(),
                since: before.seen_at.format("%Y-%m-%d %H:%M UTC").to_string()
            })
        });
        change = Some(RoleChange {
            id: new_uuid(),
            provider: evidence.provider.clone(),
            subject: evidence.subject.clone(),
            gate: gate.clone(),
            at: now,
            crossing: attempt.id.to_string(),
            gained,
            lost,
            why: serde_json::to_value(&why).unwrap_or_default(),
            authority: evidence.person().authority,
        });
    }
    engine.store.put_roles(row, change).await
}

//! What the rules open to somebody at a network gate just now, decided and recorded where every gate decides.

use std::net::IpAddr;
use std::sync::Arc;

use passeur_core::Moment;
use passeur_core::circumstances::RequestFacts;
use passeur_core::decide::{Admitted, Terms};
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::identity::identify;
use passeur_core::session::{Lifetimes, State};
use passeur_core::site::{Gate, Site};
use passeur_core::step::{Phrase, Silent};
use passeur_engine::attempt::Attempt;
use passeur_engine::grants::{Asking, Carriage, Decided, HeldSession, decide};
use passeur_engine::tunnel::TunnelOf;
use passeur_engine::{Engine, devices, sessions};
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{SessionRow, StoreError};
use uuid::Uuid;

/// The most groups that are kept of somebody.
const GROUPS_MAX: usize = 200;

/// What is open to somebody.
pub struct Stands {
    pub row: SessionRow,
    pub live: Arc<LiveSession>,
    pub terms: Terms,
    /// What was granted, terms among it.
    pub admitted: Admitted,
    /// Groups that the decision saw the person in; none where they are not known.
    pub groups: Vec<String>,
    pub limits: Lifetimes,
    pub good_until: Option<Moment>,
    /// From where they asked.
    pub facts: RequestFacts,
    pub crossing: CrossingId,
    /// On trial: nothing is opened, whatever the rules say.
    pub tried: bool,
    /// The trial that an engineer began, by which that is.
    pub trial: Option<Uuid>,
}

/// How somebody stands.
pub enum Standing {
    Let(Box<Stands>),
    /// The rules say no, which is recorded; with the words that a rule has for the person.
    Refused(Option<String>, CrossingId),
    /// The session ended, or never was one of this gate.
    Over,
}

/// From where somebody asks.
#[derive(Clone, Copy, Debug)]
pub enum From<'a> {
    /// From a machine at an address of the zone.
    Machine(IpAddr),
    /// By a tunnel.
    Tunnel(&'a TunnelOf),
}

/// Groups that a decision at a gate sees somebody in, by the names of the site; none where they are not known.
pub fn groups_of(site: &Site, gate: &Gate, evidence: &Evidence) -> Vec<String> {
    let mut groups = identify(site, &gate.access, evidence, &mut Silent).groups.names().unwrap_or_default();
    groups.truncate(GROUPS_MAX);
    groups
}

/// Decides for a session at a gate.
///
/// # Errors
/// Those of the store: nothing is open then.
pub async fn standing(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    session: Uuid,
    from: From<'_>,
    why: Phrase,
) -> Result<Standing, StoreError> {
    let Some((row, live)) = sessions::by_id(engine, session).await? else { return Ok(Standing::Over) };
    if sessions::state(engine, edition, &row, &live) != State::Live {
        return Ok(Standing::Over);
    }
    let (Some(token), Some(view), Some(mut known)) =
        (engine.store.latest_gate_token(session, &gate.name).await?, edition.view(&gate.name), sessions::read_evidence(&row))
    else {
        return Ok(Standing::Over);
    };
    let expired = token.expires_at.is_some_and(|until| engine.now() >= until);
    if expired || !gate.access.takes(&edition.site, &known) {
        return Ok(Standing::Over);
    }
    let digest: [u8; 32] =
        token.digest.as_slice().try_into().map_err(|_| StoreError::Query("a digest of another length".into()))?;
    // The machine is there, and asks for nothing.
    let mut facts = match from {
        From::Machine(address) => RequestFacts::of_nobody(address, &row.agent),
        From::Tunnel(of) => RequestFacts::of_tunnel(of.outside, of.facts.clone()),
    };
    devices::again(engine, &edition.site, &mut known).await;
    if let Some(device) = facts.tunnel.as_mut().and_then(|t| t.device.as_mut()) {
        devices::renew(engine, &edition.site, device).await;
    }
    let mut attempt = Attempt::begin(engine, gate.place(), &facts);
    attempt.is_of(&row);
    attempt.set_evidence(&known);
    let held = HeldSession {
        token: &digest,
        session: &live,
        decision: &token.decision,
        crossing: token.crossing.parse().map_err(|e: passeur_core::id::NotAnId| StoreError::Query(e.to_string()))?,
        view,
        why,
        again: None,
    };
    let asking = Asking { edition, gate, evidence: &known, at: facts.circumstances(engine.now()) };
    // Nobody is there to prove more.
    match decide(engine, asking, Carriage::Held(held), &mut attempt, |_| false).await? {
        Decided::Granted(granted) => {
            let crossing = granted.crossing();
            let admitted = granted.into_admitted();
            let limits = admitted.lifetimes(&sessions::lifetimes(&edition.site, &row, Some(gate)));
            if live.state(&limits, engine.now()) != State::Live {
                return Ok(Standing::Over);
            }
            let terms = admitted.terms().cloned().unwrap_or_default();
            let good_until = admitted.good_until();
            let groups = groups_of(&edition.site, gate, &known);
            Ok(Standing::Let(Box::new(Stands {
                row,
                live,
                terms,
                admitted,
                groups,
                limits,
                good_until,
                facts,
                crossing,
                tried: false,
                trial: None,
            })))
        }
        Decided::Refused(refusal, crossing) => Ok(Standing::Refused(refusal.words, crossing)),
        Decided::More(_) | Decided::Afresh(_) => Ok(Standing::Over),
    }
}

//! The one place that grants: who asks, what for, and how it is carried to the gate. Whatever is granted was decided by core and is
//! recorded, in this order, before anybody holds it. Nothing else calls [`fold`] on live traffic; a test holds that.
//!
//! The ways to carry a grant differ in these rules, and in no other:
//!
//! | | by a code | by a token of a program | by what a gate holds already |
//! |---|---|---|---|
//! | more can be asked for | of the person, each thing once | no: nobody is there to prove it | of a person whose browser goes to a page |
//! | the time that rules leave | looked at: who has no more signs in afresh | begins now | looked at by the gate, for each request |
//! | it is recorded | always | always | where the decision is a new one for this session |
//! | roles are noted | yes | no: programs have those of their owner | where no single request is decided otherwise |

use passeur_core::circumstances::Circumstances;
use passeur_core::condition::Need;
use passeur_core::crossing::Outcome;
use passeur_core::decide::{Admitted, Decision, Refusal, RequestView, Terms, fold};
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::session::State;
use passeur_core::site::{Gate, Site};
use passeur_core::step;
use passeur_core::step::{Phrase, Silent};
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::StoreError;
use uuid::Uuid;

use crate::attempt::Attempt;
use crate::engine::Engine;
use crate::look_up::Again;
use crate::roles;
use crate::sessions::{Session, lifetimes};

/// Who asks, and what for.
#[derive(Clone, Copy)]
pub struct Asking<'a> {
    pub edition: &'a Edition,
    pub gate: &'a Gate,
    pub evidence: &'a Evidence,
    pub at: Circumstances<'a>,
}

/// How what is granted comes to the gate.
pub enum Carriage<'a> {
    /// A browser takes a code there, at the end of a sign-in.
    Code(&'a Session),
    /// A program shows its own token or certificate, and a session of this number is to begin on it.
    Token(Uuid),
    /// A browser or a program shows there what was granted before, and it is decided again.
    Held(HeldSession<'a>),
}

/// What was granted before.
pub struct HeldSession<'a> {
    /// The digest under which the gate knows it.
    pub token: &'a [u8; 32],
    pub session: &'a LiveSession,
    /// The digest of the last decision, and the crossing that tells of it.
    pub decision: &'a [u8],
    pub crossing: CrossingId,
    /// What the gate's conditions ask of single requests.
    pub view: &'a RequestView,
    /// Why it is decided again, and what the directory said to that.
    pub why: Phrase,
    pub again: Option<&'a Again>,
}

/// That a gate is open to somebody, decided and recorded. Only [`decide`] makes one.
#[derive(Debug)]
pub struct Granted {
    admitted: Admitted,
    digest: [u8; 32],
    crossing: CrossingId,
}

impl Granted {
    /// The digest of the decision.
    pub fn digest(&self) -> &[u8; 32] {
        &self.digest
    }

    /// The crossing that tells of it.
    pub fn crossing(&self) -> CrossingId {
        self.crossing
    }

    /// What was granted, for what carries it.
    pub fn into_admitted(self) -> Admitted {
        self.admitted
    }
}

/// What was decided.
#[derive(Debug)]
pub enum Decided {
    Granted(Granted),
    /// Nothing is recorded: this is to be asked for first.
    More(Need),
    /// Nothing is recorded: at this gate the session is over, and its person signs in afresh.
    Afresh(State),
    /// Recorded in a crossing.
    Refused(Refusal, CrossingId),
}

/// Decides, notes roles, and records. `may_ask` says whether what is missing can be asked for here.
///
/// # Errors
/// It cannot be recorded: nothing is granted then.
pub async fn decide(
    engine: &Engine,
    asking: Asking<'_>,
    carriage: Carriage<'_>,
    attempt: &mut Attempt,
    may_ask: impl Fn(&Need) -> bool,
) -> Result<Decided, StoreError> {
    let Asking { edition, gate, evidence: of_session, at } = asking;
    let site = &edition.site;
    let own = of_session.of_tunnel(at.tunnel);
    let evidence = &*own;
    let asking = Asking { evidence, ..asking };
    if at.tunnel.is_some() {
        attempt.set_evidence(evidence);
    }
    // What is decided again is told where something comes of it.
    let decision = match carriage {
        Carriage::Held(_) => fold(site, gate, evidence, &at, &mut Silent),
        Carriage::Code(_) | Carriage::Token(_) => fold(site, gate, evidence, &at, attempt.witness()),
    };
    if let Some(need) = missing(&decision).filter(|need| may_ask(need)) {
        return Ok(Decided::More(need.clone()));
    }
    let digest = decision.digest();
    let recorded = match &carriage {
        Carriage::Held(held) => held.recorded(gate, &digest),
        Carriage::Code(_) | Carriage::Token(_) => None,
    };
    if let Carriage::Held(held) = &carriage
        && (recorded.is_none() || matches!(decision, Decision::Refused(_)))
    {
        held.note_again(site, attempt);
        fold(site, gate, evidence, &at, attempt.witness());
    }
    let crossing = match recorded {
        Some(crossing) => crossing,
        None => {
            if let Some(has) = roles::of(&decision).filter(|_| carriage.is_one_for_all_requests()) {
                roles::note(engine, site, attempt, &gate.place(), evidence, &at, &has).await?;
            }
            if let Decision::Admitted(admitted) = &decision
                && let Some(over) = carriage.ready(engine, asking, admitted, attempt)
            {
                return Ok(Decided::Afresh(over));
            }
            attempt.record(outcome(&decision)).await?;
            if let Carriage::Held(held) = &carriage {
                engine.store.redecide(held.token, &digest, &attempt.id.to_string()).await?;
            }
            attempt.id
        }
    };
    if let Carriage::Held(held) = &carriage
        && (!held.view.is_blind() || held.view.is_timed())
    {
        held.session.recorded(&gate.name, &digest, crossing);
    }
    Ok(match decision {
        Decision::Admitted(admitted) => Decided::Granted(Granted { admitted, digest, crossing }),
        Decision::Refused(refusal) => Decided::Refused(refusal, crossing),
    })
}

fn missing(decision: &Decision) -> Option<&Need> {
    match decision {
        Decision::Refused(refusal) => refusal.need.as_deref(),
        Decision::Admitted(_) => None,
    }
}

fn outcome(decision: &Decision) -> Outcome {
    match decision {
        Decision::Admitted(_) => Outcome::Admitted,
        Decision::Refused(refusal) => refusal.outcome,
    }
}

impl HeldSession<'_> {
    /// The crossing that tells of a decision, where one does. A session that goes to and fro between requests that are decided otherwise
    /// tells of each decision once.
    fn recorded(&self, gate: &Gate, digest: &[u8; 32]) -> Option<CrossingId> {
        let last = (self.decision == digest.as_slice()).then_some(self.crossing);
        self.session.crossing_of(&gate.name, digest).or(last)
    }

    fn note_again(&self, site: &Site, attempt: &mut Attempt) {
        attempt.step(|| step!(DecidedAgain { why: self.why.clone() }));
        if let Some(again) = self.again {
            attempt.step(|| again.step(site));
        }
    }
}

impl Carriage<'_> {
    /// Whether the decision is the same for every request. Where it is not, the sign-in is what counts for a person's roles.
    fn is_one_for_all_requests(&self) -> bool {
        match self {
            Carriage::Code(_) | Carriage::Token(_) => true,
            Carriage::Held(held) => held.view.is_blind(),
        }
    }

    /// The steps of what is about to be granted. Why the session is over at this gate, where it is.
    fn ready(&self, engine: &Engine, asking: Asking<'_>, admitted: &Admitted, attempt: &mut Attempt) -> Option<State> {
        let Asking { edition, gate, evidence, .. } = asking;
        match self {
            Carriage::Code(session) => {
                if gate.hand_over().is_some() {
                    attempt.step(|| match &session.row.kept {
                        Some(_) => step!(PasswordHanded),
                        None => step!(PasswordNotHanded { way: evidence.way() }),
                    });
                }
                // A rule may give less time at this gate than the session lives.
                let limits = admitted.lifetimes(&lifetimes(&edition.site, &session.row, Some(gate)));
                let state = session.live.state(&limits, engine.now());
                if state != State::Live {
                    return Some(state);
                }
                attempt.step(|| step!(CodeIssued { to: gate.address.origin() }));
            }
            Carriage::Token(session) => attempt.session = Some(*session),
            Carriage::Held(_) => {}
        }
        None
    }
}

/// What a gate would say to somebody just now, for pages that only show it: nothing is granted by it, and nothing is recorded.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Glance {
    pub admits: bool,
    pub roles: Vec<String>,
    /// What the rules give besides: words for the person, lifetimes, what opens.
    pub terms: Terms,
    /// The digest of the decision.
    pub digest: [u8; 32],
}

/// Looks at what a gate would say.
pub fn glance(site: &Site, gate: &Gate, evidence: &Evidence, at: &Circumstances<'_>) -> Glance {
    let decision = fold(site, gate, &evidence.of_tunnel(at.tunnel), at, &mut Silent);
    let digest = decision.digest();
    match &decision {
        Decision::Admitted(admitted) => {
            let terms = admitted.terms().cloned().unwrap_or_default();
            Glance { admits: true, roles: admitted.roles().to_vec(), terms, digest }
        }
        Decision::Refused(_) => Glance { digest, ..Glance::default() },
    }
}

//! Tickets for applications that know nothing but Kerberos, kept for live sessions in this node's memory and nowhere else.
//!
//! Each session has a delegation of its own at each gate: the right to ask for services as its person (RFC 4120 2.6; S4U), got from what
//! their browser sent along or by an account of ours. It is fetched at the first request, anew when it runs out or is not taken, and gone with the
//! session. What another node had, or this one before it was started anew, is fetched again on behalf; a ticket that a browser sent
//! along can only be sent again, so that the browser is asked for it.

use std::sync::Arc;

use crate::attempt::Attempt;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_core::identity::identify;
use passeur_core::principal::NoPrincipal;
use passeur_core::site::{By, Gate, OfRealm, Site, UpstreamTicket};
use passeur_core::step;
use passeur_core::step::{Param, Silent, Step, StepCode};
use passeur_links::kerberos::{Delegation, NoTicket, Shown, behalf};
use passeur_live::edition::Edition;
use passeur_live::ticket::TicketFailed;
use passeur_store::StoreError;
use serde_json::{Map, Value};
use uuid::Uuid;

use crate::engine::Engine;
use crate::sessions::Session;

/// The claim that says whether a browser sent a ticket along.
pub const FORWARDED: &str = "forwarded";
/// What is known of somebody by their principal; and whether a ticket of theirs came along.
pub fn claims(client: &str, of: &OfRealm<'_>, forwarded: bool) -> Map<String, Value> {
    let texts = [("user", of.user.as_str()), ("principal", client), ("realm", of.realm)];
    let mut out: Map<String, Value> = texts.into_iter().map(|(name, value)| (name.to_owned(), value.into())).collect();
    out.insert(FORWARDED.to_owned(), forwarded.into());
    out
}

/// One that lasts no longer than this is fetched anew, in seconds.
const LASTS_S: u64 = 60;

/// Who asks for a ticket, and what it is kept with.
#[derive(Clone, Copy)]
pub struct Holder<'a> {
    pub session: Uuid,
    /// The crossing that tells of the admission.
    pub crossing: CrossingId,
    /// Whether the admission has ended meanwhile, so that nothing is kept for it.
    pub is_over: &'a (dyn Fn() -> bool + Sync),
}

/// What becomes of a request for which there is no ticket, or none that its application takes.
pub enum Without {
    /// The browser is asked to send another ticket: the person signs in again.
    SignInAgain,
    /// It is refused, and this crossing tells why.
    Refused(CrossingId),
}

/// Whether a session came with a ticket that a gate needs, and that is not here: its browser has to send another.
pub fn lost(engine: &Engine, site: &Site, gate: &str, session: &Session) -> bool {
    let Some(ticket) = site.gate(gate).and_then(|g| g.ticket()) else { return false };
    needs_sent(ticket) && was_sent(&session.evidence) && engine.delegations.sent(session.row.id).is_none()
}

/// Whether nothing else will do than what a browser sent along.
fn needs_sent(ticket: &UpstreamTicket) -> bool {
    ticket.takes_forwarded() && ticket.behalf.is_none()
}

fn was_sent(evidence: &Evidence) -> bool {
    evidence.claims.get(FORWARDED).and_then(serde_json::Value::as_bool) == Some(true)
}

/// A ticket for the application of a gate, as the person of a session; `anew` when the one before was not taken.
///
/// # Errors
/// Why there is none.
pub async fn ticket(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    holder: Holder<'_>,
    anew: bool,
) -> Result<Shown, Box<TicketFailed>> {
    let failed = |step: Step| Box::new(TicketFailed::of(step));
    let Some(wanted) = gate.ticket() else {
        return Err(failed(step!(UpstreamTicketFailed { service: "?", how: "the gate asks for none" })));
    };
    let slot = engine.delegations.slot((holder.session, gate.name.clone(), edition.number), engine.now());
    let mut held = slot.held.lock().await;
    if let Some(delegation) = held.as_ref().filter(|s| !anew && s.lasts() > LASTS_S).cloned() {
        // Others of the session need not wait for this.
        drop(held);
        if let Ok(shown) = behalf::next_kept(engine.kerberos(), delegation, &wanted.service).await {
            return Ok(shown);
        }
        held = slot.held.lock().await;
    }
    *held = None;
    let began = std::time::Instant::now();
    let (delegation, shown, by) = fetch(engine, edition, gate, wanted, holder.session).await?;
    let millis = i64::try_from(began.elapsed().as_millis()).unwrap_or(i64::MAX);
    // What ended meanwhile keeps nothing.
    if !(holder.is_over)() {
        *held = Some(delegation.clone());
    }
    let step =
        step!(UpstreamTicket { person: delegation.person(), service: wanted.service.as_str(), by: Param::reason(by), millis });
    let (engine, id) = (engine.clone(), holder.crossing);
    tokio::spawn(async move {
        if let Err(e) = engine.store.extend(id, serde_json::json!([step]), engine.now()).await {
            tracing::warn!(error = %e, crossing = %id, "that a ticket was had could not be written");
        }
    });
    Ok(shown)
}

async fn fetch(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    wanted: &UpstreamTicket,
    session: Uuid,
) -> Result<(Arc<Delegation>, Shown, &'static str), Box<TicketFailed>> {
    let failed = |step: Step| Box::new(TicketFailed::of(step));
    let service = wanted.service.as_str();
    let broken = |how: String| failed(step!(UpstreamTicketFailed { service, how }));
    let row = engine.store.session(session).await.map_err(|e| broken(e.to_string()))?;
    let evidence = row.and_then(|r| Evidence::from_stored(r.evidence)).ok_or_else(|| broken("the session is gone".into()))?;
    let mut last = None;
    for by in &wanted.by {
        match by {
            By::Forwarded => match engine.delegations.sent(session) {
                Some(delegation) => match behalf::next(engine.kerberos(), delegation.clone(), service).await {
                    Ok(shown) => return Ok((delegation, shown, "by-forwarded")),
                    Err(why) => last = Some(failed(step_of(why, delegation.person(), delegation.person(), service))),
                },
                None => {
                    let step = step!(UpstreamTicketNotSent { service, way: evidence.way() });
                    last = Some(Box::new(TicketFailed { step, lost: was_sent(&evidence) }));
                }
            },
            By::OnBehalf => {
                let Some((of, link)) = wanted.behalf.as_ref().zip(engine.behalf(&gate.name)) else { continue };
                let who = identify(&edition.site, &gate.access, &evidence, &mut Silent);
                let person = of.principal(&evidence, &who).map_err(|why| {
                    let why = match why {
                        NoPrincipal::Absent(a) => a.param(),
                        NoPrincipal::Unfit => Param::reason("unfit-name"),
                    };
                    failed(step!(UpstreamTicketNoName { attribute: edition.site.attribute_name(of.person), why }))
                })?;
                match link.first(&person, service).await {
                    Ok((delegation, shown)) => return Ok((delegation, shown, "by-on-behalf")),
                    Err(why) => last = Some(failed(step_of(why, &person, link.principal(), service))),
                }
            }
        }
    }
    Err(last.unwrap_or_else(|| broken("the gate says of no way to one".into())))
}

fn step_of(why: NoTicket, person: &str, account: &str, service: &str) -> Step {
    let realm = service.rsplit_once('@').map_or("?", |(_, r)| r);
    match why {
        NoTicket::NotAllowed => step!(UpstreamTicketNotAllowed { account, service }),
        NoTicket::Account => step!(UpstreamTicketAccount { account }),
        NoTicket::Person => step!(UpstreamTicketPerson { person, account }),
        NoTicket::Revoked => step!(UpstreamTicketRevoked { person }),
        NoTicket::Nobody => step!(UpstreamTicketNobody { person }),
        NoTicket::NoService => step!(UpstreamTicketNoService { service }),
        NoTicket::Own(how) => step!(UpstreamTicketOwn { account, how }),
        NoTicket::Silent(how) => step!(UpstreamTicketSilent { realm, how }),
        NoTicket::Failed(how) => step!(UpstreamTicketFailed { service, how }),
    }
}

/// Whether a failure says something of the person, rather than that something is broken.
pub fn refuses(failed: &TicketFailed) -> bool {
    matches!(
        failed.step.code,
        StepCode::UpstreamTicketNotAllowed
            | StepCode::UpstreamTicketAccount
            | StepCode::UpstreamTicketPerson
            | StepCode::UpstreamTicketRevoked
            | StepCode::UpstreamTicketNobody
            | StepCode::UpstreamTicketNoName
            | StepCode::UpstreamTicketNotSent
    )
}

/// Records that a request has no ticket, or none that its application takes. The same failure of the same session is one crossing for a
/// while.
///
/// # Errors
/// The store does not take the record.
pub async fn without(
    engine: &Engine,
    edition: &Edition,
    gate: &str,
    attempt: &mut Attempt,
    failed: TicketFailed,
    navigates: bool,
) -> Result<Without, StoreError> {
    let now = engine.now();
    let session = attempt.session.unwrap_or_default();
    let slot = engine.delegations.slot((session, gate.to_owned(), edition.number), now);
    if failed.lost && navigates && slot.may_ask(now) {
        return Ok(Without::SignInAgain);
    }
    let outcome = if refuses(&failed) { Outcome::Refused } else { Outcome::Failed };
    if let Ok(Some(row)) = engine.store.session(session).await {
        attempt.is_of(&row);
    }
    attempt.step(|| failed.step.clone());
    if let Some(id) = slot.recorded(&failed.step, now) {
        return Ok(Without::Refused(id));
    }
    attempt.record(outcome).await?;
    slot.note(failed.step, now, attempt.id);
    Ok(Without::Refused(attempt.id))
}

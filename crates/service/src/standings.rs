//! Tickets for applications that know nothing but Kerberos, kept for live sessions in this node's memory and nowhere else.
//!
//! Each session has a standing of its own at each gate: the right to ask for services as its person, got from what their browser
//! sent along or by an account of ours. It is fetched at the first request, anew when it runs out or is not taken, and gone with the
//! session. What another node had, or this one before it was started anew, is fetched again on behalf; a ticket that a browser sent
//! along can only be sent again, so that the browser is asked for it.

use std::sync::Arc;

use axum::response::{IntoResponse, Response};
use http::{HeaderValue, StatusCode};
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::identity::identify;
use passeur_core::site::{By, Gate, NoPrincipal, Site, UpstreamTicket};
use passeur_core::step::{Param, Silent, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_gateway::admission::Admission;
use passeur_gateway::control::{Proof, Proves, Ticket, TicketFailed};
use passeur_gateway::cookies;
use passeur_links::kerberos::{NoTicket, Shown, Standing, behalf};
use passeur_live::edition::Edition;

use crate::api::problem;
use crate::app::App;
use crate::pages::{self, redirect};
use crate::signin::ask::Purposed;
use crate::signin::session::Session;

/// The claim that says whether a browser sent a ticket along.
pub const FORWARDED: &str = "forwarded";
/// One that lasts no longer than this is fetched anew, in seconds.
const LASTS_S: u64 = 60;

/// Whether a session came with a ticket that a place needs, and that is not here: its browser has to send another.
pub fn lost(app: &App, site: &Site, to: &Purposed, session: &Session) -> bool {
    let Purposed::Gate(ask) = to else { return false };
    let Some(ticket) = site.gate(&ask.gate).and_then(|g| g.ticket.as_ref()) else { return false };
    needs_sent(ticket) && was_sent(&session.evidence) && app.delegations.sent(session.row.id).is_none()
}

/// Whether nothing else will do than what a browser sent along.
fn needs_sent(ticket: &UpstreamTicket) -> bool {
    ticket.takes_forwarded() && ticket.behalf.is_none()
}

fn was_sent(evidence: &Evidence) -> bool {
    evidence.claims.get(FORWARDED).and_then(serde_json::Value::as_bool) == Some(true)
}

/// Judges an application's answer.
struct Judge(Shown);

impl Proves for Judge {
    fn person(&self) -> &str {
        self.0.person()
    }
    fn proves(self: Box<Self>, token: &[u8]) -> Result<(), String> {
        self.0.proves(token).map_err(|e| e.words)
    }
}

/// Whether an application proved itself.
pub async fn proves(app: &App, proof: Proof, token: Vec<u8>) -> Result<(), String> {
    app.kerberos().reckon(move || proof.0.proves(&token)).await.map_err(|e| e.to_string())?
}

/// A ticket for the application of a gate, as the person of an admission.
///
/// # Errors
/// Why there is none.
pub async fn ticket(
    app: &App,
    edition: &Edition,
    gate: &Gate,
    admission: &Admission,
    anew: bool,
) -> Result<Ticket, Box<TicketFailed>> {
    let failed = |step: Step| Box::new(TicketFailed::of(step));
    let Some(wanted) = &gate.ticket else {
        return Err(failed(none(StepCode::UpstreamTicketFailed, "?").with("how", "the gate asks for none")));
    };
    let slot = app.delegations.slot((admission.session.id, gate.name.clone(), edition.number), app.now());
    let mut held = slot.held.lock().await;
    if let Some(standing) = held.as_ref().filter(|s| !anew && s.lasts() > LASTS_S).cloned() {
        // Others of the session need not wait for this.
        drop(held);
        if let Ok(shown) = behalf::next(app.kerberos(), standing, &wanted.service, true).await {
            return Ok(told(shown));
        }
        held = slot.held.lock().await;
    }
    *held = None;
    let began = std::time::Instant::now();
    let (standing, shown, by) = fetch(app, edition, gate, wanted, admission).await?;
    let millis = i64::try_from(began.elapsed().as_millis()).unwrap_or(i64::MAX);
    // What ended meanwhile keeps nothing.
    if !admission.is_over() {
        *held = Some(standing.clone());
    }
    let step = Step::new(StepCode::UpstreamTicket)
        .with("person", standing.person())
        .with("service", wanted.service.as_str())
        .with("by", Param::reason(by))
        .with("millis", millis);
    let (app, id) = (app.clone(), admission.crossing);
    tokio::spawn(async move {
        if let Err(e) = app.store.extend(id, serde_json::json!([step]), app.now()).await {
            tracing::warn!(error = %e, crossing = %id, "that a ticket was had could not be written");
        }
    });
    Ok(told(shown))
}

fn told(shown: Shown) -> Ticket {
    use base64::Engine;
    use base64::engine::general_purpose::STANDARD;
    let text = format!("Negotiate {}", STANDARD.encode(shown.token()));
    // Base64 is always a header value.
    let value = HeaderValue::try_from(text).unwrap_or_else(|_| HeaderValue::from_static("Negotiate"));
    Ticket { value, proof: Proof(Box::new(Judge(shown))) }
}

fn none(code: StepCode, service: &str) -> Step {
    Step::new(code).with("service", service)
}

async fn fetch(
    app: &App,
    edition: &Edition,
    gate: &Gate,
    wanted: &UpstreamTicket,
    admission: &Admission,
) -> Result<(Arc<Standing>, Shown, &'static str), Box<TicketFailed>> {
    let failed = |step: Step| Box::new(TicketFailed::of(step));
    let service = wanted.service.as_str();
    let broken = |how: String| failed(none(StepCode::UpstreamTicketFailed, service).with("how", how));
    let row = app.store.session(admission.session.id).await.map_err(|e| broken(e.to_string()))?;
    let evidence = row.and_then(|r| Evidence::from_stored(r.evidence)).ok_or_else(|| broken("the session is gone".into()))?;
    let mut last = None;
    for by in &wanted.by {
        match by {
            By::Forwarded => match app.delegations.sent(admission.session.id) {
                Some(standing) => match behalf::next(app.kerberos(), standing.clone(), service, false).await {
                    Ok(shown) => return Ok((standing, shown, "by-forwarded")),
                    Err(why) => last = Some(failed(told_why(why, standing.person(), standing.person(), service))),
                },
                None => {
                    let step = none(StepCode::UpstreamTicketNotSent, service).with("way", evidence.way());
                    last = Some(Box::new(TicketFailed { step, lost: was_sent(&evidence) }));
                }
            },
            By::OnBehalf => {
                let Some((of, link)) = wanted.behalf.as_ref().zip(app.behalf(&gate.name)) else { continue };
                let who = identify(&edition.site, &gate.access, &evidence, &mut Silent);
                let person = of.principal(&evidence, &who).map_err(|why| {
                    let why = match why {
                        NoPrincipal::Absent(a) => a.param(),
                        NoPrincipal::Unfit => Param::reason("unfit-name"),
                    };
                    let step = Step::new(StepCode::UpstreamTicketNoName).with("why", why);
                    failed(step.with("attribute", edition.site.attribute_name(of.person)))
                })?;
                match link.first(&person, service).await {
                    Ok((standing, shown)) => return Ok((standing, shown, "by-on-behalf")),
                    Err(why) => last = Some(failed(told_why(why, &person, link.principal(), service))),
                }
            }
        }
    }
    Err(last.unwrap_or_else(|| broken("the gate says of no way to one".into())))
}

fn told_why(why: NoTicket, person: &str, account: &str, service: &str) -> Step {
    let realm = service.rsplit_once('@').map_or("?", |(_, r)| r);
    let step = |code| Step::new(code);
    match why {
        NoTicket::NotAllowed => step(StepCode::UpstreamTicketNotAllowed).with("account", account).with("service", service),
        NoTicket::Account => step(StepCode::UpstreamTicketAccount).with("account", account),
        NoTicket::Person => step(StepCode::UpstreamTicketPerson).with("person", person).with("account", account),
        NoTicket::Revoked => step(StepCode::UpstreamTicketRevoked).with("person", person),
        NoTicket::Nobody => step(StepCode::UpstreamTicketNobody).with("person", person),
        NoTicket::NoService => step(StepCode::UpstreamTicketNoService).with("service", service),
        NoTicket::Own(how) => step(StepCode::UpstreamTicketOwn).with("account", account).with("how", how),
        NoTicket::Silent(how) => step(StepCode::UpstreamTicketSilent).with("realm", realm).with("how", how),
        NoTicket::Failed(how) => step(StepCode::UpstreamTicketFailed).with("service", service).with("how", how),
    }
}

/// Whether a failure says something of the person, rather than that something is broken.
fn refuses(code: StepCode) -> bool {
    matches!(
        code,
        StepCode::UpstreamTicketNotAllowed
            | StepCode::UpstreamTicketAccount
            | StepCode::UpstreamTicketPerson
            | StepCode::UpstreamTicketRevoked
            | StepCode::UpstreamTicketNobody
            | StepCode::UpstreamTicketNoName
            | StepCode::UpstreamTicketNotSent
    )
}

/// Answers a request for which there is no ticket, or none that its application takes.
pub async fn answer(
    app: &App,
    mut attempt: Attempt,
    gate: &str,
    admission: &Admission,
    failed: TicketFailed,
    facts: &RequestFacts,
) -> Response {
    let Some(edition) = app.live.get() else {
        return StatusCode::BAD_GATEWAY.into_response();
    };
    let site = &edition.site;
    let (session, now) = (admission.session.id, app.now());
    let slot = app.delegations.slot((session, gate.to_owned(), edition.number), now);
    if let Some(gate) = site.gate(gate).filter(|_| failed.lost && facts.navigates && slot.may_ask(now)) {
        // Without the gate's token the person is sent to sign in, where their browser is asked for another ticket.
        let (cookie, secure) = gate.address.cookie("gate");
        let forget = cookies::set(&cookie, "", secure, Some(0));
        return redirect(&gate.address.at(&facts.target), Some(&forget));
    }
    let refuses = refuses(failed.step.code);
    let (outcome, status) =
        if refuses { (Outcome::Refused, StatusCode::FORBIDDEN) } else { (Outcome::Failed, StatusCode::BAD_GATEWAY) };
    if let Ok(Some(row)) = app.store.session(session).await {
        attempt.is_of(&row);
    }
    attempt.step(|| failed.step.clone());
    let id = match slot.told(&failed.step, now) {
        Some(id) => id,
        None => {
            if let Err(e) = attempt.record(outcome).await {
                return pages::store_failed(site, facts.lang, &e).into_response();
            }
            slot.tell(failed.step, now, attempt.id);
            attempt.id
        }
    };
    if facts.wants_html {
        let refused = pages::Refused::of_step(&attempt, id, None);
        return pages::refused(site, facts.lang, status, &refused).into_response();
    }
    let words = "The application behind this gate takes Kerberos tickets, and there is none that it takes.";
    problem(status, "ticket", "No ticket for the application", words).with_crossing(id).into_response()
}

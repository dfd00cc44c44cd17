//! Tickets for applications behind a gate: the engine fetches them, and here they become header fields and answers (RFC 4559).

use axum::response::IntoResponse;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::{HeaderValue, Response, StatusCode};
use passeur_core::circumstances::RequestFacts;
use passeur_core::site::Gate;
use passeur_engine::Engine;
use passeur_engine::attempt::Attempt;
use passeur_engine::tickets::{self, Holder, Without};
use passeur_gateway::admission::Admission;
use passeur_gateway::body::Body;
use passeur_gateway::control::{Proof, Proves, Ticket};
use passeur_http::cookies;
use passeur_links::kerberos::Shown;
use passeur_live::edition::Edition;
use passeur_live::ticket::TicketFailed;
use passeur_signin::pages::{self, redirect};
use passeur_signin::problem::problem;

use super::{plain, refuse};

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
pub async fn proves(engine: &Engine, proof: Proof, token: Vec<u8>) -> Result<(), String> {
    engine.kerberos().reckon(move || proof.0.proves(&token)).await.map_err(|e| e.to_string())?
}

/// A ticket for the application of a gate, as the person of an admission.
///
/// # Errors
/// Why there is none.
pub async fn ticket(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    admission: &Admission,
    anew: bool,
) -> Result<Ticket, Box<TicketFailed>> {
    let is_over = || admission.is_over();
    let holder = Holder { session: admission.session.id, crossing: admission.crossing, is_over: &is_over };
    let shown = tickets::ticket(engine, edition, gate, holder, anew).await?;
    let text = format!("Negotiate {}", STANDARD.encode(shown.token()));
    // Base64 is always a header value.
    let value = HeaderValue::try_from(text).unwrap_or_else(|_| HeaderValue::from_static("Negotiate"));
    Ok(Ticket { value, proof: Proof(Box::new(Judge(shown))) })
}

/// Answers a request for which there is no ticket, or none that its application takes.
pub async fn answer(
    engine: &Engine,
    mut attempt: Attempt,
    gate: &str,
    failed: TicketFailed,
    facts: &RequestFacts,
) -> Response<Body> {
    let Some(edition) = engine.live.get() else {
        return plain(StatusCode::BAD_GATEWAY.into_response());
    };
    let site = &edition.site;
    let status = if tickets::refuses(&failed) { StatusCode::FORBIDDEN } else { StatusCode::BAD_GATEWAY };
    let id = match tickets::without(engine, &edition, gate, &mut attempt, failed, facts.navigates).await {
        Ok(Without::Refused(id)) => id,
        Ok(Without::SignInAgain) => match site.gate(gate) {
            // Without the gate's token the person is sent to sign in, where their browser is asked for another ticket.
            Some(gate) => {
                let (cookie, secure) = gate.address.cookie("gate");
                return plain(redirect(&gate.address.at(&facts.target), Some(&cookies::set(&cookie, "", secure, Some(0)))));
            }
            None => return plain(StatusCode::BAD_GATEWAY.into_response()),
        },
        Err(e) => return plain(pages::store_failed(site, facts.lang, &e).into_response()),
    };
    let words = "The application behind this gate takes Kerberos tickets, and there is none that it takes.";
    let otherwise = problem(status, "ticket", "No ticket for the application", words);
    refuse(site, facts, &pages::Refused::of_step(&attempt, id, None), otherwise)
}

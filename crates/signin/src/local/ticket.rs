//! A Kerberos ticket that the person's machine holds (RFC 4559), or their password in its realm.
//!
//! One address of the sign-in host negotiates and nothing else does, once for a session: no request to a gate ever does, so that a
//! page's own requests in the background stay quick and no browser is asked at each. A browser that has no ticket shows what stands
//! in the answer, which goes on to another way in by itself; one whose ticket is not taken is told so and not asked again. Neither
//! can go round in a circle.
//!
//! A ticket proves who signed in to a machine, not who sits at it. So after somebody signed out, or where a fresh proof is wanted,
//! it is only taken when the person says so; and on machines that others use it is not taken at all.

use std::sync::Arc;

use axum::extract::{Path, State};
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::header::{AUTHORIZATION, CACHE_CONTROL, WWW_AUTHENTICATE};
use http::{HeaderMap, HeaderValue, StatusCode};
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::WayIn;
use passeur_core::site::{OfRealm, Site, TicketWay, Way, WayKind};
use passeur_core::step::{Param, Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_http::ServedCertificate;
use passeur_http::cookies::{self, Found};
use passeur_links::kerberos::{Delegation, NotTaken, behalf};
use passeur_protocols::kerberos::{Fault, Shown, bindings, enctype};
use serde_json::Map;

use super::{Asked, Proven, begin, came_back, realm_password};
use crate::ask::Manner;
use crate::flow::{self, failed_check, refuse};
use crate::pages::{self, Said, TicketPage, redirect};
use crate::route::Routed;
use crate::{LiveEdition, Visit, choose};
use passeur_engine::Engine;
use passeur_engine::tickets::FORWARDED;

/// The parameter by which a way in learns that somebody came on from this one.
pub const NO_TICKET: &str = "no-ticket";

/// Where the browser negotiates.
fn address(way: &Way, sealed: &str) -> String {
    format!("/.passeur/way/{}/ticket?flow={sealed}", way.name)
}

/// The step that tells what is asked for.
pub(super) fn shown(way: &Way, ticket: &TicketWay) -> Step {
    Step::new(StepCode::TicketAsked).with("way", way.name.as_str()).with("services", ticket.services())
}

/// Why a ticket is not taken without a word; none where it is.
fn waits(site: &Site, visit: &Visit, manner: &Manner) -> Option<&'static str> {
    if site.is_shared(visit.facts.address) {
        return Some("others-use-it");
    }
    if cookies::find(&visit.headers, &site.address.cookie("left").0) != Found::None {
        return Some("left-before");
    }
    manner.anew.then_some("asked-afresh")
}

/// Begins with this way in: on to where the browser negotiates, or a page that asks first.
pub(super) fn ask(asked: &Asked<'_>, ticket: &TicketWay, attempt: &mut Attempt) -> Response {
    let way = asked.way;
    let Some(why) = waits(asked.site(), asked.visit, &asked.flow.manner) else {
        return redirect(&address(way, asked.sealed), None);
    };
    attempt.step(|| Step::new(StepCode::TicketWaits).with("way", way.name.as_str()).with("why", Param::reason(why)));
    // A ticket of this morning proves nothing of now, however it is shown.
    let take = (why == "left-before").then(|| address(way, asked.sealed));
    let page = TicketPage { take: take.as_deref(), on: None, password: ticket.password };
    asked.form(Said::Nothing, |f| f.ticket(&page)).into_response()
}

/// `GET /.passeur/way/{name}/ticket`: asks for a ticket, and judges the one that comes.
pub async fn negotiate(
    State(engine): State<Engine>,
    edition: Option<LiveEdition>,
    Path(name): Path<String>,
    visit: Visit,
    served: Option<axum::Extension<ServedCertificate>>,
) -> Response {
    let lang = visit.facts.lang;
    let Some(LiveEdition(edition)) = edition else { return pages::not_set_up(lang).into_response() };
    let sealed = visit.parameter("flow").unwrap_or_default();
    let found = came_back(&engine, &edition, &visit, &name, &sealed, |w| matches!(w.kind, WayKind::Ticket(_))).await;
    let (flow, way, attempt) = match found {
        Ok(found) => found,
        Err(response) => return response,
    };
    let WayKind::Ticket(ticket) = &way.kind else { return pages::not_set_up(lang).into_response() };
    let asked = Asked { engine: &engine, edition: &edition, visit: &visit, way, flow: &flow, sealed: &sealed };
    match field(&visit.headers) {
        Ok(None) => challenge(&asked, ticket),
        Ok(Some(shown)) => {
            let bound = served.and_then(|s| bindings::end_point(&s.0.0));
            came(&asked, ticket, attempt, shown, bound).await
        }
        Err(twice) => fell(&asked, attempt, Step::new(StepCode::TicketUnreadable).with("why", Param::reason(twice))).await,
    }
}

/// What the browser sent; nothing where it sent none of it.
fn field(headers: &HeaderMap) -> Result<Option<Shown>, &'static str> {
    let mut all = headers.get_all(AUTHORIZATION).iter();
    match (all.next(), all.next()) {
        (None, _) => Ok(None),
        (Some(one), None) => Ok(Shown::read(one.as_bytes())),
        _ => Err("several-values"),
    }
}

/// Where somebody goes on to who has no ticket: the next way in of the route, or of the gate, that is not of this kind.
fn next_way(asked: &Asked<'_>) -> Option<String> {
    let site = asked.site();
    let routed = asked.flow.manner.routed.as_ref().and_then(|r| r.ways(asked.edition, &asked.flow.to));
    let ways = routed.unwrap_or_else(|| choose::offered(site, &asked.flow.to).into_iter().map(str::to_owned).collect());
    let is_ticket = |name: &str| site.way(name).is_some_and(|w| matches!(w.kind, WayKind::Ticket(_)));
    ways.into_iter().find(|w| !is_ticket(w))
}

/// Asks for a ticket. Who has none reads the page, and goes on.
fn challenge(asked: &Asked<'_>, ticket: &TicketWay) -> Response {
    let on = next_way(asked)
        .map(|way| format!("{}&{NO_TICKET}={}", choose::address(asked.engine, &asked.flow.to, Some(&way)), asked.way.name));
    // Whoever was sent here goes on; whoever chose this is asked for what stands for a ticket.
    let chosen = asked.flow.manner.routed.as_ref().is_some_and(Routed::was_chosen);
    let password = ticket.password && (chosen || on.is_none());
    let page = TicketPage { take: None, on: on.as_deref().filter(|_| !password), password };
    let mut response = asked.form(Said::NoTicket, |f| f.ticket(&page)).into_response();
    response.headers_mut().insert(WWW_AUTHENTICATE, HeaderValue::from_static("Negotiate"));
    response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

/// Something is wrong with what came: told once, and nobody is asked again by it.
async fn fell(asked: &Asked<'_>, mut attempt: Attempt, step: Step) -> Response {
    attempt.step(|| step);
    refuse(asked.edition, attempt, failed_check()).await
}

async fn came(asked: &Asked<'_>, way: &TicketWay, mut attempt: Attempt, shown: Shown, bound: Option<Vec<u8>>) -> Response {
    let (engine, site, lang) = (asked.engine, asked.site(), asked.visit.facts.lang);
    let step = |code| Step::new(code);
    let (ticket, token) = match shown {
        Shown::Ticket { ticket, token } => (*ticket, token),
        Shown::Ntlm => return fell(asked, attempt, step(StepCode::TicketNtlm).with("services", way.services())).await,
        Shown::Other { mechanisms } => {
            return fell(asked, attempt, step(StepCode::TicketOther).with("mechanisms", mechanisms)).await;
        }
        Shown::Later => {
            return fell(asked, attempt, step(StepCode::TicketUnreadable).with("why", Param::reason("token-later"))).await;
        }
        Shown::Unreadable(why) => {
            let why = Param::reason(&format!("token-{why}"));
            return fell(asked, attempt, step(StepCode::TicketUnreadable).with("why", why)).await;
        }
    };
    if let Some(network) = site.network_of(asked.visit.facts.address).filter(|n| n.shared) {
        return fell(asked, attempt, step(StepCode::TicketShared).with("network", network.name.as_str())).await;
    }
    let Some(link) = engine.tickets(&asked.way.name) else {
        return not_now(asked, attempt, "the way in is not in use on this node".to_owned()).await;
    };
    let taken = match link.judge(ticket, token, bound, engine.now()).await {
        Ok(taken) => taken,
        Err(NotTaken::NotNow(how)) => return not_now(asked, attempt, how).await,
        Err(NotTaken::Bindings) => return fell(asked, attempt, step(StepCode::TicketBindings)).await,
        Err(NotTaken::Other(how)) => return fell(asked, attempt, step(StepCode::TicketNotTaken).with("how", how)).await,
        Err(NotTaken::Fault(fault)) => return fell(asked, attempt, told(fault)).await,
    };
    // On every node together, and before anything is made of it.
    match engine.store.use_once(&taken.once.0, taken.once.1).await {
        Ok(true) => {}
        Ok(false) => {
            attempt.apart();
            return fell(asked, attempt, step(StepCode::TicketReplayed)).await;
        }
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    }
    attempt.step(|| {
        step(StepCode::TicketTaken)
            .with("client", taken.client.as_str())
            .with("service", taken.service.as_str())
            .with("kvno", version(taken.kvno))
            .with("enctype", enctype::name(taken.enctype))
            .with("proven", time(taken.proven))
            .with("bound", Param::reason(if taken.bound { "ticket-bound" } else { "ticket-unbound" }))
    });
    let sent = match taken.delegated {
        Some(sent) => {
            let of = behalf::forwarded(engine.kerberos(), sent, taken.client.clone()).await;
            of.inspect_err(|how| tracing::warn!(how, crossing = %attempt.id, "a ticket that came along cannot be used")).ok()
        }
        None => None,
    };
    let proven = match person(way, &taken.client) {
        Ok(of) => proven(&taken.client, &of, Some(taken.proven), sent.map(Arc::new)),
        Err(why) => return fell(asked, attempt, nobody(&taken.client, why)).await,
    };
    let mut response = begin(asked, attempt, proven).await;
    if let Some(answer) = taken.answer
        && let Ok(value) = HeaderValue::try_from(format!("Negotiate {}", STANDARD.encode(answer)))
    {
        response.headers_mut().insert(WWW_AUTHENTICATE, value);
    }
    response
}

/// Who a principal is.
pub(super) fn person<'a>(way: &TicketWay, client: &'a str) -> Result<OfRealm<'a>, &'static str> {
    way.person(client).map_err(passeur_core::site::Nobody::code)
}

/// The step that tells that a principal is nobody.
pub(super) fn nobody(client: &str, why: &str) -> Step {
    Step::new(StepCode::TicketNobody).with("client", client).with("why", Param::reason(why))
}

/// Somebody of a realm.
pub(super) fn proven(client: &str, of: &OfRealm<'_>, at: Option<Moment>, sent: Option<Arc<Delegation>>) -> Proven {
    let mut claims = Map::new();
    claims.insert("user".into(), of.user.clone().into());
    claims.insert("principal".into(), client.into());
    claims.insert("realm".into(), of.realm.into());
    claims.insert(FORWARDED.into(), sent.is_some().into());
    Proven {
        way_in: WayIn::Ticket,
        subject: client.to_owned(),
        name: of.user.clone(),
        claims,
        account: client.to_lowercase(),
        kept: None,
        // That somebody typed a password is another method than that their machine held a ticket.
        method: at.is_none().then_some("pwd"),
        at,
        sent,
    }
}

async fn not_now(asked: &Asked<'_>, mut attempt: Attempt, how: String) -> Response {
    attempt.step(|| Step::new(StepCode::TicketNotNow).with("way", asked.way.name.as_str()).with("how", how));
    refuse(asked.edition, attempt, flow::ended(Outcome::Failed, StatusCode::BAD_GATEWAY)).await
}

fn time(t: Moment) -> String {
    t.format("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// A key's version, where the KDC says it.
fn version(kvno: Option<u32>) -> String {
    kvno.map_or_else(|| "?".to_owned(), |v| v.to_string())
}

/// The step of a fault.
fn told(fault: Fault) -> Step {
    let versions = |all: Vec<u32>| all.iter().map(u32::to_string).collect::<Vec<_>>();
    let step = |code| Step::new(code);
    match fault {
        Fault::WrongService { asked, wanted } => {
            step(StepCode::TicketWrongService).with("asked", asked.to_string()).with("wanted", wanted)
        }
        Fault::RealmUnknown { realm, known } => step(StepCode::TicketRealm).with("realm", realm).with("known", known),
        Fault::NoKey { wanted, has } => step(StepCode::TicketNoKey).with("wanted", wanted.to_string()).with("has", has),
        Fault::KeyVersion { principal, wanted, has } => step(StepCode::TicketKeyVersion)
            .with("principal", principal.to_string())
            .with("wanted", i64::from(wanted))
            .with("has", versions(has)),
        Fault::Enctype { principal, wanted, has } => step(StepCode::TicketEnctype)
            .with("principal", principal.to_string())
            .with("wanted", enctype::name(wanted))
            .with("has", has.into_iter().map(enctype::name).collect::<Vec<_>>()),
        Fault::KeyDiffers { principal, kvno } => {
            step(StepCode::TicketKeyDiffers).with("principal", principal.to_string()).with("kvno", version(kvno))
        }
        Fault::Clock { seconds } => step(StepCode::TicketClock)
            .with("seconds", seconds.abs())
            .with("side", Param::reason(if seconds > 0 { "clock-ahead" } else { "clock-behind" }))
            .with("limit", passeur_links::kerberos::tickets::SKEW.num_seconds()),
        Fault::NotYet { starts } => step(StepCode::TicketNotYet).with("starts", time(starts)),
        Fault::Expired { ended } => step(StepCode::TicketExpired).with("ended", time(ended)),
    }
}

/// A form of this way in: a name and password of the realm.
pub(super) async fn tried(asked: &Asked<'_>, way: &TicketWay, attempt: Attempt, entered: &super::Entered) -> Response {
    if !way.password {
        return refuse(asked.edition, attempt, failed_check()).await;
    }
    realm_password::tried(asked, way, attempt, entered).await
}

/// What a page with the realm's password says.
pub(super) fn form(asked: &Asked<'_>, said: Said<'_>) -> Response {
    let page = TicketPage { take: None, on: None, password: true };
    asked.form(said, |f| f.ticket(&page)).into_response()
}

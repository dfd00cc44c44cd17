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

use axum::extract::Path;
use axum::response::{IntoResponse, Response};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use http::header::{AUTHORIZATION, CACHE_CONTROL, WWW_AUTHENTICATE};
use http::{HeaderMap, HeaderValue};
use passeur_core::Moment;
use passeur_core::evidence::WayIn;
use passeur_core::site::{OfRealm, TicketWay, Way, WayKind};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::Attempt;
use passeur_http::ServedCertificate;
use passeur_http::cookies::{self, Found};
use passeur_links::kerberos::{Delegation, NotTaken, behalf};
use passeur_protocols::kerberos::{Fault, Shown, bindings, enctype};

use passeur_engine::tickets;

use super::{Came, FormPage, Person, Try, came_back};
use crate::answer::answer;
use crate::journey::Incoming;
use crate::journey::destination::offered;
use crate::journey::routed::Routed;
use crate::journey::{Desk, Done, Manner, Why};
use crate::pages::{Said, TicketPage, redirect};

/// The parameter by which a way in learns that somebody came on from this one.
pub const NO_TICKET: &str = "no-ticket";

/// Where the browser negotiates.
fn address(way: &Way, sealed: &str) -> String {
    format!("/.passeur/way/{}/ticket?flow={sealed}", way.name)
}

/// The step that tells what is asked for.
pub(super) fn shown(way: &Way, ticket: &TicketWay) -> Step {
    step!(TicketAsked { way: way.name.as_str(), services: ticket.services() })
}

/// Why a ticket is not taken without a word; none where it is.
fn waits(desk: Desk<'_>, manner: &Manner) -> Option<&'static str> {
    let site = desk.site();
    if site.is_shared(desk.visit.facts.address) {
        return Some("others-use-it");
    }
    if cookies::find(&desk.visit.headers, &site.address.cookie("left").0) != Found::None {
        return Some("left-before");
    }
    manner.anew.then_some("asked-afresh")
}

/// Begins with this way in: on to where the browser negotiates, or a page that asks first.
pub(super) fn ask(form: FormPage<'_>, ticket: &TicketWay, manner: &Manner, attempt: &mut Attempt) -> Response {
    let way = form.way;
    let Some(why) = waits(form.desk, manner) else {
        return redirect(&address(way, form.sealed), None);
    };
    attempt.step(|| step!(TicketWaits { way: way.name.as_str(), why: Param::reason(why) }));
    // A ticket of this morning proves nothing of now, however it is shown.
    let take = (why == "left-before").then(|| address(way, form.sealed));
    let page = TicketPage { take: take.as_deref(), on: None, password: ticket.password };
    form.show(Said::Nothing, |f| f.ticket(&page)).into_response()
}

/// `GET /.passeur/way/{name}/ticket`: asks for a ticket, and judges the one that comes.
pub async fn negotiate(
    incoming: Incoming,
    Path(name): Path<String>,
    served: Option<axum::Extension<ServedCertificate>>,
) -> Response {
    let desk = incoming.desk();
    answer(negotiated(desk, &name, served.map(|s| s.0)).await).await
}

async fn negotiated<'a>(desk: Desk<'a>, name: &str, served: Option<ServedCertificate>) -> Done<'a> {
    let sealed = desk.visit.parameter("flow").unwrap_or_default();
    let mut tried = came_back(desk, name, sealed, |w| matches!(w.kind, WayKind::Ticket(_))).await?;
    let WayKind::Ticket(ticket) = &tried.way.kind else { return Err(tried.journey.stop(Why::NotSetUp)) };
    let shown = match field(&desk.visit.headers) {
        Ok(None) => return Ok(challenge(&tried, ticket)),
        Ok(Some(shown)) => shown,
        Err(twice) => {
            let fell = tried.fell(step!(TicketUnreadable { why: Param::reason(twice) }));
            return tried.end(fell).await;
        }
    };
    let bound = served.and_then(|s| bindings::end_point(&s.0));
    let (came, proof) = match came(&mut tried, ticket, shown, bound).await {
        Ok((came, proof)) => (Ok(came), proof),
        Err(why) => (Err(why), None),
    };
    let mut response = tried.end(came).await?;
    if let Some(proof) = proof
        && let Ok(value) = HeaderValue::try_from(format!("Negotiate {}", STANDARD.encode(proof)))
    {
        response.headers_mut().insert(WWW_AUTHENTICATE, value);
    }
    Ok(response)
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
fn next_way(tried: &Try<'_>) -> Option<String> {
    let (site, to) = (tried.site(), &tried.journey.to);
    let routed = tried.journey.leg().manner.routed.as_ref().and_then(|r| r.ways(tried.journey.desk.edition, to));
    let ways = routed.unwrap_or_else(|| offered(site, to).into_iter().map(str::to_owned).collect());
    let is_ticket = |name: &str| site.way(name).is_some_and(|w| matches!(w.kind, WayKind::Ticket(_)));
    ways.into_iter().find(|w| !is_ticket(w))
}

/// Asks for a ticket. Who has none reads the page, and goes on.
fn challenge(tried: &Try<'_>, ticket: &TicketWay) -> Response {
    let to = &tried.journey.to;
    let on = next_way(tried).map(|way| format!("{}&{NO_TICKET}={}", to.onward_by(tried.engine(), Some(&way)), tried.way.name));
    // Whoever was sent here goes on; whoever chose this is asked for what stands for a ticket.
    let chosen = tried.journey.leg().manner.routed.as_ref().is_some_and(Routed::was_chosen);
    let password = ticket.password && (chosen || on.is_none());
    let page = TicketPage { take: None, on: on.as_deref().filter(|_| !password), password };
    let mut response = tried.form(Said::NoTicket, |f| f.ticket(&page)).into_response();
    response.headers_mut().insert(WWW_AUTHENTICATE, HeaderValue::from_static("Negotiate"));
    response.headers_mut().insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    response
}

/// What a ticket comes to, and our answer to the browser's own proof. What is wrong with it is told once, and nobody is asked again by it.
async fn came(
    tried: &mut Try<'_>,
    way: &TicketWay,
    shown: Shown,
    bound: Option<Vec<u8>>,
) -> Result<(Came, Option<Vec<u8>>), Why> {
    let (engine, site, visit) = (tried.engine(), tried.site(), tried.journey.desk.visit);
    let (ticket, token) = match shown {
        Shown::Ticket { ticket, token } => (*ticket, token),
        Shown::Ntlm => return tried.fell(step!(TicketNtlm { services: way.services() })),
        Shown::Other { mechanisms } => return tried.fell(step!(TicketOther { mechanisms })),
        Shown::Later => return tried.fell(step!(TicketUnreadable { why: Param::reason("token-later") })),
        Shown::Unreadable(why) => {
            let why = Param::reason(&format!("token-{why}"));
            return tried.fell(step!(TicketUnreadable { why }));
        }
    };
    if let Some(network) = site.network_of(visit.facts.address).filter(|n| n.shared) {
        return tried.fell(step!(TicketShared { network: network.name.as_str() }));
    }
    let Some(link) = engine.tickets(&tried.way.name) else {
        return not_now(tried, "the way in is not in use on this node".to_owned());
    };
    let taken = match link.judge(ticket, token, bound, engine.now()).await {
        Ok(taken) => taken,
        Err(NotTaken::NotNow(how)) => return not_now(tried, how),
        Err(NotTaken::Bindings) => return tried.fell(step!(TicketBindings)),
        Err(NotTaken::Other(how)) => return tried.fell(step!(TicketNotTaken { how })),
        Err(NotTaken::Fault(fault)) => return tried.fell(step_of(fault)),
    };
    // On every node together, and before anything is made of it.
    if !engine.store.use_once(&taken.once.0, taken.once.1).await? {
        tried.journey.attempt.apart();
        return tried.fell(step!(TicketReplayed));
    }
    tried.step(|| {
        step!(TicketTaken {
            client: taken.client.as_str(),
            service: taken.service.as_str(),
            kvno: version(taken.kvno),
            enctype: enctype::name(taken.enctype),
            proven: time(taken.proven),
            bound: Param::reason(if taken.bound { "ticket-bound" } else { "ticket-unbound" })
        })
    });
    let id = tried.journey.attempt.id;
    let sent = match taken.delegated {
        Some(sent) => {
            let of = behalf::forwarded(engine.kerberos(), sent, taken.client.clone()).await;
            of.inspect_err(|how| tracing::warn!(how, crossing = %id, "a ticket that came along cannot be used")).ok()
        }
        None => None,
    };
    match person(way, &taken.client) {
        Ok(of) => {
            let person = proven(&taken.client, &of, taken.proven, sent.map(Arc::new));
            Ok((tried.prove(person).await?, taken.answer))
        }
        Err(why) => tried.fell(nobody(&taken.client, why)),
    }
}

/// Who a principal is.
fn person<'a>(way: &TicketWay, client: &'a str) -> Result<OfRealm<'a>, &'static str> {
    way.person(client).map_err(passeur_core::site::Nobody::code)
}

/// The step that tells that a principal is nobody.
fn nobody(client: &str, why: &str) -> Step {
    step!(TicketNobody { client, why: Param::reason(why) })
}

/// Somebody of a realm.
fn proven(client: &str, of: &OfRealm<'_>, at: Moment, sent: Option<Arc<Delegation>>) -> Person {
    Person {
        way_in: WayIn::Ticket,
        subject: client.to_owned(),
        name: of.user.clone(),
        claims: tickets::claims(client, of, sent.is_some()),
        account: client.to_lowercase(),
        kept: None,
        method: None,
        at: Some(at),
        sent,
    }
}

fn not_now<T>(tried: &mut Try<'_>, how: String) -> Result<T, Why> {
    let way = tried.way.name.as_str();
    tried.step(|| step!(TicketNotNow { way, how }));
    Err(Why::SILENT)
}

fn time(t: Moment) -> String {
    t.format("%Y-%m-%d %H:%M:%S UTC").to_string()
}

/// A key's version, where the KDC says it.
fn version(kvno: Option<u32>) -> String {
    kvno.map_or_else(|| "?".to_owned(), |v| v.to_string())
}

/// The step of a fault.
fn step_of(fault: Fault) -> Step {
    let versions = |all: Vec<u32>| all.iter().map(u32::to_string).collect::<Vec<_>>();
    match fault {
        Fault::WrongService { asked, wanted } => {
            step!(TicketWrongService { asked: asked.to_string(), wanted })
        }
        Fault::RealmUnknown { realm, known } => step!(TicketRealm { realm, known }),
        Fault::NoKey { wanted, has } => step!(TicketNoKey { wanted: wanted.to_string(), has }),
        Fault::KeyVersion { principal, wanted, has } => {
            step!(TicketKeyVersion { principal: principal.to_string(), wanted: i64::from(wanted), has: versions(has) })
        }
        Fault::Enctype { principal, wanted, has } => step!(TicketEnctype {
            principal: principal.to_string(),
            wanted: enctype::name(wanted),
            has: has.into_iter().map(enctype::name).collect::<Vec<_>>()
        }),
        Fault::KeyDiffers { principal, kvno } => {
            step!(TicketKeyDiffers { principal: principal.to_string(), kvno: version(kvno) })
        }
        Fault::Clock { seconds } => step!(TicketClock {
            seconds: seconds.abs(),
            side: Param::reason(if seconds > 0 { "clock-ahead" } else { "clock-behind" }),
            limit: passeur_links::kerberos::tickets::SKEW.num_seconds()
        }),
        Fault::NotYet { starts } => step!(TicketNotYet { starts: time(starts) }),
        Fault::Expired { ended } => step!(TicketExpired { ended: time(ended) }),
    }
}

/// What a page with the realm's password says.
pub(super) fn form(tried: &Try<'_>, said: Said<'_>) -> Response {
    let page = TicketPage { take: None, on: None, password: true };
    tried.form(said, |f| f.ticket(&page)).into_response()
}

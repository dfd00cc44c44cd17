//! Gates of kind `vpn`, wired: somebody who is signed in says that a tunnel is theirs, or takes a code for a client that opens no browser.

use std::net::IpAddr;
use std::time::Duration as StdDuration;

use axum::response::IntoResponse;
use chrono::Duration;
use http::request::Parts;
use http::{Method, Response, StatusCode};
use passeur_core::address::neighbourhood;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome as CrossingOutcome;
use passeur_core::id::Token;
use passeur_core::site::{Browser, Gate};
use passeur_core::step;
use passeur_engine::attempt::Attempt;
use passeur_engine::short_code;
use passeur_engine::tunnel::{self, Outcome, TunnelOf};
use passeur_gate_network::entering::wanted_terms;
use passeur_gateway::body::Body;
use passeur_live::edition::Edition;
use passeur_signin::Visit;
use passeur_signin::pages::{self, TunnelSaid, Waiting};
use passeur_signin::problem::problem;
use passeur_store::{SessionRow, StoreError, TunnelAskRow};
use uuid::Uuid;

use super::{WebGate, plain, session_of};
use crate::guard::from_own_page;

/// How long a code that is read out to a client is good for.
const CODE_LASTS: Duration = Duration::minutes(2);
/// What a gate's own page sends.
const POSTS: [&str; 4] = ["/.passeur/connect", "/.passeur/connect-code", "/.passeur/profile", "/.passeur/profile-revoke"];

/// How long a page waits for what comes of a tunnel, and how often it looks.
const WAITS: u32 = 80;
const LOOKS: StdDuration = StdDuration::from_millis(100);

/// The page at a tunnel's address, for somebody whom the gate has let in; none where the address is another.
pub(super) async fn page(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    session: Uuid,
    facts: &RequestFacts,
) -> Option<Response<Body>> {
    let path = facts.target.split('?').next().filter(|_| gate.is_vpn())?;
    if path == super::profile::PATH && gate.network().is_some_and(|n| n.authority.is_some()) {
        let done = super::profile::page(web, edition, gate, session, facts).await;
        return Some(done.unwrap_or_else(|e| plain(pages::store_failed(&edition.site, facts.lang, &e).into_response())));
    }
    if path != tunnel::PATH {
        return None;
    }
    let done = async {
        let row = web.engine.store.session(session).await?;
        let token = tunnel::token_in(&facts.target);
        if let Some(whom) = &row
            && let Some(terms) = wanted_terms(&web.engine, gate, &whom.person()).await?
        {
            let ask = token.as_ref().map(Token::reveal);
            return Ok(pages::terms_page(&edition.site, gate, facts.lang, (&whom.name, terms), ask));
        }
        let who = row.map(|r| r.name).unwrap_or_default();
        let asked = tunnel::asked(&web.engine, gate, &facts.target).await?;
        Ok::<_, StoreError>(match (asked, token) {
            (Some((row, of)), Some(token)) => said(edition, gate, facts, (&who, session), (&row, &of, &token)),
            _ => pages::tunnel(&edition.site, gate, facts.lang, &who, &TunnelSaid::NoSuch),
        })
    };
    Some(plain(match done.await {
        Ok(page) => page.into_response(),
        Err(e) => pages::store_failed(&edition.site, facts.lang, &e).into_response(),
    }))
}

fn said(
    edition: &Edition,
    gate: &Gate,
    facts: &RequestFacts,
    (who, session): (&str, Uuid),
    (row, of, token): (&TunnelAskRow, &TunnelOf, &Token),
) -> pages::Page {
    let site = &edition.site;
    // What came of it is for whoever said that it is theirs.
    if (row.session_id.is_some() && row.session_id != Some(session)) || row.refused {
        return pages::tunnel(site, gate, facts.lang, who, &TunnelSaid::NoSuch);
    }
    if let Some(outcome) = row.outcome.clone().and_then(|o| serde_json::from_value::<Outcome>(o).ok()) {
        return pages::tunnel(site, gate, facts.lang, who, &TunnelSaid::Came(&outcome));
    }
    if row.session_id.is_some() {
        return pages::tunnel(site, gate, facts.lang, who, &TunnelSaid::StillOpening);
    }
    let entrance = site.zone(&of.facts.entrance);
    let browser = facts.address.to_string();
    let is_near = is_near(facts.address, of.outside);
    let waiting = Waiting {
        ask: token.reveal(),
        tunnel: of,
        entrance: entrance.map_or("?", |z| z.title.as_str()),
        browser: &browser,
        is_near,
    };
    let takes = is_near || entrance.and_then(|z| z.tunnel()).is_some_and(|t| t.browser == Browser::Anywhere);
    let said = if takes { TunnelSaid::Ask(waiting) } else { TunnelSaid::Elsewhere(waiting) };
    pages::tunnel(site, gate, facts.lang, who, &said)
}

/// Whether two addresses are one, or of one /64.
fn is_near(one: IpAddr, other: IpAddr) -> bool {
    neighbourhood(one.to_canonical()) == neighbourhood(other.to_canonical())
}

/// Answers under `/.passeur/` of a gate of kind `vpn`; none where the address is that of another page.
pub(super) async fn own_page(web: &WebGate, edition: &Edition, gate: &Gate, parts: &Parts) -> Option<Response<Body>> {
    let path = parts.uri.path();
    if gate.is_vpn() && parts.method == Method::GET && path == "/.passeur/profile.js" {
        return Some(super::profile::script());
    }
    if !gate.is_vpn() || parts.method != Method::POST || !POSTS.contains(&path) {
        return None;
    }
    if !from_own_page(&parts.headers, &gate.address.origin()) {
        let words = "A tunnel is answered for on the gate's own page.";
        return Some(plain(problem(StatusCode::FORBIDDEN, "cross-site", "Not from our own page", words).into_response()));
    }
    let back = || Some(plain(pages::redirect(&gate.address.at("/"), None)));
    let Some(visit) = Visit::of(parts) else { return back() };
    let answered = async {
        let Some(row) = session_of(web, edition, gate, &visit).await? else { return Ok(None) };
        // Whoever says that a machine is not theirs accepts nothing for it.
        let is_no = path == "/.passeur/connect" && visit.parameter("answer").as_deref() == Some("no");
        if wanted_terms(&web.engine, gate, &row.person()).await?.is_some() && !is_no {
            let ask = visit.parameter("ask").and_then(|a| Token::parse(&a));
            let target = ask.map_or_else(|| "/".to_owned(), |token| tunnel::target(&token));
            return Ok(Some(plain(pages::redirect(&gate.address.at(&target), None))));
        }
        match path {
            "/.passeur/connect-code" => code(web, edition, gate, &row, &visit).await.map(Some),
            "/.passeur/profile" => super::profile::make(web, edition, gate, &row, &visit).await.map(Some),
            "/.passeur/profile-revoke" => super::profile::revoke(web, gate, &row, &visit).await.map(Some),
            _ => answer(web, edition, gate, &row, &visit).await,
        }
    };
    match answered.await {
        Ok(Some(response)) => Some(response),
        Ok(None) => back(),
        Err(e) => Some(plain(pages::store_failed(&edition.site, visit.facts.lang, &e).into_response())),
    }
}

/// Somebody says that a tunnel is theirs, or that it is not.
async fn answer(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    session: &SessionRow,
    visit: &Visit,
) -> Result<Option<Response<Body>>, StoreError> {
    let Some(token) = visit.parameter("ask").and_then(|a| Token::parse(&a)) else { return Ok(None) };
    let (target, facts) = (tunnel::target(&token), &visit.facts);
    let show =
        |said: &TunnelSaid<'_>| Some(plain(pages::tunnel(&edition.site, gate, facts.lang, &session.name, said).into_response()));
    let Some((_, of)) = tunnel::asked(&web.engine, gate, &target).await? else { return Ok(show(&TunnelSaid::NoSuch)) };
    let is_theirs = visit.parameter("answer").as_deref() == Some("yes");
    let anywhere = edition.site.zone(&of.facts.entrance).and_then(|z| z.tunnel()).is_some_and(|t| t.browser == Browser::Anywhere);
    let entrance = of.facts.entrance.as_str();
    if is_theirs && !anywhere && !is_near(facts.address, of.outside) {
        let mut attempt = Attempt::begin(&web.engine, gate.place(), facts);
        attempt.is_of(session);
        let (browser, outside) = (facts.address.to_string(), of.outside.to_string());
        attempt.step(|| step!(TunnelBrowserRefused { entrance, browser, outside }));
        attempt.record(CrossingOutcome::Refused).await?;
        return Ok(Some(plain(pages::redirect(&gate.address.at(&target), None))));
    }
    let whose = is_theirs.then_some(session.id);
    let first = web.engine.store.answer_tunnel(&token.digest(), whose, &facts.address.to_string(), web.engine.now()).await?;
    if first && !is_theirs {
        let mut attempt = Attempt::begin(&web.engine, gate.place(), facts);
        attempt.is_of(session);
        let outside = of.outside.to_string();
        attempt.step(|| step!(TunnelDenied { entrance, outside }));
        attempt.record(CrossingOutcome::Refused).await?;
        return Ok(show(&TunnelSaid::Came(&Outcome::Denied)));
    }
    // The node at whose server the client waits lets it in.
    for _ in 0..WAITS {
        let row = web.engine.store.tunnel_ask(&token.digest(), web.engine.now()).await?;
        let Some(row) = row.filter(|r| r.session_id == Some(session.id)) else { return Ok(show(&TunnelSaid::NoSuch)) };
        if let Some(outcome) = row.outcome.and_then(|o| serde_json::from_value::<Outcome>(o).ok()) {
            return Ok(show(&TunnelSaid::Came(&outcome)));
        }
        tokio::time::sleep(LOOKS).await;
    }
    Ok(show(&TunnelSaid::StillOpening))
}

/// Somebody takes a code for a client that can only ask a question.
async fn code(
    web: &WebGate,
    edition: &Edition,
    gate: &Gate,
    session: &SessionRow,
    visit: &Visit,
) -> Result<Response<Body>, StoreError> {
    let code = short_code::new(8);
    let Some(mac) = short_code::macs(&web.engine, passeur_gate_vpn::decisions::CODE, &code).into_iter().next() else {
        return Ok(plain(StatusCode::INTERNAL_SERVER_ERROR.into_response()));
    };
    let until = web.engine.now() + CODE_LASTS;
    if !web.engine.store.give_tunnel_code(&mac, &gate.name, session.id, until).await? {
        return Ok(plain(pages::redirect(&gate.address.at("/"), None)));
    }
    let said = TunnelSaid::Code(&code);
    Ok(plain(pages::tunnel(&edition.site, gate, visit.facts.lang, &session.name, &said).into_response()))
}

//! Vouching for a guest: somebody who is signed in types the code that the guest shows, reads what the guest wrote, and gives their word or
//! does not. Who may is for the rules of a gate to say, by a role. The word outlives the sponsor's session, so that it takes a fresh proof; a
//! sponsor who leaves takes their guests along.

use axum::extract::{Form, State};
use axum::response::{IntoResponse, Response};
use passeur_core::circumstances::Circumstances;
use passeur_core::evidence::WayIn;
use passeur_core::site::{Way, WayKind};
use passeur_engine::attempt::Attempt;
use passeur_engine::grants::{Glance, glance};
use passeur_engine::sessions::Session;
use passeur_engine::{Engine, look_up, short_code, tries};
use passeur_live::edition::Edition;
use passeur_store::StoreError;
use serde::Deserialize;

use crate::journey::{Destination, fresh};
use crate::pages::{self, SponsorPage, SponsorSaid, redirect};
use crate::{LiveEdition, Visit, session};

/// Wrong codes that one person may type within the window of [`passeur_engine::tries`].
const TRIES: i32 = 10;

/// What a code is known by in the store, under each key of the ring.
pub(crate) fn digests(engine: &Engine, typed: &str) -> Vec<[u8; 32]> {
    short_code::macs(engine, "guest code", typed)
}

/// The ways in of guests for whom somebody may vouch. What cannot be looked up gives no role.
pub async fn may_vouch<'e>(engine: &Engine, edition: &'e Edition, s: &mut Session, visit: &Visit) -> Vec<&'e Way> {
    let site = &edition.site;
    let mut out = vec![];
    // A guest's own word is nobody's.
    if s.evidence.way_in == WayIn::Sponsor {
        return out;
    }
    for way in &site.ways {
        let WayKind::Sponsor(of) = &way.kind else { continue };
        let Some(gate) = site.gate(&of.gate).filter(|g| g.access.takes(site, &s.evidence)) else { continue };
        look_up::fill(engine, site, &gate.access, &mut s.evidence).await;
        let at = Circumstances::at(engine.now()).from(visit.facts.address);
        let Glance { admits, roles, .. } = glance(site, gate, &s.evidence, &at);
        if admits && roles.contains(&of.role) {
            out.push(way);
        }
    }
    out
}

/// What the page's forms send.
#[derive(Deserialize)]
pub struct Sent {
    #[serde(default)]
    code: String,
    #[serde(default)]
    answer: String,
}

/// `GET /.passeur/sponsor`.
pub async fn show(State(engine): State<Engine>, edition: LiveEdition, visit: Visit) -> Response {
    let code = visit.parameter("code").unwrap_or_default();
    page(&engine, edition, &visit, Sent { code, answer: String::new() }, false).await
}

/// `POST /.passeur/sponsor`. The guard has checked where it comes from.
pub async fn answer(State(engine): State<Engine>, edition: LiveEdition, visit: Visit, Form(sent): Form<Sent>) -> Response {
    page(&engine, edition, &visit, sent, true).await
}

async fn page(engine: &Engine, LiveEdition(edition): LiveEdition, visit: &Visit, sent: Sent, posted: bool) -> Response {
    let code = passeur_core::text::shorten(&sent.code, 20);
    let done = async {
        let again = Destination::Vouch { code: code.clone() }.onward(engine);
        let Some(mut s) = session::of_browser(engine, &edition, &visit.headers).await? else {
            return Ok(redirect(&again, None));
        };
        let ways = may_vouch(engine, &edition, &mut s, visit).await;
        let (site, lang) = (&edition.site, visit.facts.lang);
        let show = |said: SponsorSaid<'_>| SponsorPage { site, lang, who: &s.row.name, said }.page().into_response();
        if ways.is_empty() {
            return Ok(show(SponsorSaid::MayNot));
        }
        if !posted {
            return Ok(show(SponsorSaid::Ask { code: &code }));
        }
        let mut attempt = Attempt::begin(engine, passeur_core::site::Place::Quay, &visit.facts);
        attempt.is_of(&s.row);
        let account = format!("{}\0{}", s.row.authority, s.row.subject);
        if !tries::count_plain(engine, &mut attempt, "guest code", &account, TRIES).await? {
            return Ok(show(SponsorSaid::TooMany));
        }
        let found = engine.store.guest_waiting(&digests(engine, &code), engine.now()).await?;
        let Some((mut row, way)) = found.and_then(|r| ways.iter().find(|w| w.name == r.way).map(|w| (r, *w))) else {
            return Ok(show(SponsorSaid::NoSuch { code: &code }));
        };
        tries::uncount_plain(engine, "guest code", &account).await?;
        if sent.answer != "no" && !fresh::is_fresh(&s.evidence, engine.now()) {
            return Ok(show(SponsorSaid::SignIn { again: &again }));
        }
        row.state = match sent.answer.as_str() {
            "yes" => "given",
            "no" => "denied",
            _ => return Ok(show(SponsorSaid::Confirm { code: &code, row: &row, way })),
        }
        .into();
        row.sponsor_provider = Some(s.row.provider.clone());
        row.sponsor_authority = Some(s.row.authority.clone());
        row.sponsor_subject = Some(s.row.subject.clone());
        row.sponsor_name = Some(s.row.name.clone());
        let first = engine.store.answer_guest(&row, &s.row.person(), s.row.id).await?;
        tracing::info!(
            event = "guest.answered",
            sponsor = s.row.name,
            guest = row.name,
            answer = row.state,
            first,
            "somebody answered for a guest"
        );
        Ok(show(if first && row.state == "given" { SponsorSaid::Given { name: &row.name } } else { SponsorSaid::Denied }))
    };
    done.await.unwrap_or_else(|e: StoreError| pages::store_failed(&edition.site, visit.facts.lang, &e).into_response())
}

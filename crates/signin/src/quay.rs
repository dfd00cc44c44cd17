//! The quay: what is open to somebody who signed in, and what they can do themselves.

use axum::extract::State;
use axum::response::{IntoResponse, Response};
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::console_roles;
use passeur_core::identity::identify;
use passeur_core::site::Access;
use passeur_core::step::Silent;
use passeur_engine::Engine;
use passeur_engine::grants::{Glance, glance};
use passeur_engine::look_up;

use crate::pages::{self, Quay, QuayGate};
use crate::{LiveEdition, Visit, machine, session, sponsor};

/// How many changes of somebody's roles the quay shows.
const CHANGES_SHOWN: i64 = 3;

/// `GET /` on the sign-in host.
pub async fn show(State(engine): State<Engine>, LiveEdition(edition): LiveEdition, visit: Visit) -> Response {
    let lang = visit.facts.lang;
    let site = &edition.site;
    let mut session = match session::of_browser(&engine, &edition, &visit.headers).await {
        Ok(Some(s)) => s,
        Ok(None) => return pages::quay(site, lang, None).into_response(),
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let wanted: Vec<&Access> = site.gates.iter().map(|g| &g.access).filter(|a| a.takes(site, &session.evidence)).collect();
    for access in &wanted {
        look_up::fill(&engine, site, access, &mut session.evidence).await;
    }
    let at = Circumstances::at(engine.now()).from(visit.facts.address);
    let mut gates = vec![];
    for g in &site.gates {
        let Glance { admits, terms, roles, .. } = glance(site, g, &session.evidence, &at);
        let on = match machine::on_at(&engine, g, &session).await {
            Ok(on) => on,
            Err(e) => return pages::store_failed(site, lang, &e).into_response(),
        };
        gates.push(QuayGate {
            title: g.title.clone(),
            address: g.address.at("/"),
            open: admits,
            is_tunnel: g.is_vpn(),
            on,
            messages: terms.messages,
            roles,
        });
    }
    let changes = match engine.store.role_changes(&session.evidence.person(), CHANGES_SHOWN).await {
        Ok(changes) => changes,
        Err(e) => return pages::store_failed(site, lang, &e).into_response(),
    };
    let nobody = Access {
        ways: vec![session.evidence.way().to_owned()],
        directories: vec![],
        groups: passeur_core::site::GroupsFrom::Directory,
        without_directory: false,
        disabled: passeur_core::site::Disabled::Refuse,
        re_read: chrono::Duration::minutes(5),
        dead: passeur_core::site::Dead::Keep,
        mappings: vec![],
        unasked: true,
        callers: None,
        rules: passeur_core::site::Rules::default(),
    };
    let seen_as = wanted.first().copied().or(site.engineers.as_ref()).unwrap_or(&nobody);
    let who = identify(site, seen_as, &session.evidence, &mut Silent);
    let console = !console_roles(site, &session.evidence, &at, &mut Silent).is_empty();
    let sponsor = !sponsor::may_vouch(&engine, &edition, &mut session, &visit).await.is_empty();
    pages::quay(site, lang, Some(&Quay { session: &session, who: &who, gates: &gates, console, sponsor, changes: &changes }))
        .into_response()
}

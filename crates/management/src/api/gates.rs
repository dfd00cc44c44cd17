//! Gates and providers with what happened of late.

use axum::extract::State;
use chrono::Duration;
use passeur_api::{Counter, Directory, DirectoryServer, Gate, GateKind, GateZone, Node, OutcomeCount, Upstream};
use passeur_core::crossing::Outcome;
use passeur_core::delivery::ValueOf;
use passeur_core::role::Role;
use passeur_core::site::{self, Site};
use passeur_core::step::Lang;
use passeur_gateway::target::TargetState;
use passeur_links::ldap::ServerState;
use passeur_store::OutcomeRow;

use super::auth::Engineer;
use super::errors::ApiError;
use super::extract::Json;
use crate::app::App;

fn upstream(t: TargetState) -> Upstream {
    let finding = t.connection_auth.then(|| {
        "It asks for NTLM or Negotiate, which authenticates a connection and not a request; its connections are not shared. \
         Have it read the delivered headers instead."
            .to_owned()
    });
    Upstream {
        address: t.address,
        draining: t.draining,
        well: t.well,
        tried: t.tried,
        requests: t.requests,
        failures: t.failures,
        last_failure: t.last_failure,
        finding,
    }
}

/// Networks, entrances and RADIUS clients by which people come to a gate.
fn zones(site: &Site, gate: &site::Gate, lang: Lang) -> Vec<GateZone> {
    let zones =
        site.zones_of(gate).map(|z| GateZone { name: z.name.clone(), words: z.sentence(lang), entrance: z.tunnel().is_some() });
    let clients =
        site.radius_clients_of(gate).map(|c| GateZone { name: c.name.clone(), words: c.sentence(lang), entrance: false });
    zones.chain(clients).collect()
}

/// The node that answers: what it accepted and turned away.
#[utoipa::path(get, path = "/node", responses((status = 200, body = Node)))]
pub async fn node(State(app): State<App>, who: Engineer) -> Result<Json<Node>, ApiError> {
    who.may(Role::View)?;
    let counters = app.floods.get().map(|f| f.all().to_vec()).unwrap_or_default();
    Ok(Json(Node {
        name: app.node.clone(),
        version: env!("CARGO_PKG_VERSION").to_owned(),
        edition: app.live.get().map_or(0, |e| e.number),
        counters: counters.into_iter().map(|(name, count)| Counter { name: name.to_owned(), count }).collect(),
    }))
}

fn source(site: &Site, value: &ValueOf) -> String {
    match value {
        ValueOf::Attribute(id) => site.attribute_name(*id).to_owned(),
        ValueOf::Groups => "groups".into(),
        ValueOf::Roles => "roles".into(),
        ValueOf::Reach => "reach".into(),
        ValueOf::Given(name) => format!("{name}, given by a rule"),
        ValueOf::Constant(c) => format!("“{c}”"),
        ValueOf::Template(_) => "a template".into(),
    }
}

/// The gates of the live edition.
#[utoipa::path(get, path = "/gates", responses((status = 200, body = Vec<Gate>)))]
pub async fn gates(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Gate>>, ApiError> {
    who.may(Role::View)?;
    let Some(edition) = app.web.get() else {
        return Ok(Json(vec![]));
    };
    let site = &edition.site;
    let counts = app.store.outcome_counts(app.now() - Duration::hours(24)).await?;
    let sessions = app.store.sessions_by_gate(app.now() - site.lifetimes.idle).await?;
    let last_day = |gate: &site::Gate| {
        let place = gate.place().to_string();
        let count = |c: &OutcomeRow| {
            let outcome = Outcome::parse(&c.outcome)?;
            Some(OutcomeCount { outcome: outcome.into(), words: outcome.words(who.lang).to_owned(), count: c.count })
        };
        counts.iter().filter(|c| c.gate == place).filter_map(count).collect()
    };
    let out = site.gates.iter().map(|g| Gate {
        name: g.name.clone(),
        title: g.title.clone(),
        kind: match &g.kind {
            site::GateKind::Web(_) => GateKind::Web,
            site::GateKind::Network(_) => GateKind::Network,
            site::GateKind::Vpn(_) => GateKind::Vpn,
        },
        zones: zones(site, g, who.lang),
        machines: g.network().into_iter().flat_map(|n| &n.machines).map(|m| m.sentence(who.lang)).collect(),
        address: g.address.origin(),
        upstreams: edition.route(&g.name).map(|r| r.states().into_iter().map(upstream).collect()).unwrap_or_default(),
        sections: g.sections().iter().map(|s| s.sentence(site, who.lang)).collect(),
        ways_in: g.access.ways.clone(),
        directories: g.access.directories.clone(),
        rules: g.access.rules.iter().map(|r| r.sentence(site, who.lang)).collect(),
        mappings: g.access.mappings.iter().map(|m| m.sentence(site, who.lang)).collect(),
        headers: site
            .delivery(g)
            .into_iter()
            .flat_map(|d| &d.headers)
            .map(|h| format!("{} ← {}", h.name, source(site, &h.value)))
            .chain(g.ticket().iter().map(|t| format!("Authorization ← {}", t.sentence(who.lang))))
            .collect(),
        last_day: last_day(g),
        live_sessions: sessions.iter().find(|s| s.gate == g.name).map_or(0, |s| s.count),
    });
    Ok(Json(out.collect()))
}

/// The directories of the live edition, with their servers.
#[utoipa::path(get, path = "/directories", responses((status = 200, body = Vec<Directory>)))]
pub async fn directories(State(app): State<App>, who: Engineer) -> Result<Json<Vec<Directory>>, ApiError> {
    who.may(Role::View)?;
    let Some(edition) = app.live.get() else {
        return Ok(Json(vec![]));
    };
    let site = &edition.site;
    let server = |s: ServerState| DirectoryServer {
        address: s.address,
        well: s.well,
        answers: s.answers,
        failures: s.failures,
        last_answer: s.last_answer,
        last_failure_at: s.last_failure.as_ref().map(|(_, at)| *at),
        last_failure: s.last_failure.map(|(why, _)| why),
        rests_until: s.rests_until.filter(|until| *until > app.now()),
    };
    let of = |d: &passeur_core::site::Directory| {
        let link = app.directory(&d.name);
        Directory {
            name: d.name.clone(),
            base: d.base.clone(),
            suffixes: d.suffixes.clone(),
            servers: link.as_ref().map(|l| l.servers().into_iter().map(server).collect()).unwrap_or_default(),
            gates: site.places().filter(|(_, a)| a.directories.contains(&d.name)).map(|(p, _)| p.to_string()).collect(),
            secret_stored: link.is_some_and(|l| l.has_secret()),
        }
    };
    Ok(Json(site.directories.iter().map(of).collect()))
}

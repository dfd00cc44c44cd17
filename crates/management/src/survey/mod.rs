//! The survey: asks everything outside and hands what was seen to core, which says what it means. One survey runs at a time
//! on a node, and the last one is kept for whoever opens the page.

pub mod done;
mod probes;

use done::Done;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration as StdDuration, Instant};

use passeur_core::crossing::Outcome;
use passeur_core::evidence::Evidence;
use passeur_core::expect;
use passeur_core::site::RadiusClient;
use passeur_core::step::{Lang, Step};
use passeur_core::survey::{
    DatabaseFacts, Facts, Finding, GuardFacts, NodeFacts, ProfileFacts, RadiusFacts, SecretFacts, TokenFacts, count_sources,
    recent, survey as judge, survey_entrance,
};
use passeur_gateway::edition::WebEdition;
use passeur_live::edition::Edition;
use passeur_store::{ProfileRow, StoreError};

use crate::api::acts::first_break;
use crate::app::App;
use crate::kerberos::look;

/// How long everything outside together may take.
const LIMIT: StdDuration = StdDuration::from_secs(45);
/// Of so many people at most it is looked at what was received.
const PEOPLE: i64 = 200;
/// The most crossings of the last hour that are read.
const RECENT_MAX: i64 = 500;

const A_DAY: chrono::Duration = chrono::Duration::days(1);
/// How long before and after their last day profiles are told of, how recently they were used, and the most that are read.
const PROFILES: chrono::Duration = chrono::Duration::days(14);
const PROFILE_USED: chrono::Duration = chrono::Duration::days(30);
const PROFILES_MAX: i64 = 1_000;
/// How long ago a node may have said last what it guards.
const NODE_LIVES: chrono::Duration = chrono::Duration::seconds(15);

/// What nodes that live say of the zones that they guard. What cannot be read is not believed.
async fn guards(app: &App) -> Result<Vec<GuardFacts>, StoreError> {
    let all = app.store.guards(app.now() - NODE_LIVES).await?;
    let read = |(node, json): (String, serde_json::Value)| {
        let facts: GuardFacts = serde_json::from_value(json).ok()?;
        Some(GuardFacts { node, ..facts })
    };
    Ok(all.into_iter().filter_map(read).collect())
}

/// What is wrong with an entrance of tunnels just now, as nodes see it.
pub async fn of_entrance(app: &App, edition: &Edition, entrance: &str) -> Result<Vec<Finding>, StoreError> {
    let facts = Facts { now: app.now(), guards: guards(app).await?, ..Facts::default() };
    Ok(survey_entrance(&edition.site, &facts, entrance))
}

/// Personal profiles that ran out of late or soon will.
async fn profiles(app: &App) -> Result<Vec<ProfileFacts>, StoreError> {
    let now = app.now();
    let rows = app.store.profiles_ending((now - PROFILES, now + PROFILES), PROFILE_USED, PROFILES_MAX).await?;
    let one = |r: ProfileRow| ProfileFacts { gate: r.gate, device: r.device, person: r.name, until: r.expires_at };
    Ok(rows.into_iter().map(one).collect())
}

/// What RADIUS clients asked and told.
async fn radius(app: &App, edition: &Arc<WebEdition>) -> Result<Vec<RadiusFacts>, StoreError> {
    if edition.site.radius_clients.is_empty() {
        return Ok(vec![]);
    }
    let site = &edition.site;
    let gates: Vec<&str> =
        site.gates.iter().filter(|g| site.radius_clients_of(g).next().is_some()).map(|g| g.name.as_str()).collect();
    let (asked, told) = (app.store.asked_by_clients(&gates, app.now() - A_DAY).await?, app.store.told_by_clients().await?);
    let one = |client: &RadiusClient| {
        let asked = asked.iter().find(|a| a.client == client.name).cloned().unwrap_or_default();
        let told = told.iter().find(|t| t.client == client.name).cloned().unwrap_or_default();
        RadiusFacts {
            client: client.name.clone(),
            asked: asked.asked,
            unproven: asked.unproven,
            let_in: told.let_in,
            heard: told.heard,
            ahead: told.ahead,
            unknown: told.unknown,
            disobeyed: told.disobeyed,
            untold: told.untold,
        }
    };
    Ok(site.radius_clients.iter().map(one).collect())
}

/// Surveys now.
pub async fn run(app: &App, edition: &Arc<WebEdition>, lang: Lang) -> Result<Done, StoreError> {
    let began = Instant::now();
    let at = app.now();
    let evidence = latest_evidence(app).await?;
    let mut facts = inside(app, edition, &evidence, lang).await?;
    let mut not_seen = vec![];
    let asked = tokio::time::timeout(LIMIT, probes::outside(app, edition, &evidence));
    let kerberos = tokio::time::timeout(LIMIT, look::look_at(app, edition));
    let late = |what: &str| format!("{what}: no end after {} s", LIMIT.as_secs());
    let names = tokio::time::timeout(LIMIT, probes::dead_names(edition));
    let before = tokio::time::timeout(LIMIT, probes::needs(app, edition));
    let silent = app.code_servers.all().into_iter().map(|(server, why)| (server.to_string(), why));
    facts.code_servers = (app.node.clone(), silent.collect());
    let devices = tokio::time::timeout(LIMIT, probes::device_authorities(app, edition));
    let (asked, kerberos, names, before, devices) = tokio::join!(asked, kerberos, names, before, devices);
    match devices {
        Ok(silent) => facts.device_authorities = silent,
        Err(_) => not_seen.push(late("authorities of devices")),
    }
    match before {
        Ok((needs, unknown)) => {
            facts.before = needs;
            not_seen.extend(unknown);
        }
        Err(_) => not_seen.push(late("what zones open before sign-in")),
    }
    match names {
        Ok(mut dead) => {
            dead.sort();
            facts.dead_names = dead;
        }
        Err(_) => not_seen.push(late("names of reaches")),
    }
    match asked {
        Ok(seen) => (facts.providers, facts.directories, facts.upstreams) = seen,
        Err(_) => not_seen.push(late("providers, directories and applications")),
    }
    match kerberos {
        Ok(seen) => facts.kerberos = seen?,
        Err(_) => not_seen.push(late("Kerberos")),
    }
    count_flows(app, edition, &mut facts, lang).await?;
    facts.guards = guards(app).await?;
    facts.radius = radius(app, edition).await?;
    facts.profiles = profiles(app).await?;
    facts.certificates = probes::certificates(app);
    facts.own_saml = probes::own_saml(app);
    let looked_at = facts.providers.len()
        + facts.directories.iter().map(|d| d.servers.len()).sum::<usize>()
        + facts.upstreams.len()
        + facts.certificates.as_ref().map_or(0, Vec::len)
        + facts.secrets.len()
        + facts.tokens.len()
        + facts.nodes.len()
        + look::count(&facts.kerberos)
        + edition.site.accesses().map(|a| a.rules.len()).sum::<usize>();
    let findings = judge(&edition.site, &facts);
    let millis = began.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
    Ok(Done { edition: edition.number, at, millis, findings, looked_at, not_seen })
}

/// What was received of the people who came last.
async fn latest_evidence(app: &App) -> Result<Vec<Evidence>, StoreError> {
    let rows = app.store.evidence_of_latest(PEOPLE).await?;
    Ok(rows.into_iter().filter_map(Evidence::from_stored).collect())
}

/// Everything that the database and this node say.
async fn inside(app: &App, edition: &Arc<WebEdition>, evidence: &[Evidence], lang: Lang) -> Result<Facts, StoreError> {
    let now = app.now();
    let asked = Instant::now();
    app.store.ping().await?;
    let millis = asked.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
    let stored = |versions: &[passeur_store::SecretVersion], wanted: i32| {
        versions.iter().find(|v| v.version == wanted).map(|v| v.changed_at).unwrap_or(now)
    };
    let secrets = app.store.secret_list().await?.into_iter().map(|s| SecretFacts {
        stored_at: stored(&s.versions, s.version),
        next: s.next.map(|n| (n, stored(&s.versions, n))),
        name: s.name,
    });
    let tokens = app.store.tokens(now).await?.into_iter().map(|t| TokenFacts {
        has_owner: t.owner_subject.is_some(),
        until: t.expires_at,
        name: t.name,
    });
    let nodes = app.store.other_nodes(app.node_id).await?.into_iter().map(|(name, seen_at)| NodeFacts { name, seen_at });
    let of = edition.clone();
    let expectations = tokio::task::spawn_blocking(move || expect::broken(&of.site, now, lang)).await;
    let expectations = expectations.map_err(|e| StoreError::Query(e.to_string()))?;
    Ok(Facts {
        now,
        secrets: secrets.collect(),
        tokens: tokens.collect(),
        nodes: nodes.collect(),
        trouble: app.trouble().map(|words| (app.node.clone(), words)),
        database: DatabaseFacts { millis, partitions_until: app.store.partitions_until().await? },
        acts_break: first_break(app).await?,
        sources: count_sources(&edition.site, evidence),
        expectations,
        has_emergency: app.emergency.is_some(),
        proxied: edition.proxied.seen(),
        confirm_by: app.waits_for_confirmation(),
        ..Facts::default()
    })
}

/// How many people were sent to each provider in the last day, and never came back; and what came of its answers in the last hour.
async fn count_flows(app: &App, edition: &Edition, facts: &mut Facts, lang: Lang) -> Result<(), StoreError> {
    let ended = app.store.ended_since(app.now() - chrono::Duration::hours(1), RECENT_MAX).await?;
    let read =
        |(outcome, steps): (String, serde_json::Value)| Some((Outcome::parse(&outcome)?, serde_json::from_value(steps).ok()?));
    let ended: Vec<(Outcome, Vec<Step>)> = ended.into_iter().filter_map(read).collect();
    let mut recent = recent(&ended, lang);
    for p in &mut facts.providers {
        p.recent = recent.remove(&p.name).unwrap_or_default();
        let Some(provider) = edition.site.provider(&p.name) else { continue };
        if let Some(f) = app.flows(provider).await? {
            (p.sent, p.never_came_back) = (f.sent, f.never_came_back);
        }
    }
    Ok(())
}

/// Every group that rules name where a directory may be asked.
fn groups_named(edition: &Edition, directory: &str) -> BTreeSet<String> {
    let asking = edition.site.accesses().filter(|a| a.directories.iter().any(|d| d == directory));
    asking.flat_map(|a| a.rules.iter()).flat_map(|r| r.when.groups()).map(str::to_owned).collect()
}

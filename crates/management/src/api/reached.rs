//! Whom a question about reach is about: somebody who came before, somebody described by hand, whoever is or was on with a machine, or nobody;
//! under which edition; and what the kernel holds of their machines.

use std::net::IpAddr;
use std::sync::Arc;

use chrono::{DateTime, Utc};
use http::StatusCode;
use passeur_api::{PersonRequest, ReachMachine, ReachRequest, Source};
use passeur_core::evidence::Evidence;
use passeur_core::site::{Gate, HardwareAddress, Machine, Site, Wanted};
use passeur_core::step::Lang;
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::guarding::KernelWay;
use passeur_engine::sessions;
use passeur_engine::tunnel::TunnelOf;
use passeur_store::PresenceRow;

use super::auth::Engineer;
use super::errors::{ApiError, bad, problem};
use super::people;
use super::rehearse::{known_then, tunnel_asked};
use super::sites::{document, sound};
use crate::app::App;

/// The most machines of a person that are shown, and addresses of a name that the kernel is asked about.
const MACHINES_MAX: i64 = 10;
const ADDRESSES_MAX: usize = 16;

/// Whose way it is.
pub(super) enum Whom {
    /// Nobody is signed in on the machine.
    Nobody,
    Person(Box<Evidence>),
    /// A machine that is listed without a person.
    Listed(Machine),
}

/// What a question is about.
pub(super) struct Found {
    /// By which edition or document.
    pub doc: String,
    pub site: Arc<Site>,
    pub whom: Whom,
    pub address: Option<IpAddr>,
    /// The tunnel by which they come.
    pub tunnel: Option<TunnelFacts>,
    pub at: DateTime<Utc>,
    pub gate: Option<String>,
    pub machines: Machines,
}

/// Machines that belong to the answer.
#[derive(Default)]
pub(super) struct Machines {
    rows: Vec<PresenceRow>,
    /// Why the kernel is not asked, where it is not.
    unasked: Option<Unasked>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Unasked {
    Past,
    NotLive,
}

/// Finds it.
pub(super) async fn found(app: &App, who: &Engineer, ask: &ReachRequest) -> Result<Found, ApiError> {
    if ask.machine.is_some() && ask.person.is_some() {
        return Err(bad("Name a machine or a person, not both."));
    }
    let moment = ask.at.or(ask.person.as_ref().and_then(|p| p.at));
    let now = app.now();
    let at = moment.unwrap_or(now);
    let is_live = ask.source == Source::default();
    // What was open to somebody then was opened by the edition of then; somebody described by hand is asked of the live one.
    let then = moment.filter(|m| is_live && *m < now && (ask.machine.is_some() || is_known(ask)));
    let source = match then {
        None => ask.source.clone(),
        Some(then) => match app.store.edition_at(then).await? {
            Some(row) => Source { edition: Some(row.number), ..Source::default() },
            None => {
                return Err(problem(StatusCode::NOT_FOUND, "no-edition", "No edition", "No edition was live at that moment."));
            }
        },
    };
    let doc = document(app, source).await?;
    let site: Arc<Site> = sound(app, who, &doc).await?;
    let unasked = match (moment.is_some_and(|m| m < now), is_live) {
        (true, _) => Some(Unasked::Past),
        (false, false) => Some(Unasked::NotLive),
        (false, true) => None,
    };
    let mut out = Found {
        doc: doc.name,
        site,
        whom: Whom::Nobody,
        address: None,
        tunnel: None,
        at,
        gate: ask.gate.clone(),
        machines: Machines { rows: vec![], unasked },
    };
    if let Some(name) = out.gate.as_deref().filter(|name| out.site.gate(name).and_then(Gate::network).is_none()) {
        return Err(bad(&format!("\"{}\" is no gate of kind network in {}.", passeur_core::text::shorten(name, 60), out.doc)));
    }
    match (&ask.machine, &ask.person) {
        (Some(text), _) => out.is_of_machine(app, text).await?,
        (None, Some(person)) => out.is_of_person(app, who, person, moment).await?,
        (None, None) => {}
    }
    Ok(out)
}

/// Whether somebody is asked for who came before.
fn is_known(ask: &ReachRequest) -> bool {
    ask.person.as_ref().is_some_and(|p| p.subject.is_some())
}

impl Found {
    async fn is_of_person(
        &mut self,
        app: &App,
        who: &Engineer,
        person: &PersonRequest,
        moment: Option<DateTime<Utc>>,
    ) -> Result<(), ApiError> {
        if let Some(text) = &person.address {
            self.address = Some(text.parse().map_err(|_| bad("address is an IP address."))?);
        }
        self.tunnel = tunnel_asked(person, &[&self.site])?;
        self.whom = Whom::Person(Box::new(known_then(app, who, &self.site, &as_asked(&self.site, person)).await?));
        let Some(subject) = person.subject.as_ref().filter(|_| moment.is_none()) else { return Ok(()) };
        let key = people::key_of(app, &person.provider, subject).await?;
        let gates = self.site.gates.iter().filter(|g| g.network().is_some());
        for gate in gates.filter(|g| self.gate.as_ref().is_none_or(|n| *n == g.name)) {
            self.machines.rows.extend(app.store.presences_of_person(&key, &gate.name, MACHINES_MAX).await?);
        }
        Ok(())
    }

    /// Whoever is or was on with a machine. Where nobody was, it is a machine on which nobody is signed in.
    async fn is_of_machine(&mut self, app: &App, text: &str) -> Result<(), ApiError> {
        let address = text.trim().parse::<IpAddr>().ok().map(|a| a.to_canonical());
        let known_by = match (address, HardwareAddress::parse(text.trim())) {
            (Some(address), _) => address.to_string(),
            (None, Some(hardware)) => hardware.to_string(),
            (None, None) => return Err(bad("machine is an IP address, or a hardware address as 02:70:00:00:00:09.")),
        };
        self.address = address;
        let Some(row) = app.store.presence_at(&known_by, self.at).await? else { return Ok(()) };
        if self.gate.as_ref().is_some_and(|g| *g != row.gate) {
            return Ok(());
        }
        self.gate = Some(row.gate.clone());
        let tunnel = TunnelOf::kept(row.tunnel.as_ref());
        self.address = match &tunnel {
            // Rules ask where its client connects from.
            Some(of) => Some(of.outside),
            None => address.or_else(|| row.address.parse().ok()),
        };
        self.tunnel = tunnel.map(|t| t.facts);
        self.whom = match row.session_id {
            Some(session) => {
                // What is known of them now, or what was known when they came, where the session is gone.
                let held = app.store.session(session).await?.and_then(|s| sessions::read_evidence(&s));
                let known = match held {
                    Some(evidence) => Some(evidence),
                    None => app.store.latest_evidence(&row.person()).await?,
                };
                known.map_or(Whom::Nobody, |evidence| Whom::Person(Box::new(evidence)))
            }
            None => {
                let listed = self.site.gate(&row.gate).and_then(Gate::network).into_iter().flat_map(|n| &n.machines);
                let is_it = |m: &&Machine| Some(m.hardware.to_string()) == row.hardware && m.until >= self.at.date_naive();
                let listed = listed.filter(|_| row.provider == "machine").find(is_it).cloned();
                listed.map_or(Whom::Nobody, Whom::Listed)
            }
        };
        self.machines.rows.push(row);
        Ok(())
    }
}

impl Machines {
    /// As they are shown, with what the kernel holds.
    pub async fn shown(self, app: &App, to: &Wanted, lang: Lang) -> Vec<ReachMachine> {
        let mut out = vec![];
        for row in self.rows {
            let opens =
                row.reach.as_array().into_iter().flatten().filter_map(|o| Some(o["reach"].as_str()?.to_owned())).collect();
            let (kernel_open, kernel) = match self.unasked {
                Some(Unasked::Past) => (None, past(lang).to_owned()),
                Some(Unasked::NotLive) => (None, not_live(lang).to_owned()),
                None => held(app, &row, to, lang).await,
            };
            out.push(ReachMachine {
                presence: row.id,
                known_by: row.known_by().to_owned(),
                gate: row.gate,
                zone: row.zone,
                node: row.node,
                name: row.name,
                provider: row.provider,
                subject: row.subject,
                began: row.began,
                ended_at: row.ended_at,
                opens,
                kernel_open,
                kernel,
            });
        }
        out
    }
}

fn past(lang: Lang) -> &'static str {
    match lang {
        Lang::En => "What a kernel held at a moment that is over is not kept; the crossing tells what was opened.",
        Lang::Fr => "Ce qu'un noyau contenait à un moment passé n'est pas conservé ; la traversée dit ce qui fut ouvert.",
    }
}

fn not_live(lang: Lang) -> &'static str {
    match lang {
        Lang::En => "The kernel holds the live edition, not this one.",
        Lang::Fr => "Le noyau contient l'édition en vigueur, et non celle-ci.",
    }
}

/// What the kernel holds of a machine now: whether all that the name leads to is open, and the same in words.
async fn held(app: &App, row: &PresenceRow, to: &Wanted, lang: Lang) -> (Option<bool>, String) {
    let node = &row.node;
    if row.node != app.node {
        return (
            None,
            match lang {
                Lang::En => format!("Node {node} guards zone {}, and another one answers: ask there.", row.zone),
                Lang::Fr => {
                    format!("Le nœud {node} garde la zone {}, et c'est un autre qui répond : demandez-le là-bas.", row.zone)
                }
            },
        );
    }
    if to.addresses.is_empty() {
        return (
            None,
            match lang {
                Lang::En => "The name leads to no address on this node, so that there is nothing to ask the kernel.".to_owned(),
                Lang::Fr => "Le nom ne mène à aucune adresse sur ce nœud : il n'y a rien à demander au noyau.".to_owned(),
            },
        );
    }
    let asked: Vec<IpAddr> = to.addresses.iter().copied().take(ADDRESSES_MAX).collect();
    let way = match app.networks.get() {
        Some(networks) => networks.way_of(row.clone(), asked, to.service).await.ok().flatten(),
        None => None,
    };
    match way {
        None => (
            None,
            match lang {
                Lang::En => format!("The sluice of node {node} does not say what its kernel holds: see `passeur survey`."),
                Lang::Fr => format!("L'écluse du nœud {node} ne dit pas ce que contient son noyau : voyez `passeur survey`."),
            },
        ),
        Some(way) => {
            let open = way.by.iter().all(|(_, by)| by.is_some());
            (Some(open), sentence(&way, node, lang))
        }
    }
}

fn sentence(way: &KernelWay, node: &str, lang: Lang) -> String {
    let shut: Vec<String> = way.by.iter().filter(|(_, by)| by.is_none()).map(|(to, _)| to.to_string()).collect();
    let by: std::collections::BTreeSet<&str> = way.by.iter().filter_map(|(_, by)| by.as_deref()).collect();
    let by = by.into_iter().collect::<Vec<_>>().join(", ");
    let opens = if way.reaches.is_empty() { "—".to_owned() } else { way.reaches.join(", ") };
    let shut = shut.join(", ");
    match (lang, way.knows, way.is_open, shut.is_empty()) {
        (Lang::En, _, _, true) => format!("The kernel of node {node} lets it through, by {by}."),
        (Lang::Fr, _, _, true) => format!("Le noyau du nœud {node} la laisse passer, par {by}."),
        (Lang::En, false, ..) => format!("The kernel of node {node} does not know the machine, and refuses {shut}."),
        (Lang::Fr, false, ..) => format!("Le noyau du nœud {node} ne connaît pas la machine, et refuse {shut}."),
        (Lang::En, true, false, _) => {
            format!("The kernel of node {node} knows the machine, its lease is over, and it refuses {shut}.")
        }
        (Lang::Fr, true, false, _) => {
            format!("Le noyau du nœud {node} connaît la machine, son bail est terminé, et il refuse {shut}.")
        }
        (Lang::En, true, true, _) => {
            format!("The kernel of node {node} refuses {shut}: what is open to the machine there is {opens}.")
        }
        (Lang::Fr, true, true, _) => {
            format!("Le noyau du nœud {node} refuse {shut} : ce qui y est ouvert à la machine est {opens}.")
        }
    }
}

/// Somebody described by hand, of whom no authentication method is said, signed in as the way in asks: what they reach is the question.
fn as_asked(site: &Site, person: &PersonRequest) -> PersonRequest {
    let mut out = person.clone();
    if out.subject.is_none() && out.amr.is_empty() {
        let of_provider = site.provider(&out.provider).map(|p| p.require_amr.clone());
        let of_way = || site.way(&out.provider).map(|w| vec![w.method().to_owned()]);
        out.amr = of_provider.or_else(of_way).unwrap_or_default();
    }
    out
}

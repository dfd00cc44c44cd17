//! The live edition, swapped in one step. A request keeps the one it began with.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, RwLock};

use http::HeaderValue;
use passeur_core::Moment;
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::RequestView;
use passeur_core::site::{Gate, Site};

use crate::bearer::OpenGate;
use crate::edits::Edits;
use crate::names::Names;
use crate::target::{self, Route, Target};

/// A published edition with its number, ready for the data path.
#[derive(Debug)]
pub struct Edition {
    pub number: i32,
    /// When it was published.
    pub since: Moment,
    pub site: Site,
    hosts: HashMap<String, usize>,
    routes: Vec<Route>,
    /// None for a gate whose names cannot be written: nobody is let in there.
    names: Vec<Option<Arc<Names>>>,
    open: Vec<Arc<OpenGate>>,
    edits: Vec<Edits>,
    prepared: Vec<Prepared>,
    /// What trusted proxies said of where requests come from.
    pub proxied: Proxied,
}

/// How many requests came by trusted proxies with the field that the site says they write, and with the other alone.
#[derive(Debug, Default)]
pub struct Proxied {
    named: AtomicU64,
    by_the_other: AtomicU64,
}

impl Proxied {
    pub(crate) fn count(&self, named: bool, other: bool) {
        let one = match (named, other) {
            (true, _) => &self.named,
            (false, false) => return,
            (false, true) => &self.by_the_other,
        };
        one.fetch_add(1, Ordering::Relaxed);
    }

    /// Requests with the field that is believed, and those with the other alone.
    pub fn seen(&self) -> (u64, u64) {
        (self.named.load(Ordering::Relaxed), self.by_the_other.load(Ordering::Relaxed))
    }
}

impl Edition {
    /// Prepares an edition; upstreams that the one before had keep their connections and their health.
    pub fn new(number: i32, since: Moment, site: Site, before: Option<&Edition>) -> Edition {
        let known: Vec<Arc<Target>> = before.map(|e| e.targets().cloned().collect()).unwrap_or_default();
        let routes = site.gates.iter().map(|g| Route::new(g, &known)).collect();
        let names: Vec<_> = site.gates.iter().map(|g| Names::of(&site, g).map(Arc::new)).collect();
        let open = names.iter().map(|n| Arc::new(OpenGate::new(n.clone().unwrap_or_default()))).collect();
        let edits = site.gates.iter().map(Edits::new).collect();
        let prepared = site.gates.iter().map(Prepared::new).collect();
        Edition {
            number,
            since,
            names,
            open,
            edits,
            prepared,
            proxied: Proxied::default(),
            hosts: target::hosts(&site.gates),
            routes,
            site,
        }
    }

    /// The gate whose public address a `Host` means, in lower case, with the way to its upstreams.
    pub(crate) fn gate_by_host(&self, host: &str) -> Option<Place<'_>> {
        let i = *self.hosts.get(host)?;
        Some(Place {
            gate: self.site.gates.get(i)?,
            route: self.routes.get(i)?,
            open: self.open.get(i)?,
            edits: self.edits.get(i)?,
            prepared: self.prepared.get(i)?,
            index: i,
        })
    }

    /// The names of what a gate delivers.
    pub(crate) fn names(&self, gate: &str) -> Option<&Arc<Names>> {
        self.site.gates.iter().position(|g| g.name == gate).and_then(|i| self.names.get(i)?.as_ref())
    }

    /// What a gate's conditions ask of single requests.
    pub fn view(&self, gate: &str) -> Option<&RequestView> {
        self.site.gates.iter().position(|g| g.name == gate).and_then(|i| Some(&self.prepared.get(i)?.view))
    }

    /// How a request looks to a gate's conditions.
    pub fn look(&self, gate: &str, at: &Circumstances<'_>) -> u64 {
        self.view(gate).map_or(0, |v| v.look(at))
    }

    /// The way to a gate's upstreams.
    pub fn route(&self, gate: &str) -> Option<&Route> {
        self.site.gates.iter().position(|g| g.name == gate).and_then(|i| self.routes.get(i))
    }

    /// Every upstream address.
    pub(crate) fn targets(&self) -> impl Iterator<Item = &Arc<Target>> {
        self.routes.iter().flat_map(Route::targets)
    }
}

/// What a gate says with every request, written once.
#[derive(Debug)]
pub(crate) struct Prepared {
    pub(crate) origin: String,
    /// The name of the gate's token cookie.
    pub(crate) cookie: String,
    /// None where the address is no header value; then nothing is forwarded.
    pub(crate) host: Option<HeaderValue>,
    pub(crate) proto: HeaderValue,
    /// What its conditions ask of single requests.
    pub(crate) view: RequestView,
}

impl Prepared {
    fn new(gate: &Gate) -> Prepared {
        Prepared {
            origin: gate.address.origin(),
            cookie: gate.address.cookie("gate").0,
            host: HeaderValue::from_str(&gate.address.host).ok(),
            proto: HeaderValue::from_static(if gate.address.https { "https" } else { "http" }),
            view: RequestView::of(gate),
        }
    }
}

/// A gate as the data path meets it.
#[derive(Clone, Copy)]
pub(crate) struct Place<'a> {
    pub(crate) gate: &'a Gate,
    pub(crate) route: &'a Route,
    pub(crate) open: &'a Arc<OpenGate>,
    pub(crate) edits: &'a Edits,
    pub(crate) prepared: &'a Prepared,
    /// Its place among the gates of the edition.
    pub(crate) index: usize,
}

/// The place where the live edition stands.
#[derive(Clone, Default)]
pub struct Live(Arc<RwLock<Option<Arc<Edition>>>>);

impl Live {
    /// The live edition; none before the first was published.
    pub fn get(&self) -> Option<Arc<Edition>> {
        self.0.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Swaps it. An older edition never replaces a newer one.
    pub fn set(&self, edition: Edition) {
        let mut place = self.0.write().unwrap_or_else(|e| e.into_inner());
        if place.as_ref().is_none_or(|old| old.number <= edition.number) {
            *place = Some(Arc::new(edition));
        }
    }
}

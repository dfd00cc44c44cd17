//! What the data path makes of an edition: hosts, ways to upstreams, names of headers, edits. It is ready before the edition is live, and
//! a request keeps the one it began with.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, RwLock};

use http::HeaderValue;
use passeur_core::decide::RequestView;
use passeur_core::site::Gate;
use passeur_live::edition::{Edition, Live};

use crate::bearer::OpenGate;
use crate::edits::Edits;
use crate::names::Names;
use crate::target::{self, Route, Target};
use crate::tls::Asks;

/// An edition, ready for the data path. It reads as the [`Edition`] it was made of.
#[derive(Debug)]
pub struct WebEdition {
    pub live: Arc<Edition>,
    hosts: HashMap<String, usize>,
    routes: Vec<Route>,
    /// None for a gate whose names cannot be written: nobody is let in there.
    names: Vec<Option<Arc<Names>>>,
    open: Vec<Arc<OpenGate>>,
    edits: Vec<Edits>,
    prepared: Vec<Prepared>,
    /// Which certificate browsers are asked for at the sign-in host.
    pub(crate) of_devices: Asks,
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

impl std::ops::Deref for WebEdition {
    type Target = Edition;
    fn deref(&self) -> &Edition {
        &self.live
    }
}

impl WebEdition {
    /// Prepares an edition; upstreams that the one before had keep their connections and their health.
    pub fn new(live: Arc<Edition>, before: Option<&WebEdition>) -> WebEdition {
        let site = &live.site;
        let known: Vec<Arc<Target>> = before.map(|e| e.targets().cloned().collect()).unwrap_or_default();
        let routes = site.gates.iter().map(|g| Route::new(g, &known)).collect();
        let names: Vec<_> = site.gates.iter().map(|g| Names::of(&live, g).map(Arc::new)).collect();
        let open = names.iter().map(|n| Arc::new(OpenGate::new(n.clone().unwrap_or_default()))).collect();
        let edits = site.gates.iter().map(Edits::new).collect();
        let prepared = site.gates.iter().map(Prepared::new).collect();
        let hosts = target::hosts(&site.gates);
        let of_devices = Asks::of_devices(site);
        WebEdition { of_devices, live, names, open, edits, prepared, proxied: Proxied::default(), hosts, routes }
    }

    /// The gate whose public address a `Host` means, in lower case, with the way to its upstreams.
    pub(crate) fn gate_by_host(&self, host: &str) -> Option<Place<'_>> {
        self.place(*self.hosts.get(host)?)
    }

    /// A gate by its place among the gates of the edition.
    pub(crate) fn place(&self, i: usize) -> Option<Place<'_>> {
        Some(Place {
            gate: self.site.gates.get(i)?,
            route: self.routes.get(i)?,
            open: self.open.get(i)?,
            edits: self.edits.get(i)?,
            prepared: self.prepared.get(i)?,
            view: self.live.view_at(i)?,
            index: i,
        })
    }

    /// The names of what a gate delivers.
    pub(crate) fn names(&self, gate: &str) -> Option<&Arc<Names>> {
        self.site.gates.iter().position(|g| g.name == gate).and_then(|i| self.names.get(i)?.as_ref())
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
}

impl Prepared {
    fn new(gate: &Gate) -> Prepared {
        Prepared {
            origin: gate.address.origin(),
            cookie: gate.address.cookie("gate").0,
            host: HeaderValue::from_str(&gate.address.host).ok(),
            proto: HeaderValue::from_static(if gate.address.https { "https" } else { "http" }),
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
    /// What its conditions ask of single requests.
    pub(crate) view: &'a RequestView,
    /// Its place among the gates of the edition.
    pub(crate) index: usize,
}

/// The place where what the data path made of the live edition stands. Cheap to clone.
#[derive(Clone)]
pub struct WebLive(Arc<RwLock<Option<Arc<WebEdition>>>>);

impl WebLive {
    /// One that is swapped whenever the live edition is about to be.
    pub fn following(live: &Live) -> WebLive {
        let here = WebLive(Arc::default());
        let place = here.clone();
        live.follow(move |edition| {
            let ready = WebEdition::new(edition.clone(), place.get().as_deref());
            *place.0.write().unwrap_or_else(|e| e.into_inner()) = Some(Arc::new(ready));
        });
        here
    }

    /// What was made of the live edition; none before the first was published.
    pub fn get(&self) -> Option<Arc<WebEdition>> {
        self.0.read().unwrap_or_else(|e| e.into_inner()).clone()
    }
}

//! The network gates of a node.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::hash::{Hash, Hasher};
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard, RwLock};

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::site::{Gate, HardwareAddress, Service, Site, Zone};
use passeur_core::survey::EntranceFacts;
use passeur_engine::Engine;
use passeur_engine::engine::Held;
use passeur_engine::guarding::{Guarding, KernelWay};
use passeur_live::edition::Edition;
use passeur_sluice::client::Client;
use passeur_sluice::words::{Ask, Holder, State};
use passeur_store::PresenceRow;
use tokio::runtime::Handle;
use tokio::task::JoinHandle;
use uuid::Uuid;

use crate::book::{Book, Present, holder_of};
use crate::captive::Captive;
use crate::first::Had;
use crate::names::{Names, Open};
use crate::neighbours::{Neighbours, interface_number};
use crate::plan::{Doors, guarded, on_link, zone_at};
use crate::trace::Trace;

/// How long what somebody wanted is remembered, and of how many.
const WANTED_FOR: Duration = Duration::minutes(15);
const WANTED_MAX: usize = 10_000;

/// After how many people it is told that no system asks how it stands.
const ENOUGH: u64 = 10;

/// Over how many locks machines are spread.
const LOCKS: usize = 256;

/// What a node that guards zones is started with.
#[derive(Clone, Debug)]
pub struct NetworkConfig {
    /// The Unix socket of the sluice.
    pub sluice: PathBuf,
    /// Where plain HTTP of unknown machines is answered.
    pub redirect: Option<SocketAddr>,
    /// Where dnsmasq writes leases, for names of machines.
    pub leases: Option<PathBuf>,
    /// Where questions about names are answered, and who is asked.
    pub resolver: Option<ResolverConfig>,
}

/// Where questions about names are answered, and who is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ResolverConfig {
    pub listen: Vec<SocketAddr>,
    pub from: SocketAddr,
}

/// The network gates of a node. Cheap to clone.
#[derive(Clone)]
pub struct NetworkGate(Arc<Inner>);

/// What was seen of a zone since the node began.
#[derive(Clone, Copy, Debug, Default)]
struct Seen {
    people: u64,
    asked: u64,
}

/// See [`NetworkGate`].
pub struct Inner {
    pub engine: Engine,
    pub sluice: Client,
    pub(crate) doors: Doors,
    pub(crate) neighbours: Neighbours,
    /// The runtime of pages, calls and look-ups.
    pub(crate) runtime: Handle,
    /// Held for writing while an edition is installed, so that nobody comes in between the book and the kernel.
    pub(crate) changing: tokio::sync::RwLock<()>,
    /// One of these is held while something is decided about a machine, by what the machine is known by.
    machines: Vec<tokio::sync::Mutex<()>>,
    pub(crate) names: Names,
    /// What the sluice was told of names last; held by whoever tells it.
    pub(crate) telling: tokio::sync::Mutex<Open>,
    /// By zone: how many people came on, and how often a machine's system asked how it stands.
    seen: Mutex<HashMap<String, Seen>>,
    /// What machines asked for on which nobody is signed in.
    asked: Mutex<Trace>,
    /// Where this node answers questions about names.
    pub(crate) answers_at: Vec<SocketAddr>,
    had_first: Mutex<Had>,
    /// Whether the kernel was compared with the store since this node began.
    pub(crate) compared: AtomicBool,
    leases: Option<PathBuf>,
    book: Mutex<Book>,
    /// How often somebody was put off; see [`NetworkGate::leavings`].
    pub(crate) left: tokio::sync::watch::Sender<u64>,
    /// How the entrances of tunnels stand whose VPN servers this node speaks with.
    entrances: Mutex<BTreeMap<String, EntranceFacts>>,
    /// How the sluice was when it answered last; none where it does not answer.
    state: RwLock<Option<State>>,
    trouble: Mutex<Option<String>>,
    wanted: Mutex<HashMap<IpAddr, (Moment, String)>>,
}

impl Guarding for NetworkGate {
    fn marks_held(&self) -> JoinHandle<Option<HashSet<u32>>> {
        let own = self.clone();
        self.runtime.spawn_blocking(move || {
            let held = own.sluice.held().ok()?;
            Some(held.into_iter().filter(|h| h.expires_ms.is_some()).map(|h| h.mark).collect())
        })
    }

    fn in_force(&self, edition: Arc<Edition>) -> JoinHandle<()> {
        let own = self.clone();
        self.runtime.spawn(async move { own.install(&edition).await })
    }

    fn way_of(&self, machine: PresenceRow, to: Vec<IpAddr>, service: Service) -> JoinHandle<Option<KernelWay>> {
        let own = self.clone();
        self.runtime.spawn_blocking(move || {
            let (holder, service) = (holder_of(&machine)?, crate::plan::service(&service));
            let way = own.sluice.way(Ask { interface: machine.interface, holder, to: to.clone(), service }).ok()?;
            Some(KernelWay {
                knows: way.mark.is_some(),
                is_open: way.expires_ms.is_some(),
                reaches: way.reaches.into_iter().collect(),
                by: to.into_iter().zip(way.by).collect(),
            })
        })
    }

    fn asked_by(&self, machine: IpAddr) -> Option<Vec<String>> {
        (!self.answers_at.is_empty()).then(|| self.trace().of(&self.same_machine(machine), self.engine.now()))
    }

    fn name_of(&self, hardware: &str) -> Option<String> {
        leased(self.leases.as_deref()?, hardware)
    }
}

impl std::ops::Deref for NetworkGate {
    type Target = Inner;
    fn deref(&self) -> &Inner {
        &self.0
    }
}

impl NetworkGate {
    /// Of a node; nothing is asked of the sluice yet.
    pub fn new(engine: Engine, config: &NetworkConfig, doors: Doors, runtime: Handle) -> NetworkGate {
        NetworkGate(Arc::new(Inner {
            engine,
            sluice: Client::new(&config.sluice),
            doors,
            neighbours: Neighbours::default(),
            runtime,
            changing: tokio::sync::RwLock::default(),
            machines: (0..LOCKS).map(|_| tokio::sync::Mutex::default()).collect(),
            names: Names::default(),
            telling: tokio::sync::Mutex::default(),
            seen: Mutex::default(),
            asked: Mutex::default(),
            answers_at: config.resolver.iter().flat_map(|r| r.listen.clone()).collect(),
            had_first: Mutex::default(),
            compared: AtomicBool::new(false),
            leases: config.leases.clone(),
            book: Mutex::default(),
            left: tokio::sync::watch::Sender::default(),
            entrances: Mutex::default(),
            state: RwLock::default(),
            trouble: Mutex::default(),
            wanted: Mutex::default(),
        }))
    }

    pub(crate) fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(|e| e.into_inner())
    }

    pub(crate) fn had_first(&self) -> MutexGuard<'_, Had> {
        self.had_first.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The lock of a machine.
    pub(crate) fn of_holder(&self, holder: &Holder) -> &tokio::sync::Mutex<()> {
        let mut hasher = std::hash::DefaultHasher::new();
        holder.hash(&mut hasher);
        &self.machines[hasher.finish() as usize % LOCKS]
    }

    /// How the sluice is; none while it does not answer.
    pub fn state(&self) -> Option<State> {
        self.state.read().unwrap_or_else(|e| e.into_inner()).clone()
    }

    pub(crate) fn set_state(&self, state: Option<State>) {
        *self.state.write().unwrap_or_else(|e| e.into_inner()) = state;
    }

    /// Notes how an entrance of tunnels stands.
    pub fn note_entrance(&self, name: &str, change: impl FnOnce(&mut EntranceFacts)) {
        let mut all = self.entrances.lock().unwrap_or_else(|e| e.into_inner());
        change(all.entry(name.to_owned()).or_insert_with(|| EntranceFacts { name: name.to_owned(), ..EntranceFacts::default() }));
    }

    /// How they stand.
    pub(crate) fn entrances(&self) -> Vec<EntranceFacts> {
        self.entrances.lock().unwrap_or_else(|e| e.into_inner()).values().cloned().collect()
    }

    /// Changes whenever somebody is off.
    pub fn leavings(&self) -> tokio::sync::watch::Receiver<u64> {
        self.left.subscribe()
    }

    /// Why the kernel is not as it should be, where it is not.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    pub(crate) fn set_trouble(&self, trouble: Option<String>) {
        let mut held = self.trouble.lock().unwrap_or_else(|e| e.into_inner());
        if let Some(why) = trouble.as_ref().filter(|t| held.as_ref() != Some(t)) {
            tracing::error!(event = "network.trouble", why, "the kernel is not as it should be");
        }
        *held = trouble;
    }

    /// Interfaces that this node may guard.
    pub fn interfaces(&self) -> Vec<String> {
        self.state().map(|s| s.allowed).unwrap_or_default()
    }

    /// Names of the zones of an edition that this node guards just now.
    pub fn guards(&self, edition: &Edition) -> Vec<String> {
        let closed = self.state().filter(|s| s.edition == Some(edition.number) && s.trouble.is_none());
        let closed = closed.map(|s| s.interfaces).unwrap_or_default();
        guarded(&edition.site, &closed).map(|(_, z)| z.name.clone()).collect()
    }

    /// The zone of a gate that an address is in, where this node guards it.
    pub fn zone_of<'a>(&self, site: &'a Site, gate: &'a Gate, address: IpAddr) -> Option<&'a Zone> {
        let interfaces = self.interfaces();
        site.zones_of(gate).find(|z| z.holds(address) && interfaces.contains(&z.interface))
    }

    /// What a machine is known by in a zone; none where nothing on the link answers for its address.
    pub fn holder(&self, zone: &Zone, address: IpAddr) -> Option<Holder> {
        let address = address.to_canonical();
        if !on_link(zone) {
            return Some(Holder::Address(address));
        }
        let interface = interface_number(&zone.interface)?;
        self.neighbours.hardware(interface, address).map(Holder::Link)
    }

    /// A row for a machine that comes in at a gate's zone: whose it is, and what is open to it, is for whoever lets it in.
    pub(crate) fn row(&self, gate: &Gate, zone: &Zone, holder: &Holder) -> PresenceRow {
        let (hardware, address) = match holder {
            Holder::Link(hardware) => (Some(HardwareAddress(*hardware).to_string()), String::new()),
            Holder::Address(address) => (None, address.to_string()),
            Holder::Pair(first, _) => (None, first.to_string()),
        };
        let place = (gate.name.as_str(), zone.name.as_str(), self.engine.node.as_str());
        PresenceRow {
            interface: zone.interface.clone(),
            hardware,
            address,
            mark: self.book().free_mark() as i32,
            ..PresenceRow::blank(passeur_engine::random::new_uuid(), place, self.engine.now())
        }
    }

    /// The machine at an address of a zone, where somebody is on with it, or it is one without a person; none while it has a first reach alone.
    pub(crate) fn on_at(&self, zone: &Zone, address: IpAddr) -> Option<Present> {
        let holder = self.holder(zone, address)?;
        self.book().at(&zone.interface, &holder).filter(|p| !p.is_first()).cloned()
    }

    /// Notes where an unknown machine wanted to go, so that its person is shown the way after signing in.
    pub fn note_wanted(&self, address: IpAddr, wanted: String) {
        let now = self.engine.now();
        let mut all = self.wanted.lock().unwrap_or_else(|e| e.into_inner());
        if all.len() >= WANTED_MAX {
            all.retain(|_, (at, _)| *at > now - WANTED_FOR);
        }
        if all.len() < WANTED_MAX {
            all.insert(address, (now, wanted));
        }
    }

    /// Where a machine wanted to go, of late.
    pub fn wanted(&self, address: IpAddr) -> Option<String> {
        let now = self.engine.now();
        let all = self.wanted.lock().unwrap_or_else(|e| e.into_inner());
        all.get(&address.to_canonical()).filter(|(at, _)| *at > now - WANTED_FOR).map(|(_, w)| w.clone())
    }

    /// What the network says of itself to a machine at an address (RFC 8908). Nobody's cookie is asked.
    pub fn captive(&self, edition: &Edition, gate: &Gate, address: IpAddr) -> Captive {
        let mut out = Captive { captive: true, user_portal_url: gate.address.at("/"), ..Captive::default() };
        let Some(zone) = self.zone_of(&edition.site, gate, address) else {
            // Nothing is closed to whoever is in no zone.
            out.captive = false;
            return out;
        };
        self.note_seen(&zone.name, |seen| seen.asked += 1);
        let now = self.engine.now();
        if let Some(present) = self.on_at(zone, address) {
            out.captive = present.session.as_ref().is_some_and(|s| s.is_ended());
            out.seconds_remaining = present.until().map(|u| (u - now).num_seconds().max(0));
            out.bytes_remaining = present.row.quota.map(|_| present.left.unwrap_or(0));
            out.can_extend_session = present.session.is_some();
        }
        out
    }

    fn trace(&self) -> MutexGuard<'_, Trace> {
        self.asked.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// Notes that a machine asked for a name, where nobody is signed in on it.
    pub(crate) fn note_asked(&self, machine: IpAddr, name: &str) {
        let Some(edition) = self.engine.live.get() else { return };
        let interfaces = self.interfaces();
        let machine = machine.to_canonical();
        let Some((_, zone)) = zone_at(&edition.site, &interfaces, machine) else { return };
        if self.on_at(zone, machine).is_none() {
            self.trace().note(machine, name, self.engine.now());
        }
    }

    /// Every address of the machine that has one.
    fn same_machine(&self, address: IpAddr) -> Vec<IpAddr> {
        let address = address.to_canonical();
        let links = self.interfaces().into_iter().filter_map(|i| interface_number(&i));
        let same = links.filter_map(|link| Some((link, self.neighbours.hardware(link, address)?)));
        let mut all: Vec<IpAddr> = same.flat_map(|of| self.neighbours.addresses(of)).collect();
        all.push(address);
        all
    }

    fn note_seen(&self, zone: &str, what: impl FnOnce(&mut Seen)) {
        let mut seen = self.seen.lock().unwrap_or_else(|e| e.into_inner());
        what(seen.entry(zone.to_owned()).or_default());
    }

    /// Somebody came on in a zone.
    pub(crate) fn note_came(&self, zone: &str) {
        self.note_seen(zone, |seen| seen.people += 1);
    }

    /// Zones in which enough people came on to say that no machine's system asks how it stands.
    pub(crate) fn nobody_asked(&self) -> Vec<(String, u64)> {
        let seen = self.seen.lock().unwrap_or_else(|e| e.into_inner());
        let mut out: Vec<(String, u64)> =
            seen.iter().filter(|(_, s)| s.asked == 0 && s.people >= ENOUGH).map(|(zone, s)| (zone.clone(), s.people)).collect();
        out.sort();
        // Told by tens, so that it is not told anew for each.
        out.into_iter().map(|(zone, people)| (zone, people / ENOUGH * ENOUGH)).collect()
    }

    /// What is held for sessions, so that their rights are read again while nobody asks for a page.
    pub fn held(&self) -> Vec<Held> {
        let book = self.book();
        let of = |p: &Present| {
            let session = p.session.as_ref()?.id;
            Some(Held { session, gate: p.row.gate.clone(), good_until: p.good_until })
        };
        book.present.values().filter_map(of).collect()
    }

    /// Whether every machine of an ended session is cut.
    pub fn is_shut(&self) -> bool {
        let book = self.book();
        book.owed.is_empty() && book.of_ended().is_empty()
    }

    /// Numbers of machines of sessions that are on here.
    pub(crate) fn of_sessions(&self, ids: &[Uuid]) -> Vec<Uuid> {
        let is = |p: &&Present| p.session.as_ref().is_some_and(|s| ids.contains(&s.id));
        self.book().present.values().filter(is).map(|p| p.row.id).collect()
    }
}

/// The name that a lease of dnsmasq holds for a hardware address: expiry, hardware address, address, name, client id.
fn leased(file: &Path, hardware: &str) -> Option<String> {
    let text = std::fs::read_to_string(file).ok()?;
    let line = text.lines().find(|l| l.split(' ').nth(1).is_some_and(|h| h.eq_ignore_ascii_case(hardware)))?;
    let name = line.split(' ').nth(3).filter(|n| *n != "*")?;
    Some(passeur_core::text::shorten(name, 60))
}

//! What every part of the service shares.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, RwLock};

use aws_lc_rs::rand;
use chrono::Duration;
use passeur_api::Role;
use passeur_core::Moment;
use passeur_core::acts::{Act, Personal};
use passeur_core::id::{CrossingId, Token};
use passeur_core::seal::{Purpose, Ring};
use passeur_core::site::{Finding, Provider, Severity, Site, compile};
use passeur_gateway::FloodCounters;
use passeur_gateway::edition::WebLive;
use passeur_gateway::table::Table;
use passeur_gateway::tls::Certificates;
use passeur_links::kerberos::{Behalf, Pool, Tickets};
use passeur_links::ldap::DirectoryLink;
use passeur_links::smtp::Mailer;
use passeur_live::clock::Clock;
use passeur_live::edition::{Edition, Live};
use passeur_live::sessions::Sessions;
use passeur_store::{ProviderFlows, Recorded, SealedSecret, SecretHead, Store, StoreError, Turned};
use tokio::runtime::Handle;
use uuid::Uuid;

use crate::emergency::Emergency;
use crate::providers::own::OwnSaml;
use crate::providers::{self, ProviderLink};
use crate::recorder::Recorder;
use crate::standings::Standings;
use crate::survey::Done;
use crate::workers::Workers;

/// Before the revocation counter was read for the first time.
const NOTHING_SEEN: i64 = i64::MAX;

/// How often a node tells that it runs, in milliseconds.
const TELL_EVERY_MS: i64 = 1_000;

/// The shared state of the service. Cheap to clone.
#[derive(Clone)]
pub struct App(Arc<Inner>);

/// See [`App`].
pub struct Inner {
    pub store: Store,
    pub ring: Ring,
    pub node: String,
    /// This process among all that run under any name.
    pub node_id: Uuid,
    /// Up to where this node has acted on revocations.
    revocation: AtomicI64,
    /// How often this node learnt that rights were read again.
    rights: AtomicU64,
    /// Whether the store answered when it was asked last what was ended.
    pub sees: AtomicBool,
    /// When this node last told the others that it runs, in milliseconds, and up to where it was then.
    told: Mutex<(i64, i64)>,
    pub clock: Clock,
    pub live: Live,
    /// What the data path made of the live edition.
    pub web: WebLive,
    /// Sessions in this node's memory.
    pub sessions: Arc<Sessions>,
    /// What they opened at gates of the data path.
    pub table: Arc<Table>,
    pub recorder: Recorder,
    /// Where what strangers make this node compute runs.
    pub workers: Workers,
    /// Where what engineers ask about documents is computed.
    pub documents: Workers,
    /// The runtime of pages, calls and look-ups: what the watch must not wait for goes there.
    runtime: Handle,
    /// What the data path accepted and turned away; set once it runs.
    pub floods: OnceLock<Arc<FloodCounters>>,
    links: RwLock<Links>,
    /// Where Kerberos runs, whatever the edition.
    kerberos: Arc<Pool>,
    /// Tickets that live sessions show to applications.
    pub standings: Standings,
    /// The account that works when everything else is broken, if there is one.
    pub emergency: Option<Arc<Emergency>>,
    /// How far owners of tokens may go, by the token's digest and where it is used, and when that was found out.
    pub token_roles: Mutex<OwnersRoles>,
    /// Held while this node surveys; and what it found last.
    pub surveying: tokio::sync::Mutex<()>,
    pub surveyed: Mutex<Option<Arc<Done>>>,
    /// Certificates of the TLS listener, where there is one.
    pub certificates: OnceLock<Arc<Certificates>>,
    /// Why this node does not use the edition it should.
    trouble: Mutex<Option<String>>,
    /// Which versions of secrets this node uses.
    secret_heads: Mutex<Vec<SecretHead>>,
    /// The live edition's number and until when it must be confirmed; none where it need not.
    unconfirmed: Mutex<Option<(i32, Moment)>>,
}

/// Roles of tokens' owners: see [`Inner::token_roles`].
pub type OwnersRoles = HashMap<([u8; 32], Option<IpAddr>), (Option<Role>, Moment)>;

/// Connections of the live edition.
#[derive(Default)]
struct Links {
    providers: HashMap<String, ProviderLink>,
    own: Arc<OwnSaml>,
    directories: HashMap<String, Arc<DirectoryLink>>,
    mailer: Option<Arc<Mailer>>,
    tickets: HashMap<String, Arc<Tickets>>,
    /// Accounts that act for people, by gate.
    behalf: HashMap<String, Arc<Behalf>>,
}

impl std::ops::Deref for App {
    type Target = Inner;
    fn deref(&self) -> &Inner {
        &self.0
    }
}

/// A random UUID (RFC 9562, version 4).
pub fn new_uuid() -> Uuid {
    uuid::Builder::from_random_bytes(random()).into_uuid()
}

/// Random bytes from the system.
pub fn random<const N: usize>() -> [u8; N] {
    let mut out = [0u8; N];
    // The library's generator fails only where the system has no entropy source at all; nothing may go on then.
    assert!(rand::fill(&mut out).is_ok(), "the system gives no random bytes");
    out
}

impl App {
    pub fn new(store: Store, ring: Ring, node: String, clock: Clock, emergency: Option<Arc<Emergency>>) -> App {
        let recorder = Recorder::new(store.clone());
        let (live, sessions) = (Live::default(), Arc::<Sessions>::default());
        App(Arc::new(Inner {
            store,
            ring,
            node,
            node_id: new_uuid(),
            revocation: AtomicI64::new(NOTHING_SEEN),
            rights: AtomicU64::new(0),
            sees: AtomicBool::new(true),
            told: Mutex::new((0, -1)),
            clock,
            web: WebLive::following(&live),
            live,
            table: Arc::new(Table::new(sessions.clone())),
            sessions,
            recorder,
            workers: Workers::start(),
            documents: Workers::for_documents(),
            runtime: Handle::current(),
            floods: OnceLock::new(),
            links: RwLock::default(),
            kerberos: Arc::default(),
            standings: Standings::default(),
            emergency,
            token_roles: Mutex::default(),
            surveying: tokio::sync::Mutex::default(),
            surveyed: Mutex::default(),
            certificates: OnceLock::new(),
            trouble: Mutex::default(),
            secret_heads: Mutex::default(),
            unconfirmed: Mutex::default(),
        }))
    }

    pub fn now(&self) -> Moment {
        self.clock.now()
    }

    /// Acts on every revocation that this node has not seen yet, and tells the others how far it is.
    pub async fn catch_up(&self) -> Result<(), StoreError> {
        self.catch_up_by(&self.store).await
    }

    /// The same, by connections of the caller's own.
    pub async fn catch_up_by(&self, store: &Store) -> Result<(), StoreError> {
        let after = self.revocation.load(Ordering::Acquire);
        let (counter, ids, re_read) = store.revoked_since(after).await?;
        self.end_here(&ids);
        if !re_read.is_empty() {
            // Counted first: a decision that is being made on what was read before sees that, or the session's generation.
            self.rights.fetch_add(1, Ordering::AcqRel);
            let held = self.table.rights_changed(&re_read);
            if !held.is_empty() {
                // Whoever waits for this node waits for what it knows, not for what it looks up.
                let app = self.clone();
                self.runtime.spawn(async move { crate::rights::review(&app, held).await });
            }
        }
        self.sessions.saw_revocations();
        let so_far = match after {
            // At the first reading memory holds nothing yet, so nothing had to be ended.
            NOTHING_SEEN => {
                let first = self.revocation.compare_exchange(NOTHING_SEEN, counter, Ordering::AcqRel, Ordering::Acquire);
                first.map_or_else(|known| known.max(counter), |_| counter)
            }
            _ => self.revocation.fetch_max(counter, Ordering::AcqRel).max(counter),
        };
        // Whoever ends a session waits for the counter; that this node still runs is news once a second.
        let now = self.now();
        let (told_at, told) = *self.told.lock().unwrap_or_else(|e| e.into_inner());
        if told < so_far || now.timestamp_millis() - told_at >= TELL_EVERY_MS {
            store.node_seen((self.node_id, &self.node, self.ring.newest()), now, so_far).await?;
            *self.told.lock().unwrap_or_else(|e| e.into_inner()) = (now.timestamp_millis(), so_far);
        }
        Ok(())
    }

    /// Ends sessions in this node's memory: their requests, what is open, and what they show to applications.
    pub fn end_here(&self, ids: &[Uuid]) {
        for id in ids {
            tracing::info!(event = "session.ended", session = %id, "a session ended");
        }
        self.table.end(ids);
        self.standings.end(ids);
    }

    /// An act to record in the transaction that makes it.
    pub fn act(&self, what: &str, about: serde_json::Value, personal: Personal) -> Recorded<'_> {
        Recorded { act: Act { at: self.now(), what: what.to_owned(), about, personal }, ring: &self.ring }
    }

    /// An act of the service itself.
    pub fn own_act(&self, what: &str, about: serde_json::Value) -> Recorded<'_> {
        let personal = Personal { who: format!("node {}", self.node), by: "service".into(), people: vec![] };
        self.act(what, about, personal)
    }

    /// How often this node learnt that rights were read again.
    pub fn rights_seen(&self) -> u64 {
        self.rights.load(Ordering::Acquire)
    }

    pub fn new_crossing(&self) -> CrossingId {
        CrossingId::new(self.now(), random())
    }

    pub fn new_token(&self) -> Token {
        Token::from_random(random())
    }

    /// The link to a provider of the live edition.
    pub fn provider(&self, name: &str) -> Option<ProviderLink> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).providers.get(name).cloned()
    }

    /// What we are to SAML providers.
    pub fn own_saml(&self) -> Arc<OwnSaml> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).own.clone()
    }

    pub fn directory(&self, name: &str) -> Option<Arc<DirectoryLink>> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).directories.get(name).cloned()
    }

    /// What sends mail, where the live edition names a server.
    pub fn mailer(&self) -> Option<Arc<Mailer>> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).mailer.clone()
    }

    /// The keys of a way in by ticket, of the live edition.
    pub fn tickets(&self, way: &str) -> Option<Arc<Tickets>> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).tickets.get(way).cloned()
    }

    /// Where Kerberos runs.
    pub fn kerberos(&self) -> &Arc<Pool> {
        &self.kerberos
    }

    /// The account that acts for people at a gate of the live edition.
    pub fn behalf(&self, gate: &str) -> Option<Arc<Behalf>> {
        self.links.read().unwrap_or_else(|e| e.into_inner()).behalf.get(gate).cloned()
    }

    /// Keys of every way in by ticket. Tickets live as long as they are issued for: the key before the one in use goes on opening
    /// them until it is forgotten.
    async fn tickets_of(&self, site: &Site) -> Result<HashMap<String, Arc<Tickets>>, StoreError> {
        let mut out = HashMap::new();
        for (way, ticket) in site.ticket_ways() {
            let mut keytabs = vec![];
            for name in &ticket.keytabs {
                let opened = self.kept_secret(name).await?;
                match opened.is_empty() {
                    true => keytabs.push((name.as_str(), None)),
                    false => keytabs.extend(opened.into_iter().map(|(_, k)| (name.as_str(), Some(k)))),
                }
            }
            let keytabs = keytabs.iter().map(|(name, kept)| (*name, kept.as_deref()));
            out.insert(way.to_owned(), Arc::new(Tickets::new(self.kerberos.clone(), keytabs, ticket.hosts.clone())));
        }
        Ok(out)
    }

    /// Every stored secret, opened, by name: the version in use, then the one that stands beside it.
    pub async fn secrets(&self) -> Result<HashMap<String, Vec<String>>, StoreError> {
        let mut out = HashMap::<String, Vec<String>>::new();
        for s in self.store.sealed_secrets().await? {
            if let Some(value) = self.open_secret(&s) {
                out.entry(s.name).or_default().push(value);
            }
        }
        Ok(out)
    }

    /// A secret, opened: a given version, or the one in use.
    pub async fn secret(&self, name: &str, version: Option<i32>) -> Result<Option<String>, StoreError> {
        match version {
            None => Ok(self.secrets().await?.remove(name).and_then(|all| all.into_iter().next())),
            Some(v) => Ok(self.store.sealed_version(name, v).await?.and_then(|s| self.open_secret(&s))),
        }
    }

    /// Every kept version of a secret, opened, with its number.
    pub async fn kept_secret(&self, name: &str) -> Result<Vec<(i32, String)>, StoreError> {
        let kept = self.store.kept_versions(name).await?;
        Ok(kept.iter().filter_map(|s| Some((s.version, self.open_secret(s)?))).collect())
    }

    fn open_secret(&self, s: &SealedSecret) -> Option<String> {
        let bound = secret_binding(&s.name, s.version);
        let opened = self.ring.open(Purpose::Secret, &bound, &s.sealed).ok().and_then(|b| String::from_utf8(b).ok());
        if opened.is_none() {
            tracing::error!(secret = s.name, version = s.version, "a secret cannot be opened with this key ring");
        }
        opened
    }

    /// Loads the live edition when it is newer than the one in use, when a secret changed, or always when `anew`. A node
    /// that cannot load an edition keeps the last good one and says so.
    pub async fn load_edition(&self, anew: bool) -> Result<(), StoreError> {
        let current = self.live.get().map_or(0, |e| e.number);
        let heads = self.store.secret_heads().await?;
        let turned = *self.secret_heads.lock().unwrap_or_else(|e| e.into_inner()) != heads;
        if !anew && !turned && self.store.live_edition_number().await? <= current {
            return Ok(());
        }
        let Some(row) = self.store.live_edition().await? else {
            return Ok(());
        };
        let waits = row.confirm_by.filter(|_| row.confirmed_by.is_none());
        *self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()) = waits.map(|by| (row.number, by));
        let document = row.document.clone();
        let compiled = tokio::task::spawn_blocking(move || compile(&document)).await;
        let (site, findings) = compiled.map_err(|e| StoreError::Query(e.to_string()))?;
        let Some(site) = site else {
            let first = findings.iter().find(|f| f.severity == Severity::Error).map(Finding::to_string).unwrap_or_default();
            let words =
                format!("edition {} cannot be loaded on node {}; edition {current} stays in use: {first}", row.number, self.node);
            let mut known = self.trouble.lock().unwrap_or_else(|e| e.into_inner());
            if known.as_ref() != Some(&words) {
                tracing::error!(edition = row.number, first, "the live edition cannot be loaded; the last good one stays in use");
            }
            *known = Some(words);
            return Ok(());
        };
        *self.trouble.lock().unwrap_or_else(|e| e.into_inner()) = None;
        let secrets = self.secrets().await?;
        let site = salted(site, &secrets);
        let own = self.own_saml_of(&site).await?;
        let tickets = self.tickets_of(&site).await?;
        let links = self.build_links(&site, &secrets, own, tickets);
        *self.secret_heads.lock().unwrap_or_else(|e| e.into_inner()) = heads;
        *self.links.write().unwrap_or_else(|e| e.into_inner()) = links;
        let authorities = site.authorities().collect::<Vec<_>>();
        self.store.adopt(&authorities).await?;
        let before = self.live.get();
        if row.number > current || before.as_ref().is_some_and(|e| e.number == row.number && e.site.salts != site.salts) {
            tracing::info!(edition = row.number, "edition in use");
            self.live.set(Edition::new(row.number, row.published_at, site));
        }
        Ok(())
    }

    /// What we are to SAML providers in a site. A provider may go on encrypting for a key that another has taken over from: every
    /// version opens until it is forgotten.
    pub async fn own_saml_of(&self, site: &Site) -> Result<OwnSaml, StoreError> {
        let kept: Vec<String> = match &site.saml.key {
            Some(name) => self.store.kept_versions(name).await?.iter().filter_map(|s| self.open_secret(s)).collect(),
            None => vec![],
        };
        Ok(OwnSaml::new(&site.saml, &kept))
    }

    /// What engineers must know of this node: an edition it cannot load.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Until when the live edition must be confirmed.
    pub fn waits_for_confirmation(&self) -> Option<Moment> {
        self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()).map(|(_, by)| by)
    }

    /// Somebody confirmed an edition: it waits no more, and nothing else of it changed.
    pub fn confirmed(&self, number: i32) {
        self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()).take_if(|(n, _)| *n == number);
    }

    /// How people who were sent to a provider in the last 24 hours fared; none where nobody was.
    pub async fn flows(&self, provider: &Provider) -> Result<Option<ProviderFlows>, StoreError> {
        let now = self.now();
        // A minute more than the limit: an answer may be on its way.
        let late = now - provider.answer_within - Duration::minutes(1);
        let all = self.store.flows(now - Duration::hours(24), late).await?;
        Ok(all.into_iter().find(|f| f.provider == provider.name))
    }

    /// Puts the edition before the live one back when nobody confirmed it in time.
    pub async fn go_back(&self) -> Result<(), StoreError> {
        let Some((number, by)) = *self.unconfirmed.lock().unwrap_or_else(|e| e.into_inner()) else { return Ok(()) };
        if self.now() < by {
            // Confirmed on another node: nothing waits here any more either.
            let live = self.store.edition_heads(None, 1).await?;
            if live.iter().any(|e| e.number == number && e.confirmed_by.is_some()) {
                self.confirmed(number);
            }
            return Ok(());
        }
        let note = format!("edition {number} was not confirmed");
        let act = self.own_act("go back", serde_json::json!({"edition": number + 1, "unconfirmed": number}));
        let turned = match (self.live.get(), self.store.edition_before(number).await?) {
            (Some(live), Some(before)) => {
                let look = move || compile(&before.document).0.map(|site| turned(&live.site, &site, &[])).unwrap_or_default();
                tokio::task::spawn_blocking(look).await.map_err(|e| StoreError::Query(e.to_string()))?
            }
            _ => vec![],
        };
        if let Some(back) = self.store.go_back(number, &note, &turned, act).await? {
            tracing::warn!(edition = back, unconfirmed = number, "the edition before is put back: nobody confirmed in time");
        }
        // Whoever did it, or confirmed meanwhile: this node looks again.
        self.load_edition(true).await
    }

    fn build_links(
        &self,
        site: &Site,
        secrets: &HashMap<String, Vec<String>>,
        own: OwnSaml,
        tickets: HashMap<String, Arc<Tickets>>,
    ) -> Links {
        let own = Arc::new(own);
        let secret = |name: &str| secrets.get(name).cloned().unwrap_or_default();
        let providers = providers::all(site, &secret, &own, &self.clock, &|name| self.provider(name)).collect();
        let directories = site.directories.iter().map(|d| {
            let secrets = d.secret.as_deref().map(secret).unwrap_or_default();
            (d.name.clone(), DirectoryLink::new(d.clone(), secrets, self.clock.clone()))
        });
        let mailer = site.mail.as_ref().map(|m| {
            let password = m.account.as_ref().and_then(|(_, name)| secret(name).into_iter().next());
            Arc::new(Mailer::new(m.clone(), password))
        });
        let behalf = site.gates.iter().filter_map(|g| {
            let of = g.ticket.as_ref()?.behalf.as_ref()?;
            let link = Behalf::new(self.kerberos.clone(), of.account.clone(), &secret(&of.keytab));
            Some((g.name.clone(), Arc::new(link)))
        });
        Links { providers, own, directories: directories.collect(), mailer, tickets, behalf: behalf.collect() }
    }
}

/// Providers and ways in whose name stands for another authority in a new edition; `moves` names those that only changed their address.
pub fn turned(live: &Site, next: &Site, moves: &[String]) -> Vec<Turned> {
    let changed = live.authorities().filter_map(|(provider, before)| {
        let after = next.authority(&provider).filter(|a| *a != before)?;
        Some(Turned { moves: moves.contains(&provider), provider, before, after })
    });
    changed.collect()
}

/// A site with the secrets that its mappings make identifiers with.
pub fn salted(site: Site, secrets: &HashMap<String, Vec<String>>) -> Site {
    site.with_salts(|name| secrets.get(name).and_then(|all| all.first().cloned()))
}

/// What a secret's seal is bound to: its name and version.
pub fn secret_binding(name: &str, version: i32) -> Vec<u8> {
    format!("{name}/{version}").into_bytes()
}

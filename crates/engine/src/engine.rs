//! What every part of a node shares.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, RwLock};

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::acts::{Act, Personal};
use passeur_core::id::{CrossingId, Token};
use passeur_core::seal::Ring;
use passeur_core::site::Provider;
use passeur_links::kerberos::{Behalf, Pool, Tickets};
use passeur_links::ldap::DirectoryLink;
use passeur_links::smtp::Mailer;
use passeur_live::clock::Clock;
use passeur_live::edition::Live;
use passeur_live::session::LiveSession;
use passeur_live::sessions::Sessions;
use passeur_store::{ProviderFlows, Recorded, SecretHead, Store, StoreError, Usage};
use uuid::Uuid;

use crate::authorities::Authorities;
use crate::code_servers;
use crate::console::TokenRoles;
use crate::delegations::Delegations;
use crate::editions::Links;
use crate::providers::ProviderLink;
use crate::providers::own::OwnSaml;
use crate::random::{new_uuid, random};
use crate::recorder::Recorder;
use crate::workers::Workers;

/// Before the revocation counter was read for the first time.
const NOTHING_SEEN: i64 = i64::MAX;

/// How often a node tells that it runs, in milliseconds.
const TELL_EVERY_MS: i64 = 1_000;

/// What gates hold for live sessions: told what becomes of these, so that nothing that was read before is kept after it.
pub trait Holders: Send + Sync {
    /// Sessions ended, and are flagged: what they opened is forgotten.
    fn ended(&self);
    /// Rights of sessions were read again, and no decision of before counts any more: what is open on one is looked at. Does not wait.
    fn rights_changed(&self, engine: &Engine, ids: &[Uuid]);
    /// What connections and streams hold just now.
    fn held(&self) -> Vec<Held>;
    /// How much was used since this was asked last, by the crossing that tells of it.
    fn usage(&self) -> Vec<(CrossingId, Usage)>;
    /// Forgets what sessions opened that `keep` does not want, so that memory follows use.
    fn prune(&self, keep: &dyn Fn(&LiveSession) -> bool);
    /// Whether all that ended sessions opened is shut. While it is not, this node does not say that it has acted on their end.
    fn is_shut(&self) -> bool {
        true
    }
}

/// What a connection or a stream holds.
#[derive(Clone, Debug)]
pub struct Held {
    pub session: Uuid,
    pub gate: String,
    /// Until when what the directory said is good; none where no directory was asked.
    pub good_until: Option<Moment>,
}

/// A node without pages or API. Cheap to clone.
#[derive(Clone)]
pub struct Engine(Arc<Inner>);

/// See [`Engine`].
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
    /// Sessions in this node's memory.
    pub sessions: Arc<Sessions>,
    /// What gates hold for them.
    holders: OnceLock<Box<dyn Holders>>,
    pub recorder: Recorder,
    /// How far owners of tokens may go.
    pub token_roles: TokenRoles,
    /// Where what strangers make this node compute runs.
    pub workers: Workers,
    /// Where what engineers ask about documents is computed.
    pub documents: Workers,
    pub(crate) links: RwLock<Links>,
    /// Where Kerberos runs, whatever the edition.
    pub(crate) kerberos: Arc<Pool>,
    /// What authorities of devices' certificates said.
    pub authorities: Authorities,
    /// Servers for codes that did not answer of late.
    pub code_servers: code_servers::Silent,
    /// Tickets that live sessions show to applications.
    pub delegations: Delegations,
    /// Why this node does not use the edition it should.
    pub(crate) trouble: Mutex<Option<String>>,
    /// Which versions of secrets this node uses.
    pub(crate) secret_heads: Mutex<Vec<SecretHead>>,
    /// The live edition's number and until when it must be confirmed; none where it need not.
    pub(crate) unconfirmed: Mutex<Option<(i32, Moment)>>,
}

impl std::ops::Deref for Engine {
    type Target = Inner;
    fn deref(&self) -> &Inner {
        &self.0
    }
}

impl Engine {
    /// A node on a store, before it has read anything from it. Must be called on the runtime that runs everything that is no data path.
    pub fn new(store: Store, ring: Ring, node: String, clock: Clock) -> Engine {
        let recorder = Recorder::new(store.clone());
        Engine(Arc::new(Inner {
            store,
            ring,
            node,
            node_id: new_uuid(),
            revocation: AtomicI64::new(NOTHING_SEEN),
            rights: AtomicU64::new(0),
            sees: AtomicBool::new(true),
            told: Mutex::new((0, -1)),
            clock,
            live: Live::default(),
            sessions: Arc::default(),
            holders: OnceLock::new(),
            recorder,
            token_roles: TokenRoles::default(),
            workers: Workers::start(),
            documents: Workers::for_documents(),
            links: RwLock::default(),
            kerberos: Arc::default(),
            authorities: Authorities::default(),
            code_servers: code_servers::Silent::default(),
            delegations: Delegations::default(),
            trouble: Mutex::default(),
            secret_heads: Mutex::default(),
            unconfirmed: Mutex::default(),
        }))
    }

    /// Names what gates hold, once: from then on it is told what becomes of sessions.
    pub fn set_holders(&self, holders: impl Holders + 'static) {
        let first = self.holders.set(Box::new(holders)).is_ok();
        debug_assert!(first, "what gates hold is named once");
    }

    /// What gates hold, once it was named.
    pub fn holders(&self) -> Option<&dyn Holders> {
        self.holders.get().map(|h| &**h)
    }

    /// The moment now.
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
            self.sessions.rights_changed(&re_read);
            if let Some(holders) = self.holders.get() {
                holders.rights_changed(self, &re_read);
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
        let is_shut = self.holders.get().is_none_or(|h| h.is_shut());
        let so_far = if is_shut { so_far } else { told.max(0) };
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
        if !self.sessions.end(ids).is_empty()
            && let Some(holders) = self.holders.get()
        {
            holders.ended();
        }
        self.delegations.end(ids);
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

    /// The id of a crossing that begins now.
    pub fn new_crossing(&self) -> CrossingId {
        CrossingId::new(self.now(), random())
    }

    /// A new bearer secret.
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

    /// The link to a directory of the live edition.
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

    /// How people who were sent to a provider in the last 24 hours fared; none where nobody was.
    pub async fn flows(&self, provider: &Provider) -> Result<Option<ProviderFlows>, StoreError> {
        let now = self.now();
        // A minute more than the limit: an answer may be on its way.
        let late = now - provider.answer_within - Duration::minutes(1);
        let all = self.store.flows(now - Duration::hours(24), late).await?;
        Ok(all.into_iter().find(|f| f.provider == provider.name))
    }
}

//! What an entrance asks of the rest of the node, each beside the entrance's own task: it answers its VPN server while the store, a directory
//! or the sluice takes its time.

use std::net::{IpAddr, Ipv4Addr};
use std::sync::Arc;

use chrono::Duration;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::device::Device;
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, Tunnel, Zone};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_engine::attempt::Attempt;
use passeur_engine::devices::{self, Told};
use passeur_engine::tunnel::{self, Outcome as Came, TunnelOf};
use passeur_engine::{Engine, entrance_trials, short_code, tries};
use passeur_gate_network::NetworkGate;
use passeur_gate_network::entering::NotOn;
use passeur_gate_network::tunnels::{Asking, Far, Tunnelled};
use passeur_live::edition::Edition;
use passeur_protocols::openvpn::Env;
use passeur_store::{PresenceRow, ProfileRow, StoreError, TunnelAskRow};
use tokio::sync::mpsc;
use uuid::Uuid;

/// What codes that are read out to clients are known by in the store.
pub const CODE: &str = "tunnel code";
/// Wrong codes that may come from one network within the window of [`tries`].
const TRIES: i32 = 10;

/// What the person of a client reads where the store does not answer.
const NOT_NOW: &str = "The tunnel cannot be opened just now. Try again in a minute.";

/// What was found.
#[derive(Debug)]
pub enum Found {
    /// A tunnel waits for its person: at this address of the gate's host.
    Waits { client: u64, key: u64, digest: [u8; 32], url: String },
    /// It cannot wait: these words for its person.
    NoRoom { client: u64, key: u64, words: &'static str },
    /// People answered for tunnels.
    Answered(Vec<TunnelAskRow>),
    /// It was decided.
    Decided { client: u64, key: u64, ask: Option<[u8; 32]>, came: Box<Result<Tunnelled, StoreError>> },
    /// One that is on was decided anew: with a new key, or on a new connection.
    Again { client: u64, key: u64, far: Option<Box<Far>> },
    /// What the store knows of a client that connects.
    Known { client: u64, key: u64, known: Box<Known>, env: Env },
    /// The code that a client sent is that of this session; none where it is nobody's.
    Code { client: u64, key: u64, session: Option<Uuid> },
}

/// What the store knows of a client that connects.
#[derive(Debug)]
pub struct Known {
    /// The profile of the certificate that it shows, which may count no more; none where it is none of this gate's.
    pub profile: Option<ProfileRow>,
    /// The device that it is of, where a check asks about it.
    pub device: Option<Device>,
    /// Trials of the entrance in which it connects.
    pub trials: Vec<Uuid>,
}

/// What runs beside an entrance.
#[derive(Clone)]
pub struct Beside {
    pub networks: NetworkGate,
    pub entrance: String,
    pub found: mpsc::Sender<Found>,
}

/// An entrance as the live edition has it.
#[derive(Clone)]
pub struct Place {
    pub edition: Arc<Edition>,
    gate: String,
    entrance: String,
}

impl Place {
    /// Of an entrance; none where the edition has none of that name that a gate takes people in at.
    pub fn of(engine: &Engine, entrance: &str) -> Option<Place> {
        let edition = engine.live.get()?;
        let gate = edition.site.gate_of_entrance(entrance)?.name.clone();
        Some(Place { edition, gate, entrance: entrance.to_owned() })
    }

    /// The gate, the entrance as a zone, and as an entrance.
    pub fn parts(&self) -> Option<(&Gate, &Zone, &Tunnel)> {
        let zone = self.edition.site.zone(&self.entrance)?;
        Some((self.edition.site.gate(&self.gate)?, zone, zone.tunnel()?))
    }
}

impl Beside {
    fn engine(&self) -> &Engine {
        &self.networks.engine
    }

    fn spawn(&self, what: impl Future<Output = Found> + Send + 'static) {
        let (found, own) = (self.found.clone(), self.clone());
        tokio::spawn(async move {
            // The entrance speaks with its server no more: nobody would let the client in, and nobody would close after it.
            if let Err(lost) = found.send(what.await).await
                && let Found::Decided { came, .. } = lost.0
                && let Ok(Tunnelled::On(far)) = *came
            {
                own.close(far.id, "disconnected").await;
            }
        });
    }

    /// Lets a tunnel wait for its person.
    pub fn ask(&self, place: &Place, (client, key): (u64, u64), of: TunnelOf) {
        let Some((gate, _, tunnel)) = place.parts() else { return };
        let (own, gate_name, address, patience) = (self.clone(), gate.name.clone(), gate.address.clone(), tunnel.patience);
        self.spawn(async move {
            let engine = own.engine();
            let (token, now) = (engine.new_token(), engine.now());
            let row = TunnelAskRow {
                digest: token.digest().to_vec(),
                node: engine.node.clone(),
                gate: gate_name,
                tunnel: serde_json::to_value(&of).unwrap_or_default(),
                network: passeur_core::address::neighbourhood(of.outside).to_string(),
                created_at: now,
                // What came of it can be read for a while.
                expires_at: now + patience + Duration::minutes(1),
                session_id: None,
                browser: None,
                refused: false,
                outcome: None,
            };
            match engine.store.ask_for_tunnel(row).await {
                Ok(true) => Found::Waits { client, key, digest: token.digest(), url: address.at(&tunnel::target(&token)) },
                Ok(false) => {
                    Found::NoRoom { client, key, words: "Too many tunnels of your network wait. Try again in a minute." }
                }
                Err(e) => {
                    tracing::warn!(error = %e, "a tunnel that asks cannot be written");
                    Found::NoRoom { client, key, words: NOT_NOW }
                }
            }
        });
    }

    /// Looks for what people answered.
    pub fn look_for_answers(&self) {
        let own = self.clone();
        self.spawn(async move {
            let engine = own.engine();
            let all = engine.store.answered_tunnels(&engine.node, engine.now()).await;
            Found::Answered(all.unwrap_or_else(|e| {
                tracing::warn!(error = %e, "what people answered for tunnels cannot be read");
                vec![]
            }))
        });
    }

    /// Decides on a tunnel whose person said that it is theirs.
    pub fn decide(
        &self,
        place: &Place,
        (client, key): (u64, u64),
        (session, browser): (Uuid, Option<IpAddr>),
        (ask, of, address): (Option<[u8; 32]>, TunnelOf, Ipv4Addr),
    ) {
        let (own, place) = (self.clone(), place.clone());
        self.spawn(async move {
            let came = match place.parts() {
                None => Ok(Tunnelled::Over),
                Some((gate, zone, _)) => {
                    let asking = Asking { session, tunnel: of, address, browser };
                    own.networks.arrive_by_tunnel(&place.edition, (gate, zone), asking).await
                }
            };
            Found::Decided { client, key, ask, came: Box::new(came) }
        });
    }

    /// Decides anew on a tunnel that is on: on a new connection, or with a new key.
    pub fn decide_again(&self, place: &Place, (client, key): (u64, u64), id: Uuid, moved: Option<TunnelOf>) {
        let (own, place) = (self.clone(), place.clone());
        self.spawn(async move {
            let done = match &moved {
                Some(of) => own.networks.came_back(&place.edition, id, of).await,
                None => own.networks.key_renewed(&place.edition, id).await,
            };
            let far = done.unwrap_or_else(|e| {
                tracing::warn!(error = %e, "a tunnel could not be decided anew; it is ended");
                None
            });
            if far.is_none() {
                own.close(id, "refused-now").await;
            }
            Found::Again { client, key, far: far.map(Box::new) }
        });
    }

    /// Looks up who tries the entrance out and the profile of a certificate, and asks its authority about it where a check of devices wants that.
    /// Where the store does not say, the profile is none; a client of which it is not known whether somebody tries the entrance out with it waits
    /// for nothing.
    pub fn look_up(
        &self,
        place: &Place,
        (client, key): (u64, u64),
        (outside, shown, device): (IpAddr, Option<[u8; 32]>, Option<(Device, Told)>),
        env: Env,
    ) {
        let (own, gate, edition) = (self.clone(), place.gate.clone(), place.edition.clone());
        self.spawn(async move {
            let engine = own.engine();
            let trials = match entrance_trials::of_connection(engine, &own.entrance, outside).await {
                Ok(trials) => trials,
                Err(e) => {
                    tracing::warn!(error = %e, "whether somebody tries an entrance out cannot be read");
                    return Found::NoRoom { client, key, words: NOT_NOW };
                }
            };
            let profile = match shown {
                Some(digest) => own.profile_of(&digest, &gate).await,
                None => None,
            };
            let device = match device {
                Some((device, told)) => Some(devices::of_client(engine, &edition.site, device, told).await),
                None => None,
            };
            Found::Known { client, key, known: Box::new(Known { profile, device, trials }), env }
        });
    }

    async fn profile_of(&self, digest: &[u8; 32], gate: &str) -> Option<ProfileRow> {
        let engine = self.engine();
        let row = engine.store.profile_of(digest, gate).await.unwrap_or_else(|e| {
            tracing::warn!(error = %e, "the profile of a client cannot be looked up");
            None
        })?;
        if let Err(e) = engine.store.profile_used(row.id, engine.now()).await {
            tracing::warn!(error = %e, "that a profile was used cannot be written");
        }
        Some(row)
    }

    /// Looks up a code that a client sent.
    pub fn look_up_code(&self, place: &Place, (client, key): (u64, u64), outside: IpAddr, typed: String) {
        let (own, gate) = (self.clone(), place.gate.clone());
        self.spawn(async move {
            let engine = own.engine();
            let network = passeur_core::address::neighbourhood(outside).to_string();
            let done = async {
                if !tries::within(engine, CODE, &network, TRIES).await? {
                    return Ok(None);
                }
                let found = engine.store.take_tunnel_code(&short_code::macs(engine, CODE, &typed), &gate, engine.now()).await?;
                if found.is_some() {
                    tries::uncount_plain(engine, CODE, &network).await?;
                }
                Ok::<_, StoreError>(found)
            };
            let session = done.await.unwrap_or_else(|e| {
                tracing::warn!(error = %e, "a code that a client sent cannot be looked up");
                None
            });
            Found::Code { client, key, session }
        });
    }

    /// Records that a tunnel was refused before anybody was known: the first of an address in full, the rest counted.
    pub fn refused(&self, place: &Place, of: &TunnelOf, step: Step) {
        let Some((gate, _, _)) = place.parts() else { return };
        let mut attempt = Attempt::begin(self.engine(), gate.place(), &RequestFacts::of_tunnel(of.outside, of.facts.clone()));
        attempt.step(|| step);
        let crossing = attempt.record_anonymous(Outcome::Refused);
        if !of.trials.is_empty() {
            let (own, trials) = (self.clone(), of.trials.clone());
            tokio::spawn(async move { entrance_trials::note(own.engine(), &trials, crossing, None).await });
        }
    }

    /// Closes what an admission opened.
    pub async fn close(&self, id: Uuid, why: &str) {
        if let Err(e) = self.networks.tunnel_over(id, why).await {
            tracing::error!(error = %e, "a tunnel is closed, and that could not be written");
        }
    }

    /// Writes what came of an ask, beside the entrance.
    pub fn came_to(&self, ask: Option<[u8; 32]>, outcome: Came) {
        let Some(digest) = ask else { return };
        let own = self.clone();
        tokio::spawn(async move {
            let value = serde_json::to_value(&outcome).unwrap_or_default();
            if let Err(e) = own.engine().store.tunnel_came_to(&digest, value).await {
                tracing::warn!(error = %e, "what came of a tunnel cannot be written");
            }
        });
    }

    /// Adds a step to a crossing, beside the entrance.
    pub fn tell(&self, crossing: CrossingId, step: Step) {
        let own = self.clone();
        tokio::spawn(async move {
            if let Err(e) = own.networks.tells(crossing, step).await {
                tracing::warn!(error = %e, "a step of a tunnel's crossing cannot be written");
            }
        });
    }
}

/// What a decision that lets nobody in means for the person.
pub fn outcome(came: &Result<Tunnelled, StoreError>) -> Came {
    match came {
        Ok(Tunnelled::Refused(words, crossing)) => Came::Refused { words: words.clone(), crossing: crossing.to_string() },
        Ok(Tunnelled::Over) => Came::Over,
        Ok(Tunnelled::Not(NotOn::Full { machines, .. }, _)) => {
            Came::Full { machines: machines.iter().map(PresenceRow::known_since).collect() }
        }
        Ok(Tunnelled::Not(NotOn::QuotaUsed { .. }, _)) => Came::QuotaUsed,
        Ok(Tunnelled::On(_) | Tunnelled::Not(..)) | Err(_) => Came::Failed,
    }
}

/// The step of a client that was gone when its person was let in.
pub fn late(place: &Place) -> Option<Step> {
    let (_, zone, tunnel) = place.parts()?;
    Some(step!(TunnelLate { entrance: zone.name.as_str(), patience: format!("{} s", tunnel.patience.num_seconds()) }))
}

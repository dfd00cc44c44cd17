//! Machines at the far ends of tunnels: let through at the addresses that they are given, once their VPN server asks and their person is
//! signed in. Which client it is, and what it is told, is for whoever speaks with the VPN server.

use std::collections::HashSet;
use std::net::{IpAddr, Ipv4Addr};
use std::sync::atomic::Ordering;

use passeur_core::crossing::Outcome;
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, Zone};
use passeur_core::step;
use passeur_core::step::{Param, Phrase, Step};
use passeur_engine::attempt;
use passeur_engine::entrance_trials::{self, Tried};
use passeur_engine::sessions;
use passeur_engine::tunnel::TunnelOf;
use passeur_live::edition::Edition;
use passeur_sluice::words::Holder;
use passeur_store::{PresenceRow, StoreError};
use uuid::Uuid;

use crate::book::Present;
use crate::entering::{Arrival, NotOn, wanted_terms, words};
use crate::gate::NetworkGate;
use crate::standing::{From, Standing, Stands, standing};

/// What became of a tunnel that asked.
#[derive(Debug)]
pub enum Tunnelled {
    /// Its machine is let through; its client may be let in.
    On(Box<Far>),
    /// The rules say no: with a rule's words for the person, and the crossing that tells why.
    Refused(Option<String>, CrossingId),
    /// The session is over, or never was one of this gate.
    Over,
    /// It is not let through for another reason, which this crossing tells.
    Not(NotOn, CrossingId),
}

/// A machine at the far end of a tunnel.
#[derive(Clone, Debug)]
pub struct Far {
    pub id: Uuid,
    pub row: PresenceRow,
    /// Names of what is open to it.
    pub reach: Vec<String>,
    /// What rules say to its person.
    pub messages: Vec<String>,
    pub crossing: CrossingId,
    /// On trial: nothing is open to it.
    pub tried: bool,
}

/// Somebody's tunnel that asks.
#[derive(Clone, Debug)]
pub struct Asking {
    pub session: Uuid,
    pub tunnel: TunnelOf,
    /// The address that the machine is given.
    pub address: Ipv4Addr,
    /// From where the person says that it is theirs; none where they say it through the client.
    pub browser: Option<IpAddr>,
}

impl NetworkGate {
    /// Lets a machine at the far end of a tunnel through, where the rules say so.
    ///
    /// # Errors
    /// Those of the store: nothing is open then.
    pub async fn arrive_by_tunnel(
        &self,
        edition: &Edition,
        place: (&Gate, &Zone),
        asking: Asking,
    ) -> Result<Tunnelled, StoreError> {
        let trials = asking.tunnel.trials.clone();
        // Before anything is opened: what cannot be read leaves nothing open that nobody carries.
        let whose = match trials.is_empty() {
            true => None,
            false => sessions::by_id(&self.engine, asking.session).await?.map(|(row, _)| (row.subject, row.name)),
        };
        let came = self.arrives(edition, place, asking).await?;
        let crossing = match &came {
            Tunnelled::On(far) => Some(far.crossing),
            Tunnelled::Refused(_, crossing) | Tunnelled::Not(_, crossing) => Some(*crossing),
            Tunnelled::Over => None,
        };
        if let (Some(crossing), Some((subject, name))) = (crossing, &whose) {
            entrance_trials::note(&self.engine, &trials, crossing, Some((subject, name))).await;
        }
        Ok(came)
    }

    async fn arrives(&self, edition: &Edition, (gate, zone): (&Gate, &Zone), asking: Asking) -> Result<Tunnelled, StoreError> {
        let Asking { session, mut tunnel, address, browser } = asking;
        let Some(network) = gate.network() else { return Ok(Tunnelled::Over) };
        let from = From::Tunnel(&tunnel);
        let mut stands = match standing(&self.engine, edition, gate, session, from, Phrase::OtherRequest).await? {
            Standing::Let(stands) => stands,
            Standing::Refused(words, crossing) => return Ok(Tunnelled::Refused(words, crossing)),
            Standing::Over => return Ok(Tunnelled::Over),
        };
        let crossing = stands.crossing;
        let asked = steps_of(&tunnel, browser);
        if let Some(step) = self.profile_is_not(&tunnel, &stands).await? {
            let steps = asked.into_iter().chain([step]).collect();
            let told = self.not_through(gate, &stands, Outcome::Refused, steps).await?;
            return Ok(Tunnelled::Not(NotOn::Refused, told));
        }
        if let Some(terms) = wanted_terms(&self.engine, gate, &stands.row.person()).await? {
            let step = step!(TunnelTerms { gate: gate.name.as_str(), version: terms.version.as_str() });
            let steps = asked.into_iter().chain([step]).collect();
            let told = self.not_through(gate, &stands, Outcome::Refused, steps).await?;
            return Ok(Tunnelled::Not(NotOn::Refused, told));
        }
        let reach = opened(&stands);
        match self.try_out(Some(zone), &tunnel, &mut stands).await? {
            Ok(told) => attempt::extend(&self.engine, crossing, asked.into_iter().chain(told).collect()).await?,
            Err(over) => {
                let told = self.not_through(gate, &stands, Outcome::Refused, asked.into_iter().chain([over]).collect()).await?;
                return Ok(Tunnelled::Not(NotOn::Refused, told));
            }
        }
        tunnel.trials = stands.trial.into_iter().collect();
        let holder = match tunnel.second {
            Some(second) => Holder::Pair(address, second),
            None => Holder::Address(address.into()),
        };
        let _no_install = self.changing.read().await;
        let _one = self.of_holder(&holder).lock().await;
        if self.book().first_addresses(&zone.interface).any(|a| a == address) {
            // Whoever gives out addresses gives this one to nobody else; it is not taken from whoever has it.
            let step = step!(AddressTaken { address: address.to_string(), zone: zone.name.as_str() });
            let told = self.not_through(gate, &stands, Outcome::Failed, vec![step]).await?;
            return Ok(Tunnelled::Not(NotOn::AddressTaken, told));
        }
        let row = PresenceRow {
            address: address.to_string(),
            tunnel: serde_json::to_value(&tunnel).ok(),
            ..self.row_of(gate, zone, &holder, &stands)
        };
        let id = row.id;
        let (messages, tried) = (stands.terms.messages.clone(), stands.tried);
        Ok(match self.written_in(gate, network, row, (holder, vec![]), &stands, address.into()).await? {
            Arrival::On(shown) => Tunnelled::On(Box::new(Far { id, row: shown.row, reach, messages, crossing, tried })),
            Arrival::Not(why, told) => Tunnelled::Not(why, told),
            Arrival::Terms | Arrival::Elsewhere | Arrival::Over => Tunnelled::Over,
        })
    }

    /// The machine of a tunnel that came back at once from elsewhere: it keeps what it has, and what is open to it is decided anew from there.
    /// None where nothing is open to it any more.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn came_back(&self, edition: &Edition, id: Uuid, tunnel: &TunnelOf) -> Result<Option<Far>, StoreError> {
        let crossing = {
            let mut book = self.book();
            let Some(present) = book.present.get_mut(&id) else { return Ok(None) };
            // The addresses are those of the admission, whatever the server's client says.
            let second = present.tunnel.as_ref().and_then(|t| t.second);
            let trials = present.tunnel.as_ref().map(|t| t.trials.clone()).unwrap_or_default();
            let tunnel = TunnelOf { second, trials, ..tunnel.clone() };
            present.row.tunnel = serde_json::to_value(&tunnel).ok();
            present.tunnel = Some(tunnel);
            present.row.told_in()
        };
        if let Some(crossing) = crossing {
            let step = step!(TunnelBack { outside: tunnel.outside.to_string(), client: tunnel.facts.words() });
            attempt::extend(&self.engine, crossing, vec![step]).await?;
        }
        self.again(edition, &[id], "rights").await;
        Ok(self.far(id))
    }

    /// A tunnel renewed its key: what is open to its machine is decided anew. None where nothing is any more.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn key_renewed(&self, edition: &Edition, id: Uuid) -> Result<Option<Far>, StoreError> {
        self.again(edition, &[id], "rights").await;
        let far = self.far(id);
        if let Some(far) = &far {
            self.tells(far.crossing, step!(TunnelKeyRenewed { machine: far.row.known_by() })).await?;
        }
        Ok(far)
    }

    /// The tunnel whose machine has an address, where one is on there: with its first address, and how it came.
    pub fn tunnel_at(&self, interface: &str, address: IpAddr) -> Option<(Uuid, Ipv4Addr, TunnelOf)> {
        let (book, text) = (self.book(), address.to_string());
        let mut at = book.present.values().filter(|p| is_on(p) && p.row.interface == interface && p.row.address == text);
        at.find_map(|p| Some((p.row.id, p.row.address.parse().ok()?, p.tunnel.clone()?)))
    }

    /// Whether a machine is on.
    pub fn is_on(&self, id: Uuid) -> bool {
        self.book().present.get(&id).is_some_and(is_on)
    }

    /// A machine at the far end of a tunnel; none where it is on no more.
    pub fn far(&self, id: Uuid) -> Option<Far> {
        let book = self.book();
        let present = book.present.get(&id).filter(|p| is_on(p))?;
        let reach = present.class.reaches.iter().cloned().collect();
        let crossing = present.row.told_in()?;
        let tried = present.tunnel.as_ref().is_some_and(|t| !t.trials.is_empty());
        Some(Far { id, row: present.row.clone(), reach, messages: vec![], crossing, tried })
    }

    /// Machines at the far ends of an entrance's tunnels.
    pub fn at_entrance(&self, zone: &str) -> Vec<Uuid> {
        let book = self.book();
        book.present.values().filter(|p| p.tunnel.is_some() && p.row.zone == zone).map(|p| p.row.id).collect()
    }

    /// First addresses that are somebody's, or were and may be open still.
    pub fn addresses_taken(&self, interface: &str) -> HashSet<Ipv4Addr> {
        self.book().first_addresses(interface).collect()
    }

    /// Whether this node knows who is on: not before it has read who was, and compared the kernel with that.
    pub fn knows_who_is_on(&self) -> bool {
        self.compared.load(Ordering::Acquire)
    }

    /// Closes a machine whose tunnel is over.
    ///
    /// # Errors
    /// Those of the store; it is closed all the same.
    pub async fn tunnel_over(&self, id: Uuid, why: &str) -> Result<(), StoreError> {
        self.off(&[id], why).await
    }

    /// Adds a step to the crossing of a machine.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn tells(&self, crossing: CrossingId, step: Step) -> Result<(), StoreError> {
        attempt::extend(&self.engine, crossing, vec![step]).await
    }

    /// What is wrong with the personal profile by which a tunnel came, where it came by one: it is another person's, or counts no more.
    pub(crate) async fn profile_is_not(&self, tunnel: &TunnelOf, stands: &Stands) -> Result<Option<Step>, StoreError> {
        let Some(id) = tunnel.profile else { return Ok(None) };
        let row = self.engine.store.profile(id).await?;
        let now = self.engine.now();
        Ok(match row {
            Some(row) if row.person() != stands.row.person() => {
                Some(step!(ProfileOfAnother { device: row.device, of: row.name, person: stands.row.name.as_str() }))
            }
            Some(row) if row.is_good(now) => None,
            row => Some(step!(ProfileOver { device: row.map_or_else(String::new, |r| r.device) })),
        })
    }

    /// On trial nothing is opened, whatever the rules say: at an entrance that is one, and to whom an engineer is trying one out for. What is told
    /// of that; or that the trial in which the tunnel began is over, and it may not be on.
    pub(crate) async fn try_out(
        &self,
        zone: Option<&Zone>,
        tunnel: &TunnelOf,
        stands: &mut Stands,
    ) -> Result<Result<Option<Step>, Step>, StoreError> {
        let entrance = tunnel.facts.entrance.as_str();
        let told = match entrance_trials::stands(&self.engine, &tunnel.trials, &stands.row).await? {
            Tried::Over => return Ok(Err(step!(TunnelTrialOver { entrance }))),
            Tried::By { trial, by, until } => {
                stands.trial = Some(trial);
                stands.row.until = Some(stands.row.until.map_or(until, |u| u.min(until)));
                stands.good_until = Some(stands.good_until.map_or(until, |u| u.min(until)));
                step!(TunnelTried { by, entrance, opens: words(stands) })
            }
            Tried::No if zone.and_then(Zone::tunnel).is_some_and(|t| t.trial) => {
                step!(TunnelTrial { entrance, opens: words(stands) })
            }
            Tried::No => return Ok(Ok(None)),
        };
        stands.terms.opens.clear();
        stands.tried = true;
        Ok(Ok(Some(told)))
    }
}

fn is_on(present: &Present) -> bool {
    !present.session.as_ref().is_some_and(|s| s.is_ended())
}

fn opened(stands: &Stands) -> Vec<String> {
    stands.terms.opens.iter().map(|o| o.reach.clone()).collect()
}

/// What is told of a tunnel that asks.
fn steps_of(tunnel: &TunnelOf, browser: Option<IpAddr>) -> Vec<Step> {
    let outside = tunnel.outside.to_string();
    let said = match tunnel.facts.words() {
        empty if empty.is_empty() => Param::reason("says-nothing"),
        words => Param::from(words),
    };
    let mut steps =
        vec![step!(TunnelAsked { entrance: tunnel.facts.entrance.as_str(), outside: outside.as_str(), client: said })];
    if let Some(browser) = browser.filter(|b| *b != tunnel.outside) {
        steps.push(step!(TunnelBrowser { browser: browser.to_string(), outside }));
    }
    steps
}

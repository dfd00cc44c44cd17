//! A client is let in, refused, or gone.

use std::net::{IpAddr, Ipv4Addr};

use passeur_core::id::CrossingId;
use passeur_core::step;
use passeur_engine::tunnel::{Outcome, TunnelOf};
use passeur_gate_network::tunnels::{Far, Tunnelled};
use passeur_protocols::openvpn::{Command, Lines, Refusal};
use passeur_store::{StoreError, TunnelAskRow};
use uuid::Uuid;

use crate::clients::{Roam, State};
use crate::decisions::{Place, late, outcome};
use crate::desk::Desk;
use crate::pool::Pool;
use crate::told::{lines, refusal};

impl Desk<'_> {
    /// Sets an address aside, and has it decided.
    pub(super) async fn decide(
        &mut self,
        place: &Place,
        (id, key): (u64, u64),
        whose: (Uuid, Option<IpAddr>),
        ask: Option<[u8; 32]>,
        wanted: Option<Ipv4Addr>,
    ) -> std::io::Result<()> {
        let Some((_, zone, _)) = place.parts() else { return Ok(()) };
        let Some(pool) = Pool::of(zone) else { return Ok(()) };
        let mut taken = self.networks().addresses_taken(&zone.interface);
        taken.extend(self.clients.addresses());
        let Some(address) = pool.take(wanted, |a| taken.contains(&a)) else {
            tracing::error!(event = "tunnel.pool-full", entrance = zone.name, "an entrance has no address left");
            self.beside.came_to(ask, Outcome::Failed);
            if let Some(client) = self.clients.all.get(&id) {
                let step = step!(TunnelPoolFull { entrance: zone.name.as_str(), network: pool.first.to_string() });
                self.beside.refused(place, &client.tunnel, step);
            }
            return self.deny(id, key, "no address is left", "No address is left for your tunnel. Try again later.").await;
        };
        let Some(client) = self.clients.all.get_mut(&id) else { return Ok(()) };
        client.state = State::Decided { address };
        client.tunnel.second = pool.second_of(address);
        self.beside.decide(place, (id, key), whose, (ask, client.tunnel.clone(), address));
        Ok(())
    }

    /// Somebody answered for a tunnel.
    pub(super) async fn answered(&mut self, row: TunnelAskRow) -> std::io::Result<()> {
        let Some(of) = TunnelOf::kept(Some(&row.tunnel)) else { return Ok(()) };
        let Ok(digest) = <[u8; 32]>::try_from(row.digest.as_slice()) else { return Ok(()) };
        if of.facts.entrance != self.beside.entrance {
            return Ok(());
        }
        let Some((id, client)) = self.clients.asked(&digest) else {
            self.beside.came_to(Some(digest), Outcome::Late);
            return Ok(());
        };
        if client.state != State::Waits {
            // It was decided on, and what came of it is being written.
            return Ok(());
        }
        let key = client.key;
        match (row.session_id, self.place()) {
            (Some(session), Some(place)) if !row.refused => {
                let browser = row.browser.and_then(|b| b.parse().ok());
                self.decide(&place, (id, key), (session, browser), Some(digest), None).await
            }
            _ => {
                self.beside.came_to(Some(digest), Outcome::Denied);
                let words = refusal(&Outcome::Denied);
                self.deny(id, key, "its person says that it is not theirs", &words).await
            }
        }
    }

    pub(super) async fn decided(
        &mut self,
        (id, key): (u64, u64),
        ask: Option<[u8; 32]>,
        came: Result<Tunnelled, StoreError>,
    ) -> std::io::Result<()> {
        if let Ok(Tunnelled::On(far)) = came {
            return self.let_in((id, key), ask, *far).await;
        }
        if let Err(e) = &came {
            tracing::error!(error = %e, "a tunnel could not be decided on");
        }
        let outcome = outcome(&came);
        let words = refusal(&outcome);
        // A session that is over says nothing about the person: they may sign in.
        self.beside.came_to(ask, outcome);
        self.deny(id, key, "not let in", &words).await
    }

    /// The sluice has opened: the client is let in.
    async fn let_in(&mut self, (id, key): (u64, u64), ask: Option<[u8; 32]>, far: Far) -> std::io::Result<()> {
        let told = self.lines_for(&far).filter(|_| self.is_current(id, key));
        let Some((address, lines, words)) = told else {
            self.beside.close(far.id, "disconnected").await;
            if let Some(step) = self.place().as_ref().and_then(late) {
                self.beside.tell(far.crossing, step);
            }
            self.beside.came_to(ask, Outcome::Late);
            return self.deny(id, key, "it is gone, or cannot be told", "Connect again.").await;
        };
        let since = self.networks().engine.now();
        self.clients.set(id, State::Up { id: far.id, address, since, established: false });
        self.out.order(&Command::Auth { id, key, lines }).await?;
        let second = self.clients.all.get(&id).and_then(|c| c.tunnel.second);
        let addresses: Vec<String> = std::iter::once(address.to_string()).chain(second.map(|s| s.to_string())).collect();
        self.told(far.crossing, &addresses, words);
        self.beside.came_to(ask, Outcome::On { addresses, messages: far.messages, trial: far.tried });
        Ok(())
    }

    /// What the client of a machine is told, with its address and in words; none where that may not be sent.
    fn lines_for(&self, far: &Far) -> Option<(Ipv4Addr, Lines, Vec<String>)> {
        let place = self.place()?;
        let (_, zone, tunnel) = place.parts()?;
        lines(&place.edition.site, tunnel, &Pool::of(zone)?, far)
    }

    fn told(&self, crossing: CrossingId, addresses: &[String], words: Vec<String>) {
        let step = step!(TunnelPushed { addresses: addresses.to_vec(), lines: words });
        self.beside.tell(crossing, step);
    }

    /// One that is on was decided anew.
    pub(super) async fn again(&mut self, id: u64, key: u64, far: Option<Box<Far>>) -> std::io::Result<()> {
        let Some(client) = self.clients.all.get(&id).filter(|c| c.key == key) else {
            // Another connection may carry it by now, or none.
            if let Some(far) = far.filter(|f| self.clients.carrying(f.id).is_none()) {
                self.beside.close(far.id, "disconnected").await;
            }
            return Ok(());
        };
        let State::Up { established, .. } = client.state else { return Ok(()) };
        let Some(far) = far else {
            self.clients.end(id);
            let words = refusal(&Outcome::Over);
            self.out.order(&Command::Deny { id, key, log: "refused now".into(), to_client: Refusal::Words(words) }).await?;
            return self.out.order(&Command::Kill { id, for_good: true }).await;
        };
        if established {
            return self.out.order(&Command::AuthAgain { id, key }).await;
        }
        match self.lines_for(&far) {
            Some((_, lines, _)) => self.out.order(&Command::Auth { id, key, lines }).await,
            None => self.deny(id, key, "it cannot be told", "Connect again.").await,
        }
    }

    /// The tunnel of a client stands.
    pub(super) fn stands(&mut self, id: u64) {
        let Some(client) = self.clients.all.get_mut(&id) else { return };
        let State::Up { id: admission, established, .. } = &mut client.state else { return };
        *established = true;
        let (outside, admission) = (client.tunnel.outside, *admission);
        if let Some(far) = self.networks().far(admission) {
            let step = step!(TunnelUp { machine: far.row.known_by(), outside: outside.to_string() });
            self.beside.tell(far.crossing, step);
        }
    }

    /// A client is gone.
    pub(super) async fn gone(&mut self, id: u64) {
        let Some(client) = self.clients.all.remove(&id) else { return };
        match client.state {
            State::Up { id: admission, address, .. } => self.disconnected(admission, address, client.tunnel.server_session).await,
            State::Waits => self.beside.came_to(client.ask, Outcome::Late),
            State::Asks | State::Decided { .. } | State::Over { .. } => {}
        }
    }

    async fn disconnected(&mut self, admission: Uuid, address: Ipv4Addr, server_session: Option<String>) {
        let now = self.networks().engine.now();
        let roam = self.place().and_then(|p| p.parts().map(|(_, _, t)| t.roam));
        let session = self.networks().far(admission).and_then(|f| f.row.session_id);
        if let (Some(roam), Some(session), Some(of)) = (roam, session, server_session) {
            self.clients.may_come_back(&of, Roam { session, address, until: now + roam }, now);
        }
        self.beside.close(admission, "disconnected").await;
    }
}

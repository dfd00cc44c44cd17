//! Who is connected to the server is held against who is let through: a machine that is one and not the other is neither after it.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr};

use chrono::Duration;
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::tunnel::TunnelOf;
use passeur_protocols::openvpn::{Command, Connected};
use uuid::Uuid;

use crate::clients::{Client, State};
use crate::desk::Desk;
use crate::pool::Pool;

/// How long a client that was let in may take to come up.
const COMES_UP: Duration = Duration::seconds(60);

impl Desk<'_> {
    /// Ends the tunnels of machines that are let through no more: it was closed in the kernel before.
    ///
    /// # Errors
    /// The connection broke.
    pub async fn end_who_is_off(&mut self) -> std::io::Result<()> {
        for (id, admission) in self.clients.carried() {
            if !self.networks().is_on(admission) {
                self.clients.end(id);
                tracing::info!(event = "tunnel.ended", entrance = self.beside.entrance, client = id, "a tunnel is ended");
                self.out.order(&Command::Kill { id, for_good: true }).await?;
            }
        }
        Ok(())
    }

    pub(super) async fn end_who_does_not_come_up(&mut self) -> std::io::Result<()> {
        let now = self.networks().engine.now();
        let late = |c: &Client| matches!(c.state, State::Up { since, established: false, .. } if now - since > COMES_UP);
        for (id, admission) in self.clients.carried() {
            if !self.clients.all.get(&id).is_some_and(late) {
                continue;
            }
            self.clients.end(id);
            self.beside.close(admission, "disconnected").await;
            self.out.order(&Command::Kill { id, for_good: true }).await?;
        }
        Ok(())
    }

    /// Compares who is connected with who is let through: whoever is one and not the other is neither after it.
    pub(super) async fn compare(&mut self, connected: &[Connected]) -> std::io::Result<()> {
        let done = self.compared_with(connected).await;
        // One that takes a connection and says nothing is not spoken with: another program may be served before this one.
        self.networks().note_entrance(&self.beside.entrance, |seen| (seen.speaks, seen.trouble) = (true, None));
        done
    }

    async fn compared_with(&mut self, connected: &[Connected]) -> std::io::Result<()> {
        let Some(place) = self.place() else { return Ok(()) };
        let Some((_, zone, _)) = place.parts() else { return Ok(()) };
        for c in connected.iter().filter(|c| !self.clients.all.contains_key(&c.id)).cloned().collect::<Vec<_>>() {
            let on = c.addresses.iter().find_map(|a| self.networks().tunnel_at(&zone.interface, *a));
            match on.filter(|(id, ..)| self.clients.carrying(*id).is_none()) {
                // This node speaks with the server again, and knows whose it is.
                Some((id, address, tunnel)) => {
                    let since = self.networks().engine.now();
                    let state = State::Up { id, address, since, established: true };
                    self.clients.all.insert(c.id, Client { key: 0, tunnel, browser: None, ask: None, state });
                }
                // It came while nobody heard: it comes again, and is asked. Its address is nobody else's until it is gone.
                None => {
                    let address = c.addresses.iter().find_map(|a| if let IpAddr::V4(a) = a { Some(*a) } else { None });
                    let outside = c.from.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
                    let facts = TunnelFacts::new(&self.beside.entrance, None, None);
                    let tunnel = TunnelOf { outside, facts, second: None, profile: None, server_session: None, trials: vec![] };
                    self.clients
                        .all
                        .insert(c.id, Client { key: 0, tunnel, browser: None, ask: None, state: State::Over { address } });
                    self.out.order(&Command::Kill { id: c.id, for_good: false }).await?;
                }
            }
        }
        let there: BTreeSet<u64> = connected.iter().map(|c| c.id).collect();
        let lost: Vec<u64> = self.clients.all.iter().filter(|(id, _)| !there.contains(id)).map(|(id, _)| *id).collect();
        for id in lost {
            self.gone(id).await;
        }
        // One that is being decided on is written before its client is known to carry it.
        if self.clients.decides() {
            return Ok(());
        }
        let carried: BTreeSet<Uuid> = self.clients.carried().into_iter().map(|(_, id)| id).collect();
        for id in self.networks().at_entrance(&self.beside.entrance).into_iter().filter(|id| !carried.contains(id)) {
            self.beside.close(id, "disconnected").await;
        }
        Ok(())
    }

    pub(super) fn note(&self) {
        let place = self.place();
        let places = place.as_ref().and_then(|p| p.parts()).and_then(|(_, zone, _)| Pool::of(zone)).map_or(0, |p| p.places());
        let given = self.clients.addresses().count();
        // Nine in ten.
        let near_full = (places > 0 && given * 10 >= places * 9).then_some((given as u64, places as u64));
        self.networks().note_entrance(&self.beside.entrance, |seen| seen.near_full = near_full);
    }
}

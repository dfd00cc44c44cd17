//! What is done at an entrance while its VPN server is there.
//!
//! One task holds everything that is known of the server's clients and never waits for anything but its own channels; what takes time is done
//! beside it ([`crate::decisions`]). A client is let in after the sluice opened, and ended after it closed. How a client asks is in `asking`, how
//! it is let in and goes in `deciding`, and how who is connected is held against who is on in `comparing`.

mod asking;
mod comparing;
mod deciding;

use chrono::Duration;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_gate_network::NetworkGate;
use passeur_protocols::openvpn::{self, Command, Event, Kind, Refusal, read_status};
use tokio::time::Duration as StdDuration;

use crate::clients::{Clients, State};
use crate::decisions::{Beside, Found, Known, Place};
use crate::link::Outgoing;

/// How often it is looked whether somebody answered, and whether a tunnel is to be ended.
pub const LOOK_EVERY: StdDuration = StdDuration::from_millis(100);
/// At how many looks the server is asked who is connected.
const COMPARE_EVERY: u64 = 300;
/// At how many looks it is noted how many addresses are left.
const NOTE_EVERY: u64 = 10;
/// The most lines of an answer about who is connected.
const STATUS_MAX: usize = 200_000;

/// What is done at an entrance while its server is there.
pub struct Desk<'a> {
    beside: Beside,
    clients: &'a mut Clients,
    out: Outgoing,
    /// Lines of an answer that is not whole.
    status: Option<Vec<String>>,
    /// Whether somebody looks for answers just now.
    looks: bool,
    /// How often it was looked.
    count: u64,
    /// How often it was when the server was asked last who is connected; none where it has to be asked at once.
    asked: Option<u64>,
    /// Whether the server waits to be told to go on.
    holds: bool,
}

impl<'a> Desk<'a> {
    /// With a server that was just connected to.
    pub fn new(beside: Beside, clients: &'a mut Clients, out: Outgoing) -> Desk<'a> {
        Desk { beside, clients, out, status: None, looks: false, count: 0, asked: None, holds: false }
    }

    /// Asks the server for what it logs, which tells how long it lets clients wait.
    ///
    /// # Errors
    /// The connection broke.
    pub async fn begin(&mut self) -> std::io::Result<()> {
        self.out.order(&Command::LogOn).await
    }
}

impl Desk<'_> {
    fn networks(&self) -> &NetworkGate {
        &self.beside.networks
    }

    fn place(&self) -> Option<Place> {
        Place::of(&self.networks().engine, &self.beside.entrance)
    }

    /// What the server said.
    ///
    /// # Errors
    /// The connection broke, or the server is over.
    pub async fn heard(&mut self, event: Event) -> std::io::Result<()> {
        match event {
            Event::Hold => {
                self.holds = true;
                Ok(())
            }
            Event::Client(client) => {
                let (id, env) = (client.id, client.env);
                match client.kind {
                    Kind::Connect { key } => self.connects(id, key, &env).await,
                    Kind::Reauth { key } => self.asks_again(id, key).await,
                    Kind::Established => {
                        self.stands(id);
                        Ok(())
                    }
                    Kind::Disconnect => {
                        self.gone(id).await;
                        Ok(())
                    }
                    Kind::Answer { key, text } => self.answers(id, key, &text).await,
                }
            }
            Event::Line(line) => {
                if let Some(lines) = self.status.as_mut().filter(|l| l.len() < STATUS_MAX) {
                    lines.push(line);
                }
                Ok(())
            }
            Event::End => match self.status.take() {
                Some(lines) => self.compare(&read_status(lines.iter().map(String::as_str))).await,
                None => Ok(()),
            },
            Event::Done(Err(why)) => {
                tracing::warn!(entrance = self.beside.entrance, why, "a VPN server refused an order");
                // A server that is not ready says nothing of who is connected: it is asked again.
                if self.status.take().is_some() {
                    self.asked = None;
                }
                Ok(())
            }
            Event::Log(line) => {
                if let Some(window) = openvpn::waits_in(&line) {
                    self.networks().note_entrance(&self.beside.entrance, |seen| seen.hand_window = Some(window));
                }
                Ok(())
            }
            Event::Fatal(why) => Err(std::io::Error::other(why)),
            Event::Done(Ok(_)) | Event::Other => Ok(()),
        }
    }

    /// What was found beside.
    ///
    /// # Errors
    /// The connection broke.
    pub async fn found(&mut self, found: Found) -> std::io::Result<()> {
        match found {
            Found::Waits { client, key, digest, url } => self.waits(client, key, digest, url).await,
            Found::NoRoom { client, key, words } => {
                self.note_refused(client, |entrance, outside| step!(TunnelNoRoom { entrance, outside }));
                self.deny(client, key, "too many wait", words).await
            }
            Found::Answered(rows) => {
                self.looks = false;
                for row in rows {
                    self.answered(row).await?;
                }
                Ok(())
            }
            Found::Decided { client, key, ask, came } => self.decided((client, key), ask, *came).await,
            Found::Again { client, key, far } => self.again(client, key, far).await,
            Found::Known { client, key, known, env } => {
                let Known { profile, device, trials } = *known;
                if let Some(client) = self.clients.all.get_mut(&client).filter(|c| c.key == key) {
                    client.tunnel.trials = trials;
                    client.tunnel.facts.device = device.or(client.tunnel.facts.device.take());
                }
                self.known(client, key, profile, &env).await
            }
            Found::Code { client, key, session } => match (session, self.place()) {
                _ if !self.is_current(client, key) => Ok(()),
                (Some(session), Some(place)) => self.decide(&place, (client, key), (session, None), None, None).await,
                _ => {
                    self.note_refused(client, |entrance, outside| step!(TunnelCodeRefused { entrance, outside }));
                    self.deny(client, key, "no such code", "This code is not one, or its time is over. Connect again.").await
                }
            },
        }
    }

    /// Looks whether anything is to be done.
    ///
    /// # Errors
    /// The connection broke.
    pub async fn look(&mut self) -> std::io::Result<()> {
        self.count += 1;
        if self.clients.is_waited_for() && !self.looks {
            self.looks = true;
            self.beside.look_for_answers();
        }
        self.end_who_is_off().await?;
        self.end_who_does_not_come_up().await?;
        if self.count.is_multiple_of(NOTE_EVERY) {
            self.note();
        }
        // Not before this node knows who is on: it would end whoever it has not read yet.
        if !self.networks().knows_who_is_on() {
            return Ok(());
        }
        if self.holds {
            self.holds = false;
            self.out.order(&Command::HoldRelease).await?;
        }
        if self.asked.is_none_or(|at| self.count - at >= COMPARE_EVERY) {
            if self.status.is_some() {
                return Err(std::io::Error::other("the server does not say who is connected"));
            }
            (self.asked, self.status) = (Some(self.count), Some(vec![]));
            self.out.order(&Command::Status).await?;
        }
        Ok(())
    }

    /// The current client of an order that was prepared beside.
    fn is_current(&self, id: u64, key: u64) -> bool {
        self.clients.all.get(&id).is_some_and(|c| c.key == key)
    }

    /// Records why a client is refused whose person is not known.
    fn note_refused(&self, id: u64, step: impl FnOnce(&str, String) -> Step) {
        if let (Some(client), Some(place)) = (self.clients.all.get(&id), self.place()) {
            let step = step(&self.beside.entrance, client.tunnel.outside.to_string());
            self.beside.refused(&place, &client.tunnel, step);
        }
    }

    /// Refuses a client that is not in.
    async fn deny(&mut self, id: u64, key: u64, log: &str, words: &str) -> std::io::Result<()> {
        self.clients.set(id, State::Over { address: None });
        let to_client = Refusal::Words(words.to_owned());
        self.out.order(&Command::Deny { id, key, log: log.to_owned(), to_client }).await
    }
}

fn seconds(of: Duration) -> u32 {
    u32::try_from(of.num_seconds()).unwrap_or(u32::MAX)
}

//! One entrance: its VPN server says who comes and goes, and is told who is let in.
//!
//! One task holds everything that is known of the server's clients and never waits for anything but its own channels; what takes time is done
//! beside it ([`crate::decisions`]). A client is let in after the sluice opened, and ended after it closed.

use std::net::{IpAddr, Ipv4Addr};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use base64::Engine as _;
use chrono::Duration;
use passeur_core::id::CrossingId;
use passeur_core::site::Profiles;
use passeur_core::step;
use passeur_core::step::Step;
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::tunnel::{Outcome, TunnelOf};
use passeur_gate_network::NetworkGate;
use passeur_gate_network::tunnels::{Far, Tunnelled};
use passeur_protocols::openvpn::{self, Command, Connected, Env, Event, Kind, Pending, Refusal, read_status};
use passeur_store::{ProfileRow, StoreError, TunnelAskRow};
use tokio::sync::{mpsc, watch};
use tokio::time::{Duration as StdDuration, MissedTickBehavior, interval, sleep};
use uuid::Uuid;

use crate::clients::{Client, Clients, Roam, State};
use crate::decisions::{Beside, Found, Place, late, outcome};
use crate::link::{self, Outgoing};
use crate::pool::Pool;
use crate::told::{lines, question, refusal};

/// How long until a server that is not there is looked for again.
const AGAIN: StdDuration = StdDuration::from_millis(500);
/// How often it is looked whether somebody answered, and whether a tunnel is to be ended.
const LOOK_EVERY: StdDuration = StdDuration::from_millis(100);
/// At how many looks the server is asked who is connected.
const COMPARE_EVERY: u64 = 300;
/// How long a client that was let in may take to come up.
const COMES_UP: Duration = Duration::seconds(60);
/// The most clients of one server.
const CLIENTS_MAX: usize = 65_536;
/// The most lines of an answer about who is connected.
const STATUS_MAX: usize = 200_000;

/// The management socket of the VPN server at an entrance of this node.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TunnelConfig {
    pub entrance: String,
    pub management: PathBuf,
}

/// Speaks with the VPN server of an entrance until `stop` changes.
pub async fn run(networks: NetworkGate, config: TunnelConfig, mut stop: watch::Receiver<bool>) {
    let mut clients = Clients::default();
    loop {
        let why = match link::connect(&config.management).await {
            Ok((incoming, out)) => {
                let done = serve(&networks, &config, &mut clients, (incoming, out), &mut stop).await;
                done.err().map(|e| e.to_string()).unwrap_or_else(|| "the server closed the connection".to_owned())
            }
            Err(e) => format!("{} cannot be connected to: {e}", config.management.display()),
        };
        if *stop.borrow() {
            return;
        }
        networks.note_entrance(&config.entrance, |seen| {
            if seen.speaks || seen.trouble.is_none() {
                tracing::error!(event = "tunnel.server-lost", entrance = config.entrance, why, "no word from a VPN server");
            }
            (seen.speaks, seen.trouble) = (false, Some(why));
        });
        tokio::select! {
            () = sleep(AGAIN) => {}
            _ = stop.changed() => return,
        }
    }
}

/// What is done at an entrance while its server is there.
struct Desk<'a> {
    beside: Beside,
    clients: &'a mut Clients,
    out: Outgoing,
    /// Lines of an answer that is not whole.
    status: Option<Vec<String>>,
    /// Whether somebody looks for answers just now.
    looks: bool,
    /// Whether the server waits to be told to go on, and whether who is connected was compared with who is on.
    holds: bool,
    compared: bool,
}

async fn serve(
    networks: &NetworkGate,
    config: &TunnelConfig,
    clients: &mut Clients,
    (mut incoming, out): (link::Incoming, Outgoing),
    stop: &mut watch::Receiver<bool>,
) -> std::io::Result<()> {
    let (found, mut finds) = mpsc::channel(256);
    let (event, mut events) = mpsc::channel(256);
    let reading = tokio::spawn(async move {
        loop {
            let next = match incoming.next().await {
                Ok(None) => return,
                Ok(Some(next)) => Ok(next),
                Err(e) => Err(e),
            };
            let is_over = next.is_err();
            if event.send(next).await.is_err() || is_over {
                return;
            }
        }
    });
    // Numbers of connections are the server's: who was connected before is told by it.
    clients.all.clear();
    let beside = Beside { networks: networks.clone(), entrance: config.entrance.clone(), found };
    let mut desk = Desk { beside, clients, out, status: None, looks: false, holds: false, compared: false };
    let mut leavings = networks.leavings();
    let mut look = interval(LOOK_EVERY);
    look.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut looks = 0u64;
    let open = open_to_others(&config.management);
    networks.note_entrance(&config.entrance, |seen| {
        (seen.speaks, seen.trouble, seen.open_to_others) = (true, None, open);
    });
    // What the server logs tells how long it lets clients wait.
    desk.out.order(&Command::LogOn).await?;
    tracing::info!(event = "tunnel.server", entrance = config.entrance, "speaking with a VPN server");
    let done = loop {
        let done = tokio::select! {
            event = events.recv() => match event {
                Some(Ok(event)) => desk.heard(event).await,
                Some(Err(e)) => Err(e),
                None => break Ok(()),
            },
            Some(found) = finds.recv() => desk.found(found).await,
            Ok(()) = leavings.changed() => desk.end_who_is_off().await,
            _ = look.tick() => {
                looks += 1;
                desk.look(looks.is_multiple_of(COMPARE_EVERY)).await
            }
            _ = stop.changed() => break Ok(()),
        };
        if let Err(e) = done {
            break Err(e);
        }
    };
    reading.abort();
    done
}

impl Desk<'_> {
    fn networks(&self) -> &NetworkGate {
        &self.beside.networks
    }

    fn place(&self) -> Option<Place> {
        Place::of(&self.networks().engine, &self.beside.entrance)
    }

    async fn heard(&mut self, event: Event) -> std::io::Result<()> {
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
                    self.compared = false;
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

    /// A client asks to be let in.
    async fn connects(&mut self, id: u64, key: u64, env: &Env) -> std::io::Result<()> {
        let address = ["untrusted_ip", "untrusted_ip6"].iter().find_map(|n| env.get(n)?.parse::<IpAddr>().ok());
        let (Some(place), Some(outside)) = (self.place(), address.map(|a| a.to_canonical())) else {
            return self.deny(id, key, "no gate takes people in here", "This entrance is not in use.").await;
        };
        if self.clients.all.len() >= CLIENTS_MAX {
            return self.deny(id, key, "too many clients", "Too many are connected here. Try again later.").await;
        }
        let facts = TunnelFacts::new(&self.beside.entrance, env.get("IV_PLAT"), env.get("IV_VER"));
        let server_session = env.get("session_id").map(str::to_owned);
        let tunnel = TunnelOf { outside, facts, second: None, profile: None, server_session };
        self.clients.all.insert(id, Client { key, tunnel, state: State::Asks });
        match shown(env) {
            // What the certificate is of is asked of the store; the rest waits for it.
            Some(digest) => self.beside.look_up_profile(&place, (id, key), digest, env.clone()),
            None => return self.known(id, key, None, env).await,
        }
        Ok(())
    }

    /// A client asks to be let in, by a personal profile or by none.
    async fn known(&mut self, id: u64, key: u64, profile: Option<ProfileRow>, env: &Env) -> std::io::Result<()> {
        let (Some(place), Some(client)) = (self.place(), self.clients.all.get_mut(&id).filter(|c| c.key == key)) else {
            return Ok(());
        };
        let now = self.beside.networks.engine.now();
        let good = profile.filter(|p| p.is_good(now));
        client.tunnel.profile = good.as_ref().map(|p| p.id);
        client.tunnel.facts.profile = good.as_ref().map(|p| p.id.to_string());
        let (tunnel, outside) = (client.tunnel.clone(), client.tunnel.outside);
        if good.is_none() && place.parts().is_some_and(|(_, _, t)| t.profiles == Profiles::Personal) {
            self.note_refused(id, |entrance, outside| step!(ProfileUnknown { entrance, outside }));
            let words =
                "This entrance takes machines with a profile of their person's own alone. Make one at the gate's address.";
            return self.deny(id, key, "no personal profile", words).await;
        }
        let server_session = tunnel.server_session.clone();
        // The server has proven that the client shows what it was given: it is the one that was let in before.
        let is_same = matches!(env.get("session_state"), Some("Authenticated" | "AuthenticatedEmptyUser"));
        if let Some(session) = server_session.filter(|_| is_same)
            && self.comes_back(&place, id, key, &session, &tunnel).await?
        {
            return Ok(());
        }
        if let Some(code) = env.get("password").and_then(|p| p.strip_prefix("CRV1::")).and_then(|p| p.split_once("::")) {
            self.wait(id, State::Waits { ask: None });
            self.beside.look_up_code(&place, (id, key), outside, code.1.to_owned());
            return Ok(());
        }
        self.ask_person(&place, (id, key), tunnel, env).await
    }

    /// Asks a client's person to sign in, as the client is able to.
    async fn ask_person(&mut self, place: &Place, (id, key): (u64, u64), tunnel: TunnelOf, env: &Env) -> std::io::Result<()> {
        let Some((gate, _, of)) = place.parts() else { return Ok(()) };
        let able: Vec<&str> = env.get("IV_SSO").unwrap_or_default().split(',').collect();
        if able.contains(&"webauth") || able.contains(&"openurl") {
            self.beside.ask(place, (id, key), tunnel);
            return Ok(());
        }
        let (words, seconds) = (question(gate), seconds(of.patience));
        self.wait(id, State::Waits { ask: None });
        if able.contains(&"crtext") {
            return self.out.order(&Command::Pending { id, key, what: Pending::Text(words), seconds }).await;
        }
        // The client comes again with what its person types.
        let user = env.get("username").unwrap_or("-").to_owned();
        let to_client = Refusal::Question { state: format!("{id}"), user, words };
        self.wait(id, State::Over { address: None });
        self.out.order(&Command::Deny { id, key, log: "a code is asked for".into(), to_client }).await
    }

    fn wait(&mut self, id: u64, state: State) {
        if let Some(client) = self.clients.all.get_mut(&id) {
            client.state = state;
        }
    }

    /// Whether a client that was let in before comes in without a new sign-in.
    async fn comes_back(&mut self, place: &Place, id: u64, key: u64, session: &str, tunnel: &TunnelOf) -> std::io::Result<bool> {
        let now = self.networks().engine.now();
        if let Some((before, admission, address)) = self.clients.same_session(session) {
            // The connection before it is of the same client, which has left it: what it carried is this one's.
            if let Some(old) = self.clients.all.get_mut(&before) {
                old.state = State::Over { address: None };
            }
            self.wait(id, State::Up { id: admission, address, since: now, established: false });
            self.beside.decide_again(place, (id, key), admission, Some(tunnel.clone()));
            self.out.order(&Command::Kill { id: before, for_good: true }).await?;
            return Ok(true);
        }
        let Some(roam) = self.clients.comes_back(session, now) else { return Ok(false) };
        self.decide(place, (id, key), (roam.session, None), None, Some(roam.address)).await?;
        Ok(true)
    }

    /// Sets an address aside, and has it decided.
    async fn decide(
        &mut self,
        place: &Place,
        (id, key): (u64, u64),
        whose: (Uuid, Option<IpAddr>),
        ask: Option<[u8; 32]>,
        wanted: Option<Ipv4Addr>,
    ) -> std::io::Result<()> {
        let Some((_, zone, _)) = place.parts() else { return Ok(()) };
        let Some(pool) = Pool::of(zone) else { return Ok(()) };
        let is_taken = |a| self.clients.has(a) || self.networks().has_address(&zone.interface, a);
        let Some(address) = pool.take(wanted, is_taken) else {
            tracing::error!(event = "tunnel.pool-full", entrance = zone.name, "an entrance has no address left");
            self.beside.came_to(ask, Outcome::Failed);
            if let Some(client) = self.clients.all.get(&id) {
                let step = step!(TunnelPoolFull { entrance: zone.name.as_str(), network: pool.first.to_string() });
                self.beside.refused(place, &client.tunnel, step);
            }
            return self.deny(id, key, "no address is left", "No address is left for your tunnel. Try again later.").await;
        };
        let Some(client) = self.clients.all.get_mut(&id) else { return Ok(()) };
        client.state = State::Decided { address, since: self.beside.networks.engine.now() };
        client.tunnel.second = pool.second_of(address);
        self.beside.decide(place, (id, key), whose, (ask, client.tunnel.clone(), address));
        Ok(())
    }

    /// A client renews its key: the rules are asked again.
    async fn asks_again(&mut self, id: u64, key: u64) -> std::io::Result<()> {
        let Some(client) = self.clients.all.get_mut(&id) else { return Ok(()) };
        client.key = key;
        let admission = if let State::Up { id, .. } = client.state { Some(id) } else { None };
        match (admission, self.place()) {
            (Some(admission), Some(place)) => {
                self.beside.decide_again(&place, (id, key), admission, None);
                Ok(())
            }
            _ => self.deny(id, key, "nothing is open to it", "Connect again.").await,
        }
    }

    /// The tunnel of a client stands.
    fn stands(&mut self, id: u64) {
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
    async fn gone(&mut self, id: u64) {
        let Some(client) = self.clients.all.remove(&id) else { return };
        match client.state {
            State::Up { id: admission, address, .. } => self.disconnected(admission, address, client.tunnel.server_session).await,
            State::Waits { ask } => self.beside.came_to(ask, Outcome::Late),
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

    /// A client answers what its person was asked.
    async fn answers(&mut self, id: u64, key: u64, text: &str) -> std::io::Result<()> {
        let Some(place) = self.place() else { return Ok(()) };
        let Some(client) = self.clients.all.get(&id).filter(|c| matches!(c.state, State::Waits { ask: None })) else {
            return Ok(());
        };
        let typed = base64::engine::general_purpose::STANDARD.decode(text).unwrap_or_default();
        let typed = String::from_utf8_lossy(&typed).chars().take(40).collect();
        self.beside.look_up_code(&place, (id, key), client.tunnel.outside, typed);
        Ok(())
    }

    /// The current client of an order that was prepared beside.
    fn is_current(&self, id: u64, key: u64) -> bool {
        self.clients.all.get(&id).is_some_and(|c| c.key == key)
    }

    async fn found(&mut self, found: Found) -> std::io::Result<()> {
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
            Found::Profile { client, key, row, env } => self.known(client, key, row.map(|r| *r), &env).await,
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

    /// Records why a client is refused whose person is not known.
    fn note_refused(&self, id: u64, step: impl FnOnce(&str, String) -> Step) {
        if let (Some(client), Some(place)) = (self.clients.all.get(&id), self.place()) {
            let step = step(&self.beside.entrance, client.tunnel.outside.to_string());
            self.beside.refused(&place, &client.tunnel, step);
        }
    }

    async fn waits(&mut self, id: u64, key: u64, digest: [u8; 32], url: String) -> std::io::Result<()> {
        let Some(patience) = self.place().and_then(|p| p.parts().map(|(_, _, t)| t.patience)) else { return Ok(()) };
        if !self.is_current(id, key) {
            self.beside.came_to(Some(digest), Outcome::Late);
            return Ok(());
        }
        self.wait(id, State::Waits { ask: Some(digest) });
        self.out.order(&Command::Pending { id, key, what: Pending::WebAuth(url), seconds: seconds(patience) }).await
    }

    /// Somebody answered for a tunnel.
    async fn answered(&mut self, row: TunnelAskRow) -> std::io::Result<()> {
        let Ok(of) = serde_json::from_value::<TunnelOf>(row.tunnel.clone()) else { return Ok(()) };
        let Ok(digest) = <[u8; 32]>::try_from(row.digest.as_slice()) else { return Ok(()) };
        if of.facts.entrance != self.beside.entrance {
            return Ok(());
        }
        let Some(id) = self.clients.waiting(&digest) else {
            // It is being decided, or gone.
            let decides = self.clients.all.values().any(|c| matches!(c.state, State::Decided { .. }));
            if !decides {
                self.beside.came_to(Some(digest), Outcome::Late);
            }
            return Ok(());
        };
        let key = self.clients.all.get(&id).map_or(0, |c| c.key);
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

    async fn decided(
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
        let address = far.row.address.parse::<Ipv4Addr>().ok();
        let is_there = self.is_current(id, key);
        let told = self.place().and_then(|p| {
            let (_, zone, tunnel) = p.parts()?;
            lines(&p.edition.site, tunnel, &Pool::of(zone)?, &far)
        });
        let (Some(address), Some((lines, words)), true) = (address, told, is_there) else {
            self.beside.close(far.id, "disconnected").await;
            if let Some(step) = self.place().as_ref().and_then(late) {
                self.beside.tell(far.crossing, step);
            }
            self.beside.came_to(ask, Outcome::Late);
            return self.deny(id, key, "it is gone, or cannot be told", "Connect again.").await;
        };
        let since = self.networks().engine.now();
        self.wait(id, State::Up { id: far.id, address, since, established: false });
        self.out.order(&Command::Auth { id, key, lines }).await?;
        let second = self.clients.all.get(&id).and_then(|c| c.tunnel.second);
        let addresses: Vec<String> = std::iter::once(address.to_string()).chain(second.map(|s| s.to_string())).collect();
        self.told(far.crossing, &addresses, words);
        self.beside.came_to(ask, Outcome::On { addresses, messages: far.messages });
        Ok(())
    }

    fn told(&self, crossing: CrossingId, addresses: &[String], words: Vec<String>) {
        let step = step!(TunnelPushed { addresses: addresses.to_vec(), lines: words });
        self.beside.tell(crossing, step);
    }

    /// One that is on was decided anew.
    async fn again(&mut self, id: u64, key: u64, far: Option<Box<Far>>) -> std::io::Result<()> {
        let Some(client) = self.clients.all.get(&id).filter(|c| c.key == key) else {
            // Another connection may carry it by now, or none.
            if let Some(far) = far.filter(|f| self.clients.carrying(f.id).is_none()) {
                self.beside.close(far.id, "disconnected").await;
            }
            return Ok(());
        };
        let State::Up { address, established, .. } = client.state else { return Ok(()) };
        let Some(far) = far else {
            self.wait(id, State::Over { address: Some(address) });
            let words = refusal(&Outcome::Over);
            self.out.order(&Command::Deny { id, key, log: "refused now".into(), to_client: Refusal::Words(words) }).await?;
            return self.out.order(&Command::Kill { id, for_good: true }).await;
        };
        if established {
            return self.out.order(&Command::AuthAgain { id, key }).await;
        }
        let told = self.place().and_then(|p| {
            let (_, zone, tunnel) = p.parts()?;
            lines(&p.edition.site, tunnel, &Pool::of(zone)?, &far)
        });
        match told {
            Some((lines, _)) => self.out.order(&Command::Auth { id, key, lines }).await,
            None => self.deny(id, key, "it cannot be told", "Connect again.").await,
        }
    }

    /// Refuses a client that is not in.
    async fn deny(&mut self, id: u64, key: u64, log: &str, words: &str) -> std::io::Result<()> {
        let Some(client) = self.clients.all.get_mut(&id) else {
            return self.out.order(&denial(id, key, log, words)).await;
        };
        client.state = State::Over { address: None };
        self.out.order(&denial(id, key, log, words)).await
    }

    async fn look(&mut self, compare: bool) -> std::io::Result<()> {
        if self.clients.is_waited_for() && !self.looks {
            self.looks = true;
            self.beside.look_for_answers();
        }
        self.end_who_is_off().await?;
        self.end_who_does_not_come_up().await?;
        self.note();
        // Not before this node knows who is on: it would end whoever it has not read yet.
        if !self.networks().knows_who_is_on() {
            return Ok(());
        }
        if self.holds {
            self.holds = false;
            self.out.order(&Command::HoldRelease).await?;
        }
        if (compare || !self.compared) && self.status.is_none() {
            self.compared = true;
            self.status = Some(vec![]);
            self.out.order(&Command::Status).await?;
        }
        Ok(())
    }

    /// Ends the tunnels of machines that are let through no more: it was closed in the kernel before.
    async fn end_who_is_off(&mut self) -> std::io::Result<()> {
        for (id, admission) in self.clients.carried() {
            if self.networks().far(admission).is_none() {
                if let Some(client) = self.clients.all.get_mut(&id) {
                    client.state = State::Over { address: client.state.address() };
                }
                tracing::info!(event = "tunnel.ended", entrance = self.beside.entrance, client = id, "a tunnel is ended");
                self.out.order(&Command::Kill { id, for_good: true }).await?;
            }
        }
        Ok(())
    }

    async fn end_who_does_not_come_up(&mut self) -> std::io::Result<()> {
        let now = self.networks().engine.now();
        let late = |c: &Client| matches!(c.state, State::Up { since, established: false, .. } if now - since > COMES_UP);
        let all: Vec<u64> = self.clients.all.iter().filter(|(_, c)| late(c)).map(|(id, _)| *id).collect();
        for id in all {
            let Some(client) = self.clients.all.get_mut(&id) else { continue };
            let State::Up { id: admission, address, .. } = client.state else { continue };
            client.state = State::Over { address: Some(address) };
            self.beside.close(admission, "disconnected").await;
            self.out.order(&Command::Kill { id, for_good: true }).await?;
        }
        Ok(())
    }

    /// Compares who is connected with who is let through: whoever is one and not the other is neither after it.
    async fn compare(&mut self, connected: &[Connected]) -> std::io::Result<()> {
        let Some(place) = self.place() else { return Ok(()) };
        let Some((_, zone, _)) = place.parts() else { return Ok(()) };
        for c in connected.iter().filter(|c| !self.clients.all.contains_key(&c.id)).cloned().collect::<Vec<_>>() {
            let far = c.addresses.iter().find_map(|a| self.networks().at_address(&zone.interface, *a));
            let known = far.filter(|f| self.clients.carrying(f.id).is_none()).and_then(|f| {
                let tunnel: TunnelOf = serde_json::from_value(f.row.tunnel.clone()?).ok()?;
                Some((f.id, f.row.address.parse().ok()?, tunnel))
            });
            match known {
                // This node speaks with the server again, and knows whose it is.
                Some((id, address, tunnel)) => {
                    let since = self.networks().engine.now();
                    let state = State::Up { id, address, since, established: true };
                    self.clients.all.insert(c.id, Client { key: 0, tunnel, state });
                }
                // It came while nobody heard: it comes again, and is asked. Its address is nobody else's until it is gone.
                None => {
                    let address = c.addresses.iter().find_map(|a| if let IpAddr::V4(a) = a { Some(*a) } else { None });
                    let outside = c.from.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
                    let facts = TunnelFacts::new(&self.beside.entrance, None, None);
                    let tunnel = TunnelOf { outside, facts, second: None, profile: None, server_session: None };
                    self.clients.all.insert(c.id, Client { key: 0, tunnel, state: State::Over { address } });
                    self.out.order(&Command::Kill { id: c.id, for_good: false }).await?;
                }
            }
        }
        let there: Vec<u64> = connected.iter().map(|c| c.id).collect();
        let lost: Vec<u64> = self.clients.all.iter().filter(|(id, _)| !there.contains(id)).map(|(id, _)| *id).collect();
        for id in lost {
            self.gone(id).await;
        }
        let carried: Vec<Uuid> = self.clients.carried().into_iter().map(|(_, id)| id).collect();
        for id in self.networks().at_entrance(&self.beside.entrance) {
            // One that is being decided on is written before its client is known to carry it.
            let decides = self.clients.all.values().any(|c| matches!(c.state, State::Decided { .. }));
            if !carried.contains(&id) && !decides {
                self.beside.close(id, "disconnected").await;
            }
        }
        Ok(())
    }

    fn note(&self) {
        let place = self.place();
        let places = place.as_ref().and_then(|p| p.parts()).and_then(|(_, zone, _)| Pool::of(zone)).map_or(0, |p| p.places());
        let given = self.clients.all.values().filter(|c| c.state.address().is_some()).count();
        // Nine in ten.
        let near_full = (places > 0 && given * 10 >= places * 9).then_some((given as u64, places as u64));
        self.networks().note_entrance(&self.beside.entrance, |seen| seen.near_full = near_full);
    }
}

/// The folder of a socket and its mode, where others than its owner and a group of theirs may enter.
fn open_to_others(socket: &Path) -> Option<(String, String)> {
    let folder = socket.parent()?;
    let mode = std::fs::metadata(folder).ok()?.permissions().mode() & 0o777;
    (mode & 0o007 != 0).then(|| (folder.display().to_string(), format!("{mode:04o}")))
}

/// The certificate that a client proved to have, as its SHA-256; the server writes it in pairs.
fn shown(env: &Env) -> Option<[u8; 32]> {
    let octets: Option<Vec<u8>> = env.get("tls_digest_sha256_0")?.split(':').map(|p| u8::from_str_radix(p, 16).ok()).collect();
    octets?.try_into().ok()
}

fn denial(id: u64, key: u64, log: &str, words: &str) -> Command {
    Command::Deny { id, key, log: log.to_owned(), to_client: Refusal::Words(words.to_owned()) }
}

fn seconds(of: Duration) -> u32 {
    u32::try_from(of.num_seconds()).unwrap_or(u32::MAX)
}

//! One socket at which RADIUS clients ask. What comes is looked at in the order of what it costs: where from, whether it is a packet, whether the
//! secret proves it, whether it came before; only then is anything decided, beside the task that reads.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::site::{Place, RadiusClient};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::Attempt;
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Code, LENGTH_MAX, Packet, Secret, Unproven};
use tokio::net::UdpSocket;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, watch};
use tokio::time::timeout;

use super::RadiusGate;
use super::asking::{self, Request};
use super::duplicates::{Duplicates, Seen};

/// The most requests that are decided at a time: of one client, and of all.
const OF_CLIENT_MAX: usize = 64;
const OF_ALL_MAX: usize = 512;
/// How long a decision may take. Clients have asked again, or elsewhere, long before.
const PATIENCE: Duration = Duration::from_secs(20);
/// Answers at a socket until `stop` changes.
pub async fn run(own: RadiusGate, socket: UdpSocket, mut stop: watch::Receiver<bool>) {
    let socket = Arc::new(socket);
    let bounds = || Bounds { of_all: Arc::new(Semaphore::new(OF_ALL_MAX)), of_clients: HashMap::new() };
    let mut server = Server { own, socket: socket.clone(), duplicates: Arc::default(), asking: bounds(), telling: bounds() };
    let mut octets = vec![0u8; LENGTH_MAX + 1];
    loop {
        tokio::select! {
            came = socket.recv_from(&mut octets) => match came {
                Ok((length, from)) => server.came(octets.get(..length).unwrap_or_default(), from),
                // Something on the way says that an answer reached nobody: it is no request.
                Err(e) => tracing::debug!(error = %e, "nothing was read at a RADIUS socket"),
            },
            _ = stop.changed() => break,
        }
    }
}

/// How many requests of a kind are answered at a time.
struct Bounds {
    of_all: Arc<Semaphore>,
    of_clients: HashMap<String, Arc<Semaphore>>,
}

impl Bounds {
    /// Room for one request of a client; none where it asks more than is answered at a time.
    fn room(&mut self, client: &str) -> Option<[OwnedSemaphorePermit; 2]> {
        let of_client = self.of_clients.entry(client.to_owned()).or_insert_with(|| Arc::new(Semaphore::new(OF_CLIENT_MAX)));
        Some([of_client.clone().try_acquire_owned().ok()?, self.of_all.clone().try_acquire_owned().ok()?])
    }
}

struct Server {
    own: RadiusGate,
    socket: Arc<UdpSocket>,
    duplicates: Arc<Mutex<Duplicates>>,
    /// What clients ask, and what they tell: the one takes no room from the other.
    asking: Bounds,
    telling: Bounds,
}

impl Server {
    fn came(&mut self, octets: &[u8], from: SocketAddr) {
        let Some(edition) = self.own.engine.live.get() else { return };
        let source = from.ip().to_canonical();
        let Some(client) = edition.site.radius_client_at(source) else {
            return self.note(Place::SignIn, None, source, step!(RadiusStranger { from: source.to_string() }));
        };
        let name = client.name.as_str();
        let packet = match Packet::read(octets) {
            Ok(packet) => packet,
            Err(e) => {
                let step = step!(RadiusUnreadable { client: name, how: e.to_string() });
                return self.note_of(&edition, client, source, step);
            }
        };
        if !matches!(packet.code, Code::AccessRequest | Code::StatusServer | Code::AccountingRequest) {
            let how = "it is no request for access, and tells of no session".to_owned();
            return self.note_of(&edition, client, source, step!(RadiusUnreadable { client: name, how }));
        }
        let Some(secret) = self.own.secrets.borrow().get(&client.secret).cloned() else {
            let step = step!(RadiusNoSecret { client: name, secret: client.secret.as_str() });
            return self.note_of(&edition, client, source, step);
        };
        let is_told = packet.code == Code::AccountingRequest;
        // Without a proof a request is anybody's who writes the client's address on it (RFC 3579 section 3.2, RFC 2866 section 3).
        if let Err(why) = if is_told { secret.proves_digest(&packet) } else { secret.proves(&packet) } {
            let check = Param::reason(match why {
                Unproven::Missing => "radius-missing",
                Unproven::Odd => "radius-odd",
                Unproven::Wrong | Unproven::Authenticator => "radius-wrong",
            });
            return self.note_of(&edition, client, source, step!(RadiusUnproven { client: name, check }));
        }
        if packet.code == Code::StatusServer {
            // Only that somebody is there (RFC 5997 section 3).
            return self.send(secret.answer(Code::AccessAccept, &packet, vec![]).map(Arc::from), from);
        }
        if is_told {
            return self.told(&edition, client, (secret, packet), from);
        }
        let key = (from, packet.id, packet.authenticator);
        let seen = self.duplicates.lock().unwrap_or_else(PoisonError::into_inner).asked(key, Instant::now());
        match seen {
            Seen::Before(answer) => return self.send(answer, from),
            Seen::Full => return self.note_of(&edition, client, source, step!(RadiusTooMany { client: name })),
            Seen::New => {}
        }
        let Some(room) = self.asking.room(&client.name) else {
            self.duplicates.lock().unwrap_or_else(PoisonError::into_inner).dropped(&key);
            return self.note_of(&edition, client, source, step!(RadiusTooMany { client: name }));
        };
        let request = Request {
            own: self.own.clone(),
            edition: edition.clone(),
            client: client.name.clone(),
            secret: secret.clone(),
            packet: packet.clone(),
            from,
        };
        let (socket, duplicates) = (self.socket.clone(), self.duplicates.clone());
        tokio::spawn(async move {
            let _held = room;
            let answered = timeout(PATIENCE, asking::answer(request)).await.ok().flatten();
            let wire = answered.and_then(|a| Some((secret.answer(a.answer.0, &packet, a.answer.1)?, a.opens)));
            let Some((wire, opens)) = wire.map(|(wire, opens)| (Arc::<[u8]>::from(wire), opens)) else {
                duplicates.lock().unwrap_or_else(PoisonError::into_inner).dropped(&key);
                return;
            };
            duplicates.lock().unwrap_or_else(PoisonError::into_inner).answered(&key, wire.clone(), opens);
            if let Err(e) = socket.send_to(&wire, from).await {
                tracing::warn!(error = %e, "a RADIUS client cannot be answered");
            }
        });
    }

    /// A client tells of a session: it is answered once that is written. What comes again is written again, and changes nothing.
    fn told(&mut self, edition: &Arc<Edition>, client: &RadiusClient, (secret, packet): (Secret, Packet), from: SocketAddr) {
        let source = from.ip().to_canonical();
        let Some(room) = self.telling.room(&client.name) else {
            return self.note_of(edition, client, source, step!(RadiusTooMany { client: client.name.as_str() }));
        };
        let (own, edition, socket, name) = (self.own.clone(), edition.clone(), self.socket.clone(), client.name.clone());
        tokio::spawn(async move {
            let _held = room;
            if timeout(PATIENCE, own.told(edition, &name, &packet, source)).await != Ok(true) {
                return;
            }
            if let Some(wire) = secret.answer(Code::AccountingResponse, &packet, vec![])
                && let Err(e) = socket.send_to(&wire, from).await
            {
                tracing::warn!(error = %e, "a RADIUS client cannot be answered");
            }
        });
    }

    /// Sends what is small and ready; where the socket takes nothing just now, the client asks again.
    fn send(&self, wire: Option<Arc<[u8]>>, to: SocketAddr) {
        if let Some(wire) = wire
            && let Err(e) = self.socket.try_send_to(&wire, to)
        {
            tracing::debug!(error = %e, "a RADIUS client was not answered just now");
        }
    }

    fn note_of(&self, edition: &Edition, client: &RadiusClient, from: IpAddr, step: Step) {
        let place = edition.site.gate_of_radius_client(&client.name).map_or(Place::SignIn, |g| g.place());
        self.note(place, Some(client), from, step);
    }

    /// Records what is not answered: the first of an address in full, the rest counted.
    fn note(&self, place: Place, client: Option<&RadiusClient>, from: IpAddr, step: Step) {
        let facts = match client {
            Some(client) => asking::facts(client, None, from),
            None => RequestFacts::of_nobody(from, ""),
        };
        let mut attempt = Attempt::begin(&self.own.engine, place, &facts);
        attempt.step(|| step);
        attempt.record_anonymous(Outcome::CheckFailed);
    }
}

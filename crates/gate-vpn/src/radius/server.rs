//! One socket at which RADIUS clients ask, and what is done with a packet that is proven, however it came. What comes is looked at in the order of
//! what it costs: where from, whether it is a packet, whether the secret proves it, whether it came before; only then is anything decided, beside
//! the task that reads.

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
use passeur_live::session::LiveSession;
use passeur_protocols::radius::{Code, LENGTH_MAX, Packet, Secret, Unproven};
use tokio::net::UdpSocket;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, watch};
use tokio::time::timeout;

use super::RadiusGate;
use super::asking::{self, Request};
use super::duplicates::{Duplicates, Key, Seen};

/// The most requests that are decided at a time: of one client, and of all.
const OF_CLIENT_MAX: usize = 64;
const OF_ALL_MAX: usize = 512;
/// How long a decision may take. Clients have asked again, or elsewhere, long before.
const PATIENCE: Duration = Duration::from_secs(20);

/// Answers at a socket until `stop` changes.
pub async fn run(own: RadiusGate, socket: UdpSocket, mut stop: watch::Receiver<bool>) {
    let socket = Arc::new(socket);
    let server = Server::new(own);
    let mut octets = vec![0u8; LENGTH_MAX + 1];
    loop {
        tokio::select! {
            came = socket.recv_from(&mut octets) => match came {
                Ok((length, from)) => server.came(octets.get(..length).unwrap_or_default(), from, &socket),
                // Something on the way says that an answer reached nobody: it is no request.
                Err(e) => tracing::debug!(error = %e, "nothing was read at a RADIUS socket"),
            },
            _ = stop.changed() => break,
        }
    }
}

/// How many of a kind, requests or connections, there are at a time: of one client, and of all.
pub(super) struct Bounds {
    of_client_max: usize,
    pub(super) of_all: Arc<Semaphore>,
    of_clients: Mutex<HashMap<String, Arc<Semaphore>>>,
}

impl Bounds {
    pub(super) fn new(of_client_max: usize, of_all_max: usize) -> Bounds {
        Bounds { of_client_max, of_all: Arc::new(Semaphore::new(of_all_max)), of_clients: Mutex::default() }
    }

    /// Room for one more of a client; none where it has as many as it may, or all have.
    pub(super) fn room(&self, client: &str) -> Option<[OwnedSemaphorePermit; 2]> {
        let mut all = self.of_clients.lock().unwrap_or_else(PoisonError::into_inner);
        let of_client = all.entry(client.to_owned()).or_insert_with(|| Arc::new(Semaphore::new(self.of_client_max)));
        Some([of_client.clone().try_acquire_owned().ok()?, self.of_all.clone().try_acquire_owned().ok()?])
    }
}

/// A request that is new among those of late. Where it is not answered it is forgotten: the client may ask again.
struct Answering {
    all: Arc<Mutex<Duplicates>>,
    key: Key,
}

impl Answering {
    fn answered(&self, wire: Arc<[u8]>, opens: Option<Arc<LiveSession>>) {
        self.all.lock().unwrap_or_else(PoisonError::into_inner).answered(&self.key, wire, opens);
    }
}

impl Drop for Answering {
    fn drop(&mut self) {
        self.all.lock().unwrap_or_else(PoisonError::into_inner).dropped(&self.key);
    }
}

/// By which way an answer goes back.
#[derive(Clone)]
pub(super) enum Back {
    Datagram(Arc<UdpSocket>, SocketAddr),
    /// Over the connection by which the request came.
    Stream(mpsc::Sender<Arc<[u8]>>),
}

impl Back {
    async fn send(&self, wire: Arc<[u8]>) {
        match self {
            Back::Datagram(socket, to) => {
                if let Err(e) = socket.send_to(&wire, to).await {
                    tracing::warn!(error = %e, "a RADIUS client cannot be answered");
                }
            }
            // A connection that is over takes nothing.
            Back::Stream(out) => drop(out.send(wire).await),
        }
    }

    /// Sends what is small and ready; where nothing can be taken just now, the client asks again.
    fn send_now(&self, wire: Option<Arc<[u8]>>) {
        let Some(wire) = wire else { return };
        let is_sent = match self {
            Back::Datagram(socket, to) => socket.try_send_to(&wire, *to).is_ok(),
            Back::Stream(out) => out.try_send(wire).is_ok(),
        };
        if !is_sent {
            tracing::debug!("a RADIUS client was not answered just now");
        }
    }
}

/// A request that is proven.
pub(super) struct Proven {
    pub secret: Secret,
    pub packet: Packet,
    pub from: SocketAddr,
    pub back: Back,
}

/// What answers requests.
pub(super) struct Server {
    pub(super) own: RadiusGate,
    duplicates: Arc<Mutex<Duplicates>>,
    /// What clients ask, and what they tell: the one takes no room from the other.
    asking: Bounds,
    telling: Bounds,
}

impl Server {
    pub(super) fn new(own: RadiusGate) -> Server {
        let bounds = || Bounds::new(OF_CLIENT_MAX, OF_ALL_MAX);
        Server { own, duplicates: Arc::default(), asking: bounds(), telling: bounds() }
    }

    fn came(&self, octets: &[u8], from: SocketAddr, socket: &Arc<UdpSocket>) {
        let Some(edition) = self.own.engine.live.get() else { return };
        let source = from.ip().to_canonical();
        let Some(client) = edition.site.radius_client_at(source) else {
            return self.note(Place::SignIn, None, source, step!(RadiusStranger { from: source.to_string() }));
        };
        let name = client.name.as_str();
        let Some(named) = client.secret() else {
            return self.note_of(&edition, client, source, step!(RadiusWantsTls { client: name }));
        };
        let packet = match Packet::read(octets) {
            Ok(packet) => packet,
            Err(e) => {
                let step = step!(RadiusUnreadable { client: name, how: e.to_string() });
                return self.note_of(&edition, client, source, step);
            }
        };
        if !is_for_us(&packet) {
            return self.note_of(&edition, client, source, not_for_us(name));
        }
        let Some(secret) = self.own.secrets.borrow().get(named).cloned() else {
            return self.note_of(&edition, client, source, step!(RadiusNoSecret { client: name, secret: named }));
        };
        // Without a proof a request is anybody's who writes the client's address on it (RFC 3579 section 3.2, RFC 2866 section 3).
        if let Err(why) = proves(&secret, &packet) {
            return self.note_of(&edition, client, source, unproven(name, why));
        }
        self.proven(&edition, client, Proven { secret, packet, from, back: Back::Datagram(socket.clone(), from) });
    }

    /// Answers a request that is proven.
    pub(super) fn proven(&self, edition: &Arc<Edition>, client: &RadiusClient, request: Proven) {
        let (name, source) = (client.name.as_str(), request.from.ip().to_canonical());
        let Proven { secret, packet, from, back } = request;
        if packet.code == Code::StatusServer {
            // Only that somebody is there (RFC 5997 section 3).
            return back.send_now(secret.answer(Code::AccessAccept, &packet, vec![]).map(Arc::from));
        }
        if packet.code == Code::AccountingRequest {
            return self.told(edition, client, Proven { secret, packet, from, back });
        }
        // Over a connection nothing is sent again (RFC 6613 section 2.6.1): the same number is another request.
        let answering = match back {
            Back::Stream(_) => None,
            Back::Datagram(..) => {
                let key = (from, packet.id, packet.authenticator);
                let seen = self.duplicates.lock().unwrap_or_else(PoisonError::into_inner).asked(key, Instant::now());
                match seen {
                    Seen::Before(answer) => return back.send_now(answer),
                    Seen::Full => return self.note_of(edition, client, source, step!(RadiusTooMany { client: name })),
                    Seen::New => Some(Answering { all: self.duplicates.clone(), key }),
                }
            }
        };
        let Some(room) = self.asking.room(name) else {
            return self.note_of(edition, client, source, step!(RadiusTooMany { client: name }));
        };
        let request = Request {
            own: self.own.clone(),
            edition: edition.clone(),
            client: client.name.clone(),
            secret: secret.clone(),
            packet: packet.clone(),
            from,
        };
        tokio::spawn(async move {
            let _held = room;
            let answered = timeout(PATIENCE, asking::answer(request)).await.ok().flatten();
            let wire = answered.and_then(|a| Some((secret.answer(a.answer.0, &packet, a.answer.1)?, a.opens)));
            let Some((wire, opens)) = wire.map(|(wire, opens)| (Arc::<[u8]>::from(wire), opens)) else { return };
            if let Some(answering) = answering {
                answering.answered(wire.clone(), opens);
            }
            // It may wait for a connection that takes nothing; whoever asks there asks for less at a time then.
            let _ = timeout(PATIENCE, back.send(wire)).await;
        });
    }

    /// A client tells of a session: it is answered once that is written. What comes again is written again, and changes nothing.
    fn told(&self, edition: &Arc<Edition>, client: &RadiusClient, request: Proven) {
        let Proven { secret, packet, from, back } = request;
        let source = from.ip().to_canonical();
        let Some(room) = self.telling.room(&client.name) else {
            return self.note_of(edition, client, source, step!(RadiusTooMany { client: client.name.as_str() }));
        };
        let (own, edition, name) = (self.own.clone(), edition.clone(), client.name.clone());
        tokio::spawn(async move {
            let _held = room;
            if timeout(PATIENCE, own.told(edition, &name, &packet, source)).await != Ok(true) {
                return;
            }
            if let Some(wire) = secret.answer(Code::AccountingResponse, &packet, vec![]) {
                let _ = timeout(PATIENCE, back.send(Arc::from(wire))).await;
            }
        });
    }

    pub(super) fn note_of(&self, edition: &Edition, client: &RadiusClient, from: IpAddr, step: Step) {
        let place = edition.site.gate_of_radius_client(&client.name).map_or(Place::SignIn, |g| g.place());
        self.note(place, Some(client), from, step);
    }

    /// Records what is not answered: the first of an address in full, the rest counted.
    pub(super) fn note(&self, place: Place, client: Option<&RadiusClient>, from: IpAddr, step: Step) {
        let facts = match client {
            Some(client) => asking::facts(client, None, from),
            None => RequestFacts::of_nobody(from, ""),
        };
        let mut attempt = Attempt::begin(&self.own.engine, place, &facts);
        attempt.step(|| step);
        attempt.record_anonymous(Outcome::CheckFailed);
    }
}

/// Whether a packet asks or tells something that a server is there for.
pub(super) fn is_for_us(packet: &Packet) -> bool {
    matches!(packet.code, Code::AccessRequest | Code::StatusServer | Code::AccountingRequest)
}

/// The step that tells of a packet that a server is not there for.
pub(super) fn not_for_us(client: &str) -> Step {
    step!(RadiusUnreadable { client, how: "it is no request for access, and tells of no session".to_owned() })
}

/// Whether a request is proven, as its kind is.
pub(super) fn proves(secret: &Secret, packet: &Packet) -> Result<(), Unproven> {
    if packet.code == Code::AccountingRequest { secret.proves_digest(packet) } else { secret.proves(packet) }
}

/// The step that tells why a request is not proven.
pub(super) fn unproven(client: &str, why: Unproven) -> Step {
    let check = Param::reason(match why {
        Unproven::Missing => "radius-missing",
        Unproven::Odd => "radius-odd",
        Unproven::Wrong | Unproven::Authenticator => "radius-wrong",
    });
    step!(RadiusUnproven { client, check })
}

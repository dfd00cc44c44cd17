//! The resolver of a zone, as far as this service is one: it passes questions on, and opens what a name leads to before it says so. Whoever
//! asked goes there at once, and finds it open; no other way knows what stands below `*.name`, or which of many addresses somebody was told.
//!
//! Machines that nobody knows ask as often as they like: it answers machines of zones alone, holds few questions in all and fewer of one
//! machine, and gives each a few seconds.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use hickory_proto::rr::RecordType;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::watch;
use tokio::time::timeout;

use crate::answers::{self, Question, numbered};
use crate::gate::NetworkGate;
use crate::plan::zone_at;
use crate::shares::Shares;

/// Questions and connections in all, and of one machine.
const IN_ALL: usize = 2_000;
const OF_ONE: usize = 50;
/// How long a question may take.
const LASTS: Duration = Duration::from_secs(5);
/// How long a connection may last.
const CONNECTION_LASTS: Duration = Duration::from_secs(20);
/// The longest question, and the longest answer over UDP.
const QUESTION_MAX: usize = 1_024;
const ANSWER_MAX: usize = 65_535;

/// Listens at one address, until `stop` changes.
pub struct Resolver {
    gate: NetworkGate,
    from: SocketAddr,
    asked: Shares,
}

impl Resolver {
    /// Of a gate, asking `from`.
    pub fn new(gate: NetworkGate, from: SocketAddr) -> Arc<Resolver> {
        Arc::new(Resolver { gate, from, asked: Shares::new(IN_ALL, OF_ONE) })
    }

    /// Answers on these sockets until `stop` changes.
    pub async fn run(self: Arc<Self>, udp: UdpSocket, tcp: TcpListener, mut stop: watch::Receiver<bool>) {
        let udp = Arc::new(udp);
        let mut buffer = vec![0; QUESTION_MAX];
        loop {
            tokio::select! {
                got = udp.recv_from(&mut buffer) => match got {
                    Ok((n, peer)) => self.datagram(&udp, buffer[..n].to_vec(), peer),
                    Err(e) => self.pause(&e).await,
                },
                got = tcp.accept() => match got {
                    Ok((stream, peer)) => self.connection(stream, peer),
                    Err(e) => self.pause(&e).await,
                },
                _ = stop.changed() => return,
            }
        }
    }

    async fn pause(&self, e: &io::Error) {
        tracing::warn!(error = %e, "the resolver's socket");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    /// Whether a machine may ask: it is in a zone that this node guards, or this machine itself.
    fn may_ask(&self, peer: IpAddr) -> bool {
        let peer = peer.to_canonical();
        if peer.is_loopback() {
            return true;
        }
        let Some(edition) = self.gate.engine.live.get() else { return false };
        let interfaces = self.gate.interfaces();
        zone_at(&edition.site, &interfaces, peer).is_some()
    }

    fn datagram(self: &Arc<Self>, udp: &Arc<UdpSocket>, octets: Vec<u8>, peer: SocketAddr) {
        let Some(place) = self.asked.take(peer.ip()).filter(|_| self.may_ask(peer.ip())) else { return };
        let (own, udp) = (self.clone(), udp.clone());
        tokio::spawn(async move {
            let _place = place;
            let Some(asked) = answers::question(&octets) else { return };
            own.note(&asked, peer);
            if let Ok(Ok(answer)) = timeout(LASTS, own.by_datagram(&asked, octets)).await {
                let _ = udp.send_to(&answer, peer).await;
            }
        });
    }

    fn connection(self: &Arc<Self>, mut stream: TcpStream, peer: SocketAddr) {
        let Some(place) = self.asked.take(peer.ip()).filter(|_| self.may_ask(peer.ip())) else { return };
        let own = self.clone();
        tokio::spawn(async move {
            let _place = place;
            let served = async {
                while let Some(octets) = framed(&mut stream, QUESTION_MAX).await? {
                    let Some(asked) = answers::question(&octets) else { return Ok(()) };
                    own.note(&asked, peer);
                    let answer = timeout(LASTS, own.by_connection(&asked, octets)).await??;
                    stream.write_all(&(answer.len() as u16).to_be_bytes()).await?;
                    stream.write_all(&answer).await?;
                }
                io::Result::Ok(())
            };
            let _ = timeout(CONNECTION_LASTS, served).await;
        });
    }

    /// Where a browser goes, it asks for an address first.
    fn note(&self, asked: &Question, peer: SocketAddr) {
        if matches!(asked.kind, RecordType::A | RecordType::AAAA) {
            self.gate.note_asked(peer.ip(), &answers::host(&asked.name));
        }
    }

    /// Asks over UDP, from a port that nobody knows and under a number that nobody knows (RFC 5452).
    async fn by_datagram(&self, asked: &Question, octets: Vec<u8>) -> io::Result<Vec<u8>> {
        let any: IpAddr = if self.from.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
        let socket = UdpSocket::bind((any, 0)).await?;
        socket.connect(self.from).await?;
        let ours = Question { id: number(), ..asked.clone() };
        let sent = numbered(octets, ours.id);
        socket.send(&sent).await?;
        let mut buffer = vec![0; ANSWER_MAX];
        loop {
            let n = socket.recv(&mut buffer).await?;
            // What answers something else is not waited for any less.
            if let Some(leads) = answers::answer(&buffer[..n], &ours) {
                self.gate.learn(&leads).await;
            } else if !answers::echoes(&buffer[..n], &sent) {
                continue;
            }
            return Ok(numbered(buffer[..n].to_vec(), asked.id));
        }
    }

    async fn by_connection(&self, asked: &Question, octets: Vec<u8>) -> io::Result<Vec<u8>> {
        let mut stream = TcpStream::connect(self.from).await?;
        let ours = Question { id: number(), ..asked.clone() };
        stream.write_all(&(octets.len() as u16).to_be_bytes()).await?;
        let sent = numbered(octets, ours.id);
        stream.write_all(&sent).await?;
        let answer = framed(&mut stream, ANSWER_MAX).await?.ok_or(io::ErrorKind::UnexpectedEof)?;
        match answers::answer(&answer, &ours) {
            Some(leads) => self.gate.learn(&leads).await,
            None if answers::echoes(&answer, &sent) => {}
            None => return Err(io::ErrorKind::InvalidData.into()),
        }
        Ok(numbered(answer, asked.id))
    }
}

/// A number that nobody can guess.
fn number() -> u16 {
    let [a, b]: [u8; 2] = passeur_engine::random::random();
    u16::from_be_bytes([a, b])
}

/// A message with its length before it (RFC 7766 8); none at the end.
async fn framed(stream: &mut TcpStream, most: usize) -> io::Result<Option<Vec<u8>>> {
    let mut head = [0; 2];
    match stream.read_exact(&mut head).await {
        Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    };
    let n = usize::from(u16::from_be_bytes(head));
    if n > most {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut octets = vec![0; n];
    stream.read_exact(&mut octets).await?;
    Ok(Some(octets))
}

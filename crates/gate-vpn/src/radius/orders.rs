//! Orders to clients (RFC 5176): a session is to end, or may do something else from now on.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use passeur_core::Moment;
use passeur_core::site::RadiusCertificate;
use passeur_core::step::Param;
use passeur_protocols::radius::{Attribute, Code, Kind, LENGTH_MAX, Packet, SESSION_NOT_FOUND, Secret, error_cause};
use tokio::net::UdpSocket;
use tokio::time::{Instant, timeout_at};

use super::connection::Tls;

/// For how long an answer is waited for after each sending.
const WAITS: [Duration; 4] = [Duration::from_millis(500), Duration::from_secs(1), Duration::from_secs(2), Duration::from_secs(4)];

/// What a client is ordered.
#[derive(Clone, Debug)]
pub enum Order {
    /// The session is to end (Disconnect-Request).
    End,
    /// It may do something else (CoA-Request): the attributes that count now.
    Change(Vec<Attribute>),
}

/// What came of an order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Came {
    Done,
    /// The client knows no such session.
    Nobody,
    /// It says no, for a cause with a number (Error-Cause).
    Refused(Option<u32>),
    /// It does not answer, or cannot be sent to.
    Silent,
}

impl Order {
    /// The code of its reason, in words of [`passeur_core::step`].
    pub fn code(&self) -> &'static str {
        match self {
            Order::End => "order-end",
            Order::Change(_) => "order-change",
        }
    }
}

impl Came {
    /// In words.
    pub fn says(&self) -> Param {
        match self {
            Came::Done => Param::reason("order-done"),
            Came::Nobody => Param::reason("order-nobody"),
            Came::Silent => Param::reason("order-silent"),
            Came::Refused(None) => Param::reason("no-cause"),
            Came::Refused(Some(n)) => error_cause(*n).map_or_else(|| format!("Error-Cause {n}"), str::to_owned).into(),
        }
    }

    /// As it is kept: `done`, `nobody`, `refused`, `silent`.
    pub fn state(&self) -> &'static str {
        match self {
            Came::Done => "done",
            Came::Nobody => "nobody",
            Came::Refused(_) => "refused",
            Came::Silent => "silent",
        }
    }
}

/// What proves orders to a client, and by which way they go.
#[derive(Clone)]
pub enum Bond {
    /// By UDP, with a secret that both share.
    Secret(Secret),
    /// Over TLS (RFC 6614), where the client shows one of these certificates.
    Tls(Tls, Arc<RadiusCertificate>),
}

/// Orders, and says what came of it. `named` says which session it is about; `own` is the address that the client knows this service by, where
/// that is a certain one.
pub async fn order(to: SocketAddr, own: Option<IpAddr>, bond: &Bond, order: &Order, named: Vec<Attribute>, now: Moment) -> Came {
    let code = match order {
        Order::End => Code::DisconnectRequest,
        Order::Change(_) => Code::CoaRequest,
    };
    let mut attributes = named;
    // A client that keeps time takes no order of long ago (RFC 5176 section 6.3).
    attributes.push(Attribute::number(Kind::EventTimestamp, u32::try_from(now.timestamp()).unwrap_or_default()));
    if let Order::Change(new) = order {
        attributes.extend(new.iter().cloned());
    }
    let asked = match bond {
        Bond::Secret(secret) => {
            // The socket is this order's alone: its number tells nothing more.
            let Some(wire) = secret.request(code, 1, attributes) else { return Came::Refused(None) };
            ask(to, own, secret, &wire, &WAITS).await
        }
        Bond::Tls(tls, of) => tls.ask((to, own), of, (code, attributes), now).await,
    };
    match asked {
        Ok(Some(answer)) => read(code, &answer),
        Ok(None) => Came::Silent,
        Err(e) => {
            tracing::debug!(error = %e, %to, "a RADIUS client cannot be ordered");
            Came::Silent
        }
    }
}

fn read(code: Code, answer: &Packet) -> Came {
    match (code, answer.code) {
        (Code::DisconnectRequest, Code::DisconnectAck) | (Code::CoaRequest, Code::CoaAck) => Came::Done,
        _ => match answer.number(Kind::ErrorCause) {
            Some(SESSION_NOT_FOUND) => Came::Nobody,
            cause => Came::Refused(cause),
        },
    }
}

/// Sends until an answer comes that is proven; none where none does. Whatever else comes is passed over.
async fn ask(
    to: SocketAddr,
    own: Option<IpAddr>,
    secret: &Secret,
    wire: &[u8],
    waits: &[Duration],
) -> std::io::Result<Option<Packet>> {
    let any = if to.is_ipv4() { IpAddr::V4(Ipv4Addr::UNSPECIFIED) } else { IpAddr::V6(Ipv6Addr::UNSPECIFIED) };
    let socket = UdpSocket::bind((own.filter(|a| a.is_ipv4() == to.is_ipv4()).unwrap_or(any), 0)).await?;
    socket.connect(to).await?;
    let request = Packet::read(wire).map_err(std::io::Error::other)?;
    let mut octets = vec![0; LENGTH_MAX + 1];
    for wait in waits {
        // A client whose port is closed says so at the next sending: it may open it within that time.
        if let Err(e) = socket.send(wire).await {
            tracing::debug!(error = %e, %to, "an order was not sent just now");
        }
        let until = Instant::now() + *wait;
        while let Ok(came) = timeout_at(until, socket.recv(&mut octets)).await {
            let Ok(length) = came else {
                // Nobody listens there just now: what is left of the time is waited.
                tokio::time::sleep_until(until).await;
                break;
            };
            let Ok(answer) = Packet::read(octets.get(..length).unwrap_or_default()) else { continue };
            if answer.id == request.id && secret.proves_answer(&answer, &request.authenticator).is_ok() {
                return Ok(Some(answer));
            }
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn secret() -> Secret {
        Secret::new(*b"a-secret-of-the-tests-0001")
    }

    /// A client that answers each of its requests in turn; `change` may spoil an answer.
    async fn client(answers: Vec<(Code, Vec<Attribute>)>, change: fn(usize, &mut Vec<u8>)) -> SocketAddr {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let at = socket.local_addr().unwrap();
        tokio::spawn(async move {
            let mut octets = [0; LENGTH_MAX];
            for (n, (code, said)) in answers.into_iter().enumerate() {
                let (length, from) = socket.recv_from(&mut octets).await.unwrap();
                let request = Packet::read(&octets[..length]).unwrap();
                secret().proves_digest(&request).unwrap();
                secret().proves(&Packet { authenticator: [0; 16], ..request.clone() }).unwrap();
                let mut wire = secret().answer(code, &request, said).unwrap();
                change(n, &mut wire);
                socket.send_to(&wire, from).await.unwrap();
            }
        });
        at
    }

    #[tokio::test]
    async fn an_order_is_done_refused_or_about_nobody() {
        let now = Moment::UNIX_EPOCH;
        let cause = |n: u32| vec![Attribute::number(Kind::ErrorCause, n)];
        for (what, code, said, came) in [
            (Order::End, Code::DisconnectAck, vec![], Came::Done),
            (Order::End, Code::DisconnectNak, cause(503), Came::Nobody),
            (Order::End, Code::DisconnectNak, cause(501), Came::Refused(Some(501))),
            (Order::End, Code::DisconnectNak, vec![], Came::Refused(None)),
            (Order::Change(vec![]), Code::CoaAck, vec![], Came::Done),
            (Order::Change(vec![]), Code::CoaNak, cause(401), Came::Refused(Some(401))),
            // What says yes to another order says nothing of this one.
            (Order::End, Code::CoaAck, vec![], Came::Refused(None)),
        ] {
            let to = client(vec![(code, said)], |_, _| {}).await;
            assert_eq!(order(to, None, &Bond::Secret(secret()), &what, vec![], now).await, came, "{what:?} {code:?}");
        }
    }

    #[tokio::test]
    async fn an_answer_of_somebody_else_is_none() {
        let spoiled: fn(usize, &mut Vec<u8>) = |n, wire| {
            if n == 0 {
                wire[4] ^= 1;
            }
        };
        // The first answer is forged; the second, to what is sent again, is the client's.
        let to = client(vec![(Code::DisconnectAck, vec![]), (Code::DisconnectNak, vec![])], spoiled).await;
        let came = order(to, None, &Bond::Secret(secret()), &Order::End, vec![], Moment::UNIX_EPOCH).await;
        assert_eq!(came, Came::Refused(None));
    }

    #[tokio::test]
    async fn a_client_that_says_nothing_is_silent() {
        let socket = UdpSocket::bind("127.0.0.1:0").await.unwrap();
        let (to, wire) = (socket.local_addr().unwrap(), secret().request(Code::DisconnectRequest, 1, vec![]).unwrap());
        let waits = [Duration::from_millis(1), Duration::from_millis(1)];
        assert!(ask(to, None, &secret(), &wire, &waits).await.unwrap().is_none());
        let mut octets = [0; LENGTH_MAX];
        for _ in waits {
            let (length, _) = socket.recv_from(&mut octets).await.unwrap();
            assert_eq!(octets[..length], wire[..], "it is sent again as it was");
        }
    }
}

//! Asking a RADIUS server of others about a code (RFC 2865): one request, sent again while nothing comes, and the answer that it proves.
//!
//! Whatever comes from elsewhere, proves nothing or answers something else is not there, and the question goes on waiting. An answer without a
//! Message-Authenticator is none: without it whoever stands between could turn a no into a yes (RFC 3579 section 3.2).

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use passeur_core::text::shorten;
use passeur_protocols::radius::{Attribute, Code, Kind, Packet, Secret};
use tokio::net::UdpSocket;
use tokio::time::{Instant, timeout_at};

/// How often a request is sent within the time that a server has.
const SENDINGS: u32 = 3;
/// The longest that is read of what a server says to the person.
const WORDS_MAX: usize = 500;
/// The longest State, in octets (RFC 2865 section 5).
const STATE_MAX: usize = 253;

/// What is asked; never shown, since it holds the code.
#[derive(Clone, Copy)]
pub struct Question<'a> {
    pub user: &'a str,
    pub code: &'a str,
    /// What the server said to hand back, where it asked for more (RFC 2865 section 5.24).
    pub state: Option<&'a [u8]>,
    /// Who asks, as the server logs it.
    pub from: &'a str,
    /// Where the person is.
    pub person_at: IpAddr,
    /// Random octets, new for each question.
    pub authenticator: [u8; 16],
}

/// What a server says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Says {
    Yes,
    No {
        words: String,
    },
    /// It asks for something else, and wants the state back with it.
    More {
        words: String,
        state: Vec<u8>,
    },
}

/// Asks a server.
///
/// # Errors
/// Why there is no answer that counts, in a few words.
pub async fn ask(server: SocketAddr, secret: &Secret, question: &Question<'_>, within: Duration) -> Result<Says, String> {
    let any: IpAddr = if server.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
    let socket = UdpSocket::bind((any, 0)).await.map_err(|e| e.to_string())?;
    // From nowhere else anything is received.
    socket.connect(server).await.map_err(|e| e.to_string())?;
    let id = question.authenticator[0];
    let wire =
        secret.access_request(id, question.authenticator, attributes(secret, question)?).ok_or("the question is too long")?;
    let end = Instant::now() + within;
    let mut why = "no answer".to_owned();
    let mut buffer = [0u8; 4_096];
    for sending in 1..=SENDINGS {
        socket.send(&wire).await.map_err(|e| e.to_string())?;
        let until = end - within * (SENDINGS - sending) / SENDINGS;
        loop {
            let heard = match timeout_at(until, socket.recv(&mut buffer)).await {
                Err(_) => break,
                Ok(Err(e)) => return Err(e.to_string()),
                Ok(Ok(n)) => buffer.get(..n).unwrap_or_default(),
            };
            match read(heard, secret, (id, &question.authenticator)) {
                Ok(says) => return Ok(says),
                Err(odd) => why = odd,
            }
        }
    }
    Err(why)
}

fn attributes(secret: &Secret, question: &Question<'_>) -> Result<Vec<Attribute>, String> {
    let hidden = secret.hide(question.code.as_bytes(), &question.authenticator).ok_or("the code is too long")?;
    let mut out = vec![
        Attribute::octets(Kind::UserName, question.user),
        Attribute::octets(Kind::UserPassword, hidden),
        Attribute::octets(Kind::NasIdentifier, question.from),
        Attribute::octets(Kind::CallingStationId, question.person_at.to_string()),
    ];
    out.extend(question.state.map(|state| Attribute::octets(Kind::State, state)));
    match out.iter().all(|a| (1..=STATE_MAX).contains(&a.value.len())) {
        true => Ok(out),
        false => Err("the name is too long, or empty".to_owned()),
    }
}

fn read(heard: &[u8], secret: &Secret, (id, authenticator): (u8, &[u8; 16])) -> Result<Says, String> {
    let packet = Packet::read(heard).map_err(|e| format!("an answer that cannot be read: {e}"))?;
    if packet.id != id {
        return Err("an answer to something else".to_owned());
    }
    secret.proves_answer(&packet, authenticator).map_err(|_| "an answer that another secret proves, or none".to_owned())?;
    if packet.first(Kind::MessageAuthenticator).is_none() {
        return Err("an answer without Message-Authenticator".to_owned());
    }
    let said: Vec<u8> = packet.all(Kind::ReplyMessage).collect::<Vec<_>>().concat();
    let said = String::from_utf8_lossy(&said);
    let words = shorten(&said.chars().filter(|c| !c.is_control()).collect::<String>(), WORDS_MAX);
    match packet.code {
        Code::AccessAccept => Ok(Says::Yes),
        Code::AccessReject => Ok(Says::No { words }),
        Code::AccessChallenge => match packet.first(Kind::State) {
            Some(state) => Ok(Says::More { words, state: state.to_vec() }),
            None => Err("a challenge without State".to_owned()),
        },
        _ => Err("an answer of another kind".to_owned()),
    }
}

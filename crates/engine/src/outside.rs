//! Codes that a server of others judges, by RADIUS: which server is asked, and what it says.
//!
//! Servers are asked in the order of the site file, one after another; one that did not answer is asked last for a minute. An answer that asks for
//! more goes on at the server that gave it, which alone knows what it asked.

use std::net::{IpAddr, SocketAddr};

use passeur_core::site::OutsideFactor;
use passeur_links::radius::{self, Question, Says};
use passeur_protocols::radius::Secret;

use crate::engine::Engine;
use crate::random::random;

/// What was asked of a server before, where it asked for more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GoingOn {
    pub server: SocketAddr,
    pub state: Vec<u8>,
}

/// What came of asking.
#[derive(Debug)]
pub struct Heard {
    /// Servers that did not answer, each with why.
    pub tried: Vec<(SocketAddr, String)>,
    /// The one that did, and what it says; none where nobody did.
    pub says: Option<(SocketAddr, Says)>,
}

/// Asks about a code of a person, as they are called there.
///
/// # Errors
/// The secret is not stored, or weak.
pub async fn ask(
    engine: &Engine,
    of: &OutsideFactor,
    (user, code): (&str, &str),
    going_on: Option<&GoingOn>,
    person_at: IpAddr,
) -> Result<Heard, &'static str> {
    let from = engine.live.get().map(|e| e.site.address.name().to_owned()).unwrap_or_default();
    let secret = engine.secret(&of.secret, None).await.ok().flatten();
    let secret = secret.and_then(|s| Secret::strong(s.as_bytes())).ok_or("no-secret")?;
    let within = of.within.to_std().unwrap_or_default();
    engine.code_servers.forget_others(&of.servers);
    let servers = match going_on {
        Some(g) => vec![g.server],
        None => engine.code_servers.order(&of.servers, engine.now()),
    };
    let mut tried = vec![];
    for server in servers {
        let state = going_on.map(|g| g.state.as_slice());
        let question = Question { user, code, state, from: &from, person_at, authenticator: random() };
        match radius::ask(server, &secret, &question, within).await {
            Ok(says) => {
                engine.code_servers.note(server, None);
                return Ok(Heard { tried, says: Some((server, says)) });
            }
            Err(why) => {
                engine.code_servers.note(server, Some((engine.now(), why.clone())));
                tried.push((server, why));
            }
        }
    }
    Ok(Heard { tried, says: None })
}

//! Tunnels that ask to be opened, as the rest of a node sees them: their address on a gate's host, and what conditions may ask of one while
//! its person signs in.

use std::net::IpAddr;

use passeur_core::id::Token;
use passeur_core::site::Gate;
use passeur_core::tunnel::TunnelFacts;
use passeur_store::{StoreError, TunnelAskRow};
use serde::{Deserialize, Serialize};

use crate::Engine;

/// Where on a gate's host somebody says that a tunnel is theirs; the token is in the query, which crossings do not keep.
pub const PATH: &str = "/connect";

/// How a machine at the far end of a tunnel came: what is kept of it beside an admission.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TunnelOf {
    /// The address that the client connects from.
    pub outside: IpAddr,
    pub facts: TunnelFacts,
    /// The second address of the machine, where its entrance gives two.
    #[serde(default)]
    pub second: Option<std::net::Ipv6Addr>,
    /// The personal profile by which it came.
    #[serde(default)]
    pub profile: Option<uuid::Uuid>,
    /// The VPN server's number of the client's session, which outlives a connection.
    #[serde(default)]
    pub server_session: Option<String>,
    /// Trials of the entrance in which it began, by where it comes from; one, once it is known whose it is. See [`crate::entrance_trials`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub trials: Vec<uuid::Uuid>,
}

impl TunnelOf {
    /// As an admission keeps it; none where it came by no tunnel.
    pub fn kept(value: Option<&serde_json::Value>) -> Option<TunnelOf> {
        TunnelOf::deserialize(value?).ok()
    }
}

/// The address on a gate's host that is about a tunnel.
pub fn target(token: &Token) -> String {
    format!("{PATH}?ask={}", token.reveal())
}

/// The token in such an address.
pub fn token_in(target: &str) -> Option<Token> {
    let (path, query) = target.split_once('?')?;
    let ask = url::form_urlencoded::parse(query.as_bytes()).find(|(name, _)| name == "ask").filter(|_| path == PATH)?.1;
    Token::parse(&ask)
}

/// The tunnel that an address on a gate's host is about; none where there is none of that gate, or its time is over.
///
/// # Errors
/// Those of the store.
pub async fn asked(engine: &Engine, gate: &Gate, target: &str) -> Result<Option<(TunnelAskRow, TunnelOf)>, StoreError> {
    let Some(token) = token_in(target).filter(|_| gate.is_vpn()) else { return Ok(None) };
    let row = engine.store.tunnel_ask(&token.digest(), engine.now()).await?;
    let Some(row) = row.filter(|r| r.gate == gate.name) else { return Ok(None) };
    let of = TunnelOf::deserialize(&row.tunnel).map_err(|e| StoreError::Query(e.to_string()))?;
    Ok(Some((row, of)))
}

/// What conditions may ask of the tunnel that an address is about.
///
/// # Errors
/// Those of the store.
pub async fn facts(engine: &Engine, gate: &Gate, target: &str) -> Result<Option<TunnelFacts>, StoreError> {
    Ok(asked(engine, gate, target).await?.map(|(_, of)| of.facts))
}

/// What came of a tunnel that asked, as its person's page reads it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "state", rename_all = "kebab-case")]
pub enum Outcome {
    /// It is let in.
    On {
        addresses: Vec<String>,
        messages: Vec<String>,
        /// On trial: nothing is opened to it.
        #[serde(default)]
        trial: bool,
    },
    /// The rules say no.
    Refused { words: Option<String>, crossing: String },
    /// The person has as many on as they may: these.
    Full { machines: Vec<String> },
    /// What may pass is used up.
    QuotaUsed,
    /// The session is over.
    Over,
    /// The client is gone.
    Late,
    /// The person said that it is not theirs.
    Denied,
    /// It could not be opened; the crossing tells why.
    Failed,
}

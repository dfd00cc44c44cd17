//! Telling clients that a session ended: by a message (OpenID Connect Back-Channel Logout 1.0), and in frames (Front-Channel).

use serde_json::json;

use super::authorize::Session;
use super::{Mode, Provider, random};

/// Sends each client that wants it a logout token. What does not answer is not waited for.
pub(super) async fn back_channel(p: &Provider, session: &Session) {
    let mode = p.memory().mode;
    let Some(person) = p.0.register.person(&session.user).cloned() else { return };
    for client in &p.0.register.clients {
        let Some(address) = &client.back_channel else { continue };
        let token = logout_token(p, &client.id, &person.sub, Some(&session.index()), mode);
        tell(address, &token).await;
    }
}

/// A logout token as a client gets it.
pub(super) fn logout_token(p: &Provider, client: &str, sub: &str, sid: Option<&str>, mode: Mode) -> String {
    let mut claims = json!({
        "iss": p.0.issuer, "aud": client, "iat": p.now(), "exp": p.now() + 120, "jti": random(), "sub": sub,
        "events": {"http://schemas.openid.net/event/backchannel-logout": {}},
    });
    if let Some(sid) = sid {
        claims["sid"] = sid.into();
    }
    if mode == Mode::LogoutWithNonce {
        claims["nonce"] = "x".into();
    }
    p.signed(&claims, "logout+jwt", mode == Mode::ForgedLogout)
}

async fn tell(address: &str, token: &str) {
    let Ok(url) = url::Url::parse(address) else { return };
    let host = url.host_str().unwrap_or_default().to_owned();
    let port = url.port_or_known_default().unwrap_or(80);
    // Names below localhost are this host (RFC 6761 6.3), whatever the resolver says.
    let client = reqwest::Client::builder().no_proxy().resolve(&host, ([127, 0, 0, 1], port).into()).build();
    let Ok(client) = client else { return };
    let limit = std::time::Duration::from_secs(5);
    let _ = client.post(url).form(&[("logout_token", token)]).timeout(limit).send().await;
}

/// The frames by which clients hear of it.
pub(super) fn front_channel(p: &Provider, session: &Session) -> Vec<String> {
    let with = |address: &String| {
        let mut url = url::Url::parse(address).ok()?;
        url.query_pairs_mut().append_pair("iss", &p.0.issuer).append_pair("sid", &session.index());
        Some(url.to_string())
    };
    p.0.register.clients.iter().filter_map(|c| with(c.front_channel.as_ref()?)).collect()
}

impl Provider {
    /// A logout token, for whoever wants to send one.
    pub fn logout_token(&self, client: &str, sub: &str, sid: Option<&str>) -> String {
        let mode = self.memory().mode;
        logout_token(self, client, sub, sid, mode)
    }
}

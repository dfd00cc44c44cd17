//! A client asks: by a browser, by a code, as one that was in before, or with a new key.

use std::net::IpAddr;

use base64::Engine as _;
use passeur_core::Moment;
use passeur_core::device::Device;
use passeur_core::site::Profiles;
use passeur_core::step;
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::devices::Told;
use passeur_engine::tunnel::{Outcome, TunnelOf};
use passeur_protocols::openvpn::{Command, Env, Pending, Refusal};
use passeur_store::ProfileRow;

use crate::clients::{Browser, Client, State};
use crate::decisions::Place;
use crate::desk::{Desk, seconds};
use crate::told::question;

/// The most clients of one server.
const CLIENTS_MAX: usize = 65_536;

impl Desk<'_> {
    /// A client asks to be let in.
    pub(super) async fn connects(&mut self, id: u64, key: u64, env: &Env) -> std::io::Result<()> {
        let address = ["untrusted_ip", "untrusted_ip6"].iter().find_map(|n| env.get(n)?.parse::<IpAddr>().ok());
        let (Some(place), Some(outside)) = (self.place(), address.map(|a| a.to_canonical())) else {
            return self.deny(id, key, "no gate takes people in here", "This entrance is not in use.").await;
        };
        if self.clients.all.len() >= CLIENTS_MAX {
            return self.deny(id, key, "too many clients", "Too many are connected here. Try again later.").await;
        }
        let mut facts = TunnelFacts::new(&self.beside.entrance, env.get("IV_PLAT"), env.get("IV_VER"));
        let asks = !place.edition.site.device_checks.is_empty();
        facts.device = asks.then(|| device(self.networks().engine.now(), env));
        let judged = facts.device.clone().zip(told(env));
        let server_session = env.get("session_id").map(str::to_owned);
        let tunnel = TunnelOf { outside, facts, second: None, profile: None, server_session, trials: vec![] };
        let browser = Browser::of(env.get("IV_SSO").unwrap_or_default());
        self.clients.all.insert(id, Client { key, tunnel, browser, ask: None, state: State::Asks });
        // What the certificate is of, and whether somebody is trying this out, is asked of the store; the rest waits for it.
        self.beside.look_up(&place, (id, key), (outside, shown(env), judged), env.clone());
        Ok(())
    }

    /// A client asks to be let in, by a personal profile or by none.
    pub(super) async fn known(&mut self, id: u64, key: u64, profile: Option<ProfileRow>, env: &Env) -> std::io::Result<()> {
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
            self.clients.set(id, State::Waits);
            self.beside.look_up_code(&place, (id, key), outside, code.1.to_owned());
            return Ok(());
        }
        self.ask_person(&place, (id, key), tunnel, env).await
    }

    /// Asks a client's person to sign in, as the client is able to.
    async fn ask_person(&mut self, place: &Place, (id, key): (u64, u64), tunnel: TunnelOf, env: &Env) -> std::io::Result<()> {
        let Some((gate, _, of)) = place.parts() else { return Ok(()) };
        if self.clients.all.get(&id).is_some_and(|c| c.browser.is_some()) {
            self.beside.ask(place, (id, key), tunnel);
            return Ok(());
        }
        let (words, seconds) = (question(gate), seconds(of.patience));
        self.clients.set(id, State::Waits);
        if env.get("IV_SSO").unwrap_or_default().split(',').any(|w| w == "crtext") {
            return self.out.order(&Command::Pending { id, key, what: Pending::Text(words), seconds }).await;
        }
        // The client comes again with what its person types.
        let user = env.get("username").unwrap_or("-").to_owned();
        let to_client = Refusal::Question { state: format!("{id}"), user, words };
        self.clients.set(id, State::Over { address: None });
        self.out.order(&Command::Deny { id, key, log: "a code is asked for".into(), to_client }).await
    }

    pub(super) async fn waits(&mut self, id: u64, key: u64, digest: [u8; 32], url: String) -> std::io::Result<()> {
        let Some(patience) = self.place().and_then(|p| p.parts().map(|(_, _, t)| t.patience)) else { return Ok(()) };
        if !self.is_current(id, key) {
            self.beside.came_to(Some(digest), Outcome::Late);
            return Ok(());
        }
        let browser = self.clients.all.get(&id).and_then(|c| c.browser).unwrap_or(Browser::WebAuth);
        self.clients.waits_for(id, digest);
        self.out.order(&Command::Pending { id, key, what: browser.pending(url), seconds: seconds(patience) }).await
    }

    /// A client answers what its person was asked.
    pub(super) async fn answers(&mut self, id: u64, key: u64, text: &str) -> std::io::Result<()> {
        let Some(place) = self.place() else { return Ok(()) };
        let Some(client) = self.clients.all.get(&id).filter(|c| c.ask.is_none() && c.state == State::Waits) else {
            return Ok(());
        };
        let typed = base64::engine::general_purpose::STANDARD.decode(text).unwrap_or_default();
        let typed = String::from_utf8_lossy(&typed).chars().take(40).collect();
        self.beside.look_up_code(&place, (id, key), client.tunnel.outside, typed);
        // One code at a time: what the client sends meanwhile is not looked up.
        self.clients.set(id, State::Asks);
        Ok(())
    }

    /// A client renews its key: the rules are asked again.
    pub(super) async fn asks_again(&mut self, id: u64, key: u64) -> std::io::Result<()> {
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

    /// Whether a client that was let in before comes in without a new sign-in.
    async fn comes_back(&mut self, place: &Place, id: u64, key: u64, session: &str, tunnel: &TunnelOf) -> std::io::Result<bool> {
        let now = self.networks().engine.now();
        if let Some((before, admission, address)) = self.clients.same_session(session) {
            // The connection before it is of the same client, which has left it: what it carried is this one's.
            self.clients.set(before, State::Over { address: None });
            self.clients.set(id, State::Up { id: admission, address, since: now, established: false });
            self.beside.decide_again(place, (id, key), admission, Some(tunnel.clone()));
            self.out.order(&Command::Kill { id: before, for_good: true }).await?;
            return Ok(true);
        }
        let Some(roam) = self.clients.comes_back(session, now) else { return Ok(false) };
        self.decide(place, (id, key), (roam.session, None), None, Some(roam.address)).await?;
        Ok(true)
    }
}

/// The certificate that a client proved to have, as its SHA-256.
fn shown(env: &Env) -> Option<[u8; 32]> {
    octets(env, "tls_digest_sha256_0")?.try_into().ok()
}

/// Octets, which the server writes in pairs.
fn octets(env: &Env, name: &str) -> Option<Vec<u8>> {
    env.get(name)?.split(':').map(|p| u8::from_str_radix(p, 16).ok()).collect()
}

/// What a client says of the device that it runs on.
fn device(now: Moment, env: &Env) -> Device {
    Device::of_client(now, env.get("IV_PLAT"), env.get("IV_PLAT_VER"), env.get("IV_VER"))
}

/// What the server tells of the certificate that a client proved to have, and of the authority that issued it.
fn told(env: &Env) -> Option<Told> {
    Some(Told {
        subject: env.get("X509_0_CN").map_or_else(|| "—".to_owned(), |cn| format!("CN={cn}")),
        serial: octets(env, "tls_serial_hex_0")?,
        fingerprint: shown(env)?,
        issuer: octets(env, "tls_digest_sha256_1")?.try_into().ok()?,
    })
}

//! A profile is made: for whoever asks at the gate's page in a session of theirs, or by an engineer for somebody's machine. The key is the
//! machine's own in both.

use passeur_core::evidence::PersonKey;
use passeur_core::site::{Gate, Server, Zone};
use passeur_store::{MadeBy, NotKept, ProfileRow, StoreError};

use super::{Authority, PublicKey, Use};
use crate::Engine;
use crate::random::new_uuid;

/// A profile that is wanted.
#[derive(Clone, Debug)]
pub struct Wanted<'a> {
    pub gate: &'a Gate,
    /// The entrance that the machine connects to.
    pub entrance: &'a Zone,
    pub key: PublicKey,
    /// What the machine is called.
    pub device: String,
    /// Whose it is: their provider, key and name.
    pub provider: String,
    pub person: PersonKey,
    pub name: String,
}

/// A profile that was made.
#[derive(Clone, Debug)]
pub struct Made {
    pub row: ProfileRow,
    /// The configuration of its client, but for the key.
    pub configuration: String,
}

/// Why no profile was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotMade {
    /// The gate has no authority, in words.
    NoAuthority(String),
    /// The certificate could not be made, in words.
    NotIssued(String),
    /// It is not kept.
    NotKept(NotKept),
}

/// Certifies the key of somebody's machine, and keeps that it counts.
///
/// # Errors
/// Those of the store: nothing counts then.
pub async fn make(engine: &Engine, wanted: Wanted<'_>, by: MadeBy<'_>) -> Result<Result<Made, NotMade>, StoreError> {
    let now = engine.now();
    let authority = match Authority::of(engine, wanted.gate).await? {
        Ok(authority) => authority,
        Err(why) => {
            tracing::error!(event = "profile.no-authority", gate = wanted.gate.name, why, "no profile can be made");
            return Ok(Err(NotMade::NoAuthority(why)));
        }
    };
    let issued = match authority.issue(&wanted.key, &wanted.name, Use::Client, now) {
        Ok(issued) => issued,
        Err(why) => {
            tracing::error!(event = "profile.not-issued", gate = wanted.gate.name, why, "no profile can be made");
            return Ok(Err(NotMade::NotIssued(why)));
        }
    };
    let row = ProfileRow {
        id: new_uuid(),
        gate: wanted.gate.name.clone(),
        digest: issued.digest.to_vec(),
        provider: wanted.provider,
        authority: wanted.person.authority,
        subject: wanted.person.subject,
        name: wanted.name,
        device: wanted.device,
        created_at: now,
        expires_at: issued.until,
        used_at: None,
        revoked_at: None,
        revoked_by: None,
    };
    if let Err(why) = engine.store.add_profile(&row, by).await? {
        return Ok(Err(NotMade::NotKept(why)));
    }
    tracing::info!(event = "profile.made", person = row.name, device = row.device, gate = row.gate, "a personal profile is made");
    let configuration = configuration(wanted.entrance, &authority.certificate, &issued.pem);
    Ok(Ok(Made { row, configuration }))
}

/// A client's configuration, but for its key.
fn configuration(zone: &Zone, authority: &str, certificate: &str) -> String {
    let transport = |s: &Server| format!("{}{}", s.transport.word(), if s.host.contains(':') { "6" } else { "" });
    let remote = |s: &Server| format!("remote {} {} {}\n", s.host, s.port, transport(s));
    let remotes: String = zone.tunnel().into_iter().flat_map(|t| &t.servers).map(remote).collect();
    format!(
        "# {}\nclient\ndev tun\nnobind\npersist-key\npersist-tun\nremote-cert-tls server\npush-peer-info\nsetenv IV_SSO webauth,openurl,crtext\n{remotes}\
         <ca>\n{authority}</ca>\n<cert>\n{certificate}</cert>\n",
        zone.title.replace(['\n', '\r'], " ")
    )
}

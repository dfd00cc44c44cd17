//! Second factors of our own: codes of an authenticator, passkeys, and the recovery codes that stand for either.
//!
//! [`page`] is where people enrol and remove them, [`prove`] where they prove one because a rule asks for it, and [`ceremony`]
//! is what passkeys need between two requests. A factor belongs to a person as their provider names them.

pub mod ceremony;
mod outside;
pub mod page;
pub mod prove;

use axum::response::IntoResponse;
use http::header;
use passeur_core::Moment;
use passeur_core::evidence::Evidence;
use passeur_core::id::hex;
use passeur_core::seal::Purpose;
use passeur_core::site::{OwnFactors, Site};
use passeur_engine::factors::recovery_macs;
pub use passeur_engine::factors::{Holds, Kind, account, authenticator};
use passeur_engine::random::random;
use passeur_store::{FactorRow, StoreError};
use uuid::Uuid;
use webauthn_rs::WebauthnBuilder;
use webauthn_rs::prelude::{Passkey, Url, Webauthn};

use crate::journey::fresh::{is_fresh, is_recent};
use passeur_engine::Engine;
use passeur_engine::sessions::{self, Session};
use passeur_engine::{factors, rights};

/// What a server that judges codes asks for besides: its words for the person, and what the form hands back.
pub struct More {
    pub words: String,
    pub sealed: String,
}

/// Recovery codes that somebody gets at a time.
const RECOVERY: usize = 10;

/// `GET /.passeur/passkey.js`: what pages with passkeys need of the browser.
pub async fn script() -> impl IntoResponse {
    let cache = "public, max-age=300";
    let kind = "text/javascript; charset=utf-8";
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache)], include_str!("passkey.js"))
}

/// A factor that a session's person enrols now, sealed already: it is theirs as the session knows them, and opens no more than it.
pub fn new_row(engine: &Engine, s: &Session, kind: Kind, name: String, (id, sealed): (Uuid, Vec<u8>)) -> FactorRow {
    FactorRow {
        id,
        provider: s.row.provider.clone(),
        subject: s.row.subject.clone(),
        kind: kind.code().to_owned(),
        name,
        sealed,
        credential: None,
        created_at: engine.now(),
        used_at: None,
        last_step: None,
        authority: s.row.authority.clone(),
        unasked: s.evidence.unasked,
    }
}

/// The ceremonies of passkeys for a site: they are bound to the sign-in host.
pub fn webauthn(site: &Site) -> Option<Webauthn> {
    let origin = Url::parse(&site.address.origin()).ok()?;
    let host = origin.host_str()?.to_owned();
    WebauthnBuilder::new(&host, &origin).ok()?.rp_name(&site.name).build().ok()
}

/// How authenticators know a person: nothing that can be read.
pub fn handle(provider: &str, subject: &str) -> Uuid {
    let digest = passeur_core::id::sha256(format!("{provider}\0{subject}").as_bytes());
    uuid::Builder::from_random_bytes(digest[..16].try_into().unwrap_or_default()).into_uuid()
}

/// A passkey as it is kept.
pub fn open_passkey(engine: &Engine, row: &FactorRow) -> Option<Passkey> {
    let plain = engine.ring.open(Purpose::Factor, row.id.as_bytes(), &row.sealed).ok()?;
    serde_json::from_slice(&plain).ok()
}

/// A passkey as it is kept.
pub fn seal_passkey(engine: &Engine, id: Uuid, key: &Passkey) -> Vec<u8> {
    engine.ring.seal(Purpose::Factor, id.as_bytes(), random(), &serde_json::to_vec(key).unwrap_or_default())
}

/// Gives the person of a session new recovery codes: 80 random bits each, shown once. None where the session is over.
pub async fn new_recovery(engine: &Engine, session: &Session) -> Result<Option<Vec<String>>, StoreError> {
    let (provider, person) = (session.row.provider.as_str(), session.row.person());
    let codes: Vec<String> = (0..RECOVERY)
        .map(|_| {
            let text = hex(&random::<10>());
            [&text[..5], &text[5..10], &text[10..15], &text[15..]].join("-")
        })
        .collect();
    let macs: Vec<[u8; 32]> = codes.iter().filter_map(|c| recovery_macs(engine, provider, &person, c).first().copied()).collect();
    Ok(engine.store.put_recovery_codes(provider, &person, session.row.id, (engine.ring.newest(), &macs)).await?.then_some(codes))
}

/// Notes in a session that a factor was proven just now. Every gate decides anew.
pub async fn note(engine: &Engine, session: &mut Session, kind: Kind) -> Result<(), StoreError> {
    let now = engine.now();
    loop {
        factors::note(&mut session.evidence.factors, kind, now);
        if sessions::grown(engine, session).await? {
            break;
        }
    }
    rights::changed(engine, session.row.id).await
}

/// Why somebody may not change their factors just now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotNow {
    /// They signed in too long ago.
    SignIn,
    /// They have factors, and proved none of late.
    Prove,
    /// The network they come from is none from which a factor is enrolled.
    Network,
}

/// Whether somebody may change their factors now: of late they signed in and, where they have any, proved one.
pub fn may_change(
    own: &OwnFactors,
    evidence: &Evidence,
    has: bool,
    address: std::net::IpAddr,
    now: Moment,
) -> Result<(), NotNow> {
    let proved = evidence.factors.own.iter().any(|f| is_recent(Some(f.at), now));
    if has && !proved {
        return Err(NotNow::Prove);
    }
    if !has && !is_fresh(evidence, now) {
        return Err(NotNow::SignIn);
    }
    if own.enrols_from(address) { Ok(()) } else { Err(NotNow::Network) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_handle_tells_nothing_and_is_the_same_each_time() {
        assert_eq!(handle("pilotage", "p-1001"), handle("pilotage", "p-1001"));
        assert_ne!(handle("pilotage", "p-1001"), handle("pilotag", "ep-1001"));
    }
}

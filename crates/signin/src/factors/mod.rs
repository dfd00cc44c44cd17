//! Second factors of our own: codes of an authenticator, passkeys, and the recovery codes that stand for either.
//!
//! [`page`] is where people enrol and remove them, [`prove`] where they prove one because a rule asks for it, and [`ceremony`]
//! is what passkeys need between two requests. A factor belongs to a person as their provider names them.

pub mod ceremony;
pub mod page;
pub mod prove;

use axum::response::IntoResponse;
use http::header;
use passeur_core::Moment;
use passeur_core::evidence::{Evidence, OwnFactor, PersonKey};
use passeur_core::id::hex;
use passeur_core::seal::Purpose;
use passeur_core::site::{OwnFactors, PASSKEY_PROVES, RECOVERY_PROVES, Site, TOTP_PROVES};
use passeur_engine::random::random;
use passeur_store::{FactorRow, StoreError};
use totp_rs::{Builder, Totp};
use uuid::Uuid;
use webauthn_rs::WebauthnBuilder;
use webauthn_rs::prelude::{Passkey, Url, Webauthn};

use crate::journey::fresh::{is_fresh, is_recent};
use passeur_engine::Engine;
use passeur_engine::rights;
use passeur_engine::sessions::{self, Session};

/// Recovery codes that somebody gets at a time.
const RECOVERY: usize = 10;

/// `GET /.passeur/passkey.js`: what pages with passkeys need of the browser.
pub async fn script() -> impl IntoResponse {
    let cache = "public, max-age=300";
    let kind = "text/javascript; charset=utf-8";
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, cache)], include_str!("passkey.js"))
}

/// A kind of factor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Totp,
    Passkey,
    Recovery,
}

impl Kind {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Kind::Totp => "totp",
            Kind::Passkey => "passkey",
            Kind::Recovery => "recovery",
        }
    }

    fn proves(self) -> &'static [&'static str] {
        match self {
            Kind::Totp => &TOTP_PROVES,
            Kind::Passkey => &PASSKEY_PROVES,
            Kind::Recovery => &RECOVERY_PROVES,
        }
    }
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

/// An authenticator for a secret (RFC 6238: SHA-1, six digits, thirty seconds, one step either way).
pub fn authenticator(site: &Site, name: &str, secret: [u8; 20]) -> Option<Totp> {
    // The label takes no colon, which parts the two.
    let plain = |text: &str| text.replace(':', " ");
    Builder::new().with_secret(secret).with_account_name(plain(name)).with_issuer(Some(plain(&site.name))).build().ok()
}

/// Whose authenticator shows what was typed: a code, or two in a row where somebody guesses (`two`). Wrong, or used before: none.
pub async fn check_code(
    engine: &Engine,
    site: &Site,
    rows: &[FactorRow],
    typed: &str,
    two: bool,
) -> Result<Result<FactorRow, &'static str>, StoreError> {
    let digits: String = typed.chars().filter(char::is_ascii_digit).take(13).collect();
    let now = engine.now();
    if digits.len() != if two { 12 } else { 6 } {
        return Ok(Err("code-wrong"));
    }
    let (first, second) = digits.split_at(6);
    let mut used = false;
    for row in rows.iter().filter(|r| r.kind == Kind::Totp.code()) {
        let opened = engine.ring.open(Purpose::Factor, row.id.as_bytes(), &row.sealed).ok();
        let secret = opened.and_then(|b| <[u8; 20]>::try_from(b.as_slice()).ok());
        let Some(totp) = secret.and_then(|s| authenticator(site, "x", s)) else { continue };
        let at = now.timestamp().max(0).unsigned_abs();
        let Some(step) = totp.check(if two { second } else { first }, at) else { continue };
        // The one before it, exactly: whoever guesses would have to guess both.
        let before = step.saturating_sub(1) * 30;
        if two && totp.generate(before).to_string() != first {
            continue;
        }
        // RFC 6238 5.2: the same code is not taken twice.
        if engine.store.use_step(row.id, step as i64, now).await? {
            return Ok(Ok(row.clone()));
        }
        used = true;
    }
    Ok(Err(if used { "code-used" } else { "code-wrong" }))
}

/// Digests of a recovery code under every key of the ring, in whatever spelling it was typed.
fn recovery_macs(engine: &Engine, provider: &str, person: &PersonKey, typed: &str) -> Vec<[u8; 32]> {
    let plain: String = typed.chars().filter(char::is_ascii_alphanumeric).take(40).collect::<String>().to_lowercase();
    engine.ring.macs("recovery code", format!("{provider}\0{}\0{plain}", person.subject).as_bytes())
}

/// Whether what was typed is a recovery code of a person; it is none afterwards.
pub async fn check_recovery(engine: &Engine, provider: &str, person: &PersonKey, typed: &str) -> Result<bool, StoreError> {
    engine.store.take_recovery_code(person, &recovery_macs(engine, provider, person, typed)).await
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
        let own = &mut session.evidence.factors.own;
        for amr in kind.proves() {
            own.retain(|f| f.amr != *amr);
            own.push(OwnFactor { amr: (*amr).to_owned(), at: now });
        }
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
    fn codes_are_those_of_the_standard() {
        // RFC 6238, appendix B, SHA-1, cut to six digits.
        let (site, _) = passeur_core::document::compile("format = 1\n[site]\nname = \"x\"\naddress = \"https://x.example\"\n");
        let totp = authenticator(&site.unwrap(), "x", *b"12345678901234567890").unwrap();
        for (time, code) in [(59, "287082"), (1_111_111_109, "081804"), (2_000_000_000, "279037"), (20_000_000_000, "353130")] {
            assert_eq!(totp.check(code, time), Some(time / 30), "{time}");
            assert_eq!(totp.check(code, time + 30), Some(time / 30), "one step later");
            assert_eq!(totp.check(code, time + 60), None, "two steps later");
        }
    }

    #[test]
    fn a_handle_tells_nothing_and_is_the_same_each_time() {
        assert_eq!(handle("pilotage", "p-1001"), handle("pilotage", "p-1001"));
        assert_ne!(handle("pilotage", "p-1001"), handle("pilotag", "ep-1001"));
    }
}

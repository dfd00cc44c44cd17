//! Second factors of our own, as they are proven: on a page of ours, or by a RADIUS client that hands a code on. A factor belongs to a person as their
//! provider names them.

use passeur_core::Moment;
use passeur_core::evidence::{Factors, OwnFactor, PersonKey};
use passeur_core::seal::Purpose;
use passeur_core::site::{OUTSIDE_PROVES, PASSKEY_PROVES, RECOVERY_PROVES, Site, TOTP_PROVES};
use passeur_store::{FactorRow, StoreError};
use totp_rs::{Builder, Totp};

use crate::engine::Engine;
use crate::tries::{self, slow};

/// How often a code may be tried within the window of [`crate::tries`], wherever.
pub const TRIES: i32 = 5;

/// A kind of factor.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    Totp,
    Passkey,
    /// A code that a server of others judges.
    Outside,
    Recovery,
}

impl Kind {
    /// A stable code.
    pub fn code(self) -> &'static str {
        match self {
            Kind::Totp => "totp",
            Kind::Passkey => "passkey",
            Kind::Outside => "outside",
            Kind::Recovery => "recovery",
        }
    }

    /// Methods (RFC 8176) that it proves.
    pub fn proves(self) -> &'static [&'static str] {
        match self {
            Kind::Totp => &TOTP_PROVES,
            Kind::Passkey => &PASSKEY_PROVES,
            Kind::Outside => &OUTSIDE_PROVES,
            Kind::Recovery => &RECOVERY_PROVES,
        }
    }
}

/// What somebody has to prove a factor with.
#[derive(Debug)]
pub struct Holds {
    pub rows: Vec<FactorRow>,
    /// Recovery codes that are left.
    pub recovery: i64,
    /// What they are called by servers that judge codes; none where nobody knows them there.
    pub outside: Option<String>,
    /// Whether codes were guessed for weeks, so that two in a row are asked for.
    pub guessed: bool,
}

impl Holds {
    /// What a person has.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn of(engine: &Engine, person: &PersonKey) -> Result<Holds, StoreError> {
        Ok(Holds {
            rows: engine.store.factors(person).await?,
            guessed: slow::is_guessed(engine, "factor", &account(person)).await?,
            recovery: engine.store.recovery_codes_left(person).await?,
            outside: None,
        })
    }

    /// The same, with what they are called by servers that judge codes.
    pub fn known_outside_as(self, name: Option<String>) -> Holds {
        Holds { outside: name, ..self }
    }

    /// Which kinds would do, where one of these methods is wanted; any where none is named.
    pub fn kinds(&self, wanted: &[String]) -> Vec<Kind> {
        let does = |k: Kind| wanted.is_empty() || k.proves().iter().any(|p| wanted.iter().any(|w| w == p));
        let has = |k: Kind| match k {
            Kind::Recovery => self.recovery > 0,
            Kind::Outside => self.outside.is_some(),
            Kind::Totp | Kind::Passkey => self.rows.iter().any(|r| r.kind == k.code()),
        };
        [Kind::Totp, Kind::Passkey, Kind::Outside, Kind::Recovery].into_iter().filter(|k| has(*k) && does(*k)).collect()
    }

    /// What was typed, as a code of an authenticator or else a recovery code, which is none afterwards: of which kind, and the name of the factor or why
    /// it is none.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn typed(
        &self,
        engine: &Engine,
        site: &Site,
        (provider, person): (&str, &PersonKey),
        typed: &str,
    ) -> Result<(Kind, Result<String, &'static str>), StoreError> {
        Ok(match check_code(engine, site, &self.rows, typed, self.guessed).await? {
            Ok(row) => (Kind::Totp, Ok(row.name)),
            Err(_) if check_recovery(engine, provider, person, typed).await? => (Kind::Recovery, Ok(String::new())),
            Err(why) => (Kind::Totp, Err(why)),
        })
    }
}

/// Notes among what somebody proved that they proved a factor of ours just now.
pub fn note(factors: &mut Factors, kind: Kind, at: Moment) {
    for amr in kind.proves() {
        factors.own.retain(|f| f.amr != *amr);
        factors.own.push(OwnFactor { amr: (*amr).to_owned(), at });
    }
}

/// A code was right: neither the try nor the guesses before it count any more.
///
/// # Errors
/// Those of the store.
pub async fn forgive(engine: &Engine, account: &str) -> Result<(), StoreError> {
    tries::uncount_plain(engine, "factor", account).await?;
    slow::forget(engine, "factor", account).await
}

/// The account for which tries of codes are counted.
pub fn account(person: &PersonKey) -> String {
    format!("{}\0{}", person.authority, person.subject)
}

/// An authenticator for a secret (RFC 6238: SHA-1, six digits, thirty seconds, one step either way).
pub fn authenticator(site: &Site, name: &str, secret: [u8; 20]) -> Option<Totp> {
    // The label takes no colon, which parts the two.
    let plain = |text: &str| text.replace(':', " ");
    Builder::new().with_secret(secret).with_account_name(plain(name)).with_issuer(Some(plain(&site.name))).build().ok()
}

/// Whose authenticator shows what was typed: a code, or two in a row where somebody guesses (`two`). Wrong, or used before: none.
async fn check_code(
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
pub fn recovery_macs(engine: &Engine, provider: &str, person: &PersonKey, typed: &str) -> Vec<[u8; 32]> {
    let plain: String = typed.chars().filter(char::is_ascii_alphanumeric).take(40).collect::<String>().to_lowercase();
    engine.ring.macs("recovery code", format!("{provider}\0{}\0{plain}", person.subject).as_bytes())
}

/// Whether what was typed is a recovery code of a person; it is none afterwards.
async fn check_recovery(engine: &Engine, provider: &str, person: &PersonKey, typed: &str) -> Result<bool, StoreError> {
    engine.store.take_recovery_code(person, &recovery_macs(engine, provider, person, typed)).await
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
}

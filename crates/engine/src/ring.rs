//! The key ring against what this database was sealed with. A ring that lacks a key, or has another one of its number, opens part of what
//! is kept and says of the rest that somebody altered it: such a service does not start, and says which key it lacks.

use passeur_core::Moment;
use passeur_core::seal::{Purpose, Ring};
use passeur_store::{Holds, RingKeyRow, Sealed, Store, StoreError};

use crate::engine::Engine;
use crate::random::random;

/// What is wrong with the ring.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WrongRing {
    #[error(
        "the key ring lacks key {number}, under which {what} are sealed here. Put its line back into the ring file, from a backup or from \
         another node; do not store or make anything anew before"
    )]
    Missing { number: i32, what: String },
    #[error(
        "key {number} of the ring file is another than the key {number} that this database was sealed with. Use the ring file that belongs to \
         this database, or the database that belongs to this ring file"
    )]
    Another { number: u16 },
}

/// What is under a key, in words.
fn words(s: &Sealed) -> String {
    let all = [
        (s.secrets, "secret versions"),
        (s.factors, "factors"),
        (s.sessions, "sessions"),
        (s.recovery_codes, "recovery codes"),
        (s.acts, "acts"),
    ];
    all.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect::<Vec<_>>().join(", ")
}

fn purpose(holds: Holds) -> Purpose {
    match holds {
        Holds::Secret => Purpose::Secret,
        Holds::Factor => Purpose::Factor,
        Holds::SessionHint => Purpose::SessionHint,
        Holds::Kept => Purpose::Kept,
    }
}

/// What a sealed thing is bound to, from its id.
fn bound_to(holds: Holds, id: &str) -> Option<Vec<u8>> {
    match holds {
        Holds::Secret => {
            let (name, version) = id.rsplit_once('/')?;
            Some(crate::secrets::secret_binding(name, version.parse().ok()?))
        }
        Holds::Factor | Holds::SessionHint | Holds::Kept => Some(id.parse::<uuid::Uuid>().ok()?.as_bytes().to_vec()),
    }
}

fn opens(ring: &Ring, holds: Holds, id: &str, sealed: &[u8]) -> Option<Vec<u8>> {
    ring.open(purpose(holds), &bound_to(holds, id)?, sealed).ok()
}

/// A key of the ring that is another than the noted one of its number.
fn another(ring: &Ring, noted: &[RingKeyRow]) -> Option<u16> {
    ring.numbers().find(|n| noted.iter().any(|r| r.number == i32::from(*n) && ring.proof(*n).is_none_or(|p| r.proof != p)))
}

/// Holds the ring against what this database was sealed with, and notes keys that are new. A ring that is wrong by what was
/// noted writes nothing.
pub async fn check(store: &Store, ring: &Ring, now: Moment) -> Result<Result<(), WrongRing>, StoreError> {
    let known = store.ring_keys().await?;
    if let Some(number) = another(ring, &known) {
        return Ok(Err(WrongRing::Another { number }));
    }
    for row in known.iter().filter(|r| r.retired_at.is_none()) {
        let number = u16::try_from(row.number).unwrap_or_default();
        if ring.proof(number).is_some() {
            continue;
        }
        let under = store.sealed_under(number).await?;
        if under != Sealed::default() {
            return Ok(Err(WrongRing::Missing { number: row.number, what: words(&under) }));
        }
        tracing::warn!(
            key = row.number,
            "the key ring lacks a key that nothing stands under any more; retire it on a node that has it"
        );
    }
    for number in ring.numbers().filter(|n| known.iter().all(|r| r.number != i32::from(*n))) {
        let Some(proof) = ring.proof(number) else { continue };
        // A database of before keys were noted: something that the key should open tells whether it is the one.
        if let Some((holds, id, sealed)) = store.sample_under(number).await?
            && opens(ring, holds, &id, &sealed).is_none()
        {
            return Ok(Err(WrongRing::Another { number }));
        }
        store.note_ring_key(number, proof, now).await?;
    }
    // Another node may have noted another key of that number in the same moment: whoever was first counts.
    let noted = store.ring_keys().await?;
    Ok(another(ring, &noted).map_or(Ok(()), |number| Err(WrongRing::Another { number })))
}

/// Opens what stands under an older key and seals it under the newest.
pub fn reseal(engine: &Engine) -> impl Fn(Holds, &str, &[u8]) -> Option<Vec<u8>> + Send + Sync + '_ {
    move |holds, id, sealed| {
        let plain = opens(&engine.ring, holds, id, sealed)?;
        Some(engine.ring.seal(purpose(holds), &bound_to(holds, id)?, random(), &plain))
    }
}

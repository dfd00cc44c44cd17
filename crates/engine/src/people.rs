//! What somebody has beyond a single session, taken away: by themselves, by an engineer, or because they left.

use crate::attempt::{Attempt, Who};
use crate::ending;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::PersonKey;
use passeur_core::site::Place;
use passeur_core::step;
use passeur_core::step::Param;
use passeur_store::{BlockRow, HowFar, Recorded, StoreError, TakenAway};

use crate::engine::Engine;

/// Somebody, as engineers write them and as everything kept knows them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    pub provider: String,
    pub key: PersonKey,
    /// What they are called.
    pub name: String,
}

impl Named {
    /// As `provider/subject`.
    pub fn text(&self) -> String {
        format!("{}/{}", self.provider, self.key.subject)
    }
}

/// Takes everything away from people at once, here and on every node, and keeps them out where `why` says for what reason. Returns when
/// every live node has acknowledged, or with the names of those that have not.
pub async fn take_away(
    engine: &Engine,
    people: &[Named],
    how_far: HowFar,
    why: Option<&str>,
    by: &str,
    act: Option<Recorded<'_>>,
) -> Result<(TakenAway, Vec<String>), StoreError> {
    let now = engine.now();
    let keys: Vec<PersonKey> = people.iter().map(|p| p.key.clone()).collect();
    let block = why.map(|why| {
        let row = |p: &Named| BlockRow {
            authority: p.key.authority.clone(),
            subject: p.key.subject.clone(),
            provider: p.provider.clone(),
            name: p.name.clone(),
            at: now,
            by: by.to_owned(),
            why: why.to_owned(),
        };
        people.iter().map(row).collect()
    });
    let taken = engine.store.take_away(&keys, how_far, block, (now, by), act).await?;
    engine.end_here(&taken.sessions);
    engine.token_roles.forget();
    let behind = ending::acknowledged(engine, taken.counter).await?;
    Ok((taken, behind))
}

/// Records for each of the people that it happened.
pub async fn record(
    engine: &Engine,
    facts: &RequestFacts,
    people: &[Named],
    taken: &TakenAway,
    why: Option<&str>,
    by: &str,
) -> Result<(), StoreError> {
    for p in people {
        let mut attempt = Attempt::begin(engine, Place::SignIn, facts);
        attempt.who = Some(Who { provider: p.provider.clone(), subject: p.key.subject.clone(), name: p.name.clone() });
        attempt.provider = Some(p.provider.clone());
        attempt.step(|| {
            step!(SignedOut { by: Param::Reason { code: "engineer".into(), detail: by.to_owned() }, who: p.name.as_str() })
        });
        attempt.step(|| {
            step!(TakenAway {
                sessions: taken.sessions.len() as i64,
                tokens: (taken.personal_tokens.len() + taken.api_tokens.len()) as i64,
                factors: taken.factors.len() as i64
            })
        });
        if let Some(why) = why {
            attempt.step(|| step!(Blocked { by, why }));
        }
        attempt.record(Outcome::SignedOut).await?;
    }
    Ok(())
}

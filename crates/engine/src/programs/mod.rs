//! Programs without a browser: a token is checked once, opens a session of its own, and from then on is looked up like a cookie.
//!
//! An access token is checked here where it is a JWT (RFC 9068) and otherwise by asking the provider (RFC 7662), which only the
//! one provider of a gate is asked. A personal token stands for its owner, as their provider named them last; rules, delivery,
//! directory and records are the same as for people. Once a session that a token opened is ended, the token opens no other.

mod access;
mod certificate;
mod personal;

use std::sync::Arc;

use crate::attempt::{Attempt, Who};
use crate::grants::{self, Asking, Carriage, Decided};
use crate::look_up;
use crate::random::new_uuid;
use crate::workers::Overloaded;
use crate::{ending, tries};
use passeur_core::Moment;
use passeur_core::address::neighbourhood;
use passeur_core::circumstances::RequestFacts;
use passeur_core::condition::Need;
use passeur_core::crossing::Outcome;
use passeur_core::decide::Admitted;
use passeur_core::evidence::Evidence;
use passeur_core::id::{CrossingId, hex};
use passeur_core::identity::display_name;
use passeur_core::site::Gate;
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_live::edition::Edition;
use passeur_live::programs;
use passeur_protocols::oidc::IdTokenError;
use passeur_store::{BegunByToken, GateTokenRow, NewSession, StoreError};

use crate::engine::Engine;

/// How every personal token begins, so that whoever finds one knows what it is.
pub use passeur_core::id::PERSONAL_TOKEN as PREFIX;
/// Tokens from one neighbourhood within the window of [`crate::tries`] that are no good, after which no more are checked.
const BAD_MAX: i32 = 120;

/// Why a token, or a certificate, opens nothing; with the crossing that tells of it.
#[derive(Debug)]
pub enum NotTaken {
    /// Too many from the same neighbourhood were no good: this one is not looked at.
    TooMany(CrossingId),
    /// It is not known, has run out, or is not for this gate.
    Bad(CrossingId),
    /// Whether it is good cannot be found out just now.
    NotNow(CrossingId),
    /// It is good, and the rules of the gate refuse its owner, in these words where the rule has some.
    Refused { words: Option<String>, crossing: CrossingId },
    /// Its owner is kept out.
    KeptOut(CrossingId),
    /// The session that it opened was ended: it opens no other.
    Ended(CrossingId),
    /// The store does not answer.
    Store(StoreError),
}

/// What is missing, and what was found out so far.
pub struct More {
    /// Methods (RFC 8176) of which one is needed.
    pub wanted: Vec<String>,
    pub attempt: Attempt,
}

impl std::fmt::Debug for More {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("More").field("wanted", &self.wanted).finish_non_exhaustive()
    }
}

impl From<StoreError> for NotTaken {
    fn from(e: StoreError) -> NotTaken {
        NotTaken::Store(e)
    }
}

/// What a good token stands for.
struct Good {
    evidence: Evidence,
    expires: Moment,
    /// What it is known by, whatever signature it comes with, and until when it could come again.
    thing: [u8; 32],
    ends: Moment,
    paths: Option<Vec<String>>,
    personal: Option<uuid::Uuid>,
    step: Step,
}

/// Why a token is none: check, what was seen and what was wanted.
struct Bad {
    check: String,
    seen: String,
    wanted: String,
}

fn bad(check: &str, seen: impl Into<String>, wanted: impl Into<String>) -> Bad {
    Bad { check: check.to_owned(), seen: seen.into(), wanted: wanted.into() }
}

/// What was found out about a token.
enum Found {
    Good(Box<Good>),
    Bad(Bad),
    /// Whether it is good cannot be known just now: where, and why not. It counts for nothing, and against nobody.
    NotNow(String, String),
}

impl From<Bad> for Found {
    fn from(bad: Bad) -> Found {
        Found::Bad(bad)
    }
}

impl From<IdTokenError> for Found {
    fn from(e: IdTokenError) -> Found {
        Found::Bad(bad(e.check, e.seen, e.wanted))
    }
}

impl From<Overloaded> for Found {
    fn from(e: Overloaded) -> Found {
        Found::NotNow("this node".to_owned(), e.to_string())
    }
}

/// Checks a token that has opened nothing at a gate yet, and begins a session on it.
pub async fn begin(engine: &Engine, edition: &Edition, gate: &Gate, token: &str, facts: &RequestFacts) -> Result<(), NotTaken> {
    let site = &edition.site;
    let Some(callers) = &gate.access.callers else {
        let digest = programs::token_digest(&gate.name, token);
        return Err(refused(engine, gate, facts, &digest, bad("gate", "a token", "a session")).await);
    };
    let found = async || match token.strip_prefix(PREFIX) {
        Some(secret) if callers.personal => personal::check(engine, site, gate, callers, secret).await,
        Some(_) => Ok(bad("token", "a personal token", "an access token: this gate takes no personal ones").into()),
        None => Ok(access::check(engine, site, gate, callers, token, facts.address).await.unwrap_or_else(|e| e)),
    };
    open(engine, edition, gate, programs::token_digest(&gate.name, token), facts, found).await
}

/// The same for a client certificate.
pub async fn begin_by_certificate(
    engine: &Engine,
    edition: &Arc<Edition>,
    gate: &Gate,
    chain: &Arc<[Vec<u8>]>,
    facts: &RequestFacts,
) -> Result<(), NotTaken> {
    let found = async || {
        let (edition, gate, chain, now) = (edition.clone(), gate.name.clone(), chain.clone(), engine.now());
        let judge = move || match edition.site.gate(&gate) {
            Some(gate) => certificate::check(&edition.site, gate, &chain, now),
            None => Err(bad("gate", gate.as_str(), "a gate of this site")),
        };
        Ok(match engine.workers.run(facts.address, judge).await {
            Ok(Ok(good)) => Found::Good(Box::new(good)),
            Ok(Err(bad)) => bad.into(),
            Err(e) => e.into(),
        })
    };
    open(engine, edition, gate, programs::certificate_digest(&gate.name, chain), facts, found).await
}

/// Opens a session on what was found to be good, under the digest by which the gate will know it.
async fn open(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    digest: [u8; 32],
    facts: &RequestFacts,
    found: impl AsyncFnOnce() -> Result<Found, StoreError>,
) -> Result<(), NotTaken> {
    let place = neighbourhood(facts.address).to_string();
    let mut attempt = Attempt::begin(engine, gate.place(), facts);
    if !tries::count_plain(engine, &mut attempt, "token", &place, BAD_MAX).await? {
        let id = attempt.record_anonymous(Outcome::CheckFailed);
        return Err(NotTaken::TooMany(id));
    }
    let found = found().await?;
    if !matches!(found, Found::Bad(_)) {
        tries::uncount_plain(engine, "token", &place).await?;
    }
    let good = match found {
        Found::Good(good) => *good,
        Found::Bad(why) => return Err(refused(engine, gate, facts, &digest, why).await),
        Found::NotNow(whom, how) => {
            attempt.step(|| step!(ProviderSilent { endpoint: whom, how }));
            return Err(NotTaken::NotNow(attempt.record_anonymous(Outcome::Failed)));
        }
    };
    let step = good.step;
    attempt.step(|| step);
    let entering = Entering {
        name: display_name(&good.evidence),
        evidence: good.evidence,
        digest,
        expires: Some(good.expires),
        thing: good.thing,
        ends: good.ends,
        paths: good.paths,
        personal: good.personal,
        asks: false,
    };
    if let Entry::More(more) = enter(engine, edition, gate, attempt, facts, entering).await? {
        // Nothing can be asked of a program.
        return Err(NotTaken::Ended(more.attempt.id));
    }
    if let Some(token) = good.personal {
        engine.store.personal_token_used(token, engine.now()).await?;
    }
    Ok(())
}

/// Somebody, or something, that proved who they are without a browser of ours.
#[derive(Debug)]
pub struct Entering {
    pub evidence: Evidence,
    /// What engineers read of them.
    pub name: String,
    /// The digest by which the gate will know the session.
    pub digest: [u8; 32],
    /// When what was shown is over; the session ends by its lifetimes before.
    pub expires: Option<Moment>,
    /// What was shown is known by this, whatever signature it comes with, and until when it could come again.
    pub thing: [u8; 32],
    pub ends: Moment,
    pub paths: Option<Vec<String>>,
    pub personal: Option<uuid::Uuid>,
    /// Whether a person is there whom a factor of ours can be asked of.
    pub asks: bool,
}

/// How somebody came in.
#[derive(Debug)]
pub enum Entry {
    Begun(Box<Begun>),
    /// Another request began it in the same instant.
    Already,
    /// The rules ask for a factor of ours, which can be asked of them: nothing is recorded yet.
    More(Box<More>),
}

/// A session that began so.
#[derive(Debug)]
pub struct Begun {
    pub session: uuid::Uuid,
    /// What engineers read of them.
    pub name: String,
    /// What is known of them, with what directories said.
    pub evidence: Evidence,
    pub admitted: Admitted,
    pub crossing: CrossingId,
}

/// Completes what is known of somebody, decides, and begins their session.
///
/// # Errors
/// They are not let in; a crossing tells why.
pub async fn enter(
    engine: &Engine,
    edition: &Edition,
    gate: &Gate,
    mut attempt: Attempt,
    facts: &RequestFacts,
    entering: Entering,
) -> Result<Entry, NotTaken> {
    let name = entering.name;
    attempt.provider = Some(entering.evidence.provider.clone());
    attempt.who = Some(Who {
        provider: entering.evidence.provider.clone(),
        subject: entering.evidence.subject.clone(),
        name: name.clone(),
    });
    let mut evidence = entering.evidence.storable();
    look_up::complete(engine, &edition.site, &gate.access, &mut evidence).await;
    attempt.set_evidence(&evidence);
    let (now, id) = (engine.now(), new_uuid());
    let asking = Asking { edition, gate, evidence: &evidence, at: facts.circumstances(now) };
    // Of a program nothing more can be asked, and of a person who is not in a browser a factor of ours alone.
    let can = |need: &Need| entering.asks && !need.factors.is_empty() && need.contexts.is_empty() && need.fresh.is_none();
    let granted = match grants::decide(engine, asking, Carriage::Token(id), &mut attempt, can).await? {
        Decided::Granted(granted) => granted,
        Decided::Refused(refusal, crossing) => return Err(NotTaken::Refused { words: refusal.words, crossing }),
        Decided::More(need) => return Ok(Entry::More(Box::new(More { wanted: need.factors, attempt }))),
        Decided::Afresh(_) => return Err(NotTaken::Ended(attempt.id)),
    };
    let session = NewSession {
        id,
        // Nobody holds this one: the session is reached by what was shown alone.
        token_digest: engine.new_token().digest().to_vec(),
        provider: evidence.provider.clone(),
        subject: evidence.subject.clone(),
        name: name.clone(),
        evidence: serde_json::to_value(&evidence).map_err(|e| StoreError::Query(e.to_string()))?,
        began: now,
        last_seen: now,
        address: facts.address.to_string(),
        agent: facts.agent.clone(),
        hint: None,
        provider_name: None,
        provider_session: None,
        personal_token: entering.personal,
        kept: None,
        authority: evidence.person().authority,
        until: None,
    };
    let row = GateTokenRow {
        digest: entering.digest.to_vec(),
        session_id: id,
        gate: gate.name.clone(),
        crossing: granted.crossing().to_string(),
        decision: granted.digest().to_vec(),
        created_at: now,
        expires_at: entering.expires,
        paths: entering.paths,
        thing: Some(entering.thing.to_vec()),
        remember_until: Some(entering.ends),
    };
    match engine.store.begin_by_token(session, row).await? {
        BegunByToken::Begun => {}
        BegunByToken::Already => return Ok(Entry::Already),
        BegunByToken::Spent => return Err(NotTaken::Ended(attempt.id)),
        BegunByToken::Blocked(block) => {
            let mut attempt = Attempt::begin(engine, gate.place(), facts);
            attempt.who =
                Some(Who { provider: block.provider.clone(), subject: block.subject.clone(), name: block.name.clone() });
            attempt.step(|| ending::kept_out_step(&block));
            attempt.record(Outcome::Refused).await?;
            return Err(NotTaken::KeptOut(attempt.id));
        }
    }
    let crossing = granted.crossing();
    Ok(Entry::Begun(Box::new(Begun { session: id, name, evidence, admitted: granted.into_admitted(), crossing })))
}

/// `thing` is what the token is known by here.
async fn refused(engine: &Engine, gate: &Gate, facts: &RequestFacts, thing: &[u8; 32], why: Bad) -> NotTaken {
    let mut attempt = Attempt::begin(engine, gate.place(), facts);
    attempt.step(|| {
        step!(CallerRefused {
            check: Param::reason(&why.check),
            seen: passeur_core::text::shorten(&why.seen, 200),
            wanted: why.wanted
        })
    });
    NotTaken::Bad(attempt.record_alike(Outcome::CheckFailed, &hex(&thing[..8])))
}

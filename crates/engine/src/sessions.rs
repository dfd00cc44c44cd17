//! Stored sessions, with what this node's memory knows of them.

use std::sync::Arc;

use passeur_core::evidence::Evidence;
use passeur_core::id::Token;
use passeur_core::session::{Life, Lifetimes, State};
use passeur_core::site::{Gate, Site};
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::{GateTokenRow, SessionRow, StoreError};
use uuid::Uuid;

use crate::engine::Engine;

/// A live session with its evidence.
pub struct Session {
    pub row: SessionRow,
    pub evidence: Evidence,
    /// What this node's memory knows of it: told when it ends.
    pub live: Arc<LiveSession>,
}

/// How often a session is read again while others end, before the reader is told to come back.
const READS_MAX: usize = 20;

/// How a session is looked for.
#[derive(Clone, Copy)]
enum By<'a> {
    Id(Uuid),
    /// By the digest of the browser's token at the sign-in host.
    Token(&'a [u8; 32]),
    /// By the digest of a gate's token.
    GateToken(&'a [u8; 32]),
}

/// A stored session, with the gate's token it was found by.
type Stored = (SessionRow, Option<GateTokenRow>);

async fn find_once(engine: &Engine, by: By<'_>) -> Result<Option<Stored>, StoreError> {
    Ok(match by {
        By::Id(id) => engine.store.session(id).await?.map(|r| (r, None)),
        By::Token(digest) => engine.store.session_by_token(digest).await?.map(|r| (r, None)),
        By::GateToken(digest) => engine.store.gate_token(digest).await?.map(|(held, r)| (r, Some(held))),
    })
}

/// Reads a stored session, with what memory knows of it. An end that came after the reading is seen: by the count of ends where it
/// came before the session was in memory, and by its flag where it came later.
async fn read(engine: &Engine, by: By<'_>) -> Result<Option<(Stored, Arc<LiveSession>)>, StoreError> {
    for _ in 0..READS_MAX {
        let ends = engine.sessions.ends();
        let Some((row, held)) = find_once(engine, by).await? else { return Ok(None) };
        let live = match row.ended_at {
            None => engine.sessions.hold(ends, row.id, row.began, row.last_seen, row.until),
            Some(_) => {
                let over = LiveSession::new(row.id, row.began, row.last_seen, row.until);
                over.end();
                Some(Arc::new(over))
            }
        };
        if let Some(live) = live {
            return Ok(Some(((row, held), live)));
        }
    }
    Err(StoreError::Conflict)
}

/// A session by its number, ended or not, with what memory knows of it.
pub async fn by_id(engine: &Engine, id: Uuid) -> Result<Option<(SessionRow, Arc<LiveSession>)>, StoreError> {
    Ok(read(engine, By::Id(id)).await?.map(|((row, _), live)| (row, live)))
}

/// A gate's token with its session, ended or not, and what memory knows of that.
pub async fn by_gate_token(
    engine: &Engine,
    digest: &[u8; 32],
) -> Result<Option<(GateTokenRow, SessionRow, Arc<LiveSession>)>, StoreError> {
    let found = read(engine, By::GateToken(digest)).await?;
    Ok(found.and_then(|((row, held), live)| held.map(|held| (held, row, live))))
}

/// The session of a browser's token at the sign-in host; none unless it is live.
///
/// # Errors
/// Those of the store.
pub async fn by_token(engine: &Engine, edition: &Edition, token: &Token) -> Result<Option<Session>, StoreError> {
    let digest = token.digest();
    let Some(((row, _), live)) = read(engine, By::Token(&digest)).await? else {
        return Ok(None);
    };
    if state(engine, edition, &row, &live) != State::Live {
        return Ok(None);
    }
    let Some(evidence) = read_evidence(&row) else {
        return Ok(None);
    };
    live.touch(engine.now());
    Ok(Some(Session { row, evidence, live }))
}

/// The state of a stored session now. Last-seen is written in batches: memory may know of later use.
pub fn state(engine: &Engine, edition: &Edition, row: &SessionRow, live: &LiveSession) -> State {
    live.state(&lifetimes(&edition.site, row, None), engine.now())
}

/// The state of one in a list of stored sessions, which memory need not know.
pub fn state_listed(engine: &Engine, edition: &Edition, row: &SessionRow) -> State {
    match engine.sessions.known(row.id) {
        Some(live) => state(engine, edition, row, &live),
        None => {
            let life = Life::new(row.began, row.last_seen, row.ended_at, row.until);
            lifetimes(&edition.site, row, None).state(&life, engine.now())
        }
    }
}

/// How long a stored session lasts; at a gate, where one is named.
pub fn lifetimes(site: &Site, row: &SessionRow, gate: Option<&Gate>) -> Lifetimes {
    site.lifetimes_at(row.address.parse().ok(), gate)
}

/// Evidence as stored; none when it is of a format this binary does not know.
pub fn read_evidence(row: &SessionRow) -> Option<Evidence> {
    Evidence::from_stored(row.evidence.clone())
}

/// Stores evidence that grew, or was read again, over what was read. False where somebody stored newer meanwhile or ended the
/// session: what is known has to be read again.
pub async fn keep_evidence(engine: &Engine, row: &mut SessionRow, evidence: &Evidence) -> Result<bool, StoreError> {
    let json = serde_json::to_value(evidence).map_err(|e| StoreError::Query(e.to_string()))?;
    let kept = engine.store.set_evidence(row.id, row.evidence_version, json).await?;
    row.evidence_version += i64::from(kept);
    Ok(kept)
}

/// Stores what is known of a session after it grew. False where somebody stored newer meanwhile: the session is as they left it, and
/// what grew has to grow there, so that nobody undoes what another found. `Conflict` where the session ended.
pub async fn grown(engine: &Engine, session: &mut Session) -> Result<bool, StoreError> {
    if keep_evidence(engine, &mut session.row, &session.evidence).await? {
        return Ok(true);
    }
    let row = engine.store.session(session.row.id).await?.filter(|r| r.ended_at.is_none()).ok_or(StoreError::Conflict)?;
    session.evidence = read_evidence(&row).ok_or(StoreError::Conflict)?;
    session.row = row;
    Ok(false)
}

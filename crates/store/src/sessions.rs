//! Sessions, the tokens that gates hold for them, and one-time hand-back codes.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use serde_json::{Value, json};
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::bounded::Bounded;
use crate::people::{BlockRow, blocked, lock};
use crate::pool::{Store, StoreError};
use crate::schema::{answered, codes, gate_tokens, personal_tokens, revocations, sessions, spent};
use crate::vouches::use_word;

/// A session to be stored.
#[derive(Insertable)]
#[diesel(table_name = sessions)]
pub struct NewSession {
    pub id: Uuid,
    pub token_digest: Vec<u8>,
    pub provider: String,
    pub subject: String,
    pub name: String,
    pub evidence: Value,
    pub began: Moment,
    pub last_seen: Moment,
    pub address: String,
    pub agent: String,
    /// What signing out at the provider takes, sealed.
    pub hint: Option<Vec<u8>>,
    /// How the provider names the person, and its own session, where it may end them here.
    pub provider_name: Option<String>,
    pub provider_session: Option<String>,
    /// The personal token that opened it, where one did.
    pub personal_token: Option<Uuid>,
    /// The password that was typed, sealed, where a gate hands it over.
    pub kept: Option<Vec<u8>>,
    pub authority: String,
    /// Until when the provider's own session lasts, where it says so.
    pub until: Option<Moment>,
}

impl NewSession {
    fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }
}

/// A stored session.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = sessions)]
pub struct SessionRow {
    pub id: Uuid,
    pub provider: String,
    pub subject: String,
    pub name: String,
    pub evidence: Value,
    pub began: Moment,
    pub last_seen: Moment,
    pub ended_at: Option<Moment>,
    pub ended_by: Option<String>,
    pub address: String,
    pub agent: String,
    pub hint: Option<Vec<u8>>,
    /// The provider's own session.
    pub provider_session: Option<String>,
    pub kept: Option<Vec<u8>>,
    pub authority: String,
    pub until: Option<Moment>,
    /// How often its evidence was written; whoever writes says what they read.
    pub evidence_version: i64,
}

impl SessionRow {
    /// Whose it is.
    pub fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }
}

/// A gate's token for a session.
#[derive(Clone, Debug, Queryable, Insertable, Selectable)]
#[diesel(table_name = gate_tokens)]
pub struct GateTokenRow {
    pub digest: Vec<u8>,
    pub session_id: Uuid,
    pub gate: String,
    pub crossing: String,
    pub decision: Vec<u8>,
    pub created_at: Moment,
    /// When it runs out by itself, before the session does.
    pub expires_at: Option<Moment>,
    /// Paths at or below which it is good; none for all.
    pub paths: Option<Vec<String>>,
    /// What a program's token or certificate is known by, and until when it could come again.
    pub thing: Option<Vec<u8>>,
    pub remember_until: Option<Moment>,
}

/// A one-time hand-back code to be stored.
#[derive(Insertable)]
#[diesel(table_name = codes)]
pub struct NewCode {
    pub digest: Vec<u8>,
    pub session_id: Uuid,
    pub gate: String,
    pub binding: Vec<u8>,
    pub target: String,
    pub crossing: String,
    pub expires_at: Moment,
}

/// A consumed code.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = codes)]
pub struct CodeRow {
    pub session_id: Uuid,
    pub gate: String,
    pub binding: Vec<u8>,
    pub target: String,
    pub crossing: String,
    pub expires_at: Moment,
}

/// Marks what may be taken once. False when it was taken before.
async fn mark(conn: &mut AsyncPgConnection, id: &[u8], expires_at: Moment, network: Option<&str>) -> Result<bool, StoreError> {
    let row = (answered::flow.eq(id), answered::expires_at.eq(expires_at), answered::network.eq(network));
    Ok(diesel::insert_into(answered::table).values(row).on_conflict_do_nothing().execute(conn).await? == 1)
}

/// Flows that were answered.
const FLOWS: Bounded = Bounded { table: "answered", key: "flow", of_network: 5_000, in_all: 20_000 };

/// Which sessions to list.
#[derive(Clone, Debug, Default)]
pub struct SessionFilter {
    /// Part of a name or subject, without regard to case.
    pub person: Option<String>,
    /// Sessions last seen before this moment are left out.
    pub seen_since: Option<Moment>,
    pub limit: i64,
}

impl Store {
    /// Stores a new session. `Err` where the person is kept out: then there is none. By `word` it is a guest's, whose sponsor's word is used up.
    pub async fn begin_session(&self, row: NewSession, word: Option<&[u8]>) -> Result<Result<(), BlockRow>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let person = row.person();
            lock(conn, std::slice::from_ref(&person)).await?;
            if let Some(block) = blocked(conn, &person).await? {
                return Ok(Err(block));
            }
            if let Some(flow) = word
                && let Err(gone) = use_word(conn, flow, row.began).await?
            {
                return Ok(Err(gone));
            }
            diesel::insert_into(sessions::table).values(&row).execute(conn).await?;
            Ok(Ok(()))
        })
        .await
    }

    /// Marks what somebody has signed as taken: a message of a provider, a ticket. False when it was taken before. Nobody else can
    /// make us keep one, so that none ever gives way.
    pub async fn use_once(&self, id: &[u8], expires_at: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        mark(&mut conn, id, expires_at, None).await
    }

    /// Marks a flow of ours as answered, by whoever is in a network. False when it was answered before. Anybody can answer flows, with
    /// anything: where too many of a network are kept, no more are taken, and where too many are kept in all, the oldest of the network
    /// that has most give way. Of these the provider's own rule remains: a code is good once (RFC 6749 4.1.2), an assertion is noted by
    /// its own id.
    pub async fn use_flow(&self, flow: &[u8], expires_at: Moment, of: (&str, Moment)) -> Result<Result<bool, i64>, StoreError> {
        let (network, now) = of;
        let mut conn = self.conn().await?;
        if let Err(limit) = FLOWS.make_room(&mut conn, network, now).await? {
            return Ok(Err(limit));
        }
        mark(&mut conn, flow, expires_at, Some(network)).await.map(Ok)
    }

    /// The session of a token, ended or not.
    pub async fn session_by_token(&self, digest: &[u8; 32]) -> Result<Option<SessionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let q = sessions::table.filter(sessions::token_digest.eq(digest.as_slice())).select(SessionRow::as_select());
        Ok(q.first(&mut conn).await.optional()?)
    }

    /// A session by id.
    pub async fn session(&self, id: Uuid) -> Result<Option<SessionRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(sessions::table.find(id).select(SessionRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Live sessions of whom a provider names so; where it names sessions of its own, those of them.
    pub async fn sessions_at_provider(
        &self,
        authority: &str,
        names: &[String],
        sessions: &[String],
    ) -> Result<Vec<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        let of_person = sessions::table
            .filter(sessions::authority.eq(authority))
            .filter(sessions::provider_name.eq_any(names))
            .filter(sessions::ended_at.is_null())
            .select(sessions::id);
        Ok(match sessions.is_empty() {
            true => of_person.load(&mut conn).await?,
            false => of_person.filter(sessions::provider_session.eq_any(sessions)).load(&mut conn).await?,
        })
    }

    /// Live sessions that a provider ended, by its own session or, where it names none, of a subject.
    pub async fn sessions_ended_at(
        &self,
        authority: &str,
        subject: Option<&str>,
        session: Option<&str>,
    ) -> Result<Vec<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        let live = sessions::table.filter(sessions::authority.eq(authority)).filter(sessions::ended_at.is_null());
        let mut q = live.select(sessions::id).into_boxed();
        if let Some(subject) = subject {
            q = q.filter(sessions::subject.eq(subject));
        }
        match (session, subject) {
            (Some(session), _) => q = q.filter(sessions::provider_session.eq(session)),
            (None, Some(_)) => {}
            (None, None) => return Ok(vec![]),
        }
        Ok(q.load(&mut conn).await?)
    }

    /// Live sessions of a person that were seen since a moment, the last seen first.
    pub async fn sessions_of_person(&self, person: &PersonKey, seen_since: Moment) -> Result<Vec<SessionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = sessions::table
            .filter(sessions::authority.eq(&person.authority))
            .filter(sessions::subject.eq(&person.subject))
            .filter(sessions::ended_at.is_null())
            .filter(sessions::last_seen.ge(seen_since));
        Ok(of.order(sessions::last_seen.desc()).limit(1_000).select(SessionRow::as_select()).load(&mut conn).await?)
    }

    /// The gate token with this digest, and its session.
    pub async fn gate_token(&self, digest: &[u8; 32]) -> Result<Option<(GateTokenRow, SessionRow)>, StoreError> {
        let mut conn = self.conn().await?;
        let row = gate_tokens::table
            .inner_join(sessions::table)
            .filter(gate_tokens::digest.eq(digest.as_slice()))
            .select((GateTokenRow::as_select(), SessionRow::as_select()))
            .first(&mut conn)
            .await;
        Ok(row.optional()?)
    }

    /// The token that a gate gave last for a session.
    pub async fn latest_gate_token(&self, session: Uuid, gate: &str) -> Result<Option<GateTokenRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = gate_tokens::table.filter(gate_tokens::session_id.eq(session)).filter(gate_tokens::gate.eq(gate));
        let latest = of.order(gate_tokens::created_at.desc()).select(GateTokenRow::as_select());
        Ok(latest.first(&mut conn).await.optional()?)
    }

    /// Stores a gate token. False where its session was ended meanwhile: then there is none.
    pub async fn add_gate_token(&self, row: GateTokenRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            // Whoever ends the session waits for this, and then sees what it opened.
            let of = sessions::table.find(row.session_id).select(sessions::ended_at).for_share();
            if of.first::<Option<Moment>>(conn).await.optional()? != Some(None) {
                return Ok(false);
            }
            diesel::insert_into(gate_tokens::table).values(&row).execute(conn).await?;
            Ok(true)
        })
        .await
    }

    /// Stores a session that a program's token opened at a gate; one that it opened before, and that was not ended, stays. Of several
    /// first uses at once one begins the session, and the others come in by it.
    pub async fn begin_by_token(&self, session: NewSession, row: GateTokenRow) -> Result<BegunByToken, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            // First uses by one person go one after the other; those of others do not wait.
            let person = session.person();
            lock(conn, std::slice::from_ref(&person)).await?;
            if let Some(block) = blocked(conn, &person).await? {
                return Ok(BegunByToken::Blocked(Box::new(block)));
            }
            let thing = row.thing.as_deref().unwrap_or(&row.digest);
            let gone: i64 = spent::table.filter(spent::thing.eq(thing)).count().get_result(conn).await?;
            if gone > 0 {
                return Ok(BegunByToken::Spent);
            }
            if let Some(token) = session.personal_token {
                // It may have been revoked since it was read; whoever revokes it waits for this row, and then ends the session.
                let there = personal_tokens::table.filter(personal_tokens::id.eq(token)).select(personal_tokens::id).for_share();
                if there.first::<Uuid>(conn).await.optional()?.is_none() {
                    return Ok(BegunByToken::Spent);
                }
            }
            let before = gate_tokens::table.inner_join(sessions::table.on(sessions::id.eq(gate_tokens::session_id)));
            let before = before.filter(gate_tokens::digest.eq(&row.digest)).select((sessions::ended_at, gate_tokens::expires_at));
            let before: Option<(Option<Moment>, Option<Moment>)> = before.first(conn).await.optional()?;
            match before {
                Some((Some(_), _)) => return Ok(BegunByToken::Spent),
                Some((None, Some(until))) if until > session.began => return Ok(BegunByToken::Already),
                _ => {}
            }
            diesel::delete(gate_tokens::table.find(&row.digest)).execute(conn).await?;
            diesel::insert_into(sessions::table).values(&session).execute(conn).await?;
            diesel::insert_into(gate_tokens::table).values(&row).execute(conn).await?;
            Ok(BegunByToken::Begun)
        })
        .await
    }

    /// Live sessions that a personal token opened.
    pub async fn sessions_of_token(&self, token: Uuid) -> Result<Vec<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        let of = sessions::table.filter(sessions::personal_token.eq(token)).filter(sessions::ended_at.is_null());
        Ok(of.select(sessions::id).load(&mut conn).await?)
    }

    /// Notes that a gate token now stands for another decision, recorded as another crossing.
    pub async fn redecide(&self, digest: &[u8], decision: &[u8; 32], crossing: &str) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::update(gate_tokens::table.find(digest))
            .set((gate_tokens::decision.eq(decision.as_slice()), gate_tokens::crossing.eq(crossing)))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Writes evidence that grew over that of the version read. False where somebody wrote newer meanwhile, or ended the session:
    /// then nothing is written.
    pub async fn set_evidence(&self, id: Uuid, read: i64, evidence: Value) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let of = sessions::table.find(id).filter(sessions::evidence_version.eq(read)).filter(sessions::ended_at.is_null());
        let set = (sessions::evidence.eq(evidence), sessions::evidence_version.eq(read + 1));
        Ok(diesel::update(of).set(set).execute(&mut conn).await? == 1)
    }

    /// The gates that a session holds tokens for.
    pub async fn gates_of_session(&self, id: Uuid) -> Result<Vec<String>, StoreError> {
        let mut conn = self.conn().await?;
        let gates = gate_tokens::table.filter(gate_tokens::session_id.eq(id)).select(gate_tokens::gate).distinct();
        Ok(gates.load(&mut conn).await?)
    }

    /// Stores a hand-back code.
    pub async fn add_code(&self, row: NewCode) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::insert_into(codes::table).values(&row).execute(&mut conn).await?;
        Ok(())
    }

    /// Takes a code: one DELETE … RETURNING, so that it is good once on any number of nodes.
    pub async fn take_code(&self, digest: &[u8; 32]) -> Result<Option<CodeRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row =
            diesel::delete(codes::table.find(digest.as_slice())).returning(CodeRow::as_select()).get_result(&mut conn).await;
        Ok(row.optional()?)
    }

    /// Ends sessions: raises the revocation counter under its row lock and marks them with it. Returns those that were
    /// live until now, and the counter that says so. An engineer's act is told whose they were.
    pub async fn end_sessions(
        &self,
        ids: &[Uuid],
        at: Moment,
        by: &str,
        act: Option<Recorded<'_>>,
    ) -> Result<(Vec<Uuid>, i64), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let counter = raise_counter(conn).await?;
            let ended = diesel::update(sessions::table.filter(sessions::id.eq_any(ids)).filter(sessions::ended_at.is_null()))
                .set((
                    sessions::ended_at.eq(at),
                    sessions::ended_by.eq(by),
                    sessions::revocation.eq(counter),
                    sessions::hint.eq(None::<Vec<u8>>),
                    sessions::kept.eq(None::<Vec<u8>>),
                ))
                .returning((sessions::id, sessions::name))
                .get_results::<(Uuid, String)>(conn)
                .await?;
            let (ended, names): (Vec<Uuid>, Vec<String>) = ended.into_iter().unzip();
            end_what_opened(conn, &ended).await?;
            if let Some(mut act) = act {
                act.act.about = json!({"sessions": ended});
                act.act.personal.people = names;
                append(conn, act).await?;
            }
            Ok((ended, counter))
        })
        .await
    }

    /// Notes that the rights of sessions were read again, so that every node decides anew.
    pub async fn rights_changed(&self, ids: &[Uuid]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let counter = raise_counter(conn).await?;
            diesel::update(sessions::table.filter(sessions::id.eq_any(ids)))
                .set(sessions::re_read.eq(counter))
                .execute(conn)
                .await?;
            Ok(())
        })
        .await
    }

    /// The revocation counter, the sessions ended since `after`, and those whose rights were read again.
    pub async fn revoked_since(&self, after: i64) -> Result<(i64, Vec<Uuid>, Vec<Uuid>), StoreError> {
        let mut conn = self.conn().await?;
        let counter: i64 = revocations::table.select(revocations::counter).first(&mut conn).await?;
        if counter == after {
            return Ok((counter, vec![], vec![]));
        }
        let ids = sessions::table
            .filter(sessions::revocation.gt(after))
            .filter(sessions::revocation.le(counter))
            .select(sessions::id)
            .load(&mut conn)
            .await?;
        let re_read = sessions::table
            .filter(sessions::re_read.gt(after))
            .filter(sessions::re_read.le(counter))
            .select(sessions::id)
            .load(&mut conn)
            .await?;
        Ok((counter, ids, re_read))
    }

    /// Moves last-seen forward, never back. A crash before this may only shorten a session.
    pub async fn seen(&self, batch: &[(Uuid, Moment)]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        for (id, at) in batch {
            diesel::update(sessions::table.find(id).filter(sessions::last_seen.lt(at)))
                .set(sessions::last_seen.eq(at))
                .execute(&mut conn)
                .await?;
        }
        Ok(())
    }

    /// Sessions that were not ended, latest first.
    pub async fn sessions(&self, filter: &SessionFilter) -> Result<Vec<SessionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = sessions::table
            .filter(sessions::ended_at.is_null())
            .order(sessions::last_seen.desc())
            .limit(filter.limit)
            .select(SessionRow::as_select())
            .into_boxed();
        if let Some(person) = &filter.person {
            let like = crate::crossings::like(person);
            q = q.filter(sessions::name.ilike(like.clone()).or(sessions::subject.ilike(like)));
        }
        if let Some(since) = filter.seen_since {
            q = q.filter(sessions::last_seen.ge(since));
        }
        Ok(q.load(&mut conn).await?)
    }
}

/// What became of a program's token that would open a session.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BegunByToken {
    Begun,
    /// Another use of it at the same time began one.
    Already,
    /// Its owner is kept out.
    Blocked(Box<BlockRow>),
    /// A session that it opened was ended, or it was revoked: it opens nothing more.
    Spent,
}

/// A token whose session is ended is meant as well: it would only open another. It stays spent until it would have run out itself,
/// however long ago its session was forgotten by then.
pub(crate) async fn end_what_opened(conn: &mut AsyncPgConnection, ended: &[Uuid]) -> Result<(), StoreError> {
    let opened = sessions::table.filter(sessions::id.eq_any(ended)).filter(sessions::personal_token.is_not_null());
    let tokens: Vec<Uuid> = opened.select(sessions::personal_token.assume_not_null()).load(conn).await?;
    diesel::delete(personal_tokens::table.filter(personal_tokens::id.eq_any(tokens))).execute(conn).await?;
    let things = gate_tokens::table
        .filter(gate_tokens::session_id.eq_any(ended))
        .filter(gate_tokens::thing.is_not_null())
        .filter(gate_tokens::remember_until.is_not_null())
        .select((gate_tokens::thing.assume_not_null(), gate_tokens::remember_until.assume_not_null()));
    let things: Vec<(Vec<u8>, Moment)> = things.load(conn).await?;
    let rows: Vec<_> = things.iter().map(|(t, until)| (spent::thing.eq(t), spent::expires_at.eq(until))).collect();
    diesel::insert_into(spent::table).values(rows).on_conflict_do_nothing().execute(conn).await?;
    Ok(())
}

/// Raises the revocation counter, whose row stays locked until the transaction ends.
pub(crate) async fn raise_counter(conn: &mut AsyncPgConnection) -> Result<i64, StoreError> {
    let raised = diesel::update(revocations::table).set(revocations::counter.eq(revocations::counter + 1));
    Ok(raised.returning(revocations::counter).get_result(conn).await?)
}

/// How many live sessions have come through a gate.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct GateSessions {
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub gate: String,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub count: i64,
}

impl Store {
    /// Sessions not ended and seen since a moment, by gate.
    pub async fn sessions_by_gate(&self, seen_since: Moment) -> Result<Vec<GateSessions>, StoreError> {
        let mut conn = self.conn().await?;
        let rows = diesel::sql_query(
            "SELECT t.gate, count(DISTINCT s.id)::bigint AS count FROM gate_tokens t JOIN sessions s ON s.id = t.session_id \
             WHERE s.ended_at IS NULL AND s.last_seen >= $1 GROUP BY t.gate",
        )
        .bind::<diesel::sql_types::Timestamptz, _>(seen_since)
        .load(&mut conn)
        .await?;
        Ok(rows)
    }
}

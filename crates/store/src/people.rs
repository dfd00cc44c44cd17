//! What somebody has beyond a single session, taken away in one transaction, and people who are kept out.
//!
//! Whatever is made for a person goes through [`of_person`] first: of something that is being made and of its being taken away, in the
//! same instant on two nodes, one comes after the other, and what comes after sees what came before.

use diesel::prelude::*;
use diesel::sql_types::BigInt;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use passeur_core::id::sha256;
use serde_json::Value;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::{blocks, device_codes, factors, personal_tokens, profiles, recovery_codes, sessions, tokens};
use crate::sessions::{end_what_opened, raise_counter};
use crate::vouches::take_back;

/// Somebody who is kept out.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = blocks)]
pub struct BlockRow {
    pub authority: String,
    pub subject: String,
    pub provider: String,
    pub name: String,
    pub at: Moment,
    pub by: String,
    pub why: String,
}

/// How much is taken away.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HowFar {
    /// Sessions, tokens, command lines that wait: whatever opens something by itself.
    Everywhere,
    /// Their second factors and recovery codes as well.
    WithFactors,
}

/// What was taken away.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakenAway {
    pub sessions: Vec<Uuid>,
    /// Names of personal tokens, of API tokens, and of factors.
    pub personal_tokens: Vec<String>,
    pub api_tokens: Vec<String>,
    pub factors: Vec<String>,
    pub recovery_codes: usize,
    /// Command lines that waited to be let in.
    pub devices: usize,
    /// Personal profiles of tunnels, by the names that the person gave their machines.
    pub profiles: Vec<String>,
    /// Of those, sessions that keep a password or a ticket of the person's.
    pub kept: usize,
    /// The revocation counter that says so.
    pub counter: i64,
}

/// Lets nobody else make or take away anything of these people until the transaction ends.
pub(crate) async fn lock(conn: &mut AsyncPgConnection, people: &[PersonKey]) -> Result<(), StoreError> {
    let key = |p: &PersonKey| {
        let digest = sha256(format!("person\0{}\0{}", p.authority, p.subject).as_bytes());
        i64::from_be_bytes(digest[..8].try_into().unwrap_or_default())
    };
    let mut keys: Vec<i64> = people.iter().map(key).collect();
    // In one order everywhere, so that two transactions never wait for one another.
    keys.sort_unstable();
    keys.dedup();
    for key in keys {
        diesel::sql_query("SELECT pg_advisory_xact_lock($1)").bind::<BigInt, _>(key).execute(conn).await?;
    }
    Ok(())
}

/// Goes first in every transaction that makes something for a person out of a session. False where that session was ended, or the person
/// is kept out, by now.
pub(crate) async fn of_person(
    conn: &mut AsyncPgConnection,
    person: &PersonKey,
    session: Option<Uuid>,
) -> Result<bool, StoreError> {
    lock(conn, std::slice::from_ref(person)).await?;
    if blocked(conn, person).await?.is_some() {
        return Ok(false);
    }
    let Some(id) = session else { return Ok(true) };
    let ended: Option<Option<Moment>> = sessions::table.find(id).select(sessions::ended_at).first(conn).await.optional()?;
    Ok(ended == Some(None))
}

pub(crate) async fn blocked(conn: &mut AsyncPgConnection, person: &PersonKey) -> Result<Option<BlockRow>, StoreError> {
    let row = blocks::table.find((&person.authority, &person.subject)).select(BlockRow::as_select());
    Ok(row.first(conn).await.optional()?)
}

impl Store {
    /// Whether somebody is kept out, and since when.
    pub async fn block(&self, person: &PersonKey) -> Result<Option<BlockRow>, StoreError> {
        let mut conn = self.conn().await?;
        blocked(&mut conn, person).await
    }

    /// What somebody was called last.
    pub async fn name_of(&self, person: &PersonKey) -> Result<Option<String>, StoreError> {
        let mut conn = self.conn().await?;
        let of = sessions::table.filter(sessions::authority.eq(&person.authority)).filter(sessions::subject.eq(&person.subject));
        Ok(of.order(sessions::began.desc()).select(sessions::name).first(&mut conn).await.optional()?)
    }

    /// Everybody who is kept out, the latest first.
    pub async fn blocks(&self) -> Result<Vec<BlockRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(blocks::table.order(blocks::at.desc()).limit(10_000).select(BlockRow::as_select()).load(&mut conn).await?)
    }

    /// Lets people in again who were kept out; what was taken away stays away. Returns those who were.
    pub async fn lift(&self, people: &[PersonKey], act: Recorded<'_>) -> Result<Vec<BlockRow>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let mut gone = vec![];
            for p in people {
                let row = diesel::delete(blocks::table.find((&p.authority, &p.subject))).returning(BlockRow::as_returning());
                gone.extend(row.get_result(conn).await.optional()?);
            }
            if !gone.is_empty() {
                append(conn, act).await?;
            }
            Ok(gone)
        })
        .await
    }

    /// Takes away what people have, here and for every node, and keeps them out where `block` says so.
    pub async fn take_away(
        &self,
        people: &[PersonKey],
        how_far: HowFar,
        block: Option<Vec<BlockRow>>,
        (at, by): (Moment, &str),
        act: Option<Recorded<'_>>,
    ) -> Result<TakenAway, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            lock(conn, people).await?;
            let mut out = TakenAway { counter: raise_counter(conn).await?, ..TakenAway::default() };
            for row in block.into_iter().flatten() {
                diesel::insert_into(blocks::table).values(&row).on_conflict_do_nothing().execute(conn).await?;
            }
            for p in people {
                let PersonKey { authority, subject } = p;
                // Guests go with whoever gave their word for them.
                let guests = take_back(conn, p).await?;
                let theirs = sessions::authority.eq(authority).and(sessions::subject.eq(subject));
                let live = sessions::table.filter(sessions::ended_at.is_null()).filter(theirs.or(sessions::id.eq_any(&guests)));
                let kept: i64 = live.clone().filter(sessions::kept.is_not_null()).count().get_result(conn).await?;
                out.kept += usize::try_from(kept).unwrap_or_default();
                let set = (
                    sessions::ended_at.eq(at),
                    sessions::ended_by.eq(by),
                    sessions::revocation.eq(out.counter),
                    sessions::hint.eq(None::<Vec<u8>>),
                    sessions::kept.eq(None::<Vec<u8>>),
                );
                let ended: Vec<Uuid> = diesel::update(live).set(set).returning(sessions::id).get_results(conn).await?;
                // Before what their sessions were opened by goes with these: all of them are told by name.
                let theirs = personal_tokens::table.filter(personal_tokens::authority.eq(authority));
                let theirs = theirs.filter(personal_tokens::subject.eq(subject));
                out.personal_tokens
                    .extend(diesel::delete(theirs).returning(personal_tokens::name).get_results::<String>(conn).await?);
                end_what_opened(conn, &ended).await?;
                out.sessions.extend(ended);
                let theirs =
                    tokens::table.filter(tokens::owner_authority.eq(authority)).filter(tokens::owner_subject.eq(subject));
                let theirs = theirs.filter(tokens::revoked_at.is_null());
                let revoked = diesel::update(theirs).set(tokens::revoked_at.eq(at)).returning(tokens::name);
                out.api_tokens.extend(revoked.get_results::<String>(conn).await?);
                let theirs = device_codes::table.filter(device_codes::owner_authority.eq(authority));
                out.devices += diesel::delete(theirs.filter(device_codes::owner_subject.eq(subject))).execute(conn).await?;
                let theirs = profiles::table.filter(profiles::authority.eq(authority)).filter(profiles::subject.eq(subject));
                let theirs = theirs.filter(profiles::revoked_at.is_null());
                let set = (profiles::revoked_at.eq(at), profiles::revoked_by.eq(by));
                let revoked = diesel::update(theirs).set(set).returning(profiles::device);
                out.profiles.extend(revoked.get_results::<String>(conn).await?);
                if how_far == HowFar::WithFactors {
                    let theirs = factors::table.filter(factors::authority.eq(authority)).filter(factors::subject.eq(subject));
                    out.factors.extend(diesel::delete(theirs).returning(factors::name).get_results::<String>(conn).await?);
                    let theirs = recovery_codes::table.filter(recovery_codes::authority.eq(authority));
                    out.recovery_codes +=
                        diesel::delete(theirs.filter(recovery_codes::subject.eq(subject))).execute(conn).await?;
                }
            }
            if let Some(mut act) = act {
                if let Value::Object(about) = &mut act.act.about {
                    about.insert("sessions".into(), serde_json::json!(out.sessions));
                    about.insert("personal_tokens".into(), out.personal_tokens.len().into());
                    about.insert("api_tokens".into(), out.api_tokens.len().into());
                    about.insert("factors".into(), out.factors.len().into());
                    about.insert("profiles".into(), out.profiles.len().into());
                }
                append(conn, act).await?;
            }
            Ok(out)
        })
        .await
    }
}

//! Tokens that people make for programs of theirs: kept as SHA-256, over with their owner.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::people::of_person;
use crate::pool::{Store, StoreError};
use crate::schema::personal_tokens;

/// The most tokens that one person has.
const TOKENS_MAX: i64 = 50;

/// One token of one person.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = personal_tokens)]
pub struct PersonalToken {
    pub digest: Vec<u8>,
    pub id: Uuid,
    pub provider: String,
    pub subject: String,
    pub owner_name: String,
    pub name: String,
    pub gates: Vec<String>,
    /// Paths at or below which it is good; none for all.
    pub paths: Option<Vec<String>>,
    pub created_at: Moment,
    pub expires_at: Moment,
    pub used_at: Option<Moment>,
    pub authority: String,
    /// Made in a session that nobody had asked for: it opens no more than that one did.
    pub unasked: bool,
}

impl PersonalToken {
    /// Whose it is.
    pub fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }
}

impl Store {
    /// The token with a digest, unless it has run out.
    pub async fn personal_token(&self, digest: &[u8; 32], now: Moment) -> Result<Option<PersonalToken>, StoreError> {
        let mut conn = self.conn().await?;
        let row = personal_tokens::table.find(digest.as_slice()).filter(personal_tokens::expires_at.gt(now));
        Ok(row.select(PersonalToken::as_select()).first(&mut conn).await.optional()?)
    }

    /// Notes that a token was used.
    pub async fn personal_token_used(&self, id: Uuid, now: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let row = personal_tokens::table.filter(personal_tokens::id.eq(id));
        diesel::update(row).set(personal_tokens::used_at.eq(now)).execute(&mut conn).await?;
        Ok(())
    }

    /// Good tokens of a person, the oldest first.
    pub async fn personal_tokens(&self, person: &PersonKey, now: Moment) -> Result<Vec<PersonalToken>, StoreError> {
        let mut conn = self.conn().await?;
        let of = personal_tokens::table
            .filter(personal_tokens::authority.eq(&person.authority))
            .filter(personal_tokens::subject.eq(&person.subject))
            .filter(personal_tokens::expires_at.gt(now));
        Ok(of.order(personal_tokens::created_at).select(PersonalToken::as_select()).load(&mut conn).await?)
    }

    /// Keeps a token that was made in a session. False where the person has too many already, or the session is over.
    pub async fn add_personal_token(&self, row: PersonalToken, session: Uuid) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if !of_person(conn, &row.person(), Some(session)).await? {
                return Ok(false);
            }
            let of = personal_tokens::table.filter(personal_tokens::authority.eq(&row.authority));
            let n: i64 = of.filter(personal_tokens::subject.eq(&row.subject)).count().get_result(conn).await?;
            if n >= TOKENS_MAX {
                return Ok(false);
            }
            diesel::insert_into(personal_tokens::table).values(&row).execute(conn).await?;
            Ok(true)
        })
        .await
    }

    /// Revokes tokens of a person: one, or all. Returns those that were there; sessions that they opened are the caller's to end.
    pub async fn revoke_personal_tokens(
        &self,
        person: &PersonKey,
        only: Option<Uuid>,
        act: Option<Recorded<'_>>,
    ) -> Result<Vec<PersonalToken>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let of = personal_tokens::table
                .filter(personal_tokens::authority.eq(&person.authority))
                .filter(personal_tokens::subject.eq(&person.subject));
            let row = PersonalToken::as_returning();
            let gone: Vec<PersonalToken> = match only {
                Some(id) => diesel::delete(of.filter(personal_tokens::id.eq(id))).returning(row).get_results(conn).await?,
                None => diesel::delete(of).returning(row).get_results(conn).await?,
            };
            if let Some(act) = act
                && !gone.is_empty()
            {
                append(conn, act).await?;
            }
            Ok(gone)
        })
        .await
    }
}

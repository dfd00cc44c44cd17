//! API tokens: 256 random bits, kept as SHA-256.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::people::of_person;
use crate::pool::{Store, StoreError};
use crate::schema::tokens;

/// An API token.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = tokens)]
pub struct TokenRow {
    pub name: String,
    pub role: String,
    pub created_at: Moment,
    pub expires_at: Option<Moment>,
    pub owner_provider: Option<String>,
    pub owner_subject: Option<String>,
    pub owner_name: Option<String>,
    pub areas: Option<Vec<String>>,
    pub used_at: Option<Moment>,
    pub owner_authority: Option<String>,
}

/// A token to be made for somebody.
#[derive(Insertable)]
#[diesel(table_name = tokens)]
pub struct NewToken {
    pub digest: Vec<u8>,
    pub name: String,
    pub role: String,
    pub created_at: Moment,
    pub expires_at: Option<Moment>,
    pub owner_provider: Option<String>,
    pub owner_subject: Option<String>,
    pub owner_name: Option<String>,
    pub areas: Option<Vec<String>>,
    pub owner_authority: Option<String>,
}

/// Neither revoked nor run out.
#[diesel::dsl::auto_type(no_type_alias)]
fn good(now: Moment) -> _ {
    let lasts = tokens::expires_at.is_null().or(tokens::expires_at.gt(now));
    tokens::revoked_at.is_null().and(lasts)
}

impl Store {
    /// The token with this digest, unless it was revoked or has run out.
    pub async fn token(&self, digest: &[u8; 32], now: Moment) -> Result<Option<TokenRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row = tokens::table.find(digest.as_slice()).filter(good(now)).select(TokenRow::as_select()).first(&mut conn).await;
        Ok(row.optional()?)
    }

    /// Notes that a token was used; to the minute, so that a busy script costs little.
    pub async fn token_used(&self, digest: &[u8; 32], now: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let stale = tokens::used_at.is_null().or(tokens::used_at.lt(now - chrono::Duration::minutes(1)));
        diesel::update(tokens::table.find(digest.as_slice()).filter(stale.assume_not_null()))
            .set(tokens::used_at.eq(now))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Tokens that are good, by name.
    pub async fn tokens(&self, now: Moment) -> Result<Vec<TokenRow>, StoreError> {
        let mut conn = self.conn().await?;
        let q = tokens::table.filter(good(now)).order(tokens::name).select(TokenRow::as_select());
        Ok(q.load(&mut conn).await?)
    }

    /// Makes a token for somebody, in a session of theirs or by one that is over already. False where the session was ended, or its owner
    /// is kept out.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a good one of that name is there.
    pub async fn make_token(&self, row: NewToken, session: Option<Uuid>, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if let (Some(authority), Some(subject)) = (&row.owner_authority, &row.owner_subject) {
                let owner = PersonKey { authority: authority.clone(), subject: subject.clone() };
                if !of_person(conn, &owner, session).await? {
                    return Ok(false);
                }
            }
            let there: i64 =
                tokens::table.filter(tokens::name.eq(&row.name)).filter(good(row.created_at)).count().get_result(conn).await?;
            if there > 0 {
                return Err(StoreError::Conflict);
            }
            diesel::insert_into(tokens::table).values(&row).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Whether somebody has or had a token of a name, revoked or not.
    pub async fn owned_token(&self, owner: &PersonKey, name: &str) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let of =
            tokens::table.filter(tokens::owner_authority.eq(&owner.authority)).filter(tokens::owner_subject.eq(&owner.subject));
        let n: i64 = of.filter(tokens::name.eq(name)).count().get_result(&mut conn).await?;
        Ok(n > 0)
    }

    /// Revokes the token of a name. False when there is none.
    pub async fn revoke_token(&self, name: &str, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let at = act.act.at;
        conn.transaction(async |conn| {
            let live = tokens::table.filter(tokens::name.eq(name)).filter(tokens::revoked_at.is_null());
            if diesel::update(live).set(tokens::revoked_at.eq(at)).execute(conn).await? == 0 {
                return Ok(false);
            }
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Makes the token of that name this one; an earlier one of the name is revoked. Nothing is changed or recorded when it
    /// is there already.
    pub async fn set_token(&self, name: &str, role: &str, digest: &[u8; 32], act: Recorded<'_>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let at = act.act.at;
        conn.transaction(async |conn| {
            diesel::update(tokens::table.filter(tokens::name.eq(name)).filter(tokens::digest.ne(digest.as_slice())))
                .filter(tokens::revoked_at.is_null())
                .set(tokens::revoked_at.eq(at))
                .execute(conn)
                .await?;
            let row =
                (tokens::digest.eq(digest.as_slice()), tokens::name.eq(name), tokens::role.eq(role), tokens::created_at.eq(at));
            match diesel::insert_into(tokens::table).values(row).on_conflict_do_nothing().execute(conn).await? {
                0 => Ok(()),
                _ => append(conn, act).await,
            }
        })
        .await
    }
}

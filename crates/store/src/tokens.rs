//! API tokens: 256 random bits, kept as SHA-256.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::tokens;

/// A live API token.
#[derive(Clone, Debug, Queryable)]
pub struct TokenRow {
    pub name: String,
    pub role: String,
}

impl Store {
    /// The live token with this digest.
    pub async fn token(&self, digest: &[u8; 32]) -> Result<Option<TokenRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row = tokens::table
            .find(digest.as_slice())
            .filter(tokens::revoked_at.is_null())
            .select((tokens::name, tokens::role))
            .first(&mut conn)
            .await;
        Ok(row.optional()?)
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

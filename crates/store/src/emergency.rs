//! Sessions of the emergency account. They are apart from those of people: no edition, provider or directory has a part in
//! them.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::emergency_sessions;

/// A session of the emergency account, by the digest of its token.
#[derive(Clone, Debug, Queryable, Insertable, Selectable)]
#[diesel(table_name = emergency_sessions)]
pub struct EmergencySession {
    pub digest: Vec<u8>,
    pub address: String,
    pub began: Moment,
    pub until: Moment,
}

impl Store {
    /// Begins a session; those that have run out are removed.
    pub async fn begin_emergency(&self, row: EmergencySession, act: Recorded<'_>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            diesel::delete(emergency_sessions::table.filter(emergency_sessions::until.lt(row.began))).execute(conn).await?;
            diesel::insert_into(emergency_sessions::table).values(&row).execute(conn).await?;
            append(conn, act).await
        })
        .await
    }

    /// The session of a token, run out or not.
    pub async fn emergency(&self, digest: &[u8; 32]) -> Result<Option<EmergencySession>, StoreError> {
        let mut conn = self.conn().await?;
        let q = emergency_sessions::table.find(digest.as_slice()).select(EmergencySession::as_select());
        Ok(q.first(&mut conn).await.optional()?)
    }

    /// Ends a session.
    pub async fn end_emergency(&self, digest: &[u8]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(emergency_sessions::table.find(digest)).execute(&mut conn).await?;
        Ok(())
    }
}

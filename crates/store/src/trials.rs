//! Trial sign-ins, by the digest of the identifier that the engineer holds.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::trials;

/// The most trials kept at once on a site.
const TRIALS_MAX: i64 = 200;

/// A trial sign-in.
#[derive(Clone, Queryable, Selectable, Insertable)]
#[diesel(table_name = trials)]
pub struct TrialRow {
    pub digest: Vec<u8>,
    pub provider: String,
    pub source: String,
    /// The site file it is made with; none for the live edition's.
    pub document: Option<String>,
    pub begun_by: String,
    pub begun: Moment,
    pub expires_at: Moment,
    /// What came back, sealed by the caller.
    pub result: Option<Vec<u8>>,
}

impl Store {
    /// Begins a trial. False where there are too many.
    pub async fn begin_trial(&self, row: TrialRow, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let n: i64 = trials::table.filter(trials::expires_at.gt(row.begun)).count().get_result(conn).await?;
            if n >= TRIALS_MAX {
                return Ok(false);
            }
            diesel::insert_into(trials::table).values(&row).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// A trial that is not over.
    pub async fn trial(&self, digest: &[u8; 32], now: Moment) -> Result<Option<TrialRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row = trials::table.find(digest.as_slice()).filter(trials::expires_at.gt(now)).select(TrialRow::as_select());
        Ok(row.first(&mut conn).await.optional()?)
    }

    /// Keeps what came back. False where the trial is over, or something came back before.
    pub async fn end_trial(&self, digest: &[u8; 32], now: Moment, result: Vec<u8>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let open = trials::table.find(digest.as_slice()).filter(trials::expires_at.gt(now)).filter(trials::result.is_null());
        Ok(diesel::update(open).set(trials::result.eq(result)).execute(&mut conn).await? == 1)
    }
}

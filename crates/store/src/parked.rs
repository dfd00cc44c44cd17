//! Answers of providers that came by a form of another site, with which a browser sends no cookie: they wait, sealed by the
//! caller, until the browser fetches them by a request of its own.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::parked;

/// The most answers that wait at once on a site, and from one network: whoever sends one has proved nothing.
pub const PARKED_MAX: i64 = 2_000;
pub const PARKED_OF_NETWORK_MAX: i64 = 200;

/// An answer that waits.
#[derive(Insertable)]
#[diesel(table_name = parked)]
pub struct NewParked {
    pub digest: Vec<u8>,
    pub network: String,
    pub sealed: Vec<u8>,
    pub expires_at: Moment,
}

impl Store {
    /// Keeps an answer. Where too many wait it is not kept: then the number that may.
    pub async fn park(&self, row: NewParked, now: Moment) -> Result<Result<(), i64>, StoreError> {
        let mut conn = self.conn().await?;
        let waiting = || parked::table.filter(parked::expires_at.gt(now));
        let n: i64 = waiting().count().get_result(&mut conn).await?;
        if n >= PARKED_MAX {
            return Ok(Err(PARKED_MAX));
        }
        let n: i64 = waiting().filter(parked::network.eq(&row.network)).count().get_result(&mut conn).await?;
        if n >= PARKED_OF_NETWORK_MAX {
            return Ok(Err(PARKED_OF_NETWORK_MAX));
        }
        diesel::insert_into(parked::table).values(&row).execute(&mut conn).await?;
        Ok(Ok(()))
    }

    /// Takes an answer that still waits: one DELETE … RETURNING, so that it is read once on any number of nodes.
    pub async fn take_parked(&self, digest: &[u8; 32], now: Moment) -> Result<Option<Vec<u8>>, StoreError> {
        let mut conn = self.conn().await?;
        let taken = diesel::delete(parked::table.find(digest.as_slice())).returning((parked::sealed, parked::expires_at));
        let row: Option<(Vec<u8>, Moment)> = taken.get_result(&mut conn).await.optional()?;
        Ok(row.filter(|(_, until)| now < *until).map(|(sealed, _)| sealed))
    }
}

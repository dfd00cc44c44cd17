//! Answers of providers that came by a form of another site, with which a browser sends no cookie: they wait, sealed by the
//! caller, until the browser fetches them by a request of its own.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::bounded::Bounded;
use crate::pool::{Store, StoreError};
use crate::schema::parked;

/// Answers that wait: each of a flow that we sealed, or checked before it was kept.
const BOUNDS: Bounded = Bounded { table: "parked", key: "digest", of_network: 200, in_all: 2_000 };

/// An answer that waits.
#[derive(Insertable)]
#[diesel(table_name = parked)]
pub struct NewParked {
    pub digest: Vec<u8>,
    pub network: String,
    pub sealed: Vec<u8>,
    pub expires_at: Moment,
    /// What it answers: one answer of each waits, the last.
    pub flow: Vec<u8>,
}

impl Store {
    /// Keeps an answer. Where too many wait it is not kept: then the number that may.
    pub async fn park(&self, row: NewParked, now: Moment) -> Result<Result<(), i64>, StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(parked::table.filter(parked::flow.eq(&row.flow))).execute(&mut conn).await?;
        if let Err(limit) = BOUNDS.make_room(&mut conn, &row.network, now).await? {
            return Ok(Err(limit));
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

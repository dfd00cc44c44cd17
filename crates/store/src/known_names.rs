//! Names by which people came in before, each with the way in: sign-in routes may ask.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::known_names;

impl Store {
    /// Notes that somebody of these names (MACs) came in by a way.
    pub async fn note_known_names(&self, names: &[[u8; 32]], way: &str, now: Moment) -> Result<(), StoreError> {
        if names.is_empty() {
            return Ok(());
        }
        let mut conn = self.conn().await?;
        let mut sorted = names.to_vec();
        // In one order everywhere, so that two transactions never wait for one another; and each once.
        sorted.sort_unstable();
        sorted.dedup();
        let rows: Vec<_> = sorted
            .iter()
            .map(|n| (known_names::name.eq(n.to_vec()), known_names::way.eq(way), known_names::seen_at.eq(now)))
            .collect();
        diesel::insert_into(known_names::table)
            .values(rows)
            .on_conflict((known_names::name, known_names::way))
            .do_update()
            .set(known_names::seen_at.eq(now))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Forgets names by which nobody came in since.
    pub async fn forget_names(&self, since: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(known_names::table.filter(known_names::seen_at.lt(since))).execute(&mut conn).await?;
        Ok(())
    }

    /// Ways by which somebody of any of these names came in.
    pub async fn ways_of_name(&self, names: &[[u8; 32]]) -> Result<Vec<String>, StoreError> {
        let mut conn = self.conn().await?;
        let names: Vec<Vec<u8>> = names.iter().map(|n| n.to_vec()).collect();
        let of = known_names::table.filter(known_names::name.eq_any(names));
        Ok(of.select(known_names::way).distinct().order(known_names::way).load(&mut conn).await?)
    }
}

//! Nodes that run on this database, and up to where each has seen revocations.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;
use uuid::Uuid;

use crate::pool::{Store, StoreError};
use crate::schema::nodes;

impl Store {
    /// Notes that a node runs and has acted on every revocation up to a counter.
    pub async fn node_seen(&self, id: Uuid, name: &str, at: Moment, revocation: i64) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let row = (nodes::id.eq(id), nodes::name.eq(name), nodes::seen_at.eq(at), nodes::revocation.eq(revocation));
        diesel::insert_into(nodes::table)
            .values(row)
            .on_conflict(nodes::id)
            .do_update()
            .set((nodes::seen_at.eq(at), nodes::revocation.eq(revocation)))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Names of nodes seen since a moment that have not acted on every revocation up to a counter.
    pub async fn nodes_behind(&self, revocation: i64, since: Moment) -> Result<Vec<String>, StoreError> {
        let mut conn = self.conn().await?;
        let behind = nodes::table.filter(nodes::seen_at.ge(since)).filter(nodes::revocation.lt(revocation));
        Ok(behind.select(nodes::name).order(nodes::name).load(&mut conn).await?)
    }

    /// Forgets a node that stops, and those not seen since a moment.
    pub async fn forget_nodes(&self, id: Option<Uuid>, before: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let old = nodes::table.filter(nodes::seen_at.lt(before).or(nodes::id.nullable().eq(id)));
        diesel::delete(old).execute(&mut conn).await?;
        Ok(())
    }
}

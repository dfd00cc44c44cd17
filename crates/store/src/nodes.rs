//! Nodes that run on this database, and up to where each has seen revocations.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;
use uuid::Uuid;

use crate::acts::Recorded;
use crate::pool::{Store, StoreError};
use crate::schema::{latest, nodes, sessions};

impl Store {
    /// Notes that a node runs and has acted on every revocation up to a counter, and how late it is.
    pub async fn node_seen(&self, (id, name, key): (Uuid, &str, u16), at: Moment, revocation: i64) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let later = diesel::update(latest::table.filter(latest::moment.lt(at))).set(latest::moment.eq(at));
        if later.execute(&mut conn).await? == 0 {
            diesel::insert_into(latest::table).values(latest::moment.eq(at)).on_conflict_do_nothing().execute(&mut conn).await?;
        }
        let row = (nodes::id.eq(id), nodes::name.eq(name), nodes::seen_at.eq(at), nodes::revocation.eq(revocation));
        let row = (row, nodes::seals_with.eq(i32::from(key)));
        diesel::insert_into(nodes::table)
            .values(row)
            .on_conflict(nodes::id)
            .do_update()
            .set((nodes::seen_at.eq(at), nodes::revocation.eq(revocation)))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Notes which zones a node guards, and how its packet filter is. False where the node has not said yet that it runs.
    pub async fn node_guards(&self, id: Uuid, guards: serde_json::Value) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let set = diesel::update(nodes::table.find(id)).set(nodes::guards.eq(Some(guards)));
        Ok(set.execute(&mut conn).await? == 1)
    }

    /// What nodes seen since a moment say that they guard.
    pub async fn guards(&self, since: Moment) -> Result<Vec<(String, serde_json::Value)>, StoreError> {
        let mut conn = self.conn().await?;
        let of = nodes::table.filter(nodes::seen_at.ge(since)).order(nodes::name).select((nodes::name, nodes::guards));
        let all: Vec<(String, Option<serde_json::Value>)> = of.load(&mut conn).await?;
        Ok(all.into_iter().filter_map(|(name, guards)| guards.map(|g| (name, g))).collect())
    }

    /// The latest moment that any node has known.
    pub async fn latest_moment(&self) -> Result<Option<Moment>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(latest::table.select(latest::moment).first(&mut conn).await.optional()?)
    }

    /// Ends every session and forgets how late it was, when the clock that said so cannot be believed. Returns how many
    /// sessions were ended.
    pub async fn begin_again(&self, at: Moment, by: &str) -> Result<usize, StoreError> {
        let ended = self.end_all(at, by).await?;
        let mut conn = self.conn().await?;
        diesel::update(latest::table).set(latest::moment.eq(at)).execute(&mut conn).await?;
        Ok(ended)
    }

    /// Ends every session, and says so in an act. Returns how many were ended.
    pub async fn end_every_session(&self, at: Moment, mut act: Recorded<'_>) -> Result<usize, StoreError> {
        let ended = self.end_all(at, "a restore").await?;
        act.act.about = serde_json::json!({ "sessions": ended });
        self.record_act(act).await?;
        Ok(ended)
    }

    async fn end_all(&self, at: Moment, by: &str) -> Result<usize, StoreError> {
        let mut conn = self.conn().await?;
        let live: Vec<Uuid> = sessions::table.filter(sessions::ended_at.is_null()).select(sessions::id).load(&mut conn).await?;
        drop(conn);
        let (ended, _) = self.end_sessions(&live, at, by, None).await?;
        Ok(ended.len())
    }

    /// Names of the other nodes, and when each last wrote that it runs.
    pub async fn other_nodes(&self, me: Uuid) -> Result<Vec<(String, Moment)>, StoreError> {
        let mut conn = self.conn().await?;
        let q = nodes::table.filter(nodes::id.ne(me)).select((nodes::name, nodes::seen_at)).order(nodes::name);
        Ok(q.load(&mut conn).await?)
    }

    /// Names of nodes seen since a moment that seal with a key of the ring.
    pub async fn nodes_sealing_with(&self, key: u16, since: Moment) -> Result<Vec<String>, StoreError> {
        let mut conn = self.conn().await?;
        let of = nodes::table.filter(nodes::seen_at.ge(since)).filter(nodes::seals_with.eq(i32::from(key)));
        Ok(of.select(nodes::name).order(nodes::name).load(&mut conn).await?)
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

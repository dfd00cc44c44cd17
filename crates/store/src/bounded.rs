//! Tables that strangers can write to. Each holds so many rows of one network and so many in all. Where it is full, the network that
//! holds most gives way, never whoever comes with little: nobody shuts others out by filling a table.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text, Timestamptz};
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::pool::StoreError;

/// A table that strangers can write to, with its bounds. It has the columns `digest` or `flow` as its key, `network`, `expires_at`.
pub(crate) struct Bounded {
    pub table: &'static str,
    pub key: &'static str,
    pub of_network: i64,
    pub in_all: i64,
}

#[derive(QueryableByName)]
struct Held {
    #[diesel(sql_type = BigInt)]
    mine: i64,
    #[diesel(sql_type = BigInt)]
    all: i64,
}

/// The network that holds most.
#[derive(QueryableByName)]
struct Most {
    #[diesel(sql_type = Text)]
    network: String,
    #[diesel(sql_type = BigInt)]
    held: i64,
}

impl Bounded {
    /// Makes room for one more row of a network. `Err` holds the bound that leaves none.
    pub(crate) async fn make_room(
        &self,
        conn: &mut AsyncPgConnection,
        network: &str,
        now: Moment,
    ) -> Result<Result<(), i64>, StoreError> {
        // Names are constants; identifiers cannot be bound. Whoever is far from the bounds pays for two short counts alone.
        let Bounded { table, key, of_network, in_all } = self;
        let held = format!(
            "SELECT (SELECT count(*) FROM (SELECT 1 FROM {table} WHERE network = $1 AND expires_at > $2 LIMIT {of_network}) a)::bigint AS mine, \
             (SELECT count(*) FROM (SELECT 1 FROM {table} WHERE network IS NOT NULL AND expires_at > $2 LIMIT {in_all}) b)::bigint AS \"all\""
        );
        let held: Held = diesel::sql_query(held).bind::<Text, _>(network).bind::<Timestamptz, _>(now).get_result(conn).await?;
        if held.mine >= *of_network {
            return Ok(Err(*of_network));
        }
        if held.all < *in_all {
            return Ok(Ok(()));
        }
        let most = format!(
            "SELECT network, count(*)::bigint AS held FROM {table} WHERE network IS NOT NULL AND expires_at > $1 \
             GROUP BY network ORDER BY held DESC, network LIMIT 1"
        );
        let most: Option<Most> = diesel::sql_query(most).bind::<Timestamptz, _>(now).get_result(conn).await.optional()?;
        let Some(most) = most.filter(|m| m.held > held.mine + 1) else { return Ok(Err(*in_all)) };
        let oldest = format!(
            "DELETE FROM {table} WHERE {key} IN (SELECT {key} FROM {table} WHERE network = $1 AND expires_at > $2 \
             ORDER BY expires_at, {key} LIMIT 1)"
        );
        diesel::sql_query(oldest).bind::<Text, _>(&most.network).bind::<Timestamptz, _>(now).execute(conn).await?;
        tracing::warn!(
            table,
            network = most.network,
            "a table that strangers write to is full; the network that holds most gives way"
        );
        Ok(Ok(()))
    }
}

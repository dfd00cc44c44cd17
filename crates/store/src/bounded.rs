//! Tables that strangers can write to. Each holds so many rows of one network and so many in all. Where it is full, the network that
//! holds most gives way, never whoever comes with little: nobody shuts others out by filling a table.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Nullable, Text, Timestamptz};
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
struct Full {
    #[diesel(sql_type = BigInt)]
    mine: i64,
    #[diesel(sql_type = BigInt)]
    all: i64,
    #[diesel(sql_type = Nullable<Text>)]
    most_of: Option<String>,
    #[diesel(sql_type = Nullable<BigInt>)]
    most: Option<i64>,
}

impl Bounded {
    /// Makes room for one more row of a network. `Err` holds the bound that leaves none.
    pub(crate) async fn make_room(
        &self,
        conn: &mut AsyncPgConnection,
        network: &str,
        now: Moment,
    ) -> Result<Result<(), i64>, StoreError> {
        // Names are constants; identifiers cannot be bound.
        let Bounded { table, key, of_network, in_all } = self;
        let counts = format!(
            "WITH n AS (SELECT network, count(*) AS held FROM {table} WHERE expires_at > $2 GROUP BY network), \
             m AS (SELECT network, held FROM n ORDER BY held DESC, network LIMIT 1) \
             SELECT coalesce((SELECT held FROM n WHERE network = $1), 0)::bigint AS mine, \
             coalesce((SELECT sum(held) FROM n), 0)::bigint AS \"all\", \
             (SELECT network FROM m) AS most_of, (SELECT held FROM m)::bigint AS most"
        );
        let full: Full = diesel::sql_query(counts).bind::<Text, _>(network).bind::<Timestamptz, _>(now).get_result(conn).await?;
        if full.mine >= *of_network {
            return Ok(Err(*of_network));
        }
        if full.all < *in_all {
            return Ok(Ok(()));
        }
        let (Some(most_of), Some(most)) = (full.most_of, full.most) else { return Ok(Err(*in_all)) };
        if most <= full.mine + 1 {
            return Ok(Err(*in_all));
        }
        let oldest = format!(
            "DELETE FROM {table} WHERE {key} IN (SELECT {key} FROM {table} WHERE network = $1 AND expires_at > $2 \
             ORDER BY expires_at, {key} LIMIT 1)"
        );
        diesel::sql_query(oldest).bind::<Text, _>(&most_of).bind::<Timestamptz, _>(now).execute(conn).await?;
        tracing::warn!(
            table,
            network = most_of,
            "a table that strangers write to is full; the network that holds most gives way"
        );
        Ok(Ok(()))
    }
}

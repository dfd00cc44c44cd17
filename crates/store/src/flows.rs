//! Flows sent to providers and answered by them, counted by the minute in which they began, so that "never came back"
//! is right on any number of nodes.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::unrecorded;

/// How flows to one provider ended.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct ProviderFlows {
    #[diesel(sql_type = Text)]
    pub provider: String,
    #[diesel(sql_type = BigInt)]
    pub sent: i64,
    #[diesel(sql_type = BigInt)]
    pub answered: i64,
    /// Sent longer ago than the time limit and not answered.
    #[diesel(sql_type = BigInt)]
    pub never_came_back: i64,
}

impl Store {
    /// Adds to the counts of a minute.
    pub async fn count_flows(&self, provider: &str, minute: Moment, sent: i64, answered: i64) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::sql_query(
            "INSERT INTO provider_flows (provider, minute, sent, answered) VALUES ($1, $2, $3, $4) \
             ON CONFLICT (provider, minute) DO UPDATE SET sent = provider_flows.sent + excluded.sent, \
             answered = provider_flows.answered + excluded.answered",
        )
        .bind::<Text, _>(provider)
        .bind::<Timestamptz, _>(minute)
        .bind::<BigInt, _>(sent)
        .bind::<BigInt, _>(answered)
        .execute(&mut conn)
        .await?;
        Ok(())
    }

    /// Counts per provider since a moment; flows that began before `overdue` and were not answered never came back.
    pub async fn flows(&self, since: Moment, overdue: Moment) -> Result<Vec<ProviderFlows>, StoreError> {
        let mut conn = self.conn().await?;
        let rows = diesel::sql_query(
            "SELECT provider, sum(sent)::bigint AS sent, sum(answered)::bigint AS answered, \
             coalesce(sum(greatest(sent - answered, 0)) FILTER (WHERE minute < $2), 0)::bigint AS never_came_back \
             FROM provider_flows WHERE minute >= $1 GROUP BY provider ORDER BY provider",
        )
        .bind::<Timestamptz, _>(since)
        .bind::<Timestamptz, _>(overdue)
        .load(&mut conn)
        .await?;
        Ok(rows)
    }

    /// Counts anonymous attempts that have no crossing.
    pub async fn count_unrecorded(&self, minute: Moment, n: i64) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::insert_into(unrecorded::table)
            .values((unrecorded::minute.eq(minute), unrecorded::attempts.eq(n)))
            .on_conflict(unrecorded::minute)
            .do_update()
            .set(unrecorded::attempts.eq(unrecorded::attempts + n))
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Attempts without a crossing since a moment.
    pub async fn unrecorded(&self, since: Moment) -> Result<i64, StoreError> {
        let mut conn = self.conn().await?;
        let counts: Vec<i64> =
            unrecorded::table.filter(unrecorded::minute.ge(since)).select(unrecorded::attempts).load(&mut conn).await?;
        Ok(counts.iter().sum())
    }
}

//! Crossings and the evidence they refer to, partitioned by day.

use chrono::NaiveDate;
use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Text};
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::without_nul;
use passeur_core::id::CrossingId;
use passeur_core::likeness::is_address;
use passeur_core::text::storable;
use serde_json::Value;
use uuid::Uuid;

use crate::finding::holds;
use crate::pool::{Store, StoreError};
use crate::schema::{crossings, evidence};

/// A crossing to be recorded.
#[derive(Clone, Debug, Insertable, AsChangeset)]
#[diesel(table_name = crossings)]
pub struct NewCrossing {
    pub day: NaiveDate,
    pub id: String,
    pub at: Moment,
    pub ended_at: Moment,
    pub gate: String,
    pub edition: i32,
    pub node: String,
    pub outcome: String,
    pub provider: Option<String>,
    pub subject: Option<String>,
    pub person: Option<String>,
    pub session_id: Option<Uuid>,
    pub address: String,
    pub method: String,
    pub target: String,
    pub steps: Value,
    pub deciding: Option<Value>,
    pub evidence: Option<Vec<u8>>,
}

/// A crossing as recorded. In lists `steps` is null.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = crossings)]
pub struct RecordedCrossing {
    pub id: String,
    pub at: Moment,
    pub ended_at: Moment,
    pub gate: String,
    pub edition: i32,
    pub node: String,
    pub outcome: String,
    pub provider: Option<String>,
    pub subject: Option<String>,
    pub person: Option<String>,
    pub session_id: Option<Uuid>,
    pub address: String,
    pub method: String,
    pub target: String,
    pub deciding: Option<Value>,
    pub evidence: Option<Vec<u8>>,
    pub repeats: i64,
    pub requests: i64,
    pub bytes_in: i64,
    pub bytes_out: i64,
}

/// Where a list goes on: strictly before this moment and id.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Cursor {
    pub at: Moment,
    pub id: String,
}

/// Which crossings to list, latest first.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    pub gate: Option<String>,
    /// Part of a name or subject, without regard to case; or a whole mail address that somebody vouched for.
    pub person: Option<String>,
    /// An address, or a network in CIDR notation, which the caller has checked.
    pub address: Option<String>,
    /// The way in that was taken.
    pub way: Option<String>,
    /// A rule that matched, refused or asked for more.
    pub rule: Option<String>,
    /// Any of these outcomes; empty means all.
    pub outcomes: Vec<String>,
    /// Of those that wait for a provider, only those begun before this moment.
    pub waiting_before: Option<Moment>,
    /// Of those that wait for a provider, only those begun at or after this moment.
    pub waiting_since: Option<Moment>,
    pub since: Option<Moment>,
    pub until: Option<Moment>,
    pub before: Option<Cursor>,
    /// Only those that were recorded after this moment, for following live.
    pub ended_after: Option<Moment>,
    pub limit: i64,
}

/// What went through since it was last counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    pub requests: i64,
    pub bytes_in: i64,
    pub bytes_out: i64,
}

/// One line of the log for a crossing that was written: who by the provider's key alone, since a name is for those who may read
/// crossings. Attempts that still wait are told once they have ended.
fn log(row: &NewCrossing) {
    if row.outcome == "waiting" {
        return;
    }
    let decided = row.deciding.as_ref().and_then(|d| d.get("code")).and_then(Value::as_str).unwrap_or_default();
    tracing::info!(
        event = format!("crossing.{}", row.outcome),
        crossing = row.id,
        gate = row.gate,
        decided,
        provider = row.provider.as_deref().unwrap_or_default(),
        subject = row.subject.as_deref().unwrap_or_default(),
        address = row.address,
        edition = row.edition,
        "a crossing"
    );
}

/// A LIKE pattern for "contains", with its own wildcards escaped.
pub(crate) fn like(text: &str) -> String {
    let mut out = String::from("%");
    for c in text.chars().take(200) {
        if matches!(c, '%' | '_' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('%');
    out
}

/// What came from outside, as text of the store can hold it: what happened is recorded whatever somebody sent.
fn storable_row(row: NewCrossing) -> NewCrossing {
    NewCrossing {
        provider: row.provider.as_deref().map(storable),
        subject: row.subject.as_deref().map(storable),
        person: row.person.as_deref().map(storable),
        target: storable(&row.target),
        steps: without_nul(row.steps),
        deciding: row.deciding.map(without_nul),
        ..row
    }
}

impl Store {
    /// Records a crossing and its evidence in one transaction. A crossing that was waiting for the provider is replaced
    /// by its outcome; any other of the same id is a conflict.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when a crossing of this id has ended already, and those of the store.
    pub async fn record(&self, row: NewCrossing, facts: Option<([u8; 32], Value)>) -> Result<(), StoreError> {
        let row = storable_row(row);
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if let Some((hash, body)) = facts {
                let body = without_nul(body);
                let values = (evidence::day.eq(row.day), evidence::hash.eq(hash.as_slice().to_vec()), evidence::body.eq(body));
                diesel::insert_into(evidence::table).values(values).on_conflict_do_nothing().execute(conn).await?;
            }
            // In one statement: what waits may be written in the same instant, from a queue, as the outcome that replaces it.
            let insert = diesel::insert_into(crossings::table).values(&row);
            let replace = insert.on_conflict((crossings::day, crossings::id)).do_update().set(&row);
            let of_one_waiting = diesel::query_dsl::methods::FilterDsl::filter(replace, crossings::outcome.eq("waiting"));
            if of_one_waiting.execute(conn).await? == 0 {
                return Err(StoreError::Conflict);
            }
            Ok::<(), StoreError>(())
        })
        .await?;
        log(&row);
        Ok(())
    }

    /// Adds steps to a recorded crossing and sets its session and outcome: the hand-back, which happens at the gate.
    pub async fn extend(&self, id: CrossingId, steps: Value, ended_at: Moment) -> Result<(), StoreError> {
        let steps = without_nul(steps);
        let mut conn = self.conn().await?;
        diesel::sql_query("UPDATE crossings SET steps = steps || $1, ended_at = $2 WHERE day = $3 AND id = $4 AND jsonb_array_length(steps) < 2100")
            .bind::<diesel::sql_types::Jsonb, _>(steps)
            .bind::<diesel::sql_types::Timestamptz, _>(ended_at)
            .bind::<diesel::sql_types::Date, _>(id.day())
            .bind::<diesel::sql_types::Text, _>(id.to_string())
            .execute(&mut conn)
            .await?;
        Ok(())
    }

    /// Counts further attempts onto a recorded crossing.
    pub async fn add_repeats(&self, more: &[(CrossingId, u64)]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        for (id, n) in more {
            diesel::update(crossings::table.find((id.day(), id.to_string())))
                .set(crossings::repeats.eq(crossings::repeats + *n as i64))
                .execute(&mut conn)
                .await?;
        }
        Ok(())
    }

    /// Counts requests and bytes onto the crossing of a decision.
    pub async fn add_usage(&self, batch: &[(CrossingId, Usage)]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        for (id, u) in batch {
            diesel::update(crossings::table.find((id.day(), id.to_string())))
                .set((
                    crossings::requests.eq(crossings::requests + u.requests),
                    crossings::bytes_in.eq(crossings::bytes_in + u.bytes_in),
                    crossings::bytes_out.eq(crossings::bytes_out + u.bytes_out),
                ))
                .execute(&mut conn)
                .await?;
        }
        Ok(())
    }

    /// Lists crossings, latest first.
    pub async fn crossings(&self, filter: &Filter) -> Result<Vec<RecordedCrossing>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = crossings::table
            .select(RecordedCrossing::as_select())
            .order((crossings::at.desc(), crossings::id.desc()))
            .limit(filter.limit.clamp(1, 1_000))
            .into_boxed();
        if let Some(gate) = &filter.gate {
            q = q.filter(crossings::gate.eq(gate.clone()));
        }
        if let Some(person) = &filter.person {
            let like = like(person);
            let named = crossings::person.ilike(like.clone()).or(crossings::subject.ilike(like));
            q = match is_address(person) {
                false => q.filter(named),
                true => {
                    let holds = holds("e.body", "wanted.t");
                    let vouched = sql::<Bool>("EXISTS (SELECT 1 FROM evidence e, (SELECT ")
                        .bind::<Text, _>(person.to_lowercase())
                        .sql(&format!(
                            "::text AS t) wanted WHERE e.day = crossings.day AND e.hash = crossings.evidence AND {holds})"
                        ));
                    q.filter(named.assume_not_null().or(vouched))
                }
            };
        }
        if let Some(address) = &filter.address {
            let within = sql::<Bool>("(CASE WHEN crossings.address ~ '^[0-9a-fA-F:.]+$' THEN crossings.address::inet <<= ")
                .bind::<Text, _>(address.clone())
                .sql("::inet ELSE false END)");
            q = q.filter(within);
        }
        if let Some(way) = &filter.way {
            let taken = sql::<Bool>("coalesce((SELECT e.body->>'through' FROM evidence e WHERE e.day = crossings.day AND e.hash = crossings.evidence), crossings.provider) = ")
                .bind::<Text, _>(way.clone());
            q = q.filter(taken);
        }
        if let Some(rule) = &filter.rule {
            let decided = sql::<Bool>("jsonb_path_exists(crossings.steps, '$[*] ? (@.params.rule == $r && (@.code == \"rules.matched\" || @.code == \"rules.refused\" || @.code == \"rules.uncertain\" || @.code == \"rules.step-up\"))', jsonb_build_object('r', ")
                .bind::<Text, _>(rule.clone())
                .sql("))");
            q = q.filter(decided);
        }
        if !filter.outcomes.is_empty() {
            q = q.filter(crossings::outcome.eq_any(filter.outcomes.clone()));
        }
        if let Some(at) = filter.waiting_before {
            q = q.filter(crossings::outcome.ne("waiting").or(crossings::at.lt(at)));
        }
        if let Some(at) = filter.waiting_since {
            q = q.filter(crossings::outcome.ne("waiting").or(crossings::at.ge(at)));
        }
        if let Some(since) = filter.since {
            q = q.filter(crossings::at.ge(since)).filter(crossings::day.ge(since.date_naive()));
        }
        if let Some(until) = filter.until {
            q = q.filter(crossings::at.lt(until));
        }
        if let Some(after) = filter.ended_after {
            q = q.filter(crossings::ended_at.gt(after));
        }
        if let Some(c) = &filter.before {
            let earlier = crossings::at.lt(c.at).or(crossings::at.eq(c.at).and(crossings::id.lt(c.id.clone())));
            q = q.filter(earlier);
        }
        Ok(q.load(&mut conn).await?)
    }

    /// How crossings since a moment ended, with their steps; the latest first.
    pub async fn ended_since(&self, since: Moment, limit: i64) -> Result<Vec<(String, Value)>, StoreError> {
        let mut conn = self.conn().await?;
        let of = crossings::table.filter(crossings::day.ge(since.date_naive())).filter(crossings::at.ge(since));
        let q = of.filter(crossings::outcome.ne("waiting")).order(crossings::at.desc()).limit(limit);
        Ok(q.select((crossings::outcome, crossings::steps)).load(&mut conn).await?)
    }

    /// One crossing with its steps and its evidence.
    pub async fn crossing(&self, id: CrossingId) -> Result<Option<(RecordedCrossing, Value, Option<Value>)>, StoreError> {
        let mut conn = self.conn().await?;
        let found: Option<(RecordedCrossing, Value)> = crossings::table
            .find((id.day(), id.to_string()))
            .select((RecordedCrossing::as_select(), crossings::steps))
            .first(&mut conn)
            .await
            .optional()?;
        let Some((row, steps)) = found else { return Ok(None) };
        let facts = match &row.evidence {
            None => None,
            Some(hash) => evidence::table.find((id.day(), hash)).select(evidence::body).first(&mut conn).await.optional()?,
        };
        Ok(Some((row, steps, facts)))
    }
}

/// How often an outcome came about at a gate.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct OutcomeRow {
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub gate: String,
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub outcome: String,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub count: i64,
}

impl Store {
    /// Crossings by gate and outcome since a moment, repeats included.
    pub async fn outcome_counts(&self, since: Moment) -> Result<Vec<OutcomeRow>, StoreError> {
        let mut conn = self.conn().await?;
        let rows = diesel::sql_query(
            "SELECT gate, outcome, sum(1 + repeats)::bigint AS count FROM crossings WHERE day >= $1 AND at >= $2 \
             GROUP BY gate, outcome ORDER BY gate, count DESC, outcome",
        )
        .bind::<diesel::sql_types::Date, _>(since.date_naive())
        .bind::<diesel::sql_types::Timestamptz, _>(since)
        .load(&mut conn)
        .await?;
        Ok(rows)
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn wildcards_in_a_search_are_taken_literally() {
        assert_eq!(super::like("50%_a\\"), "%50\\%\\_a\\\\%");
    }
}

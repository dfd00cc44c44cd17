//! Partitions made ahead and dropped by age, and rows that have run out.

use chrono::{Days, NaiveDate};
use diesel::prelude::*;
use diesel::sql_types::Text;
use diesel_async::{AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::{
    answered, codes, device_codes, entrance_trials, kept_forms, mailed_codes, parked, personal_tokens, profiles, provider_flows,
    sessions, spent, trials, tries, tunnel_asks, tunnel_codes, unrecorded, vouches,
};

const PARTITIONED: [&str; 2] = ["crossings", "evidence"];

#[derive(QueryableByName)]
struct Name {
    #[diesel(sql_type = Text)]
    name: String,
}

/// The partitions of a table that are for a day: name, and the day in eight digits.
async fn partitions(conn: &mut AsyncPgConnection, table: &str) -> Result<Vec<(String, String)>, StoreError> {
    let parts: Vec<Name> = diesel::sql_query(
        "SELECT c.relname::text AS name FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid \
         JOIN pg_class p ON p.oid = i.inhparent WHERE p.relname = $1 ORDER BY 1",
    )
    .bind::<Text, _>(table)
    .load(conn)
    .await?;
    let of_day = |part: Name| {
        let day = part.name.strip_prefix(table)?.strip_prefix('_')?.to_owned();
        (day.len() == 8 && day.bytes().all(|b| b.is_ascii_digit())).then_some((part.name, day))
    };
    Ok(parts.into_iter().filter_map(of_day).collect())
}

impl Store {
    /// Makes the partitions of yesterday to the day after tomorrow, so that a clock some hours off still finds one.
    pub async fn make_partitions(&self, today: NaiveDate) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let first = today - Days::new(1);
        for table in PARTITIONED {
            for day in first.iter_days().take(4) {
                // Names come from a constant and a date; identifiers cannot be bound.
                let sql = format!(
                    "CREATE TABLE IF NOT EXISTS {table}_{} PARTITION OF {table} FOR VALUES FROM ('{day}') TO ('{}')",
                    day.format("%Y%m%d"),
                    day + Days::new(1)
                );
                match diesel::sql_query(sql).execute(&mut conn).await.map_err(StoreError::from) {
                    // Two nodes that make the same partition at once: one of them loses, which is as good.
                    Ok(_) | Err(StoreError::Conflict) => {}
                    Err(StoreError::Query(m)) if m.contains("already exists") => {}
                    Err(e) => return Err(e),
                }
            }
        }
        Ok(())
    }

    /// The last day for which both crossings and evidence have a partition.
    pub async fn partitions_until(&self) -> Result<Option<NaiveDate>, StoreError> {
        let mut conn = self.conn().await?;
        let mut until: Option<NaiveDate> = None;
        for (i, table) in PARTITIONED.into_iter().enumerate() {
            let days = partitions(&mut conn, table).await?;
            let last = days.iter().filter_map(|(_, day)| NaiveDate::parse_from_str(day, "%Y%m%d").ok()).max();
            until = if i == 0 { last } else { until.min(last) };
        }
        Ok(until)
    }

    /// Drops partitions of days before `keep_from`. Returns how many.
    pub async fn drop_partitions(&self, keep_from: NaiveDate) -> Result<usize, StoreError> {
        let mut conn = self.conn().await?;
        let limit = keep_from.format("%Y%m%d").to_string();
        let mut dropped = 0;
        for table in PARTITIONED {
            for (name, day) in partitions(&mut conn, table).await? {
                if day < limit {
                    diesel::sql_query(format!("DROP TABLE {name}")).execute(&mut conn).await?;
                    dropped += 1;
                }
            }
        }
        Ok(dropped)
    }

    /// Removes what has run out: codes, used flows, sessions ended or begun before `sessions_before`, old counts.
    pub async fn sweep(&self, now: Moment, sessions_before: Moment, counts_before: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(codes::table.filter(codes::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(kept_forms::table.filter(kept_forms::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(parked::table.filter(parked::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(personal_tokens::table.filter(personal_tokens::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(device_codes::table.filter(device_codes::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(tries::table.filter(tries::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(mailed_codes::table.filter(mailed_codes::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(vouches::table.filter(vouches::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(tunnel_asks::table.filter(tunnel_asks::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(profiles::table.filter(profiles::expires_at.lt(sessions_before))).execute(&mut conn).await?;
        diesel::delete(tunnel_codes::table.filter(tunnel_codes::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(trials::table.filter(trials::expires_at.lt(now))).execute(&mut conn).await?;
        // What came of one can be read for a day more.
        let before = now - chrono::Duration::days(1);
        diesel::delete(entrance_trials::table.filter(entrance_trials::expires_at.lt(before))).execute(&mut conn).await?;
        diesel::delete(answered::table.filter(answered::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(spent::table.filter(spent::expires_at.lt(now))).execute(&mut conn).await?;
        diesel::delete(sessions::table.filter(sessions::began.lt(sessions_before))).execute(&mut conn).await?;
        diesel::delete(provider_flows::table.filter(provider_flows::minute.lt(counts_before))).execute(&mut conn).await?;
        diesel::delete(unrecorded::table.filter(unrecorded::minute.lt(counts_before))).execute(&mut conn).await?;
        Ok(())
    }
}

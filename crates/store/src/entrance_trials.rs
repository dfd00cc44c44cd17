//! Trials of entrances: for which clients an entrance opens nothing for a while, by whom it was begun, and which crossings tell of it.

use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Integer, Jsonb, Text, Uuid as SqlUuid};
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use serde_json::Value;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::presences::PresenceRow;
use crate::schema::{entrance_trials, presences, tunnel_asks};

/// The most that are open at once on a site.
const OPEN_MAX: i64 = 20;
/// The most crossings that one keeps: who may connect without end may not make it longer without end.
const CROSSINGS_MAX: i32 = 50;
/// What is known of a tunnel names the trial whose number follows.
const BY_TRIAL: &str = "tunnel->'trials' @> ";

/// A trial of an entrance.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = entrance_trials)]
pub struct EntranceTrialRow {
    pub id: Uuid,
    pub gate: String,
    pub entrance: String,
    /// The network from which clients connect that it is about, in CIDR notation; any where there is none.
    pub network: Option<String>,
    /// The subject or name of the person that it is about; anybody where there is none.
    pub person: Option<String>,
    pub begun_by: String,
    pub begun: Moment,
    pub expires_at: Moment,
    pub ended_at: Option<Moment>,
    pub ended_by: Option<String>,
    /// Those that tell of it, the latest last.
    pub crossings: Vec<String>,
}

impl EntranceTrialRow {
    /// Whether it goes on at a moment.
    pub fn is_open(&self, now: Moment) -> bool {
        self.ended_at.is_none() && self.expires_at > now
    }
}

/// A tunnel that waits for its person.
#[derive(Clone, Debug)]
pub struct WaitingTunnel {
    /// What is known of it, as presences keep it.
    pub tunnel: Value,
    pub since: Moment,
    /// Somebody said that it is theirs, or that it is not.
    pub answered: bool,
}

impl Store {
    /// Begins one. False where too many are open.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn begin_entrance_trial(&self, row: EntranceTrialRow, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let open = entrance_trials::table
                .filter(entrance_trials::ended_at.is_null())
                .filter(entrance_trials::expires_at.gt(row.begun));
            let n: i64 = open.count().get_result(conn).await?;
            if n >= OPEN_MAX {
                return Ok(false);
            }
            diesel::insert_into(entrance_trials::table).values(&row).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// One that is kept still.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn entrance_trial(&self, id: Uuid) -> Result<Option<EntranceTrialRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(entrance_trials::table.find(id).select(EntranceTrialRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Those that are open at a moment, the newest first: of one entrance, or of all.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn open_entrance_trials(&self, entrance: Option<&str>, now: Moment) -> Result<Vec<EntranceTrialRow>, StoreError> {
        let mut conn = self.conn().await?;
        let mut open = entrance_trials::table
            .filter(entrance_trials::ended_at.is_null())
            .filter(entrance_trials::expires_at.gt(now))
            .order(entrance_trials::begun.desc())
            .select(EntranceTrialRow::as_select())
            .into_boxed();
        if let Some(entrance) = entrance {
            open = open.filter(entrance_trials::entrance.eq(entrance.to_owned()));
        }
        Ok(open.load(&mut conn).await?)
    }

    /// Ends one. False where it was over.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn end_entrance_trial(&self, id: Uuid, now: Moment, by: &str, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let open = entrance_trials::table
                .find(id)
                .filter(entrance_trials::ended_at.is_null())
                .filter(entrance_trials::expires_at.gt(now));
            let set = (entrance_trials::ended_at.eq(now), entrance_trials::ended_by.eq(by));
            if diesel::update(open).set(set).execute(conn).await? == 0 {
                return Ok(false);
            }
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Notes that a crossing tells of one, once. It keeps the latest.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn note_in_entrance_trial(&self, id: Uuid, crossing: &str) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::sql_query(
            "UPDATE entrance_trials SET crossings = (crossings || $2)[greatest(cardinality(crossings) + 2 - $3, 1):] \
             WHERE id = $1 AND NOT crossings @> ARRAY[$2]",
        )
        .bind::<SqlUuid, _>(id)
        .bind::<Text, _>(crossing)
        .bind::<Integer, _>(CROSSINGS_MAX)
        .execute(&mut conn)
        .await?;
        Ok(())
    }

    /// Machines that are on by one, the latest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn on_by_entrance_trial(&self, id: Uuid) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let by = sql::<Bool>(BY_TRIAL).bind::<Jsonb, _>(serde_json::json!([id]));
        let on = presences::table.filter(presences::ended_at.is_null()).filter(by).order(presences::began.desc());
        Ok(on.limit(100).select(PresenceRow::as_select()).load(&mut conn).await?)
    }

    /// Tunnels that wait for their person by one, the latest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn waiting_by_entrance_trial(&self, id: Uuid, now: Moment) -> Result<Vec<WaitingTunnel>, StoreError> {
        let mut conn = self.conn().await?;
        let by = sql::<Bool>(BY_TRIAL).bind::<Jsonb, _>(serde_json::json!([id]));
        let waiting = tunnel_asks::table
            .filter(tunnel_asks::expires_at.gt(now))
            .filter(tunnel_asks::outcome.is_null())
            .filter(by)
            .order(tunnel_asks::created_at.desc())
            .limit(20)
            .select((tunnel_asks::tunnel, tunnel_asks::created_at, tunnel_asks::session_id, tunnel_asks::refused));
        let rows: Vec<(Value, Moment, Option<Uuid>, bool)> = waiting.load(&mut conn).await?;
        let one = |(tunnel, since, session, refused): (Value, Moment, Option<Uuid>, bool)| WaitingTunnel {
            tunnel,
            since,
            answered: session.is_some() || refused,
        };
        Ok(rows.into_iter().map(one).collect())
    }
}

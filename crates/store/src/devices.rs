//! Command lines that wait for an engineer to let them in (RFC 8628).

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::bounded::Bounded;
use crate::people::of_person;
use crate::pool::{Store, StoreError};
use crate::schema::{device_codes, tokens};
use crate::tokens::NewToken;

/// Those that wait at once.
const BOUNDS: Bounded = Bounded { table: "device_codes", key: "digest", of_network: 60, in_all: 1_000 };

/// One that waits, or was answered.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = device_codes)]
pub struct DeviceRow {
    pub digest: Vec<u8>,
    pub user_code: Vec<u8>,
    pub address: String,
    pub agent: String,
    pub created_at: Moment,
    pub expires_at: Moment,
    pub polled_at: Option<Moment>,
    /// `pending`, `approved` or `denied`.
    pub state: String,
    pub role: Option<String>,
    pub owner_provider: Option<String>,
    pub owner_subject: Option<String>,
    pub owner_name: Option<String>,
    pub network: String,
    pub owner_authority: Option<String>,
}

impl Store {
    /// Keeps one that begins to wait. False where too many do.
    pub async fn add_device(&self, row: DeviceRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        if BOUNDS.make_room(&mut conn, &row.network, row.created_at).await?.is_err() {
            return Ok(false);
        }
        diesel::insert_into(device_codes::table).values(&row).execute(&mut conn).await?;
        Ok(true)
    }

    /// The one that waits under a short code, whichever key of the ring it was made under.
    pub async fn device_waiting(&self, user_codes: &[[u8; 32]], now: Moment) -> Result<Option<DeviceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let any: Vec<Vec<u8>> = user_codes.iter().map(|c| c.to_vec()).collect();
        let of = device_codes::table
            .filter(device_codes::user_code.eq_any(any))
            .filter(device_codes::state.eq("pending"))
            .filter(device_codes::expires_at.gt(now));
        Ok(of.select(DeviceRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Answers one that waits, in somebody's session. False where somebody did already, or the session is over.
    pub async fn answer_device(&self, row: &DeviceRow, person: &PersonKey, session: Uuid) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if !of_person(conn, person, Some(session)).await? {
                return Ok(false);
            }
            answer(conn, row).await
        })
        .await
    }

    /// Notes that one asked whether it was answered, and tells as it was before.
    pub async fn poll_device(&self, digest: &[u8; 32], now: Moment) -> Result<Option<DeviceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let before =
            device_codes::table.find(digest.as_slice()).select(DeviceRow::as_select()).first(&mut conn).await.optional()?;
        diesel::update(device_codes::table.find(digest.as_slice()))
            .set(device_codes::polled_at.eq(now))
            .execute(&mut conn)
            .await?;
        Ok(before)
    }

    /// Makes the token of one that was approved, which is used up by it. False where it was fetched before, or what its engineer has was
    /// taken away meanwhile.
    pub async fn let_in(&self, digest: &[u8; 32], token: NewToken, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if let (Some(authority), Some(subject)) = (&token.owner_authority, &token.owner_subject)
                && !of_person(conn, &PersonKey { authority: authority.clone(), subject: subject.clone() }, None).await?
            {
                return Ok(false);
            }
            let row = device_codes::table.find(digest.as_slice()).filter(device_codes::state.eq("approved"));
            if diesel::delete(row).execute(conn).await? == 0 {
                return Ok(false);
            }
            diesel::insert_into(tokens::table).values(&token).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }
}

async fn answer(conn: &mut AsyncPgConnection, row: &DeviceRow) -> Result<bool, StoreError> {
    let waiting = device_codes::table.find(&row.digest).filter(device_codes::state.eq("pending"));
    let set = (
        device_codes::state.eq(&row.state),
        device_codes::role.eq(&row.role),
        device_codes::owner_provider.eq(&row.owner_provider),
        device_codes::owner_subject.eq(&row.owner_subject),
        device_codes::owner_name.eq(&row.owner_name),
        device_codes::owner_authority.eq(&row.owner_authority),
    );
    Ok(diesel::update(waiting).set(set).execute(conn).await? == 1)
}

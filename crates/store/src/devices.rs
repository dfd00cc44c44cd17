//! Command lines that wait for an engineer to let them in (RFC 8628).

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::device_codes;

/// The most that wait at once.
const WAITING_MAX: i64 = 1_000;

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
}

impl Store {
    /// Keeps one that begins to wait. False where too many do.
    pub async fn add_device(&self, row: DeviceRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let n: i64 =
            device_codes::table.filter(device_codes::expires_at.gt(row.created_at)).count().get_result(&mut conn).await?;
        if n >= WAITING_MAX {
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

    /// Answers one that waits. False where somebody did already.
    pub async fn answer_device(&self, row: &DeviceRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let waiting = device_codes::table.find(&row.digest).filter(device_codes::state.eq("pending"));
        let set = (
            device_codes::state.eq(&row.state),
            device_codes::role.eq(&row.role),
            device_codes::owner_provider.eq(&row.owner_provider),
            device_codes::owner_subject.eq(&row.owner_subject),
            device_codes::owner_name.eq(&row.owner_name),
        );
        Ok(diesel::update(waiting).set(set).execute(&mut conn).await? == 1)
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

    /// Takes one that was approved: one DELETE, so that of two at once one is too late.
    pub async fn take_device(&self, digest: &[u8; 32]) -> Result<Option<DeviceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row = device_codes::table.find(digest.as_slice()).filter(device_codes::state.eq("approved"));
        Ok(diesel::delete(row).returning(DeviceRow::as_returning()).get_result(&mut conn).await.optional()?)
    }
}

//! Editions and the record of what engineers did.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::pool::{Store, StoreError};
use crate::schema::{acts, editions};

/// A published edition.
#[derive(Clone, Debug, Queryable, Insertable, Selectable)]
#[diesel(table_name = editions)]
pub struct EditionRow {
    pub number: i32,
    pub document: String,
    pub note: String,
    pub author: String,
    pub published_at: Moment,
}

impl Store {
    /// The live edition: the one with the highest number.
    pub async fn live_edition(&self) -> Result<Option<EditionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let row = editions::table.order(editions::number.desc()).select(EditionRow::as_select()).first(&mut conn).await;
        Ok(row.optional()?)
    }

    /// The number of the live edition, 0 before the first.
    pub async fn live_edition_number(&self) -> Result<i32, StoreError> {
        let mut conn = self.conn().await?;
        let max: Option<i32> = editions::table.select(diesel::dsl::max(editions::number)).first(&mut conn).await?;
        Ok(max.unwrap_or(0))
    }

    /// Publishes `row`, whose number must be one above the live edition's; the act is recorded in the same transaction.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when somebody published meanwhile.
    pub async fn publish(&self, row: EditionRow) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let live: Option<i32> = editions::table.select(diesel::dsl::max(editions::number)).first(conn).await?;
            if live.unwrap_or(0) + 1 != row.number {
                return Err(StoreError::Conflict);
            }
            diesel::insert_into(editions::table).values(&row).execute(conn).await?;
            let detail = format!("edition {}: {}", row.number, row.note);
            record_act(conn, row.published_at, &row.author, "publish", &detail).await
        })
        .await
    }

    /// Records an act of an engineer.
    pub async fn record_act(&self, at: Moment, who: &str, what: &str, detail: &str) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        record_act(&mut conn, at, who, what, detail).await
    }
}

pub(crate) async fn record_act(
    conn: &mut diesel_async::AsyncPgConnection,
    at: Moment,
    who: &str,
    what: &str,
    detail: &str,
) -> Result<(), StoreError> {
    let values = (acts::at.eq(at), acts::who.eq(who), acts::what.eq(what), acts::detail.eq(detail));
    diesel::insert_into(acts::table).values(values).execute(conn).await?;
    Ok(())
}

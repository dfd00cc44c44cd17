//! The next edition while it is written: one document, each change on the version that was read.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::drafts;

/// The draft.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = drafts)]
pub struct DraftRow {
    pub version: i64,
    pub document: String,
    pub based_on: i32,
    pub author: String,
    pub changed_at: Moment,
}

impl Store {
    /// The draft, if there is one.
    pub async fn draft(&self) -> Result<Option<DraftRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(drafts::table.select(DraftRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Writes the draft on the version that was read, or begins one where there was none. Returns its new version.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when another version is there.
    pub async fn write_draft(
        &self,
        read: Option<i64>,
        document: &str,
        based_on: i32,
        act: Recorded<'_>,
    ) -> Result<i64, StoreError> {
        let mut conn = self.conn().await?;
        // Versions grow over discarded drafts too, so that a version once read never comes back.
        let version = act.act.at.timestamp_micros();
        let change = (
            drafts::version.eq(version),
            drafts::document.eq(document),
            drafts::based_on.eq(based_on),
            drafts::author.eq(act.act.personal.who.clone()),
            drafts::changed_at.eq(act.act.at),
        );
        conn.transaction(async |conn| {
            let done = match read {
                Some(v) => {
                    let same = drafts::table.filter(drafts::version.eq(v)).filter(drafts::version.lt(version));
                    diesel::update(same).set(change).execute(conn).await?
                }
                None => diesel::insert_into(drafts::table).values(change).on_conflict_do_nothing().execute(conn).await?,
            };
            if done == 0 {
                return Err(StoreError::Conflict);
            }
            append(conn, act).await
        })
        .await?;
        Ok(version)
    }

    /// Discards the draft of that version.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when another version is there, or none.
    pub async fn discard_draft(&self, read: i64, act: Recorded<'_>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if diesel::delete(drafts::table.filter(drafts::version.eq(read))).execute(conn).await? == 0 {
                return Err(StoreError::Conflict);
            }
            append(conn, act).await
        })
        .await
    }
}

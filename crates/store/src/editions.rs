//! Editions.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use serde_json::Value;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::authorities::{Turned, turn};
use crate::pool::{Store, StoreError};
use crate::schema::{agreements, drafts, editions};

/// A published edition.
#[derive(Clone, Debug, Queryable, Insertable, Selectable)]
#[diesel(table_name = editions)]
pub struct EditionRow {
    pub number: i32,
    pub document: String,
    pub note: String,
    pub author: String,
    pub published_at: Moment,
    /// The earlier edition it is a copy of.
    pub copy_of: Option<i32>,
    /// Until when it must be confirmed.
    pub confirm_by: Option<Moment>,
    pub confirmed_by: Option<String>,
    /// Versions of secrets in use when it was published, by name.
    pub secrets: Option<Value>,
}

/// An edition without its document.
#[derive(Clone, Debug, Queryable, Selectable)]
#[diesel(table_name = editions)]
pub struct EditionHead {
    pub number: i32,
    pub note: String,
    pub author: String,
    pub published_at: Moment,
    pub copy_of: Option<i32>,
    pub confirm_by: Option<Moment>,
    pub confirmed_by: Option<String>,
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

    /// An edition by number.
    pub async fn edition(&self, number: i32) -> Result<Option<EditionRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(editions::table.find(number).select(EditionRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// The edition that was live at a moment; none before the first.
    pub async fn edition_at(&self, at: Moment) -> Result<Option<EditionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let published = editions::table.filter(editions::published_at.le(at)).order(editions::number.desc());
        Ok(published.select(EditionRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// The edition before one.
    pub async fn edition_before(&self, number: i32) -> Result<Option<EditionRow>, StoreError> {
        let mut conn = self.conn().await?;
        let before = editions::table.filter(editions::number.lt(number)).order(editions::number.desc());
        Ok(before.select(EditionRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Editions below a number, latest first.
    pub async fn edition_heads(&self, before: Option<i32>, limit: i64) -> Result<Vec<EditionHead>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = editions::table.order(editions::number.desc()).limit(limit).select(EditionHead::as_select()).into_boxed();
        if let Some(n) = before {
            q = q.filter(editions::number.lt(n));
        }
        Ok(q.load(&mut conn).await?)
    }

    /// Confirms the live edition. False when it is not live any more, asks for nothing, or was confirmed before.
    pub async fn confirm(&self, number: i32, by: &str, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let live: Option<i32> = editions::table.select(diesel::dsl::max(editions::number)).first(conn).await?;
            let open =
                editions::table.find(number).filter(editions::confirmed_by.is_null()).filter(editions::confirm_by.is_not_null());
            if live != Some(number) || diesel::update(open).set(editions::confirmed_by.eq(by)).execute(conn).await? == 0 {
                return Ok(false);
            }
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Publishes `row`, whose number must be one above the live edition's; the act is recorded in the same transaction.
    ///
    /// A draft that it was read from is used up, if it still is of the version that was read. What stood on authorities that the
    /// edition knows by their names no more ends with it; the sessions are returned.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when somebody published or changed the draft meanwhile.
    pub async fn publish(
        &self,
        row: EditionRow,
        draft: Option<i64>,
        turned: &[Turned],
        act: Recorded<'_>,
    ) -> Result<Vec<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let live: Option<i32> = editions::table.select(diesel::dsl::max(editions::number)).first(conn).await?;
            if live.unwrap_or(0) + 1 != row.number {
                return Err(StoreError::Conflict);
            }
            diesel::insert_into(editions::table).values(&row).execute(conn).await?;
            if let Some(version) = draft
                && diesel::delete(drafts::table.filter(drafts::version.eq(version))).execute(conn).await? == 0
            {
                return Err(StoreError::Conflict);
            }
            // Agreements were to changes of the edition before.
            diesel::delete(agreements::table).execute(conn).await?;
            let ended = turn(conn, turned, row.published_at).await?;
            append(conn, act).await?;
            Ok(ended)
        })
        .await
    }

    /// Puts back the edition before `number` as the next one, when `number` is live, asked to be confirmed by a moment that
    /// has passed, and was not. Returns the new edition's number where it did.
    pub async fn go_back(
        &self,
        number: i32,
        note: &str,
        turned: &[Turned],
        act: Recorded<'_>,
    ) -> Result<Option<i32>, StoreError> {
        let mut conn = self.conn().await?;
        let now = act.act.at;
        conn.transaction(async |conn| {
            let live: Option<EditionRow> = editions::table
                .order(editions::number.desc())
                .select(EditionRow::as_select())
                .for_update()
                .first(conn)
                .await
                .optional()?;
            let due =
                live.is_some_and(|l| l.number == number && l.confirmed_by.is_none() && l.confirm_by.is_some_and(|by| by <= now));
            let before = editions::table.filter(editions::number.lt(number)).order(editions::number.desc());
            let Some(before) = before.select(EditionRow::as_select()).first::<EditionRow>(conn).await.optional()?.filter(|_| due)
            else {
                return Ok(None);
            };
            let row = EditionRow {
                number: number + 1,
                note: note.to_owned(),
                author: act.act.personal.who.clone(),
                published_at: now,
                copy_of: Some(before.copy_of.unwrap_or(before.number)),
                confirm_by: None,
                confirmed_by: None,
                ..before
            };
            diesel::insert_into(editions::table).values(&row).execute(conn).await?;
            turn(conn, turned, now).await?;
            append(conn, act).await?;
            Ok(Some(row.number))
        })
        .await
    }
}

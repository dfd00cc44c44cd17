//! Agreements of engineers to a document, before it is published.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::agreements;

/// One engineer's agreement.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Insertable, Selectable)]
#[diesel(table_name = agreements)]
pub struct AgreementRow {
    /// SHA-256 of the document.
    pub document: Vec<u8>,
    /// The edition that was live.
    pub edition: i32,
    pub provider: String,
    pub subject: String,
    pub name: String,
    pub at: Moment,
    pub authority: String,
    /// What they are known by: see [`passeur_core::likeness::Likeness`].
    pub likeness: serde_json::Value,
}

impl Store {
    /// Keeps an agreement; a second one of the same person to the same change is the first.
    pub async fn agree(&self, row: AgreementRow, act: Recorded<'_>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let new = diesel::insert_into(agreements::table).values(&row).on_conflict_do_nothing().execute(conn).await?;
            if new == 0 { Ok(()) } else { append(conn, act).await }
        })
        .await
    }

    /// Who agreed to a document while an edition was live, in order.
    pub async fn agreements(&self, document: &[u8], edition: i32) -> Result<Vec<AgreementRow>, StoreError> {
        let mut conn = self.conn().await?;
        let q = agreements::table.filter(agreements::document.eq(document)).filter(agreements::edition.eq(edition));
        Ok(q.order(agreements::at).select(AgreementRow::as_select()).load(&mut conn).await?)
    }
}

//! Forms that a sign-in interrupted, sealed by the caller.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::bounded::Bounded;
use crate::pool::{Store, StoreError};
use crate::schema::kept_forms;

/// Forms kept at once; 64 KiB each.
const BOUNDS: Bounded = Bounded { table: "kept_forms", key: "digest", of_network: 100, in_all: 2_000 };

/// A kept form.
#[derive(Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = kept_forms)]
pub struct KeptForm {
    pub digest: Vec<u8>,
    pub gate: String,
    pub binding: Vec<u8>,
    pub sealed: Vec<u8>,
    pub expires_at: Moment,
    pub network: String,
}

impl Store {
    /// Keeps a form. False when there are too many: then it is not kept, and the person is told.
    pub async fn keep_form(&self, form: KeptForm, now: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        if BOUNDS.make_room(&mut conn, &form.network, now).await?.is_err() {
            return Ok(false);
        }
        diesel::insert_into(kept_forms::table).values(&form).execute(&mut conn).await?;
        Ok(true)
    }

    /// Takes a form: one DELETE … RETURNING, so that it is offered once on any number of nodes.
    pub async fn take_form(&self, digest: &[u8; 32]) -> Result<Option<KeptForm>, StoreError> {
        let mut conn = self.conn().await?;
        let taken = diesel::delete(kept_forms::table.find(digest.as_slice())).returning(KeptForm::as_returning());
        Ok(taken.get_result(&mut conn).await.optional()?)
    }
}

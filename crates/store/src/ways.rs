//! What ways in of our own keep between requests: counted tries, and codes sent by mail.

use diesel::prelude::*;
use diesel_async::RunQueryDsl;
use passeur_core::Moment;

use crate::bounded::Bounded;
use crate::pool::{Store, StoreError};
use crate::schema::{mailed_codes, tries};

/// Codes that wait at once.
const MAILED: Bounded = Bounded { table: "mailed_codes", key: "flow", of_network: 200, in_all: 10_000 };

/// A code that was sent by mail, or would have been.
#[derive(Clone, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = mailed_codes)]
pub struct MailedCode {
    pub flow: Vec<u8>,
    /// None where nothing was sent: no code is right then.
    pub code: Option<Vec<u8>>,
    pub mail: Vec<u8>,
    pub tries_left: i16,
    pub expires_at: Moment,
    pub network: String,
}

impl Store {
    /// Counts a try under each key, in one statement, and returns how many there were in this window with it, in the order
    /// of the keys. Tries at once are no way around a limit: each sees those before it.
    pub async fn count_tries(&self, keys: &[[u8; 32]], span: i64, until: Moment) -> Result<Vec<i32>, StoreError> {
        let mut conn = self.conn().await?;
        let mut sorted = keys.to_vec();
        // In one order everywhere, so that two transactions never wait for one another.
        sorted.sort_unstable();
        sorted.dedup();
        let rows: Vec<_> = sorted
            .iter()
            .map(|k| (tries::key.eq(k.to_vec()), tries::span.eq(span), tries::count.eq(1), tries::expires_at.eq(until)))
            .collect();
        let counted: Vec<(Vec<u8>, i32)> = diesel::insert_into(tries::table)
            .values(rows)
            .on_conflict((tries::key, tries::span))
            .do_update()
            .set(tries::count.eq(tries::count + 1))
            .returning((tries::key, tries::count))
            .get_results(&mut conn)
            .await?;
        Ok(keys.iter().map(|k| counted.iter().find(|(c, _)| c == k).map_or(0, |(_, n)| *n)).collect())
    }

    /// How many tries there were under a key in a window.
    pub async fn tries_so_far(&self, key: &[u8; 32], span: i64) -> Result<i32, StoreError> {
        let mut conn = self.conn().await?;
        let row = tries::table.find((key.to_vec(), span)).select(tries::count);
        Ok(row.first(&mut conn).await.optional()?.unwrap_or_default())
    }

    /// Forgets the tries under a key in some windows.
    pub async fn forget_tries(&self, key: &[u8; 32], spans: &[i64]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let rows = tries::table.filter(tries::key.eq(key.to_vec())).filter(tries::span.eq_any(spans));
        diesel::delete(rows).execute(&mut conn).await?;
        Ok(())
    }

    /// Takes back one try under each key: it was right, and right ones do not count.
    pub async fn uncount_tries(&self, keys: &[[u8; 32]], span: i64) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let mut sorted: Vec<Vec<u8>> = keys.iter().map(|k| k.to_vec()).collect();
        sorted.sort_unstable();
        let rows = tries::table.filter(tries::key.eq_any(sorted)).filter(tries::span.eq(span)).filter(tries::count.gt(0));
        diesel::update(rows).set(tries::count.eq(tries::count - 1)).execute(&mut conn).await?;
        Ok(())
    }

    /// Keeps a code in the place of an earlier one of the same flow. False where too many wait.
    pub async fn put_mailed_code(&self, row: MailedCode, now: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        if MAILED.make_room(&mut conn, &row.network, now).await?.is_err() {
            return Ok(false);
        }
        let set = (
            mailed_codes::code.eq(row.code.clone()),
            mailed_codes::mail.eq(row.mail.clone()),
            mailed_codes::tries_left.eq(row.tries_left),
            mailed_codes::expires_at.eq(row.expires_at),
        );
        let insert = diesel::insert_into(mailed_codes::table).values(&row);
        insert.on_conflict(mailed_codes::flow).do_update().set(set).execute(&mut conn).await?;
        Ok(true)
    }

    /// Spends one try of a flow's code, whatever comes of it. None where there is none, or no try is left.
    pub async fn try_mailed_code(&self, flow: &[u8; 32], now: Moment) -> Result<Option<MailedCode>, StoreError> {
        let mut conn = self.conn().await?;
        let row = mailed_codes::table
            .find(flow.as_slice())
            .filter(mailed_codes::tries_left.gt(0))
            .filter(mailed_codes::expires_at.gt(now));
        let taken = diesel::update(row).set(mailed_codes::tries_left.eq(mailed_codes::tries_left - 1));
        Ok(taken.returning(MailedCode::as_returning()).get_result(&mut conn).await.optional()?)
    }

    /// Uses a code up: one DELETE, so that of two at once one is too late.
    pub async fn take_mailed_code(&self, flow: &[u8; 32]) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        Ok(diesel::delete(mailed_codes::table.find(flow.as_slice())).execute(&mut conn).await? == 1)
    }
}

//! Second factors of our own, sealed by the caller, and recovery codes.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::people::of_person;
use crate::pool::{Store, StoreError};
use crate::schema::{factors, recovery_codes};

/// The most factors that one person has.
const FACTORS_MAX: i64 = 12;

/// One factor of one person.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = factors)]
pub struct FactorRow {
    pub id: Uuid,
    pub provider: String,
    pub subject: String,
    /// `totp` or `passkey`.
    pub kind: String,
    pub name: String,
    pub sealed: Vec<u8>,
    pub credential: Option<Vec<u8>>,
    pub created_at: Moment,
    pub used_at: Option<Moment>,
    pub last_step: Option<i64>,
    pub authority: String,
    /// Enrolled in a session that nobody had asked for: it opens no more than that one did.
    pub unasked: bool,
}

impl FactorRow {
    /// Whose it is.
    pub fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }
}

impl Store {
    /// Factors of a person, the oldest first.
    pub async fn factors(&self, person: &PersonKey) -> Result<Vec<FactorRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = factors::table.filter(factors::authority.eq(&person.authority)).filter(factors::subject.eq(&person.subject));
        Ok(of.order(factors::created_at).select(FactorRow::as_select()).load(&mut conn).await?)
    }

    /// The passkey with a credential id.
    pub async fn passkey(&self, credential: &[u8]) -> Result<Option<FactorRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = factors::table.filter(factors::credential.eq(credential));
        Ok(of.select(FactorRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Keeps a factor that was enrolled in a session. False where the person has too many already, or the session is over.
    pub async fn add_factor(&self, row: FactorRow, session: Uuid) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if !of_person(conn, &row.person(), Some(session)).await? {
                return Ok(false);
            }
            let of = factors::table.filter(factors::authority.eq(&row.authority)).filter(factors::subject.eq(&row.subject));
            let n: i64 = of.count().get_result(conn).await?;
            if n >= FACTORS_MAX {
                return Ok(false);
            }
            diesel::insert_into(factors::table).values(&row).execute(conn).await?;
            Ok(true)
        })
        .await
    }

    /// Notes that the code of a step of time was used. False where that step, or a later one, was used before.
    pub async fn use_step(&self, id: Uuid, step: i64, now: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let unused = factors::last_step.is_null().or(factors::last_step.lt(step));
        let row = factors::table.find(id).filter(unused);
        let set = (factors::last_step.eq(step), factors::used_at.eq(now));
        Ok(diesel::update(row).set(set).execute(&mut conn).await? == 1)
    }

    /// Notes that a passkey was used, with what it now is. False where it was removed meanwhile.
    pub async fn use_passkey(&self, id: Uuid, sealed: Option<Vec<u8>>, now: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let n = match sealed {
            Some(sealed) => {
                let set = (factors::sealed.eq(sealed), factors::used_at.eq(now));
                diesel::update(factors::table.find(id)).set(set).execute(&mut conn).await?
            }
            None => diesel::update(factors::table.find(id)).set(factors::used_at.eq(now)).execute(&mut conn).await?,
        };
        Ok(n == 1)
    }

    /// Takes factors of a person away: one, or all with their recovery codes. Returns those that were there.
    pub async fn remove_factors(
        &self,
        person: &PersonKey,
        only: Option<Uuid>,
        act: Option<Recorded<'_>>,
    ) -> Result<Vec<FactorRow>, StoreError> {
        let mut conn = self.conn().await?;
        let PersonKey { authority, subject } = person;
        conn.transaction(async |conn| {
            let of = factors::table.filter(factors::authority.eq(authority)).filter(factors::subject.eq(subject));
            let gone: Vec<FactorRow> = match only {
                Some(id) => {
                    diesel::delete(of.filter(factors::id.eq(id))).returning(FactorRow::as_returning()).get_results(conn).await?
                }
                None => diesel::delete(of).returning(FactorRow::as_returning()).get_results(conn).await?,
            };
            let left: i64 = of.count().get_result(conn).await?;
            // A recovery code stands for a factor; where none is left, it stands for nothing.
            if left == 0 {
                let codes = recovery_codes::table.filter(recovery_codes::authority.eq(authority));
                diesel::delete(codes.filter(recovery_codes::subject.eq(subject))).execute(conn).await?;
            }
            if let Some(act) = act
                && !gone.is_empty()
            {
                append(conn, act).await?;
            }
            Ok(gone)
        })
        .await
    }

    /// Gives a person new recovery codes in the place of all before. False where their session is over.
    pub async fn put_recovery_codes(
        &self,
        provider: &str,
        person: &PersonKey,
        session: Uuid,
        (key, codes): (u16, &[[u8; 32]]),
    ) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let PersonKey { authority, subject } = person;
        conn.transaction(async |conn| {
            if !of_person(conn, person, Some(session)).await? {
                return Ok(false);
            }
            let of = recovery_codes::table.filter(recovery_codes::authority.eq(authority));
            diesel::delete(of.filter(recovery_codes::subject.eq(subject))).execute(conn).await?;
            let rows: Vec<_> = codes
                .iter()
                .map(|c| {
                    (
                        recovery_codes::code.eq(c.to_vec()),
                        recovery_codes::provider.eq(provider),
                        recovery_codes::subject.eq(subject),
                        recovery_codes::authority.eq(authority),
                        recovery_codes::key.eq(i32::from(key)),
                    )
                })
                .collect();
            diesel::insert_into(recovery_codes::table).values(rows).execute(conn).await?;
            Ok(true)
        })
        .await
    }

    /// Uses a recovery code up, whichever key of the ring it was made under. False where the person has none like it.
    pub async fn take_recovery_code(&self, person: &PersonKey, codes: &[[u8; 32]]) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let any: Vec<Vec<u8>> = codes.iter().map(|c| c.to_vec()).collect();
        let of = recovery_codes::table.filter(recovery_codes::authority.eq(&person.authority));
        let this = of.filter(recovery_codes::subject.eq(&person.subject)).filter(recovery_codes::code.eq_any(any));
        Ok(diesel::delete(this).execute(&mut conn).await? >= 1)
    }

    /// How many recovery codes a person has left.
    pub async fn recovery_codes_left(&self, person: &PersonKey) -> Result<i64, StoreError> {
        let mut conn = self.conn().await?;
        let of = recovery_codes::table.filter(recovery_codes::authority.eq(&person.authority));
        Ok(of.filter(recovery_codes::subject.eq(&person.subject)).count().get_result(&mut conn).await?)
    }
}

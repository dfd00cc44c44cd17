//! Sealed secrets. What is inside is never seen here.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use serde_json::json;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::secrets;

/// What may be told of a secret.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct SecretMeta {
    pub name: String,
    pub version: i32,
    pub changed_at: Moment,
    pub changed_by: String,
}

/// A secret as stored.
#[derive(Clone, Queryable)]
pub struct SealedSecret {
    pub name: String,
    pub version: i32,
    pub sealed: Vec<u8>,
}

impl std::fmt::Debug for SealedSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let SealedSecret { name, version, sealed: _ } = self;
        write!(f, "SealedSecret({name} {version})")
    }
}

impl Store {
    /// Every secret, sealed.
    pub async fn sealed_secrets(&self) -> Result<Vec<SealedSecret>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(secrets::table.select((secrets::name, secrets::version, secrets::sealed)).load(&mut conn).await?)
    }

    /// Names, versions and changes of all secrets.
    pub async fn secret_list(&self) -> Result<Vec<SecretMeta>, StoreError> {
        let mut conn = self.conn().await?;
        let rows = secrets::table
            .select((secrets::name, secrets::version, secrets::changed_at, secrets::changed_by))
            .order(secrets::name)
            .load(&mut conn)
            .await?;
        Ok(rows)
    }

    /// Stores a secret under its next version. `seal` is called with that version, to which the seal is bound; the act
    /// is told of it.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when it was changed meanwhile.
    pub async fn set_secret(
        &self,
        name: &str,
        seal: impl FnOnce(i32) -> Vec<u8> + Send,
        mut act: Recorded<'_>,
    ) -> Result<i32, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let old: Option<i32> =
                secrets::table.find(name).select(secrets::version).for_update().first(conn).await.optional()?;
            let version = old.unwrap_or(0) + 1;
            let change = (
                secrets::version.eq(version),
                secrets::sealed.eq(seal(version)),
                secrets::changed_at.eq(act.act.at),
                secrets::changed_by.eq(act.act.personal.who.clone()),
            );
            match old {
                Some(_) => diesel::update(secrets::table.find(name)).set(change).execute(conn).await?,
                None => diesel::insert_into(secrets::table).values((secrets::name.eq(name), change)).execute(conn).await?,
            };
            act.act.about = json!({"secret": name, "version": version});
            append(conn, act).await?;
            Ok(version)
        })
        .await
    }
}

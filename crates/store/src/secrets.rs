//! Sealed secrets and their versions. What is inside is never seen here.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use serde_json::json;

use crate::acts::{Recorded, append};
use crate::pool::{Store, StoreError};
use crate::schema::{secret_versions, secrets};

/// What may be told of a version of a secret.
#[derive(Clone, Debug, PartialEq, Queryable)]
pub struct SecretVersion {
    pub version: i32,
    pub changed_at: Moment,
    pub changed_by: String,
    /// Whether it waits for a second engineer: until then it serves nothing.
    pub waits: bool,
    /// What whoever stored it is known by.
    pub likeness: serde_json::Value,
}

/// How a secret is stored.
#[derive(Clone, Debug, Default)]
pub struct HowStored {
    /// Beside the version in use, not in its place.
    pub stand_by: bool,
    /// It waits for a second engineer.
    pub waits: bool,
    /// What whoever stores it is known by.
    pub likeness: serde_json::Value,
}

/// What may be told of a secret.
#[derive(Clone, Debug, PartialEq)]
pub struct SecretMeta {
    pub name: String,
    /// The version in use; 0 where none is.
    pub version: i32,
    /// The version that stands beside it.
    pub next: Option<i32>,
    /// Every version that is kept, the highest first.
    pub versions: Vec<SecretVersion>,
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

/// Which versions of a secret are in use: name, version, and the one that stands beside it.
pub type SecretHead = (String, i32, Option<i32>);

impl Store {
    /// Which versions are in use, so that a node sees when they change.
    pub async fn secret_heads(&self) -> Result<Vec<SecretHead>, StoreError> {
        let mut conn = self.conn().await?;
        let q = secrets::table.select((secrets::name, secrets::version, secrets::next)).order(secrets::name);
        Ok(q.load(&mut conn).await?)
    }

    /// Every secret, sealed, but for what waits for a second engineer: the version in use first, then the one that stands beside it.
    pub async fn sealed_secrets(&self) -> Result<Vec<SealedSecret>, StoreError> {
        let mut conn = self.conn().await?;
        let wanted = secret_versions::version.eq(secrets::version).or(secret_versions::version.nullable().eq(secrets::next));
        let q = secret_versions::table
            .inner_join(secrets::table.on(secrets::name.eq(secret_versions::name)))
            .filter(wanted.assume_not_null())
            .filter(secret_versions::waits.eq(false))
            .select((secret_versions::name, secret_versions::version, secret_versions::sealed, secrets::version));
        let mut rows: Vec<(String, i32, Vec<u8>, i32)> = q.load(&mut conn).await?;
        rows.sort_by_key(|(_, version, _, live)| version != live);
        Ok(rows.into_iter().map(|(name, version, sealed, _)| SealedSecret { name, version, sealed }).collect())
    }

    /// Every kept version of a secret, sealed, but for what waits for a second engineer: the one in use first, then the others from the latest on.
    pub async fn kept_versions(&self, name: &str) -> Result<Vec<SealedSecret>, StoreError> {
        let mut conn = self.conn().await?;
        let q = secret_versions::table
            .inner_join(secrets::table.on(secrets::name.eq(secret_versions::name)))
            .filter(secret_versions::name.eq(name))
            .filter(secret_versions::waits.eq(false))
            .order(secret_versions::version.desc())
            .select((secret_versions::name, secret_versions::version, secret_versions::sealed, secrets::version));
        let mut rows: Vec<(String, i32, Vec<u8>, i32)> = q.load(&mut conn).await?;
        rows.sort_by_key(|(_, version, _, live)| version != live);
        Ok(rows.into_iter().map(|(name, version, sealed, _)| SealedSecret { name, version, sealed }).collect())
    }

    /// One version of a secret, sealed.
    pub async fn sealed_version(&self, name: &str, version: i32) -> Result<Option<SealedSecret>, StoreError> {
        let mut conn = self.conn().await?;
        let q = secret_versions::table.find((name, version));
        let row = q.select((secret_versions::name, secret_versions::version, secret_versions::sealed)).first(&mut conn).await;
        Ok(row.optional()?)
    }

    /// Names, versions and changes of all secrets.
    pub async fn secret_list(&self) -> Result<Vec<SecretMeta>, StoreError> {
        let heads = self.secret_heads().await?;
        let mut conn = self.conn().await?;
        let told = (
            secret_versions::version,
            secret_versions::changed_at,
            secret_versions::changed_by,
            secret_versions::waits,
            secret_versions::likeness,
        );
        let rows: Vec<(String, SecretVersion)> = secret_versions::table
            .select((secret_versions::name, told))
            .order(secret_versions::version.desc())
            .load(&mut conn)
            .await?;
        let of = |name: &str| rows.iter().filter(|(n, _)| n == name).map(|(_, v)| v.clone()).collect::<Vec<_>>();
        // Of a secret that was removed, only the count of its versions is kept: none is ever given twice.
        let all = heads.into_iter().map(|(name, version, next)| SecretMeta { versions: of(&name), name, version, next });
        Ok(all.filter(|s| !s.versions.is_empty()).collect())
    }

    /// Stores a secret under its next version: in use at once, beside the one in use, or waiting. `seal` is called with that
    /// version, to which the seal is bound; the act is told of it. Of the versions before, the one that was in use is kept.
    ///
    /// # Errors
    /// [`StoreError::Conflict`] when it was changed meanwhile.
    pub async fn set_secret(
        &self,
        name: &str,
        how: HowStored,
        seal: impl FnOnce(i32) -> Vec<u8> + Send,
        mut act: Recorded<'_>,
    ) -> Result<i32, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let old: Option<(i32, i32)> = secrets::table
                .find(name)
                .select((secrets::version, secrets::latest))
                .for_update()
                .first(conn)
                .await
                .optional()?;
            let version = old.map_or(0, |(_, latest)| latest) + 1;
            // The first one has nothing to stand beside.
            let stand_by = how.stand_by && old.is_some_and(|(live, _)| live > 0);
            let row = (
                secret_versions::name.eq(name),
                secret_versions::version.eq(version),
                secret_versions::sealed.eq(seal(version)),
                secret_versions::changed_at.eq(act.act.at),
                secret_versions::changed_by.eq(act.act.personal.who.clone()),
                secret_versions::waits.eq(how.waits),
                secret_versions::likeness.eq(how.likeness),
            );
            diesel::insert_into(secret_versions::table).values(row).execute(conn).await?;
            match old {
                None => {
                    let live = if how.waits { 0 } else { version };
                    let head = (secrets::name.eq(name), secrets::version.eq(live), secrets::latest.eq(version));
                    diesel::insert_into(secrets::table).values(head).execute(conn).await?;
                }
                Some(_) if how.waits => {
                    diesel::update(secrets::table.find(name)).set(secrets::latest.eq(version)).execute(conn).await?;
                }
                Some(_) if stand_by => {
                    let change = (secrets::next.eq(version), secrets::latest.eq(version));
                    diesel::update(secrets::table.find(name)).set(change).execute(conn).await?;
                }
                Some(_) => {
                    let change = (secrets::version.eq(version), secrets::next.eq(None::<i32>), secrets::latest.eq(version));
                    diesel::update(secrets::table.find(name)).set(change).execute(conn).await?;
                }
            }
            // What waits replaces only what waited: whoever stores something takes nothing out of use alone.
            let kept = [Some(version), old.map(|(live, _)| live)].into_iter().flatten().collect::<Vec<_>>();
            let others =
                secret_versions::table.filter(secret_versions::name.eq(name)).filter(secret_versions::version.ne_all(kept));
            match how.waits {
                true => diesel::delete(others.filter(secret_versions::waits.eq(true))).execute(conn).await?,
                false => diesel::delete(others).execute(conn).await?,
            };
            act.act.about = json!({"secret": name, "version": version, "in_use": !stand_by && !how.waits});
            append(conn, act).await?;
            Ok(version)
        })
        .await
    }

    /// Puts a kept version into use. False when it is not kept.
    pub async fn use_secret(&self, name: &str, version: i32, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let head: Option<(i32, Option<i32>)> =
                secrets::table.find(name).select((secrets::version, secrets::next)).for_update().first(conn).await.optional()?;
            let there: i64 = secret_versions::table.find((name, version)).count().get_result(conn).await?;
            let Some((_, next)) = head.filter(|_| there == 1) else { return Ok(false) };
            let change = (secrets::version.eq(version), secrets::next.eq(next.filter(|n| *n != version)));
            diesel::update(secrets::table.find(name)).set(change).execute(conn).await?;
            diesel::update(secret_versions::table.find((name, version)))
                .set(secret_versions::waits.eq(false))
                .execute(conn)
                .await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Removes a secret with all its versions. False where there is none.
    pub async fn remove_secret(&self, name: &str, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let head: Option<i32> =
                secrets::table.find(name).select(secrets::latest).for_update().first(conn).await.optional()?;
            let versions = secret_versions::table.filter(secret_versions::name.eq(name));
            if head.is_none() || diesel::delete(versions).execute(conn).await? == 0 {
                return Ok(false);
            }
            let nothing = (secrets::version.eq(0), secrets::next.eq(None::<i32>));
            diesel::update(secrets::table.find(name)).set(nothing).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }

    /// Forgets a version that is not in use. False when it is, or is not kept.
    pub async fn forget_secret(&self, name: &str, version: i32, act: Recorded<'_>) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let live: Option<i32> =
                secrets::table.find(name).select(secrets::version).for_update().first(conn).await.optional()?;
            if live == Some(version) || diesel::delete(secret_versions::table.find((name, version))).execute(conn).await? == 0 {
                return Ok(false);
            }
            let standing = secrets::table.find(name).filter(secrets::next.eq(version));
            diesel::update(standing).set(secrets::next.eq(None::<i32>)).execute(conn).await?;
            append(conn, act).await?;
            Ok(true)
        })
        .await
    }
}

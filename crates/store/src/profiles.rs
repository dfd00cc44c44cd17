//! Personal profiles of tunnels: whose machine a client certificate was made for, and whether it still counts.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::acts::{Recorded, append};
use crate::crossings::like;
use crate::people::of_person;
use crate::pool::{Store, StoreError};
use crate::schema::{presences, profiles};

/// The most that one person has of a gate and that still count.
const OF_PERSON_MAX: i64 = 20;

/// A profile.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = profiles)]
pub struct ProfileRow {
    pub id: Uuid,
    pub gate: String,
    /// SHA-256 of the certificate.
    pub digest: Vec<u8>,
    pub provider: String,
    pub authority: String,
    pub subject: String,
    pub name: String,
    /// What the person calls the machine.
    pub device: String,
    pub created_at: Moment,
    pub expires_at: Moment,
    pub used_at: Option<Moment>,
    pub revoked_at: Option<Moment>,
    pub revoked_by: Option<String>,
}

impl ProfileRow {
    /// Whose it is.
    pub fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }

    /// Whether it counts at a moment.
    pub fn is_good(&self, now: Moment) -> bool {
        self.revoked_at.is_none() && self.expires_at > now
    }
}

/// Who makes a profile.
pub enum MadeBy<'a> {
    /// Its person, in a session.
    Person(Uuid),
    /// An engineer, by an act.
    Engineer(Recorded<'a>),
}

/// Why a profile was not kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotKept {
    /// The session ended, or the person is kept out, meanwhile.
    Over,
    /// The person has as many as they may.
    TooMany(i64),
}

impl Store {
    /// Keeps a profile.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn add_profile(&self, row: &ProfileRow, by: MadeBy<'_>) -> Result<Result<(), NotKept>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let (session, act) = match by {
                MadeBy::Person(session) => (Some(session), None),
                MadeBy::Engineer(act) => (None, Some(act)),
            };
            if !of_person(conn, &row.person(), session).await? {
                return Ok(Err(NotKept::Over));
            }
            let has = profiles::table
                .filter(profiles::authority.eq(&row.authority))
                .filter(profiles::subject.eq(&row.subject))
                .filter(profiles::gate.eq(&row.gate))
                .filter(profiles::revoked_at.is_null())
                .filter(profiles::expires_at.gt(row.created_at));
            if has.count().get_result::<i64>(conn).await? >= OF_PERSON_MAX {
                return Ok(Err(NotKept::TooMany(OF_PERSON_MAX)));
            }
            diesel::insert_into(profiles::table).values(row).execute(conn).await?;
            if let Some(act) = act {
                append(conn, act).await?;
            }
            Ok(Ok(()))
        })
        .await
    }

    /// The profile of a certificate at a gate, which may count no more.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn profile_of(&self, digest: &[u8; 32], gate: &str) -> Result<Option<ProfileRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = profiles::table.filter(profiles::digest.eq(digest.as_slice())).filter(profiles::gate.eq(gate));
        Ok(of.select(ProfileRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// A profile by its number.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn profile(&self, id: Uuid) -> Result<Option<ProfileRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(profiles::table.find(id).select(ProfileRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Notes that a profile was used.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn profile_used(&self, id: Uuid, at: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::update(profiles::table.find(id)).set(profiles::used_at.eq(at)).execute(&mut conn).await?;
        Ok(())
    }

    /// Profiles, the latest first: of a person where one is named, or with a text in a name, subject or device.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn profiles(
        &self,
        of: Option<&PersonKey>,
        gate: Option<&str>,
        text: Option<&str>,
        limit: i64,
    ) -> Result<Vec<ProfileRow>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = profiles::table.select(ProfileRow::as_select()).into_boxed();
        if let Some(person) = of {
            q = q.filter(profiles::authority.eq(&person.authority)).filter(profiles::subject.eq(&person.subject));
        }
        if let Some(gate) = gate {
            q = q.filter(profiles::gate.eq(gate));
        }
        if let Some(text) = text {
            let like = like(text);
            let any =
                profiles::name.ilike(like.clone()).or(profiles::subject.ilike(like.clone())).or(profiles::device.ilike(like));
            q = q.filter(any);
        }
        Ok(q.order((profiles::created_at.desc(), profiles::id)).limit(limit).load(&mut conn).await?)
    }

    /// Profiles with which somebody connected within `used` before their end, which is in this span of time, and that have no successor: none of the
    /// same person, machine and gate counts longer. The earliest first.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn profiles_ending(
        &self,
        (from, until): (Moment, Moment),
        used: chrono::Duration,
        limit: i64,
    ) -> Result<Vec<ProfileRow>, StoreError> {
        let mut conn = self.conn().await?;
        let has_none = diesel::dsl::sql::<diesel::sql_types::Bool>(
            "NOT EXISTS (SELECT 1 FROM profiles later WHERE later.authority = profiles.authority AND later.subject = profiles.subject \
             AND later.gate = profiles.gate AND later.device = profiles.device AND later.revoked_at IS NULL \
             AND later.expires_at > profiles.expires_at)",
        );
        let of = profiles::table
            .filter(profiles::revoked_at.is_null())
            .filter(profiles::expires_at.between(from, until))
            .filter(profiles::used_at.gt(from - used))
            .filter(has_none);
        Ok(of.order((profiles::expires_at, profiles::id)).limit(limit).select(ProfileRow::as_select()).load(&mut conn).await?)
    }

    /// Revokes profiles: of one person alone where they do it themselves. Those that it revoked, and the sessions of tunnels that came by
    /// them.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn revoke_profiles(
        &self,
        ids: &[Uuid],
        own: Option<&PersonKey>,
        (at, by): (Moment, &str),
        act: Option<Recorded<'_>>,
    ) -> Result<(Vec<ProfileRow>, Vec<Uuid>), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let mut of: Vec<Uuid> = ids.to_vec();
            if let Some(person) = own {
                let mine = profiles::table
                    .filter(profiles::id.eq_any(ids))
                    .filter(profiles::authority.eq(&person.authority))
                    .filter(profiles::subject.eq(&person.subject));
                of = mine.select(profiles::id).load(conn).await?;
            }
            let open = profiles::table.filter(profiles::id.eq_any(&of)).filter(profiles::revoked_at.is_null());
            let set = (profiles::revoked_at.eq(at), profiles::revoked_by.eq(by));
            let gone: Vec<ProfileRow> =
                diesel::update(open).set(set).returning(ProfileRow::as_returning()).get_results(conn).await?;
            let open = presences::table.filter(presences::ended_at.is_null()).filter(presences::tunnel.is_not_null());
            let on: Vec<(Option<Uuid>, Option<serde_json::Value>)> =
                open.select((presences::session_id, presences::tunnel)).load(conn).await?;
            let by_one = |tunnel: &serde_json::Value| {
                let of = tunnel["profile"].as_str().and_then(|p| p.parse::<Uuid>().ok());
                of.is_some_and(|id| gone.iter().any(|g| g.id == id))
            };
            let sessions = on.into_iter().filter(|(_, t)| t.as_ref().is_some_and(by_one)).filter_map(|(s, _)| s).collect();
            if let Some(act) = act.filter(|_| !gone.is_empty()) {
                append(conn, act).await?;
            }
            Ok((gone, sessions))
        })
        .await
    }
}

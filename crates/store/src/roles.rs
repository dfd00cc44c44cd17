//! Roles that people had when it was last decided, and how they changed.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use serde_json::Value;
use uuid::Uuid;

use crate::pool::{Store, StoreError};
use crate::schema::{person_roles, role_changes};

/// Roles of a person at a gate.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable, AsChangeset)]
#[diesel(table_name = person_roles)]
pub struct PersonRoles {
    pub provider: String,
    pub subject: String,
    pub gate: String,
    pub roles: Vec<String>,
    pub since: Moment,
    pub crossing: String,
    pub seen_at: Moment,
    pub authority: String,
}

/// One change of them.
#[derive(Clone, Debug, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = role_changes)]
pub struct RoleChange {
    pub id: Uuid,
    pub provider: String,
    pub subject: String,
    pub gate: String,
    pub at: Moment,
    pub crossing: String,
    pub gained: Vec<String>,
    pub lost: Vec<String>,
    /// Phrases of core, told in the reader's language.
    pub why: Value,
    pub authority: String,
}

impl Store {
    /// Roles of a person at a gate, as they were last.
    pub async fn roles_at(&self, provider: &str, person: &PersonKey, gate: &str) -> Result<Option<PersonRoles>, StoreError> {
        let mut conn = self.conn().await?;
        let row = person_roles::table.find((&person.authority, provider, &person.subject, gate)).select(PersonRoles::as_select());
        Ok(row.first(&mut conn).await.optional()?)
    }

    /// Puts roles in the place of what there was, with what changed by it.
    pub async fn put_roles(&self, row: PersonRoles, change: Option<RoleChange>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let key = (person_roles::authority, person_roles::provider, person_roles::subject, person_roles::gate);
            diesel::insert_into(person_roles::table).values(&row).on_conflict(key).do_update().set(&row).execute(conn).await?;
            if let Some(change) = change {
                diesel::insert_into(role_changes::table).values(&change).execute(conn).await?;
            }
            Ok(())
        })
        .await
    }

    /// Roles of a person everywhere.
    pub async fn roles_of(&self, person: &PersonKey) -> Result<Vec<PersonRoles>, StoreError> {
        let mut conn = self.conn().await?;
        let of = person_roles::table.filter(person_roles::authority.eq(&person.authority));
        let of = of.filter(person_roles::subject.eq(&person.subject));
        Ok(of.order(person_roles::gate).select(PersonRoles::as_select()).load(&mut conn).await?)
    }

    /// Changes of a person's roles, the latest first, at most so many.
    pub async fn role_changes(&self, person: &PersonKey, limit: i64) -> Result<Vec<RoleChange>, StoreError> {
        let mut conn = self.conn().await?;
        let of = role_changes::table.filter(role_changes::authority.eq(&person.authority));
        let of = of.filter(role_changes::subject.eq(&person.subject));
        Ok(of.order(role_changes::at.desc()).limit(limit).select(RoleChange::as_select()).load(&mut conn).await?)
    }

    /// Forgets roles that were not decided since, and changes of before.
    pub async fn forget_roles(&self, since: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(person_roles::table.filter(person_roles::seen_at.lt(since))).execute(&mut conn).await?;
        diesel::delete(role_changes::table.filter(role_changes::at.lt(since))).execute(&mut conn).await?;
        Ok(())
    }
}

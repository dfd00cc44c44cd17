//! Who vouches for people: rows of before that was written down, and providers whose name stands for another issuer from an edition on.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use uuid::Uuid;

use crate::pool::{Store, StoreError};
use crate::schema::{factors, sessions, unadopted};
use crate::sessions::raise_counter;

/// Tables of things that people keep beyond a session, with the columns that say whose they are.
const KEPT: [(&str, &str, &str); 8] = [
    ("factors", "provider", "authority"),
    ("recovery_codes", "provider", "authority"),
    ("personal_tokens", "provider", "authority"),
    ("person_roles", "provider", "authority"),
    ("role_changes", "provider", "authority"),
    ("agreements", "provider", "authority"),
    ("tokens", "owner_provider", "owner_authority"),
    ("device_codes", "owner_provider", "owner_authority"),
];

/// A provider or way in whose name stands for another authority in a new edition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Turned {
    pub provider: String,
    pub before: String,
    pub after: String,
    /// The same party at another address: what people keep goes with it.
    pub moves: bool,
}

/// What stands on an authority.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct StandsOn {
    #[diesel(sql_type = BigInt)]
    pub sessions: i64,
    /// People with factors of their own.
    #[diesel(sql_type = BigInt)]
    pub factors: i64,
    /// Personal tokens, and API tokens.
    #[diesel(sql_type = BigInt)]
    pub tokens: i64,
}

impl Store {
    /// Gives rows of a time when nobody wrote down who vouches the authority that their provider's name stands for. Done once.
    pub async fn adopt(&self, authorities: &[(String, String)]) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if diesel::delete(unadopted::table).execute(conn).await? == 0 {
                return Ok(());
            }
            let all = KEPT.iter().chain(&[("sessions", "provider", "authority")]);
            for (table, provider, authority) in all {
                // Names are constants; identifiers cannot be bound.
                let sql = format!("UPDATE {table} SET {authority} = $2 WHERE {provider} = $1 AND coalesce({authority}, '') = ''");
                for (name, stands_for) in authorities {
                    diesel::sql_query(&sql).bind::<Text, _>(name).bind::<Text, _>(stands_for).execute(conn).await?;
                }
            }
            Ok(())
        })
        .await
    }

    /// The authority that a name stood for last, of a provider that the live edition has no more.
    pub async fn authority_named(&self, provider: &str) -> Result<Option<String>, StoreError> {
        let mut conn = self.conn().await?;
        let of = sessions::table.filter(sessions::provider.eq(provider)).order(sessions::began.desc());
        let last = of.select(sessions::authority).first::<String>(&mut conn).await.optional()?;
        let named = factors::table.filter(factors::provider.eq(provider)).order(factors::created_at.desc());
        Ok(match last {
            Some(last) => Some(last),
            None => named.select(factors::authority).first(&mut conn).await.optional()?,
        })
    }

    /// What stands on an authority now.
    pub async fn stands_on(&self, authority: &str, now: Moment) -> Result<StandsOn, StoreError> {
        let mut conn = self.conn().await?;
        let row = diesel::sql_query(
            "SELECT (SELECT count(*) FROM sessions WHERE authority = $1 AND ended_at IS NULL)::bigint AS sessions, \
             (SELECT count(DISTINCT subject) FROM factors WHERE authority = $1)::bigint AS factors, \
             ((SELECT count(*) FROM personal_tokens WHERE authority = $1 AND expires_at > $2) + \
              (SELECT count(*) FROM tokens WHERE owner_authority = $1 AND revoked_at IS NULL AND (expires_at IS NULL OR expires_at > $2)))::bigint AS tokens",
        );
        Ok(row.bind::<Text, _>(authority).bind::<Timestamptz, _>(now).get_result(&mut conn).await?)
    }
}

/// Ends what stood on authorities that an edition knows by their names no more; what people keep moves where it is the same party at
/// another address. Factors stay where they are: without their issuer they open nothing, and they are there when an edition goes back.
pub(crate) async fn turn(conn: &mut AsyncPgConnection, turned: &[Turned], at: Moment) -> Result<Vec<Uuid>, StoreError> {
    let mut ended = vec![];
    for t in turned {
        let counter = raise_counter(conn).await?;
        let live = sessions::table.filter(sessions::authority.eq(&t.before)).filter(sessions::ended_at.is_null());
        let ids: Vec<Uuid> = diesel::update(live)
            .set((
                sessions::ended_at.eq(at),
                sessions::ended_by.eq("another issuer"),
                sessions::revocation.eq(counter),
                sessions::hint.eq(None::<Vec<u8>>),
                sessions::kept.eq(None::<Vec<u8>>),
            ))
            .returning(sessions::id)
            .get_results(conn)
            .await?;
        ended.extend(ids);
        if t.moves {
            for (table, _, authority) in KEPT {
                let sql = format!("UPDATE {table} SET {authority} = $2 WHERE {authority} = $1");
                diesel::sql_query(sql).bind::<Text, _>(&t.before).bind::<Text, _>(&t.after).execute(conn).await?;
            }
            continue;
        }
        for sql in ["DELETE FROM personal_tokens WHERE authority = $1", "DELETE FROM device_codes WHERE owner_authority = $1"] {
            diesel::sql_query(sql).bind::<Text, _>(&t.before).execute(conn).await?;
        }
        diesel::sql_query("UPDATE tokens SET revoked_at = $2 WHERE owner_authority = $1 AND revoked_at IS NULL")
            .bind::<Text, _>(&t.before)
            .bind::<Timestamptz, _>(at)
            .execute(conn)
            .await?;
    }
    Ok(ended)
}

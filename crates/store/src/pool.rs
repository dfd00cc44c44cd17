//! The connection pool, migrations, and the one place where database errors become ours.

use std::time::Duration;

use diesel::migration::{Migration, MigrationSource};
use diesel::pg::Pg;
use diesel_async::pooled_connection::AsyncDieselConnectionManager;
use diesel_async::pooled_connection::bb8;
use diesel_async::{AsyncConnection, AsyncMigrationHarness, AsyncPgConnection, RunQueryDsl};
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();
/// How often the first connection is tried, each for three seconds.
const OPEN_TRIES: u32 = 10;
/// The advisory lock under which nodes that start together migrate one after the other ("passeur" as a number).
const MIGRATION_LOCK: i64 = 0x0070_6173_7365_7572;

/// Why the store could not answer. Never holds the connection URL.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum StoreError {
    /// The database cannot be reached or did not answer in time.
    #[error("PostgreSQL does not answer: {0}")]
    Unavailable(String),
    /// The row is there already, or changed meanwhile.
    #[error("it was changed or made by someone else meanwhile")]
    Conflict,
    /// The database was migrated by a newer binary.
    #[error("the database was written by a newer version of Passeur (migration {0}); start that one")]
    Newer(String),
    /// A value that no text of the database can hold: it has a NUL character.
    #[error("a value holds a NUL character, which cannot be stored or looked for")]
    Unfit,
    /// Anything else: a bug of ours or a damaged database.
    #[error("PostgreSQL refused a query: {0}")]
    Query(String),
}

impl From<diesel::result::Error> for StoreError {
    fn from(e: diesel::result::Error) -> StoreError {
        use diesel::result::DatabaseErrorKind::{ClosedConnection, SerializationFailure, UniqueViolation};
        use diesel::result::Error::DatabaseError;
        match e {
            DatabaseError(UniqueViolation | SerializationFailure, _) => StoreError::Conflict,
            DatabaseError(ClosedConnection, info) => StoreError::Unavailable(info.message().to_owned()),
            // PostgreSQL has a code for it (22021) that the driver does not hand on.
            DatabaseError(_, info) if is_nul(info.message()) => StoreError::Unfit,
            other => StoreError::Query(other.to_string()),
        }
    }
}

/// Whatever language the server speaks: the byte and the encoding are named in each.
fn is_nul(message: &str) -> bool {
    message.contains("UTF8") && message.contains("0x00")
}

pub(crate) type Pool = bb8::Pool<AsyncPgConnection>;
pub(crate) type Conn<'a> = bb8::PooledConnection<'a, AsyncPgConnection>;

/// Access to everything kept. Cheap to clone.
#[derive(Clone)]
pub struct Store {
    pool: Pool,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Store { pool: _ } = self;
        f.write_str("Store")
    }
}

impl Store {
    /// Connects and brings the database to this binary's migration.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when PostgreSQL cannot be reached, [`StoreError::Newer`] when a newer binary owns it.
    pub async fn open(url: &str, connections: u32) -> Result<Store, StoreError> {
        migrate(url).await?;
        let store = Store::connect(url, connections).await?;
        // At start the first connection may take longer than a person should wait later: machines start slowly together.
        for _ in 1..OPEN_TRIES {
            match store.ping().await {
                Err(StoreError::Unavailable(why)) => tracing::warn!(why, "the store does not answer yet"),
                done => return done.map(|()| store),
            }
        }
        store.ping().await.map(|()| store)
    }

    /// More connections to a database that [`Store::open`] has brought to this binary's migration. They belong to the runtime that
    /// this is called on, and are made when they are asked for.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] where the address is none.
    pub async fn connect(url: &str, connections: u32) -> Result<Store, StoreError> {
        let manager = AsyncDieselConnectionManager::<AsyncPgConnection>::new(with_limits(url));
        let pool = Pool::builder()
            .max_size(connections)
            .connection_timeout(Duration::from_secs(3))
            .build(manager)
            .await
            .map_err(|e| StoreError::Unavailable(e.to_string()))?;
        Ok(Store { pool })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::sql_query("SELECT 1").execute(&mut conn).await?;
        Ok(())
    }

    pub(crate) async fn conn(&self) -> Result<Conn<'_>, StoreError> {
        self.pool.get().await.map_err(|e| StoreError::Unavailable(e.to_string()))
    }
}

/// How soon a connection is given up whose other end says nothing more: a machine that lost its power, a firewall that forgot. Whoever
/// writes their own into the address is followed.
const LIMITS: [(&str, &str); 5] = [
    ("connect_timeout", "3"),
    ("tcp_user_timeout", "10"),
    ("keepalives_idle", "10"),
    ("keepalives_interval", "3"),
    ("keepalives_retries", "3"),
];

fn with_limits(url: &str) -> String {
    let is_address = url.starts_with("postgres://") || url.starts_with("postgresql://");
    LIMITS.iter().filter(|(name, _)| !url.contains(&format!("{name}="))).fold(url.to_owned(), |out, (name, value)| {
        let joint = match (is_address, out.contains('?')) {
            (true, false) => '?',
            (true, true) => '&',
            (false, _) => ' ',
        };
        format!("{out}{joint}{name}={value}")
    })
}

async fn migrate(url: &str) -> Result<(), StoreError> {
    let mut conn = AsyncPgConnection::establish(url).await.map_err(|e| StoreError::Unavailable(e.to_string()))?;
    diesel::sql_query("SELECT pg_advisory_lock($1)")
        .bind::<diesel::sql_types::BigInt, _>(MIGRATION_LOCK)
        .execute(&mut conn)
        .await?;
    // The harness needs a blocking context; the lock goes with the connection when this function returns.
    tokio::task::spawn_blocking(move || {
        let mut harness = AsyncMigrationHarness::new(conn);
        let ours: Vec<String> = MigrationSource::<Pg>::migrations(&MIGRATIONS)
            .map_err(|e| StoreError::Query(e.to_string()))?
            .iter()
            .map(|m| Migration::<Pg>::name(m).version().to_string())
            .collect();
        let applied = harness.applied_migrations().map_err(|e| StoreError::Query(e.to_string()))?;
        if let Some(unknown) = applied.iter().map(ToString::to_string).find(|v| !ours.contains(v)) {
            return Err(StoreError::Newer(unknown));
        }
        harness.run_pending_migrations(MIGRATIONS).map(|_| ()).map_err(|e| StoreError::Query(e.to_string()))
    })
    .await
    .map_err(|e| StoreError::Query(e.to_string()))?
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_database_that_falls_silent_is_given_up_on_in_time() {
        use std::time::Duration;
        for url in ["postgres://p:x@127.0.0.1:5432/passeur", "postgresql://h/d?sslmode=disable", "host=h user=u dbname=d"] {
            let config: tokio_postgres::Config = with_limits(url).parse().unwrap();
            assert_eq!(config.get_tcp_user_timeout(), Some(&Duration::from_secs(10)), "{url}");
            assert_eq!(config.get_connect_timeout(), Some(&Duration::from_secs(3)), "{url}");
            assert_eq!(config.get_keepalives_idle(), Duration::from_secs(10), "{url}");
        }
        let own: tokio_postgres::Config = with_limits("postgres://h/d?connect_timeout=9").parse().unwrap();
        assert_eq!(own.get_connect_timeout(), Some(&Duration::from_secs(9)));
    }
}

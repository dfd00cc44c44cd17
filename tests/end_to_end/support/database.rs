//! A database per test, cloned from a template that is migrated once, and dropped by a guard that survives unwinding.

use std::sync::atomic::{AtomicU32, Ordering};

use tokio::sync::OnceCell;
use tokio_postgres::{Client, NoTls};

use super::env;

static TEMPLATE: OnceCell<String> = OnceCell::const_new();
static NEXT: AtomicU32 = AtomicU32::new(1);

/// A database of its own.
pub struct Database {
    pub url: String,
    name: String,
}

fn url(name: &str) -> String {
    format!("{}/{name}", env("PASSEUR_TEST_POSTGRES"))
}

pub async fn connect(url: &str) -> Client {
    let (client, connection) = tokio_postgres::connect(url, NoTls).await.unwrap();
    tokio::spawn(connection);
    client
}

async fn template() -> String {
    let name = format!("template_{}", std::process::id());
    let admin = connect(&url("postgres")).await;
    admin.batch_execute(&format!("CREATE DATABASE {name}")).await.unwrap();
    drop(passeur_store::Store::open(&url(&name), 1).await.unwrap());
    // A template can only be cloned when nobody is connected to it.
    while admin.query_one("SELECT count(*) FROM pg_stat_activity WHERE datname = $1", &[&name]).await.unwrap().get::<_, i64>(0)
        > 0
    {
        tokio::task::yield_now().await;
    }
    name
}

impl Database {
    pub async fn new() -> Database {
        let template = TEMPLATE.get_or_init(template).await;
        let name = format!("t_{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        let admin = connect(&url("postgres")).await;
        admin.batch_execute(&format!("CREATE DATABASE {name} TEMPLATE {template}")).await.unwrap();
        Database { url: url(&name), name }
    }

    /// A connection to look with.
    pub async fn look(&self) -> Client {
        connect(&self.url).await
    }

    /// Closes every connection and refuses new ones, as a database that went away would.
    pub async fn shut(&self) {
        let admin = connect(&url("postgres")).await;
        let shut = format!("ALTER DATABASE {} ALLOW_CONNECTIONS false", self.name);
        admin.batch_execute(&shut).await.unwrap();
        admin.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1", &[&self.name]).await.unwrap();
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        let name = self.name.clone();
        let _ = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let admin = connect(&url("postgres")).await;
                let _ = admin.batch_execute(&format!("DROP DATABASE IF EXISTS {name} WITH (FORCE)")).await;
            });
        })
        .join();
    }
}

//! Keys of the ring that this database was sealed with, what still stands under each, and sealing it anew. The keys themselves are never here.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Binary, Integer, Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::acts::{BEGINNING, Walk, relink};
use passeur_core::seal::Ring;

use crate::acts::{Recorded, append, every_act, put_links};
use crate::pool::{Store, StoreError};
use crate::schema::{acts_head, recovery_codes, ring_keys};

/// A key that this database knows.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct RingKeyRow {
    pub number: i32,
    pub proof: Vec<u8>,
    pub seen_at: Moment,
    pub retired_at: Option<Moment>,
}

/// What is sealed under a key.
#[derive(Clone, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct Sealed {
    #[diesel(sql_type = BigInt)]
    pub secrets: i64,
    #[diesel(sql_type = BigInt)]
    pub factors: i64,
    #[diesel(sql_type = BigInt)]
    pub sessions: i64,
    #[diesel(sql_type = BigInt)]
    pub recovery_codes: i64,
    #[diesel(sql_type = BigInt)]
    pub acts: i64,
}

/// What a sealed column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Holds {
    Secret,
    Factor,
    SessionHint,
    Kept,
}

/// Every column of sealed bytes: what it holds, its table, the row's id as text, the column.
const COLUMNS: [(Holds, &str, &str, &str); 4] = [
    (Holds::Secret, "secret_versions", "name || '/' || version", "sealed"),
    (Holds::Factor, "factors", "id::text", "sealed"),
    (Holds::SessionHint, "sessions", "id::text", "hint"),
    (Holds::Kept, "sessions", "id::text", "kept"),
];

#[derive(QueryableByName)]
struct Row {
    #[diesel(sql_type = Text)]
    id: String,
    #[diesel(sql_type = Binary)]
    sealed: Vec<u8>,
}

/// Why a key was not retired.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotRetired {
    /// Something cannot be opened, such as with a key that is not in the ring.
    NotOpened { what: String },
    /// The record of acts does not hold; it must not be linked anew.
    ActsBroken { number: i64 },
}

/// Opens what was sealed and seals it anew: what it holds, its id, the bytes. None where it cannot be opened.
pub type Reseal<'a> = dyn Fn(Holds, &str, &[u8]) -> Option<Vec<u8>> + Send + Sync + 'a;

fn under(column: &str) -> String {
    format!("{column} IS NOT NULL AND length({column}) > 2 AND get_byte({column}, 0) * 256 + get_byte({column}, 1) = $1")
}

impl Store {
    /// Keys that this database was sealed with, in order.
    pub async fn ring_keys(&self) -> Result<Vec<RingKeyRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(ring_keys::table.order(ring_keys::number).load(&mut conn).await?)
    }

    /// Notes a key that is new here. What was noted before stays.
    pub async fn note_ring_key(&self, number: u16, proof: [u8; 32], at: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let row = (ring_keys::number.eq(i32::from(number)), ring_keys::proof.eq(proof.to_vec()), ring_keys::seen_at.eq(at));
        diesel::insert_into(ring_keys::table).values(row).on_conflict_do_nothing().execute(&mut conn).await?;
        Ok(())
    }

    /// What is sealed under a key, or linked with it.
    pub async fn sealed_under(&self, number: u16) -> Result<Sealed, StoreError> {
        let mut conn = self.conn().await?;
        counted(&mut conn, number).await
    }

    /// Something sealed under a key, to try a key with that nobody noted: what it holds, its id and the bytes.
    pub async fn sample_under(&self, number: u16) -> Result<Option<(Holds, String, Vec<u8>)>, StoreError> {
        let mut conn = self.conn().await?;
        for (holds, table, id, column) in COLUMNS {
            let sql = format!("SELECT {id} AS id, {column} AS sealed FROM {table} WHERE {} LIMIT 1", under(column));
            let row: Option<Row> =
                diesel::sql_query(sql).bind::<Integer, _>(i32::from(number)).get_result(&mut conn).await.optional()?;
            if let Some(row) = row {
                return Ok(Some((holds, row.id, row.sealed)));
            }
        }
        Ok(None)
    }

    /// Seals everything anew that stands under a key, links the acts anew, and retires the key: all of it, or nothing. Recovery codes
    /// cannot be sealed anew, since nobody knows them; those under the key are taken away.
    pub async fn retire_ring_key(
        &self,
        number: u16,
        ring: &Ring,
        reseal: &Reseal<'_>,
        act: Recorded<'_>,
    ) -> Result<Result<Sealed, NotRetired>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let at = act.act.at;
            // Nothing is sealed or linked beside this: writers of each table wait.
            diesel::sql_query("LOCK TABLE secret_versions, factors, sessions, recovery_codes IN SHARE ROW EXCLUSIVE MODE")
                .execute(conn)
                .await?;
            let before = counted(conn, number).await?;
            for (holds, table, id, column) in COLUMNS {
                let sql = format!("SELECT {id} AS id, {column} AS sealed FROM {table} WHERE {}", under(column));
                let rows: Vec<Row> = diesel::sql_query(sql).bind::<Integer, _>(i32::from(number)).load(conn).await?;
                for row in rows {
                    let Some(anew) = reseal(holds, &row.id, &row.sealed) else {
                        return Ok(Err(NotRetired::NotOpened { what: format!("{table} {}", row.id) }));
                    };
                    let sql = format!("UPDATE {table} SET {column} = $1 WHERE {id} = $2");
                    diesel::sql_query(sql).bind::<Binary, _>(anew).bind::<Text, _>(row.id).execute(conn).await?;
                }
            }
            let codes = recovery_codes::table.filter(recovery_codes::key.eq_any([i32::from(number), 0]));
            diesel::delete(codes).execute(conn).await?;
            let _: i64 = acts_head::table.select(acts_head::number).for_update().first(conn).await?;
            if let Err(broken) = link_anew(conn, ring).await? {
                return Ok(Err(broken));
            }
            diesel::update(ring_keys::table.find(i32::from(number))).set(ring_keys::retired_at.eq(at)).execute(conn).await?;
            append(conn, act).await?;
            Ok(Ok(before))
        })
        .await
    }
}

async fn counted(conn: &mut AsyncPgConnection, number: u16) -> Result<Sealed, StoreError> {
    let count = |table: &str, column: &str| format!("(SELECT count(*) FROM {table} WHERE {})::bigint", under(column));
    let either = format!("(SELECT count(*) FROM sessions WHERE ({}) OR ({}))::bigint", under("hint"), under("kept"));
    let sql = format!(
        "SELECT {} AS secrets, {} AS factors, {either} AS sessions, \
         (SELECT count(*) FROM recovery_codes WHERE key IN ($1, 0))::bigint AS recovery_codes, \
         (SELECT count(*) FROM acts WHERE key = $1)::bigint AS acts",
        count("secret_versions", "sealed"),
        count("factors", "sealed"),
    );
    Ok(diesel::sql_query(sql).bind::<Integer, _>(i32::from(number)).get_result(conn).await?)
}

/// Walks the chain of acts and links each to the one before it under the newest key.
async fn link_anew(conn: &mut AsyncPgConnection, ring: &Ring) -> Result<Result<(), NotRetired>, StoreError> {
    let all = every_act(conn).await?;
    let mut walk = Walk::new(None);
    if let Some(b) = all.iter().find_map(|a| walk.step(ring, a).err()) {
        return Ok(Err(NotRetired::ActsBroken { number: b.number }));
    }
    let mut head = BEGINNING;
    let mut anew = Vec::with_capacity(all.len());
    for act in all {
        let linked = relink(ring, &head, act);
        head = linked.mac;
        anew.push(linked);
    }
    put_links(conn, anew, head).await?;
    Ok(Ok(()))
}

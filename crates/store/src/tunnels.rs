//! Tunnels that wait for their person, and codes for clients that can only ask a question.

use diesel::prelude::*;
use diesel_async::{AsyncConnection, RunQueryDsl};
use passeur_core::Moment;
use serde_json::Value;
use uuid::Uuid;

use crate::bounded::Bounded;
use crate::pool::{Store, StoreError};
use crate::schema::{sessions, tunnel_asks, tunnel_codes};

/// Those that wait at once.
const BOUNDS: Bounded = Bounded { table: "tunnel_asks", key: "digest", of_network: 60, in_all: 2_000 };

/// A tunnel that waits for its person.
#[derive(Clone, Debug, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = tunnel_asks)]
pub struct TunnelAskRow {
    /// Of the token in the address that the client opened.
    pub digest: Vec<u8>,
    /// The node whose VPN server it came to.
    pub node: String,
    pub gate: String,
    /// What is known of the tunnel, as presences keep it.
    pub tunnel: Value,
    /// The network that the client comes from, by which those that wait are bounded.
    pub network: String,
    pub created_at: Moment,
    pub expires_at: Moment,
    pub session_id: Option<Uuid>,
    pub browser: Option<String>,
    pub refused: bool,
    pub outcome: Option<Value>,
}

impl Store {
    /// Keeps a tunnel that begins to wait. False where too many do.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn ask_for_tunnel(&self, row: TunnelAskRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        if BOUNDS.make_room(&mut conn, &row.network, row.created_at).await?.is_err() {
            return Ok(false);
        }
        diesel::insert_into(tunnel_asks::table).values(&row).execute(&mut conn).await?;
        Ok(true)
    }

    /// The tunnel of a token; none where its time is over.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn tunnel_ask(&self, digest: &[u8; 32], now: Moment) -> Result<Option<TunnelAskRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = tunnel_asks::table.find(digest.as_slice()).filter(tunnel_asks::expires_at.gt(now));
        Ok(of.select(TunnelAskRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Somebody says in their browser that a tunnel is theirs, or that it is not. Once: false where it was said before, or time is over.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn answer_tunnel(
        &self,
        digest: &[u8; 32],
        session: Option<Uuid>,
        browser: &str,
        now: Moment,
    ) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let of = tunnel_asks::table
            .find(digest.as_slice())
            .filter(tunnel_asks::expires_at.gt(now))
            .filter(tunnel_asks::session_id.is_null())
            .filter(tunnel_asks::refused.eq(false))
            .filter(tunnel_asks::outcome.is_null());
        let set =
            (tunnel_asks::session_id.eq(session), tunnel_asks::browser.eq(browser), tunnel_asks::refused.eq(session.is_none()));
        Ok(diesel::update(of).set(set).execute(&mut conn).await? == 1)
    }

    /// Tunnels of a node that were answered for, and of which nothing came yet.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn answered_tunnels(&self, node: &str, now: Moment) -> Result<Vec<TunnelAskRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = tunnel_asks::table
            .filter(tunnel_asks::node.eq(node))
            .filter(tunnel_asks::outcome.is_null())
            .filter(tunnel_asks::expires_at.gt(now))
            .filter(tunnel_asks::session_id.is_not_null().or(tunnel_asks::refused.eq(true)));
        Ok(of.select(TunnelAskRow::as_select()).load(&mut conn).await?)
    }

    /// Writes what came of a tunnel, the first time.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn tunnel_came_to(&self, digest: &[u8], outcome: Value) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let of = tunnel_asks::table.find(digest).filter(tunnel_asks::outcome.is_null());
        diesel::update(of).set(tunnel_asks::outcome.eq(outcome)).execute(&mut conn).await?;
        Ok(())
    }

    /// Keeps a code that somebody reads to their client, in the place of the one before. False where their session is over.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn give_tunnel_code(&self, code: &[u8; 32], gate: &str, session: Uuid, until: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let ended = sessions::table.find(session).select(sessions::ended_at).for_share();
            if !matches!(ended.first::<Option<Moment>>(conn).await.optional()?, Some(None)) {
                return Ok(false);
            }
            diesel::delete(tunnel_codes::table.filter(tunnel_codes::session_id.eq(session))).execute(conn).await?;
            let row = (
                tunnel_codes::code.eq(code.as_slice()),
                tunnel_codes::gate.eq(gate),
                tunnel_codes::session_id.eq(session),
                tunnel_codes::expires_at.eq(until),
            );
            diesel::insert_into(tunnel_codes::table).values(row).execute(conn).await?;
            Ok(true)
        })
        .await
    }

    /// Takes the code that a client sends, whichever key of the ring it was made under: it is used up. The session of whoever read it out.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn take_tunnel_code(&self, codes: &[[u8; 32]], gate: &str, now: Moment) -> Result<Option<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        let any: Vec<Vec<u8>> = codes.iter().map(|c| c.to_vec()).collect();
        let of = tunnel_codes::table
            .filter(tunnel_codes::code.eq_any(any))
            .filter(tunnel_codes::gate.eq(gate))
            .filter(tunnel_codes::expires_at.gt(now));
        Ok(diesel::delete(of).returning(tunnel_codes::session_id).get_result(&mut conn).await.optional()?)
    }
}

//! Sessions at RADIUS clients: what names them there, what the client was told, what it tells of them (RFC 2866), and orders about them
//! (RFC 5176). Each stands beside a presence, so that whoever asks who is on, or who had an address, finds them there.

use std::collections::BTreeSet;
use std::net::IpAddr;

use diesel::prelude::*;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::account::{Account, News, Report};
use serde::Deserialize;
use serde_json::Value;
use uuid::Uuid;

use crate::people::lock;
use crate::pool::{Store, StoreError};
use crate::presences::{Entered, PresenceAddress, PresenceRow, WhileOn, count, end, open_of};
use crate::schema::{presence_addresses, presences, radius_sessions, sessions};

/// A session at a RADIUS client.
#[derive(Clone, Debug, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = radius_sessions)]
pub struct RadiusRow {
    pub presence: Uuid,
    pub client: String,
    /// What the client calls itself.
    pub nas: String,
    /// The number that it gives the session; none before it says one.
    pub acct: Option<String>,
    /// The address that it sends from.
    pub sends_from: String,
    /// What else names the session in an order: `user`, `calling`, and `attributes` as numbers with octets in hexadecimal.
    pub known_by: Value,
    /// What the client was told last, in words.
    pub given: Value,
    /// What it tells, as an [`Account`].
    pub account: Value,
    /// The last order about it, and what came of that.
    pub ordered: Option<Value>,
}

impl RadiusRow {
    /// What the client tells of it. What cannot be read counts as nothing told.
    pub fn account(&self) -> Account {
        Account::deserialize(&self.account).unwrap_or_default()
    }
}

/// What became of a report.
#[derive(Clone, Debug, PartialEq)]
pub enum Reported {
    /// It is of this session; with what is known after it.
    Of { row: Box<PresenceRow>, after: Account, change: Change },
    /// Nobody was let in for it, and as many such sessions are known as may be.
    Full,
}

/// What a report changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// Nobody here let anybody in for it: it is listed as somebody unknown.
    Unknown,
    /// Only numbers.
    None,
    /// The first news of it.
    Began,
    /// It is over.
    Over,
    /// It was over here, and goes on at the client.
    GoesOn,
    /// Its addresses are others.
    Addresses,
}

impl Store {
    /// Keeps a session that a client is about to be told to open, in the place of another of the same machine there. With `most`, a person has at
    /// most so many on at the gate, wherever those are.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn enter_at_client(&self, row: &PresenceRow, at: &RadiusRow, most: Option<u16>) -> Result<Entered, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            lock(conn, &[row.person()]).await?;
            let ended = sessions::table.filter(sessions::id.nullable().eq(row.session_id)).select(sessions::ended_at).for_share();
            if !matches!(ended.first::<Option<Moment>>(conn).await.optional()?, Some(None)) {
                return Ok(Entered::Over);
            }
            let before = before_of(conn, row, at).await?;
            if let Some(most) = most {
                let mut others = open_of(conn, row).await?;
                others.retain(|o| !before.contains(&o.id));
                if others.len() >= usize::from(most) {
                    return Ok(Entered::Full(others));
                }
            }
            let moved = end(conn, &before, row.began, "asked-again").await?;
            diesel::insert_into(presences::table).values(row).execute(conn).await?;
            diesel::insert_into(radius_sessions::table).values(at).execute(conn).await?;
            Ok(Entered::On { moved })
        })
        .await
    }

    /// What may pass for the person of a session within a day is another now.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn quota_at_client(&self, id: Uuid, quota: Option<i64>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::update(presences::table.find(id)).set(presences::quota.eq(quota)).execute(&mut conn).await?;
        Ok(())
    }

    /// Takes what a client tells of a session: `said` is how it names it, and `class` the number that it was given with the answer that let somebody in.
    /// `unknown` is kept where nobody was let in for it, of which there may be `most` at a time for a client.
    ///
    /// # Errors
    /// Those of the database: the client tells it again.
    pub async fn take_report(
        &self,
        class: Option<Uuid>,
        report: &Report,
        (unknown, said): (PresenceRow, RadiusRow),
        most: i64,
    ) -> Result<Reported, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            // News of one session come one after the other, whichever nodes they come to.
            diesel::sql_query("SELECT pg_advisory_xact_lock(hashtextextended($1, 2866))")
                .bind::<diesel::sql_types::Text, _>(format!("{}\n{}\n{:?}", said.client, said.nas, said.acct))
                .execute(conn)
                .await?;
            let (mut change, (mut row, at)) = match find(conn, class, report, &said).await? {
                Some(found) => (Change::None, found),
                None => {
                    let open = radius_sessions::table
                        .inner_join(presences::table)
                        .filter(radius_sessions::client.eq(&said.client))
                        .filter(presences::session_id.is_null())
                        .filter(presences::ended_at.is_null());
                    if open.count().get_result::<i64>(conn).await? >= most {
                        return Ok(Reported::Full);
                    }
                    diesel::insert_into(presences::table).values(&unknown).execute(conn).await?;
                    diesel::insert_into(radius_sessions::table).values(&said).execute(conn).await?;
                    (Change::Unknown, (unknown, said.clone()))
                }
            };
            let before = at.account();
            let after = before.clone().with(report);
            keep(conn, &at, &said, &after).await?;
            count(conn, &[(row.id, whole(after.up), whole(after.down))], report.at, WhileOn::OrOver).await?;
            if change == Change::None && before.heard.is_none() {
                change = Change::Began;
            }
            let since = report.lasted.and_then(|lasted| report.at.checked_sub_signed(lasted)).unwrap_or(report.at);
            if addresses(conn, &mut row, &after.addresses, (since, report.at)).await? && change == Change::None {
                change = Change::Addresses;
            }
            let is_open = row.ended_at.is_none();
            if after.is_over() && is_open {
                let at = report.at.max(row.began);
                let why = why_over(conn, &row).await?;
                end(conn, &[row.id], at, why).await?;
                row.ended_at = Some(at);
                // Somebody nobody knew, and who is gone, is told as such.
                if change != Change::Unknown {
                    change = Change::Over;
                }
            } else if goes_on(&row, &before, report) && !after.is_over() {
                diesel::update(presences::table.find(row.id))
                    .set((presences::ended_at.eq(None::<Moment>), presences::ended_by.eq(None::<String>)))
                    .execute(conn)
                    .await?;
                row.ended_at = None;
                change = Change::GoesOn;
            }
            Ok(Reported::Of { row: Box::new(row), after, change })
        })
        .await
    }

    /// A client began anew, or is about to end (Accounting-On and -Off, RFC 2866 section 5.1): nothing of before is on there. What was.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn client_began_anew(&self, client: &str, nas: &str, at: Moment) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let open = radius_sessions::table
                .inner_join(presences::table)
                .filter(radius_sessions::client.eq(client))
                .filter(radius_sessions::nas.eq(nas))
                .filter(presences::ended_at.is_null())
                .filter(presences::began.le(at));
            let ids: Vec<Uuid> = open.select(presences::id).load(conn).await?;
            end(conn, &ids, at, "client-anew").await
        })
        .await
    }

    /// Sessions that are open at clients, and that a node looks after.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn at_clients_of(&self, node: &str) -> Result<Vec<Uuid>, StoreError> {
        let mut conn = self.conn().await?;
        let open = presences::table
            .filter(presences::node.eq(node))
            .filter(presences::interface.eq(""))
            .filter(presences::ended_at.is_null());
        Ok(open.select(presences::id).load(&mut conn).await?)
    }

    /// Sessions at clients by their numbers.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn at_clients(&self, ids: &[Uuid]) -> Result<Vec<(PresenceRow, RadiusRow)>, StoreError> {
        let mut conn = self.conn().await?;
        let of = radius_sessions::table.inner_join(presences::table).filter(radius_sessions::presence.eq_any(ids));
        Ok(of.select((PresenceRow::as_select(), RadiusRow::as_select())).load(&mut conn).await?)
    }

    /// Has a node look after sessions at clients whose node was not seen since a moment. How many.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn adopt_at_clients(&self, node: &str, seen_since: Moment) -> Result<usize, StoreError> {
        let mut conn = self.conn().await?;
        let of = diesel::sql_query(
            "UPDATE presences SET node = $1 WHERE interface = '' AND ended_at IS NULL AND node <> $1 \
             AND node NOT IN (SELECT name FROM nodes WHERE seen_at >= $2)",
        )
        .bind::<diesel::sql_types::Text, _>(node)
        .bind::<diesel::sql_types::Timestamptz, _>(seen_since);
        Ok(of.execute(&mut conn).await?)
    }

    /// Writes the last order about a session, and what came of it.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn order_at_client(&self, presence: Uuid, ordered: &Value) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let of = diesel::update(radius_sessions::table.find(presence));
        of.set(radius_sessions::ordered.eq(Some(ordered))).execute(&mut conn).await?;
        Ok(())
    }

    /// Writes what a client was told last of a session.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn given_at_client(&self, row: &PresenceRow, given: &Value) -> Result<(), StoreError> {
        self.redecided(row).await?;
        let mut conn = self.conn().await?;
        diesel::update(radius_sessions::table.find(row.id)).set(radius_sessions::given.eq(given)).execute(&mut conn).await?;
        Ok(())
    }

    /// For each client, how many sessions are open there that should not be, and when it told anything last.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn told_by_clients(&self) -> Result<Vec<ToldBy>, StoreError> {
        let mut conn = self.conn().await?;
        let of = diesel::sql_query(
            "SELECT r.client, count(*) FILTER (WHERE p.ended_at IS NULL AND p.session_id IS NULL) AS unknown, \
             count(*) FILTER (WHERE p.ended_at IS NULL AND r.ordered->>'state' IN ('silent', 'refused')) AS disobeyed, \
             count(*) FILTER (WHERE p.ended_at IS NULL AND r.ordered->>'state' = 'none') AS untold, \
             max((r.account->>'heard')::timestamptz) AS heard, \
             (array_agg((r.account->>'ahead')::bigint ORDER BY r.account->>'heard' DESC NULLS LAST))[1] AS ahead, \
             max(p.began) FILTER (WHERE p.session_id IS NOT NULL) AS let_in \
             FROM radius_sessions r JOIN presences p ON p.id = r.presence GROUP BY r.client ORDER BY r.client",
        );
        Ok(of.load(&mut conn).await?)
    }

    /// For each client, when it asked last at one of these gates what was proven, and how many of its requests were not since a
    /// moment.
    ///
    /// # Errors
    /// Those of the database.
    pub async fn asked_by_clients(&self, gates: &[&str], since: Moment) -> Result<Vec<AskedBy>, StoreError> {
        let mut conn = self.conn().await?;
        let of = diesel::sql_query(
            "SELECT split_part(target, '/', 2) AS client, \
             max(at) FILTER (WHERE deciding->>'code' NOT IN ('radius.unproven', 'radius.no-secret', 'radius.unreadable', \
                 'radius.certificate', 'radius.no-tls', 'radius.wants-tls')) AS asked, \
             count(*) FILTER (WHERE deciding->>'code' IN ('radius.unproven', 'radius.no-secret', 'radius.certificate', \
                 'radius.no-tls', 'radius.wants-tls') AND at > $1) AS unproven \
             FROM crossings WHERE gate = ANY($3) AND method = $2 AND target LIKE '/%' GROUP BY 1",
        )
        .bind::<diesel::sql_types::Timestamptz, _>(since)
        .bind::<diesel::sql_types::Text, _>(passeur_core::tunnel::METHOD)
        .bind::<diesel::sql_types::Array<diesel::sql_types::Text>, _>(gates);
        Ok(of.load(&mut conn).await?)
    }
}

/// What a client asked.
#[derive(Clone, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct AskedBy {
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub client: String,
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Timestamptz>)]
    pub asked: Option<Moment>,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub unproven: i64,
}

/// What is known of a client by the sessions there.
#[derive(Clone, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct ToldBy {
    #[diesel(sql_type = diesel::sql_types::Text)]
    pub client: String,
    /// Sessions that are open there, and for which nobody here let anybody in.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub unknown: i64,
    /// Those that it was ordered to end or change, without doing so.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub disobeyed: i64,
    /// Those that are over here, and of which it cannot be told.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub untold: i64,
    /// When it told anything last.
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Timestamptz>)]
    pub heard: Option<Moment>,
    /// By how many seconds its clock is ahead, as it said last.
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::BigInt>)]
    pub ahead: Option<i64>,
    /// When somebody was let in there last.
    #[diesel(sql_type = diesel::sql_types::Nullable<diesel::sql_types::Timestamptz>)]
    pub let_in: Option<Moment>,
}

/// Machines that give way to one that asks again: of the same session at the client, or of the same person from the same place there, of which
/// nothing was told yet.
async fn before_of(conn: &mut AsyncPgConnection, row: &PresenceRow, at: &RadiusRow) -> Result<Vec<Uuid>, StoreError> {
    let open = radius_sessions::table
        .inner_join(presences::table)
        .filter(radius_sessions::client.eq(&at.client))
        .filter(radius_sessions::nas.eq(&at.nas))
        .filter(presences::authority.eq(&row.authority))
        .filter(presences::subject.eq(&row.subject))
        .filter(presences::ended_at.is_null())
        .select(RadiusRow::as_select());
    let open: Vec<RadiusRow> = open.load(conn).await?;
    let gives_way = |old: &RadiusRow| match (&old.acct, &at.acct) {
        (Some(old), Some(new)) => old == new,
        _ => {
            old.account().heard.is_none()
                && !old.known_by["calling"].is_null()
                && old.known_by["calling"] == at.known_by["calling"]
        }
    };
    Ok(open.iter().filter(|old| gives_way(old)).map(|old| old.presence).collect())
}

/// The session that a report is of. One of another client is never it, whatever number is said.
async fn find(
    conn: &mut AsyncPgConnection,
    class: Option<Uuid>,
    report: &Report,
    said: &RadiusRow,
) -> Result<Option<(PresenceRow, RadiusRow)>, StoreError> {
    let of = || {
        let both = radius_sessions::table.inner_join(presences::table).filter(radius_sessions::client.eq(&said.client));
        both.select((PresenceRow::as_select(), RadiusRow::as_select()))
    };
    if let Some(class) = class {
        let found: Option<(PresenceRow, RadiusRow)> =
            of().filter(radius_sessions::presence.eq(class)).first(conn).await.optional()?;
        if found.is_some() {
            return Ok(found);
        }
    }
    let by_number = of().filter(radius_sessions::nas.eq(&said.nas)).filter(radius_sessions::acct.eq(&said.acct));
    let found: Option<(PresenceRow, RadiusRow)> =
        by_number.order((presences::began.desc(), presences::id)).first(conn).await.optional()?;
    if let Some(found) = found.filter(|(_, r)| !r.account().is_another(report)) {
        return Ok(Some(found));
    }
    if class.is_some() {
        return Ok(None);
    }
    // A client that hands nothing back: by the name and the place of somebody who was let in, and of whom nothing was told.
    let open = of()
        .filter(radius_sessions::nas.eq(&said.nas))
        .filter(radius_sessions::acct.is_null())
        .filter(radius_sessions::known_by.retrieve_as_text("user").eq(said.known_by["user"].as_str().unwrap_or_default()))
        .filter(presences::session_id.is_not_null())
        .filter(presences::ended_at.is_null());
    let open: Vec<(PresenceRow, RadiusRow)> = open.order(presences::began.desc()).limit(100).load(conn).await?;
    Ok(open.into_iter().find(|(_, r)| r.known_by["calling"] == said.known_by["calling"]))
}

/// Whether news say that a session goes on that was over here. What comes again, or began before, says nothing of that.
fn goes_on(row: &PresenceRow, before: &Account, report: &Report) -> bool {
    row.ended_at.is_some_and(|ended| report.at > ended) && report.news != News::Start && before.is_news(report)
}

/// Why a session is over whose client says so: by what ended it here, where something did.
async fn why_over(conn: &mut AsyncPgConnection, row: &PresenceRow) -> Result<&'static str, StoreError> {
    let Some(session) = row.session_id else { return Ok("told-over") };
    let ended = sessions::table.find(session).select(sessions::ended_at).first::<Option<Moment>>(conn).await.optional()?;
    Ok(if matches!(ended, Some(None)) { "told-over" } else { "ended" })
}

async fn keep(conn: &mut AsyncPgConnection, at: &RadiusRow, said: &RadiusRow, after: &Account) -> Result<(), StoreError> {
    // The number may have been said just now; what else names it was said when it was asked for.
    let mut known_by = at.known_by.clone();
    known_by["number"] = said.known_by["number"].clone();
    let account = serde_json::to_value(after).map_err(|e| StoreError::Query(e.to_string()))?;
    let set = (
        radius_sessions::account.eq(account),
        radius_sessions::acct.eq(&said.acct),
        radius_sessions::nas.eq(&said.nas),
        radius_sessions::known_by.eq(known_by),
    );
    diesel::update(radius_sessions::table.find(at.presence)).set(set).execute(conn).await?;
    Ok(())
}

/// Writes which addresses a machine has: the first since its session began there, others since they were told. Whether they are others than
/// before.
async fn addresses(
    conn: &mut AsyncPgConnection,
    row: &mut PresenceRow,
    now: &BTreeSet<IpAddr>,
    (since, at): (Moment, Moment),
) -> Result<bool, StoreError> {
    let open =
        presence_addresses::table.filter(presence_addresses::presence.eq(row.id)).filter(presence_addresses::ended_at.is_null());
    let had: BTreeSet<String> = open.select(presence_addresses::address).load::<String>(conn).await?.into_iter().collect();
    let now: BTreeSet<String> = now.iter().map(IpAddr::to_string).collect();
    // A report that names none says nothing of them.
    if now.is_empty() || now == had {
        return Ok(false);
    }
    let lost: Vec<&String> = had.difference(&now).collect();
    diesel::update(open.filter(presence_addresses::address.eq_any(lost)))
        .set(presence_addresses::ended_at.eq(at))
        .execute(conn)
        .await?;
    for address in now.difference(&had) {
        let began = if had.is_empty() { since.max(row.began) } else { at };
        let new = PresenceAddress { presence: row.id, address: address.clone(), began, ended_at: row.ended_at };
        diesel::insert_into(presence_addresses::table).values(&new).on_conflict_do_nothing().execute(conn).await?;
    }
    row.address = now.iter().next().cloned().unwrap_or_default();
    diesel::update(presences::table.find(row.id)).set(presences::address.eq(&row.address)).execute(conn).await?;
    Ok(!had.is_empty())
}

fn whole(octets: u64) -> i64 {
    i64::try_from(octets).unwrap_or(i64::MAX)
}

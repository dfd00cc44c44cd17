//! The chained record of what engineers do. An act is appended in the transaction of the act itself, under one lock.

use diesel::dsl::sql;
use diesel::prelude::*;
use diesel::sql_types::{Bool, Nullable, Text};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::acts::{Act, Linked, Personal, link, ranges};
use passeur_core::seal::Ring;
use serde_json::{Value, json};

use crate::crossings::like;
use crate::pool::{Store, StoreError};
use crate::schema::{acts, acts_head};

/// An act with the ring that links it.
pub struct Recorded<'a> {
    pub act: Act,
    pub ring: &'a Ring,
}

/// Which acts to list.
#[derive(Clone, Debug, Default)]
pub struct ActFilter {
    /// Only those below this number.
    pub before: Option<i64>,
    /// What was done, by its code.
    pub what: Option<String>,
    /// Part of the name of whoever did it, or whom it concerned.
    pub person: Option<String>,
    pub since: Option<Moment>,
    pub until: Option<Moment>,
    pub limit: i64,
}

#[derive(Queryable, Insertable, Selectable)]
#[diesel(table_name = acts)]
struct Row {
    number: i64,
    at: Moment,
    what: String,
    about: Value,
    personal: Option<Value>,
    personal_digest: Vec<u8>,
    key: i32,
    mac: Vec<u8>,
}

impl From<Linked> for Row {
    fn from(l: Linked) -> Row {
        Row {
            number: l.number,
            at: l.at,
            what: l.what,
            about: l.about,
            personal: l.personal.and_then(|p| serde_json::to_value(p).ok()),
            personal_digest: l.personal_digest.to_vec(),
            key: i32::from(l.key),
            mac: l.mac.to_vec(),
        }
    }
}

/// Bytes of a fixed length; what has another length was tampered with, and matches nothing.
fn fixed(bytes: &[u8]) -> [u8; 32] {
    bytes.try_into().unwrap_or([0xff; 32])
}

impl From<Row> for Linked {
    fn from(r: Row) -> Linked {
        Linked {
            number: r.number,
            at: r.at,
            what: r.what,
            about: r.about,
            // What cannot be read as the personal part is not what was linked; it is kept apart from an erased one.
            personal: r.personal.map(|p| serde_json::from_value(p).unwrap_or_default()),
            personal_digest: fixed(&r.personal_digest),
            key: u16::try_from(r.key).unwrap_or(0),
            mac: fixed(&r.mac),
        }
    }
}

/// Appends an act; the caller's transaction holds it.
pub(crate) async fn append(conn: &mut AsyncPgConnection, recorded: Recorded<'_>) -> Result<(), StoreError> {
    let (number, mac): (i64, Vec<u8>) =
        acts_head::table.select((acts_head::number, acts_head::mac)).for_update().first(conn).await?;
    let linked = link(recorded.ring, number + 1, &fixed(&mac), recorded.act);
    let head = (acts_head::number.eq(linked.number), acts_head::mac.eq(linked.mac.to_vec()));
    let (what, personal) = (linked.what.clone(), linked.personal.clone().unwrap_or_default());
    diesel::insert_into(acts::table).values(Row::from(linked)).execute(conn).await?;
    diesel::update(acts_head::table).set(head).execute(conn).await?;
    tracing::info!(event = "act", number = number + 1, what, who = personal.who, by = personal.by, "an act");
    Ok(())
}

/// Every act, in order; the caller's transaction holds the head.
pub(crate) async fn every_act(conn: &mut AsyncPgConnection) -> Result<Vec<Linked>, StoreError> {
    let rows: Vec<Row> = acts::table.order(acts::number).select(Row::as_select()).load(conn).await?;
    Ok(rows.into_iter().map(Linked::from).collect())
}

/// Puts new links in the place of those of the same numbers, with the head that follows.
pub(crate) async fn put_links(conn: &mut AsyncPgConnection, links: Vec<Linked>, head: [u8; 32]) -> Result<(), StoreError> {
    for l in links {
        let change =
            (acts::personal_digest.eq(l.personal_digest.to_vec()), acts::key.eq(i32::from(l.key)), acts::mac.eq(l.mac.to_vec()));
        diesel::update(acts::table.find(l.number)).set(change).execute(conn).await?;
    }
    diesel::update(acts_head::table).set(acts_head::mac.eq(head.to_vec())).execute(conn).await?;
    Ok(())
}

impl Store {
    /// Records an act that changes nothing else here.
    pub async fn record_act(&self, act: Recorded<'_>) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| append(conn, act).await).await
    }

    /// Acts with numbers above `after`, in order.
    pub async fn acts_after(&self, after: i64, limit: i64) -> Result<Vec<Linked>, StoreError> {
        let mut conn = self.conn().await?;
        let q = acts::table.filter(acts::number.gt(after)).order(acts::number).limit(limit).select(Row::as_select());
        Ok(q.load(&mut conn).await?.into_iter().map(Linked::from).collect())
    }

    /// Acts that fit, latest first.
    pub async fn acts(&self, wanted: &ActFilter) -> Result<Vec<Linked>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = acts::table.order(acts::number.desc()).limit(wanted.limit).select(Row::as_select()).into_boxed();
        if let Some(n) = wanted.before {
            q = q.filter(acts::number.lt(n));
        }
        if let Some(what) = &wanted.what {
            q = q.filter(acts::what.eq(what.clone()));
        }
        if let Some(since) = wanted.since {
            q = q.filter(acts::at.ge(since));
        }
        if let Some(until) = wanted.until {
            q = q.filter(acts::at.lt(until));
        }
        if let Some(person) = &wanted.person {
            let like = like(person);
            let named = sql::<Nullable<Bool>>("(acts.personal->>'who' ILIKE ")
                .bind::<Text, _>(like.clone())
                .sql(" OR acts.personal->>'people' ILIKE ");
            q = q.filter(named.bind::<Text, _>(like).sql(")").assume_not_null());
        }
        Ok(q.load(&mut conn).await?.into_iter().map(Linked::from).collect())
    }

    /// When an act of a kind was last recorded, since a moment.
    pub async fn latest_act(&self, what: &str, since: Moment) -> Result<Option<Moment>, StoreError> {
        let mut conn = self.conn().await?;
        let q = acts::table.filter(acts::what.eq(what)).filter(acts::at.ge(since));
        Ok(q.select(diesel::dsl::max(acts::at)).first(&mut conn).await?)
    }

    /// The count and the head of the chain.
    pub async fn acts_head(&self) -> Result<(i64, [u8; 32]), StoreError> {
        let mut conn = self.conn().await?;
        let (number, mac): (i64, Vec<u8>) = acts_head::table.select((acts_head::number, acts_head::mac)).first(&mut conn).await?;
        Ok((number, fixed(&mac)))
    }

    /// Erases from every act the names of somebody who did it or whom it concerned, and records that as an act, which says of which
    /// acts. Returns in how many acts.
    pub async fn erase_from_acts(&self, person: &str, mut act: Recorded<'_>) -> Result<usize, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let rows: Vec<(i64, Option<Value>)> =
                acts::table.filter(acts::personal.is_not_null()).select((acts::number, acts::personal)).load(conn).await?;
            let names = |p: &Personal| p.who == person || p.people.iter().any(|n| n == person);
            let of: Vec<i64> = rows
                .into_iter()
                .filter(|(_, p)| p.clone().and_then(|p| serde_json::from_value(p).ok()).is_some_and(|p| names(&p)))
                .map(|(n, _)| n)
                .collect();
            let erased = diesel::update(acts::table.filter(acts::number.eq_any(&of)))
                .set(acts::personal.eq(None::<Value>))
                .execute(conn)
                .await?;
            act.act.about = json!({ "acts": ranges(&of) });
            append(conn, act).await?;
            Ok(erased)
        })
        .await
    }
}

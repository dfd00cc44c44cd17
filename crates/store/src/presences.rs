//! Machines that network gates let through: who is on it now, who was, with which addresses, and how much passed.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sql_types::{Bool, Timestamptz};
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use passeur_core::id::CrossingId;
use serde_json::Value;
use uuid::Uuid;

use crate::crossings::like;
use crate::people::lock;
use crate::pool::{Store, StoreError};
use crate::schema::{passed, presence_addresses, presences, sessions, terms_accepted};

/// A machine that was let through.
#[derive(Clone, Debug, PartialEq, Queryable, Selectable, Insertable)]
#[diesel(table_name = presences)]
pub struct PresenceRow {
    pub id: Uuid,
    /// None for a machine without a person.
    pub session_id: Option<Uuid>,
    pub gate: String,
    pub zone: String,
    pub node: String,
    pub interface: String,
    /// The hardware address on the link; none where another router stands between.
    pub hardware: Option<String>,
    /// The address that it came from.
    pub address: String,
    /// Its number in the kernel of the node.
    pub mark: i32,
    pub provider: String,
    pub authority: String,
    pub subject: String,
    pub name: String,
    /// The crossing in which the decision is recorded.
    pub crossing: String,
    /// What is open, and by which rule.
    pub reach: Value,
    pub began: Moment,
    pub until: Option<Moment>,
    pub quota: Option<i64>,
    pub rate: Option<i64>,
    /// Octets from the machine.
    pub up: i64,
    /// Octets to the machine.
    pub down: i64,
    pub counted_at: Moment,
    pub ended_at: Option<Moment>,
    pub ended_by: Option<String>,
    /// Groups that the decision saw the person in, by the names that the site knows them by.
    pub groups: Vec<String>,
    /// How it came, where it is at the far end of a tunnel.
    pub tunnel: Option<Value>,
}

impl PresenceRow {
    /// A machine that begins to be on now, of which nothing else is known.
    pub fn blank(id: Uuid, (gate, zone, node): (&str, &str, &str), now: Moment) -> PresenceRow {
        PresenceRow {
            id,
            session_id: None,
            gate: gate.to_owned(),
            zone: zone.to_owned(),
            node: node.to_owned(),
            interface: String::new(),
            hardware: None,
            address: String::new(),
            mark: 0,
            provider: String::new(),
            authority: String::new(),
            subject: String::new(),
            name: String::new(),
            crossing: String::new(),
            reach: Value::Array(vec![]),
            began: now,
            until: None,
            quota: None,
            rate: None,
            up: 0,
            down: 0,
            counted_at: now,
            ended_at: None,
            ended_by: None,
            groups: vec![],
            tunnel: None,
        }
    }

    /// The crossing that tells of it; none for a machine that nobody here let in.
    pub fn told_in(&self) -> Option<CrossingId> {
        self.crossing.parse().ok()
    }

    /// Whose it is.
    pub fn person(&self) -> PersonKey {
        PersonKey { authority: self.authority.clone(), subject: self.subject.clone() }
    }

    /// What the machine is known by: its hardware address, or its address where another router stands between.
    pub fn known_by(&self) -> &str {
        self.hardware.as_deref().unwrap_or(&self.address)
    }

    /// That, and since when it is on, for its person.
    pub fn known_since(&self) -> String {
        format!("{}, {}", self.known_by(), self.began.format("%Y-%m-%d %H:%M UTC"))
    }
}

/// An address of such a machine.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = presence_addresses)]
pub struct PresenceAddress {
    pub presence: Uuid,
    pub address: String,
    pub began: Moment,
    pub ended_at: Option<Moment>,
}

/// What became of a machine that was to be let through.
#[derive(Clone, Debug, PartialEq)]
pub enum Entered {
    /// It is on; machines of the same session that gave way are over.
    On { moved: Vec<PresenceRow> },
    /// The person has as many machines on as they may: these, the oldest first.
    Full(Vec<PresenceRow>),
    /// The session ended meanwhile.
    Over,
}

/// Terms that somebody accepted.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = terms_accepted)]
pub struct AcceptedRow {
    pub gate: String,
    pub version: String,
    pub authority: String,
    pub subject: String,
    pub provider: String,
    pub name: String,
    pub address: String,
    pub at: Moment,
}

/// Which machines to list.
#[derive(Clone, Debug, Default)]
pub struct PresenceFilter {
    /// Part of a name, subject, way in, zone, hardware address or address, without regard to case.
    pub text: Option<String>,
    pub gate: Option<String>,
    /// Those that are on now alone.
    pub now: bool,
    /// Those that began before this moment: the next page.
    pub before: Option<Moment>,
    pub limit: i64,
}

/// A quarter of an hour on networks.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct QuarterRow {
    #[diesel(sql_type = diesel::sql_types::Timestamptz)]
    pub at: Moment,
    /// Machines that were on in it, and people who were signed in on any.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub machines: i64,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub people: i64,
    /// Octets from machines and to them.
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub up: i64,
    #[diesel(sql_type = diesel::sql_types::BigInt)]
    pub down: i64,
}

/// Who had an address, from when until when.
#[derive(Clone, Debug, PartialEq)]
pub struct HadAddress {
    pub presence: PresenceRow,
    pub address: PresenceAddress,
}

impl Store {
    /// Lets a machine of a session through: one machine a session where it is on a link, and at most `most` a person at a gate.
    pub async fn enter(&self, row: PresenceRow, most: i64) -> Result<Entered, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            lock(conn, &[row.person()]).await?;
            if let Some(session) = row.session_id {
                let ended = sessions::table.find(session).select(sessions::ended_at).for_share();
                if !matches!(ended.first::<Option<Moment>>(conn).await.optional()?, Some(None)) {
                    return Ok(Entered::Over);
                }
                let others = open_of(conn, &row).await?;
                if i64::try_from(others.len()).unwrap_or(i64::MAX) >= most {
                    return Ok(Entered::Full(others));
                }
            }
            let moved = match row.session_id.filter(|_| row.tunnel.is_none()) {
                Some(session) => {
                    let mine = presences::session_id.eq(session).and(presences::ended_at.is_null());
                    let ids: Vec<Uuid> = presences::table.filter(mine).select(presences::id).load(conn).await?;
                    end(conn, &ids, row.began, "moved").await?
                }
                // Somebody who is signed in in one browser may have several tunnels.
                None => vec![],
            };
            diesel::insert_into(presences::table).values(&row).execute(conn).await?;
            // A machine without a person has none yet: it is seen when it sends something.
            if !row.address.is_empty() {
                let address =
                    PresenceAddress { presence: row.id, address: row.address.clone(), began: row.began, ended_at: None };
                diesel::insert_into(presence_addresses::table).values(&address).execute(conn).await?;
            }
            Ok(Entered::On { moved })
        })
        .await
    }

    /// Ends machines, with their addresses; those that were over already are left as they were. Returns those that it ended.
    pub async fn leave(&self, ids: &[Uuid], at: Moment, by: &str) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| end(conn, ids, at, by).await).await
    }

    /// Machines that are on at a node, and in its kernel. Those at RADIUS clients are not.
    pub async fn presences_of_node(&self, node: &str) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let open = presences::table
            .filter(presences::node.eq(node))
            .filter(presences::interface.ne(""))
            .filter(presences::ended_at.is_null());
        Ok(open.order(presences::began).select(PresenceRow::as_select()).load(&mut conn).await?)
    }

    /// Machines by their numbers.
    pub async fn presences_by_id(&self, ids: &[Uuid]) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(presences::table.filter(presences::id.eq_any(ids)).select(PresenceRow::as_select()).load(&mut conn).await?)
    }

    /// Machines, the latest first.
    pub async fn presences(&self, filter: &PresenceFilter) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = presences::table.select(PresenceRow::as_select()).into_boxed();
        if filter.now {
            q = q.filter(presences::ended_at.is_null());
        }
        if let Some(gate) = &filter.gate {
            q = q.filter(presences::gate.eq(gate));
        }
        if let Some(before) = filter.before {
            q = q.filter(presences::began.lt(before));
        }
        if let Some(text) = &filter.text {
            let like = like(text);
            q = q.filter(
                presences::name
                    .ilike(like.clone())
                    .or(presences::subject.ilike(like.clone()))
                    .or(presences::hardware.ilike(like.clone()))
                    .or(presences::provider.ilike(like.clone()))
                    .or(presences::zone.ilike(like.clone()))
                    .or(presences::address.ilike(like)),
            );
        }
        Ok(q.order((presences::began.desc(), presences::id)).limit(filter.limit).load(&mut conn).await?)
    }

    /// The addresses of machines.
    pub async fn addresses_of(&self, ids: &[Uuid]) -> Result<Vec<PresenceAddress>, StoreError> {
        let mut conn = self.conn().await?;
        let of = presence_addresses::table.filter(presence_addresses::presence.eq_any(ids));
        Ok(of.order(presence_addresses::began).select(PresenceAddress::as_select()).load(&mut conn).await?)
    }

    /// Notes that a machine has an address since a moment, where that is not known.
    pub async fn gained_address(&self, presence: Uuid, address: &str, at: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            let open = presence_addresses::table
                .filter(presence_addresses::presence.eq(presence))
                .filter(presence_addresses::address.eq(address))
                .filter(presence_addresses::ended_at.is_null());
            if open.count().get_result::<i64>(conn).await? == 0 {
                let row = PresenceAddress { presence, address: address.to_owned(), began: at, ended_at: None };
                diesel::insert_into(presence_addresses::table).values(&row).on_conflict_do_nothing().execute(conn).await?;
            }
            Ok(())
        })
        .await
    }

    /// Notes that it has it no more.
    pub async fn lost_address(&self, presence: Uuid, address: &str, at: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let open = presence_addresses::table
            .filter(presence_addresses::presence.eq(presence))
            .filter(presence_addresses::address.eq(address))
            .filter(presence_addresses::ended_at.is_null());
        diesel::update(open).set(presence_addresses::ended_at.eq(at)).execute(&mut conn).await?;
        Ok(())
    }

    /// Writes how much passed, in all.
    pub async fn counted(&self, all: &[(Uuid, i64, i64)], at: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        for part in all.chunks(1_000) {
            count(&mut conn, part, at, WhileOn::Only).await?;
        }
        Ok(())
    }

    /// Writes what is open to a machine since it was decided anew.
    pub async fn redecided(&self, row: &PresenceRow) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        let set = (
            presences::reach.eq(&row.reach),
            presences::until.eq(row.until),
            presences::quota.eq(row.quota),
            presences::rate.eq(row.rate),
            presences::crossing.eq(&row.crossing),
            presences::mark.eq(row.mark),
            presences::groups.eq(&row.groups),
            presences::tunnel.eq(&row.tunnel),
        );
        diesel::update(presences::table.find(row.id)).set(set).execute(&mut conn).await?;
        Ok(())
    }

    /// The machine that had a hardware address or an address and was on at a moment; the person's before the machine's own.
    pub async fn presence_at(&self, known_by: &str, at: Moment) -> Result<Option<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let with_address = presence_addresses::table
            .filter(presence_addresses::address.eq(known_by))
            .filter(presence_addresses::began.le(at))
            .filter(presence_addresses::ended_at.is_null().or(presence_addresses::ended_at.gt(at)))
            .select(presence_addresses::presence);
        let with_address: Vec<Uuid> = with_address.load(&mut conn).await?;
        let of = presences::table
            .filter(presences::hardware.eq(known_by).or(presences::id.eq_any(with_address)))
            .filter(presences::began.le(at))
            .filter(presences::ended_at.is_null().or(presences::ended_at.gt(at)))
            .order((presences::session_id.is_null(), presences::began.desc()));
        Ok(of.select(PresenceRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Machines of a person that are on at a gate, the latest first.
    pub async fn presences_of_person(&self, person: &PersonKey, gate: &str, limit: i64) -> Result<Vec<PresenceRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = presences::table
            .filter(presences::authority.eq(&person.authority))
            .filter(presences::subject.eq(&person.subject))
            .filter(presences::gate.eq(gate))
            .filter(presences::ended_at.is_null());
        Ok(of.order(presences::began.desc()).limit(limit).select(PresenceRow::as_select()).load(&mut conn).await?)
    }

    /// How many octets passed for a person at a gate, on machines that were on since a moment.
    pub async fn passed(&self, person: &PersonKey, gate: &str, since: Moment) -> Result<i64, StoreError> {
        let mut conn = self.conn().await?;
        let of = presences::table
            .filter(presences::authority.eq(&person.authority))
            .filter(presences::subject.eq(&person.subject))
            .filter(presences::gate.eq(gate))
            .filter(presences::ended_at.is_null().or(presences::ended_at.gt(since)));
        let all: Vec<(i64, i64)> = of.select((presences::up, presences::down)).load(&mut conn).await?;
        Ok(all.iter().fold(0i64, |sum, (up, down)| sum.saturating_add(*up).saturating_add(*down)))
    }

    /// Whether a machine of somebody began at a gate since a moment.
    pub async fn began_since(&self, authority: &str, subject: &str, gate: &str, since: Moment) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        let of = presences::table
            .filter(presences::authority.eq(authority))
            .filter(presences::subject.eq(subject))
            .filter(presences::gate.eq(gate))
            .filter(presences::began.gt(since));
        Ok(of.count().get_result::<i64>(&mut conn).await? > 0)
    }

    /// Who had an address in a span of time, the latest first.
    pub async fn who_had(&self, address: &str, from: Moment, to: Moment, limit: i64) -> Result<Vec<HadAddress>, StoreError> {
        let mut conn = self.conn().await?;
        let spans: Vec<PresenceAddress> = presence_addresses::table
            .filter(presence_addresses::address.eq(address))
            .filter(presence_addresses::began.le(to))
            .filter(presence_addresses::ended_at.is_null().or(presence_addresses::ended_at.ge(from)))
            .order(presence_addresses::began.desc())
            .limit(limit)
            .select(PresenceAddress::as_select())
            .load(&mut conn)
            .await?;
        let ids: Vec<Uuid> = spans.iter().map(|s| s.presence).collect();
        let rows: Vec<PresenceRow> =
            presences::table.filter(presences::id.eq_any(ids)).select(PresenceRow::as_select()).load(&mut conn).await?;
        let by_id: BTreeMap<Uuid, PresenceRow> = rows.into_iter().map(|r| (r.id, r)).collect();
        let had =
            spans.into_iter().filter_map(|s| by_id.get(&s.presence).map(|p| HadAddress { presence: p.clone(), address: s }));
        Ok(had.collect())
    }

    /// The day before a moment, in quarters of an hour: how many were on, and how much passed.
    pub async fn day_of_networks(&self, until: Moment, gate: Option<&str>) -> Result<Vec<QuarterRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = diesel::sql_query(
            "WITH q AS (SELECT at FROM generate_series(date_bin('15 minutes', $1, 'epoch') - interval '1425 minutes', $1, \
             '15 minutes') AS at), \
             p AS (SELECT began, ended_at, session_id, authority, subject FROM presences \
             WHERE (ended_at IS NULL OR ended_at > $1 - interval '1 day') AND ($2 IS NULL OR gate = $2)) \
             SELECT q.at, count(p.began) AS machines, \
             count(DISTINCT (p.authority, p.subject)) FILTER (WHERE p.session_id IS NOT NULL) AS people, \
             coalesce((SELECT sum(t.up) FROM passed t WHERE t.at = q.at AND ($2 IS NULL OR t.gate = $2)), 0)::bigint AS up, \
             coalesce((SELECT sum(t.down) FROM passed t WHERE t.at = q.at AND ($2 IS NULL OR t.gate = $2)), 0)::bigint AS down \
             FROM q LEFT JOIN p ON p.began < q.at + interval '15 minutes' AND (p.ended_at IS NULL OR p.ended_at > q.at) \
             GROUP BY q.at ORDER BY q.at",
        )
        .bind::<diesel::sql_types::Timestamptz, _>(until)
        .bind::<diesel::sql_types::Nullable<diesel::sql_types::Text>, _>(gate.map(str::to_owned));
        Ok(of.load(&mut conn).await?)
    }

    /// Forgets machines that were over before a moment, and acceptances of terms from before it.
    pub async fn forget_presences(&self, before: Moment) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(presences::table.filter(presences::ended_at.lt(before))).execute(&mut conn).await?;
        diesel::delete(terms_accepted::table.filter(terms_accepted::at.lt(before))).execute(&mut conn).await?;
        diesel::delete(passed::table.filter(passed::at.lt(before))).execute(&mut conn).await?;
        Ok(())
    }

    /// Notes that somebody accepted terms; the first time counts.
    pub async fn accept_terms(&self, row: AcceptedRow) -> Result<(), StoreError> {
        let mut conn = self.conn().await?;
        diesel::insert_into(terms_accepted::table).values(&row).on_conflict_do_nothing().execute(&mut conn).await?;
        Ok(())
    }

    /// When somebody accepted a version of a gate's terms, if they did.
    pub async fn terms_accepted(&self, gate: &str, version: &str, person: &PersonKey) -> Result<Option<Moment>, StoreError> {
        let mut conn = self.conn().await?;
        let key = (gate, version, person.authority.as_str(), person.subject.as_str());
        Ok(terms_accepted::table.find(key).select(terms_accepted::at).first(&mut conn).await.optional()?)
    }

    /// Who accepted terms of a gate, the latest first.
    pub async fn accepted(&self, gate: Option<&str>, limit: i64) -> Result<Vec<AcceptedRow>, StoreError> {
        let mut conn = self.conn().await?;
        let mut q = terms_accepted::table.select(AcceptedRow::as_select()).into_boxed();
        if let Some(gate) = gate {
            q = q.filter(terms_accepted::gate.eq(gate.to_owned()));
        }
        Ok(q.order(terms_accepted::at.desc()).limit(limit).load(&mut conn).await?)
    }
}

/// Of which machines it is written how much passed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum WhileOn {
    /// Of those that are on.
    Only,
    /// Of those that are over as well: their last count comes after their end.
    OrOver,
}

/// Writes how much passed, in all.
pub(crate) async fn count(
    conn: &mut AsyncPgConnection,
    part: &[(Uuid, i64, i64)],
    at: Moment,
    on: WhileOn,
) -> Result<(), StoreError> {
    let ids: Vec<Uuid> = part.iter().map(|(id, _, _)| *id).collect();
    let up: Vec<i64> = part.iter().map(|(_, up, _)| *up).collect();
    let down: Vec<i64> = part.iter().map(|(_, _, down)| *down).collect();
    // What was counted before is read in the same statement, so that what came on top is counted once.
    diesel::sql_query(
        "WITH c AS (SELECT * FROM unnest($1, $2, $3) AS c(id, up, down)), moved AS ( \
         UPDATE presences SET up = c.up, down = c.down, counted_at = $4 FROM c JOIN presences old ON old.id = c.id \
         WHERE presences.id = c.id AND ($5 OR presences.ended_at IS NULL) \
         RETURNING presences.gate, c.up - old.up AS up, c.down - old.down AS down) \
         INSERT INTO passed (gate, at, up, down) \
         SELECT gate, date_bin('15 minutes', $4, 'epoch'), greatest(sum(up), 0)::bigint, greatest(sum(down), 0)::bigint \
         FROM moved GROUP BY gate ORDER BY gate \
         ON CONFLICT (gate, at) DO UPDATE SET up = passed.up + excluded.up, down = passed.down + excluded.down",
    )
    .bind::<diesel::sql_types::Array<diesel::sql_types::Uuid>, _>(ids)
    .bind::<diesel::sql_types::Array<diesel::sql_types::BigInt>, _>(up)
    .bind::<diesel::sql_types::Array<diesel::sql_types::BigInt>, _>(down)
    .bind::<diesel::sql_types::Timestamptz, _>(at)
    .bind::<diesel::sql_types::Bool, _>(on == WhileOn::OrOver)
    .execute(conn)
    .await?;
    Ok(())
}

/// How soon a RADIUS client tells of a session that it opened, in seconds.
const SOON_HEARD_S: i64 = 60;

/// Other machines of the person that are on at the gate, the oldest first. At RADIUS clients these are those that the client told of, or will soon: a
/// door that opens once tells nothing, and whoever went through it is on nowhere. Those whose session is over are ordered out already.
pub(crate) async fn open_of(conn: &mut AsyncPgConnection, row: &PresenceRow) -> Result<Vec<PresenceRow>, StoreError> {
    let live = "(interface <> '' OR EXISTS (SELECT 1 FROM sessions s, radius_sessions r \
                WHERE s.id = presences.session_id AND s.ended_at IS NULL AND r.presence = presences.id \
                AND (r.account->>'heard' IS NOT NULL OR presences.began > ";
    let young = row.began - chrono::Duration::seconds(SOON_HEARD_S);
    let live = diesel::dsl::sql::<Bool>(live).bind::<Timestamptz, _>(young).sql(")))");
    let mut of = presences::table
        .filter(presences::authority.eq(&row.authority))
        .filter(presences::subject.eq(&row.subject))
        .filter(presences::gate.eq(&row.gate))
        .filter(presences::ended_at.is_null())
        .filter(live)
        .into_boxed();
    if row.tunnel.is_none() {
        of = of.filter(presences::session_id.ne(row.session_id));
    }
    Ok(of.order(presences::began).select(PresenceRow::as_select()).load(conn).await?)
}

pub(crate) async fn end(
    conn: &mut AsyncPgConnection,
    ids: &[Uuid],
    at: Moment,
    by: &str,
) -> Result<Vec<PresenceRow>, StoreError> {
    let open = presences::table.filter(presences::id.eq_any(ids)).filter(presences::ended_at.is_null());
    let ended: Vec<PresenceRow> = diesel::update(open)
        .set((presences::ended_at.eq(at), presences::ended_by.eq(by)))
        .returning(PresenceRow::as_returning())
        .get_results(conn)
        .await?;
    let of =
        presence_addresses::table.filter(presence_addresses::presence.eq_any(ids)).filter(presence_addresses::ended_at.is_null());
    diesel::update(of).set(presence_addresses::ended_at.eq(at)).execute(conn).await?;
    Ok(ended)
}

//! Guests who wait for somebody to vouch for them.

use diesel::prelude::*;
use diesel::sql_types::Text;
use diesel_async::{AsyncConnection, AsyncPgConnection, RunQueryDsl};
use passeur_core::Moment;
use passeur_core::evidence::PersonKey;
use uuid::Uuid;

use crate::bounded::Bounded;
use crate::people::{BlockRow, blocked, lock, of_person};
use crate::pool::{Store, StoreError};
use crate::schema::vouches;

/// Those that wait at once.
const BOUNDS: Bounded = Bounded { table: "vouches", key: "flow", of_network: 60, in_all: 1_000 };

/// A guest who waits, or for whom somebody vouched.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable, Insertable)]
#[diesel(table_name = vouches)]
pub struct VouchRow {
    pub flow: Vec<u8>,
    /// What the sponsor types, as a keyed digest.
    pub code: Vec<u8>,
    pub way: String,
    /// What the guest calls themselves, and why they are here. Nobody has looked at either.
    pub name: String,
    pub note: String,
    pub address: String,
    pub agent: String,
    pub network: String,
    pub created_at: Moment,
    pub expires_at: Moment,
    /// `pending`, `given` or `denied`.
    pub state: String,
    pub sponsor_provider: Option<String>,
    pub sponsor_authority: Option<String>,
    pub sponsor_subject: Option<String>,
    pub sponsor_name: Option<String>,
}

impl VouchRow {
    /// Who vouched, where somebody did.
    pub fn sponsor(&self) -> Option<PersonKey> {
        Some(PersonKey { authority: self.sponsor_authority.clone()?, subject: self.sponsor_subject.clone()? })
    }
}

impl Store {
    /// Keeps a guest who begins to wait, in the place of what the same browser asked before. False where too many do.
    pub async fn ask_to_vouch(&self, row: VouchRow) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        diesel::delete(vouches::table.find(&row.flow)).execute(&mut conn).await?;
        if BOUNDS.make_room(&mut conn, &row.network, row.created_at).await?.is_err() {
            return Ok(false);
        }
        diesel::insert_into(vouches::table).values(&row).execute(&mut conn).await?;
        Ok(true)
    }

    /// The guest who waits under a code, whichever key of the ring it was made under.
    pub async fn guest_waiting(&self, codes: &[[u8; 32]], now: Moment) -> Result<Option<VouchRow>, StoreError> {
        let mut conn = self.conn().await?;
        let any: Vec<Vec<u8>> = codes.iter().map(|c| c.to_vec()).collect();
        let of = vouches::table.filter(vouches::code.eq_any(any)).filter(vouches::state.eq("pending"));
        let of = of.filter(vouches::expires_at.gt(now)).select(VouchRow::as_select());
        Ok(of.first(&mut conn).await.optional()?)
    }

    /// How the guest of a flow stands; none where the time is over.
    pub async fn guest(&self, flow: &[u8; 32], now: Moment) -> Result<Option<VouchRow>, StoreError> {
        let mut conn = self.conn().await?;
        let of = vouches::table.find(flow.as_slice()).filter(vouches::expires_at.gt(now));
        Ok(of.select(VouchRow::as_select()).first(&mut conn).await.optional()?)
    }

    /// Answers for a guest, in the sponsor's session. False where somebody did already, or that session is over.
    pub async fn answer_guest(&self, row: &VouchRow, sponsor: &PersonKey, session: Uuid) -> Result<bool, StoreError> {
        let mut conn = self.conn().await?;
        conn.transaction(async |conn| {
            if !of_person(conn, sponsor, Some(session)).await? {
                return Ok(false);
            }
            let set = (
                vouches::state.eq(&row.state),
                vouches::sponsor_provider.eq(&row.sponsor_provider),
                vouches::sponsor_authority.eq(&row.sponsor_authority),
                vouches::sponsor_subject.eq(&row.sponsor_subject),
                vouches::sponsor_name.eq(&row.sponsor_name),
            );
            let waiting = vouches::table.find(&row.flow).filter(vouches::state.eq("pending"));
            Ok(diesel::update(waiting).set(set).execute(conn).await? == 1)
        })
        .await
    }
}

/// Uses up the word that was given for a guest, where a session begins by it: of that and of the sponsor's leaving, one comes after the
/// other. `Err` where the word is gone.
pub(crate) async fn use_word(conn: &mut AsyncPgConnection, flow: &[u8], now: Moment) -> Result<Result<(), BlockRow>, StoreError> {
    let given = vouches::table.find(flow).filter(vouches::state.eq("given"));
    let row: Option<VouchRow> = given.select(VouchRow::as_select()).first(conn).await.optional()?;
    let gone = |row: Option<&VouchRow>| BlockRow {
        authority: String::new(),
        subject: row.and_then(|r| r.sponsor_subject.clone()).unwrap_or_default(),
        provider: row.and_then(|r| r.sponsor_provider.clone()).unwrap_or_default(),
        name: row.map(|r| r.name.clone()).unwrap_or_default(),
        at: now,
        by: row.and_then(|r| r.sponsor_name.clone()).unwrap_or_else(|| "nobody".to_owned()),
        why: "the word that was given for them is gone".to_owned(),
    };
    let Some(sponsor) = row.as_ref().and_then(VouchRow::sponsor) else { return Ok(Err(gone(row.as_ref()))) };
    lock(conn, std::slice::from_ref(&sponsor)).await?;
    if blocked(conn, &sponsor).await?.is_some() {
        return Ok(Err(gone(row.as_ref())));
    }
    let used = diesel::delete(vouches::table.find(flow).filter(vouches::state.eq("given"))).execute(conn).await?;
    Ok(if used == 1 { Ok(()) } else { Err(gone(row.as_ref())) })
}

#[derive(QueryableByName)]
struct Guest {
    #[diesel(sql_type = diesel::sql_types::Uuid)]
    id: Uuid,
}

/// Takes back every word of a sponsor that was not used yet, and says which sessions of guests live by one that was.
pub(crate) async fn take_back(conn: &mut AsyncPgConnection, sponsor: &PersonKey) -> Result<Vec<Uuid>, StoreError> {
    let PersonKey { authority, subject } = sponsor;
    let theirs = vouches::table.filter(vouches::sponsor_authority.eq(authority)).filter(vouches::sponsor_subject.eq(subject));
    diesel::delete(theirs).execute(conn).await?;
    let guests: Vec<Guest> = diesel::sql_query(
        "SELECT id FROM sessions WHERE ended_at IS NULL AND evidence->>'way_in' = 'sponsor' \
         AND evidence->'claims'->>'sponsor-authority' = $1 AND evidence->'claims'->>'sponsor-subject' = $2",
    )
    .bind::<Text, _>(authority)
    .bind::<Text, _>(subject)
    .load(conn)
    .await?;
    Ok(guests.into_iter().map(|g| g.id).collect())
}

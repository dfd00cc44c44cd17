//! Past crossings with the evidence they were decided on, page by page, for rehearsal.

use chrono::NaiveDate;
use diesel::prelude::*;
use diesel::sql_types::{BigInt, Date, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use passeur_core::Moment;
use passeur_core::evidence::{Evidence, PersonKey};

use crate::pool::{Store, StoreError};

/// One past decision and what it was made on.
#[derive(Clone, Debug, QueryableByName)]
pub struct PastCrossing {
    #[diesel(sql_type = Date)]
    pub day: NaiveDate,
    #[diesel(sql_type = Text)]
    pub id: String,
    #[diesel(sql_type = Timestamptz)]
    pub at: Moment,
    #[diesel(sql_type = Text)]
    pub gate: String,
    #[diesel(sql_type = Text)]
    pub person: String,
    #[diesel(sql_type = Text)]
    pub address: String,
    #[diesel(sql_type = Text)]
    pub method: String,
    /// The path; `?…` after it where there was a query.
    #[diesel(sql_type = Text)]
    pub target: String,
    /// The evidence as JSON text: it is read where there is time for it.
    #[diesel(sql_type = Text)]
    pub evidence: String,
}

/// The most crossings of one page.
const PAGE: i64 = 5_000;

/// A walk over past crossings, page by page: no connection is held between two pages.
pub struct PastPages<'a> {
    store: &'a Store,
    since: Moment,
    gate: Option<&'a str>,
    /// Where the last page ended; none once there is nothing after it.
    after: Option<(NaiveDate, String)>,
}

impl PastPages<'_> {
    /// The next page; none at the end.
    pub async fn next(&mut self) -> Result<Option<Vec<PastCrossing>>, StoreError> {
        let Some((day, id)) = self.after.take() else { return Ok(None) };
        let mut conn = self.store.conn().await?;
        let rows: Vec<PastCrossing> = diesel::sql_query(
            "SELECT c.day, c.id, c.at, c.gate, coalesce(c.person, c.subject, '') AS person, c.address, c.method, c.target, e.body::text AS evidence \
             FROM crossings c JOIN evidence e ON e.day = c.day AND e.hash = c.evidence \
             WHERE c.day >= $1 AND (c.day, c.id) > ($1, $2) AND c.at >= $3 AND c.outcome IN ('admitted', 'refused', 'failed', 'check-failed') \
             AND ($4 IS NULL OR c.gate = $4) ORDER BY c.day, c.id LIMIT $5",
        )
        .bind::<Date, _>(day)
        .bind::<Text, _>(id)
        .bind::<Timestamptz, _>(self.since)
        .bind::<Nullable<Text>, _>(self.gate)
        .bind::<BigInt, _>(PAGE)
        .load(&mut conn)
        .await?;
        if rows.len() as i64 == PAGE {
            self.after = rows.last().map(|r| (r.day, r.id.clone()));
        }
        Ok(Some(rows))
    }
}

/// Evidence with its moment.
#[derive(QueryableByName)]
struct DatedBody {
    #[diesel(sql_type = Jsonb)]
    body: serde_json::Value,
    #[diesel(sql_type = Timestamptz)]
    at: Moment,
}

/// A row that is evidence alone.
#[derive(QueryableByName)]
struct Body {
    #[diesel(sql_type = Jsonb)]
    body: serde_json::Value,
}

impl Store {
    /// Crossings since a moment on which a gate's rules decided, in the order of day and id.
    pub fn past_crossings<'a>(&'a self, since: Moment, gate: Option<&'a str>) -> PastPages<'a> {
        PastPages { store: self, since, gate, after: Some((since.date_naive(), String::new())) }
    }

    /// The evidence of the latest crossings of the last days, as JSON: at most so many, those of one person more than once.
    pub async fn evidence_of_latest(&self, limit: i64) -> Result<Vec<serde_json::Value>, StoreError> {
        let mut conn = self.conn().await?;
        let rows: Vec<Body> = diesel::sql_query(
            "SELECT e.body FROM (SELECT DISTINCT ON (provider, subject) day, evidence, at FROM \
               (SELECT day, evidence, at, provider, subject FROM crossings WHERE evidence IS NOT NULL ORDER BY day DESC, at DESC LIMIT $1 * 10) latest \
               ORDER BY provider, subject, at DESC) c \
             JOIN evidence e ON e.day = c.day AND e.hash = c.evidence ORDER BY c.at DESC LIMIT $1",
        )
        .bind::<BigInt, _>(limit)
        .load(&mut conn)
        .await?;
        Ok(rows.into_iter().map(|r| r.body).collect())
    }

    /// The latest evidence of a person that came by their provider itself and was asked for, and when that was.
    pub async fn latest_own_evidence(&self, person: &PersonKey) -> Result<Option<(Evidence, Moment)>, StoreError> {
        self.latest(person, "AND e.body->>'through' IS NULL AND e.body->>'unasked' IS NULL").await
    }

    /// The latest evidence of a person.
    pub async fn latest_evidence(&self, person: &PersonKey) -> Result<Option<Evidence>, StoreError> {
        Ok(self.latest(person, "").await?.map(|(e, _)| e))
    }

    async fn latest(&self, person: &PersonKey, only: &str) -> Result<Option<(Evidence, Moment)>, StoreError> {
        let mut conn = self.conn().await?;
        // Evidence of a time when nobody wrote down who vouched is judged by what it holds.
        let rows: Vec<DatedBody> = diesel::sql_query(format!(
            "SELECT e.body, c.at FROM crossings c JOIN evidence e ON e.day = c.day AND e.hash = c.evidence \
             WHERE c.subject = $1 AND coalesce(e.body->>'authority', $2) = $2 {only} ORDER BY c.at DESC LIMIT 20"
        ))
        .bind::<Text, _>(&person.subject)
        .bind::<Text, _>(&person.authority)
        .load(&mut conn)
        .await?;
        let known = rows.into_iter().filter_map(|b| Some((Evidence::from_stored(b.body)?, b.at)));
        Ok(known.into_iter().find(|(e, _)| e.person() == *person))
    }
}

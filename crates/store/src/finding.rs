//! Everybody whom a text may mean: by a name, a mail address, or any other value that somebody vouched for.

use std::collections::HashMap;

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Jsonb, Nullable, Text, Timestamptz};
use diesel_async::RunQueryDsl;
use passeur_core::Moment;
use passeur_core::evidence::{Evidence, PersonKey};

use crate::pool::{Store, StoreError};

/// The most rows of each kind that are looked at.
const ROWS_MAX: i64 = 300;

/// Somebody who is known here.
#[derive(Clone, Debug)]
pub struct KnownPerson {
    pub key: PersonKey,
    pub provider: String,
    pub name: String,
    /// When they were last told of.
    pub seen: Option<Moment>,
    /// What is known of them; none where only things of theirs are left.
    pub evidence: Option<Evidence>,
}

/// How far people's names are read when they are looked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Names {
    /// A part of a name finds its person.
    Within,
    Unread,
}

/// What somebody has here.
#[derive(Clone, Debug, Default, PartialEq, Eq, QueryableByName)]
pub struct Holdings {
    #[diesel(sql_type = BigInt)]
    pub sessions: i64,
    /// Of those, sessions that keep a password of theirs.
    #[diesel(sql_type = BigInt)]
    pub kept: i64,
    #[diesel(sql_type = BigInt)]
    pub personal_tokens: i64,
    #[diesel(sql_type = BigInt)]
    pub api_tokens: i64,
    #[diesel(sql_type = BigInt)]
    pub factors: i64,
    #[diesel(sql_type = BigInt)]
    pub recovery_codes: i64,
    #[diesel(sql_type = BigInt)]
    pub devices: i64,
}

/// A gate that a live session opened, and until when the provider's own session lasts, where it says so.
#[derive(Clone, Debug, PartialEq, Eq, QueryableByName)]
pub struct OpenedGate {
    #[diesel(sql_type = Text)]
    pub gate: String,
    #[diesel(sql_type = Text)]
    pub provider: String,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub until: Option<Moment>,
    /// Until when what was shown there (an access token, a certificate) is good by itself.
    #[diesel(sql_type = Nullable<Timestamptz>)]
    pub thing_until: Option<Moment>,
}

#[derive(QueryableByName)]
struct Hit {
    #[diesel(sql_type = Nullable<Jsonb>)]
    body: Option<serde_json::Value>,
    #[diesel(sql_type = Nullable<Text>)]
    authority: Option<String>,
    #[diesel(sql_type = Nullable<Text>)]
    provider: Option<String>,
    #[diesel(sql_type = Text)]
    subject: String,
    #[diesel(sql_type = Nullable<Text>)]
    name: Option<String>,
    #[diesel(sql_type = Nullable<Timestamptz>)]
    seen: Option<Moment>,
}

/// A value anywhere in a column of evidence, to the letter but for case; `text` is an SQL expression for the text in lower case. The plain
/// search goes first: it is cheap. It looks for the text as JSON writes it, which is not the same where a value holds a backslash or a quote.
pub(crate) fn holds(column: &str, text: &str) -> String {
    format!(
        "position(to_json({text})::text in lower({column}::text)) > 0 AND \
         jsonb_path_exists(lower({column}::text)::jsonb, '$.** ? (@ == $v)', jsonb_build_object('v', {text}))"
    )
}

impl Store {
    /// Everybody who has this text as a value of theirs or as their subject, and within their name where that is wanted. Case does not count.
    pub async fn find_people(&self, text: &str, names: Names) -> Result<Vec<KnownPerson>, StoreError> {
        let mut conn = self.conn().await?;
        let names = names == Names::Within;
        let mut hits: Vec<Hit> = vec![];
        for sql in [
            format!(
                "SELECT evidence AS body, authority, provider, subject, name, last_seen AS seen FROM sessions \
                 WHERE lower(subject) = $1 OR ({names} AND position($1 in lower(name)) > 0) OR lower(provider_name) = $1 OR ({}) \
                 ORDER BY last_seen DESC LIMIT {ROWS_MAX}",
                holds("evidence", "$1")
            ),
            format!(
                "SELECT DISTINCT ON (c.provider, c.subject) e.body, NULL::text AS authority, c.provider, c.subject, c.person AS name, c.at AS seen \
                 FROM crossings c JOIN evidence e ON e.day = c.day AND e.hash = c.evidence \
                 WHERE c.subject IS NOT NULL AND c.provider IS NOT NULL AND (lower(c.subject) = $1 OR ({names} AND position($1 in lower(c.person)) > 0) OR ({})) \
                 ORDER BY c.provider, c.subject, c.at DESC LIMIT {ROWS_MAX}",
                holds("e.body", "$1")
            ),
            format!(
                "SELECT NULL::jsonb AS body, authority, provider, subject, owner_name AS name, used_at AS seen FROM personal_tokens \
                 WHERE lower(subject) = $1 OR ({names} AND position($1 in lower(owner_name)) > 0) LIMIT {ROWS_MAX}"
            ),
            format!(
                "SELECT NULL::jsonb AS body, owner_authority AS authority, owner_provider AS provider, owner_subject AS subject, owner_name AS name, used_at AS seen \
                 FROM tokens WHERE owner_subject IS NOT NULL AND (lower(owner_subject) = $1 OR ({names} AND position($1 in lower(owner_name)) > 0)) LIMIT {ROWS_MAX}"
            ),
            format!(
                "SELECT NULL::jsonb AS body, authority, provider, subject, NULL::text AS name, used_at AS seen FROM factors WHERE lower(subject) = $1 LIMIT {ROWS_MAX}"
            ),
            format!(
                "SELECT NULL::jsonb AS body, authority, provider, subject, name, NULL::timestamptz AS seen FROM blocks \
                 WHERE lower(subject) = $1 OR ({names} AND position($1 in lower(name)) > 0) LIMIT {ROWS_MAX}"
            ),
        ] {
            hits.extend(diesel::sql_query(sql).bind::<Text, _>(text.to_lowercase()).load::<Hit>(&mut conn).await?);
        }
        Ok(joined(hits))
    }

    /// What somebody has here.
    pub async fn holdings(&self, person: &PersonKey) -> Result<Holdings, StoreError> {
        let mut conn = self.conn().await?;
        let of = |table: &str, more: &str| {
            format!("(SELECT count(*) FROM {table} WHERE authority = $1 AND subject = $2 {more})::bigint")
        };
        let owned = |table: &str, more: &str| {
            format!("(SELECT count(*) FROM {table} WHERE owner_authority = $1 AND owner_subject = $2 {more})::bigint")
        };
        let sql = format!(
            "SELECT {} AS sessions, {} AS kept, {} AS personal_tokens, {} AS api_tokens, {} AS factors, {} AS recovery_codes, {} AS devices",
            of("sessions", "AND ended_at IS NULL"),
            of("sessions", "AND ended_at IS NULL AND kept IS NOT NULL"),
            of("personal_tokens", ""),
            owned("tokens", "AND revoked_at IS NULL"),
            of("factors", ""),
            of("recovery_codes", ""),
            owned("device_codes", ""),
        );
        Ok(diesel::sql_query(sql)
            .bind::<Text, _>(&person.authority)
            .bind::<Text, _>(&person.subject)
            .get_result(&mut conn)
            .await?)
    }

    /// Gates that somebody's live sessions opened.
    pub async fn opened_gates(&self, person: &PersonKey) -> Result<Vec<OpenedGate>, StoreError> {
        let mut conn = self.conn().await?;
        Ok(diesel::sql_query(
            "SELECT coalesce(t.gate, '') AS gate, s.provider, max(s.until) AS until, max(CASE WHEN s.personal_token IS NULL THEN t.remember_until END) AS thing_until \
             FROM sessions s LEFT JOIN gate_tokens t ON t.session_id = s.id \
             WHERE s.authority = $1 AND s.subject = $2 AND s.ended_at IS NULL GROUP BY 1, 2 ORDER BY 1, 2",
        )
        .bind::<Text, _>(&person.authority)
        .bind::<Text, _>(&person.subject)
        .load(&mut conn)
        .await?)
    }
}

/// One of each person: the latest that is known of them.
fn joined(hits: Vec<Hit>) -> Vec<KnownPerson> {
    let mut out: Vec<KnownPerson> = vec![];
    let mut at: HashMap<PersonKey, usize> = HashMap::new();
    for hit in hits {
        let evidence = hit.body.and_then(Evidence::from_stored);
        let key = match (&evidence, hit.authority) {
            (_, Some(authority)) => PersonKey { authority, subject: hit.subject.clone() },
            (Some(e), None) => e.person(),
            (None, None) => continue,
        };
        let Some(provider) = hit.provider else { continue };
        let name = hit.name.unwrap_or_else(|| hit.subject.clone());
        match at.get(&key).and_then(|i| out.get_mut(*i)) {
            Some(known) => {
                known.evidence = known.evidence.take().or(evidence);
                if known.name == known.key.subject {
                    known.name = name;
                }
                known.seen = known.seen.max(hit.seen);
            }
            None => {
                at.insert(key.clone(), out.len());
                out.push(KnownPerson { key, provider, name, seen: hit.seen, evidence });
            }
        }
    }
    out.sort_by(|a, b| b.seen.cmp(&a.seen).then_with(|| a.key.subject.cmp(&b.key.subject)));
    out
}

//! Who is on at a client is decided on anew: by another edition, or because rights were read again. The client is told what changed, or that it is over.

use chrono::Duration;
use passeur_core::site::{Gate, RadiusClient};
use passeur_core::step::Phrase;
use passeur_engine::ending;
use passeur_engine::tunnel::TunnelOf;
use passeur_gate_network::standing::{From, Standing, Stands, standing};
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Attribute, Kind};
use passeur_store::{PresenceRow, StoreError};
use serde_json::{Value, json};
use uuid::Uuid;

use super::RadiusGate;
use super::answer::{Said, accept};
use super::asking::quota_of;
use super::book::Present;

/// What is to be ordered after somebody was decided on anew.
#[derive(Debug)]
pub enum Next {
    /// Nothing: what the client was told counts on.
    Nothing,
    /// Other attributes, and how these are kept.
    Change(Vec<Attribute>, Given),
}

/// What a client is told, as it is kept.
#[derive(Clone, Debug)]
pub struct Given {
    pub row: Box<PresenceRow>,
    pub words: Value,
}

impl RadiusGate {
    /// Decides on somebody anew. Whom the rules let in no more is ended: the session is of that machine alone.
    ///
    /// # Errors
    /// Those of the store: nothing changed then.
    pub(super) async fn again(&self, edition: &Edition, present: &Present) -> Result<Next, StoreError> {
        let Some(session) = present.row.session_id else { return Ok(Next::Nothing) };
        let site = &edition.site;
        // The client may be none of this edition, or one of another gate.
        let client = site.radius_client(&present.at.client);
        let gate = client.and_then(|c| site.gate_of_radius_client(&c.name)).filter(|g| g.name == present.row.gate);
        let of = TunnelOf::kept(present.row.tunnel.as_ref());
        let (Some(client), Some(gate), Some(of)) = (client, gate, of) else {
            return self.over(present, session, "edition").await;
        };
        let why = match present.decided {
            Some(number) if number != edition.number => Phrase::Edition { number: i64::from(edition.number) },
            _ => Phrase::ReRead,
        };
        let generation = present.live.as_ref().map(|live| live.generation());
        match standing(&self.engine, edition, gate, session, From::Tunnel(&of), why).await? {
            Standing::Let(stands) => {
                // Rights that were read again meanwhile are decided on once more.
                let is_newest = generation == Some(stands.live.generation());
                let decided = is_newest.then_some(edition.number);
                let quota = quota_of(Some(&stands.terms));
                if quota != present.row.quota {
                    self.engine.store.quota_at_client(present.row.id, quota).await?;
                    self.book.change(present.row.id, |p| p.row.quota = quota);
                }
                Ok(self.stands((gate, client, decided), edition, present, *stands))
            }
            Standing::Refused(..) | Standing::Over => self.over(present, session, "refused-now").await,
        }
    }

    async fn over(&self, present: &Present, session: Uuid, why: &'static str) -> Result<Next, StoreError> {
        self.book.change(present.row.id, |p| p.doomed = Some(why));
        ending::end_here(&self.engine, &[session], "the rules", None).await?;
        Ok(Next::Nothing)
    }

    fn stands(
        &self,
        (gate, client, decided): (&Gate, &RadiusClient, Option<i32>),
        edition: &Edition,
        present: &Present,
        stands: Stands,
    ) -> Next {
        let session = stands.row.id;
        let said = accept(client, edition.site.delivery(gate), &stands.admitted, &stands.limits, session);
        let words = said.kept();
        let mut row = present.row.clone();
        row.crossing = stands.crossing.to_string();
        row.groups = stands.groups;
        row.quota = quota_of(Some(&stands.terms));
        row.until = row.began.checked_add_signed(stands.limits.absolute);
        row.reach = said.listed();
        let now = self.engine.now();
        self.book.change(present.row.id, |p| {
            (p.limits, p.good_until, p.decided) = (stands.limits, stands.good_until, decided);
            p.client = Some(client.clone());
            p.row.groups.clone_from(&row.groups);
            p.row.until = row.until;
        });
        if present.at.given == words {
            return Next::Nothing;
        }
        if takes_away(&present.at.given, &words) {
            // What a client is not told again stays as it was (RFC 5176 section 3.6): only a new session is without it.
            self.book.change(present.row.id, |p| p.doomed = Some("refused-now"));
            return Next::Nothing;
        }
        let lasted = now - row.began;
        Next::Change(said.in_change(lasted), Given { row: Box::new(row), words })
    }
}

/// Whether an attribute that a client was told is not among those that it would be told now.
fn takes_away(before: &Value, now: &Value) -> bool {
    let names = |all: &Value| -> Vec<String> {
        let name = |w: &Value| w.as_str()?.split(" = ").next().map(str::to_owned);
        all.as_array().into_iter().flatten().filter_map(name).collect()
    };
    let now = names(now);
    names(before).iter().any(|name| name != Kind::ReplyMessage.name() && !now.contains(name))
}

impl Said {
    /// As it is kept, for comparing.
    pub fn kept(&self) -> Value {
        json!(self.words.iter().filter(|w| !w.starts_with(Kind::Class.name())).collect::<Vec<_>>())
    }

    /// As lists show it: what it opens there, each attribute in the place of a reach.
    pub fn listed(&self) -> Value {
        let delivered = self.words.iter().take(self.delivered);
        delivered.map(|w| json!({"reach": w, "rule": ""})).collect()
    }

    /// As it is told to a client at which the session lasts already.
    pub fn in_change(&self, lasted: Duration) -> Vec<Attribute> {
        let lasted = u32::try_from(lasted.num_seconds().max(0)).unwrap_or(u32::MAX);
        let own = [Kind::Class, Kind::AcctInterimInterval].map(Kind::number);
        let change = |a: &Attribute| {
            let left = |octets: [u8; 4]| u32::from_be_bytes(octets).saturating_sub(lasted).max(1);
            match <[u8; 4]>::try_from(a.value.as_slice()) {
                Ok(octets) if a.kind == Kind::SessionTimeout.number() => Attribute::number(Kind::SessionTimeout, left(octets)),
                _ => a.clone(),
            }
        };
        self.attributes.iter().filter(|a| !own.contains(&a.kind)).map(change).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_away_is_told_from_what_changes() {
        for (before, now, taken) in [
            (vec!["Filter-Id = a", "VLAN = x"], vec!["Filter-Id = b", "VLAN = x"], false),
            (vec!["Filter-Id = a", "Filter-Id = b"], vec!["Filter-Id = b"], false),
            (vec!["Filter-Id = a", "VLAN = x"], vec!["VLAN = x"], true),
            (vec!["VLAN = x"], vec!["Filter-Id = a", "VLAN = x"], false),
            (vec!["Reply-Message = hello"], vec![], false),
        ] {
            assert_eq!(takes_away(&json!(before), &json!(now)), taken, "{before:?} {now:?}");
        }
    }

    #[test]
    fn a_change_counts_the_time_that_is_over() {
        let attributes = vec![
            Attribute::octets(Kind::FilterId, *b"a"),
            Attribute::number(Kind::SessionTimeout, 100),
            Attribute::number(Kind::AcctInterimInterval, 600),
            Attribute::octets(Kind::Class, *b"0123456789abcdef"),
        ];
        let said = Said { attributes, words: vec![], delivered: 0 };
        let values = |seconds| said.in_change(Duration::seconds(seconds)).iter().map(|a| a.value.clone()).collect::<Vec<_>>();
        assert_eq!(values(40), [b"a".to_vec(), 60u32.to_be_bytes().to_vec()]);
        assert_eq!(values(400)[1], 1u32.to_be_bytes());
    }
}

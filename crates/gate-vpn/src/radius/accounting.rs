//! What clients tell of sessions there (RFC 2866). It is answered once it is written, so that nothing is lost that a client does not send again.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

use chrono::{DateTime, Duration, Utc};
use passeur_core::Moment;
use passeur_core::account::{Account, News, Report};
use passeur_core::crossing::Outcome;
use passeur_core::site::{Gate, HardwareAddress, RadiusClient};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_engine::attempt::{self, Attempt};
use passeur_engine::ending;
use passeur_live::edition::Edition;
use passeur_protocols::radius::{Kind, Packet, terminate_cause};
use passeur_store::{Change, PresenceRow, RadiusRow, Reported, StoreError};
use serde_json::json;
use uuid::Uuid;

use super::{RadiusGate, asking, names};

/// The most sessions of a client that nobody here let in.
const UNKNOWN_MAX: i64 = 2_000;
/// The longest that a client tries to send something.
const DELAY_MAX: u32 = 7 * 86_400;

/// What an accounting request is about.
#[derive(Debug, PartialEq)]
enum About {
    Session(Report),
    /// The client begins its work, or ends it, at a moment.
    Anew(Moment),
}

/// Why nothing can be made of one.
const NO_STATUS: &str = "it has no Acct-Status-Type that is known";
const NO_NUMBER: &str = "it has no Acct-Session-Id";

fn about(packet: &Packet, now: Moment) -> Result<About, &'static str> {
    let delay = packet.number(Kind::AcctDelayTime).unwrap_or(0).min(DELAY_MAX);
    let at = now - Duration::seconds(i64::from(delay));
    let event = packet.number(Kind::EventTimestamp).and_then(|s| DateTime::<Utc>::from_timestamp(i64::from(s), 0));
    // RFC 2866 section 5.1.
    let news = match packet.number(Kind::AcctStatusType) {
        Some(1) => News::Start,
        Some(2) => News::Stop { cause: packet.number(Kind::AcctTerminateCause) },
        Some(3) => News::Interim,
        // Sent again by somebody who heard it, it says nothing of what began since.
        Some(7 | 8) => return Ok(About::Anew(event.map_or(at, |event| event.min(at)))),
        _ => return Err(NO_STATUS),
    };
    let octets = |low: Kind, high: Kind| {
        let part = |kind| u64::from(packet.number(kind).unwrap_or(0));
        part(high) << 32 | part(low)
    };
    let addresses: BTreeSet<IpAddr> =
        packet.addresses(Kind::FramedIpAddress).chain(packet.addresses(Kind::FramedIpv6Address)).filter(is_somebodys).collect();
    Ok(About::Session(Report {
        news,
        event,
        at,
        lasted: packet.number(Kind::AcctSessionTime).map(|s| Duration::seconds(i64::from(s))),
        up: octets(Kind::AcctInputOctets, Kind::AcctInputGigawords),
        down: octets(Kind::AcctOutputOctets, Kind::AcctOutputGigawords),
        addresses,
    }))
}

/// Whether an address is one that somebody has: 255.255.255.255 and 255.255.255.254 say that there is none yet (RFC 2865 section 5.8).
fn is_somebodys(address: &IpAddr) -> bool {
    match address {
        IpAddr::V4(v4) => !v4.is_unspecified() && v4.octets()[..3] != [255, 255, 255],
        IpAddr::V6(v6) => !v6.is_unspecified(),
    }
}

impl RadiusGate {
    /// Takes what a client tells. Whether it may be answered: everything is written.
    pub(super) async fn told(&self, edition: Arc<Edition>, client: &str, packet: &Packet, from: IpAddr) -> bool {
        let site = &edition.site;
        let Some(client) = site.radius_client(client) else { return false };
        let Some(gate) = site.gate_of_radius_client(&client.name) else { return false };
        let telling = Telling { own: self, client, gate, packet, from };
        let done = match about(packet, self.engine.now()) {
            Ok(About::Anew(at)) => telling.anew(at).await.map(|()| true),
            Ok(About::Session(report)) => match names::number(packet) {
                Some(number) => telling.session(number, &report).await,
                None => Ok(telling.unreadable(NO_NUMBER)),
            },
            Err(how) => Ok(telling.unreadable(how)),
        };
        done.unwrap_or_else(|e| {
            tracing::error!(error = %e, client = client.name, "what a RADIUS client tells cannot be written; it is not answered");
            false
        })
    }
}

/// What one client tells.
struct Telling<'a> {
    own: &'a RadiusGate,
    client: &'a RadiusClient,
    gate: &'a Gate,
    packet: &'a Packet,
    from: IpAddr,
}

impl Telling<'_> {
    fn unreadable(&self, how: &str) -> bool {
        self.note(step!(RadiusUnreadable { client: self.client.name.as_str(), how }));
        false
    }

    /// Records what belongs to nobody: the first of an address in full, the rest counted.
    fn note(&self, step: Step) {
        self.note_alike(step, "");
    }

    /// The same, where only what is about the same thing counts as alike.
    fn note_alike(&self, step: Step, thing: &str) {
        let mut attempt = Attempt::begin(&self.own.engine, self.gate.place(), &asking::facts(self.client, None, self.from));
        attempt.step(|| step);
        attempt.record_alike(Outcome::CheckFailed, thing);
    }

    /// The client begins its work, or ends it: nobody is on there.
    async fn anew(&self, at: Moment) -> Result<(), StoreError> {
        let engine = &self.own.engine;
        let nas = names::nas(self.packet, self.from);
        let gone = engine.store.client_began_anew(&self.client.name, &nas, at).await?;
        for row in &gone {
            self.own.book.forget(row.id);
            extend(self.own, row, step!(RadiusAnew { client: self.client.name.as_str() })).await?;
        }
        self.own.end_sessions(&gone, "its gateway").await
    }

    async fn session(&self, number: String, report: &Report) -> Result<bool, StoreError> {
        let (engine, client) = (&self.own.engine, self.client.name.as_str());
        let class = names::class(self.packet);
        match engine.store.take_report(class, report, self.unknown(report), UNKNOWN_MAX).await? {
            Reported::Full => {
                self.note(step!(RadiusTooManyUnknown { client, most: UNKNOWN_MAX }));
                Ok(false)
            }
            Reported::Of { row, after, change } => {
                self.came(&row, &after, change, &number).await?;
                if change != Change::Over {
                    self.own.over_quota(&row).await?;
                }
                Ok(true)
            }
        }
    }

    /// What is told of a session in its crossing, and what follows.
    async fn came(&self, row: &PresenceRow, after: &Account, change: Change, number: &str) -> Result<(), StoreError> {
        let client = self.client.name.as_str();
        let addresses = || match after.addresses.is_empty() {
            true => Param::reason("no-addresses"),
            false => Param::from(after.addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>()),
        };
        match change {
            Change::Unknown => {
                let user = Some(names::user(self.packet)).filter(|u| !u.is_empty()).unwrap_or_else(|| "—".into());
                // Each of them is told, and not the first alone.
                self.note_alike(step!(RadiusUnknown { client, number, user }), number);
            }
            Change::Began => extend(self.own, row, step!(RadiusBegan { client, number, addresses: addresses() })).await?,
            Change::Addresses => extend(self.own, row, step!(RadiusAddresses { client, addresses: addresses() })).await?,
            Change::GoesOn => extend(self.own, row, step!(RadiusGoesOn { client })).await?,
            Change::Over => {
                extend(self.own, row, over(client, after)).await?;
                self.own.book.forget(row.id);
                self.own.end_sessions(std::slice::from_ref(row), "its gateway").await?;
            }
            Change::None => {}
        }
        Ok(())
    }

    /// A session that nobody here let in, as it is listed.
    fn unknown(&self, report: &Report) -> (PresenceRow, RadiusRow) {
        let place = (self.gate, self.client, self.packet);
        let blank = self.own.row(place, self.from);
        let at = self.own.place_of(blank.id, place, self.from);
        let user = names::user(self.packet);
        let name = if user.is_empty() { at.nas.clone() } else { user };
        let row = PresenceRow {
            provider: "radius".into(),
            authority: "radius".into(),
            subject: name.clone(),
            name,
            began: report.at,
            ..blank
        };
        (row, at)
    }
}

fn over(client: &str, account: &Account) -> Step {
    let (ended, cause) = account.ended.unzip();
    let cause = match cause.flatten() {
        Some(n) => Param::from(terminate_cause(n).map_or_else(|| format!("Acct-Terminate-Cause {n}"), str::to_owned)),
        None => Param::reason("no-cause"),
    };
    let seconds = account.began.zip(ended).map_or(0, |(began, ended)| (ended - began).num_seconds().max(0));
    let whole = |octets: u64| i64::try_from(octets).unwrap_or(i64::MAX);
    step!(RadiusOver { client, cause, seconds, up: whole(account.up), down: whole(account.down) })
}

/// Adds a step to the crossing that let somebody in.
pub(super) async fn extend(own: &RadiusGate, row: &PresenceRow, step: Step) -> Result<(), StoreError> {
    match row.told_in() {
        Some(id) => attempt::extend(&own.engine, id, vec![step]).await,
        None => Ok(()),
    }
}

impl RadiusGate {
    /// Ends the sessions of machines that are over: each was made for that machine alone.
    pub(super) async fn end_sessions(&self, rows: &[PresenceRow], by: &str) -> Result<(), StoreError> {
        let ids: Vec<Uuid> = rows.iter().filter_map(|r| r.session_id).collect();
        if ids.is_empty() {
            return Ok(());
        }
        ending::end_here(&self.engine, &ids, by, None).await.map(|_| ())
    }

    /// A machine at a client, as it is listed: in no kernel of ours.
    pub(super) fn row(&self, (gate, client, packet): (&Gate, &RadiusClient, &Packet), from: IpAddr) -> PresenceRow {
        let calling = packet.text(Kind::CallingStationId).and_then(|t| HardwareAddress::parse(t.trim()));
        let facts = asking::facts(client, Some(packet), from);
        let of = facts.tunnel.map(|facts_of| passeur_engine::tunnel::TunnelOf {
            outside: facts.address,
            facts: facts_of,
            second: None,
            profile: None,
            server_session: None,
            trials: vec![],
        });
        let place = (gate.name.as_str(), client.name.as_str(), self.engine.node.as_str());
        PresenceRow {
            hardware: calling.map(|h| h.to_string()),
            tunnel: of.and_then(|of| serde_json::to_value(of).ok()),
            ..PresenceRow::blank(passeur_engine::random::new_uuid(), place, self.engine.now())
        }
    }

    /// What names it at the client.
    pub(super) fn place_of(
        &self,
        presence: Uuid,
        (_, client, packet): (&Gate, &RadiusClient, &Packet),
        from: IpAddr,
    ) -> RadiusRow {
        RadiusRow {
            presence,
            client: client.name.clone(),
            nas: names::nas(packet, from),
            acct: names::number(packet),
            sends_from: from.to_string(),
            known_by: names::known_by(packet),
            given: json!([]),
            account: json!({}),
            ordered: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use passeur_protocols::radius::{Attribute, Code};

    fn told(attributes: &[(Kind, u32)]) -> Result<About, &'static str> {
        let attributes = attributes.iter().map(|(k, v)| Attribute::number(*k, *v)).collect();
        about(&Packet { code: Code::AccountingRequest, id: 1, authenticator: [0; 16], attributes }, Moment::UNIX_EPOCH)
    }

    #[test]
    fn a_report_is_read_with_both_clocks_and_counters_of_64_bits() {
        let address = u32::from_be_bytes([10, 0, 0, 7]);
        let Ok(About::Session(report)) = told(&[
            (Kind::AcctStatusType, 2),
            (Kind::AcctTerminateCause, 4),
            (Kind::AcctDelayTime, 5),
            (Kind::EventTimestamp, 1_800_000_000),
            (Kind::AcctSessionTime, 60),
            (Kind::AcctInputOctets, 7),
            (Kind::AcctInputGigawords, 2),
            (Kind::AcctOutputOctets, 9),
            (Kind::FramedIpAddress, address),
        ]) else {
            panic!("it is a report")
        };
        assert_eq!(report.news, News::Stop { cause: Some(4) });
        assert_eq!((report.event.map(|e| e.timestamp()), report.at.timestamp()), (Some(1_800_000_000), -5));
        assert_eq!((report.up, report.down, report.lasted), ((2 << 32) + 7, 9, Some(Duration::seconds(60))));
        assert_eq!(report.addresses, BTreeSet::from([IpAddr::from([10, 0, 0, 7])]));
    }

    #[test]
    fn what_says_nothing_is_told_apart() {
        assert_eq!(told(&[]), Err(NO_STATUS));
        assert_eq!(told(&[(Kind::AcctStatusType, 15)]), Err(NO_STATUS));
        assert_eq!(told(&[(Kind::AcctStatusType, 7)]), Ok(About::Anew(Moment::UNIX_EPOCH)));
        let late = [(Kind::AcctStatusType, 8), (Kind::AcctDelayTime, 9), (Kind::EventTimestamp, 1_800_000_000)];
        assert_eq!(told(&late), Ok(About::Anew(Moment::UNIX_EPOCH - Duration::seconds(9))));
        // An address that says that there is none, and a delay of years.
        let Ok(About::Session(report)) =
            told(&[(Kind::AcctStatusType, 1), (Kind::FramedIpAddress, u32::MAX), (Kind::AcctDelayTime, u32::MAX)])
        else {
            panic!("it is a report")
        };
        assert!(report.addresses.is_empty() && report.at.timestamp() == -i64::from(DELAY_MAX));
    }
}

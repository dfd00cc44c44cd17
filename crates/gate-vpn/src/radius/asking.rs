//! What a RADIUS client asks, decided by the rules of its gate. Each request with a decision is a crossing.

use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, OnceLock};
use std::time::Instant;

use chrono::{Duration, NaiveTime};
use passeur_core::Moment;
use passeur_core::circumstances::RequestFacts;
use passeur_core::crossing::Outcome;
use passeur_core::decide::Terms;
use passeur_core::evidence::{Evidence, Factors, WayIn};
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, HardwareAddress, RadiusAsks, RadiusClient, Way, WayKind};
use passeur_core::step;
use passeur_core::step::{Param, Step};
use passeur_core::text::{shorten, visible};
use passeur_core::tunnel::TunnelFacts;
use passeur_engine::attempt::{self, Attempt};
use passeur_engine::passwords::{self, FLOOR, METHOD};
use passeur_engine::programs::{self, Begun, Entering, Entry, NotTaken};
use passeur_engine::{Engine, ending, tries};
use passeur_gate_network::standing::groups_of;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_protocols::radius::{Attribute, Code, Kind, Packet, Secret};
use passeur_store::{PresenceRow, RadiusRow, StoreError};
use serde_json::Map;

use super::RadiusGate;
use super::accounting::extend;
use super::answer::{accept, reject};
use super::room::Full;

/// Service-Type Authorize-Only (RFC 5176 section 3.2; RFC 2865 section 5.6 numbers the others).
const AUTHORIZE_ONLY: u32 = 17;
/// Service-Type Call-Check: only whether a machine may be there (RFC 2865 section 5.6).
const CALL_CHECK: u32 = 10;
/// The number of the vendor whose attributes carry its own kinds of CHAP (RFC 2548).
const MS_CHAP_VENDOR: u32 = 311;
/// In multiples of what one place has for an account: the tries of all places together.
const PLACES: i32 = 6;
/// The longest name that a client may say, in octets.
const NAME_MAX: usize = 253;

/// A request that is proven, with who asks and where.
pub struct Request {
    pub own: RadiusGate,
    pub edition: Arc<Edition>,
    /// The name of the client.
    pub client: String,
    pub secret: Secret,
    pub packet: Packet,
    pub from: SocketAddr,
}

/// An answer: its code, and what it says.
pub type Answer = (Code, Vec<Attribute>);

/// An answer, with the session that it opens: once that is over it is given to nobody again.
pub struct Answered {
    pub answer: Answer,
    pub opens: Option<Arc<LiveSession>>,
}

/// What a request shows.
enum Shows {
    Eap(u8),
    Chap,
    Password(String, Vec<u8>),
    AuthorizeOnly(String),
    Machine(HardwareAddress),
    Nothing,
}

/// Facts of a request: from where the person comes, as far as the client says, and otherwise the client itself.
pub fn facts(client: &RadiusClient, packet: Option<&Packet>, from: IpAddr) -> RequestFacts {
    let calling = packet.and_then(|p| p.text(Kind::CallingStationId)).and_then(|t| t.trim().parse::<IpAddr>().ok());
    let outside = calling.unwrap_or(from).to_canonical();
    RequestFacts::of_tunnel(outside, TunnelFacts::new(&client.name, None, None))
}

/// Answers a request; none where nobody can decide just now, so that the client asks another server.
pub async fn answer(request: Request) -> Option<Answered> {
    let edition = request.edition.clone();
    let client = edition.site.radius_client(&request.client)?;
    let gate = edition.site.gate_of_radius_client(&client.name)?;
    let asking = Asking { request: &request, client, gate, opens: OnceLock::new() };
    match asking.decide().await {
        Ok(answer) => Some(Answered { answer, opens: asking.opens.into_inner() }),
        Err(e) => {
            tracing::error!(error = %e, client = client.name, "a RADIUS client's request cannot be decided; it is not answered");
            None
        }
    }
}

/// How somebody comes in.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Manner {
    /// Whether a code can be asked for.
    pub asks: bool,
    /// When it is over, whatever the rules give.
    pub until: Option<Moment>,
}

pub(super) struct Asking<'a> {
    pub(super) request: &'a Request,
    pub(super) client: &'a RadiusClient,
    pub(super) gate: &'a Gate,
    /// The session that the answer opens.
    opens: OnceLock<Arc<LiveSession>>,
}

impl Asking<'_> {
    pub(super) fn engine(&self) -> &Engine {
        &self.request.own.engine
    }

    fn facts(&self) -> RequestFacts {
        facts(self.client, Some(&self.request.packet), self.request.from.ip())
    }

    fn shows(&self) -> Shows {
        let packet = &self.request.packet;
        if let Some(eap) = packet.first(Kind::EapMessage) {
            // Code, identifier, length (RFC 3748 section 4).
            return Shows::Eap(eap.get(1).copied().unwrap_or(0));
        }
        let is_ms_chap = |v: &[u8]| v.starts_with(&MS_CHAP_VENDOR.to_be_bytes());
        if packet.first(Kind::ChapPassword).is_some() || packet.all(Kind::VendorSpecific).any(is_ms_chap) {
            return Shows::Chap;
        }
        let plain = |n: &&str| !n.is_empty() && n.len() <= NAME_MAX && !n.chars().any(char::is_control);
        let name = packet.text(Kind::UserName).map(str::trim).filter(plain);
        let service = packet.number(Kind::ServiceType);
        let password = self.request.secret.password(packet);
        // A port at which nobody proves anything says the machine's address, often as the password too. Where people type names as well, it has
        // to say that nobody did: what somebody types makes them no machine.
        let hardware = name.and_then(HardwareAddress::of_any);
        let says_nothing_else = password.as_deref().is_none_or(|p| name.is_some_and(|n| p == n.as_bytes()));
        let machines_alone = self.client.may_ask(RadiusAsks::Machine) && !self.client.may_ask(RadiusAsks::Password);
        if let Some(hardware) = hardware.filter(|_| service == Some(CALL_CHECK) || (machines_alone && says_nothing_else)) {
            return Shows::Machine(hardware);
        }
        match (name, password) {
            (Some(name), _) if service == Some(AUTHORIZE_ONLY) => Shows::AuthorizeOnly(name.to_owned()),
            (Some(name), Some(password)) => Shows::Password(name.to_owned(), password),
            _ => Shows::Nothing,
        }
    }

    async fn decide(&self) -> Result<Answer, StoreError> {
        let began = Instant::now();
        let facts = self.facts();
        let mut attempt = Attempt::begin(self.engine(), self.gate.place(), &facts);
        let shows = self.shows();
        let what = match &shows {
            Shows::AuthorizeOnly(_) => RadiusAsks::AuthorizeOnly,
            Shows::Machine(_) => RadiusAsks::Machine,
            _ => RadiusAsks::Password,
        };
        attempt.step(|| self.asked(what));
        let client = self.client.name.as_str();
        match shows {
            Shows::Eap(id) => Ok(self.refuse(attempt, step!(RadiusEap { client }), "", Some(id))),
            Shows::Chap => {
                Ok(self.refuse(attempt, step!(RadiusChap { client }), "This gateway has to ask in another way.", None))
            }
            Shows::Nothing => Ok(self.refuse(attempt, step!(RadiusNothing { client }), "No name and password came.", None)),
            Shows::Password(..) | Shows::AuthorizeOnly(_) | Shows::Machine(_) if !self.client.may_ask(what) => {
                let step = step!(RadiusMayNotAsk { client, what: what.word() });
                Ok(self.refuse(attempt, step, "This gateway may not ask that.", None))
            }
            Shows::Password(name, password) => {
                let answer = match self.request.packet.first(Kind::State) {
                    Some(state) => self.by_code(attempt, &facts, (state, &name), &password).await?,
                    None => self.by_password(attempt, &facts, &name, &password).await?,
                };
                if answer.0 == Code::AccessReject {
                    tokio::time::sleep(FLOOR.saturating_sub(began.elapsed())).await;
                }
                Ok(answer)
            }
            Shows::AuthorizeOnly(name) => self.by_word(attempt, &facts, &name).await,
            Shows::Machine(hardware) => self.by_machine(attempt, &facts, hardware).await,
        }
    }

    fn asked(&self, what: RadiusAsks) -> Step {
        let packet = &self.request.packet;
        let said = |kind: Kind| {
            let text = packet.text(kind).map(|t| shorten(&visible(t), 60))?;
            Some(format!("{} {text}", kind.name()))
        };
        let all: Vec<String> =
            [Kind::CallingStationId, Kind::CalledStationId, Kind::NasIdentifier].into_iter().filter_map(said).collect();
        let calls = if all.is_empty() { Param::reason("says-nothing") } else { Param::from(all.join(", ")) };
        let what = Param::reason(match what {
            RadiusAsks::Password => "radius-password",
            RadiusAsks::AuthorizeOnly => "radius-authorize-only",
            RadiusAsks::Machine => "radius-machine",
        });
        step!(RadiusAsked { client: self.client.name.as_str(), from: self.request.from.ip().to_string(), what, calls })
    }

    /// Refuses before anybody is known: the first of an address in full, the rest counted.
    pub(super) fn refuse(&self, attempt: Attempt, step: Step, words: &str, eap: Option<u8>) -> Answer {
        self.refuse_alike(attempt, step, (words, eap), "")
    }

    /// The same, where only what was asked about the same thing counts as alike.
    fn refuse_alike(&self, mut attempt: Attempt, step: Step, (words, eap): (&str, Option<u8>), thing: &str) -> Answer {
        attempt.step(|| step);
        attempt.record_alike(Outcome::CheckFailed, thing);
        (Code::AccessReject, reject(words, eap))
    }

    fn way(&self, is: impl Fn(&Way) -> bool) -> Option<&Way> {
        let site = &self.request.edition.site;
        self.gate.access.ways.iter().filter_map(|w| site.way(w)).find(|w| is(w))
    }

    async fn by_password(
        &self,
        mut attempt: Attempt,
        facts: &RequestFacts,
        name: &str,
        password: &[u8],
    ) -> Result<Answer, StoreError> {
        let Some((way, of)) = self.way(|w| w.password().is_some()).and_then(|w| Some((w, w.password()?))) else {
            let step = step!(RadiusMayNotAsk { client: self.client.name.as_str(), what: RadiusAsks::Password.word() });
            return Ok(self.refuse(attempt, step, "This gateway may not ask that.", None));
        };
        attempt.provider = Some(way.name.clone());
        let account = of.account(name);
        let Some(counted) = self.counted(&mut attempt, way, of.tries(), (&account, facts.address)).await? else {
            let id = attempt.record_ended(Outcome::CheckFailed).await?;
            return Ok(rejected("Too many tries. Wait a quarter of an hour.", id));
        };
        // What is no text is nobody's password.
        let password = std::str::from_utf8(password).unwrap_or_default();
        match passwords::check(self.engine(), way, of, name, password).await {
            Ok(owner) => {
                self.engine().store.uncount_tries(&counted, tries::window(self.engine()).0).await?;
                attempt.step(|| owner.step);
                let factors =
                    Factors { amr: vec![METHOD.to_owned()], auth_time: Some(self.engine().now()), ..Factors::default() };
                let origin = self.request.edition.site.address.origin();
                let evidence = Evidence {
                    claims: owner.claims,
                    factors,
                    ..Evidence::of(owner.way_in, way.name.clone(), owner.subject, origin)
                };
                self.enter(attempt, facts, (evidence, owner.name), Manner { asks: true, ..Manner::default() }).await
            }
            Err(why) => {
                attempt.step(|| why.step);
                let outcome = if why.is_not_now { Outcome::Failed } else { Outcome::CheckFailed };
                let id = attempt.record_ended(outcome).await?;
                Ok(rejected("This name and password do not let you in.", id))
            }
        }
    }

    /// Counts a try for an account: from where the person comes, and from everywhere.
    async fn counted(
        &self,
        attempt: &mut Attempt,
        way: &Way,
        most: u32,
        (account, address): (&str, IpAddr),
    ) -> Result<Option<Vec<[u8; 32]>>, StoreError> {
        let each = i32::try_from(most).unwrap_or(i32::MAX);
        let place = passeur_core::address::neighbourhood(address).to_string();
        let engine = self.engine();
        let bounds = [
            (tries::slot(engine, &["radius pair", &way.name, account, &place]), each, "for-account-and-place"),
            (tries::slot(engine, &["radius account", &way.name, account]), each.saturating_mul(PLACES), "for-account"),
        ];
        let keys: Vec<[u8; 32]> = bounds.iter().map(|(k, ..)| *k).collect();
        let (span, until) = tries::window(engine);
        let counts = engine.store.count_tries(&keys, span, until).await?;
        let over = bounds.iter().zip(&counts).find(|((_, limit, _), n)| *n > limit);
        if let Some(((_, limit, bound), _)) = over {
            attempt.step(|| tries::too_many(&way.name, bound, *limit));
            return Ok(None);
        }
        Ok(Some(keys))
    }

    /// The client signed somebody in itself: by its word, and without a password.
    async fn by_word(&self, mut attempt: Attempt, facts: &RequestFacts, name: &str) -> Result<Answer, StoreError> {
        let client = self.client.name.as_str();
        let named = self.client.way.as_deref();
        let Some(way) = self.way(|w| matches!(w.kind, WayKind::Gateway) && named == Some(w.name.as_str())) else {
            let step = step!(RadiusMayNotAsk { client, what: RadiusAsks::AuthorizeOnly.word() });
            return Ok(self.refuse(attempt, step, "This gateway may not ask that.", None));
        };
        // However somebody types their name, it is theirs: a person who is kept out does not come in by other letters.
        let mut claims = Map::new();
        claims.insert("user".into(), name.into());
        claims.insert("account".into(), account_in(name).into());
        claims.insert("client".into(), client.into());
        let factors = Factors { amr: vec![way.method().to_owned()], auth_time: Some(self.engine().now()), ..Factors::default() };
        let origin = self.request.edition.site.address.origin();
        let evidence =
            Evidence { claims, factors, ..Evidence::of(WayIn::Gateway, way.name.clone(), name.to_lowercase(), origin) };
        let site = &self.request.edition.site;
        let value = match self.gate.access.asking(site, &evidence) {
            Some(asking) => match asking.value {
                Ok(value) => Param::from(format!("{} = {value}", asking.directory.key)),
                Err(absence) => Param::from(absence),
            },
            None => Param::reason("says-nothing"),
        };
        attempt.step(|| step!(RadiusNamed { client, user: name, value }));
        self.enter(attempt, facts, (evidence, name.to_owned()), Manner::default()).await
    }

    /// A machine that nobody sits at: by its hardware address, which proves nothing.
    async fn by_machine(
        &self,
        mut attempt: Attempt,
        facts: &RequestFacts,
        hardware: HardwareAddress,
    ) -> Result<Answer, StoreError> {
        let (client, said) = (self.client.name.as_str(), hardware.to_string());
        let of = self.way(Way::is_of_machines);
        let Some((way, WayKind::Machine(all))) = of.map(|w| (w, &w.kind)) else {
            let step = step!(RadiusMayNotAsk { client, what: RadiusAsks::Machine.word() });
            return Ok(self.refuse(attempt, step, "This gateway may not ask that.", None));
        };
        let way_name = way.name.as_str();
        // The port knows better who calls than whoever wrote the name.
        let calling = self.request.packet.text(Kind::CallingStationId).map(|t| shorten(&visible(t), 60));
        if let Some(calling) = calling.filter(|c| HardwareAddress::of_any(c.trim()).is_some_and(|other| other != hardware)) {
            let step = step!(RadiusMachineOdd { client, said: said.as_str(), calling });
            return Ok(self.refuse_alike(attempt, step, ("Not a machine of ours.", None), &said));
        }
        let Some(machine) = all.iter().find(|m| m.hardware == hardware) else {
            let step = step!(RadiusMachineUnknown { client, hardware: said.as_str(), way: way_name });
            return Ok(self.refuse_alike(attempt, step, ("Not a machine of ours.", None), &said));
        };
        let until = machine.until.and_time(NaiveTime::MIN).and_utc() + Duration::days(1);
        if self.engine().now() >= until {
            let step =
                step!(RadiusMachineOver { machine: machine.name.as_str(), until: machine.until.to_string(), way: way_name });
            return Ok(self.refuse_alike(attempt, step, ("Not a machine of ours any more.", None), &said));
        }
        attempt.provider = Some(way.name.clone());
        let (name, owner, purpose) = (machine.name.as_str(), machine.owner.as_str(), machine.purpose.as_str());
        attempt.step(|| step!(RadiusMachine { client, hardware: said.as_str(), machine: name, owner, purpose }));
        let mut claims = Map::new();
        for (claim, value) in [("machine", name), ("hardware", said.as_str()), ("owner", owner), ("purpose", purpose)] {
            claims.insert(claim.into(), value.into());
        }
        // Nothing was proven, and at no time.
        let factors = Factors { amr: vec![way.method().to_owned()], ..Factors::default() };
        let origin = self.request.edition.site.address.origin();
        let evidence = Evidence { claims, factors, ..Evidence::of(WayIn::Machine, way.name.clone(), said.clone(), origin) };
        self.enter(attempt, facts, (evidence, name.to_owned()), Manner { asks: false, until: Some(until) }).await
    }

    /// Decides, begins a session, and tells the client.
    pub(super) async fn enter(
        &self,
        attempt: Attempt,
        facts: &RequestFacts,
        (evidence, name): (Evidence, String),
        manner: Manner,
    ) -> Result<Answer, StoreError> {
        let (engine, edition) = (self.engine(), &self.request.edition);
        let (thing, now) = (engine.new_token().digest(), engine.now());
        let (digest, ends) = (thing, now);
        let known = (evidence.clone(), name.clone());
        let Manner { asks, until } = manner;
        let entering = Entering { evidence, name, digest, expires: until, thing, ends, paths: None, personal: None, asks };
        match programs::enter(engine, edition, self.gate, attempt, facts, entering).await {
            Ok(Entry::Begun(begun)) => self.told(facts, *begun, until).await,
            Ok(Entry::More(more)) => self.challenge(*more, known).await,
            // Nobody else holds a number that was made up just now.
            Ok(Entry::Already) => Ok((Code::AccessReject, reject("Try again.", None))),
            Err(NotTaken::Store(e)) => Err(e),
            Err(NotTaken::Refused { words, crossing }) => {
                Ok(rejected(words.as_deref().unwrap_or("The rules do not let you in here."), crossing))
            }
            Err(NotTaken::KeptOut(id)) => Ok(rejected("You are kept out.", id)),
            Err(NotTaken::TooMany(id) | NotTaken::Bad(id) | NotTaken::NotNow(id) | NotTaken::Ended(id)) => {
                Ok(rejected("You cannot come in just now.", id))
            }
        }
    }

    /// Writes who is on at the client before that is told, and tells it.
    async fn told(&self, facts: &RequestFacts, begun: Begun, until: Option<Moment>) -> Result<Answer, StoreError> {
        let (own, engine, site) = (&self.request.own, self.engine(), &self.request.edition.site);
        let (client, place) = (self.client.name.as_str(), (self.gate, self.client, &self.request.packet));
        let mut limits = begun.admitted.lifetimes(&site.lifetimes_at(Some(facts.address), Some(self.gate)));
        if let Some(until) = until {
            limits.absolute = limits.absolute.min(until - engine.now());
        }
        let said = accept(self.client, site.delivery(self.gate), &begun.admitted, &limits, begun.session);
        if self.request.secret.answer(Code::AccessAccept, &self.request.packet, said.attributes.clone()).is_none() {
            attempt::extend(engine, begun.crossing, vec![step!(RadiusNoRoom { client })]).await?;
            ending::end(engine, &[begun.session], "too much to tell", None).await?;
            return Ok(rejected("This gateway cannot be told what you may.", begun.crossing));
        }
        let of = begun.evidence.person();
        let from = self.request.from.ip();
        let blank = own.row(place, from);
        let row = PresenceRow {
            // The Class by which the client tells of it.
            id: begun.session,
            session_id: Some(begun.session),
            provider: begun.evidence.provider.clone(),
            authority: of.authority,
            subject: of.subject,
            name: begun.name.clone(),
            crossing: begun.crossing.to_string(),
            reach: said.listed(),
            quota: quota_of(begun.admitted.terms()),
            until: blank.began.checked_add_signed(limits.absolute),
            groups: groups_of(site, self.gate, &begun.evidence),
            ..blank
        };
        let at = RadiusRow { given: said.kept(), ..own.place_of(row.id, place, from) };
        let over = || rejected("You cannot come in just now.", begun.crossing);
        let gone = match own.room(self.gate, &begun, (&row, &at)).await? {
            Ok(gone) => gone,
            Err(Full::Over) => return Ok(over()),
            Err(Full::No(words, why)) => return Ok(rejected(words, own.not_in(self.gate, facts, &begun, why).await?)),
        };
        for old in &gone {
            own.book.forget(old.id);
            extend(own, old, step!(RadiusAskedAgain { client })).await?;
        }
        own.end_sessions(&gone, "its gateway").await?;
        attempt::extend(engine, begun.crossing, vec![step!(RadiusAnswered { client, attributes: said.words })]).await?;
        // Whoever was put out in the meantime is not let in.
        let Some(live) = own.note(row, at).await?.filter(|live| !live.is_ended()) else { return Ok(over()) };
        let _ = self.opens.set(live);
        Ok((Code::AccessAccept, said.attributes))
    }
}

/// What may pass for somebody within a day, as it is kept.
pub(super) fn quota_of(terms: Option<&Terms>) -> Option<i64> {
    terms.and_then(|t| t.quota).and_then(|q| i64::try_from(q).ok())
}

/// The short account name in what a client calls somebody: of `anouk@havrelune.example` and `HAVRELUNE\\anouk` it is `anouk`.
fn account_in(name: &str) -> &str {
    let account = name.rsplit_once('\\').map_or(name, |(_, account)| account);
    account.split_once('@').map_or(account, |(account, _)| account)
}

/// Words for the person, with the number by which an engineer finds out why.
pub(super) fn rejected(words: &str, crossing: CrossingId) -> Answer {
    let most = 200;
    (Code::AccessReject, reject(&format!("{} ({crossing})", shorten(words, most)), None))
}

#[cfg(test)]
mod tests {
    use super::account_in;

    #[test]
    fn the_account_is_what_stands_between_realm_and_domain() {
        for (name, account) in [
            ("anouk", "anouk"),
            ("anouk@havrelune.example", "anouk"),
            ("HAVRELUNE\\anouk", "anouk"),
            ("HAVRELUNE\\anouk@x", "anouk"),
            ("@", ""),
        ] {
            assert_eq!(account_in(name), account, "{name}");
        }
    }
}

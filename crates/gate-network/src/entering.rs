//! A machine comes in: its person is signed in, and asks for the gate's page from within a zone.
//!
//! In this order, so that whatever happens in between closes and nothing opens: decided and recorded, written to the store, noted in the
//! book, opened in the kernel, and looked at once more for an end that came meanwhile.

use std::net::IpAddr;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::crossing::Outcome;
use passeur_core::evidence::PersonKey;
use passeur_core::id::CrossingId;
use passeur_core::site::{Gate, OpenNetwork, TermsOfUse, WhenFull, Zone};
use passeur_core::step;
use passeur_core::step::{Phrase, Step};
use passeur_engine::{Engine, attempt, ending};
use passeur_live::edition::Edition;
use passeur_sluice::words::{Holder, Order};
use passeur_store::{AcceptedRow, Entered, PresenceRow, SessionRow, StoreError};
use uuid::Uuid;

use crate::book::Present;
use crate::gate::NetworkGate;
use crate::plan::class;
use crate::standing::{From, Standing, Stands, standing};

/// Over which span a quota counts.
pub const QUOTA_SPAN: Duration = Duration::hours(24);
/// Less than this is nothing: it is the largest packet that the kernel handles as one, and the one that does not fit is refused.
pub const PACKET_MAX: u64 = 65_536;
/// How often machines that must leave are asked to, before the newcomer is refused.
pub const MAKE_ROOM_TRIES: usize = 3;

/// What became of a machine that came.
pub enum Arrival {
    /// It is in no zone that this node guards: only the page is there for it.
    Elsewhere,
    /// The person accepts the terms of use first.
    Terms,
    /// It is let through.
    On(Box<Shown>),
    /// It is not, which this crossing tells.
    Not(NotOn, CrossingId),
    /// The session is over, or never was one of this gate.
    Over,
}

/// What its person is shown.
#[derive(Clone, Debug)]
pub struct Shown {
    pub row: PresenceRow,
    pub left: Option<u64>,
    /// Where it wanted to go before anybody signed in.
    pub wanted: Option<String>,
}

/// Why a machine is not let through.
#[derive(Clone, Debug)]
pub enum NotOn {
    /// Nothing on the link answers for its address.
    Unseen,
    /// The person has as many on as they may.
    Full {
        most: u16,
        machines: Vec<PresenceRow>,
    },
    QuotaUsed {
        quota: u64,
    },
    /// The address that it was to have is somebody's.
    AddressTaken,
    /// The sluice did not open.
    Sluice,
    /// The rules say no, or the personal profile by which it came does.
    Refused,
}

impl NetworkGate {
    /// Lets the machine at an address through for a session, where the rules say so.
    ///
    /// # Errors
    /// Those of the store: nothing is open then.
    pub async fn arrive(&self, edition: &Edition, gate: &Gate, session: Uuid, address: IpAddr) -> Result<Arrival, StoreError> {
        let site = &edition.site;
        let address = address.to_canonical();
        let (Some(zone), Some(network)) = (self.zone_of(site, gate, address), gate.network()) else {
            return Ok(Arrival::Elsewhere);
        };
        if zone.tunnel().is_some() {
            // Tunnels come by their VPN server alone: a browser at the far end takes nobody's place.
            let mine = self.on_at(zone, address).filter(|p| p.row.session_id == Some(session));
            return Ok(mine.map_or(Arrival::Elsewhere, |p| Arrival::On(Box::new(self.shown(&p, address)))));
        }
        let from = From::Machine(address);
        let stands = match standing(&self.engine, edition, gate, session, from, Phrase::OtherRequest).await? {
            Standing::Let(stands) => stands,
            Standing::Refused(_, crossing) => return Ok(Arrival::Not(NotOn::Refused, crossing)),
            Standing::Over => return Ok(Arrival::Over),
        };
        if wanted_terms(&self.engine, gate, &stands.row.person()).await?.is_some() {
            return Ok(Arrival::Terms);
        }
        let Some(holder) = self.holder(zone, address) else {
            let step = step!(MachineUnseen {
                address: address.to_string(),
                zone: zone.name.as_str(),
                interface: zone.interface.as_str()
            });
            let told = self.not_through(gate, &stands, Outcome::Refused, vec![step]).await?;
            return Ok(Arrival::Not(NotOn::Unseen, told));
        };
        // An edition is installed while nobody comes in; the machine is looked at by one at a time.
        let _no_install = self.changing.read().await;
        let _one = self.of_holder(&holder).lock().await;
        let known: Vec<Present> = self.book().all_at(&zone.interface, &holder).into_iter().cloned().collect();
        if let Some(present) = known.iter().find(|p| p.row.session_id == Some(session)) {
            return Ok(Arrival::On(Box::new(self.shown(present, address))));
        }
        let row = PresenceRow { address: address.to_string(), ..self.row_of(gate, zone, &holder, &stands) };
        self.written_in(gate, network, row, (holder, known), &stands, address).await
    }

    /// The row of a machine that comes in for a session.
    pub(crate) fn row_of(&self, gate: &Gate, zone: &Zone, holder: &Holder, stands: &Stands) -> PresenceRow {
        let whom = &stands.row;
        let mut row = PresenceRow {
            session_id: Some(whom.id),
            provider: whom.provider.clone(),
            authority: whom.authority.clone(),
            subject: whom.subject.clone(),
            name: whom.name.clone(),
            crossing: stands.crossing.to_string(),
            ..self.row(gate, zone, holder)
        };
        says(&mut row, stands);
        row
    }

    /// Writes a machine to the store, and opens. `known` is who is known by the same holder.
    pub(crate) async fn written_in(
        &self,
        gate: &Gate,
        network: &OpenNetwork,
        row: PresenceRow,
        (holder, known): (Holder, Vec<Present>),
        stands: &Stands,
        address: IpAddr,
    ) -> Result<Arrival, StoreError> {
        let Some(session) = row.session_id else { return Ok(Arrival::Over) };
        let most = stands.terms.devices.unwrap_or(network.devices);
        let used = self.used(stands, gate).await?;
        if let Some(quota) = stands.terms.quota.filter(|q| used.saturating_add(PACKET_MAX) > *q) {
            let step = step!(QuotaUsed { used: used as i64, quota: quota as i64 });
            let told = self.not_through(gate, stands, Outcome::Refused, vec![step]).await?;
            return Ok(Arrival::Not(NotOn::QuotaUsed { quota }, told));
        }
        match self.make_room(&row, most, network.when_full).await? {
            Entered::On { moved } => {
                self.gone(&moved);
                if moved.iter().any(|m| m.node != self.engine.node) {
                    passeur_engine::rights::changed(&self.engine, session).await?;
                }
            }
            Entered::Full(machines) => {
                let known = machines.iter().map(|m| m.known_by().to_owned()).collect::<Vec<_>>();
                let step = step!(DevicesFull { most: i64::from(most), machines: known });
                let told = self.not_through(gate, stands, Outcome::Refused, vec![step]).await?;
                return Ok(Arrival::Not(NotOn::Full { most, machines }, told));
            }
            Entered::Over => return Ok(Arrival::Over),
        }
        let id = row.id;
        let done = self.let_in(gate, row, (holder, known), (stands, used, address)).await;
        if done.is_err() {
            // It is in the store and not in the kernel; it would count among the person's machines.
            self.cut(&[id]);
            self.engine.store.leave(&[id], self.engine.now(), "sluice").await?;
        }
        done
    }

    /// What comes after it is in the store.
    async fn let_in(
        &self,
        gate: &Gate,
        row: PresenceRow,
        (holder, known): (Holder, Vec<Present>),
        (stands, used, address): (&Stands, u64, IpAddr),
    ) -> Result<Arrival, StoreError> {
        // Somebody else was on with this machine: it is this person's now. Nobody is, where an address was given out for a tunnel.
        let before: Vec<Uuid> = known.iter().map(|p| p.row.id).collect();
        self.off(&before, "signed-in-on").await?;
        attempt::extend(&self.engine, stands.crossing, self.steps_on(&row, stands)).await?;
        let mut present = Present::new(row, holder, class(&stands.terms));
        take(&mut present, stands, used);
        self.open(gate, present, stands, address).await
    }

    /// Opens in the kernel what is in the book first, so that an end that comes meanwhile finds it.
    async fn open(&self, gate: &Gate, present: Present, stands: &Stands, address: IpAddr) -> Result<Arrival, StoreError> {
        let (id, mark) = (present.row.id, present.mark());
        let order = Order::Admit(Box::new(present.admission()));
        let shown = self.shown(&present, address);
        self.book().present.insert(id, present);
        let done = self.sluice.order(&order);
        if let Err(e) = &done {
            tracing::error!(event = "network.not-opened", error = %e, "a machine could not be let through");
            let step = step!(SluiceFailed { zone: shown.row.zone.as_str(), node: self.engine.node.as_str(), how: e.to_string() });
            self.off(&[id], "sluice").await?;
            let told = self.not_through(gate, stands, Outcome::Failed, vec![step]).await?;
            return Ok(Arrival::Not(NotOn::Sluice, told));
        }
        if stands.live.is_ended() {
            self.off(&[id], "ended").await?;
            return Ok(Arrival::Over);
        }
        self.knows_addresses(id).await?;
        if shown.row.tunnel.is_none() {
            self.note_came(&shown.row.zone);
        }
        tracing::info!(event = "network.on", person = shown.row.name, zone = shown.row.zone, mark, "a machine is let through");
        Ok(Arrival::On(Box::new(shown)))
    }

    fn shown(&self, present: &Present, address: IpAddr) -> Shown {
        Shown { row: present.row.clone(), left: present.left, wanted: self.wanted(address) }
    }

    /// How much passed for a person within the span of quotas, as it was written last; not asked where there is no quota.
    pub(crate) async fn used(&self, stands: &Stands, gate: &Gate) -> Result<u64, StoreError> {
        if stands.terms.quota.is_none() {
            return Ok(0);
        }
        let stored = self.engine.store.passed(&stands.row.person(), &gate.name, self.engine.now() - QUOTA_SPAN).await?;
        Ok(u64::try_from(stored).unwrap_or(0))
    }

    /// Writes it to the store, with room for it where the gate ends the oldest.
    async fn make_room(&self, row: &PresenceRow, most: u16, when_full: WhenFull) -> Result<Entered, StoreError> {
        for _ in 0..MAKE_ROOM_TRIES {
            let entered = self.engine.store.enter(row.clone(), i64::from(most)).await?;
            let (Entered::Full(machines), WhenFull::EndOldest) = (&entered, when_full) else { return Ok(entered) };
            let Some(first) = machines.first() else { return Ok(entered) };
            let Some(oldest) = first.session_id else { return Ok(entered) };
            if first.interface.is_empty() {
                // It is at a RADIUS client, which is ordered to end it; the session is of that machine alone.
                ending::end(&self.engine, &[oldest], "another machine", None).await?;
                continue;
            }
            if row.tunnel.is_some() {
                // The tunnel alone: its session may be the newcomer's own. The client is ended for good, and does not come back by itself.
                self.engine.store.leave(&[first.id], self.engine.now(), "another-machine").await?;
                self.gone(std::slice::from_ref(first));
                if first.node != self.engine.node {
                    passeur_engine::rights::changed(&self.engine, oldest).await?;
                }
                continue;
            }
            // The session as a whole: its browser would only have to ask again.
            ending::end(&self.engine, &[oldest], "another machine", None).await?;
            let still: Vec<Uuid> = machines.iter().filter(|m| m.session_id == Some(oldest)).map(|m| m.id).collect();
            self.engine.store.leave(&still, self.engine.now(), "ended").await?;
        }
        self.engine.store.enter(row.clone(), i64::from(most)).await
    }

    fn steps_on(&self, row: &PresenceRow, stands: &Stands) -> Vec<Step> {
        let until = row.until.map(|u| u.format("%Y-%m-%d %H:%M UTC").to_string()).unwrap_or_default();
        let mut steps = vec![step!(MachineOn { machine: row.known_by(), zone: row.zone.as_str(), opens: words(stands), until })];
        if stands.terms.opens.is_empty() && !stands.tried {
            steps.push(step!(OpensNothing { zone: row.zone.as_str() }));
        }
        steps
    }

    /// Notes that the person of a session accepts a version of the terms. False where the session is over.
    ///
    /// # Errors
    /// Those of the store.
    pub async fn accept(&self, edition: &Edition, gate: &Gate, session: Uuid, address: IpAddr) -> Result<bool, StoreError> {
        let standing = standing(&self.engine, edition, gate, session, From::Machine(address), Phrase::OtherRequest).await?;
        let Standing::Let(stands) = standing else { return Ok(false) };
        accept_terms(&self.engine, gate, &stands.row, (address, stands.crossing)).await?;
        Ok(true)
    }
}

/// The terms of use that somebody accepts before a gate opens to them; none where it has none, or they did.
///
/// # Errors
/// Those of the store.
pub async fn wanted_terms<'a>(engine: &Engine, gate: &'a Gate, person: &PersonKey) -> Result<Option<&'a TermsOfUse>, StoreError> {
    let Some(terms) = gate.network().and_then(|n| n.terms.as_ref()) else { return Ok(None) };
    let accepted = engine.store.terms_accepted(&gate.name, &terms.version, person).await?.is_some();
    Ok((!accepted).then_some(terms))
}

/// Notes that the person of a live session accepts the terms of use of a gate, from an address; a crossing tells of it.
///
/// # Errors
/// Those of the store.
pub async fn accept_terms(
    engine: &Engine,
    gate: &Gate,
    whom: &SessionRow,
    (address, crossing): (IpAddr, CrossingId),
) -> Result<(), StoreError> {
    let Some(terms) = gate.network().and_then(|n| n.terms.as_ref()) else { return Ok(()) };
    let at = engine.now();
    let row = AcceptedRow {
        gate: gate.name.clone(),
        version: terms.version.clone(),
        authority: whom.authority.clone(),
        subject: whom.subject.clone(),
        provider: whom.provider.clone(),
        name: whom.name.clone(),
        address: address.to_string(),
        at,
    };
    engine.store.accept_terms(row).await?;
    let at = at.format("%Y-%m-%d %H:%M:%S UTC").to_string();
    attempt::extend(engine, crossing, vec![step!(TermsAccepted { version: terms.version.as_str(), at })]).await
}

/// Puts what a decision says into the row of a machine.
pub(crate) fn says(row: &mut PresenceRow, stands: &Stands) {
    row.reach = opens(stands);
    row.until = Some(longest(stands));
    row.quota = stands.terms.quota.and_then(|q| i64::try_from(q).ok());
    row.rate = stands.terms.rate.and_then(|r| i64::try_from(r).ok());
    row.groups = stands.groups.clone();
}

/// What a decision leaves of a session's life at the gate.
fn longest(stands: &Stands) -> Moment {
    let longest = stands.row.began + stands.limits.absolute;
    stands.row.until.map_or(longest, |u| u.min(longest))
}

/// Puts what a decision says into a machine that is on.
pub(crate) fn take(present: &mut Present, stands: &Stands, used: u64) {
    present.session = Some(stands.live.clone());
    present.limits = stands.limits;
    present.good_until = stands.good_until;
    present.idle = stands.terms.idle.unwrap_or(Duration::MAX);
    present.left = stands.terms.quota.map(|q| q.saturating_sub(used));
}

/// What is open, for the store.
fn opens(stands: &Stands) -> serde_json::Value {
    let one = |o: &passeur_core::decide::Opens| serde_json::json!({"reach": o.reach, "rule": o.rule});
    stands.terms.opens.iter().map(one).collect()
}

/// The same in words.
pub(crate) fn words(stands: &Stands) -> Vec<String> {
    stands.terms.opens.iter().map(|o| format!("{} ({})", o.reach, o.rule)).collect()
}

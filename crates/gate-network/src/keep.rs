//! What a node that guards zones does by itself: it keeps kernel, store and edition of one mind, renews what is open, counts what passed, and
//! looks at what changes on the links.
//!
//! Nothing here opens anything while the store is silent: what is open is renewed only as long as this node sees what was ended, and closes
//! by itself otherwise.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::atomic::Ordering;
use std::time::Duration as StdDuration;

use chrono::Duration;
use passeur_core::session::State as Life;
use passeur_core::step;
use passeur_engine::{attempt, sessions};
use passeur_live::edition::Edition;
use passeur_sluice::client::SluiceError;
use passeur_sluice::words::{Holder, Order};
use passeur_store::{PresenceRow, StoreError};
use tokio::sync::{mpsc, watch};
use tokio::time::{MissedTickBehavior, interval};
use uuid::Uuid;

use crate::book::{LEASE_MS, Present, holder_of};
use crate::entering::PACKET_MAX;
use crate::gate::NetworkGate;
use crate::neighbours::{Change, interface_number};
use crate::plan::{class_of, guarded, on_link, plan};

/// How often the sluice is asked how it is, and lifetimes are looked at.
const LOOK_EVERY: StdDuration = StdDuration::from_millis(500);
/// At how many looks the others are told how this node stands.
const TELL_EVERY: u64 = 4;
/// How often it is looked whether another edition is live.
const NEWS_EVERY: StdDuration = StdDuration::from_millis(50);
/// How often what passed is read and written.
const COUNT_EVERY: StdDuration = StdDuration::from_secs(5);
/// How often what is open is renewed: a third of its lease.
const RENEW_EVERY: StdDuration = StdDuration::from_millis(LEASE_MS / 3);
/// How often names are resolved.
const NAMES_EVERY: StdDuration = StdDuration::from_secs(20);
/// The most addresses that a machine may have at a time, and in all while it is on: privacy addresses change once a day or so.
const ADDRESSES_MAX: usize = 64;
const HAD_MAX: usize = 1_000;
/// While the revocation counter was not seen for longer than this, nothing is renewed.
const BLIND_MS: i64 = 10_000;

/// When the kernel is told of a machine without a person.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kernel {
    AtOnce,
    /// By the edition that is being installed.
    WithTheEdition,
}

/// Runs until `stop` changes.
pub async fn run(gate: NetworkGate, mut stop: watch::Receiver<bool>) {
    let (tell, mut changes) = mpsc::channel(1_000);
    if let Err(e) = gate.neighbours.watch(tell) {
        tracing::error!(error = %e, "neighbours cannot be watched; machines on a link cannot be let through");
    }
    if let Err(e) = gate.remember().await {
        tracing::error!(error = %e, "who was on cannot be read");
    }
    let (mut told, mut tried, mut looks) = (None, None, 0u64);
    let ticks = |every| {
        let mut t = interval(every);
        t.set_missed_tick_behavior(MissedTickBehavior::Delay);
        t
    };
    let (mut look, mut count, mut renew, mut names, mut news) =
        (ticks(LOOK_EVERY), ticks(COUNT_EVERY), ticks(RENEW_EVERY), ticks(NAMES_EVERY), ticks(NEWS_EVERY));
    loop {
        tokio::select! {
            _ = look.tick() => {
                gate.look().await;
                looks += 1;
                if let Some(edition) = gate.engine.live.get().filter(|_| looks % TELL_EVERY == 1) {
                    gate.tell(&edition, &mut told).await;
                }
            }
            _ = news.tick() => {
                // Once at once; where the sluice does not take it, at every look.
                let live = gate.engine.live.get().filter(|e| tried != Some(e.number));
                if let Some(edition) = live {
                    tried = Some(edition.number);
                    gate.install(&edition).await;
                }
            }
            _ = count.tick() => gate.count().await,
            _ = renew.tick() => gate.renew().await,
            _ = names.tick() => gate.resolve_names().await,
            Some(change) = changes.recv() => gate.heard(change).await,
            _ = stop.changed() => break,
        }
    }
    gate.count().await;
}

impl NetworkGate {
    /// Asks the sluice for what may take a while, where nobody else waits.
    pub(crate) async fn blocking<T: Send + 'static>(
        &self,
        ask: impl FnOnce(&NetworkGate) -> Result<T, SluiceError> + Send + 'static,
    ) -> Result<T, SluiceError> {
        let own = self.clone();
        self.runtime.spawn_blocking(move || ask(&own)).await.unwrap_or(Err(SluiceError::Other))
    }

    /// Reads who was on at this node when it ended.
    async fn remember(&self) -> Result<(), StoreError> {
        let Some(edition) = self.engine.live.get() else { return Ok(()) };
        let mut over = vec![];
        for row in self.engine.store.presences_of_node(&self.engine.node).await? {
            match self.remembered(&edition, row.clone()).await? {
                Some(present) => {
                    self.book().present.insert(present.row.id, present);
                }
                None => over.push(row.id),
            }
        }
        self.engine.store.leave(&over, self.engine.now(), "ended").await.map(|_| ())
    }

    async fn remembered(&self, edition: &Edition, row: PresenceRow) -> Result<Option<Present>, StoreError> {
        let (Some(holder), Some(session)) = (holder_of(&row), row.session_id) else { return Ok(None) };
        let live = match sessions::by_id(&self.engine, session).await? {
            Some((stored, live)) if sessions::state(&self.engine, edition, &stored, &live) == Life::Live => live,
            _ => return Ok(None),
        };
        let addresses = self.engine.store.addresses_of(&[row.id]).await?;
        let mut present = Present::new(row, holder, class_of(&[]));
        present.session = Some(live);
        present.addresses = addresses.iter().filter(|a| a.ended_at.is_none()).filter_map(|a| a.address.parse().ok()).collect();
        Ok(Some(present))
    }

    /// Asks the sluice how it is, and puts it right where it is not; ends what is over.
    async fn look(&self) {
        let state = self.blocking(|own| own.sluice.state()).await;
        let before = self.state();
        match &state {
            Ok(now) => {
                if let Some(found) = now.found.as_ref().filter(|_| before.as_ref().is_some_and(|b| b.restored < now.restored)) {
                    tracing::error!(
                        event = "network.restored",
                        found,
                        "somebody else changed the packet filter; it was put back"
                    );
                }
                self.set_state(Some(now.clone()));
            }
            Err(e) => {
                self.set_state(None);
                self.set_trouble(Some(e.to_string()));
                return;
            }
        }
        self.cut_owed();
        if let Some(edition) = self.engine.live.get() {
            let in_force = state.as_ref().ok().and_then(|s| s.edition);
            // At start the kernel may hold what another run of this node left there.
            if in_force != Some(edition.number) || !self.compared.load(Ordering::Acquire) {
                self.install(&edition).await;
            }
            self.end_what_is_over(&edition).await;
            self.machines_return(&edition).await;
        }
        let state = self.state().unwrap_or_default();
        let in_force = self.engine.live.get().is_none_or(|e| state.edition == Some(e.number));
        if in_force && self.book().owed.is_empty() {
            self.set_trouble(state.trouble);
        }
    }

    /// Puts an edition into force: everybody who is on is decided anew, and the kernel is led over in one step.
    pub(crate) async fn install(&self, edition: &Edition) {
        let _alone = self.changing.write().await;
        // Which interfaces the sluice was given is known once it answered: before, the edition would guard none, and everybody be cut.
        let Some(state) = self.state() else { return };
        // Somebody else may have seen to it while this waited.
        let is_there = state.edition == Some(edition.number) && self.compared.load(Ordering::Acquire);
        let is_old = self.engine.live.get().is_some_and(|live| live.number > edition.number);
        if is_there || is_old {
            return;
        }
        let (mut out, mut kept) = (vec![], vec![]);
        let all: Vec<Present> = self.book().present.values().filter(|p| p.session.is_some()).cloned().collect();
        for present in all {
            match self.decided(edition, &present, "edition").await {
                Ok(Some(next)) => kept.push(next),
                Ok(None) => out.push(present.row.id),
                Err(e) => {
                    tracing::error!(error = %e, "an edition is not in force in the kernel yet: somebody who is on cannot be decided anew");
                    return;
                }
            }
        }
        for next in &kept {
            self.book().present.insert(next.row.id, next.clone());
        }
        if let Err(e) = self.put_machines(edition, Kernel::WithTheEdition).await {
            tracing::error!(error = %e, "machines without a person cannot be written");
        }
        // What another edition opened first is not carried over: the reach may be another one.
        out.extend(self.book().present.values().filter(|p| p.is_first()).map(|p| p.row.id));
        let admissions = self.book().admissions(&out);
        let order = Order::Install { plan: plan(edition.number, &edition.site, &self.interfaces(), &self.doors), admissions };
        match self.blocking(move |own| own.sluice.install(&order)).await {
            Ok(done) => {
                let (added, cut, stayed) = (done.added, done.cut, done.kept);
                tracing::info!(
                    event = "network.installed",
                    edition = edition.number,
                    added,
                    cut,
                    stayed,
                    "an edition guards its zones"
                );
            }
            Err(e) => {
                self.set_trouble(Some(e.to_string()));
                return;
            }
        }
        self.compared.store(true, Ordering::Release);
        self.set_state(self.blocking(|own| own.sluice.state()).await.ok());
        if let Err(e) = self.off(&out, "edition").await {
            tracing::error!(error = %e, "who is off could not be written");
        }
        for next in &kept {
            if let Err(e) = self.engine.store.redecided(&next.row).await {
                tracing::error!(error = %e, "what is open to a machine could not be written");
            }
        }
        self.resolve_names().await;
    }

    /// A machine without a person is on again once nobody is signed in on it.
    async fn machines_return(&self, edition: &Edition) {
        let _no_install = self.changing.read().await;
        if let Err(e) = self.put_machines(edition, Kernel::AtOnce).await {
            tracing::error!(error = %e, "machines without a person cannot be written");
        }
    }

    /// Machines without a person of an edition: those that are to be on, and no others.
    async fn put_machines(&self, edition: &Edition, kernel: Kernel) -> Result<(), StoreError> {
        let now = self.engine.now();
        let interfaces = self.interfaces();
        let mut wanted = vec![];
        for (gate, zone) in guarded(&edition.site, &interfaces).filter(|(_, z)| on_link(z)) {
            for machine in gate.network().into_iter().flat_map(|n| &n.machines).filter(|m| m.until >= now.date_naive()) {
                wanted.push((gate, zone, machine));
            }
        }
        let of = |p: &Present| (p.row.interface.clone(), p.holder);
        let keep: BTreeSet<(String, Holder)> =
            wanted.iter().map(|(_, z, m)| (z.interface.clone(), Holder::Link(m.hardware.0))).collect();
        let gone: Vec<Uuid> = {
            let book = self.book();
            book.present
                .values()
                .filter(|p| p.session.is_none() && !p.is_first() && !keep.contains(&of(p)))
                .map(|p| p.row.id)
                .collect()
        };
        self.off(&gone, "machine-over").await?;
        for (gate, zone, machine) in wanted {
            let holder = Holder::Link(machine.hardware.0);
            // Somebody may be signing in on it just now.
            let _one = self.of_holder(&holder).lock().await;
            let known = self.book().at(&zone.interface, &holder).map(|p| (p.row.id, p.session.is_some()));
            let class = class_of(&machine.reach);
            match known {
                // A person's reach counts while they are on it.
                Some((_, true)) => continue,
                Some((id, false)) => {
                    if let Some(p) = self.book().present.get_mut(&id) {
                        p.class = class;
                    }
                    continue;
                }
                None => {}
            }
            let opens = |r: &String| serde_json::json!({"reach": r, "rule": format!("machine {}", machine.name)});
            let row = PresenceRow {
                provider: "machine".into(),
                authority: "machine".into(),
                subject: machine.name.clone(),
                name: machine.name.clone(),
                reach: machine.reach.iter().map(opens).collect(),
                until: machine.until.and_hms_opt(23, 59, 59).map(|t| t.and_utc()),
                ..self.row(gate, zone, &holder)
            };
            self.engine.store.enter(row.clone(), i64::MAX).await?;
            let present = Present::new(row, holder, class);
            let (id, order) = (present.row.id, Order::Admit(Box::new(present.admission())));
            self.book().present.insert(id, present);
            if kernel == Kernel::AtOnce
                && let Err(e) = self.blocking(move |own| own.sluice.order(&order)).await
            {
                tracing::error!(error = %e, "a machine without a person could not be let through; it is tried again");
                self.off(&[id], "sluice").await?;
                continue;
            }
            self.knows_addresses(id).await?;
        }
        Ok(())
    }

    /// Ends what is over by itself, and decides anew what time may have changed.
    async fn end_what_is_over(&self, edition: &Edition) {
        let now = self.engine.now();
        let (mut over, mut due): (Vec<(Uuid, &str)>, Vec<Uuid>) = (vec![], vec![]);
        for p in self.book().present.values() {
            let state = p.session.as_ref().map(|s| s.state(&p.limits, now));
            match state {
                Some(Life::Ended) => over.push((p.row.id, "ended")),
                Some(Life::TooOld) => over.push((p.row.id, "too-old")),
                Some(Life::IdleTooLong) => over.push((p.row.id, "idle-too-long")),
                None if p.until().is_some_and(|u| u <= now) => {
                    over.push((p.row.id, if p.is_first() { "first-over" } else { "machine-over" }));
                }
                _ if p.idle != Duration::MAX && now - p.moved >= p.idle => over.push((p.row.id, "idle-too-long")),
                _ if p.left.is_some_and(|left| left < PACKET_MAX) => over.push((p.row.id, "quota")),
                _ if p.good_until.is_some_and(|g| g <= now) => due.push(p.row.id),
                _ => {}
            }
        }
        for (id, why) in over {
            if let Err(e) = self.off(&[id], why).await {
                tracing::error!(error = %e, "who is off could not be written");
            }
        }
        self.again(edition, &due, "time").await;
    }

    /// Reads what passed, and writes it.
    async fn count(&self) {
        let counted = match self.blocking(|own| own.sluice.count()).await {
            Ok(counted) => counted,
            Err(e) => {
                tracing::warn!(error = %e, "what passed cannot be read");
                return;
            }
        };
        let now = self.engine.now();
        let by_mark: std::collections::HashMap<u32, _> = counted.into_iter().map(|c| (c.mark, c)).collect();
        let mut changed = vec![];
        for p in self.book().present.values_mut() {
            let Some(counted) = by_mark.get(&p.mark()) else { continue };
            if p.count(*counted) {
                p.moved = now;
                // Whoever uses the network uses the session.
                if let Some(session) = &p.session {
                    session.touch(now);
                }
                p.row.counted_at = now;
                changed.push((p.row.id, p.row.up, p.row.down));
            }
        }
        if let Err(e) = self.engine.store.counted(&changed, now).await {
            tracing::warn!(error = %e, "what passed could not be written");
        }
    }

    /// Renews what is open, as long as this node sees what was ended.
    async fn renew(&self) {
        if self.engine.sessions.revocations_age_ms() > BLIND_MS {
            tracing::error!(event = "network.blind", "the store does not answer; what is open closes by itself");
            return;
        }
        let marks: Vec<u32> = self.book().admissions(&[]).iter().map(|a| a.mark).collect();
        if marks.is_empty() {
            return;
        }
        let order = Order::Renew { marks, lease_ms: LEASE_MS };
        if let Err(e) = self.blocking(move |own| own.sluice.order(&order)).await {
            self.set_trouble(Some(format!("what is open could not be renewed: {e}")));
        }
    }

    /// Something changed on a link.
    async fn heard(&self, change: Change) {
        let done = match change {
            Change::Answers { address, interface, hardware, .. } => self.answers(address, interface, hardware).await,
            Change::Gone { address, interface } => self.address_gone(address, interface).await,
        };
        if let Err(e) = done {
            tracing::warn!(error = %e, "a change of addresses could not be written");
        }
    }

    fn on_interface(&self, interface: u32, is: impl Fn(&Present) -> bool) -> Option<Present> {
        let found: Vec<Present> = self.book().present.values().filter(|p| is(p)).cloned().collect();
        found.into_iter().find(|p| interface_number(&p.row.interface) == Some(interface))
    }

    async fn answers(&self, address: IpAddr, interface: u32, hardware: [u8; 6]) -> Result<(), StoreError> {
        // Whoever had the address before has it no more: whatever goes there would be somebody else's.
        if let Some(other) = self
            .on_interface(interface, |p| p.addresses.contains(&address) && matches!(p.holder, Holder::Link(h) if h != hardware))
        {
            if let Some(id) = other.row.told_in() {
                let step = step!(AddressHandedOver {
                    address: address.to_string(),
                    machine: other.row.known_by(),
                    to: passeur_core::site::HardwareAddress(hardware).to_string()
                });
                attempt::extend(&self.engine, id, vec![step]).await?;
            }
            self.off(&[other.row.id], "handed-over").await?;
        }
        // The same hardware address on two links is a copy, and nobody can say which.
        let numbers: Vec<u32> = self.interfaces().iter().filter_map(|n| interface_number(n)).collect();
        if self.neighbours.elsewhere((interface, hardware), &numbers).is_some() {
            let twice: Vec<Uuid> = {
                let book = self.book();
                book.present
                    .values()
                    .filter(|p| p.holder == Holder::Link(hardware) && p.session.is_some())
                    .map(|p| p.row.id)
                    .collect()
            };
            return self.off(&twice, "two-places").await;
        }
        match self.on_interface(interface, |p| p.holder == Holder::Link(hardware)) {
            Some(mine) => self.gains(mine.row.id, address).await,
            None => Ok(()),
        }
    }

    /// A machine that came in has addresses that it had before: the link tells only of what changes.
    pub(crate) async fn knows_addresses(&self, id: Uuid) -> Result<(), StoreError> {
        let at = self.book().present.get(&id).map(|p| (p.row.interface.clone(), p.holder));
        let (interface, hardware) = match at {
            Some((interface, Holder::Link(hardware))) => (interface, hardware),
            Some((_, Holder::Pair(_, second))) => return self.gains(id, second.into()).await,
            Some((_, Holder::Address(_))) | None => return Ok(()),
        };
        let Some(interface) = interface_number(&interface) else { return Ok(()) };
        for address in self.neighbours.addresses((interface, hardware)) {
            self.gains(id, address).await?;
        }
        Ok(())
    }

    /// A machine has an address, which may be known already. One that is not of the zone, such as that of the link alone, goes nowhere.
    async fn gains(&self, id: Uuid, address: IpAddr) -> Result<(), StoreError> {
        let Some(edition) = self.engine.live.get() else { return Ok(()) };
        let (mine, is_new) = {
            let mut book = self.book();
            let Some(p) = book.present.get_mut(&id) else { return Ok(()) };
            if !edition.site.zone(&p.row.zone).is_some_and(|z| z.holds(address)) {
                return Ok(());
            }
            let before = (p.addresses.len(), p.had);
            let is_new = p.addresses.insert(address);
            p.had += usize::from(is_new);
            ((p.row.clone(), before), is_new)
        };
        let (row, (at_a_time, in_all)) = mine;
        if !is_new {
            return Ok(());
        }
        if at_a_time >= ADDRESSES_MAX || in_all >= HAD_MAX {
            // Whoever makes up addresses without end would have each of them written down.
            return self.off(&[id], "too-many-addresses").await;
        }
        self.engine.store.gained_address(id, &address.to_string(), self.engine.now()).await?;
        match row.told_in() {
            Some(crossing) => {
                let step = step!(AddressGained { machine: row.known_by(), address: address.to_string() });
                attempt::extend(&self.engine, crossing, vec![step]).await
            }
            None => Ok(()),
        }
    }

    async fn address_gone(&self, address: IpAddr, interface: u32) -> Result<(), StoreError> {
        let Some(mine) = self.on_interface(interface, |p| p.addresses.contains(&address)) else { return Ok(()) };
        if let Some(p) = self.book().present.get_mut(&mine.row.id) {
            p.addresses.remove(&address);
        }
        self.engine.store.lost_address(mine.row.id, &address.to_string(), self.engine.now()).await?;
        match mine.row.told_in() {
            Some(id) => {
                let step = step!(AddressLost { machine: mine.row.known_by(), address: address.to_string() });
                attempt::extend(&self.engine, id, vec![step]).await
            }
            None => Ok(()),
        }
    }
}

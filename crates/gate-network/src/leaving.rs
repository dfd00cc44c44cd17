//! A machine leaves: cut in the kernel first, written afterwards.

use std::time::Instant;

use passeur_core::step;
use passeur_core::step::{Param, Phrase};
use passeur_engine::attempt;
use passeur_live::edition::Edition;
use passeur_sluice::words::Order;
use passeur_store::{PresenceRow, StoreError};
use uuid::Uuid;

use crate::book::Present;
use crate::entering::{PACKET_MAX, says, take, words};
use crate::gate::NetworkGate;
use crate::plan::class;
use crate::standing::{From, Standing, standing};

impl NetworkGate {
    /// Sessions were ended, and are flagged: their machines are cut before this returns, and written down afterwards.
    pub fn ended(&self) {
        let ids = self.book().of_ended();
        if ids.is_empty() {
            return;
        }
        let gone = self.cut(&ids);
        let (own, runtime) = (self.clone(), self.runtime.clone());
        runtime.spawn(async move { own.write_off(gone, "ended").await });
    }

    /// Takes machines out of the book and cuts them. What the sluice does not do is owed, and tried again.
    pub(crate) fn cut(&self, ids: &[Uuid]) -> Vec<Present> {
        let gone: Vec<Present> = {
            let mut book = self.book();
            let gone: Vec<Present> = ids.iter().filter_map(|id| book.present.remove(id)).collect();
            gone.iter().for_each(|p| book.owe(p));
            gone
        };
        self.cut_owed();
        if !gone.is_empty() {
            self.left.send_modify(|n| *n = n.wrapping_add(1));
        }
        gone
    }

    /// Cuts what is owed. Blocks for as long as the sluice takes.
    pub(crate) fn cut_owed(&self) {
        let owed: Vec<u32> = self.book().owed.keys().copied().collect();
        if owed.is_empty() {
            return;
        }
        match self.sluice.order(&Order::Cut(owed.clone())) {
            Ok(()) => {
                let mut book = self.book();
                owed.iter().for_each(|m| {
                    book.owed.remove(m);
                });
            }
            Err(e) => {
                self.set_trouble(Some(format!("machines that must be cut are not: {e}")));
                // What nobody renewed for that long closed by itself.
                let now = Instant::now();
                self.book().owed.retain(|_, owed| owed.over > now);
            }
        }
    }

    /// Cuts machines, and writes why.
    ///
    /// # Errors
    /// Those of the store; they are cut all the same.
    pub(crate) async fn off(&self, ids: &[Uuid], why: &str) -> Result<(), StoreError> {
        if ids.is_empty() {
            return Ok(());
        }
        let gone = self.cut(ids);
        self.written(&gone, why).await
    }

    /// The same for what was over in the store already.
    pub(crate) fn gone(&self, rows: &[PresenceRow]) {
        let ids: Vec<Uuid> = rows.iter().map(|r| r.id).collect();
        self.cut(&ids);
    }

    async fn write_off(&self, gone: Vec<Present>, why: &str) {
        if let Err(e) = self.written(&gone, why).await {
            tracing::error!(error = %e, "machines are off, and that could not be written; it is when the node compares");
        }
    }

    async fn written(&self, gone: &[Present], why: &str) -> Result<(), StoreError> {
        let now = self.engine.now();
        let counted: Vec<(Uuid, i64, i64)> = gone.iter().map(|p| (p.row.id, p.row.up, p.row.down)).collect();
        self.engine.store.counted(&counted, now).await?;
        let ids: Vec<Uuid> = gone.iter().map(|p| p.row.id).collect();
        self.engine.store.leave(&ids, now, why).await?;
        for p in gone {
            tracing::info!(
                event = "network.off",
                person = p.row.name,
                zone = p.row.zone,
                why,
                "a machine is let through no more"
            );
            let Some(id) = p.row.told_in() else { continue };
            let step = step!(MachineOff {
                machine: p.row.known_by(),
                zone: p.row.zone.as_str(),
                why: Param::reason(why),
                up: p.row.up,
                down: p.row.down
            });
            attempt::extend(&self.engine, id, vec![step]).await?;
        }
        Ok(())
    }

    /// Rights of sessions were read again: their machines are decided anew, and not by whoever waits for this node.
    pub fn rights_changed(&self, ids: &[Uuid]) {
        let of = self.of_sessions(ids);
        if of.is_empty() {
            return;
        }
        let (own, runtime) = (self.clone(), self.runtime.clone());
        runtime.spawn(async move {
            let Some(edition) = own.engine.live.get() else { return };
            own.again(&edition, &of, "rights").await;
        });
    }

    /// Decides machines anew, one after the other. What cannot be decided is cut.
    pub(crate) async fn again(&self, edition: &Edition, ids: &[Uuid], why: &str) {
        let _no_install = self.changing.read().await;
        for id in ids {
            if let Err(e) = self.once_more(edition, *id, why).await {
                tracing::error!(error = %e, "a machine could not be decided anew; it is cut");
                if let Err(e) = self.off(&[*id], "refused-now").await {
                    tracing::error!(error = %e, "that could not be written");
                }
            }
        }
    }

    async fn once_more(&self, edition: &Edition, id: Uuid, why: &str) -> Result<(), StoreError> {
        let Some(present) = self.book().present.get(&id).cloned() else { return Ok(()) };
        let _one = self.of_holder(&present.holder).lock().await;
        // Another node may have taken it over.
        let over = self.engine.store.presences_by_id(&[id]).await?.first().is_none_or(|r| r.ended_at.is_some());
        if over {
            self.cut(&[id]);
            return Ok(());
        }
        match self.decided(edition, &present, why).await? {
            None => self.off(&[id], "refused-now").await,
            Some(next) if next.class == present.class && next.row.quota == present.row.quota => {
                self.store_next(&next);
                Ok(())
            }
            Some(next) => {
                self.engine.store.redecided(&next.row).await?;
                let order = Order::Admit(Box::new(next.admission()));
                self.store_next(&next);
                if let Err(e) = self.sluice.order(&order) {
                    self.set_trouble(Some(e.to_string()));
                    return self.off(&[id], "sluice").await;
                }
                Ok(())
            }
        }
    }

    /// Puts a machine as it was decided into the book, with what was counted meanwhile.
    fn store_next(&self, next: &Present) {
        if let Some(held) = self.book().present.get_mut(&next.row.id) {
            let (up, down) = (held.row.up, held.row.down);
            held.row = next.row.clone();
            (held.row.up, held.row.down) = (up, down);
            held.class = next.class.clone();
            held.limits = next.limits;
            held.good_until = next.good_until;
            held.idle = next.idle;
            held.left = next.left;
        }
    }

    /// What a machine that is on may reach under an edition; none where it may not be on. What changed is a step of its crossing.
    pub(crate) async fn decided(&self, edition: &Edition, present: &Present, why: &str) -> Result<Option<Present>, StoreError> {
        let (Some(session), Some(gate)) = (present.row.session_id, edition.site.gate(&present.row.gate)) else { return Ok(None) };
        let Ok(address) = present.row.address.parse() else { return Ok(None) };
        if self.zone_of(&edition.site, gate, address).is_none_or(|z| z.interface != present.row.interface) {
            return Ok(None);
        }
        let phrase = match why {
            "edition" => Phrase::Edition { number: i64::from(edition.number) },
            "time" => Phrase::TimePassed,
            _ => Phrase::ReRead,
        };
        let from = match &present.tunnel {
            Some(tunnel) => From::Tunnel(tunnel),
            None => From::Machine(address),
        };
        let Standing::Let(mut stands) = standing(&self.engine, edition, gate, session, from, phrase).await? else {
            return Ok(None);
        };
        if let Some(tunnel) = &present.tunnel {
            let why = match self.profile_is_not(tunnel, &stands).await? {
                Some(step) => Some(step),
                None => self.try_out(edition.site.zone(&present.row.zone), tunnel, &mut stands).await?.err(),
            };
            if let Some(step) = why {
                if let Some(id) = present.row.told_in() {
                    attempt::extend(&self.engine, id, vec![step]).await?;
                }
                return Ok(None);
            }
        }
        let mut next = present.clone();
        let used = self.used(&stands, gate).await?;
        next.class = class(&stands.terms);
        says(&mut next.row, &stands);
        take(&mut next, &stands, used);
        if next.left.is_some_and(|left| left < PACKET_MAX) {
            return Ok(None);
        }
        if next.class != present.class
            && let Some(id) = present.row.told_in()
        {
            let step = step!(MachineChanged {
                machine: present.row.known_by(),
                zone: present.row.zone.as_str(),
                opens: words(&stands),
                why: Param::reason(why)
            });
            attempt::extend(&self.engine, id, vec![step]).await?;
        }
        Ok(Some(next))
    }
}

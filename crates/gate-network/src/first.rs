//! A short reach before anybody has signed in: so that a code can be read in a mail box, say. Once a day a machine, by its hardware address or
//! its one address, and for a few minutes.
//!
//! Anybody on the link can ask for it, and with a new hardware address again: few are open at a time, and few begin in a day.

use std::collections::HashMap;
use std::net::IpAddr;

use chrono::Duration;
use passeur_core::Moment;
use passeur_core::site::Gate;
use passeur_live::edition::Edition;
use passeur_sluice::words::{Holder, Order};
use passeur_store::{PresenceRow, StoreError};

use crate::book::Present;
use crate::gate::NetworkGate;
use crate::plan::class_of;

/// What stands for the provider of somebody whom nobody knows yet.
pub(crate) const FIRST: &str = "first";
/// How often a machine may have it.
const EVERY: Duration = Duration::hours(24);
/// How many have it at a time, and how many begin in a day.
const OPEN_MAX: usize = 200;
const A_DAY_MAX: usize = 5_000;

/// Machines that had it of late, so that the store is asked once for each.
#[derive(Debug, Default)]
pub struct Had(HashMap<(String, Holder), Moment>);

impl Had {
    /// Whether a machine may have it now; it has had it from then on.
    fn take(&mut self, interface: &str, holder: Holder, now: Moment) -> bool {
        self.0.retain(|_, at| *at > now - EVERY);
        if self.0.len() >= A_DAY_MAX || self.0.contains_key(&(interface.to_owned(), holder)) {
            return false;
        }
        self.0.insert((interface.to_owned(), holder), now);
        true
    }
}

impl NetworkGate {
    /// Opens a zone's first reach to the machine at an address, where it has one, nobody is on with it, and it had none of late.
    ///
    /// # Errors
    /// Those of the store: nothing is open then.
    pub async fn open_first(&self, edition: &Edition, gate: &Gate, address: IpAddr) -> Result<(), StoreError> {
        let address = address.to_canonical();
        let Some(zone) = self.zone_of(&edition.site, gate, address) else { return Ok(()) };
        let (Some(first), Some(holder)) = (&zone.first, self.holder(zone, address)) else { return Ok(()) };
        let _no_install = self.changing.read().await;
        let _one = self.of_holder(&holder).lock().await;
        let now = self.engine.now();
        {
            let book = self.book();
            let open = book.present.values().filter(|p| p.is_first()).count();
            if open >= OPEN_MAX || !book.all_at(&zone.interface, &holder).is_empty() {
                return Ok(());
            }
        }
        if !self.had_first().take(&zone.interface, holder, now) {
            return Ok(());
        }
        let row = PresenceRow { address: address.to_string(), ..self.row(gate, zone, &holder) };
        let row = PresenceRow {
            provider: FIRST.into(),
            authority: FIRST.into(),
            subject: row.known_by().to_owned(),
            name: row.known_by().to_owned(),
            reach: serde_json::json!([{"reach": first.reach, "rule": format!("first of zone {}", zone.name)}]),
            until: Some(now + first.lasts),
            ..row
        };
        // Another run of this node may have opened it; its memory is gone, and the store's is not.
        if self.engine.store.began_since(&row.authority, &row.subject, &gate.name, now - EVERY).await? {
            return Ok(());
        }
        self.engine.store.enter(row.clone(), i64::MAX).await?;
        let (id, present) = (row.id, Present::new(row, holder, class_of(std::slice::from_ref(&first.reach))));
        let order = Order::Admit(Box::new(present.admission()));
        self.book().present.insert(id, present);
        if let Err(e) = self.sluice.order(&order) {
            tracing::error!(event = "network.not-opened", error = %e, "a first reach could not be opened");
            return self.off(&[id], "sluice").await;
        }
        self.knows_addresses(id).await?;
        tracing::info!(event = "network.first", zone = zone.name, address = %address, "a machine has its first reach");
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_machine_has_it_once_a_day_and_made_up_ones_run_out() {
        let (mut had, at) = (Had::default(), |h| chrono::DateTime::UNIX_EPOCH + Duration::hours(h));
        let one = Holder::Link([2; 6]);
        assert!(had.take("yard0", one, at(0)));
        assert!(!had.take("yard0", one, at(23)));
        assert!(had.take("yard1", one, at(23)));
        assert!(had.take("yard0", one, at(24)));
        let mut had = Had::default();
        let made_up = |n: usize| Holder::Link([2, 0, 0, 0, (n >> 8) as u8, n as u8]);
        assert!((0..A_DAY_MAX).all(|n| had.take("yard0", made_up(n), at(0))));
        assert!(!had.take("yard0", made_up(A_DAY_MAX), at(1)));
    }
}

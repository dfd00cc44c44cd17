//! What the kernel holds, read from it and not from what was ordered: octets that passed, machines, and where one of them may go.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use passeur_protocols::netlink::address;

use crate::book;
use crate::guard::{Guard, MACHINES, mark_in, mark_of};
use crate::kernel::Failed;
use crate::rules::{self, names_set};
use crate::words::{Ask, Counted, Held, Way};

impl Guard {
    pub(crate) fn count(&mut self) -> Result<Vec<Counted>, String> {
        let mut all: BTreeMap<u32, Counted> = BTreeMap::new();
        for set in ["up", "down"] {
            for element in self.kernel.elements(set).map_err(|e| e.to_string())? {
                let Some(mark) = mark_of(&element) else { continue };
                let one = all.entry(mark).or_insert(Counted { mark, up: 0, down: 0 });
                if set == "up" { one.up = element.octets } else { one.down = element.octets }
            }
        }
        Ok(all.into_values().collect())
    }

    pub(crate) fn held(&mut self) -> Result<Vec<Held>, String> {
        let ways: BTreeMap<u32, Option<u64>> = self
            .kernel
            .elements("way")
            .map_err(|e| e.to_string())?
            .iter()
            .filter_map(|e| mark_of(e).map(|m| (m, e.expires_ms)))
            .collect();
        let mut out = vec![];
        for map in MACHINES {
            for element in self.kernel.elements(map).map_err(|e| e.to_string())? {
                if let (Some(mark), Some((interface, holder))) = (mark_in(&element.data), book::holder_of(map, &element.key)) {
                    out.push(Held { interface, holder, mark, expires_ms: ways.get(&mark).copied().flatten() });
                }
            }
        }
        Ok(out)
    }

    pub(crate) fn way(&mut self, ask: &Ask) -> Result<Way, String> {
        let plan = self.book.plan.clone().ok_or("no edition is installed")?;
        let mut mark = None;
        for (map, key) in book::keys_of(&ask.interface, &ask.holder) {
            let machine = self.kernel.elements(map).map_err(|e| e.to_string())?.into_iter().find(|e| e.key == key);
            let of = machine.and_then(|e| mark_in(&e.data));
            // Known by one of two addresses is not known.
            if of.is_none() || mark.is_some_and(|m| Some(m) != of) {
                mark = None;
                break;
            }
            mark = of;
        }
        let ways = self.kernel.elements("way").map_err(|e| e.to_string())?;
        let way = mark.and_then(|m| ways.iter().find(|w| mark_of(w) == Some(m)));
        let class = way.and_then(|w| self.book.classes.iter().find(|(_, n)| Some(rules::class_chain(**n)) == w.leads));
        let reaches = class.map(|(c, _)| c.reaches.clone()).unwrap_or_default();
        let zone = plan.zones.iter().find(|z| z.interface == ask.interface);
        let mut by = vec![None; ask.to.len()];
        for name in reaches.iter().chain(zone.iter().flat_map(|z| &z.before)) {
            let Some(reach) = plan.reaches.get(name) else { continue };
            let names = match reach.named {
                true => self.kernel_names(name).map_err(|e| e.to_string())?,
                false => BTreeSet::new(),
            };
            for (to, by) in ask.to.iter().zip(&mut by).filter(|(_, by)| by.is_none()) {
                *by = reach.leads(&names, *to, ask.service).then(|| name.clone());
            }
        }
        Ok(Way { mark, expires_ms: way.and_then(|w| w.expires_ms), reaches, by })
    }

    /// The addresses of a reach's names as the kernel holds them.
    pub(crate) fn kernel_names(&mut self, reach: &str) -> Result<BTreeSet<IpAddr>, Failed> {
        let mut out = BTreeSet::new();
        for v6 in [false, true] {
            out.extend(self.kernel.elements(&names_set(reach, v6))?.iter().filter_map(|e| address(&e.key)));
        }
        Ok(out)
    }
}

//! Who is let through, as the service said, and what in the kernel is otherwise.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

use passeur_protocols::netlink::netfilter::Element;

use crate::plan::{Class, Plan};
use crate::words::{ADMISSIONS_MAX, Admission, Compared, Holder};

/// What should be.
#[derive(Clone, Debug, Default)]
pub struct Book {
    pub plan: Option<Plan>,
    pub admissions: BTreeMap<u32, Admission>,
    /// The number of the rules of each class.
    pub classes: BTreeMap<Class, usize>,
    /// The addresses of each reach's names.
    pub names: BTreeMap<String, BTreeSet<IpAddr>>,
}

/// An element of a set or map as it should be, with the data where it is a map to marks.
pub type Wanted = BTreeMap<Vec<u8>, Option<u32>>;

/// The key of an interface's name in a concatenation.
fn interface_key(name: &str) -> Vec<u8> {
    let mut key = name.as_bytes().to_vec();
    key.resize(16, 0);
    key
}

/// The maps that know a holder, each with its key: one, or one of each family.
pub fn keys_of(interface: &str, holder: &Holder) -> Vec<(&'static str, Vec<u8>)> {
    let key = |rest: &[u8]| [interface_key(interface).as_slice(), rest].concat();
    let of = |address: IpAddr| match address {
        IpAddr::V4(a) => ("behind4", key(&a.octets())),
        IpAddr::V6(a) => ("behind6", key(&a.octets())),
    };
    match holder {
        Holder::Link(hardware) => vec![("machines", key(&[hardware.as_slice(), &[0, 0]].concat()))],
        Holder::Address(address) => vec![of(*address)],
        Holder::Pair(v4, v6) => vec![of((*v4).into()), of((*v6).into())],
    }
}

/// What a key of one of the maps of machines says: one address of a pair. None where it is of another shape.
pub fn holder_of(map: &str, key: &[u8]) -> Option<(String, Holder)> {
    let name = key.get(..16)?;
    let name = String::from_utf8(name.iter().copied().take_while(|b| *b != 0).collect()).ok()?;
    let rest = &key[16..];
    let holder = match map {
        "machines" => Holder::Link(rest.get(..6)?.try_into().ok()?),
        "behind4" => Holder::Address(<[u8; 4]>::try_from(rest).ok()?.into()),
        "behind6" => Holder::Address(<[u8; 16]>::try_from(rest).ok()?.into()),
        _ => return None,
    };
    Some((name, holder))
}

impl Book {
    /// Whether one more admission may be let through, or one changed.
    ///
    /// # Errors
    /// Why not.
    pub fn check(&self, admission: &Admission) -> Result<(), String> {
        self.plan.as_ref().ok_or("no edition is installed")?.admits(admission)?;
        if self.admissions.len() >= ADMISSIONS_MAX && !self.admissions.contains_key(&admission.mark) {
            return Err(format!("{ADMISSIONS_MAX} admissions are the most; this is one more"));
        }
        let taken =
            |a: &&Admission| a.mark != admission.mark && a.interface == admission.interface && a.holder.meets(&admission.holder);
        match self.admissions.values().find(taken) {
            Some(other) => Err(format!("the machine is let through by mark {:#x}; cut that first", other.mark)),
            None => Ok(()),
        }
    }

    /// Everything anew, as one order says it.
    ///
    /// # Errors
    /// What is wrong; nothing is taken then.
    pub fn anew(plan: Plan, admissions: Vec<Admission>, names: &BTreeMap<String, BTreeSet<IpAddr>>) -> Result<Book, String> {
        let known: BTreeSet<&String> = plan.reaches.iter().filter(|(_, r)| r.named).map(|(n, _)| n).collect();
        let names = names.iter().filter(|(n, _)| known.contains(n)).map(|(n, a)| (n.clone(), a.clone())).collect();
        let mut book = Book { names, ..Book::default() };
        let mut holders = BTreeSet::new();
        if admissions.len() > ADMISSIONS_MAX {
            return Err(format!("{ADMISSIONS_MAX} admissions are the most"));
        }
        for admission in admissions {
            // Looked up in a set: with many, each against each would take too long.
            for key in keys_of(&admission.interface, &admission.holder) {
                if !holders.insert(key) {
                    return Err(format!("a machine on {} is let through twice", admission.interface));
                }
            }
            plan.admits(&admission)?;
            let next = book.classes.len() + 1;
            book.classes.entry(admission.class.clone()).or_insert(next);
            book.admissions.insert(admission.mark, admission);
        }
        book.plan = Some(plan);
        Ok(book)
    }

    /// What a set or map should hold.
    pub fn wanted(&self, set: &str) -> Wanted {
        match set {
            "machines" | "behind4" | "behind6" => self
                .admissions
                .values()
                .flat_map(|a| keys_of(&a.interface, &a.holder).into_iter().map(|key| (key, a.mark)))
                .filter(|((map, _), _)| *map == set)
                .map(|((_, key), mark)| (key, Some(mark)))
                .collect(),
            "cap" => self.marks(|a| a.left.is_some()),
            _ => self.marks(|_| true),
        }
    }

    fn marks(&self, of: impl Fn(&Admission) -> bool) -> Wanted {
        self.admissions.values().filter(|a| of(a)).map(|a| (a.mark.to_ne_bytes().to_vec(), None)).collect()
    }
}

/// What in a set is otherwise: keys to delete, and elements to add.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Difference {
    pub delete: Vec<Vec<u8>>,
    pub add: Vec<(Vec<u8>, Option<u32>)>,
}

impl Difference {
    /// Between what should be and what is.
    pub fn of(wanted: &Wanted, there: &[Element]) -> Difference {
        let mut out = Difference::default();
        let mut right = BTreeSet::new();
        for element in there {
            let is_right = wanted.get(&element.key).is_some_and(|mark| match mark {
                Some(mark) => element.data == mark.to_ne_bytes(),
                None => true,
            });
            if is_right {
                right.insert(&element.key);
            } else {
                out.delete.push(element.key.clone());
            }
        }
        out.add = wanted.iter().filter(|(key, _)| !right.contains(key)).map(|(k, m)| (k.clone(), *m)).collect();
        out
    }

    /// Whether there is none.
    pub fn is_none(&self) -> bool {
        self.delete.is_empty() && self.add.is_empty()
    }
}

/// How many machines were let through, cut and left alone by what was different in the maps of machines.
pub fn compared(differences: &[&Difference], wanted: usize) -> Compared {
    let added: usize = differences.iter().map(|d| d.add.len()).sum();
    let cut: usize = differences.iter().map(|d| d.delete.len()).sum();
    Compared { added: added as u32, cut: cut as u32, kept: wanted.saturating_sub(added) as u32 }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn element(key: &[u8], mark: u32) -> Element {
        Element { key: key.to_vec(), data: mark.to_ne_bytes().to_vec(), ..Element::default() }
    }

    #[test]
    fn a_machine_of_another_mark_is_deleted_and_added() {
        let wanted = Wanted::from([(vec![1], Some(5)), (vec![2], Some(6)), (vec![3], Some(7))]);
        let found = Difference::of(&wanted, &[element(&[1], 5), element(&[2], 9), element(&[4], 1)]);
        assert_eq!(found.delete, [vec![2], vec![4]]);
        assert_eq!(found.add, [(vec![2], Some(6)), (vec![3], Some(7))]);
        assert!(Difference::of(&wanted, &[element(&[1], 5), element(&[2], 6), element(&[3], 7)]).is_none());
    }

    #[test]
    fn a_holder_is_read_from_the_key_it_was_written_as() {
        for holder in [
            Holder::Link([2, 0, 0, 0, 1, 9]),
            Holder::Address("10.70.0.9".parse().unwrap()),
            Holder::Address("fd70:70::9".parse().unwrap()),
        ] {
            let (map, key) = keys_of("yard0", &holder).remove(0);
            assert_eq!(holder_of(map, &key), Some(("yard0".to_owned(), holder)));
        }
        assert_eq!(holder_of("machines", &[1; 17]), None);
        assert_eq!(holder_of("way", &[1; 24]), None);
    }
}

//! What the sluice does with an order, and with a table that somebody else changed.
//!
//! The kernel numbers its generations: each transaction of anybody makes the next. After each change of its own the sluice knows the number
//! that there must be; any other means that somebody else was there, and the table is compared and put back where it differs.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::path::PathBuf;

use passeur_protocols::netlink::netfilter::{Change, Data, Element};

use crate::book::{self, Book, Difference, Wanted};
use crate::kernel::{Failed, Kernel, shape, there};
use crate::plan::{Class, Plan};
use crate::rules::{self, names_set};
use crate::words::{Admission, Answer, Compared, Order, State};

/// The sluice's state: what should be, and the way to the kernel.
pub struct Guard {
    pub(crate) kernel: Kernel,
    pub(crate) interfaces: Vec<String>,
    pub(crate) book: Book,
    /// The generation after the last change of our own.
    pub(crate) generation: Option<u32>,
    /// What nft listed then.
    pub(crate) shape: String,
    pub(crate) restored: u64,
    pub(crate) found: Option<String>,
    pub(crate) bypassed: Vec<String>,
    pub(crate) trouble: Option<String>,
}

/// The name of the quota of a mark.
fn quota(mark: u32) -> String {
    format!("quota-{mark:x}")
}

/// How often a table is put anew, where somebody else changes nf_tables at the same time.
const ALONE_TRIES: usize = 5;

/// Maps of machines, by which a packet is known.
pub(crate) const MACHINES: [&str; 3] = ["machines", "behind4", "behind6"];

impl Guard {
    /// For interfaces that may be guarded. They are closed at once, unless a sluice before this one left its table: who is let through by that
    /// stays, until the first edition is compared with it.
    ///
    /// # Errors
    /// The system gives no netlink socket, or the interfaces cannot be closed.
    pub fn new(nft: PathBuf, interfaces: Vec<String>) -> Result<Guard, Failed> {
        let kernel = Kernel::open(nft)?;
        let is_there = kernel.list()?.is_some();
        let mut guard = Guard {
            kernel,
            interfaces,
            book: Book::default(),
            generation: None,
            shape: String::new(),
            restored: 0,
            found: None,
            bypassed: vec![],
            trouble: None,
        };
        guard.bypassed = guard.kernel.bypassed(&guard.interfaces)?;
        if !is_there {
            guard.put_alone(&Book { plan: Some(Plan::default()), ..Book::default() }, Table::AsItIs)?;
        }
        Ok(guard)
    }

    /// Does what is asked.
    pub fn obey(&mut self, order: Order) -> Answer {
        let done = match order {
            Order::Install { plan, admissions } => self.install(plan, admissions).map(Answer::Compared),
            Order::Admit(admission) => self.admit(*admission).map(|()| Answer::Done),
            Order::Cut(marks) => self.cut(&marks).map(|()| Answer::Done),
            Order::Renew { marks, lease_ms } => self.renew(&marks, lease_ms).map(|()| Answer::Done),
            Order::Names(names) => self.names(names).map(|()| Answer::Done),
            Order::Count => self.count().map(Answer::Counted),
            Order::List => self.held().map(Answer::Held),
            Order::Way(ask) => self.way(&ask).map(Answer::Way),
            Order::State => return Answer::State(self.state()),
        };
        done.unwrap_or_else(Answer::Refused)
    }

    /// How it is.
    pub fn state(&self) -> State {
        let plan = self.book.plan.as_ref();
        State {
            edition: plan.map(|p| p.edition).filter(|number| *number > 0),
            allowed: self.interfaces.clone(),
            interfaces: plan.iter().flat_map(|p| &p.zones).map(|z| z.interface.clone()).collect(),
            admissions: self.book.admissions.len(),
            restored: self.restored,
            found: self.found.clone(),
            bypassed: self.bypassed.clone(),
            trouble: self.trouble.clone(),
        }
    }

    /// Makes a change, and says the generation after it where nobody else made one meanwhile: it went on by as many as there were transactions
    /// of ours.
    fn alone<T>(&mut self, change: impl FnOnce(&mut Guard) -> Result<T, Failed>) -> Result<(T, Option<u32>), Failed> {
        let (before, made) = (self.kernel.generation()?, self.kernel.commits);
        let known = self.generation == Some(before);
        // Where it fails midway, the watch looks.
        self.generation = None;
        let done = change(self)?;
        let after = self.kernel.generation()?;
        let alone = (after.wrapping_sub(before) == self.kernel.commits.wrapping_sub(made)).then_some(after);
        // What was as it should be, and was changed by us alone, is as it should be.
        if known {
            self.generation = alone;
        }
        Ok((done, alone))
    }

    /// The same for changes of elements; what others did meanwhile is found by the watch.
    fn made<T>(&mut self, change: impl FnOnce(&mut Guard) -> Result<T, Failed>) -> Result<T, Failed> {
        self.alone(change).map(|(done, _)| done)
    }

    /// Puts a book into the kernel, and notes what the table looks like then. Whatever somebody else did at the same time is not taken for ours:
    /// it is done again, from nothing.
    pub(crate) fn put_alone(&mut self, next: &Book, mut table: Table) -> Result<Compared, Failed> {
        for _ in 0..ALONE_TRIES {
            let (compared, alone) = self.alone(|guard| guard.put(next.clone(), table))?;
            if let Some(after) = alone
                && self.notes_shape(after)?
            {
                return Ok(compared);
            }
            table = Table::Anew;
        }
        Err(Failed::Nft(format!("somebody else changed the packet filter {ALONE_TRIES} times meanwhile")))
    }

    /// Notes what the table looks like, where it is still in the generation that we left. What was listed later may be somebody else's.
    fn notes_shape(&mut self, after: u32) -> Result<bool, Failed> {
        let shape = shape(self.kernel.list()?.as_ref());
        let is_ours = self.kernel.generation()? == after;
        if is_ours {
            (self.shape, self.generation) = (shape, Some(after));
        }
        Ok(is_ours)
    }

    fn install(&mut self, plan: Plan, admissions: Vec<Admission>) -> Result<Compared, String> {
        plan.check(&self.interfaces)?;
        let next = Book::anew(plan, admissions, &self.book.names)?;
        self.put_alone(&next, Table::AsItIs).map_err(|e| e.to_string())
    }

    /// Puts a book into the kernel: rules and ways in one transaction, and after that the machines that are otherwise.
    pub(crate) fn put(&mut self, next: Book, table: Table) -> Result<Compared, Failed> {
        let Some(plan) = &next.plan else { return Ok(Compared::default()) };
        let listed = match table {
            Table::AsItIs => self.kernel.list()?,
            Table::Anew => None,
        };
        let way: Vec<(u32, usize, u64)> = next
            .admissions
            .values()
            .filter_map(|a| next.classes.get(&a.class).map(|class| (a.mark, *class, a.lease_ms)))
            .collect();
        let mut text = match table {
            Table::AsItIs => String::new(),
            Table::Anew => format!("add table inet {0}\ndelete table inet {0}\n", rules::TABLE),
        };
        text.push_str(&rules::install(plan, &next.classes, &way, &there(listed.as_ref()), &self.interfaces));
        self.kernel.load(&text)?;
        // From here on the kernel leads everybody as the new book says.
        self.book = next;
        let compared = self.compare()?;
        let named: Vec<String> =
            self.book.plan.iter().flat_map(|p| &p.reaches).filter(|(_, r)| r.named).map(|(n, _)| n.clone()).collect();
        self.fill_names(&named)?;
        Ok(compared)
    }

    /// Makes machines, counters and quotas what the book says.
    fn compare(&mut self) -> Result<Compared, Failed> {
        let mut machines = vec![];
        let mut wanted = 0;
        for map in MACHINES {
            let (should, is) = (self.book.wanted(map), self.kernel.elements(map)?);
            wanted += should.len();
            machines.push((map, Difference::of(&should, &is)));
        }
        // Counters first: what finds its way and no counter is refused.
        for set in ["up", "down"] {
            let difference = Difference::of(&self.book.wanted(set), &self.kernel.elements(set)?);
            self.change_set(set, &difference)?;
        }
        self.compare_caps()?;
        for (map, difference) in &machines {
            self.change_set(map, difference)?;
        }
        let all: Vec<&Difference> = machines.iter().map(|(_, d)| d).collect();
        Ok(book::compared(&all, wanted))
    }

    fn change_set(&mut self, set: &str, difference: &Difference) -> Result<(), Failed> {
        let marks: Vec<Option<[u8; 4]>> = difference.add.iter().map(|(_, mark)| mark.map(u32::to_ne_bytes)).collect();
        let deleted = difference.delete.iter().map(|key| Change::Delete { set, key });
        let added = difference.add.iter().zip(&marks).map(|((key, _), mark)| Change::Add {
            set,
            key,
            data: mark.as_ref().map(|m| Data::Value(m)),
            timeout_ms: None,
        });
        let changes: Vec<Change<'_>> = deleted.chain(added).collect();
        self.kernel.apply(&changes)
    }

    /// Quotas are made anew: an order says how much is left from now on.
    fn compare_caps(&mut self) -> Result<(), Failed> {
        let there: Vec<u32> = self.kernel.elements("cap")?.iter().filter_map(mark_of).collect();
        let gone: Vec<([u8; 4], String)> = there.iter().map(|mark| (mark.to_ne_bytes(), quota(*mark))).collect();
        let deletes: Vec<Change<'_>> =
            gone.iter().flat_map(|(key, name)| [Change::Delete { set: "cap", key }, Change::DeleteQuota { name }]).collect();
        self.kernel.apply(&deletes)?;
        let caps: Vec<([u8; 4], String, u64)> = self
            .book
            .admissions
            .values()
            .filter_map(|a| a.left.map(|left| (a.mark.to_ne_bytes(), quota(a.mark), left)))
            .collect();
        let adds: Vec<Change<'_>> = caps
            .iter()
            .flat_map(|(key, name, left)| {
                let add = Change::Add { set: "cap", key, data: Some(Data::Object(name)), timeout_ms: None };
                [Change::AddQuota { name, octets: *left, used: 0 }, add]
            })
            .collect();
        self.kernel.apply(&adds)
    }

    /// The number of a class's rules, which are made where nobody had them yet.
    fn class(&mut self, class: &Class) -> Result<usize, Failed> {
        if let Some(number) = self.book.classes.get(class) {
            return Ok(*number);
        }
        let number = self.book.classes.values().max().map_or(1, |n| n + 1);
        self.kernel.load(&rules::add_class(class, number))?;
        self.book.classes.insert(class.clone(), number);
        Ok(number)
    }

    fn admit(&mut self, admission: Admission) -> Result<(), String> {
        self.book.check(&admission)?;
        if !self.book.classes.contains_key(&admission.class) {
            self.add_rules(&admission.class).map_err(|e| e.to_string())?;
        }
        self.made(|guard| guard.let_through(&admission)).map_err(|e| e.to_string())?;
        self.book.admissions.insert(admission.mark, admission);
        Ok(())
    }

    /// Rules that nobody needed before. Where somebody else was there meanwhile, the watch finds rules that it does not know, and puts all back.
    fn add_rules(&mut self, class: &Class) -> Result<(), Failed> {
        self.made(|guard| guard.class(class))?;
        if let Some(after) = self.generation
            && !self.notes_shape(after)?
        {
            self.generation = None;
        }
        Ok(())
    }

    fn let_through(&mut self, admission: &Admission) -> Result<(), Failed> {
        let number = self.class(&admission.class)?;
        let key = admission.mark.to_ne_bytes();
        let holders = book::keys_of(&admission.interface, &admission.holder);
        let (chain, name) = (rules::class_chain(number), quota(admission.mark));
        let before = self.book.admissions.get(&admission.mark).cloned();
        let old = before.as_ref().map(|b| book::keys_of(&b.interface, &b.holder));
        let mut changes = vec![];
        if let (Some(before), Some(old)) = (&before, &old) {
            changes.push(Change::Delete { set: "way", key: &key });
            changes.extend(old.iter().map(|(map, key)| Change::Delete { set: map, key }));
            if before.left.is_some() {
                changes.extend([Change::Delete { set: "cap", key: &key }, Change::DeleteQuota { name: &name }]);
            }
        } else {
            changes.push(Change::Add { set: "up", key: &key, data: None, timeout_ms: None });
            changes.push(Change::Add { set: "down", key: &key, data: None, timeout_ms: None });
        }
        if let Some(left) = admission.left {
            changes.push(Change::AddQuota { name: &name, octets: left, used: 0 });
            changes.push(Change::Add { set: "cap", key: &key, data: Some(Data::Object(&name)), timeout_ms: None });
        }
        changes.push(Change::Add { set: "way", key: &key, data: Some(Data::Jump(&chain)), timeout_ms: Some(admission.lease_ms) });
        let known = |(map, holder)| Change::Add { set: map, key: holder, data: Some(Data::Value(&key)), timeout_ms: None };
        changes.extend(holders.iter().map(|(map, holder)| known((*map, holder))));
        match self.kernel.apply(&changes) {
            // Its lease ended by itself, so that `way` is not there to be deleted.
            Err(Failed::Refused { why, .. }) if before.is_some() && why.kind() == std::io::ErrorKind::NotFound => {
                changes.remove(0);
                self.kernel.apply(&changes)
            }
            done => done,
        }
    }

    fn cut(&mut self, marks: &[u32]) -> Result<(), String> {
        let gone: Vec<Admission> = marks.iter().filter_map(|m| self.book.admissions.remove(m)).collect();
        if gone.is_empty() {
            return Ok(());
        }
        let done = self.made(|guard| gone.iter().try_for_each(|one| guard.close(one)));
        done.or_else(|_| {
            // Something was otherwise than it should be. What matters is that it is closed: all is put as the book says.
            let next = self.book.clone();
            self.put_alone(&next, Table::AsItIs).map(|_| ())
        })
        .map_err(|e| e.to_string())
    }

    fn close(&mut self, admission: &Admission) -> Result<(), Failed> {
        let key = admission.mark.to_ne_bytes();
        let holders = book::keys_of(&admission.interface, &admission.holder);
        let name = quota(admission.mark);
        let mut changes = vec![Change::Delete { set: "way", key: &key }];
        changes.extend(holders.iter().map(|(map, key)| Change::Delete { set: map, key }));
        changes.extend([Change::Delete { set: "up", key: &key }, Change::Delete { set: "down", key: &key }]);
        if admission.left.is_some() {
            changes.extend([Change::Delete { set: "cap", key: &key }, Change::DeleteQuota { name: &name }]);
        }
        match self.kernel.apply(&changes) {
            Err(Failed::Refused { at: 1, why, .. }) if why.kind() == std::io::ErrorKind::NotFound => {
                self.kernel.apply(&changes[1..])
            }
            done => done,
        }
    }

    fn renew(&mut self, marks: &[u32], lease_ms: u64) -> Result<(), String> {
        let there: BTreeSet<u32> = self.kernel.elements("way").map_err(|e| e.to_string())?.iter().filter_map(mark_of).collect();
        let classes: Vec<([u8; 4], String, bool)> = marks
            .iter()
            .filter_map(|mark| self.book.admissions.get(mark))
            .filter_map(|a| {
                let number = self.book.classes.get(&a.class)?;
                Some((a.mark.to_ne_bytes(), rules::class_chain(*number), there.contains(&a.mark)))
            })
            .collect();
        let mut changes = vec![];
        for (key, chain, is_there) in &classes {
            // A key that is there is not renewed by adding it.
            if *is_there {
                changes.push(Change::Delete { set: "way", key });
            }
            changes.push(Change::Add { set: "way", key, data: Some(Data::Jump(chain)), timeout_ms: Some(lease_ms) });
        }
        let done = self.made(|guard| guard.kernel.apply(&changes));
        done.map_err(|e| e.to_string())
    }

    fn names(&mut self, names: BTreeMap<String, BTreeSet<IpAddr>>) -> Result<(), String> {
        let Some(plan) = &self.book.plan else { return Err("no edition is installed".to_owned()) };
        let told: Vec<String> = names.keys().cloned().collect();
        for (reach, addresses) in names {
            if !plan.reaches.get(&reach).is_some_and(|r| r.named) {
                return Err(format!("edition {} has no reach {reach:?} with names", plan.edition));
            }
            if addresses.len() > 20_000 {
                return Err(format!("reach {reach}: its names have more than 20000 addresses"));
            }
            self.book.names.insert(reach, addresses);
        }
        self.made(|guard| guard.fill_names(&told)).map_err(|e| e.to_string())
    }

    /// Makes the sets of names what the book says. What is new opens before what is old closes.
    fn fill_names(&mut self, reaches: &[String]) -> Result<(), Failed> {
        for reach in reaches {
            let told = self.book.names.get(reach).cloned().unwrap_or_default();
            for v6 in [false, true] {
                let wanted: Wanted = told.iter().filter(|a| a.is_ipv6() == v6).map(|a| (octets(*a), None)).collect();
                let set = names_set(reach, v6);
                let difference = Difference::of(&wanted, &self.kernel.elements(&set)?);
                self.change_set(&set, &Difference { delete: vec![], add: difference.add })?;
                self.change_set(&set, &Difference { delete: difference.delete, add: vec![] })?;
            }
        }
        Ok(())
    }
}

/// Whether what is in the table is taken into account.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Table {
    /// It is changed to what should be: who stays loses no packet, and counters go on.
    AsItIs,
    /// It is made anew, whatever is there.
    Anew,
}

/// The mark that an element is of.
pub(crate) fn mark_of(element: &Element) -> Option<u32> {
    mark_in(&element.key)
}

/// The mark that octets of the kernel hold.
pub(crate) fn mark_in(octets: &[u8]) -> Option<u32> {
    octets.try_into().ok().map(u32::from_ne_bytes)
}

fn octets(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(a) => a.octets().to_vec(),
        IpAddr::V6(a) => a.octets().to_vec(),
    }
}

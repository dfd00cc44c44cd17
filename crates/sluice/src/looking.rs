//! Looking after the table: whatever somebody else did to it is found and put back, closed first.

use crate::book::{Book, Difference};
use crate::guard::{Guard, MACHINES, Table, mark_of};
use crate::kernel::{Failed, shape};
use crate::rules;

impl Guard {
    /// Looks whether somebody else changed the table, and puts it back. To be called when nf_tables were changed.
    pub fn look(&mut self) {
        if self.book.plan.is_none() {
            return;
        }
        match self.kernel.generation() {
            Ok(now) if self.generation == Some(now) => {}
            Ok(now) => {
                match self.kernel.bypassed(&self.interfaces) {
                    Ok(found) => self.bypassed = found,
                    Err(e) => eprintln!("flow tables cannot be listed: {e}"),
                }
                // Good only for what was looked at: whatever comes later is looked at later.
                let found = self.find();
                if let Err(e) = found.and_then(|found| self.put_back(found, now)) {
                    self.trouble = Some(e.to_string());
                    eprintln!("the table cannot be put back: {e}");
                }
            }
            Err(e) => self.trouble = Some(e.to_string()),
        }
    }

    /// What is otherwise; none where all is as it should be.
    fn find(&mut self) -> Result<Option<String>, Failed> {
        let listed = self.kernel.list()?;
        if listed.is_none() {
            return Ok(Some("the table was deleted".to_owned()));
        }
        if shape(listed.as_ref()) != self.shape {
            return Ok(Some("rules of the table were changed".to_owned()));
        }
        for set in MACHINES.into_iter().chain(["up", "down", "cap"]) {
            if !Difference::of(&self.book.wanted(set), &self.kernel.elements(set)?).is_none() {
                return Ok(Some(format!("elements of {set} were changed")));
            }
        }
        // What has no lease any more closed by itself; what nobody let through did not.
        let ways = self.kernel.elements("way")?;
        if ways.iter().filter_map(mark_of).any(|m| !self.book.admissions.contains_key(&m)) {
            return Ok(Some("elements of way were added".to_owned()));
        }
        let leads = |mark: u32| self.book.admissions.get(&mark).and_then(|a| self.book.classes.get(&a.class));
        if ways.iter().any(|w| mark_of(w).and_then(leads).map(|n| rules::class_chain(*n)) != w.leads) {
            return Ok(Some("elements of way were led elsewhere".to_owned()));
        }
        for (reach, told) in self.book.names.clone() {
            if self.kernel_names(&reach)? != told {
                return Ok(Some(format!("addresses of the names of reach {reach} were changed")));
            }
        }
        Ok(None)
    }

    /// `looked` is the generation before it was looked for.
    fn put_back(&mut self, found: Option<String>, looked: u32) -> Result<(), Failed> {
        if let Some(found) = found {
            eprintln!("{found} by somebody else; it is put back");
            let next = self.book.clone();
            // Closed first, which takes as long as a few rules; whoever is through comes back with the second step.
            let closed = Book { plan: next.plan.clone(), names: next.names.clone(), ..Book::default() };
            let done = self.put(closed, Table::Anew).and_then(|_| self.put_alone(&next, Table::AsItIs));
            // What should be is as before, whether or not it could be put back: it is tried again.
            self.book = next;
            done?;
            self.restored += 1;
            self.found = Some(found);
        } else if self.kernel.generation()? == looked {
            // Others changed tables of theirs.
            self.generation = Some(looked);
        }
        self.trouble = None;
        Ok(())
    }
}

//! Whom the rules of a gate admit, as one function of what can be asked of somebody, before and after a change.
//!
//! Truth has three values here as everywhere: each question has a variable for its answer and one for its being known.
//! Rules that mean the same on both sides are left out of large gates: what they say is one variable, so that a change
//! among thousands of rules costs no more than one among ten.

use std::collections::{HashMap, HashSet};
use std::rc::Rc;

use super::atoms::{Atom, Knowing, ones};
use super::diagram::{ALWAYS, Cube, Diagram, Fun, NEVER, TooMuch};
use super::rules::{Clause, Does, Gift, Read, Reader};
use super::who::Who;
use crate::condition::Condition;
use crate::path::is_at_or_below;
use crate::site::{Access, Section, SectionAccess, Site};

/// The most clauses that are worked out whole.
const WHOLE_MAX: usize = 64;
/// The most kinds of people that are told one by one.
const TOLD_MAX: usize = 40;
/// The most that is said of one kind.
const EXACT_MAX: usize = 3;
const SAID_MAX: usize = 8;

/// One side of a comparison.
pub(super) struct Scene<'a> {
    pub(super) reader: &'a Reader<'a>,
    /// The gate's name; none of the console.
    pub(super) gate: Option<&'a str>,
    pub(super) access: &'a Access,
    pub(super) rules: Vec<Rc<Read>>,
}

impl<'a> Scene<'a> {
    pub(super) fn new(reader: &'a Reader<'a>, gate: Option<&'a str>, access: &'a Access) -> Scene<'a> {
        Scene { reader, gate, access, rules: reader.rules(access) }
    }

    fn clauses(&self) -> impl Iterator<Item = &Clause> {
        self.rules.iter().flat_map(|r| &r.clauses)
    }

    fn site(&self) -> &'a Site {
        self.reader.site
    }
}

/// Yes, no; not known where neither holds.
#[derive(Clone, Copy)]
struct Pair {
    yes: Fun,
    no: Fun,
}

/// What a variable stands for.
enum Variable {
    Asks(Atom),
    Known(Knowing),
    /// Another rule, the same on both sides, lets in.
    Others,
    /// No rule that is the same on both sides refuses.
    NotRefused,
    SignedIn,
    /// A rule that is the same on both sides gives the role.
    RoleByOthers,
}

/// What changes for whom.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Shift {
    pub(super) lose: Vec<Who>,
    pub(super) gain: Vec<Who>,
}

/// Both sides of one gate.
pub(super) struct Weighing<'a> {
    sides: [&'a Scene<'a>; 2],
    d: Diagram,
    variables: Vec<Variable>,
    by_key: HashMap<String, u32>,
    /// Keys of clauses that are on both sides and left out.
    same: HashSet<&'a str>,
    entry: [Fun; 2],
    /// Whom a rule refuses on both sides: whatever is said of them changes nothing.
    refused: Fun,
}

impl<'a> Weighing<'a> {
    /// Works out whom either side admits.
    pub(super) fn new(before: &'a Scene<'a>, after: &'a Scene<'a>) -> Result<Weighing<'a>, TooMuch> {
        let few = [before, after].iter().all(|s| s.clauses().count() <= WHOLE_MAX);
        if few && let Ok(whole) = Weighing::with([before, after], HashSet::new()) {
            return Ok(whole);
        }
        let keys = |s: &'a Scene<'a>| s.clauses().map(|c| c.key.as_str()).collect::<HashSet<_>>();
        let same = keys(before).intersection(&keys(after)).copied().collect();
        Weighing::with([before, after], same)
    }

    fn with(sides: [&'a Scene<'a>; 2], same: HashSet<&'a str>) -> Result<Weighing<'a>, TooMuch> {
        let (d, variables, by_key) = (Diagram::new(), vec![], HashMap::new());
        let mut out = Weighing { sides, d, variables, by_key, same, entry: [NEVER; 2], refused: NEVER };
        out.variable("signed in", || Variable::SignedIn)?;
        let mut goes = NEVER;
        for (i, side) in sides.into_iter().enumerate() {
            let (admits, not_refused) = out.admits(side)?;
            out.entry[i] = admits;
            goes = out.d.or(goes, not_refused)?;
        }
        out.refused = out.d.not(goes)?;
        Ok(out)
    }

    fn variable(&mut self, key: &str, make: impl FnOnce() -> Variable) -> Result<Fun, TooMuch> {
        let number = match self.by_key.get(key) {
            Some(n) => *n,
            None => {
                let n = self.variables.len() as u32;
                self.variables.push(make());
                self.by_key.insert(key.to_owned(), n);
                n
            }
        };
        self.d.variable(number)
    }

    /// Whom one side admits, and whom none of its rules refuses.
    fn admits(&mut self, side: &Scene<'_>) -> Result<(Fun, Fun), TooMuch> {
        let [mut enter, mut goes, mut kept] = [NEVER, ALWAYS, ALWAYS];
        let (mut others, mut refusals) = (false, false);
        for clause in side.clauses() {
            if self.same.contains(clause.key.as_str()) {
                match clause.does {
                    Does::Enter if clause.when == Condition::Everyone => enter = ALWAYS,
                    Does::Enter => others = true,
                    Does::Refuse | Does::Asks => refusals = true,
                    Does::Gives => {}
                }
                continue;
            }
            let when = match clause.does {
                Does::Gives => continue,
                _ => self.judged(side, &clause.when)?,
            };
            match clause.does {
                Does::Enter => enter = self.d.or(enter, when.yes)?,
                Does::Refuse => {
                    goes = self.d.and(goes, when.no)?;
                    kept = self.d.and(kept, when.no)?;
                }
                Does::Asks => {
                    let need = match &clause.need {
                        Some(need) => self.judged(side, need)?.yes,
                        None => NEVER,
                    };
                    let passes = self.d.or(when.no, need)?;
                    goes = self.d.and(goes, passes)?;
                }
                Does::Gives => {}
            }
        }
        if others {
            let others = self.variable("others", || Variable::Others)?;
            enter = self.d.or(enter, others)?;
        }
        if refusals {
            let not = self.variable("not refused", || Variable::NotRefused)?;
            goes = self.d.and(goes, not)?;
        }
        let mut all = self.d.and(enter, goes)?;
        let ways = |s: &Scene<'_>| s.access.ways.iter().cloned().collect::<HashSet<_>>();
        if ways(self.sides[0]) != ways(self.sides[1]) {
            let taken = self.judged(side, &Condition::WayIn(side.access.ways.clone()))?;
            all = self.d.and(all, taken.yes)?;
        }
        let signed_in = self.variable("signed in", || Variable::SignedIn)?;
        Ok((self.d.and(all, signed_in)?, kept))
    }

    /// What a condition says.
    fn judged(&mut self, side: &Scene<'_>, when: &Condition) -> Result<Pair, TooMuch> {
        let settled = |yes: bool| if yes { Pair { yes: ALWAYS, no: NEVER } } else { Pair { yes: NEVER, no: ALWAYS } };
        match when {
            Condition::Everyone => Ok(settled(true)),
            Condition::Gate(gates) => Ok(settled(side.gate.is_some_and(|gate| gates.iter().any(|g| g == gate)))),
            Condition::All(parts) => self.all(side, parts),
            Condition::Any(parts) => self.any(side, parts),
            Condition::None(parts) => self.any(side, parts).map(|p| Pair { yes: p.no, no: p.yes }),
            Condition::Path(paths) => {
                let paths: Vec<Atom> = paths.iter().map(|p| Atom::path(p)).collect();
                self.any_of(paths)
            }
            Condition::Present(_, false) => {
                let there = self.atom(side, when)?;
                Ok(Pair { yes: there.no, no: there.yes })
            }
            other => {
                if let Some(of) = super::atoms::members(other) {
                    return self.any(side, &of);
                }
                match ones(other) {
                    Some((kind, of)) => self.any_of(of.into_iter().map(|(o, wanted)| Atom::one(kind, &o, wanted)).collect()),
                    None => self.atom(side, other),
                }
            }
        }
    }

    fn all(&mut self, side: &Scene<'_>, parts: &[Condition]) -> Result<Pair, TooMuch> {
        let mut out = Pair { yes: ALWAYS, no: NEVER };
        for part in parts {
            let p = self.judged(side, part)?;
            out = Pair { yes: self.d.and(out.yes, p.yes)?, no: self.d.or(out.no, p.no)? };
        }
        Ok(out)
    }

    fn any(&mut self, side: &Scene<'_>, parts: &[Condition]) -> Result<Pair, TooMuch> {
        let mut out = Pair { yes: NEVER, no: ALWAYS };
        for part in parts {
            let p = self.judged(side, part)?;
            out = Pair { yes: self.d.or(out.yes, p.yes)?, no: self.d.and(out.no, p.no)? };
        }
        Ok(out)
    }

    fn any_of(&mut self, atoms: Vec<Atom>) -> Result<Pair, TooMuch> {
        let mut out = Pair { yes: NEVER, no: ALWAYS };
        for atom in atoms {
            let p = self.asked(atom)?;
            out = Pair { yes: self.d.or(out.yes, p.yes)?, no: self.d.and(out.no, p.no)? };
        }
        Ok(out)
    }

    fn atom(&mut self, side: &Scene<'_>, when: &Condition) -> Result<Pair, TooMuch> {
        match Atom::of(side.site(), when) {
            Some(atom) => self.asked(atom),
            None => Err(TooMuch),
        }
    }

    fn asked(&mut self, atom: Atom) -> Result<Pair, TooMuch> {
        let known = match &atom.knowing {
            Knowing::Always => ALWAYS,
            knowing => {
                let knowing = knowing.clone();
                self.variable(&format!("known {knowing:?}"), || Variable::Known(knowing))?
            }
        };
        let key = atom.key.clone();
        let value = self.variable(&format!("asks {key}"), || Variable::Asks(atom))?;
        Ok(Pair { yes: self.d.and(known, value)?, no: self.d.without(known, value)? })
    }

    /// Who would enter no more, and who would enter now.
    pub(super) fn entry(&mut self) -> Result<Shift, TooMuch> {
        self.shift(self.entry, [NEVER; 2], self.refused)
    }

    /// Whether one side admits whoever signs in and is not refused on both, and whether it admits nobody at all.
    pub(super) fn whole(&mut self, side: usize) -> Result<(bool, bool), TooMuch> {
        let signed_in = self.variable("signed in", || Variable::SignedIn)?;
        let (entry, refused) = (self.known(self.entry[side])?, self.known(self.refused)?);
        let outside = self.d.without(signed_in, entry)?;
        Ok((self.d.without(outside, refused)? == NEVER, entry == NEVER))
    }

    /// Whom one side admits.
    pub(super) fn admitted(&mut self, side: usize) -> Result<Vec<Who>, TooMuch> {
        let entry = self.known(self.entry[side])?;
        self.people(entry, entry, self.refused)
    }

    /// Who would keep entry and lose or gain what comes with it.
    pub(super) fn gift(&mut self, gift: &Gift) -> Result<Shift, TooMuch> {
        let both = self.d.and(self.entry[0], self.entry[1])?;
        let mut has = [NEVER; 2];
        for (side, has) in self.sides.into_iter().zip(&mut has) {
            for clause in side.clauses().filter(|c| c.gifts.contains(gift)) {
                let yes = if self.same.contains(clause.key.as_str()) {
                    self.variable("role by others", || Variable::RoleByOthers)?
                } else {
                    self.judged(side, &clause.when)?.yes
                };
                *has = self.d.or(*has, yes)?;
            }
            *has = self.d.and(*has, both)?;
        }
        self.shift(has, [NEVER; 2], self.refused)
    }

    /// Who would lose or gain the place at a path, besides those who lose or gain the gate.
    pub(super) fn place(&mut self, sections: [&[Section]; 2], path: &str) -> Result<Shift, TooMuch> {
        let folded = path.to_lowercase();
        let mut may = [NEVER; 2];
        for side in 0..2 {
            let covers = |s: &&Section| is_at_or_below(&folded, &s.path.to_lowercase());
            let (mut all, mut open, mut more) = (self.entry[side], false, false);
            for section in sections[side].iter().filter(covers) {
                match &section.access {
                    SectionAccess::Open => open = true,
                    SectionAccess::More { when, .. } => {
                        more = true;
                        for asked in [Some(when), section.step_up.as_ref()].into_iter().flatten() {
                            let asked = self.judged(self.sides[side], asked)?.yes;
                            all = self.d.and(all, asked)?;
                        }
                    }
                }
            }
            may[side] = if open && !more { ALWAYS } else { all };
        }
        let told = [self.d.without(self.entry[0], self.entry[1])?, self.d.without(self.entry[1], self.entry[0])?];
        // What is open is open to those whom rules refuse as well.
        let aside = if may.contains(&ALWAYS) { NEVER } else { self.refused };
        self.shift(may, told, aside)
    }

    /// What differs, without what is told elsewhere, whatever becomes of those who are left aside.
    fn shift(&mut self, of: [Fun; 2], told: [Fun; 2], aside: Fun) -> Result<Shift, TooMuch> {
        let mut out = [vec![], vec![]];
        for side in 0..2 {
            let (from, to) = (of[side], of[1 - side]);
            let least = self.d.without(from, to)?;
            let least = self.d.without(least, told[side])?;
            let known = self.known(least)?;
            let most = self.known(from)?;
            out[side] = self.people(known, most, aside)?;
            if out[side].is_empty() && least != NEVER {
                out[side] = self.of_whom_too_little_is_known(least)?;
            }
        }
        let [lose, gain] = out;
        Ok(Shift { lose, gain })
    }

    /// A function where everything is known.
    fn known(&mut self, f: Fun) -> Result<Fun, TooMuch> {
        let known: Vec<bool> = self.variables.iter().map(|v| matches!(v, Variable::Known(_))).collect();
        self.d.where_yes(f, &known)
    }

    /// People for whom `least` holds, told so that everything said holds of `most` too. Empty where there can be nobody.
    fn people(&mut self, least: Fun, most: Fun, aside: Fun) -> Result<Vec<Who>, TooMuch> {
        if least == NEVER {
            return Ok(vec![]);
        }
        let aside = self.known(aside)?;
        let nearly = self.d.or(least, aside)?;
        let most = self.d.or(most, aside)?;
        if let Ok(exact) = self.d.cover(least, nearly, TOLD_MAX * 5) {
            let exact: Vec<Cube> = exact.iter().filter(|c| self.possible(c)).map(|c| self.plain(c)).collect();
            let short = exact.iter().all(|c| self.said(c) <= EXACT_MAX);
            if exact.is_empty() || (short && exact.len() <= TOLD_MAX) {
                return Ok(exact.iter().map(|c| self.who(c, false)).collect());
            }
        }
        let mut out = vec![];
        for cube in self.d.cover(least, most, TOLD_MAX * 5)? {
            let f = self.d.cube(&cube)?;
            let meant = self.d.and(f, least)?;
            // Where it cannot be worked out, it is rather told once too often.
            let real = match self.d.cover(meant, meant, TOLD_MAX * 5) {
                Ok(parts) => parts.iter().any(|c| self.possible(c)),
                Err(TooMuch) => true,
            };
            if real && self.possible(&cube) {
                if self.said(&cube) > SAID_MAX || out.len() >= TOLD_MAX {
                    return Err(TooMuch);
                }
                let unless = self.d.without(f, nearly)? != NEVER;
                out.push(self.who(&self.plain(&cube), unless));
            }
        }
        Ok(out)
    }

    /// Whether anybody can be like this.
    fn possible(&self, cube: &Cube) -> bool {
        let atoms =
            |yes: bool| cube.iter().filter(move |(_, y)| *y == yes).filter_map(|(v, _)| self.asks(*v)).collect::<Vec<_>>();
        let (with, without) = (atoms(true), atoms(false));
        !with.iter().any(|a| without.iter().any(|b| a.implies(b)) || with.iter().any(|b| a.excludes(b)))
    }

    /// The same without what the rest of it says already.
    fn plain(&self, cube: &Cube) -> Cube {
        let says = |of: &(u32, bool), more: &(u32, bool)| {
            let (Some(a), Some(b)) = (self.asks(of.0), self.asks(more.0)) else { return false };
            of.0 != more.0
                && match (of.1, more.1) {
                    (true, true) => a.implies(b) && !b.implies(a),
                    (true, false) => a.excludes(b),
                    (false, false) => b.implies(a) && !a.implies(b),
                    (false, true) => false,
                }
        };
        cube.iter().filter(|more| !cube.iter().any(|of| says(of, more))).copied().collect()
    }

    fn asks(&self, variable: u32) -> Option<&Atom> {
        match self.variables.get(variable as usize)? {
            Variable::Asks(atom) => Some(atom),
            _ => None,
        }
    }

    fn said(&self, cube: &Cube) -> usize {
        cube.iter().filter(|(v, _)| self.asks(*v).is_some()).count()
    }

    fn who(&self, cube: &Cube, unless: bool) -> Who {
        let mut out = Who { unless, ..Who::default() };
        for (variable, yes) in cube {
            match self.variables.get(*variable as usize) {
                Some(Variable::Asks(atom)) => {
                    let into = if *yes { &mut out.with } else { &mut out.without };
                    into.push(atom.wanted.clone());
                }
                Some(Variable::Others | Variable::RoleByOthers) if !yes => out.unless = true,
                Some(Variable::SignedIn) if !yes => out.strangers = true,
                _ => {}
            }
        }
        out
    }

    /// People of whom something would have to be known: what that is, once each.
    fn of_whom_too_little_is_known(&mut self, least: Fun) -> Result<Vec<Who>, TooMuch> {
        let mut out: Vec<Who> = vec![];
        for cube in self.d.cover(least, least, TOLD_MAX * 5)? {
            if !self.possible(&cube) {
                continue;
            }
            let mut who = Who::default();
            for (variable, yes) in &cube {
                if let (Some(Variable::Known(k)), false) = (self.variables.get(*variable as usize), yes) {
                    who.unknown.push(match k {
                        Knowing::Groups => "groups".to_owned(),
                        Knowing::Attribute(name) | Knowing::Itself(name) => name.clone(),
                        Knowing::Always => continue,
                    });
                }
            }
            if !who.unknown.is_empty() && !out.contains(&who) {
                out.push(who);
            }
        }
        Ok(out)
    }
}

//! Decision diagrams: what rules say as a whole, in a form where two that mean the same are the same.
//!
//! Reduced and ordered binary decision diagrams with a bound on their nodes: rules can be written whose whole cannot be
//! worked out, and then that is said instead.

use std::collections::HashMap;

/// A function of variables, by its place in the diagram.
pub(super) type Fun = u32;

pub(super) const NEVER: Fun = 0;
pub(super) const ALWAYS: Fun = 1;

/// The most nodes of one diagram. Each takes some forty bytes with its entries in the tables.
const NODES_MAX: usize = 100_000;

/// The most variables: functions of more are not worked out, and no recursion goes deeper.
pub(super) const VARIABLES_MAX: usize = 400;

/// The whole is too large to be worked out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct TooMuch;

/// Variables with the value each must have; the others may have any.
pub(super) type Cube = Vec<(u32, bool)>;

/// Nodes of functions over variables, in the order of their numbers.
pub(super) struct Diagram {
    nodes: Vec<(u32, Fun, Fun)>,
    unique: HashMap<(u32, Fun, Fun), Fun>,
    joined: HashMap<(Join, Fun, Fun), Fun>,
    opposite: HashMap<Fun, Fun>,
}

/// How two functions are joined.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Join {
    And,
    Or,
}

impl Diagram {
    pub(super) fn new() -> Diagram {
        let leaf = (u32::MAX, NEVER, NEVER);
        Diagram { nodes: vec![leaf, leaf], unique: HashMap::new(), joined: HashMap::new(), opposite: HashMap::new() }
    }

    fn of(&self, f: Fun) -> (u32, Fun, Fun) {
        self.nodes[f as usize]
    }

    fn node(&mut self, variable: u32, no: Fun, yes: Fun) -> Result<Fun, TooMuch> {
        if no == yes {
            return Ok(no);
        }
        if let Some(known) = self.unique.get(&(variable, no, yes)) {
            return Ok(*known);
        }
        if self.nodes.len() >= NODES_MAX || variable as usize >= VARIABLES_MAX {
            return Err(TooMuch);
        }
        let made = self.nodes.len() as Fun;
        self.nodes.push((variable, no, yes));
        self.unique.insert((variable, no, yes), made);
        Ok(made)
    }

    /// The function that a variable is.
    pub(super) fn variable(&mut self, variable: u32) -> Result<Fun, TooMuch> {
        self.node(variable, NEVER, ALWAYS)
    }

    fn join(&mut self, how: Join, a: Fun, b: Fun) -> Result<Fun, TooMuch> {
        let (settles, leaves) = match how {
            Join::And => (NEVER, ALWAYS),
            Join::Or => (ALWAYS, NEVER),
        };
        match (a, b) {
            _ if a == settles || b == settles => return Ok(settles),
            _ if a == leaves || a == b => return Ok(b),
            _ if b == leaves => return Ok(a),
            _ => {}
        }
        let key = (how, a.min(b), a.max(b));
        if let Some(known) = self.joined.get(&key) {
            return Ok(*known);
        }
        let variable = self.of(a).0.min(self.of(b).0);
        let ((a0, a1), (b0, b1)) = (self.split(a, variable), self.split(b, variable));
        let (no, yes) = (self.join(how, a0, b0)?, self.join(how, a1, b1)?);
        let made = self.node(variable, no, yes)?;
        self.joined.insert(key, made);
        Ok(made)
    }

    /// What a function is where a variable is no, and where it is yes.
    fn split(&self, f: Fun, variable: u32) -> (Fun, Fun) {
        match self.of(f) {
            (v, no, yes) if v == variable => (no, yes),
            _ => (f, f),
        }
    }

    pub(super) fn and(&mut self, a: Fun, b: Fun) -> Result<Fun, TooMuch> {
        self.join(Join::And, a, b)
    }

    pub(super) fn or(&mut self, a: Fun, b: Fun) -> Result<Fun, TooMuch> {
        self.join(Join::Or, a, b)
    }

    pub(super) fn not(&mut self, f: Fun) -> Result<Fun, TooMuch> {
        if f <= ALWAYS {
            return Ok(1 - f);
        }
        if let Some(known) = self.opposite.get(&f) {
            return Ok(*known);
        }
        let (variable, no, yes) = self.of(f);
        let (no, yes) = (self.not(no)?, self.not(yes)?);
        let made = self.node(variable, no, yes)?;
        self.opposite.insert(f, made);
        Ok(made)
    }

    /// What holds where one does and another does not.
    pub(super) fn without(&mut self, a: Fun, b: Fun) -> Result<Fun, TooMuch> {
        let b = self.not(b)?;
        self.and(a, b)
    }

    /// The function where some of the variables are yes.
    pub(super) fn where_yes(&mut self, f: Fun, variables: &[bool]) -> Result<Fun, TooMuch> {
        self.where_yes_of(f, variables, &mut HashMap::new())
    }

    fn where_yes_of(&mut self, f: Fun, yes: &[bool], done: &mut HashMap<Fun, Fun>) -> Result<Fun, TooMuch> {
        if f <= ALWAYS {
            return Ok(f);
        }
        if let Some(known) = done.get(&f) {
            return Ok(*known);
        }
        let (variable, low, high) = self.of(f);
        let high = self.where_yes_of(high, yes, done)?;
        let made = if yes.get(variable as usize).copied().unwrap_or(false) {
            high
        } else {
            let low = self.where_yes_of(low, yes, done)?;
            self.node(variable, low, high)?
        };
        done.insert(f, made);
        Ok(made)
    }

    /// The function that a cube is.
    pub(super) fn cube(&mut self, cube: &Cube) -> Result<Fun, TooMuch> {
        let mut out = ALWAYS;
        for (variable, wanted) in cube {
            let v = self.variable(*variable)?;
            let v = if *wanted { v } else { self.not(v)? };
            out = self.and(out, v)?;
        }
        Ok(out)
    }

    /// Cubes, none of them needless, that together hold everywhere `least` does and nowhere `most` does not: Minato's and
    /// Morreale's way. At most `limit` of them.
    pub(super) fn cover(&mut self, least: Fun, most: Fun, limit: usize) -> Result<Vec<Cube>, TooMuch> {
        let mut out = vec![];
        self.cover_below(least, most, &mut vec![], limit, &mut out)?;
        Ok(out)
    }

    /// Adds the cubes below a beginning to `out`, and returns what they hold together (without the beginning).
    fn cover_below(
        &mut self,
        least: Fun,
        most: Fun,
        begun: &mut Cube,
        limit: usize,
        out: &mut Vec<Cube>,
    ) -> Result<Fun, TooMuch> {
        if least == NEVER {
            return Ok(NEVER);
        }
        if most == ALWAYS {
            if out.len() >= limit {
                return Err(TooMuch);
            }
            out.push(begun.clone());
            return Ok(ALWAYS);
        }
        let variable = self.of(least).0.min(self.of(most).0);
        let ((least0, least1), (most0, most1)) = (self.split(least, variable), self.split(most, variable));
        let mut held = [NEVER; 2];
        for (yes, (least, most, other)) in [(false, (least0, most0, most1)), (true, (least1, most1, most0))] {
            // What only this side may hold.
            let least = self.without(least, other)?;
            begun.push((variable, yes));
            held[usize::from(yes)] = self.cover_below(least, most, begun, limit, out)?;
            begun.pop();
        }
        let (rest0, rest1) = (self.without(least0, held[0])?, self.without(least1, held[1])?);
        let (rest, most) = (self.or(rest0, rest1)?, self.and(most0, most1)?);
        let either = self.cover_below(rest, most, begun, limit, out)?;
        let parted = self.node(variable, held[0], held[1])?;
        self.or(parted, either)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// What a function says of one assignment.
    fn holds(d: &Diagram, mut f: Fun, given: u32) -> bool {
        while f > ALWAYS {
            let (v, no, yes) = d.of(f);
            f = if given >> v & 1 == 1 { yes } else { no };
        }
        f == ALWAYS
    }

    /// A function of five variables from its table of 32 values.
    fn of_table(d: &mut Diagram, table: u32) -> Fun {
        let mut out = NEVER;
        for given in (0..32).filter(|g| table >> g & 1 == 1) {
            let cube = (0..5).map(|v| (v, given >> v & 1 == 1)).collect();
            let cube = d.cube(&cube).unwrap();
            out = d.or(out, cube).unwrap();
        }
        out
    }

    proptest! {
        #[test]
        fn functions_are_what_their_tables_say_and_one_is_one(a in any::<u32>(), b in any::<u32>()) {
            let mut d = Diagram::new();
            let (fa, fb) = (of_table(&mut d, a), of_table(&mut d, b));
            let (and, or, not) = (d.and(fa, fb).unwrap(), d.or(fa, fb).unwrap(), d.not(fa).unwrap());
            prop_assert_eq!(and, of_table(&mut d, a & b));
            prop_assert_eq!(or, of_table(&mut d, a | b));
            prop_assert_eq!(not, of_table(&mut d, !a));
            for given in 0..32 {
                prop_assert_eq!(holds(&d, fa, given), a >> given & 1 == 1);
            }
        }

        #[test]
        fn a_cover_holds_all_it_must_and_nothing_it_must_not(a in any::<u32>(), more in any::<u32>()) {
            let mut d = Diagram::new();
            let (least, most) = (of_table(&mut d, a), of_table(&mut d, a | more));
            let cubes = d.cover(least, most, 64).unwrap();
            for given in 0u32..32 {
                let covered = cubes.iter().any(|c| c.iter().all(|(v, yes)| (given >> v & 1 == 1) == *yes));
                prop_assert!(covered || a >> given & 1 == 0, "misses {}", given);
                prop_assert!(!covered || (a | more) >> given & 1 == 1, "goes too far at {}", given);
            }
        }
    }

    #[test]
    fn what_is_too_large_is_said_and_not_worked_out() {
        let mut d = Diagram::new();
        // Pairs far apart in the order: the smallest diagram has 2^n nodes.
        let n = 40;
        let mut all = ALWAYS;
        let mut made = Ok(NEVER);
        for i in 0..n {
            let (a, b) = (d.variable(i).unwrap(), d.variable(i + n).unwrap());
            made = d.or(a, b).and_then(|either| d.and(all, either));
            match made {
                Ok(f) => all = f,
                Err(_) => break,
            }
        }
        assert_eq!(made, Err(TooMuch));
        assert_eq!(d.variable(VARIABLES_MAX as u32), Err(TooMuch));
    }
}

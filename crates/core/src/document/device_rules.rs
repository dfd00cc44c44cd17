//! What a gate asks of devices: it becomes rules of the gate, so that judging, comparing, rehearsing and explaining know it as they know every other
//! rule.

use super::condition::day;
use super::fields::Fields;
use super::names::{Names, device_check};
use crate::site::{Condition, Dates, Effect, Grants, Rule};

/// How a gate asks.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Mode {
    Require,
    Advise,
}

/// Reads `[[gate.device]]` as rules: one that refuses, or one that says so until a day and one that refuses from then on. At a gate of tunnels
/// they are about the machine of the tunnel, and not about the browser in which its person reads a page there.
pub(crate) fn read(gate: &Fields<'_, '_>, names: &Names<'_>) -> Vec<Rule> {
    let mut out = vec![];
    let by_tunnel = gate.texts("entrances").map(Condition::Entrance);
    for f in gate.tables("device") {
        let check = f.need("check", "\"harbour-laptop\"").and_then(|wanted| device_check(&f, "check", &wanted, names.devices));
        let mode = f.choice("mode", Mode::Require, &[("require", Mode::Require), ("advise", Mode::Advise)]);
        let from = day(&f, "from");
        let words = f.need("words", "\"Ask the harbour desk for a laptop that is looked after.\"").unwrap_or_default();
        if mode == Mode::Require && f.has("from") {
            f.error(
                "from",
                "what is required counts from now on".into(),
                "Write mode = \"advise\" until that day, or take the line away.",
            );
        }
        f.finish();
        let Some(check) = check else { continue };
        let name = |what: &str| format!("device check {}{what}", check.name);
        let fails = |more: Option<Condition>| {
            let parts = by_tunnel.iter().cloned().chain([Condition::DeviceFails(check.clone())]).chain(more);
            match <[Condition; 1]>::try_from(parts.collect::<Vec<_>>()) {
                Ok([one]) => one,
                Err(several) => Condition::All(several),
            }
        };
        let refuse = |name: String, when| Rule { name, when, effect: Effect::Refuse { words: words.clone() } };
        if mode == Mode::Require {
            out.push(refuse(name(""), fails(None)));
            continue;
        }
        let dates = |from, until| Condition::Dates(Dates { from, until, zone: names.zone });
        let until = from.and_then(|d| d.pred_opt());
        let when = fails(until.map(|until| dates(None, Some(until))));
        let message = match from {
            Some(day) => format!("{words} ({day})"),
            None => words.clone(),
        };
        let says = Grants { message: Some(message), ..Grants::default() };
        out.push(Rule { name: name(", advice"), when, effect: Effect::Give(Box::new(says)) });
        if let Some(day) = from {
            out.push(refuse(name(&format!(" from {day}")), fails(Some(dates(Some(day), None)))));
        }
    }
    out
}

//! Why somebody has a role, or has it no more: what each rule that could give it sees of them now.

use super::{Judging, identify};
use crate::circumstances::Circumstances;
use crate::condition::{Condition, Truth};
use crate::evidence::Evidence;
use crate::site::{Effect, Place, Site};
use crate::step::{Phrase, Silent};

/// What the rules of a gate, or of the console, see of somebody with regard to these roles.
pub fn why_roles(site: &Site, place: &Place, evidence: &Evidence, at: &Circumstances<'_>, roles: &[String]) -> Vec<Phrase> {
    let none = |role: &String| Phrase::NoRuleGives { role: role.clone() };
    let Some(access) = site.access_at(place) else { return roles.iter().map(none).collect() };
    let gate = place.as_gate();
    let who = identify(site, access, evidence, &mut Silent);
    let judging = Judging { site, access, gate, who: &who, at };
    let mut out = vec![];
    for role in roles {
        let before = out.len();
        for rule in access.rules.iter() {
            let Effect::Give(grants) = &rule.effect else { continue };
            let from = grants.roles_from.as_ref().filter(|f| f.only.is_empty() || f.only.contains(role));
            let saw = match from {
                None if !grants.roles.contains(role) => continue,
                // Where the rule applies, it is what roles come from that decides.
                Some(from) if rule.when.judge(&who, at, gate) == Truth::Yes => {
                    let source = from.attribute.map_or_else(|| Condition::Group(role.clone()), |id| Condition::Present(id, true));
                    source.saw(site, &who, at, gate)
                }
                _ => judging.saw(rule),
            };
            out.push(Phrase::RoleByRule { role: role.clone(), rule: rule.name.clone(), saw });
        }
        if out.len() == before {
            out.push(none(role));
        }
    }
    out
}

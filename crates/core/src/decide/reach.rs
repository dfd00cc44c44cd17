//! Whether what rules opened to a person covers where they want to go, and where not, what comes nearest.

use ipnet::IpNet;

use super::{Admitted, Decision, fold};
use crate::circumstances::Circumstances;
use crate::evidence::Evidence;
use crate::site::{Covers, Gate, Machine, Reach, Site, Wanted};
use crate::step::{Lang, Silent};

/// The answer to *may this person reach that*.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Opening {
    /// It is open, by this reach.
    Open { reach: String, by: By },
    /// It is closed.
    Closed(Near),
}

/// Why a reach is open to somebody.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum By {
    /// A rule gives it.
    Rule(String),
    /// It is open to every machine of a zone, signed in or not.
    Zone(String),
    /// The machine is listed with it, without a person.
    Machine(String),
}

/// What comes nearest to opening a way, the nearest first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Near {
    /// An open reach leads there, on these services.
    OtherServices { reach: String, services: Vec<String> },
    /// A reach covers it that these rules of the gate give, and none of them applied.
    NotGiven { reach: String, rules: Vec<String> },
    /// The same, on a machine where nobody is signed in.
    SignInFirst { reach: String, rules: Vec<String>, by_tunnel: bool },
    /// An open reach leads around there.
    Excepted { reach: String, by: IpNet },
    /// A reach covers it that no rule of the gate gives.
    GivenByNone { reach: String },
    /// No reach of the site covers it.
    Nothing,
}

impl Opening {
    /// The reach that opens it, or that comes nearest.
    pub fn reach(&self) -> Option<&str> {
        match self {
            Opening::Open { reach, .. }
            | Opening::Closed(
                Near::Excepted { reach, .. }
                | Near::OtherServices { reach, .. }
                | Near::NotGiven { reach, .. }
                | Near::SignInFirst { reach, .. }
                | Near::GivenByNone { reach },
            ) => Some(reach),
            Opening::Closed(Near::Nothing) => None,
        }
    }

    /// Whether it is open.
    pub fn is_open(&self) -> bool {
        matches!(self, Opening::Open { .. })
    }

    /// The answer in one sentence.
    pub fn sentence(&self, to: &Wanted, lang: Lang) -> String {
        let fr = lang == Lang::Fr;
        let quoted = |all: &[String]| {
            let one = |r: &String| if fr { format!("« {r} »") } else { format!("“{r}”") };
            all.iter().map(one).collect::<Vec<_>>().join(", ")
        };
        match self {
            Opening::Open { reach, by: By::Rule(rule) } if fr => {
                format!("{to} est ouvert par l'accès {reach}, que donne la règle « {rule} ».")
            }
            Opening::Open { reach, by: By::Rule(rule) } => {
                format!("{to} is open by reach {reach}, which rule “{rule}” gives.")
            }
            Opening::Open { reach, by: By::Zone(zone) } if fr => {
                format!("{to} est ouvert à toute machine de la zone {zone}, par l'accès {reach}.")
            }
            Opening::Open { reach, by: By::Zone(zone) } => {
                format!("{to} is open to every machine of zone {zone}, by reach {reach}.")
            }
            Opening::Open { reach, by: By::Machine(machine) } if fr => {
                format!("{to} est ouvert par l'accès {reach}, donné à la machine {machine} sans personne.")
            }
            Opening::Open { reach, by: By::Machine(machine) } => {
                format!("{to} is open by reach {reach}, which machine {machine} has without a person.")
            }
            Opening::Closed(Near::Excepted { reach, by }) if fr => {
                format!("{to} est fermé : l'accès {reach}, qui est ouvert, laisse {by} de côté.")
            }
            Opening::Closed(Near::Excepted { reach, by }) => {
                format!("{to} is closed: reach {reach}, which is open, leaves out {by}.")
            }
            Opening::Closed(Near::OtherServices { reach, services }) if fr => {
                format!("{to} est fermé : l'accès {reach}, qui est ouvert, n'y mène que par {}.", services.join(", "))
            }
            Opening::Closed(Near::OtherServices { reach, services }) => {
                format!("{to} is closed: reach {reach}, which is open, leads there on {} alone.", services.join(", "))
            }
            Opening::Closed(Near::NotGiven { reach, rules }) if fr => {
                format!(
                    "{to} est fermé : l'accès {reach} y mène, donné par {}, et aucune de ces règles ne s'applique.",
                    quoted(rules)
                )
            }
            Opening::Closed(Near::NotGiven { reach, rules }) => {
                format!("{to} is closed: reach {reach} leads there, given by {}, and no such rule gave it here.", quoted(rules))
            }
            Opening::Closed(Near::SignInFirst { reach, rules, .. }) if fr => {
                format!("{to} est fermé tant que personne n'est connecté : l'accès {reach} y mène, donné par {}.", quoted(rules))
            }
            Opening::Closed(Near::SignInFirst { reach, rules, .. }) => {
                format!("{to} is closed while nobody is signed in: reach {reach} leads there, given by {}.", quoted(rules))
            }
            Opening::Closed(Near::GivenByNone { reach }) if fr => {
                format!("{to} est fermé : l'accès {reach} y mène, et aucune règle de la porte ne le donne.")
            }
            Opening::Closed(Near::GivenByNone { reach }) => {
                format!("{to} is closed: reach {reach} leads there, and no rule of the gate gives it.")
            }
            Opening::Closed(Near::Nothing) if fr => format!("{to} est fermé : aucun accès du site n'y mène."),
            Opening::Closed(Near::Nothing) => format!("{to} is closed: no reach of the site leads there."),
        }
    }

    /// What would have to be written for it to be open, for whoever should reach it; none where it is open.
    pub fn remedy(&self, to: &Wanted, lang: Lang) -> Option<String> {
        let Opening::Closed(near) = self else { return None };
        let service = to.service;
        let host = || to.name.clone().or_else(|| to.addresses.first().map(ToString::to_string)).unwrap_or_default();
        Some(match (near, lang) {
            (Near::Excepted { reach, by }, Lang::En) => {
                format!("To open it, take {by} out of except of [[reach]] {reach}, or give another reach that leads there.")
            }
            (Near::Excepted { reach, by }, Lang::Fr) => {
                format!("Pour l'ouvrir, retirez {by} de except de [[reach]] {reach}, ou donnez un autre accès qui y mène.")
            }
            (Near::OtherServices { reach, .. }, Lang::En) => {
                format!("To open it, add \"{service}\" to services of [[reach]] {reach}: whoever has that reach gets it.")
            }
            (Near::OtherServices { reach, .. }, Lang::Fr) => {
                format!(
                    "Pour l'ouvrir, ajoutez \"{service}\" à services de [[reach]] {reach} : tous ceux qui ont cet accès l'auront."
                )
            }
            (Near::NotGiven { rules, .. }, Lang::En) => {
                format!("The steps say why “{}” did not give it.", rules.join("”, “"))
            }
            (Near::NotGiven { rules, .. }, Lang::Fr) => {
                format!("Les étapes disent pourquoi « {} » ne l'a pas donné.", rules.join(" », « "))
            }
            (Near::SignInFirst { by_tunnel: true, .. }, Lang::En) => {
                "Connect by an entrance of the gate, and sign in.".to_owned()
            }
            (Near::SignInFirst { by_tunnel: true, .. }, Lang::Fr) => {
                "Connectez-vous par une entrée de la porte, et identifiez-vous.".to_owned()
            }
            (Near::SignInFirst { .. }, Lang::En) => {
                "Sign in on the machine; or, for every machine, name a reach in before of the [[zone]].".to_owned()
            }
            (Near::SignInFirst { .. }, Lang::Fr) => {
                "Connectez-vous sur la machine ; ou, pour toute machine, nommez un accès dans before de la [[zone]].".to_owned()
            }
            (Near::GivenByNone { reach }, Lang::En) => {
                format!("To open it, add \"{reach}\" to reach of the [[gate.rule]] whose people should have it.")
            }
            (Near::GivenByNone { reach }, Lang::Fr) => {
                format!("Pour l'ouvrir, ajoutez \"{reach}\" à reach de la [[gate.rule]] de ceux qui doivent l'avoir.")
            }
            (Near::Nothing, Lang::En) => {
                let host = host();
                format!("To open it, add [[reach]] with to = [\"{host}\"] and services = [\"{service}\"], and give it in a rule.")
            }
            (Near::Nothing, Lang::Fr) => {
                let host = host();
                format!(
                    "Pour l'ouvrir, ajoutez [[reach]] avec to = [\"{host}\"] et services = [\"{service}\"], et donnez-le dans une règle."
                )
            }
        })
    }
}

/// Who wants to go somewhere.
#[derive(Clone, Copy, Debug)]
pub enum Goer<'a> {
    /// Nobody is signed in on the machine: what is open to every machine is open to it.
    Nobody,
    /// Somebody whom the gate does not let in: the same.
    Refused,
    /// Somebody whom it lets in.
    Admitted(&'a Admitted),
    /// A machine that is listed without a person.
    Listed(&'a Machine),
}

impl<'a> Goer<'a> {
    /// By a decision on them.
    pub fn of(decision: &'a Decision) -> Goer<'a> {
        match decision {
            Decision::Admitted(a) => Goer::Admitted(a),
            Decision::Refused(_) => Goer::Refused,
        }
    }
}

/// Whether a way is open to somebody at a network gate. `zone` is where they are, where it is known.
pub fn opening(site: &Site, gate: &Gate, who: Goer<'_>, zone: Option<&str>, wanted: &Wanted) -> Opening {
    let given: Vec<(&String, By)> = match who {
        Goer::Admitted(a) => a.terms().iter().flat_map(|t| &t.opens).map(|o| (&o.reach, By::Rule(o.rule.clone()))).collect(),
        Goer::Listed(m) => m.reach.iter().map(|r| (r, By::Machine(m.name.clone()))).collect(),
        Goer::Nobody | Goer::Refused => vec![],
    };
    let everybody = site
        .zones_of(gate)
        .filter(|z| zone.is_none_or(|name| z.name == name))
        .flat_map(|z| z.before.iter().map(move |reach| (reach, By::Zone(z.name.clone()))));
    let open: Vec<(&Reach, By)> =
        given.into_iter().chain(everybody).filter_map(|(name, by)| Some((site.reach(name)?, by))).collect();
    let seen: Vec<(&Reach, Covers)> = open.iter().map(|(r, _)| (*r, r.covers(wanted))).collect();
    if let Some(((reach, by), _)) = open.iter().zip(&seen).find(|(_, (_, c))| *c == Covers::Yes) {
        return Opening::Open { reach: reach.name.clone(), by: by.clone() };
    }
    let name = |r: &Reach| r.name.clone();
    if let Some((reach, _)) = seen.iter().find(|(_, c)| *c == Covers::OtherServices) {
        let services = reach.services.iter().map(ToString::to_string).collect();
        return Opening::Closed(Near::OtherServices { reach: name(reach), services });
    }
    let covering: Vec<&Reach> = site.reaches.iter().filter(|r| r.covers(wanted) == Covers::Yes).collect();
    let givers = |r: &Reach| -> Vec<String> {
        gate.access.rules.iter().filter(|rule| rule.effect.opens(&r.name)).map(|rule| rule.name.clone()).collect()
    };
    if let Some((reach, rules)) = covering.iter().map(|r| (r, givers(r))).find(|(_, rules)| !rules.is_empty()) {
        let reach = name(reach);
        return Opening::Closed(match who {
            Goer::Nobody | Goer::Listed(_) => Near::SignInFirst { reach, rules, by_tunnel: gate.is_vpn() },
            Goer::Refused | Goer::Admitted(_) => Near::NotGiven { reach, rules },
        });
    }
    for (reach, covers) in &seen {
        if let Covers::Excepted(by) = covers {
            return Opening::Closed(Near::Excepted { reach: name(reach), by: *by });
        }
    }
    Opening::Closed(covering.first().map_or(Near::Nothing, |r| Near::GivenByNone { reach: name(r) }))
}

/// Whether a way is open to the person of the evidence, or to a machine on which nobody is signed in. It is decided as live requests are, and
/// nothing is granted by it.
pub fn opening_for(site: &Site, gate: &Gate, evidence: Option<&Evidence>, at: &Circumstances<'_>, wanted: &Wanted) -> Opening {
    let by_address = || at.address.and_then(|a| site.zones_of(gate).find(|z| z.holds(a))).map(|z| z.name.as_str());
    let zone = at.tunnel.map(|t| t.entrance.as_str()).or_else(by_address);
    let decision = evidence.map(|e| fold(site, gate, e, at, &mut Silent));
    opening(site, gate, decision.as_ref().map_or(Goer::Nobody, Goer::of), zone, wanted)
}

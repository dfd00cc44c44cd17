//! Handover sheets: everything that another team must enter on its side, made from the site, before anything is connected and
//! after every change. Values are ready to be copied; each has its reason.

mod application;
mod directory;
mod network;
mod provider;
mod radius;
mod realm;
mod vpn;
mod write;

pub use write::STYLE;

use crate::site::{AttributeId, Gate, Site};

/// For whom a sheet is, with the name of their part.
#[derive(Clone, Copy, Debug)]
pub enum For<'a> {
    /// The team of an identity provider, which need not be in the site yet.
    Provider(&'a str),
    /// The team of a directory, which need not be in the site yet.
    Directory(&'a str),
    /// The team of a Kerberos realm, which need not be in the site yet.
    Realm(&'a str),
    /// The team of the application, or of the network, behind a gate.
    Application(&'a Gate),
}

/// What the site does not hold.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// What the site is of, such as `edition 3`.
    pub of: String,
    /// Certificates of our SAML keys, the one in use first.
    pub certificates: Vec<Certificate>,
    /// Of a provider that is not in the site yet: whether it is to speak SAML.
    pub saml: bool,
}

/// A certificate to hand over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certificate {
    pub fingerprint: String,
    /// Its last day.
    pub until: String,
    pub pem: String,
}

/// A sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Sheet {
    pub title: String,
    /// Which edition it is of, or that nothing is connected yet.
    pub state: String,
    /// Whether the part is in the site.
    pub connected: bool,
    pub parts: Vec<Part>,
    /// How to try it, in order.
    pub steps: Vec<String>,
}

/// One table of a sheet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// What its rows are: `enter`, `release`, `send-back`, `receive`, `allow`.
    pub code: &'static str,
    pub heading: &'static str,
    pub rows: Vec<Row>,
}

/// One value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    pub label: String,
    /// Empty where the other team fills it in.
    pub value: String,
    pub why: String,
    /// The command that proves it; empty where there is none.
    pub check: String,
}

impl Row {
    fn new(label: impl Into<String>, value: impl Into<String>, why: impl Into<String>) -> Row {
        Row { label: label.into(), value: value.into(), why: why.into(), check: String::new() }
    }

    fn proven(self, check: impl Into<String>) -> Row {
        Row { check: check.into(), ..self }
    }
}

impl Part {
    /// Whether any of its rows has a command that proves it.
    pub fn has_checks(&self) -> bool {
        self.rows.iter().any(|r| !r.check.is_empty())
    }
}

/// Makes a sheet; of a provider for one gate alone where one is named.
pub fn sheet(site: &Site, whom: For<'_>, gate: Option<&Gate>, facts: &Facts) -> Sheet {
    let mut out = match whom {
        For::Provider(name) => provider::sheet(site, name, gate, facts),
        For::Directory(name) => directory::sheet(site, name),
        For::Realm(name) => realm::sheet(site, name),
        For::Application(gate) => match gate.network() {
            Some(_) if gate.is_vpn() => vpn::sheet(site, gate),
            Some(network) => network::sheet(site, gate, network),
            None => application::sheet(site, gate),
        },
    };
    out.state = match out.connected {
        true => format!("This sheet is of {} of {}.", facts.of, site.name),
        false => format!("This sheet is from before it is connected; the addresses are of {} of {}.", facts.of, site.name),
    };
    out
}

/// What an attribute is needed for at these gates: look-ups, mappings, headers and rules.
fn needs(site: &Site, id: AttributeId, gates: &[&Gate]) -> Vec<String> {
    let mut at: Vec<(String, Vec<&str>)> = vec![];
    for g in gates {
        for what in needs_at(site, id, g) {
            match at.iter_mut().find(|(w, _)| *w == what) {
                Some((_, names)) => names.push(&g.name),
                None => at.push((what, vec![&g.name])),
            }
        }
    }
    let place = |names: Vec<&str>| match names.as_slice() {
        [one] => format!("gate {one}"),
        several => format!("gates {}", several.join(", ")),
    };
    at.into_iter().map(|(what, names)| format!("{what} at {}", place(names))).collect()
}

fn needs_at(site: &Site, id: AttributeId, gate: &Gate) -> Vec<String> {
    let mut out = vec![];
    let fed = site.directories.iter().filter(|d| d.fed_by == id && gate.access.directories.contains(&d.name));
    out.extend(fed.map(|d| format!("the look-up in directory {}", d.name)));
    // What is made of it counts where what is made is needed.
    for m in gate.access.mappings.iter().filter(|m| m.attribute != id && m.attributes().contains(&id)) {
        let made = site.attribute_name(m.attribute);
        out.extend(needs_at(site, m.attribute, gate).into_iter().map(|n| format!("{made}, for {n}")));
    }
    let headers = site.delivery(gate).into_iter().flat_map(|d| &d.headers).filter(|h| h.value.attributes().contains(&id));
    out.extend(headers.map(|h| format!("header {}", h.name)));
    let rules = gate.access.rules.iter().filter(|r| r.when.attributes().contains(&id));
    out.extend(rules.map(|r| format!("rule “{}”", r.name)));
    out.dedup();
    out
}

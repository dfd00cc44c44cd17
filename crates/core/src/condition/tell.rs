//! What a condition wants and what it saw, as phrases.

use crate::circumstances::Circumstances;
use crate::identity::{Groups, Identity};
use crate::site::{Condition, Named, Place, Site, Test};
use crate::step::Phrase;

/// The name of the list, or else its members.
fn listed<T>(list: &Named<T>, show: impl Fn(&T) -> String) -> Vec<String> {
    match &list.list {
        Some(name) => vec![name.clone()],
        None => list.members.iter().map(show).collect(),
    }
}

impl Condition {
    /// What the condition wants.
    pub fn wanted(&self, site: &Site) -> Phrase {
        let parts = |parts: &[Condition]| parts.iter().map(|p| p.wanted(site)).collect();
        let name = |id| site.attribute_name(id).to_owned();
        match self {
            Condition::Everyone => Phrase::Everyone,
            Condition::Group(g) => Phrase::Group { group: g.clone(), via: None },
            Condition::DirectGroup(g) => Phrase::DirectGroup { group: g.clone() },
            Condition::AnyGroup(list) => Phrase::AnyGroup { of: listed(list, String::clone) },
            Condition::Attribute(id, test) => {
                let attribute = name(*id);
                match test {
                    Test::OneOf(values) => Phrase::Attribute { attribute, values: values.clone() },
                    Test::StartsWith(with) => Phrase::StartsWith { attribute, with: with.clone() },
                    Test::EndsWith(with) => Phrase::EndsWith { attribute, with: with.clone() },
                    Test::Matches(p) => Phrase::Matches { attribute, pattern: p.text().to_owned() },
                    Test::Compared(order, with) => {
                        Phrase::Compared { attribute, sign: order.sign().to_owned(), with: with.to_string() }
                    }
                }
            }
            Condition::Present(id, true) => Phrase::Present { attribute: name(*id) },
            Condition::Present(id, false) => Phrase::Absent { attribute: name(*id), absence: None },
            Condition::Person(list) => Phrase::OnePerson { of: listed(list, |p| format!("{}/{}", p.provider, p.subject)) },
            Condition::WayIn(of) => Phrase::WayIn { of: of.clone() },
            Condition::Factor(of, within) => Phrase::Factor { of: of.clone(), minutes: within.map(|d| d.num_minutes()) },
            Condition::SignedIn(within) => Phrase::SignedInWithin { minutes: within.num_minutes() },
            Condition::Context(of) => Phrase::Factors { any_acr: of.clone(), amr: vec![] },
            Condition::Network(list) => Phrase::Network { of: listed(list, ToString::to_string) },
            Condition::Hours(h) => Phrase::Hours {
                from: h.from.format("%H:%M").to_string(),
                until: h.until.format("%H:%M").to_string(),
                days: h.days.iter().map(|d| d.to_string().to_lowercase()).collect(),
                zone: h.zone.name().to_owned(),
            },
            Condition::Dates(d) => Phrase::Dates {
                from: d.from.map(|d| d.to_string()),
                until: d.until.map(|d| d.to_string()),
                zone: d.zone.name().to_owned(),
            },
            Condition::Gate(of) => Phrase::AtGate { of: of.clone() },
            Condition::Path(of) => Phrase::AtPath { of: of.clone() },
            Condition::Method(of) => Phrase::ByMethod { of: of.clone() },
            Condition::Entrance(of) => Phrase::AtEntrance { of: of.clone() },
            Condition::Platform(of) => Phrase::ClientPlatform { of: of.clone() },
            Condition::ClientVersion(least) => Phrase::ClientVersion { least: least.to_string() },
            Condition::Profile(wanted) => Phrase::ClientProfile { shown: *wanted },
            Condition::Device(of) => Phrase::OnDevice { of: of.iter().map(|c| c.title.clone()).collect() },
            Condition::DeviceFails(check) => Phrase::OffDevice { of: check.title.clone() },
            Condition::All(p) => Phrase::AllOf { of: parts(p) },
            Condition::Any(p) => Phrase::AnyOf { of: parts(p) },
            Condition::None(p) => Phrase::NoneOf { of: parts(p) },
        }
    }

    /// The values each part saw.
    pub fn saw(&self, site: &Site, who: &Identity, at: &Circumstances<'_>, gate: Option<&str>) -> Vec<Phrase> {
        let mut out = vec![];
        self.collect_saw(site, who, at, gate, &mut out);
        out
    }

    fn collect_saw(&self, site: &Site, who: &Identity, at: &Circumstances<'_>, gate: Option<&str>, out: &mut Vec<Phrase>) {
        let group = |name: &str| match &who.groups {
            Groups::Known { .. } => match who.groups.found(name) {
                Some(g) => Phrase::Group { group: g.name.clone(), via: g.via.clone() },
                None => Phrase::NotInGroup { group: name.to_owned() },
            },
            Groups::Unknown { absence, .. } => Phrase::GroupsUnknown { absence: absence.clone() },
        };
        let saw = match self {
            Condition::Everyone => Phrase::Everyone,
            Condition::Group(name) | Condition::DirectGroup(name) => group(name),
            Condition::AnyGroup(list) => match (&who.groups, list.members.iter().find(|g| who.groups.contains(g))) {
                (_, Some(found)) => group(found),
                (Groups::Known { .. }, None) => Phrase::NotInAnyGroup { of: listed(list, String::clone) },
                (Groups::Unknown { absence, .. }, None) => Phrase::GroupsUnknown { absence: absence.clone() },
            },
            Condition::Attribute(id, _) | Condition::Present(id, _) => {
                let attribute = site.attribute_name(*id).to_owned();
                match who.attribute(*id).values() {
                    Ok(values) => Phrase::Attribute { attribute, values: values.to_vec() },
                    Err(absence) => Phrase::Absent { attribute, absence: Some(absence.clone()) },
                }
            }
            Condition::Person(_) => Phrase::OnePerson { of: vec![format!("{}/{}", who.person.provider, who.person.subject)] },
            Condition::WayIn(_) => Phrase::WayIn { of: vec![who.way.clone()] },
            Condition::Factor(..) | Condition::SignedIn(_) => Phrase::FactorsSeen {
                amr: who.factors.amr.iter().cloned().chain(who.factors.own.iter().map(|f| f.amr.clone())).collect(),
                minutes_ago: who.factors.auth_time.map(|t| (at.now - t).num_minutes()),
            },
            Condition::Context(_) => Phrase::Factors { any_acr: who.factors.acr.iter().cloned().collect(), amr: vec![] },
            Condition::Network(_) => match at.address {
                Some(a) => Phrase::Network { of: vec![a.to_canonical().to_string()] },
                None => Phrase::NetworkUnknown,
            },
            Condition::Hours(h) => Phrase::Clock { at: at.now.with_timezone(&h.zone).format("%a %H:%M %Z").to_string() },
            Condition::Dates(d) => Phrase::Clock { at: at.now.with_timezone(&d.zone).format("%Y-%m-%d %Z").to_string() },
            Condition::Gate(_) => Phrase::AtGate { of: vec![gate.map_or_else(|| Place::Console.to_string(), str::to_owned)] },
            Condition::Path(_) => Phrase::AtPath { of: vec![crate::text::shorten(at.path, 200)] },
            Condition::Method(_) => Phrase::ByMethod { of: vec![at.method.to_owned()] },
            Condition::Entrance(_) | Condition::Platform(_) | Condition::ClientVersion(_) | Condition::Profile(_) => {
                match (at.tunnel, self) {
                    (None, _) => Phrase::NoTunnel,
                    (Some(t), Condition::Entrance(_)) => Phrase::AtEntrance { of: vec![t.entrance.clone()] },
                    (Some(t), Condition::Profile(_)) => Phrase::ClientProfile { shown: t.profile.is_some() },
                    (Some(t), _) => Phrase::ClientSays { words: t.words() },
                }
            }
            Condition::Device(of) => {
                Phrase::DeviceSays { says: of.iter().flat_map(|c| c.says(who.device.as_ref(), at.now)).collect() }
            }
            Condition::DeviceFails(check) => Phrase::DeviceSays { says: check.says(who.device.as_ref(), at.now) },
            Condition::All(p) | Condition::Any(p) | Condition::None(p) => {
                p.iter().for_each(|c| c.collect_saw(site, who, at, gate, out));
                return;
            }
        };
        if !out.contains(&saw) {
            out.push(saw);
        }
    }
}

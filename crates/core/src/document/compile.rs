//! The whole document at once: resolves names between parts and lists every mistake.

use std::collections::HashSet;
use std::sync::Arc;

use chrono::Duration;
use chrono_tz::Tz;
use toml::de::DeTable;

use crate::address::{PublicAddress, network};

use crate::forwarded::{Proxies, ProxyField};

use super::access::read_access;
use super::delivery::{self};
use super::directory::{self, EntryAttribute};
use super::expectation;
use super::factor;
use super::fields::{DOCUMENT_MAX, Fields, Others, Report};
use super::finding::{Finding, Severity};
use super::gate::{self, name_of, read_address};
use super::mapping;
use super::names::{Lists, Names, OfSite, only_gate, refer};
use super::provider::{read_groups, read_party, read_provider};
use super::way::{Around, read_mail, read_way};
use crate::session::Lifetimes;
use crate::site::{
    ACCESS_TOKEN, Access, AttributeId, BUILT_IN, Delivery, DeviceCheck, Directory, Gate, MailServer, Mapping, Octets,
    PERSONAL_TOKEN, Place, Provider, Reach, Salts, SamlParty, Site, UpstreamTicket, Way, WayKind, Zone,
};

/// The most rules of the whole site, counted at every gate.
const RULES_MAX: usize = 200_000;

/// Compiles a site file. The site is there only when no finding is an error; warnings come with it.
pub fn compile(text: &str) -> (Option<Site>, Vec<Finding>) {
    let report = Report::new(text);
    if text.len() > DOCUMENT_MAX {
        report.error(0, "site file", format!("it is larger than {DOCUMENT_MAX} bytes"), "Split the site.");
        return (None, report.finish());
    }
    let site = read(&report, text);
    let findings = report.finish();
    let sound = !findings.iter().any(|f| f.severity == Severity::Error);
    (site.filter(|_| sound), findings)
}

/// Reads a whole document.
pub(super) fn read(report: &Report, text: &str) -> Option<Site> {
    let (root, syntax) = DeTable::parse_recoverable(text);
    for e in &syntax {
        let line = e.span().map_or(0, |s| report.line_at(s.start));
        report.error(line, "syntax", e.message().to_owned(), "Mend the TOML; what follows on that line was not read.");
    }
    let fields = Fields::new(report, root.get_ref(), "", 1);
    // Rules of the whole site stand before those of every gate.
    let everywhere = fields.count("rule") * fields.count("gate");
    if everywhere > RULES_MAX {
        let what = format!("the rules of the whole site stand before those of every gate, {everywhere} in all");
        fields.error("rule", what, format!("Keep it below {RULES_MAX}: give a rule to the gates that need it."));
        return None;
    }
    let site = read_site(&fields);
    fields.finish();
    site
}

/// Interns attribute names while parts are read.
struct Interner {
    names: Vec<String>,
}

impl Interner {
    fn intern(&mut self, f: &Fields<'_, '_>, name: &str, line: usize) -> Option<AttributeId> {
        let plain =
            !name.is_empty() && name.len() <= 60 && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_'));
        if !plain {
            f.report.error(
                line,
                &f.place,
                format!("the attribute name \"{name}\" is not plain"),
                "Use letters, digits, - and _.",
            );
            return None;
        }
        if BUILT_IN.contains(&name) {
            f.report.error(line, &f.place, format!("\"{name}\" is always there and cannot be mapped"), "Choose another name.");
            return None;
        }
        if let Some(i) = self.names.iter().position(|n| n == name) {
            return Some(AttributeId(i as u16));
        }
        self.names.push(name.to_owned());
        u16::try_from(self.names.len() - 1).ok().map(AttributeId)
    }

    fn attributes_of(&mut self, f: &Fields<'_, '_>) -> Vec<(AttributeId, String)> {
        let pairs = f.pairs("attributes");
        pairs.into_iter().filter_map(|(name, source, line)| Some((self.intern(f, &name, line)?, source))).collect()
    }

    /// Of a directory: text, or a table that says how bytes are written.
    fn attributes_of_entry(&mut self, f: &Fields<'_, '_>) -> Vec<EntryAttribute> {
        let Some(table) = f.table("attributes") else { return vec![] };
        let plain = table.all_pairs(Others::AreLeft).into_iter().map(|(name, source, line)| (name, source, line, None));
        let bytes = table.free_tables(Others::AreLeft).into_iter().map(|(name, t)| {
            let source = t.need("attribute", "\"objectGUID\"").unwrap_or_default();
            if !t.has("octets") {
                t.error("octets", "octets is missing".into(), "Say how bytes are written: octets = \"guid\".");
            }
            let octets = t.choice("octets", Octets::Base64, &Octets::WORDS);
            t.finish();
            (name, source, t.line, Some(octets))
        });
        let all: Vec<_> = plain.chain(bytes).collect();
        all.into_iter()
            .filter_map(|(name, source, line, octets)| Some(EntryAttribute { id: self.intern(f, &name, line)?, source, octets }))
            .collect()
    }

    /// Makes room for what mappings make, wherever they stand.
    fn mapped(&mut self, f: &Fields<'_, '_>) {
        for name in f.texts_in("mapping", "attribute") {
            let line = f.line_of("mapping");
            self.intern(f, &name, line);
        }
    }
}

/// Providers and ways in of our own, with what rules and gates may say of them.
struct WaysIn {
    saml: SamlParty,
    providers: Vec<Provider>,
    mail: Option<MailServer>,
    ways: Vec<Way>,
    /// Names of both.
    way_names: Vec<String>,
    group_givers: Vec<String>,
    token_givers: Vec<String>,
    password_ways: Vec<String>,
    certificate_ways: Vec<String>,
}

fn read_ways_in(root: &Fields<'_, '_>, address: Option<&PublicAddress>, interner: &mut Interner) -> WaysIn {
    let saml = read_party(root, address);
    let mut provider_names = vec![];
    let mut providers: Vec<Provider> = vec![];
    for f in root.tables("provider") {
        let name = name_of(&f, &provider_names);
        provider_names.push(name.clone());
        let attributes = interner.attributes_of(&f);
        providers.push(read_provider(&f, name, attributes, saml.key.is_some()));
    }
    let mail = read_mail(root);
    let mut way_names = provider_names.clone();
    let mut ways: Vec<Way> = vec![];
    let (all_directories, all_ways) = (root.texts_in("directory", "name"), root.texts_in("way", "name"));
    let others: Vec<String> = provider_names.iter().chain(&all_ways).cloned().collect();
    let host = address.map(|a| a.name().to_lowercase()).unwrap_or_default();
    let around = Around { directories: &all_directories, others: &others, has_mail: mail.is_some(), host: &host };
    for f in root.tables("way") {
        let name = name_of(&f, &way_names);
        way_names.push(name.clone());
        let attributes = interner.attributes_of(&f);
        ways.push(read_way(&f, name, attributes, &around));
    }
    for name in way_names.iter().filter(|n| [ACCESS_TOKEN, PERSONAL_TOKEN].contains(&n.as_str())) {
        root.error("way", format!("\"{name}\" is how rules call programs"), "Choose another name.");
    }
    let group_givers: Vec<String> =
        root.tables("provider").iter().zip(&providers).filter(|(f, _)| f.has("groups")).map(|(_, p)| p.name.clone()).collect();
    let token_givers: Vec<String> = providers.iter().filter(|p| p.oidc().is_some()).map(|p| p.name.clone()).collect();
    let by_password = |w: &&Way| matches!(w.kind, WayKind::Password(_));
    let password_ways: Vec<String> = ways.iter().filter(by_password).map(|w| w.name.clone()).collect();
    let by_certificate = |w: &&Way| matches!(w.kind, WayKind::Certificate(_));
    let certificate_ways: Vec<String> = ways.iter().filter(by_certificate).map(|w| w.name.clone()).collect();
    WaysIn { saml, providers, mail, ways, way_names, group_givers, token_givers, password_ways, certificate_ways }
}

fn read_site(root: &Fields<'_, '_>) -> Option<Site> {
    let Head { name, address, lifetimes, keep_days, proxies, zone } = read_head(root);
    let mut interner = Interner { names: BUILT_IN.map(str::to_owned).to_vec() };
    let WaysIn { saml, providers, mail, ways, way_names, group_givers, token_givers, password_ways, certificate_ways } =
        read_ways_in(root, address.as_ref(), &mut interner);
    let mut providers = providers;
    // What the site's mappings make may feed a directory, so it has a place before directories are read.
    let from_providers = interner.names.len();
    interner.mapped(root);
    let before_directories = interner.names.len();
    let (directory_names, directories) = read_directories(root, &mut interner);
    let first_of_gates = interner.names.len();
    for f in root.tables("gate") {
        interner.mapped(&f);
    }
    let attributes = interner.names;
    let find = |name: &str| attributes.iter().position(|a| a == name).map(|i| AttributeId(i as u16));
    let lists = Lists::read(root);
    let tables = mapping::read_tables(root);
    let places = (from_providers..before_directories).chain(first_of_gates..attributes.len());
    let mapped: Vec<AttributeId> = places.filter_map(|i| u16::try_from(i).ok()).map(AttributeId).collect();
    // Gates by name, before they are read: rules of the site may name them.
    let all_gates: Vec<String> = root.texts_in("gate", "name");
    let [all_reaches, all_zones, mut all_entrances, all_clients] =
        ["reach", "zone", "entrance", "radius-client"].map(|of| root.texts_in(of, "name"));
    all_entrances.extend(all_clients.iter().cloned());
    let vendors = super::radius::read_vendors(root);
    let device_checks = super::device::read(root);
    let names = Names {
        ways: &way_names,
        token_givers: &token_givers,
        group_givers: &group_givers,
        password_ways: &password_ways,
        certificate_ways: &certificate_ways,
        machine_ways: &super::way::of_machines(&ways),
        directories: &directory_names,
        attribute: &find,
        attributes: &attributes,
        gates: &all_gates,
        reaches: &all_reaches,
        zones: &all_zones,
        entrances: &all_entrances,
        radius_clients: &all_clients,
        devices: &device_checks,
        vendors: &vendors,
        mapped: &mapped,
        tables: &tables,
        lists: &lists,
        zone,
    };
    read_all_groups(root, &names, &mut providers);
    let factors = factor::read(root, &names);
    let mappings = mapping::read(root, &names, &[], None);
    fed_before(root, &directories, &mappings, before_directories);
    let rules = super::rule::read_rules(root, &names, !directories.is_empty() || !group_givers.is_empty(), None, &[]);
    let of_site = OfSite { rules: &rules, mappings: &mappings };
    let (delivery_names, deliveries) = read_deliveries(root, &names);
    let beside = Beside {
        address: address.as_ref(),
        ways: &ways,
        certificate_ways: &certificate_ways,
        deliveries: &deliveries,
        providers: &providers,
    };
    let gates = read_gates(root, &names, &delivery_names, of_site, &beside);
    let (reaches, zones) = read_reach(root, &names, &gates);
    let radius_clients = super::radius::read(root, &zones, &gates, &ways);
    super::radius::check_reach(root, (&gates, &deliveries), &reaches);
    let networks = super::network::read(root, &names);
    let routes = super::route::read(root, &names, &directories, &gates);
    let (engineers, second_engineer) = read_engineers(root, &names, &mappings);
    super::way::check(root, &ways, &gates, engineers.as_ref());
    let expectations = read_expectations(root, &gates, engineers.as_ref(), (&way_names, &all_entrances, &device_checks));
    warn_unused(root, &deliveries, &gates);
    Some(Site {
        name,
        device_checks,
        address: address?,
        lifetimes,
        keep_days,
        proxies,
        providers,
        ways,
        factors,
        mail,
        saml,
        directories,
        deliveries,
        gates,
        reaches,
        zones,
        radius_clients,
        engineers,
        second_engineer,
        site_rules: rules,
        expectations,
        networks,
        routes,
        attributes,
        mapped,
        mappings,
        salts: Salts::default(),
    })
}

/// What makes names of groups may use tables, which are known only once providers are read.
fn read_all_groups(root: &Fields<'_, '_>, names: &Names<'_>, providers: &mut [Provider]) {
    for (f, provider) in root.tables("provider").iter().zip(providers) {
        provider.groups = read_groups(f, names);
    }
}

/// Gates, each held against those before it.
fn read_gates(
    root: &Fields<'_, '_>,
    names: &Names<'_>,
    deliveries: &[String],
    of_site: OfSite<'_>,
    beside: &Beside<'_>,
) -> Vec<Gate> {
    let mut taken = vec![];
    let mut gates: Vec<Gate> = vec![];
    for f in root.tables("gate") {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        let Some(gate) = gate::read_gate(&f, name, names, deliveries, of_site) else { continue };
        check_gate(&f, &gate, beside, &gates);
        gates.push(gate);
    }
    gates
}

/// Who may use the console, and whether a change of the site needs a second engineer.
fn read_engineers(root: &Fields<'_, '_>, names: &Names<'_>, mappings: &[Mapping]) -> (Option<Access>, bool) {
    let Some(f) = root.table("engineers") else { return (None, false) };
    let second = f.flag("second-engineer", false);
    let words = crate::role::Role::ALL.map(crate::role::Role::word);
    let access = read_access(&f, names, Some(&words), OfSite { rules: &[], mappings }, None);
    f.finish();
    (Some(access), second)
}

/// Deliveries of the site, with their names: gates may name one that could not be read.
fn read_deliveries(root: &Fields<'_, '_>, names: &Names<'_>) -> (Vec<String>, Vec<Delivery>) {
    let mut taken = vec![];
    let mut deliveries = vec![];
    for f in root.tables("delivery") {
        let name = name_of(&f, &taken);
        taken.push(name.clone());
        deliveries.push(delivery::read(&f, name, names));
    }
    (taken, deliveries)
}

/// Headers are for requests, and attributes for RADIUS clients.
fn check_delivery(f: &Fields<'_, '_>, gate: &Gate, deliveries: &[Delivery]) {
    let Some(of) = gate.delivery.as_ref().and_then(|name| deliveries.iter().find(|d| d.name == *name)) else { return };
    match (gate.is_vpn(), of.is_of_radius()) {
        (false, true) => {
            let what = format!("{} fills answers of RADIUS, and behind this gate is a web application", of.name);
            f.error("delivery", what, "Name a delivery with [[delivery.header]].");
        }
        (true, false) => {
            let what = format!("{} fills headers, and RADIUS clients are told attributes", of.name);
            f.error("delivery", what, "Name a delivery with [[delivery.attribute]].");
        }
        (true, true) if gate.network().is_some_and(|n| n.radius.is_empty()) => {
            let what = "nobody is told it: no RADIUS client is an entrance of the gate";
            f.warn("delivery", what.into(), "Add a [[radius-client]], and name it in entrances.");
        }
        _ => {}
    }
}

/// What a gate is checked against.
struct Beside<'a> {
    address: Option<&'a PublicAddress>,
    ways: &'a [Way],
    certificate_ways: &'a [String],
    deliveries: &'a [Delivery],
    providers: &'a [Provider],
}

/// What a gate cannot be beside the rest of the site, and beside the gates before it.
fn check_gate(f: &Fields<'_, '_>, gate: &Gate, beside: &Beside<'_>, gates: &[Gate]) {
    let taken =
        gates.iter().map(|g| (&g.address, g.name.as_str())).chain(beside.address.iter().map(|a| (*a, "the sign-in host")));
    if let Some((_, by)) = taken.into_iter().find(|(a, _)| a.host == gate.address.host) {
        f.error("address", format!("the address is already that of {by}"), "Give each gate its own host name.");
    }
    let by_ticket = |w: &&Way| matches!(w.kind, WayKind::Ticket(_)) && gate.access.ways.contains(&w.name);
    if gate.ticket().is_some_and(UpstreamTicket::takes_forwarded) && !beside.ways.iter().any(|w| by_ticket(&w)) {
        let remedy = "Name a [[way]] of kind ticket in ways-in, or take \"forwarded\" out of by.";
        f.error("ticket", "nobody brings a ticket along here: the gate takes no way in by ticket".into(), remedy);
    }
    check_delivery(f, gate, beside.deliveries);
    if let Some(way) = gate.access.ways.iter().find(|w| beside.certificate_ways.contains(w)) {
        f.error("ways-in", format!("{way} is by client certificate, which no page can ask for"), "Name it in [gate.callers].");
    }
    let sets = |d: &&Delivery| Some(&d.name) == gate.delivery.as_ref();
    let authorization = |d: &Delivery| d.headers.iter().any(|h| h.name.eq_ignore_ascii_case("authorization"));
    let key = if gate.ticket().is_some() { "ticket" } else { "hand-over" };
    if (gate.hand_over().is_some() || gate.ticket().is_some()) && beside.deliveries.iter().find(sets).is_some_and(authorization) {
        f.error(key, "the delivery sets Authorization as well".into(), "Keep one of them.");
    }
    if gate.access.unasked && !beside.providers.iter().any(|p| gate.access.ways.contains(&p.name) && p.saml().is_some()) {
        f.error(
            "unasked",
            "no provider of the gate speaks SAML, and by nothing else does anybody come unasked".into(),
            "Take the line away.",
        );
    }
}

/// What `[site]` says.
struct Head {
    name: String,
    address: Option<PublicAddress>,
    lifetimes: Lifetimes,
    keep_days: u16,
    proxies: Option<Proxies>,
    zone: Tz,
}

fn read_head(root: &Fields<'_, '_>) -> Head {
    if root.number("format", 1, 1..=1) != 1 || !root.has("format") {
        root.error("format", "format is missing".into(), "Begin the file with format = 1.");
    }
    let (h, d) = (Duration::hours, Duration::days);
    let default = Lifetimes { idle: h(1), absolute: h(10) };
    let Some(f) = root.table("site") else {
        root.error("site", "[site] is missing".into(), "Add [site] with name and address.");
        return Head { name: String::new(), address: None, lifetimes: default, keep_days: 90, proxies: None, zone: Tz::UTC };
    };
    let name = f.need("name", "\"Harbour authority\"").unwrap_or_default();
    let address = read_address(&f, "address", "\"https://pass.example\"");
    let lifetimes = match f.table("session") {
        None => default,
        Some(s) => {
            let out = Lifetimes {
                idle: s.duration("idle", default.idle, Duration::minutes(1), d(30)),
                absolute: s.duration("absolute", default.absolute, Duration::minutes(1), d(90)),
            };
            if out.idle > out.absolute {
                s.error("idle", "idle is longer than absolute".into(), "A session can not idle for longer than it may live.");
            }
            s.finish();
            out
        }
    };
    let keep_days = f.duration("keep-crossings", d(90), d(1), d(3650)).num_days() as u16;
    let mut networks = vec![];
    for text in f.texts("trusted-proxies").unwrap_or_default() {
        match network(&text) {
            Some(n) if n.prefix_len() > 0 => networks.push(n),
            _ => f.error(
                "trusted-proxies",
                format!("\"{text}\" is no network to trust"),
                "Write addresses such as \"10.1.2.3\" or \"10.1.2.0/24\".",
            ),
        }
    }
    let words = ProxyField::ALL.map(|p| (p.name(), Some(p)));
    let write = f.choice("proxies-write", None, &words);
    if networks.is_empty() == write.is_some() || (write.is_none() && f.has("proxies-write")) {
        let what = if networks.is_empty() { "no proxy is trusted here" } else { "it is not said how proxies name the client" };
        f.error(
            if networks.is_empty() { "proxies-write" } else { "trusted-proxies" },
            what.into(),
            "Name the one field that every trusted proxy sets or appends to: proxies-write = \"x-forwarded-for\" or \"forwarded\", beside \
             trusted-proxies. The other is not believed: most proxies pass it on as it came.",
        );
    }
    let proxies = write.filter(|_| !networks.is_empty()).map(|write| Proxies { networks, write });
    let zone = match f.text("zone") {
        None => Tz::UTC,
        Some(text) => text.parse().unwrap_or_else(|_| {
            f.error("zone", format!("\"{text}\" is no time zone"), "Write one of the IANA names, such as \"Europe/Paris\".");
            Tz::UTC
        }),
    };
    f.finish();
    Head { name, address, lifetimes, keep_days, proxies, zone }
}

fn read_directories(root: &Fields<'_, '_>, interner: &mut Interner) -> (Vec<String>, Vec<Directory>) {
    let mut names = vec![];
    let mut out = vec![];
    // What a directory is fed by comes from a provider, or is made by the site's mappings; two directories may feed the same attribute, since a gate asks one.
    let from_providers = interner.names.clone();
    for f in root.tables("directory") {
        let name = name_of(&f, &names);
        names.push(name.clone());
        let fed_by = f.need("fed-by", "\"user\"").and_then(|_| {
            let name = refer(&f, "fed-by", "attribute", &from_providers)?;
            from_providers.iter().position(|n| *n == name).map(|i| AttributeId(i as u16))
        });
        let attributes = interner.attributes_of_entry(&f);
        for a in attributes.iter().filter(|a| (a.id.0 as usize) < from_providers.len()) {
            let name = &interner.names[a.id.0 as usize];
            f.error(
                "attributes",
                format!("the attribute \"{name}\" already has another source"),
                "Give the directory's attribute a name of its own.",
            );
        }
        out.push(directory::read_directory(&f, name, attributes, fed_by));
    }
    (names, out)
}

/// What a directory is fed by must be there before the directory is asked.
fn fed_before(root: &Fields<'_, '_>, directories: &[Directory], mappings: &[Mapping], before_directories: usize) {
    for d in directories {
        let mut open = vec![d.fed_by];
        let mut seen: Vec<AttributeId> = vec![];
        let mut fit = true;
        while let Some(id) = open.pop() {
            if seen.contains(&id) {
                continue;
            }
            seen.push(id);
            fit &= (id.0 as usize) < before_directories;
            for m in mappings.iter().filter(|m| m.attribute == id) {
                fit &= !m.groups() && !m.after_rules;
                open.extend(m.attributes());
            }
        }
        if !fit {
            root.error(
                "directory",
                format!("what directory {} is fed by is made from what a directory holds", d.name),
                "Make it from what providers release.",
            );
        }
    }
}

/// Reach and zones, as the gates use them.
fn read_reach(root: &Fields<'_, '_>, names: &Names<'_>, gates: &[Gate]) -> (Vec<Reach>, Vec<Zone>) {
    let reaches = super::reach::read(root);
    let mut zones = super::reach::read_zones(root, names.ways, names.reaches);
    check_zones(root, &zones, gates);
    let entrances = super::tunnel::read(root, &zones);
    super::tunnel::check(root, &entrances, gates, &reaches);
    zones.extend(entrances);
    warn_unused_reach(root, &reaches, &zones, gates);
    (reaches, zones)
}

/// Expectations, each tried with the usual way in of its place unless it says.
fn read_expectations(
    root: &Fields<'_, '_>,
    gates: &[Gate],
    engineers: Option<&Access>,
    known: (&[String], &[String], &[Arc<DeviceCheck>]),
) -> Vec<crate::site::Expectation> {
    let first = |a: &Access| a.ways.first().cloned().unwrap_or_default();
    let mut at: Vec<(String, String)> = gates.iter().map(|g| (g.place().to_string(), first(&g.access))).collect();
    at.extend(engineers.map(|e| (Place::Console.to_string(), first(e))));
    let networks: Vec<String> = gates.iter().filter(|g| g.network().is_some()).map(|g| g.place().to_string()).collect();
    expectation::read(root, &at, &networks, known)
}

/// A zone is guarded by one gate, whose ways in are those that the zone may leave out.
fn check_zones(root: &Fields<'_, '_>, zones: &[Zone], gates: &[Gate]) {
    for (f, zone) in root.tables("zone").iter().zip(zones) {
        let guards = |g: &Gate| g.network().is_some_and(|n| n.zones.contains(&zone.name));
        let none = ("no gate guards the zone", "Name it in the zones of a gate of kind network, or take it away.");
        let several = ("guard the zone", "Let one gate guard it; its rules may tell people apart.");
        let Some(gate) = only_gate(f, gates, guards, none, several) else { continue };
        for way in zone.ways.iter().filter(|w| !gate.access.ways.contains(w)) {
            let what = format!("the gate {} does not take the way in \"{way}\"", gate.name);
            f.error("ways-in", what, format!("Name some of its own: {}.", gate.access.ways.join(", ")));
        }
    }
}

fn warn_unused_reach(root: &Fields<'_, '_>, reaches: &[Reach], zones: &[Zone], gates: &[Gate]) {
    let mut used: HashSet<&str> = HashSet::new();
    for z in zones {
        used.extend(z.before.iter().map(String::as_str));
        used.extend(z.first.iter().map(|f| f.reach.as_str()));
    }
    for g in gates.iter().filter(|g| g.network().is_some()) {
        used.extend(g.network().iter().flat_map(|n| &n.machines).flat_map(|m| &m.reach).map(String::as_str));
        used.extend(g.access.rules.iter().filter_map(|r| r.effect.gives()).flat_map(|g| &g.reach).map(String::as_str));
    }
    for (f, r) in root.tables("reach").iter().zip(reaches).filter(|(_, r)| !used.contains(r.name.as_str())) {
        f.warn("name", format!("nothing opens the reach {}", r.name), "Name it in a rule, or take it away.");
    }
}

fn warn_unused(root: &Fields<'_, '_>, deliveries: &[Delivery], gates: &[Gate]) {
    for d in deliveries.iter().filter(|d| !gates.iter().any(|g| g.delivery.as_ref() == Some(&d.name))) {
        root.warn(
            "delivery",
            format!("delivery {} is attached to no gate", d.name),
            "Name it in a gate with delivery = \"…\", or take it away.",
        );
    }
    if !root.has("engineers") {
        root.warn("engineers", "nobody may use the console by signing in".into(), "Add [engineers] with rules that give roles.");
    }
}

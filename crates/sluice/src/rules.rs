//! The rules of a plan, as nft(8) reads them. What a packet may do is judged by where its connection was first going, so that one set of rules
//! counts for both directions, and there is no general word for connections that exist: what is closed stops running flows.
//!
//! The way of a packet: a zone's interface → the mark of its machine (`machines`, `behind4`, `behind6`) → `way`, which leads the mark to the
//! rules of its class and forgets it when its lease ends → the class's reaches → `passed`, which counts. Whatever finds no way is tried
//! against what is open to everybody, and refused at once otherwise: a reset or "administratively prohibited", never silence.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use ipnet::{IpNet, Ipv4Net, Ipv6Net};

use crate::plan::{Class, Plan, Reach, Service, Zone};

/// The one table that is changed.
pub const TABLE: &str = "passeur";

/// Sets and maps that stay from one edition to the next, with what they count.
pub const KEPT: [&str; 7] = ["machines", "behind4", "behind6", "way", "up", "down", "cap"];

/// Chains that hang on a hook of the kernel, which stay as well.
const BASE: [(&str, &str); 4] = [
    ("arrival", "type filter hook prerouting priority mangle; policy accept;"),
    ("lead", "type nat hook prerouting priority dstnat; policy accept;"),
    ("forward", "type filter hook forward priority filter; policy accept;"),
    ("ours", "type filter hook input priority filter; policy accept;"),
];

/// An error about a connection that was let through ("too big", "no such port"): it has no port to be judged by.
const RELATED: &str = "ct state related meta l4proto { icmp, ipv6-icmp }";

/// What is in the table already, besides [`KEPT`].
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct There {
    pub chains: Vec<String>,
    pub sets: Vec<String>,
}

/// The set that holds the addresses of a reach's names.
pub fn names_set(reach: &str, v6: bool) -> String {
    format!("host{}-{reach}", if v6 { 6 } else { 4 })
}

/// The name of a class's rules.
pub fn class_chain(number: usize) -> String {
    format!("class-{number}")
}

/// Statements, one a line.
#[derive(Default)]
struct Text(String);

impl Text {
    fn line(&mut self, text: &str) {
        self.0.push_str(text);
        self.0.push('\n');
    }

    fn rule(&mut self, chain: &str, rule: &str) {
        let _ = writeln!(self.0, "add rule inet {TABLE} {chain} {rule}");
    }

    fn chain(&mut self, chain: &str) {
        let _ = writeln!(self.0, "add chain inet {TABLE} {chain}");
    }
}

/// The whole of a plan in one transaction: everything of before goes, everything of the plan comes, and `way` leads those who are let through
/// to their classes. `way` holds marks with the class and the milliseconds of lease. Of `interfaces`, those that no zone names forward nothing.
pub fn install(
    plan: &Plan,
    classes: &BTreeMap<Class, usize>,
    way: &[(u32, usize, u64)],
    there: &There,
    interfaces: &[String],
) -> String {
    let mut text = Text::default();
    text.line(&format!("add table inet {TABLE}"));
    tables(&mut text);
    for (name, hook) in BASE {
        text.line(&format!("add chain inet {TABLE} {name} {{ {hook} }}"));
    }
    text.line(&format!("flush map inet {TABLE} way"));
    // Emptied first: one leads to the other.
    for chain in &there.chains {
        text.line(&format!("flush chain inet {TABLE} {chain}"));
    }
    for chain in there.chains.iter().filter(|c| BASE.iter().all(|(b, _)| b != c)) {
        text.line(&format!("delete chain inet {TABLE} {chain}"));
    }
    let wanted = |set: &String| named(plan).any(|r| [names_set(r, false), names_set(r, true)].contains(set));
    for set in there.sets.iter().filter(|s| !KEPT.contains(&s.as_str()) && !wanted(s)) {
        text.line(&format!("delete set inet {TABLE} {set}"));
    }
    for reach in named(plan) {
        for (v6, kind) in [(false, "ipv4_addr"), (true, "ipv6_addr")] {
            text.line(&format!("add set inet {TABLE} {} {{ type {kind}; size 65535; }}", names_set(reach, v6)));
        }
    }
    ends(&mut text);
    for (name, reach) in &plan.reaches {
        reach_rules(&mut text, name, reach);
    }
    for (class, number) in classes {
        class_rules(&mut text, class, *number);
    }
    for zone in &plan.zones {
        before(&mut text, zone);
    }
    forward(&mut text, interfaces);
    match plan.zones.is_empty() {
        true => ["outward", "homeward"].iter().for_each(|chain| text.rule(chain, "goto refuse")),
        false => hooks(&mut text, plan),
    }
    for part in way.chunks(500) {
        let all: Vec<String> =
            part.iter().map(|(mark, class, ms)| format!("{mark} timeout {ms}ms : jump {}", class_chain(*class))).collect();
        text.line(&format!("add element inet {TABLE} way {{ {} }}", all.join(", ")));
    }
    text.0
}

/// The rules of a class that came later.
pub fn add_class(class: &Class, number: usize) -> String {
    let mut text = Text::default();
    class_rules(&mut text, class, number);
    text.0
}

fn named(plan: &Plan) -> impl Iterator<Item = &str> {
    plan.reaches.iter().filter(|(_, r)| r.named).map(|(n, _)| n.as_str())
}

fn tables(text: &mut Text) {
    for (kind, name, what) in [
        ("map", "machines", "typeof iifname . ether saddr : meta mark; size 65535;"),
        ("map", "behind4", "typeof iifname . ip saddr : meta mark; size 65535;"),
        ("map", "behind6", "typeof iifname . ip6 saddr : meta mark; size 65535;"),
        ("map", "way", "typeof meta mark : verdict; size 65535; flags timeout;"),
        ("set", "up", "typeof meta mark; size 65535; counter;"),
        ("set", "down", "typeof meta mark; size 65535; counter;"),
        ("map", "cap", "type mark : quota; size 65535;"),
    ] {
        text.line(&format!("add {kind} inet {TABLE} {name} {{ {what} }}"));
    }
}

/// Where each packet ends.
fn ends(text: &mut Text) {
    text.chain("refuse");
    text.rule("refuse", "meta l4proto tcp reject with tcp reset");
    text.rule("refuse", "reject with icmpx type admin-prohibited");
    text.chain("passed");
    text.rule("passed", "quota name ct mark map @cap goto refuse");
    text.rule("passed", "ct direction original ct mark @up accept");
    text.rule("passed", "ct direction reply ct mark @down accept");
    text.rule("passed", "goto refuse");
}

/// What may pass through this machine. An interface that may be guarded is closed from the beginning, whether or not an edition has a zone
/// there: nothing is open because something has not started yet.
fn forward(text: &mut Text, interfaces: &[String]) {
    for chain in ["outward", "homeward"] {
        text.chain(chain);
    }
    let interfaces = quoted(interfaces.iter().map(String::as_str));
    text.rule("forward", &format!("iifname {interfaces} ct direction original goto outward"));
    text.rule("forward", &format!("oifname {interfaces} ct direction reply goto homeward"));
    text.rule("forward", &format!("iifname {interfaces} goto refuse"));
    text.rule("forward", &format!("oifname {interfaces} goto refuse"));
}

fn hooks(text: &mut Text, plan: &Plan) {
    let interfaces = quoted(plan.zones.iter().map(|z| z.interface.as_str()));
    text.chain("recognise");
    text.rule("arrival", &format!("iifname {interfaces} jump recognise"));
    text.rule("recognise", "meta mark set 0");
    text.rule("recognise", "meta mark set iifname . ether saddr map @machines");
    text.rule("recognise", "meta mark set iifname . ip saddr map @behind4");
    text.rule("recognise", "meta mark set iifname . ip6 saddr map @behind6");
    text.rule("recognise", "ct direction original ct mark set meta mark");
    for chain in ["unknown", "strangers", "inward"] {
        text.chain(chain);
    }
    let of_zones = |prefix: &str| {
        let each: Vec<String> = plan.zones.iter().map(|z| format!("\"{}\" : jump {prefix}-{}", z.interface, z.name)).collect();
        format!("{{ {} }}", each.join(", "))
    };
    // Whoever came from an address that no machine of the zone has goes nowhere.
    for zone in &plan.zones {
        for (family, networks) in by_family(&zone.networks) {
            let refused = if networks.is_empty() { String::new() } else { format!("{family} saddr != {{ {networks} }} ") };
            let family = if networks.is_empty() { format!("meta nfproto {} ", proto(family)) } else { refused };
            text.rule("strangers", &format!("iifname \"{}\" {family}goto refuse", zone.interface));
        }
    }
    text.rule("outward", "jump strangers");
    text.rule("outward", "meta mark vmap @way");
    text.rule("outward", &format!("iifname vmap {}", of_zones("before")));
    text.rule("outward", "goto refuse");
    text.rule("homeward", "ct mark vmap @way");
    text.rule("homeward", &format!("oifname vmap {}", of_zones("before")));
    text.rule("homeward", "goto refuse");
    // To this machine itself.
    text.rule("ours", &format!("iifname {interfaces} goto inward"));
    text.rule("inward", "meta l4proto { icmp, ipv6-icmp } accept");
    text.rule("inward", "udp dport { 67, 547 } accept");
    text.rule("inward", "ct direction reply accept");
    text.rule("inward", "jump strangers");
    for zone in &plan.zones {
        let mut ports: Vec<u16> = zone.portal.iter().copied().chain(zone.redirect).collect();
        ports.sort_unstable();
        ports.dedup();
        if !ports.is_empty() {
            text.rule("inward", &format!("iifname \"{}\" tcp dport {{ {} }} accept", zone.interface, listed(&ports)));
        }
    }
    text.rule("inward", "meta mark vmap @way");
    text.rule("inward", &format!("iifname vmap {}", of_zones("before")));
    text.rule("inward", "goto refuse");
    lead(text, plan, &of_zones("before"));
}

/// What an unknown machine asks is led to the resolver and to the portal. TLS is led nowhere.
fn lead(text: &mut Text, plan: &Plan, before: &str) {
    let interfaces = quoted(plan.zones.iter().map(|z| z.interface.as_str()));
    text.rule("lead", &format!("iifname {interfaces} meta mark 0 goto unknown"));
    // What is open to everybody stays as it is.
    text.rule("unknown", &format!("iifname vmap {before}"));
    for zone in &plan.zones {
        for address in &zone.resolver {
            let (family, to) = match address {
                std::net::IpAddr::V4(a) => ("ip", a.to_string()),
                std::net::IpAddr::V6(a) => ("ip6", format!("[{a}]")),
            };
            let nfproto = proto(family);
            text.rule(
                "unknown",
                &format!(
                    "iifname \"{}\" meta nfproto {nfproto} meta l4proto {{ tcp, udp }} th dport 53 dnat {family} to {to}:53",
                    zone.interface
                ),
            );
        }
        if let Some(port) = zone.redirect.filter(|_| !zone.led.is_empty()) {
            let led = listed(&zone.led);
            text.rule(
                "unknown",
                &format!("iifname \"{}\" fib daddr type != local tcp dport {{ {led} }} redirect to :{port}", zone.interface),
            );
        }
    }
}

/// What is open to every machine of a zone.
fn before(text: &mut Text, zone: &Zone) {
    let chain = format!("before-{}", zone.name);
    text.chain(&chain);
    text.rule(&chain, &format!("{RELATED} accept"));
    for address in &zone.resolver {
        let family = if address.is_ipv4() { "ip" } else { "ip6" };
        for protocol in ["udp", "tcp"] {
            text.rule(
                &chain,
                &format!("ct original {family} daddr {address} meta l4proto {protocol} ct original proto-dst 53 accept"),
            );
            // A question to somebody else was led here.
            text.rule(&chain, &format!("{family} daddr {address} {protocol} dport 53 ct status dnat accept"));
            text.rule(&chain, &format!("{family} saddr {address} {protocol} sport 53 ct status dnat accept"));
        }
    }
    for reach in &zone.before {
        text.rule(&chain, &format!("jump free-{reach}"));
    }
}

/// The rules of a reach, twice: for who is let through, whose octets count, and for everybody.
fn reach_rules(text: &mut Text, name: &str, reach: &Reach) {
    for (chain, end) in [("reach", "goto passed"), ("free", "accept")] {
        let (to, services) = (format!("{chain}-{name}"), format!("{chain}-services-{name}"));
        text.chain(&services);
        service_rules(text, &services, &reach.services, end);
        text.chain(&to);
        for (family, networks) in by_family(&reach.except) {
            if !networks.is_empty() {
                text.rule(&to, &format!("ct original {family} daddr {{ {networks} }} return"));
            }
        }
        for (family, networks) in by_family(&reach.to) {
            match networks.as_str() {
                "" => {}
                "0.0.0.0/0" | "::/0" => text.rule(&to, &format!("meta nfproto {} goto {services}", proto(family))),
                _ => text.rule(&to, &format!("ct original {family} daddr {{ {networks} }} goto {services}")),
            }
        }
        if reach.named {
            text.rule(&to, &format!("ct original ip daddr @{} goto {services}", names_set(name, false)));
            text.rule(&to, &format!("ct original ip6 daddr @{} goto {services}", names_set(name, true)));
        }
    }
}

fn service_rules(text: &mut Text, chain: &str, services: &[Service], end: &str) {
    if services.contains(&Service::All) {
        text.rule(chain, end);
        return;
    }
    let ports = |of: &dyn Fn(&Service) -> Option<(u16, u16)>| merged(services.iter().filter_map(of).collect());
    let tcp = ports(&|s| if let Service::Tcp(a, b) = s { Some((*a, *b)) } else { None });
    let udp = ports(&|s| if let Service::Udp(a, b) = s { Some((*a, *b)) } else { None });
    for (protocol, ranges) in [("tcp", tcp), ("udp", udp)] {
        match ranges.as_slice() {
            [] => {}
            [(1, u16::MAX)] => text.rule(chain, &format!("meta l4proto {protocol} {end}")),
            _ => {
                let each = ranges.iter().map(|(a, b)| if a == b { a.to_string() } else { format!("{a}-{b}") });
                let each = each.collect::<Vec<_>>().join(", ");
                text.rule(chain, &format!("meta l4proto {protocol} ct original proto-dst {{ {each} }} {end}"));
            }
        }
    }
    if services.contains(&Service::Icmp) {
        text.rule(chain, &format!("meta l4proto {{ icmp, ipv6-icmp }} {end}"));
    }
}

fn class_rules(text: &mut Text, class: &Class, number: usize) {
    let chain = class_chain(number);
    text.chain(&chain);
    text.rule(&chain, &format!("{RELATED} goto passed"));
    if let Some(rate) = class.rate {
        for (direction, set) in [("original", format!("rate-up-{number}")), ("reply", format!("rate-down-{number}"))] {
            text.line(&format!(
                "add set inet {TABLE} {set} {{ typeof ct mark; size 65535; flags dynamic,timeout; timeout 10m; }}"
            ));
            let burst = (rate / 4).max(64 << 10);
            text.rule(
                &chain,
                &format!("ct direction {direction} add @{set} {{ ct mark limit rate over {rate} bytes/second burst {burst} bytes }} drop"),
            );
        }
    }
    for reach in &class.reaches {
        text.rule(&chain, &format!("jump reach-{reach}"));
    }
}

fn proto(family: &str) -> &'static str {
    if family == "ip" { "ipv4" } else { "ipv6" }
}

fn quoted<'a>(names: impl Iterator<Item = &'a str>) -> String {
    format!("{{ {} }}", names.map(|n| format!("\"{n}\"")).collect::<Vec<_>>().join(", "))
}

fn listed(ports: &[u16]) -> String {
    let mut all = ports.to_vec();
    all.sort_unstable();
    all.dedup();
    all.iter().map(u16::to_string).collect::<Vec<_>>().join(", ")
}

/// Networks of each family, joined where they touch: the kernel takes none that overlap.
fn by_family(networks: &[IpNet]) -> [(&'static str, String); 2] {
    let v4: Vec<Ipv4Net> = networks.iter().filter_map(|n| if let IpNet::V4(n) = n { Some(n.trunc()) } else { None }).collect();
    let v6: Vec<Ipv6Net> = networks.iter().filter_map(|n| if let IpNet::V6(n) = n { Some(n.trunc()) } else { None }).collect();
    let joined = |all: Vec<String>| all.join(", ");
    [
        ("ip", joined(Ipv4Net::aggregate(&v4).iter().map(ToString::to_string).collect())),
        ("ip6", joined(Ipv6Net::aggregate(&v6).iter().map(ToString::to_string).collect())),
    ]
}

/// Ranges of ports, joined where they touch.
fn merged(mut ranges: Vec<(u16, u16)>) -> Vec<(u16, u16)> {
    ranges.sort_unstable();
    let mut out: Vec<(u16, u16)> = vec![];
    for (first, last) in ranges {
        match out.last_mut() {
            Some(before) if u32::from(first) <= u32::from(before.1) + 1 => before.1 = before.1.max(last),
            _ => out.push((first, last)),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_that_touch_are_one() {
        assert_eq!(
            merged(vec![(443, 443), (80, 80), (81, 90), (85, 100), (65_535, 65_535)]),
            [(80, 100), (443, 443), (65_535, 65_535)]
        );
        assert_eq!(merged(vec![(1, 65_535), (5, 5)]), [(1, 65_535)]);
    }

    #[test]
    fn networks_that_overlap_are_one() {
        let of = |t: &[&str]| by_family(&t.iter().map(|n| n.parse().unwrap()).collect::<Vec<_>>());
        let [v4, v6] = of(&["10.0.0.0/9", "10.128.0.0/9", "10.1.2.3/32", "fd00::/8", "fd80::/16"]);
        assert_eq!((v4.1.as_str(), v6.1.as_str()), ("10.0.0.0/8", "fd00::/8"));
    }
}

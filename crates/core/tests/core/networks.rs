//! Networks that open after sign-in: how they are written, to whom they open what, and what changes for whom.

use passeur_core::before::{Need, Passage, Why, passage, proposal, ways_of};
use passeur_core::circumstances::Circumstances;
use passeur_core::compare::{Side, compare};
use passeur_core::decide::{By, Decision, Goer, Near, Opening, fold, opening};
use passeur_core::document::compile;
use passeur_core::expect::{broken, described};
use passeur_core::rehearse::{effects, try_at};
use passeur_core::sheet::{Facts, For, sheet};
use passeur_core::site::{Described, Place, Site, Wanted};
use passeur_core::step::{Lang, Silent, Story, sentence};

use crate::harbour::{SITE, changed, moment};

/// The yard beside the harbour's gates.
const YARD: &str = include_str!("yard.toml");

fn document(change: &[(&str, &str)]) -> String {
    changed(format!("{SITE}\n{YARD}"), change)
}

fn site(change: &[(&str, &str)]) -> Site {
    let (site, findings) = compile(&document(change));
    site.unwrap_or_else(|| panic!("{findings:#?}"))
}

fn somebody(site: &Site, groups: &[&str]) -> passeur_core::evidence::Evidence {
    let who = Described {
        provider: "pilotage".into(),
        groups: groups.iter().map(|g| (*g).to_owned()).collect(),
        ..Described::default()
    };
    described(site, &who, moment()).unwrap()
}

fn at(hour: u32) -> Circumstances<'static> {
    let day = moment().date_naive().and_hms_opt(hour, 0, 0).unwrap().and_utc();
    Circumstances { now: day, address: None, method: "GET", path: "/", tunnel: None }
}

fn asked(site: &Site, groups: &[&str], hour: u32, to: &str) -> Opening {
    let gate = site.gate("yard").unwrap();
    let decision = fold(site, gate, &somebody(site, groups), &at(hour), &mut Silent);
    opening(site, gate, Goer::of(&decision), None, &Wanted::parse(to).unwrap())
}

#[test]
fn the_yard_is_sound_and_says_nothing_to_mend() {
    let (site, findings) = compile(&document(&[]));
    let site = site.unwrap();
    assert!(findings.is_empty(), "{findings:#?}");
    let gate = site.gate("yard").unwrap();
    let rules: Vec<String> = gate.access.rules.iter().map(|r| r.sentence(&site, Lang::En)).collect();
    insta::assert_snapshot!(rules.join("\n"));
    let rules: Vec<String> = gate.access.rules.iter().map(|r| r.sentence(&site, Lang::Fr)).collect();
    insta::assert_snapshot!(rules.join("\n"));
    let reaches: Vec<String> = site.reaches.iter().map(|r| format!("{}: {}", r.name, r.sentence(Lang::En))).collect();
    insta::assert_snapshot!(reaches.join("\n"));
}

#[test]
fn each_mistake_of_a_network_is_told_with_what_to_write() {
    let cases: &[(&str, &str, &str)] = &[
        ("to = \"mail.havrelune.example\"", "to = \"mail\\u0020server\"", "is neither a network nor a host name"),
        ("to = \"mail.havrelune.example\"", "to = \"*.example\"", "stands for every name of a top-level domain"),
        ("to = \"mail.havrelune.example\"", "to = []", "to is empty"),
        ("services = \"tcp/993\"", "services = \"993\"", "\"993\" is no service"),
        ("services = \"tcp/993\"", "", "services is missing"),
        ("except = [\"10.0.0.0/8\", \"fd00::/8\"]", "except = [\"cranes.example\"]", "\"cranes.example\" is no network"),
        ("name = \"mail\"\nto", "name = \"internet\"\nto", "the name \"internet\" stands twice"),
        ("interface = \"yard0\"", "interface = \"lo\"", "\"lo\" is no interface of a zone"),
        ("interface = \"yard0\"", "interface = \"a name too long\"", "is no interface of a zone"),
        ("interface = \"yard0\"", "interface = \"y\\\"; accept\"", "is no interface of a zone"),
        (
            "networks = [\"10.70.0.0/24\", \"fd70:70::/64\"]",
            "networks = [\"0.0.0.0/0\"]",
            "\"0.0.0.0/0\" is no network of a zone",
        ),
        ("before = [\"resolver\"]", "before = [\"resolvers\"]", "there is no reach \"resolvers\""),
        (
            "ways-in = [\"pilotage\", \"visitors\"]",
            "ways-in = [\"pilotage-saml\"]",
            "the gate yard does not take the way in \"pilotage-saml\"",
        ),
        ("first = { reach = \"mail\" }", "led = [\"tcp/443\"]", "\"tcp/443\" is no port of plain HTTP"),
        ("first = { reach = \"mail\" }", "first = { reach = \"mail\", lasts = \"2h\" }", "is out of range"),
        ("zones = [\"yard\"]", "zones = [\"yards\"]", "there is no zone \"yards\""),
        ("zones = [\"yard\"]\n", "", "zones is missing"),
        ("zones = [\"yard\"]", "zones = [\"yard\"]\nupstream = \"http://127.0.0.1:1\"", "upstream is not a known key"),
        ("devices = 3", "devices = 0", "devices is out of range"),
        ("devices = 3", "devices = 3\ncallers = { personal-tokens = true }", "a network takes no programs"),
        ("version = \"2026-11\", ", "", "version is missing"),
        ("00:1b:44:11:3a:b7", "01:00:5e:00:00:01", "is no hardware address of one machine"),
        ("until = \"2027-12-31\"", "until = \"next year\"", "\"next year\" is no date"),
        ("quota = \"2GB\"", "quota = \"2 gigs\"", "quota = \"2 gigs\" is no quantity"),
        ("quota = \"2GB\"", "quota = \"0GB\"", "quota = \"0GB\" is no quantity"),
        ("quota = \"2GB\"", "quota = \"99999999999TB\"", "is no quantity"),
        ("rate = \"20Mbit/s\"", "rate = \"20MB/s\"", "rate = \"20MB/s\" is no quantity"),
        (
            "when = { everyone = true }\nenter = true\nreach",
            "when = { path = \"/x\" }\nenter = true\nreach",
            "asks about a path or a method",
        ),
        (
            "name = \"berth access\"\nwhen = { group = \"berth-access\" }\nenter = true",
            "name = \"berth access\"\nwhen = { group = \"berth-access\" }\nenter = true\nreach = [\"internet\"]",
            "behind this gate is a web application",
        ),
        ("roles = [\"configure\"]", "roles = [\"configure\"]\nreach = [\"internet\"]", "the console opens no network"),
    ];
    for (old, new, wanted) in cases {
        let (site, findings) = compile(&document(&[(old, new)]));
        assert!(site.is_none(), "{new}");
        assert!(findings.iter().any(|f| f.what.contains(wanted) && !f.remedy.is_empty()), "{new}: {findings:#?}");
    }
    let warned: &[(&str, &str, &str)] = &[
        ("00:1b:44:11:3a:b7", "02:00:00:11:3a:b7", "was made up by the machine"),
        ("before = [\"resolver\"]\n", "", "nothing opens the reach resolver"),
        ("except = [\"10.0.0.0/8\", \"fd00::/8\"]\n", "except = [\"10.0.0.0/8\", \"fd00::/8\"]\n", ""),
    ];
    for (old, new, wanted) in warned.iter().filter(|(.., w)| !w.is_empty()) {
        let (site, findings) = compile(&document(&[(old, new)]));
        assert!(site.is_some() && findings.iter().any(|f| f.what.contains(wanted)), "{new}: {findings:#?}");
    }
}

/// Guests for whom fitters may vouch.
const GUESTS: &str = r#"
[[gate.rule]]
name = "fitters may vouch"
when = { group = "fitters" }
roles = ["sponsor"]

[[way]]
name = "guests"
kind = "sponsor"
gate = "yard"
"#;

#[test]
fn guests_need_somebody_who_may_vouch_and_open_nothing_that_outlives_them() {
    let with = |old: &str, new: &str| {
        let whole = format!("{}{GUESTS}", document(&[]));
        assert!(whole.contains(old), "{old}");
        compile(&whole.replacen(old, new, 1))
            .1
            .into_iter()
            .map(|f| format!("{}: {} {}", f.place, f.what, f.remedy))
            .collect::<Vec<_>>()
    };
    assert_eq!(with("gate = \"yard\"", "gate = \"yard\""), Vec::<String>::new());
    for (old, new, told) in [
        ("gate = \"yard\"\n", "gate = \"quay\"\n", "there is no gate \"quay\" There are: "),
        ("gate = \"yard\"\n", "", "gate is missing"),
        ("roles = [\"sponsor\"]", "message = \"Hello.\"", "no rule of gate yard gives the role sponsor"),
        (
            "gate = \"yard\"\n",
            "gate = \"yard\"\nrole = \"host\"\n",
            "gives the role host, so that nobody could vouch Write roles = [\"host\"]",
        ),
        (
            "of = [\"pilotage\", \"harbour-password\"]",
            "of = [\"pilotage\", \"guests\"]",
            "guests is for guests, who make nothing",
        ),
        (
            "[engineers]\nprovider = \"pilotage\"\n",
            "[engineers]\nways-in = [\"pilotage\", \"guests\"]\n",
            "a sponsor would make engineers",
        ),
        ("gate = \"yard\"\n", "gate = \"yard\"\nlasts = \"9d\"\n", "lasts"),
    ] {
        let found = with(old, new);
        assert!(found.iter().any(|f| f.contains(told)), "{told}: {found:#?}");
    }
}

#[test]
fn two_gates_or_two_zones_are_never_in_one_place() {
    let second_zone = "\n[[zone]]\nname = \"quay\"\ninterface = \"INTERFACE\"\nnetworks = [\"NETWORK\"]\n";
    for (interface, network, wanted) in [
        ("yard0", "10.71.0.0/24", "yard0 is already that of zone yard"),
        ("quay0", "10.70.0.128/25", "10.70.0.128/25 is also in zone yard"),
        ("quay0", "10.0.0.0/8", "10.0.0.0/8 is also in zone yard"),
    ] {
        let text = document(&[]) + &second_zone.replace("INTERFACE", interface).replace("NETWORK", network);
        let (_, findings) = compile(&text);
        assert!(findings.iter().any(|f| f.what.contains(wanted)), "{findings:#?}");
    }
    let second = "\n[[gate]]\nname = \"other\"\nkind = \"network\"\naddress = \"http://other.havrelune.localhost:8640\"\nzones = [\"yard\"]\nprovider = \"pilotage\"\nrule = [{ name = \"r\", when = { everyone = true }, enter = true, reach = [\"internet\"] }]\n";
    let (site, findings) = compile(&(document(&[]) + second));
    assert!(site.is_none() && findings.iter().any(|f| f.what.contains("the gates yard and other both guard the zone")));
}

#[test]
fn what_rules_give_is_joined_and_the_first_single_value_counts() {
    let site = site(&[]);
    let gate = site.gate("yard").unwrap();
    let mut story = Story::default();
    let Decision::Admitted(a) = fold(&site, gate, &somebody(&site, &["fitters"]), &at(12), &mut story) else { panic!() };
    let terms = a.terms().unwrap();
    let opens: Vec<(&str, &str)> = terms.opens.iter().map(|o| (o.reach.as_str(), o.rule.as_str())).collect();
    assert_eq!(opens, [("crane-hosts", "fitters reach the cranes"), ("internet", "everybody reaches the internet")]);
    assert_eq!((terms.quota, terms.rate, terms.devices), (Some(2_000_000_000), Some(20_000_000), Some(2)));
    assert_eq!(a.good_until().map(|t| t.to_rfc3339()), Some(at(20).now.to_rfc3339()), "the edge of the hours closes by itself");
    insta::assert_snapshot!(story.steps.iter().map(|s| sentence(s, Lang::En)).collect::<Vec<_>>().join("\n"));
}

#[test]
fn may_somebody_reach_that() {
    let site = site(&[]);
    let open = |reach: &str, rule: &str| Opening::Open { reach: reach.into(), by: By::Rule(rule.into()) };
    let fitters = "fitters reach the cranes";
    assert_eq!(asked(&site, &["fitters"], 12, "10.80.4.7:22"), open("crane-hosts", fitters));
    assert_eq!(asked(&site, &["fitters"], 23, "a.cranes.havrelune.example:443"), open("crane-hosts", fitters));
    assert_eq!(asked(&site, &["pilots"], 12, "10.80.4.7:22"), open("crane-hosts", "by day"));
    let not_given = Near::NotGiven { reach: "crane-hosts".into(), rules: vec![fitters.into(), "by day".into()] };
    assert_eq!(asked(&site, &["pilots"], 23, "10.80.4.7:22"), Opening::Closed(not_given.clone()));
    assert_eq!(asked(&site, &["pilots"], 23, "a.cranes.havrelune.example:22"), Opening::Closed(not_given));
    // The internet, which is open, leads around the harbour's own networks.
    let excepted = Near::Excepted { reach: "internet".into(), by: "10.0.0.0/8".parse().unwrap() };
    assert_eq!(asked(&site, &["pilots"], 23, "10.99.0.1:22"), Opening::Closed(excepted));
    let services =
        Near::OtherServices { reach: "crane-hosts".into(), services: ["tcp/22", "tcp/443", "icmp"].map(str::to_owned).to_vec() };
    assert_eq!(asked(&site, &["fitters"], 12, "a.cranes.havrelune.example:80"), Opening::Closed(services));
    assert_eq!(
        asked(&site, &[], 12, "10.70.0.1:53/udp"),
        Opening::Open { reach: "resolver".into(), by: By::Zone("yard".into()) }
    );
    assert_eq!(asked(&site, &[], 12, "mail.havrelune.example:993"), Opening::Closed(Near::GivenByNone { reach: "mail".into() }));
    assert_eq!(asked(&site, &[], 12, "nowhere.example:993"), Opening::Closed(Near::Nothing));
    // Where nobody is signed in, what is open to everybody is.
    let gate = site.gate("yard").unwrap();
    let to = |t: &str| opening(&site, gate, Goer::Nobody, Some("yard"), &Wanted::parse(t).unwrap());
    assert!(matches!(to("10.70.0.1:53/udp"), Opening::Open { .. }));
    assert!(matches!(to("192.0.2.1:443"), Opening::Closed(Near::SignInFirst { .. })));
}

#[test]
fn a_draft_names_who_gains_and_loses_which_reach() {
    let lines = |change: &[(&str, &str)], lang| {
        let (before, after) = (document(&[]), document(change));
        let (old, new) = (site(&[]), site(change));
        let all = compare(Side { text: &before, site: &old }, Side { text: &after, site: &new });
        all.iter().map(|c| format!("{:?} {} {}", c.bearing, c.code(), c.words(lang))).collect::<Vec<_>>().join("\n")
    };
    let only_cranes = (
        "when = { group = \"fitters\" }\nenter = true\nreach = [\"crane-hosts\"]\ndevices",
        "when = { group = \"crane-crew\" }\nenter = true\nreach = [\"crane-hosts\"]\ndevices",
    );
    let wider = (
        "to = [\"10.80.4.0/24\", \"fd80:4::/64\", \"*.cranes.havrelune.example\"]\nservices = [\"tcp/22\", \"tcp/443\", \"icmp\"]",
        "to = [\"10.80.0.0/16\", \"fd80:4::/64\", \"*.cranes.havrelune.example\"]\nexcept = [\"10.80.9.0/24\"]\nservices = [\"tcp/22\", \"icmp\"]",
    );
    insta::assert_snapshot!(lines(&[only_cranes], Lang::En));
    insta::assert_snapshot!(lines(&[wider], Lang::En));
    insta::assert_snapshot!(lines(&[wider, only_cranes], Lang::Fr));
    // Written in another order, it is the same.
    let turned = ("services = [\"udp/53\", \"tcp/53\"]", "services = [\"tcp/53\", \"udp/53\"]");
    assert_eq!(lines(&[turned], Lang::En), "");
    // And for one person, by the code that decides.
    let place = Place::gate("yard");
    let (old, new) = (site(&[]), site(&[wider, only_cranes]));
    let who = somebody(&old, &["fitters"]);
    let (before, after) = (try_at(&old, &place, &who, &at(23)), try_at(&new, &place, &who, &at(23)));
    let what = |lang| effects(&before, &after, lang).what(lang).join("\n");
    insta::assert_snapshot!(what(Lang::En));
    insta::assert_snapshot!(what(Lang::Fr));
    let day = |of: &Site| try_at(of, &place, &who, &at(12));
    insta::assert_snapshot!(effects(&day(&old), &day(&new), Lang::En).what(Lang::En).join("\n"));
    assert_eq!(effects(&day(&old), &day(&old), Lang::En).code(), "same");
}

#[test]
fn expectations_hold_networks_to_what_they_must_open() {
    let expectation = r#"
[[expectation]]
name = "fitters reach the cranes at night"
gate = "yard"
person = { provider = "pilotage", groups = ["fitters"] }
at = "2026-12-31T23:00:00Z"
enter = true
reaches = ["10.80.4.7:22", "192.0.2.1:443"]
closed = ["10.80.4.7:23", "mail.havrelune.example:993"]
"#;
    let try_it = |change: &[(&str, &str)]| {
        let (site, findings) = compile(&(document(change) + expectation));
        broken(&site.unwrap_or_else(|| panic!("{findings:#?}")), moment(), Lang::En)
            .into_iter()
            .flat_map(|b| b.what)
            .collect::<Vec<_>>()
    };
    assert_eq!(try_it(&[]), Vec::<String>::new());
    assert_eq!(try_it(&[("\"tcp/22\", ", "")]), ["10.80.4.7:22 must be reached, and is closed"]);
    assert_eq!(
        try_it(&[("services = [\"tcp/22\", \"tcp/443\", \"icmp\"]", "services = \"tcp\"")]),
        ["10.80.4.7:23 must stay closed, and is reached"]
    );
    for (old, new, wanted) in [
        ("reaches = [\"10.80.4.7:22\", ", "reaches = [\"/static\", ", "names no port"),
        ("closed = [", "headers = { X = \"a\" }\nclosed = [", "a network is told no headers"),
    ] {
        let (site, findings) = compile(&(document(&[]) + &expectation.replacen(old, new, 1)));
        assert!(site.is_none() && findings.iter().any(|f| f.what.contains(wanted)), "{findings:#?}");
    }
}

#[test]
fn the_team_of_the_network_gets_a_sheet() {
    let site = site(&[]);
    let gate = site.gate("yard").unwrap();
    let sheet = sheet(&site, For::Application(gate), None, &Facts { of: "edition 3".into(), ..Facts::default() });
    let mut out = vec![sheet.title];
    for part in &sheet.parts {
        out.push(format!("## {}", part.heading));
        out.extend(part.rows.iter().map(|r| format!("{} | {} | {}", r.label, r.value, r.why)));
    }
    out.extend(sheet.steps);
    insta::assert_snapshot!(out.join("\n"));
}

#[test]
fn what_signing_in_needs_is_told_from_what_a_zone_opens() {
    let need = |url: &str, addresses: &[&str], why: Why| {
        let mut need = Need::of("pilotage", &url.parse().unwrap(), why).unwrap();
        need.addresses.extend(addresses.iter().map(|a| a.parse::<std::net::IpAddr>().unwrap()));
        need
    };
    let site = site(&[]);
    let (gate, zone) = (site.gate("yard").unwrap(), site.zone("yard").unwrap());
    let at = |n: &Need| passage(&site, gate, zone, n);
    let shut = |by: &[&str]| Passage::Shut { by_rules: by.iter().map(|b| (*b).to_owned()).collect() };
    let login = need("https://Login.Bureau.example/authorize?a=b", &["192.0.2.7"], Why::SignIn);
    assert_eq!((login.host.as_str(), login.port), ("login.bureau.example", 443));
    // The internet leads there, for whoever is signed in already.
    assert_eq!(at(&login), shut(&["internet"]));
    assert_eq!(at(&need("https://login.bureau.example/", &[], Why::SignIn)), shut(&[]));
    assert_eq!(at(&need("https://login.bureau.example/", &["10.70.0.9"], Why::SignIn)), Passage::Inside);
    assert_eq!(at(&need("https://login.bureau.example/", &["10.70.0.9", "10.71.0.9"], Why::SignIn)), shut(&[]));
    assert_eq!(at(&need("http://10.70.0.1:53/", &[], Why::SignIn)), Passage::Open("resolver".into()));
    assert_eq!(Need::of("pilotage", &"ldap://a.example/".parse().unwrap(), Why::SignIn), None);
    let ocsp = need("http://ocsp.bureau.example/", &[], Why::Ocsp);
    let out = need("https://login.bureau.example/out", &["192.0.2.7"], Why::SignOut);
    let lines = proposal(zone, &[&login, &ocsp, &out]).unwrap();
    insta::assert_snapshot!(lines);
    assert_eq!(proposal(zone, &[]), None);
    // What is proposed is a sound site file, and opens what is needed and nothing on the other's port.
    let (parts, before) = lines.split_once("# In [[zone]] yard:\n").unwrap();
    let mended = document(&[("before = [\"resolver\"]\n", before)]) + parts;
    let (mended, findings) = compile(&mended);
    let mended = mended.unwrap_or_else(|| panic!("{findings:#?}"));
    assert!(findings.is_empty(), "{findings:#?}");
    let (gate, zone) = (mended.gate("yard").unwrap(), mended.zone("yard").unwrap());
    for n in [&login, &ocsp, &out] {
        assert!(matches!(passage(&mended, gate, zone, n), Passage::Open(_)), "{n:?}");
    }
    let beside = need("http://login.bureau.example/", &["192.0.2.7"], Why::SignIn);
    assert!(matches!(passage(&mended, gate, zone, &beside), Passage::Shut { .. }));
    // A zone's own ways in go before its gate's.
    assert_eq!(ways_of(gate, zone), ["pilotage", "visitors"]);
}

#[test]
fn documents_of_many_parts_are_refused_before_they_are_held_against_each_other() {
    let many = |one: &dyn Fn(usize) -> String, n: usize| -> String { (0..n).map(one).collect() };
    let reach = |i: usize| format!("[[reach]]\nname = \"r{i}\"\nto = \"10.0.0.0/8\"\nservices = \"all\"\n");
    let zone =
        |i: usize| format!("[[zone]]\nname = \"z{i}\"\ninterface = \"eth{i}\"\nnetworks = \"10.{}.{}.0/24\"\n", i / 250, i % 250);
    let networks = |i: usize| format!("\"10.200.{i}.0/24\", ");
    let one_zone = format!("[[zone]]\nname = \"wide\"\ninterface = \"wide0\"\nnetworks = [{}]\n", many(&networks, 33));
    let services = |i: usize| format!("\"tcp/{}\", ", i + 1);
    let one_reach = format!("[[reach]]\nname = \"wide\"\nto = \"10.0.0.0/8\"\nservices = [{}]\n", many(&services, 1_001));
    for (text, wanted) in [
        (many(&reach, 600), "there are 604 of [[reach]]"),
        (many(&zone, 200), "there are 201 of [[zone]]"),
        (one_zone, "networks has 33 members"),
        (one_reach, "services has 1001 members"),
    ] {
        let (site, findings) = compile(&format!("{}\n{text}", document(&[])));
        assert!(site.is_none() && findings.iter().any(|f| f.what.contains(wanted)), "{wanted}");
    }
}

//! Tunnels: how entrances are written, who gets what by which, and what a client only claims.

use passeur_core::circumstances::{Circumstances, RequestFacts};
use passeur_core::condition::Truth;
use passeur_core::decide::{Decision, Goer, fold, opening};
use passeur_core::document::compile;
use passeur_core::expect::{broken, described};
use passeur_core::identity::identify;
use passeur_core::sheet::{Facts, For, sheet};
use passeur_core::site::{Described, Site, Wanted};
use passeur_core::step::{Lang, Silent};
use passeur_core::tunnel::TunnelFacts;

use crate::harbour::{SITE, changed, moment};

const TUNNEL: &str = include_str!("../../../../demo/tunnel.toml");

fn document(change: &[(&str, &str)]) -> String {
    changed(format!("{SITE}\n{TUNNEL}"), change)
}

fn site(change: &[(&str, &str)]) -> Site {
    let (site, findings) = compile(&document(change));
    site.unwrap_or_else(|| panic!("{findings:#?}"))
}

/// What opens to somebody of these groups who comes by a tunnel; none where they are refused.
fn opened(site: &Site, groups: &[&str], tunnel: Option<&TunnelFacts>) -> Option<Vec<String>> {
    let groups = groups.iter().map(|g| (*g).to_owned()).collect();
    let who = Described { provider: "pilotage".into(), groups, ..Described::default() };
    let evidence = described(site, &who, moment()).unwrap();
    let at = Circumstances { tunnel, ..Circumstances::at(moment()) };
    match fold(site, site.gate("tunnel").unwrap(), &evidence, &at, &mut Silent) {
        Decision::Admitted(a) => Some(a.terms().iter().flat_map(|t| &t.opens).map(|o| o.reach.clone()).collect()),
        Decision::Refused(_) => None,
    }
}

fn client(version: Option<&str>) -> TunnelFacts {
    TunnelFacts::new("pilots", Some("linux"), version)
}

#[test]
fn rules_stack_and_old_clients_stay_out() {
    let site = site(&[]);
    let new = client(Some("2.6.14"));
    assert_eq!(opened(&site, &["pilots"], Some(&new)), Some(vec!["pilot-office".into()]));
    assert_eq!(opened(&site, &["access-engineers"], Some(&new)), Some(vec!["pilot-office".into(), "beacons".into()]));
    assert_eq!(opened(&site, &["fitters"], Some(&new)), None);
    assert_eq!(opened(&site, &["pilots"], Some(&client(Some("2.4.9")))), None);
    assert_eq!(opened(&site, &["pilots"], Some(&client(None))), None, "a refusal that cannot be judged refuses");
    assert!(opened(&site, &["pilots"], None).is_some(), "a browser that asks for the gate's page is no client");
    assert_eq!(site.zones_of(site.gate("tunnel").unwrap()).count(), 2);
}

#[test]
fn what_is_asked_of_a_tunnel_is_no_where_none_asks_and_unknown_where_the_client_does_not_say() {
    let site = site(&[(
        "[[gate.rule]]\nname = \"pilots and",
        "[[gate.rule]]\nname = \"a\"\nwhen = { any = [{ entrance = \"pilots\" }, { platform = [\"linux\", \"mac\"] }, { client-version = \"2.6\" }, { profile = true }] }\nroles = [\"x\"]\n\n[[gate.rule]]\nname = \"pilots and",
    )]);
    let gate = site.gate("tunnel").unwrap();
    let rule = gate.access.rules.iter().find(|r| r.name == "a").unwrap();
    let mut parts = vec![];
    rule.when.of_request(&mut parts);
    assert_eq!(parts.len(), 4);
    let evidence = described(&site, &Described { provider: "pilotage".into(), ..Described::default() }, moment()).unwrap();
    let who = identify(&site, &gate.access, &evidence, &mut Silent);
    let judge = |tunnel: Option<&TunnelFacts>| -> Vec<Truth> {
        let at = Circumstances { tunnel, ..Circumstances::at(moment()) };
        parts.iter().map(|p| p.judge(&who, &at, Some("tunnel"))).collect()
    };
    let (no, unknown, yes) = (Truth::No, Truth::Unknown, Truth::Yes);
    assert_eq!(judge(None), [no, no, no, no]);
    assert_eq!(judge(Some(&TunnelFacts::new("pilots-trial", None, None))), [no, unknown, unknown, no]);
    assert_eq!(judge(Some(&client(Some("two point six")))), [yes, yes, unknown, no]);
    let own = TunnelFacts { profile: Some("7".into()), ..TunnelFacts::new("pilots", Some("win"), Some("2.6")) };
    assert_eq!(judge(Some(&own)), [yes, no, yes, yes]);
    let at = Circumstances { tunnel: Some(&own), ..Circumstances::at(moment()) };
    let words = |lang| {
        let saw = rule.when.saw(&site, &who, &at, Some("tunnel"));
        format!("{} — {}", rule.sentence(&site, lang), saw.iter().map(|p| p.words(lang)).collect::<Vec<_>>().join(", "))
    };
    insta::assert_snapshot!(format!("{}\n{}", words(Lang::En), words(Lang::Fr)));
}

#[test]
fn each_mistake_of_an_entrance_is_told_with_what_to_write() {
    let cases: &[(&str, &str, &str)] = &[
        ("name = \"pilots-trial\"", "name = \"pilots\"", "the name \"pilots\" stands twice"),
        ("interface = \"tun-trial\"", "interface = \"tun-pilots\"", "tun-pilots is already that of pilots"),
        ("networks = [\"10.72.0.0/24\"]", "networks = [\"10.71.0.128/25\"]", "10.71.0.128/25 is also in pilots"),
        ("networks = [\"10.72.0.0/24\"]", "networks = [\"fd72::/64\"]", "there is no IPv4 network"),
        ("networks = [\"10.72.0.0/24\"]", "networks = [\"10.72.0.0/30\"]", "has no room for a tunnel's machines"),
        ("networks = [\"10.72.0.0/24\"]", "networks = [\"10.72.0.0/24\", \"10.73.0.0/24\"]", "is a second network of its family"),
        ("servers = [\"198.51.100.1:1195/udp\"]", "servers = [\"198.51.100.1\"]", "has no port: write"),
        ("servers = [\"198.51.100.1:1195/udp\"]", "servers = []", "servers is empty"),
        ("dns = [\"10.88.0.2\"]", "dns = [\"127.0.0.1\"]", "\"127.0.0.1\" is the address of no resolver"),
        ("domains = [\"havrelune.example\"]", "domains = [\"a b\"]", "\"a b\" is no domain"),
        ("\"ping 10\"", "\"up /bin/sh\"", "\"up /bin/sh\" is pushed to no client"),
        ("trial = true", "routes = [\"0.0.0.0/0\"]", "is no network of a route"),
        ("entrances = [\"pilots\", \"pilots-trial\"]", "", "entrances is missing"),
        ("entrances = [\"pilots\", \"pilots-trial\"]", "entrances = [\"pilot\"]", "there is no entrance \"pilot\""),
        ("client-version = \"2.5\"", "client-version = \"new\"", "\"new\" is no version"),
        ("client-version = \"2.5\"", "platform = \"windows\"", "no client says that it runs on \"windows\""),
        ("client-version = \"2.5\"", "entrance = \"sailors\"", "there is no entrance \"sailors\""),
        ("devices = 2", "machine = []\ndevices = 2", "machine is not a known key"),
        // Warnings.
        ("browser = \"same-address\"", "", "be talked into signing in for it from afar"),
        ("trial = true", "routes = [\"10.80.0.0/16\"]", "the reach pilot-office opens 10.88.0.0/24, and no route leads there"),
        (
            "trial = true",
            "routes = [\"10.80.0.0/12\", \"fd00::/8\", \"172.30.0.0/16\"]",
            "and no rule of the gate opens anything there",
        ),
        (
            "trial = true",
            "routes = [\"192.168.0.0/16\", \"10.80.0.0/12\", \"fd00::/8\"]",
            "meets networks that people have at home: 192.168.0.0/24",
        ),
        ("trial = true", "routes = [\"10.80.0.0/12\"]\nwhole = true", "routes say nothing"),
        ("\"udp/53\", ", "", "clients are told to ask 10.88.0.2 for names, and no rule of the gate opens it"),
        (
            "to = [\"10.80.4.0/24\", \"fd80:4::/64\"]",
            "to = [\"beacons.havrelune.example\"]",
            "leads to names, to which clients have no route",
        ),
        ("entrances = [\"pilots\", \"pilots-trial\"]", "entrances = [\"pilots\"]", "no gate takes people in at the entrance"),
    ];
    for (old, new, wanted) in cases {
        let (_, findings) = compile(&document(&[(old, new)]));
        assert!(findings.iter().any(|f| f.what.contains(wanted)), "{wanted}\n{findings:#?}");
    }
    let personal = [("trial = true", "profiles = \"personal\""), ("authority = \"tunnel-authority\"\n", "")];
    let (_, findings) = compile(&document(&personal));
    assert!(findings.iter().any(|f| f.what.contains("names no authority, so that nobody can have a profile")), "{findings:#?}");
    let (_, findings) = compile(&document(&[]));
    assert!(findings.is_empty(), "{findings:#?}");
}

#[test]
fn an_expectation_says_by_which_tunnel_somebody_comes() {
    let expects = |tunnel: &str, enter: bool, rest: &str| {
        format!(
            "{TUNNEL}\n[[expectation]]\nname = \"e\"\ngate = \"tunnel\"\nperson = {{ groups = [\"pilots\"] }}\nenter = {enter}\n{tunnel}\n{rest}"
        )
    };
    for (tunnel, enter, rest, wanted) in [
        (
            "tunnel = { entrance = \"pilots\", version = \"2.6\" }",
            true,
            "reaches = [\"10.88.0.2:80\"]\nclosed = [\"10.80.4.7:22\"]",
            "",
        ),
        ("tunnel = { entrance = \"pilots\", version = \"2.4\" }", false, "", ""),
        ("tunnel = { entrance = \"pilots\", version = \"2.4\" }", true, "", "must come in, and is refused"),
        (
            "tunnel = { entrance = \"pilots\", version = \"2.6\" }",
            true,
            "reaches = [\"10.80.4.7:22\"]",
            "10.80.4.7:22 must be reached",
        ),
    ] {
        let (site, findings) = compile(&format!("{SITE}\n{}", expects(tunnel, enter, rest)));
        let site = site.unwrap_or_else(|| panic!("{findings:#?}"));
        let told: Vec<String> =
            broken(&site, moment(), Lang::En).into_iter().filter(|b| b.name == "e").flat_map(|b| b.what).collect();
        assert_eq!(told.is_empty(), wanted.is_empty(), "{told:?}");
        assert!(told.join(" ").contains(wanted), "{told:?}");
    }
    let (_, findings) = compile(&format!("{SITE}\n{}", expects("tunnel = { platform = \"linux\" }", true, "")));
    assert!(findings.iter().any(|f| f.what == "entrance is missing"), "{findings:#?}");
}

#[test]
fn the_team_of_the_tunnel_gets_a_sheet() {
    let site = site(&[]);
    let facts = Facts { of: "edition 3".into(), ..Facts::default() };
    insta::assert_snapshot!(sheet(&site, For::Application(site.gate("tunnel").unwrap()), None, &facts).markdown());
}

#[test]
fn what_a_tunnel_asks_for_is_a_request_that_nobody_sent() {
    let facts = RequestFacts::of_tunnel([198, 51, 100, 7].into(), client(Some("2.6.14")));
    assert_eq!((facts.method.as_str(), facts.target.as_str()), ("TUNNEL", "/pilots/linux/2.6.14/-"));
    assert_eq!(facts.circumstances(moment()).tunnel, facts.tunnel.as_ref());
}

#[test]
fn whoever_is_nobody_at_a_tunnel_is_told_to_connect() {
    let site = site(&[]);
    let to = Wanted::parse("10.88.0.2:80").unwrap();
    let said = opening(&site, site.gate("tunnel").unwrap(), Goer::Nobody, None, &to);
    assert_eq!(said.remedy(&to, Lang::En).as_deref(), Some("Connect by an entrance of the gate, and sign in."));
}

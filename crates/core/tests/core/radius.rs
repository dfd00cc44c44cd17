//! RADIUS clients: how they are written, and which attributes an answer carries.

use passeur_core::circumstances::Circumstances;
use passeur_core::decide::{Decision, fold};
use passeur_core::document::compile;
use passeur_core::expect::described;
use passeur_core::sheet::{Facts, For, sheet};
use passeur_core::site::{Described, Site};
use passeur_core::step::{Lang, Story, sentence};
use passeur_core::tunnel::TunnelFacts;

use crate::harbour::{SITE, changed, moment};

const RADIUS: &str = include_str!("../../../../demo/radius.toml");

fn document(change: &[(&str, &str)]) -> String {
    format!("{SITE}\n{}", changed(RADIUS.to_owned(), change))
}

fn site(change: &[(&str, &str)]) -> Site {
    let (site, findings) = compile(&document(change));
    assert!(findings.is_empty(), "{findings:#?}");
    site.unwrap()
}

/// What somebody of these groups is told at the gateway, attribute by attribute, and the sentences of the story; none where they are refused.
fn told(site: &Site, groups: &[&str], department: &str) -> (Option<Vec<(String, String)>>, String) {
    let groups = groups.iter().map(|g| (*g).to_owned()).collect();
    let attributes = [("departmentNumber".to_owned(), vec![department.to_owned()])].into();
    let who = Described { provider: "gateway-word".into(), groups, attributes, ..Described::default() };
    let evidence = described(site, &who, moment()).unwrap();
    let tunnel = TunnelFacts::new("quay-gateway", None, None);
    let at = Circumstances { tunnel: Some(&tunnel), ..Circumstances::at(moment()) };
    let mut story = Story::default();
    let decision = fold(site, site.gate("quays").unwrap(), &evidence, &at, &mut story);
    let words = story.steps.iter().map(|s| sentence(s, Lang::En)).collect::<Vec<_>>().join("\n");
    let headers = match decision {
        Decision::Admitted(a) => {
            Some(a.headers().iter().map(|h| (h.name.clone(), String::from_utf8_lossy(&h.value).into_owned())).collect())
        }
        Decision::Refused(_) => None,
    };
    (headers, words)
}

fn pairs(all: &[(&str, &str)]) -> Vec<(String, String)> {
    all.iter().map(|(n, v)| ((*n).to_owned(), (*v).to_owned())).collect()
}

/// The filter rules of somebody who reaches the screens at the berths.
const SCREENS: [(&str, &str); 3] = [
    ("NAS-Filter-Rule", "permit in 6 from any to 10.80.6.0 443"),
    ("NAS-Filter-Rule", "permit in 6 from any to 10.80.6.2/31 443"),
    CLOSED,
];
const CLOSED: (&str, &str) = ("NAS-Filter-Rule", "deny in ip from any to any");

#[test]
fn rules_stack_and_attributes_that_repeat_hold_one_value_each() {
    let site = site(&[]);
    let (headers, _) = told(&site, &["pilots"], "pilotage");
    let staff = [&[("Filter-Id", "quay-staff"), ("VLAN", "quays"), ("Berth-Profile", "pilotage")][..], &SCREENS].concat();
    assert_eq!(headers, Some(pairs(&staff)));
    let (headers, _) = told(&site, &["access-engineers"], "pilotage");
    let both = [("Filter-Id", "quay-staff"), ("Filter-Id", "beacons"), ("VLAN", "quays"), ("Berth-Profile", "pilotage")];
    let both = [&both[..], &SCREENS].concat();
    assert_eq!(headers, Some(pairs(&both)));
    assert_eq!(told(&site, &["fitters"], "pilotage").0, None);
    assert!(site.radius_client_at("127.0.0.11".parse().unwrap()).is_some_and(|c| c.name == "quay-gateway"));
    assert!(site.radius_client_at("::ffff:127.0.0.12".parse().unwrap()).is_some_and(|c| c.name == "quay-doors"));
    assert!(site.radius_client_at("127.0.0.13".parse().unwrap()).is_none());
    assert!(site.secrets().contains(&("quay-doors".into(), "RADIUS client quay-doors".into())));
}

#[test]
fn what_does_not_fit_is_left_out_cut_or_refuses_as_the_delivery_says_and_is_told() {
    let long = "x".repeat(250);
    let (headers, words) = told(&site(&[]), &["pilots"], &long);
    assert_eq!(headers.unwrap().len(), 5, "{words}");
    assert!(
        words.contains("Berth-Profile is not sent: it does not fit there (") && words.contains("at most 247 octets"),
        "{words}"
    );
    let cuts = [("attribute = \"department\"", "attribute = \"department\"\ntoo-long = \"cut\"")];
    let (headers, words) = told(&site(&cuts), &["pilots"], &long);
    assert_eq!(headers.unwrap()[2].1.len(), 247);
    assert!(words.contains("Berth-Profile was cut to 247 octets"), "{words}");
    let needs = [("attribute = \"department\"", "attribute = \"department\"\nmissing = \"refuse\"")];
    assert_eq!(told(&site(&needs), &["pilots"], &long).0, None);
    // A number where there is none.
    let number = [("vendor = 32473\nnumber = 7", "vendor = 32473\nnumber = 7\ntype = \"number\"")];
    assert_eq!(told(&site(&number), &["pilots"], "pilotage").0.unwrap().len(), 5);
    assert_eq!(told(&site(&number), &["pilots"], " 42 ").0.unwrap()[2].1, "42");
}

#[test]
fn reach_is_told_as_filter_rules_and_whoever_cannot_be_told_theirs_is_not_let_in() {
    // Without reach everything is closed.
    let none = [
        ("reach = [\"berth-screens\"]\n", ""),
        (
            "[[reach]]\nname = \"berth-screens\"\ntitle = \"what the screens at the berths show\"\nto = [\"10.80.6.0/30\"]\nexcept = [\"10.80.6.1\"]\nservices = [\"tcp/443\"]\n",
            "",
        ),
    ];
    let (headers, _) = told(&site(&none), &["pilots"], "pilotage");
    assert_eq!(headers.unwrap()[3..], pairs(&[CLOSED]));
    // An exception of one address in a wide network makes more rules than an answer carries.
    let services: Vec<String> = (0..8).map(|n| format!("\"tcp/{}\"", 8_000 + n)).collect();
    let services = format!("services = [{}]", services.join(", "));
    let wide = [("10.80.6.0/30", "10.0.0.0/8"), ("services = [\"tcp/443\"]", services.as_str())];
    let (headers, words) = told(&site(&wide), &["pilots"], "pilotage");
    assert_eq!(headers, None);
    assert!(words.contains("its filter rules are more than an answer carries"), "{words}");
    // Names of reaches go where no filter rules do.
    let by_name = [("name = \"NAS-Filter-Rule\"", "name = \"Filter-Id\"")];
    assert_eq!(told(&site(&by_name), &["pilots"], "pilotage").0.unwrap()[3..], pairs(&[("Filter-Id", "berth-screens")]));
    for (from, to, what) in [
        (
            "\"10.80.6.0/30\"",
            "\"10.80.6.0/30\", \"screens.example\"",
            "the reach berth-screens leads to names, which no gateway can be told",
        ),
        ("reach = true", "reach = true\nmissing = \"omit\"", "without NAS-Filter-Rule a gateway lets everything through"),
        (
            "reach = true\n",
            "reach = true\n[[delivery.attribute]]\nname = \"NAS-Filter-Rule\"\nconstant = \"permit in ip from any to 10.0.0.1\"\n",
            "NAS-Filter-Rule from reach denies all that is left",
        ),
        (
            "[[delivery.attribute]]\nname = \"NAS-Filter-Rule\"\nreach = true\n",
            "",
            "rules give the reach berth-screens, and no RADIUS client is told of it",
        ),
        ("reach = true", "constant = \"permit tcp\"", "the constant does not fit in NAS-Filter-Rule"),
    ] {
        let (_, findings) = compile(&document(&[(from, to)]));
        assert!(findings.iter().any(|f| f.what.contains(what)), "{what}: {findings:#?}");
    }
    // What is known by name alone is told in the story.
    let (site, _) = compile(&document(&[("\"10.80.6.0/30\"", "\"10.80.6.0/30\", \"screens.example\"")]));
    let (headers, words) = told(&site.unwrap(), &["pilots"], "pilotage");
    assert_eq!(headers.unwrap()[3..], pairs(&SCREENS));
    assert!(
        words.contains("NAS-Filter-Rule leaves out what is reached by name, which a gateway cannot be told: screens.example"),
        "{words}"
    );
}

#[test]
fn a_machine_gets_what_a_rule_gives_machines_and_nothing_else_whatever_it_is_called() {
    // A rule for everybody, one for whoever is no guest, and one that means machines.
    let open = "when = { any-group = [\"pilots\", \"access-engineers\"] }";
    let site = site(&[(open, "when = { everyone = true }")]);
    let gate = site.gate("quays").unwrap();
    let says = |way: &str, of: &[(&str, &str)]| {
        let claims = of.iter().map(|(k, v)| ((*k).to_owned(), vec![(*v).to_owned()])).collect();
        let who = Described { provider: way.into(), claims, ..Described::default() };
        let evidence = described(&site, &who, moment()).unwrap();
        let tunnel = TunnelFacts::new("quay-doors", None, None);
        let at = Circumstances { tunnel: Some(&tunnel), ..Circumstances::at(moment()) };
        let mut story = Story::default();
        let roles = match fold(&site, gate, &evidence, &at, &mut story) {
            Decision::Admitted(a) => a
                .headers()
                .iter()
                .filter(|h| h.name == "Filter-Id")
                .map(|h| String::from_utf8_lossy(&h.value).into_owned())
                .collect(),
            Decision::Refused(_) => vec![],
        };
        (roles, story.steps.iter().map(|s| sentence(s, Lang::En)).collect::<Vec<_>>().join("\n"))
    };
    let camera = [("sub", "00:1b:44:11:3a:b7"), ("machine", "camera at gate 4")];
    let (roles, words) = says("quay-machines", &camera);
    assert_eq!(roles, ["cameras"], "{words}");
    assert!(words.contains("“pilots and engineers work on the quays” does not apply"), "{words}");
    assert_eq!(says("gateway-word", &[("user", "anouk")]).0, ["quay-staff"], "people are let in by it as ever");
    // What is off the list is nobody's, whatever an edition before said.
    let who = |subject: &str| {
        let claims = [("sub".to_owned(), vec![subject.to_owned()])].into();
        described(&site, &Described { provider: "quay-machines".into(), claims, ..Described::default() }, moment()).unwrap()
    };
    assert!(gate.access.takes(&site, &who("00:1b:44:11:3a:b7")) && !gate.access.takes(&site, &who("00:1b:44:11:3a:b8")));
}

#[test]
fn machines_are_let_in_by_radius_alone() {
    for (from, to, what) in [
        (
            "[engineers]\nprovider = \"pilotage\"",
            "[engineers]\nways-in = [\"pilotage\", \"quay-machines\"]",
            "quay-machines is for machines, which are no engineers",
        ),
        (
            "ways-in = [\"ticket\", \"pilotage\"]",
            "ways-in = [\"ticket\", \"pilotage\", \"quay-machines\"]",
            "quay-machines is for machines that a RADIUS client asks about, and none is here",
        ),
    ] {
        let document = document(&[]);
        assert!(document.contains(from), "{from}");
        let (_, findings) = compile(&document.replacen(from, to, 1));
        assert!(findings.iter().any(|f| f.what.contains(what)), "{what}: {findings:#?}");
    }
}

#[test]
fn each_mistake_is_told_with_what_to_write() {
    for (from, to, what) in [
        ("addresses = [\"127.0.0.11\"]", "addresses = [\"127.0.0.0/24\"]", "127.0.0.12/32 is also where quay-gateway sends from"),
        ("addresses = [\"127.0.0.11\"]", "addresses = [\"0.0.0.0/0\"]", "\"0.0.0.0/0\" is everybody"),
        ("addresses = [\"127.0.0.11\"]", "addresses = [\"gateway\"]", "\"gateway\" is no address or network"),
        ("addresses = [\"127.0.0.11\"]", "", "addresses is missing"),
        ("secret = \"quay-doors\"", "", "secret is missing"),
        ("takes = [\"authorize-only\"]", "takes = [\"eap\"]", "no client asks \"eap\""),
        ("way = \"gateway-word\"", "", "the client names people itself, and no way in says so"),
        ("way = \"gateway-word\"", "way = \"harbour-password\"", "there is no way of kind gateway \"harbour-password\""),
        (
            "ways-in = [\"gateway-word\", \"harbour-password\", \"quay-machines\"]",
            "ways-in = [\"gateway-word\", \"quay-machines\"]",
            "it asks about passwords, and gate quays takes nobody in by one",
        ),
        (
            "ways-in = [\"gateway-word\", \"harbour-password\", \"quay-machines\"]",
            "ways-in = [\"harbour-password\", \"quay-machines\"]",
            "gate quays does not take the way in gateway-word",
        ),
        ("entrances = [\"quay-gateway\", \"quay-doors\"]", "entrances = [\"quay-gateway\"]", "no gate takes people in by it"),
        ("name = \"quay-doors\"", "name = \"quay-gateway\"", "quay-gateway"),
        ("name = \"Filter-Id\"", "name = \"Class\"", "a delivery fills no attribute \"Class\""),
        ("name = \"VLAN\"", "name = \"X-Harbour-User\"", "a delivery fills no attribute \"X-Harbour-User\""),
        ("given = \"vlan\"", "constant = \"\"", "the constant does not fit in VLAN"),
        ("vendor = 32473", "vendor = 99999999", "vendor"),
        ("number = 7\n", "\n", "number is missing"),
        ("name = \"Berth-Profile\"\nvendor", "name = \"Filter-Id\"\nvendor", "Filter-Id is there already"),
        ("delivery = \"quay-answers\"", "delivery = \"ledger\"", "ledger fills headers, and RADIUS clients are told attributes"),
        ("kind = \"gateway\"", "kind = \"gatewy\"", "kind = \"gatewy\" is not known"),
        (
            "ways-in = [\"gateway-word\", \"harbour-password\", \"quay-machines\"]",
            "ways-in = [\"gateway-word\", \"harbour-password\"]",
            "it asks about machines, and gate quays takes none in",
        ),
        ("hardware = \"00:1b:44:11:3a:b7\"", "hardware = \"ff:ff:ff:ff:ff:ff\"", "is no hardware address of one machine"),
        ("until = \"2031-12-31\"", "until = \"2031-13-31\"", "\"2031-13-31\" is no date"),
        (
            "secret = \"quay-doors\"",
            "secret = \"quay-doors\"\nhost = \"door.example\"",
            "the client shares a secret, and has host",
        ),
        ("secret = \"quay-doors\"", "host = \"door.example\"", "nothing says who may certify that name"),
        ("secret = \"quay-doors\"", "certificates = []", "no certificate is this client's"),
        ("secret = \"quay-doors\"", "certificates = [\"00ff\"]", "certificate 1 cannot be read"),
        (
            "delivery = \"quay-answers\"",
            "delivery = \"quay-answers\"\n[gate.terms]\nversion = \"1\"\ntext = \"x\"",
            "[[radius-client]] quay-gateway can show nobody any terms",
        ),
    ] {
        let (_, findings) = compile(&document(&[(from, to)]));
        let found = findings.iter().find(|f| f.what.contains(what));
        assert!(found.is_some_and(|f| !f.remedy.is_empty()), "{what}: {findings:#?}");
    }
    // A delivery of attributes is none for an application.
    let (_, findings) = compile(&document(&[]).replace("delivery = \"ledger\"", "delivery = \"quay-answers\""));
    assert!(
        findings.iter().any(|f| f.what.contains("fills answers of RADIUS, and behind this gate is a web application")),
        "{findings:#?}"
    );
}

#[test]
fn the_sheet_says_what_to_enter_at_the_gateway() {
    let site = site(&[]);
    let facts = Facts { of: "edition 5".into(), ..Facts::default() };
    insta::assert_snapshot!(sheet(&site, For::Application(site.gate("quays").unwrap()), None, &facts).markdown());
}

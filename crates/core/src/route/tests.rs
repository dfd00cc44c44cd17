//! Routes by tables, and what must hold of every name.

use proptest::prelude::*;

use super::*;

const OFFERED: [&str; 4] = ["office", "agents", "password", "mail"];

fn network(text: &str) -> Option<Named<IpNet>> {
    Some(Named { list: None, members: vec![text.parse().unwrap()] })
}

fn route(name: &str, ways: &[&str]) -> Route {
    Route {
        name: name.into(),
        places: vec![],
        networks: None,
        devices: vec![],
        suffixes: vec![],
        by: None,
        ways: ways.iter().map(|w| (*w).to_owned()).collect(),
        ask: false,
        strip: false,
    }
}

fn entry(value: &str) -> Option<ByName> {
    let holds = Holds::Attribute { attribute: "kind".into(), values: vec![value.into()] };
    Some(ByName::Entry { directory: "harbour".into(), holds })
}

static BERTHS: std::sync::LazyLock<Place> = std::sync::LazyLock::new(|| Place::gate("berths"));

fn facts<'a>(address: &str, device: Device) -> Facts<'a> {
    Facts { place: &BERTHS, address: address.parse().ok(), device, offered: &OFFERED }
}

fn here<'a>() -> Facts<'a> {
    facts("10.20.0.7", Device { platform: Platform::Windows, mobile: false })
}

fn typed(text: &str, found: Option<NameAnswer>) -> Typed {
    let named = ["agents.example", "ships.example", "a"];
    let known = Route { suffixes: named.map(str::to_owned).to_vec(), ..route("any", &[]) };
    Typed {
        suffix: Suffix::of(&[known], text),
        entries: found.into_iter().map(|e| ("harbour".to_owned(), e)).collect(),
        ..Typed::default()
    }
}

fn holds(value: &str) -> Option<NameAnswer> {
    Some(NameAnswer::Found { attributes: [("kind".to_owned(), vec![value.to_owned()])].into(), groups: vec!["fitters".into()] })
}

fn decided(choice: Choice) -> Decided {
    match choice {
        Choice::Decided(d) => d,
        other => panic!("{other:?}"),
    }
}

#[test]
fn suffixes_stand_behind_an_at_or_before_a_backslash() {
    for (name, suffix, rest) in [
        ("anouk", "", "anouk"),
        (" anouk@Agents.Example ", "agents.example", "anouk"),
        ("a@b@c.example", "c.example", "a@b"),
        ("HARBOUR\\anouk", "harbour", "anouk"),
        ("@agents.example", "", "@agents.example"),
        ("anouk@", "", "anouk@"),
        ("\\anouk", "", "\\anouk"),
        ("", "", ""),
    ] {
        assert_eq!((split(name).1.to_lowercase().as_str(), without_suffix(name)), (suffix, rest), "{name:?}");
    }
    // A suffix that no route names is not kept: it may be half of a password.
    let routes = [Route { suffixes: vec!["agents.example".into()], ..route("agents", &["agents"]) }];
    let of = |name: &str| Suffix::of(&routes, name);
    assert_eq!(of("x@Agents.Example"), Suffix::Named("agents.example".into()));
    assert_eq!((of("p@ssword"), of("x")), (Suffix::Other, Suffix::None));
}

#[test]
fn the_first_route_that_fits_decides_and_the_others_say_why_not() {
    let routes = [
        Route { places: vec![Place::gate("cranes")], ..route("at the cranes", &["office"]) },
        Route { networks: network("192.0.2.0/24"), ..route("from the yard", &["office"]) },
        Route { devices: vec!["mobile".into()], ..route("telephones", &["office"]) },
        route("elsewhere", &["nowhere"]),
        Route {
            networks: network("10.20.0.0/16"),
            devices: vec!["mobile".into(), "windows".into()],
            ..route("desks", &["password"])
        },
        route("everybody", &["office"]),
    ];
    let d = decided(choose(&routes, &here(), None));
    assert_eq!((d.route.as_deref(), d.ways.as_slice()), (Some("desks"), &["password".to_owned()][..]));
    let told: Vec<String> = d
        .passed
        .iter()
        .map(|p| format!("{}: {} / {}", p.route, p.wanted.words(crate::step::Lang::En), p.seen.words(crate::step::Lang::En)))
        .collect();
    insta::assert_snapshot!(told.join("\n"), @r"
    at the cranes: gate cranes / gate berths
    from the yard: network 192.0.2.0/24 / network 10.20.0.7
    telephones: device mobile / device windows, desktop
    elsewhere: signed in through nowhere / taken there: office, agents, password, mail
    ");
    // An address that is not known is in no network.
    let nowhere = Facts { address: None, ..here() };
    assert_eq!(decided(choose(&routes, &nowhere, None)).route.as_deref(), Some("everybody"));
    // IPv4 in the coat of IPv6 is IPv4.
    assert_eq!(decided(choose(&routes, &facts("::ffff:10.20.9.9", here().device), None)).route.as_deref(), Some("desks"));
    // Without a route that fits everything is open, and people are asked.
    let d = decided(choose(&routes[..2], &here(), None));
    assert_eq!((d.route, d.ask, d.ways.len()), (None, true, 4));
}

#[test]
fn a_name_is_asked_for_only_where_it_matters() {
    let by_suffix = Route { suffixes: vec!["agents.example".into()], ..route("agents", &["agents"]) };
    let routes = [
        Route { networks: network("192.0.2.0/24"), ..by_suffix.clone() },
        Route { networks: network("10.0.0.0/8"), ..route("inside", &["password", "office"]) },
        by_suffix.clone(),
        route("everybody", &["office"]),
    ];
    // The route before the certain one does not fit here whatever is typed.
    assert_eq!(decided(choose(&routes, &here(), None)).route.as_deref(), Some("inside"));
    let out = facts("198.51.100.1", Device::default());
    let Choice::NameWanted { ways } = choose(&routes, &out, None) else { panic!() };
    assert_eq!(ways, ["agents", "office"]);
    assert_eq!(decided(choose(&routes, &out, Some(&typed("x@agents.example", None)))).ways, ["agents"]);
    assert_eq!(decided(choose(&routes, &out, Some(&typed("x", None)))).ways, ["office"]);
    // Without a last route all that is taken there stays open.
    let Choice::NameWanted { ways } = choose(&[by_suffix], &out, None) else { panic!() };
    assert_eq!(ways, ["agents", "office", "password", "mail"]);
}

#[test]
fn only_what_may_matter_is_found_out_of_a_name() {
    let routes = [
        Route { places: vec![Place::gate("cranes")], by: entry("x"), ..route("elsewhere", &["office"]) },
        Route { suffixes: vec!["agents.example".into()], by: entry("agent"), ..route("agents", &["agents"]) },
        Route { by: Some(ByName::Known { attribute: "user".into() }), ..route("known", &["office"]) },
        route("everybody", &["office"]),
        Route { by: Some(ByName::Known { attribute: "mail".into() }), ..route("never", &["office"]) },
    ];
    let q = questions(&routes, &here(), &Suffix::of(&routes, "anouk@AGENTS.example"));
    assert_eq!(
        q.entries,
        [("harbour".to_owned(), vec![Holds::Attribute { attribute: "kind".into(), values: vec!["agent".into()] }])].into()
    );
    assert_eq!(q.known, ["user"]);
    assert!(questions(&routes, &here(), &Suffix::None).entries.is_empty());
    assert!(questions(&routes[3..], &here(), &Suffix::None).is_empty());
}

#[test]
fn what_the_directory_says_of_a_name_decides() {
    let fitters = Holds::Group(vec!["cranes".into(), "fitters".into()]);
    let of_group =
        Route { by: Some(ByName::Entry { directory: "harbour".into(), holds: fitters }), ..route("fitters", &["mail"]) };
    assert_eq!(
        decided(choose(std::slice::from_ref(&of_group), &here(), Some(&typed("x", holds("y"))))).route.as_deref(),
        Some("fitters")
    );
    let routes = [
        Route { by: entry("Agent"), ..route("agents", &["agents"]) },
        Route { by: entry("staff"), ..route("staff", &["office"]) },
        route("others", &["mail"]),
    ];
    for (found, wanted) in [
        (holds("agent"), "agents"),
        (holds("STAFF"), "staff"),
        (holds("visitor"), "others"),
        (Some(NameAnswer::Found { attributes: BTreeMap::new(), groups: vec![] }), "others"),
        (Some(NameAnswer::Silent("no answer".into())), "others"),
        (None, "others"),
    ] {
        let d = decided(choose(&routes, &here(), Some(&typed("x", found.clone()))));
        assert_eq!((d.route.as_deref(), d.nobody), (Some(wanted), false), "{found:?}");
    }
}

#[test]
fn a_name_that_nobody_has_goes_along_some_route_that_names_lead_to() {
    let known = Some(ByName::Known { attribute: "user".into() });
    let routes = [
        Route { suffixes: vec!["ships.example".into()], ..route("ships", &["mail"]) },
        Route { by: entry("agent"), ..route("agents", &["agents"]) },
        Route { by: known, ..route("known", &["password"]) },
        route("others", &["office"]),
    ];
    let to = |number: u64, text: &str| {
        let d = decided(choose(&routes, &here(), Some(&Typed { number, ..typed(text, Some(NameAnswer::Nobody)) })));
        (d.route.unwrap(), d.nobody)
    };
    let all: Vec<_> = (0..6).map(|n| to(n, "x").0).collect();
    assert_eq!(all, ["agents", "known", "others", "agents", "known", "others"]);
    assert!(to(0, "x").1);
    // A suffix tells nothing of who has the name.
    assert_eq!(to(0, "x@ships.example"), ("ships".to_owned(), false));
    // Known by another way than the route's: somebody has the name.
    let elsewhere = Typed { known: vec![("user".into(), "office".into())], ..typed("x", Some(NameAnswer::Nobody)) };
    let d = decided(choose(&routes, &here(), Some(&elsewhere)));
    assert_eq!((d.route.as_deref(), d.nobody), (Some("others"), false));
}

proptest! {
    #[test]
    fn every_name_leads_to_ways_that_are_taken_there(
        name in ".{0,40}", number: u64, which in 0..5u8, platform in "windows|mobile|other",
    ) {
        let routes = [
            Route { suffixes: vec!["a".into(), String::new()], by: entry("x"), ..route("one", &["agents", "gone"]) },
            Route { devices: vec![platform], ..route("two", &["password"]) },
        ];
        let found = match which {
            0 => None,
            1 => Some(NameAnswer::Nobody),
            2 => Some(NameAnswer::Silent(String::new())),
            3 => holds("x"),
            _ => holds("y"),
        };
        let once = choose(&routes, &here(), Some(&Typed { number, ..typed(&name, found.clone()) }));
        let again = choose(&routes, &here(), Some(&Typed { number, ..typed(&name, found) }));
        prop_assert_eq!(&once, &again);
        let d = decided(once);
        prop_assert!(!d.ways.is_empty() && d.ways.iter().all(|w| OFFERED.contains(&w.as_str())));
        prop_assert!(d.passed.len() <= PASSED_MAX);
    }
}

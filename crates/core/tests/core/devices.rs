//! Devices: how checks are written, what they say of a device, and what a gate that asks of devices does.

use std::sync::Arc;

use chrono::Duration;
use passeur_core::circumstances::Circumstances;
use passeur_core::decide::{Decision, fold};
use passeur_core::device::{Device, Judged, Program, Shown, Standing};
use passeur_core::document::compile;
use passeur_core::evidence::Evidence;
use passeur_core::expect::{broken, described};
use passeur_core::rehearse::{Missing, Verdict, try_at};
use passeur_core::route::Platform;
use passeur_core::site::{Described, DeviceCheck, Place, Site, Truth};
use passeur_core::step::{Lang, Silent, Story, sentence};
use passeur_core::tunnel::TunnelFacts;

use crate::harbour::{SITE, changed, moment};

pub const AUTHORITY: &str = "MIIBizCCATGgAwIBAgIUJtqLFNWm/YFVrNb2W8lZeLcryIEwCgYIKoZIzj0EAwIwGjEYMBYGA1UEAwwPY3VzdG9tcy5leGFtcGxlMCAXDTI2MTEyNjExMjYyOVoYDzIxMjYxMTAyMTEyNjI5WjAaMRgwFgYDVQQDDA9jdXN0b21zLmV4YW1wbGUwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAATZHMbEl0dPWk3IN05WSsmwojY4JY6Y9u098RSDdNsbMXOIrQlVPPZvuWDZxreiJo7M9HOPdW25Vj+ASDCiDSa4o1MwUTAdBgNVHQ4EFgQUVLre0oo1EaTI8YtUx07Og0N5V9kwHwYDVR0jBBgwFoAUVLre0oo1EaTI8YtUx07Og0N5V9kwDwYDVR0TAQH/BAUwAwEB/zAKBggqhkjOPQQDAgNIADBFAiA7oHLqeG43GoEQU0WufZOgO4KH/kWxDVW0Iqyi7VLrUAIhAKX37nyvptiJLPXP+sfpsBJN5GahwhMm6+1aNdeCeoGj";

/// The harbour with a check of laptops by their certificates.
pub fn with_laptops() -> String {
    document(&certified(""), REQUIRE)
}

/// The harbour with a check of laptops, of which the gate of the berths asks something.
fn site_with(check: &str, gate: &str) -> Site {
    let (site, findings) = compile(&document(check, gate));
    assert!(findings.is_empty(), "{findings:#?}");
    site.unwrap()
}

fn document(check: &str, gate: &str) -> String {
    let at = "[[gate.rule]]\nname = \"visiting crews\"";
    assert!(SITE.contains(at));
    let site = changed(SITE.to_owned(), &[(at, &format!("{gate}\n{at}"))]);
    format!("{site}\n[[device-check]]\nname = \"laptop\"\ntitle = \"a laptop of the harbour\"\n{check}\n")
}

fn certified(more: &str) -> String {
    format!(
        "[device-check.certificate]\nauthorities = [\"{AUTHORITY}\"]\ncrl = \"http://pki.havrelune.example/devices.crl\"\n{more}"
    )
}

fn planner(site: &Site, device: Option<Device>) -> Evidence {
    let claims = [("preferred_username".to_owned(), vec!["benoit".to_owned()])].into();
    let who = Described { provider: "pilotage".into(), claims, groups: vec!["planners".into()], ..Described::default() };
    Evidence { device, ..described(site, &who, moment()).unwrap() }
}

/// Whether a planner comes in, with the words for them, and the story.
fn comes(site: &Site, device: Option<Device>, days: i64) -> (bool, Vec<String>, String) {
    let at = Circumstances::at(moment() + Duration::days(days));
    let mut story = Story::default();
    let decision = fold(site, site.gate("berths").unwrap(), &planner(site, device), &at, &mut story);
    let told = story.steps.iter().map(|s| sentence(s, Lang::En)).collect::<Vec<_>>().join("\n");
    match decision {
        Decision::Admitted(a) => (true, a.terms().map(|t| t.messages.clone()).unwrap_or_default(), told),
        Decision::Refused(r) => (false, r.words.into_iter().collect(), told),
    }
}

fn shown(check: &DeviceCheck, standing: Standing) -> Device {
    let of = check.certificate.as_ref().unwrap().digest().to_owned();
    let judged = vec![Judged { of, at: moment(), standing }];
    let until = Some(moment() + Duration::days(100));
    let certificate = Shown {
        subject: "CN=laptop-7".into(),
        serial: "07".into(),
        fingerprint: "ab".into(),
        until,
        chain: vec![],
        issuer: None,
        judged,
    };
    Device { certificate: Some(certificate), passes: None, ..Device::described(moment(), vec![]) }
}

const REQUIRE: &str = "[[gate.device]]\ncheck = \"laptop\"\nwords = \"Ask the harbour desk for a laptop.\"";

#[test]
fn a_certificate_passes_while_its_authority_stands_by_it_and_nothing_else_does() {
    for (more, unsure) in [("", Truth::Unknown), ("when-unreachable = \"accept\"", Truth::Yes)] {
        let site = site_with(&certified(more), REQUIRE);
        let check: &Arc<DeviceCheck> = &site.device_checks[0];
        let judge = |standing: Standing| check.judge(Some(&shown(check, standing)), moment());
        assert_eq!(judge(Standing::Good), Truth::Yes);
        assert_eq!(judge(Standing::Revoked), Truth::No);
        assert_eq!(judge(Standing::Bad { why: "none of these authorities issued it".into() }), Truth::No);
        assert_eq!(judge(Standing::Unsure { why: "no answer".into() }), unsure);
        let good = shown(check, Standing::Good);
        assert_eq!(check.judge(Some(&good), moment() + Duration::days(100)), Truth::No, "it ran out");
        assert_eq!(check.judge(None, moment()), Truth::Unknown);
        let bare = Device { certificate: None, ..good.clone() };
        assert_eq!(check.judge(Some(&bare), moment()), Truth::No);
        // What was found for other authorities, or before they could be asked, says nothing here.
        let mut other = good.clone();
        other.certificate.as_mut().unwrap().judged[0].of = "another".into();
        assert_eq!(check.judge(Some(&other), moment()), Truth::Unknown);
        assert!(comes(&site, Some(good.clone()), 0).0);
        for device in [None, Some(bare), Some(other), Some(shown(check, Standing::Revoked))] {
            let (enters, words, told) = comes(&site, device, 0);
            assert_eq!((enters, words), (false, vec!["Ask the harbour desk for a laptop.".to_owned()]), "{told}");
        }
        // The authority is asked again, and its end is an end.
        assert_eq!(check.next_edge(Some(&good), moment()), Some(moment() + Duration::minutes(15)));
    }
    let site = site_with(&certified(""), REQUIRE);
    // Whoever is refused for their device is looked at again where they sign in; a tunnel's machine is what its server tells.
    let tunnel = TunnelFacts::new("pilots", None, None);
    for (tunnel, looked_at_again) in [(None, true), (Some(&tunnel), false)] {
        let at = Circumstances { tunnel, ..Circumstances::at(moment()) };
        let decision = fold(&site, site.gate("berths").unwrap(), &planner(&site, None), &at, &mut Silent);
        let Decision::Refused(refusal) = decision else { panic!("{decision:?}") };
        assert_eq!(refusal.need.is_some_and(|n| n.device), looked_at_again);
    }
    let (_, _, told) = comes(&site, Some(shown(&site.device_checks[0], Standing::Revoked)), 0);
    assert!(told.contains("the certificate of CN=laptop-7 was revoked by its authority"), "{told}");
}

#[test]
fn advice_is_told_until_its_day_and_counts_from_then_on() {
    // The clock of the tests stands before that day.
    let day = (moment() + Duration::days(10)).format("%Y-%m-%d").to_string();
    let gate = format!("{REQUIRE}\nmode = \"advise\"\nfrom = \"{day}\"");
    let site = site_with("browsers = { firefox = \"128\", chrome = \"120\" }", &gate);
    let browser = |version: &str| {
        let agent = format!("Mozilla/5.0 (X11; Linux x86_64; rv:{version}) Gecko/20100101 Firefox/{version}");
        Some(Device::of_browser(moment(), &agent, |_| None))
    };
    let words = vec![format!("Ask the harbour desk for a laptop. ({day})")];
    assert_eq!(comes(&site, browser("128.0"), 0).1, Vec::<String>::new());
    let (enters, said, told) = comes(&site, browser("127.0"), 0);
    assert_eq!((enters, said), (true, words.clone()), "{told}");
    assert!(told.contains("it says it is Firefox 127.0 (wanted: Chrome ≥ 120, Firefox ≥ 128)"), "{told}");
    assert_eq!(comes(&site, None, 0).1, words, "what is not known is told as well");
    assert!(!comes(&site, browser("127.0"), 11).0);
    assert!(!comes(&site, None, 11).0);
    assert_eq!(comes(&site, browser("128.0"), 11), (true, vec![], comes(&site, browser("128.0"), 11).2));
    // Without a day it is said for ever.
    let site = site_with("browsers = { firefox = \"128\" }", &format!("{REQUIRE}\nmode = \"advise\""));
    assert_eq!(comes(&site, browser("127.0"), 400).1, ["Ask the harbour desk for a laptop."]);
}

#[test]
fn rules_give_more_on_a_device_that_passes_and_expectations_know_it() {
    let rule = "[[gate.rule]]\nname = \"moorings on laptops\"\nwhen = { all = [{ group = \"planners\" }, { device = \"laptop\" }] }\nroles = [\"moorings\"]\n";
    let expectation = |name: &str, device: &str, roles: &str| {
        let person = format!(
            "{{ provider = \"pilotage\", claims = {{ preferred_username = \"benoit\" }}, groups = [\"planners\"]{device} }}"
        );
        format!("[[expectation]]\nname = \"{name}\"\ngate = \"berths\"\nperson = {person}\nenter = true\nroles = [{roles}]\n")
    };
    let all = [
        expectation("passes", ", device = [\"laptop\"]", "\"planner\", \"moorings\""),
        expectation("does not", ", device = []", "\"planner\""),
        expectation("is not known", "", "\"planner\""),
    ];
    let check = format!("systems = {{ linux = \"any\" }}\n{}", all.concat());
    let site = site_with(&check, rule);
    assert_eq!(broken(&site, moment(), Lang::En), vec![], "{:#?}", site.expectations);
}

#[test]
fn a_past_sign_in_whose_device_nobody_looked_at_cannot_be_known() {
    let site = site_with(&certified(""), REQUIRE);
    let check = &site.device_checks[0];
    let at = Circumstances::at(moment());
    let tried = |site: &Site, device| try_at(site, &Place::gate("berths"), &planner(site, device), &at).verdict;
    let missing = Verdict::NotKnown(vec![Missing::Device("a laptop of the harbour".into())]);
    assert_eq!(tried(&site, None), missing);
    let mut other = shown(check, Standing::Good);
    other.certificate.as_mut().unwrap().judged.clear();
    assert_eq!(tried(&site, Some(other)), missing, "it was held against something else");
    assert!(matches!(tried(&site, Some(shown(check, Standing::Good))), Verdict::In(_)));
    assert_eq!(tried(&site, Some(shown(check, Standing::Revoked))), Verdict::Out);
    // Whom another rule refuses either way needs no device.
    let refusing = format!("{REQUIRE}\n[[gate.rule]]\nname = \"closed\"\nwhen = {{ everyone = true }}\nrefuse = \"Closed.\"\n");
    assert_eq!(tried(&site_with(&certified(""), &refusing), None), Verdict::Out);
}

#[test]
fn what_a_device_says_is_read_and_what_browsers_froze_is_not_believed() {
    let win = "Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/142.0.0.0 Safari/537.36";
    let mac =
        "Mozilla/5.0 (Macintosh; Intel Mac OS X 10_15_7) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.5 Safari/605.1.15";
    let ios = "Mozilla/5.0 (iPhone; CPU iPhone OS 18_5_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/18.5 Mobile/15E148 Safari/604.1";
    let android =
        "Mozilla/5.0 (Linux; Android 10; K) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/142.0.0.0 Mobile Safari/537.36";
    let fox = "Mozilla/5.0 (Android 15; Mobile; rv:140.0) Gecko/140.0 Firefox/140.0";
    for (agent, hint, words) in [
        (win, None, "Windows, Chrome 142.0.0.0"),
        (win, Some("\"15.0.0\""), "Windows 11, Chrome 142.0.0.0"),
        (win, Some("\"10.0.0\""), "Windows 10, Chrome 142.0.0.0"),
        (win, Some("\"0.3.0\""), "Windows, Chrome 142.0.0.0"),
        (mac, None, "macOS, Safari 18.5"),
        (ios, None, "iOS 18.5.1, Safari 18.5"),
        (android, None, "Android, Chrome 142.0.0.0"),
        (android, Some("\"14.0.0\""), "Android 14.0.0, Chrome 142.0.0.0"),
        (fox, None, "Android 15, Firefox 140.0"),
        (&format!("{win} Edg/142.0.1"), None, "Windows, Edge 142.0.1"),
        (&format!("{win} OPR/125.0"), None, "Windows, another browser 125.0"),
        ("curl/8.14.1", None, ""),
        ("", Some("\"\u{1b}[31m\""), ""),
        (
            "Firefox/999999999999999999999999999999999999999999999999999999999999999999999999",
            None,
            "Firefox 99999999999999999999999999999999999999999999999999999999999…",
        ),
    ] {
        let device =
            Device::of_browser(moment(), agent, |name| hint.filter(|_| name == "sec-ch-ua-platform-version").map(str::to_owned));
        assert_eq!(device.words(), words, "{agent}");
    }
    let client = |platform, os, version| Device::of_client(moment(), platform, os, version);
    assert_eq!(client(Some("win"), Some("10.0 64bit"), Some("2.6.14")).words(), "Windows 10.0, tunnel client 2.6.14");
    assert_eq!(client(Some("linux"), Some("6.12"), None).words(), "Linux, tunnel client");
    assert_eq!((client(None, None, None).platform, client(None, None, None).program), (Platform::Other, Some(Program::Client)));
}

#[test]
fn a_check_asks_a_browser_about_browsers_and_a_client_about_clients() {
    let site =
        site_with("systems = { windows = \"11\", linux = \"any\" }\nbrowsers = { firefox = \"128\" }\nclient = \"2.6\"", REQUIRE);
    let check = &site.device_checks[0];
    let judge = |device: &Device| check.judge(Some(device), moment());
    let fox = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0";
    assert_eq!(judge(&Device::of_browser(moment(), fox, |_| None)), Truth::Yes);
    assert_eq!(judge(&Device::of_client(moment(), Some("linux"), None, Some("2.6.1"))), Truth::Yes);
    assert_eq!(judge(&Device::of_client(moment(), Some("linux"), None, Some("2.5"))), Truth::No);
    assert_eq!(judge(&Device::of_client(moment(), Some("linux"), None, None)), Truth::Unknown);
    assert_eq!(judge(&Device::of_client(moment(), Some("android"), None, Some("2.6"))), Truth::No);
    let windows = fox.replace("X11; Linux x86_64", "Windows NT 10.0; Win64; x64");
    assert_eq!(judge(&Device::of_browser(moment(), &windows, |_| None)), Truth::Unknown, "which Windows it is was frozen");
}

#[test]
fn mistakes_are_told_where_they_stand() {
    for (check, gate, what) in [
        ("", REQUIRE, "the check asks for nothing"),
        ("systems = { plan9 = \"any\" }", REQUIRE, "nothing is known of \"plan9\""),
        ("systems = { windows = \"eleven\" }", REQUIRE, "\"eleven\" is no version"),
        (
            "browsers = { firefox = \"128\" }",
            "[[gate.device]]\ncheck = \"tablet\"\nwords = \"x\"",
            "there is no device check \"tablet\"",
        ),
        ("browsers = { firefox = \"128\" }", "[[gate.device]]\ncheck = \"laptop\"", "words is missing"),
        ("browsers = { firefox = \"128\" }", &format!("{REQUIRE}\nfrom = \"2027-01-01\""), "what is required counts from now on"),
        ("browsers = { firefox = \"128\" }", &format!("{REQUIRE}\nmode = \"advise\"\nfrom = \"soon\""), "\"soon\" is no date"),
        ("[device-check.certificate]", REQUIRE, "authorities is missing"),
        (&certified("ocsp = \"https://pki.havrelune.example/ocsp\""), REQUIRE, "is no address to ask"),
        (
            &format!("[device-check.certificate]\nauthorities = [\"{AUTHORITY}\"]"),
            REQUIRE,
            "nobody is asked whether a certificate was revoked",
        ),
    ] {
        let (_, findings) = compile(&document(check, gate));
        assert!(findings.iter().any(|f| f.what.contains(what)), "{what}: {findings:#?}");
    }
}

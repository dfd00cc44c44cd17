//! Which of several directories is asked for somebody, and what becomes of groups of the same name in two of them.

use passeur_core::decide::{Decision, fold};
use passeur_core::document::{Severity, compile};
use passeur_core::evidence::{Evidence, LookUpState};
use passeur_core::rehearse::{Missing, Verdict, try_at};
use passeur_core::site::{Place, Site};
use passeur_core::step::{Lang, Silent, Story, sentence};

use crate::harbour::{SITE, anouk, entry, look_up, now, read};

const CREWS: &str = "[[directory]]\nname = \"crews\"\nurl = \"ldaps://crews.example\"\nbase = \"dc=crews\"\nkey = \"uid\"\n\
    fed-by = \"mail\"\nsuffixes = [\"@ships.example\", \"@Crews.example\"]\ncut-suffix = true\n\
    [directory.attributes]\nship = \"ou\"\n[directory.groups]\nbase = \"ou=g,dc=crews\"\nprefix = \"CREWS\\\\\"\n\n";

/// The berth ledger asks the crews' directory for those whose mail says so, and the harbour's for everybody else.
fn text(more: &str) -> String {
    SITE.replacen("# The old applications", &format!("{CREWS}{more}# The old"), 1).replacen(
        "directory = \"harbour\"\ndelivery",
        "directory = [\"crews\", \"harbour\"]\ndelivery",
        1,
    )
}

fn with_mail(mail: Option<&str>) -> Evidence {
    let mut who = anouk();
    who.userinfo = passeur_core::evidence::UserInfo::NotAsked;
    if let Some(mail) = mail {
        who.claims.insert("email".into(), mail.into());
    }
    who
}

fn asked(site: &Site, who: &Evidence) -> (String, Result<String, String>) {
    let asking = site.gate("berths").unwrap().access.asking(site, who).unwrap();
    (asking.directory.name.clone(), asking.value)
}

#[test]
fn the_first_directory_that_is_fed_and_whose_suffix_fits_is_asked() {
    let site = read(&text(""));
    let value = |v: &str| Ok(v.to_owned());
    for (mail, expected) in [
        (Some("gwen@ships.example"), ("crews", value("gwen"))),
        (Some("gwen@SHIPS.example"), ("crews", value("gwen"))),
        (Some("gwen@crews.EXAMPLE"), ("crews", value("gwen"))),
        (Some("anouk@havrelune.example"), ("harbour", value("anouk"))),
        // Nothing before the suffix, or the suffix in the middle, is no such person.
        (Some("@ships.example"), ("harbour", value("anouk"))),
        (Some("gwen@ships.example.evil.example"), ("harbour", value("anouk"))),
        (None, ("harbour", value("anouk"))),
    ] {
        let (name, value) = asked(&site, &with_mail(mail));
        assert_eq!((name.as_str(), value), expected, "{mail:?}");
    }
    // One directory alone, with a suffix: the others are told that nobody is looked for.
    let only = read(&text("").replacen("[\"crews\", \"harbour\"]", "\"crews\"", 1));
    assert_eq!(asked(&only, &with_mail(Some("a@b.example"))), ("crews".to_owned(), Err("other-suffix".to_owned())));
    let mut story = Story::default();
    fold(&only, only.gate("berths").unwrap(), &with_mail(Some("a@b.example")), &now(), &mut story);
    let told: Vec<String> = story.steps.iter().map(|s| sentence(s, Lang::En)).collect();
    assert!(told.iter().any(|l| l.contains("its suffix belongs to no directory")), "{told:#?}");
}

#[test]
fn what_an_engineer_types_is_searched_as_for_somebody_of_that_name() {
    let site = read(&text(""));
    let crews = site.directory("crews").unwrap();
    for (typed, searched) in [
        ("gwen@ships.example", "gwen"),
        (" gwen@SHIPS.example ", "gwen"),
        ("gwen", "gwen"),
        ("gwen@else.example", "gwen@else.example"),
    ] {
        assert_eq!(crews.typed(typed), searched, "{typed}");
    }
    assert_eq!(site.directory("harbour").unwrap().typed("anouk@ships.example"), "anouk@ships.example");
}

#[test]
fn names_that_are_no_distinguished_names_are_mistakes() {
    let found = |from: &str, to: &str| {
        let text = text("").replacen(from, to, 1);
        assert_ne!(text, self::text(""), "{from}");
        let (_, findings) = compile(&text);
        findings.into_iter().filter(|f| f.severity == Severity::Error).map(|f| f.what).collect::<Vec<_>>()
    };
    let base = "base = \"dc=crews\"";
    for (account, wrong) in [
        ("cn=passeur,dc=crews", None),
        ("passeur@crews.example", None),
        ("CREWS\\\\passeur", None),
        (
            "cn=passeur,services,dc=crews",
            Some("account is no distinguished name: \"services\" is no attribute with a value, such as cn=passeur"),
        ),
        ("passeur", Some("account is no distinguished name: \"passeur\" is no attribute with a value, such as cn=passeur")),
        (
            "cn=passeur;dc=crews",
            Some("account is no distinguished name: the value of cn holds what must be written with a backslash (RFC 4514 2.4)"),
        ),
    ] {
        let with = format!("{base}\naccount = \"{account}\"\nsecret = \"crews\"");
        assert_eq!(found(base, &with), wrong.into_iter().collect::<Vec<_>>(), "{account}");
    }
    assert_eq!(
        found(base, "base = \"crews.example\"")[0],
        "base is no distinguished name: \"crews.example\" is no attribute with a value, such as cn=passeur"
    );
    assert_eq!(
        found("base = \"ou=g,dc=crews\"", "base = \"ou=g,dc\"")[0],
        "base is no distinguished name: \"dc\" is no attribute with a value, such as cn=passeur"
    );
}

#[test]
fn what_feeds_a_directory_and_is_not_known_is_not_passed_over() {
    let site = read(&text(""));
    let mut who = with_mail(None);
    who.userinfo = passeur_core::evidence::UserInfo::Failed { how: "status 503".into() };
    let (name, value) = asked(&site, &who);
    assert_eq!((name.as_str(), value), ("crews", Err("look-up-failed".to_owned())));
    assert!(matches!(fold(&site, site.gate("berths").unwrap(), &who, &now(), &mut Silent), Decision::Refused(_)));
}

#[test]
fn groups_of_two_directories_are_told_apart_by_what_stands_before_their_names() {
    let rule = "[[gate.rule]]\nname = \"crews\"\nwhen = { group = \"crews\\\\pilots\" }\nenter = true\nroles = [\"crew\"]\n\n[[gate.rule]]\nname = \"berth access\"";
    let site = read(&text("").replacen("[[gate.rule]]\nname = \"berth access\"", rule, 1));
    let mut gwen = with_mail(Some("gwen@ships.example"));
    let mut found = look_up(LookUpState::Answered { entry: entry(&[("pilots", None), ("berth-access", Some("pilots"))]) });
    (found.directory, found.value) = ("crews".into(), Some("gwen".into()));
    gwen.look_ups = vec![found];
    let Decision::Admitted(a) = fold(&site, site.gate("berths").unwrap(), &gwen, &now(), &mut Silent) else { panic!("refused") };
    // The harbour's own groups of the same names give nothing to the crews.
    assert_eq!(a.roles(), ["crew"]);
    let groups = a.headers().iter().find(|h| h.name == "X-Harbour-Groups").unwrap();
    assert_eq!(groups.value, b"CREWS\\berth-access,CREWS\\pilots");
    let mut story = Story::default();
    fold(&site, site.gate("berths").unwrap(), &gwen, &now(), &mut story);
    let told: Vec<String> = story.steps.iter().map(|s| sentence(s, Lang::En)).collect();
    insta::assert_snapshot!(
        told.into_iter().filter(|l| l.contains("irector") || l.contains("lists")).collect::<Vec<_>>().join("\n")
    );
}

#[test]
fn a_look_up_for_another_value_or_by_another_key_answers_nothing() {
    let site = read(&text(""));
    let berths = site.gate("berths").unwrap();
    // Signed in while another directory, key or value counted.
    let mut who = with_mail(Some("anouk@havrelune.example"));
    assert!(matches!(try_at(&site, &Place::gate("berths"), &who, &now()).verdict, Verdict::In(_)));
    for change in [
        |e: &mut Evidence| e.look_ups[0].value = Some("benoit".into()),
        |e: &mut Evidence| {
            e.look_ups[0].key = "mail".into();
        },
    ] {
        let mut other = who.clone();
        change(&mut other);
        assert!(matches!(fold(&site, berths, &other, &now(), &mut Silent), Decision::Refused(_)));
        let missing = Verdict::NotKnown(vec![Missing::Directory("harbour".into())]);
        assert_eq!(try_at(&site, &Place::gate("berths"), &other, &now()).verdict, missing);
    }
    who.look_ups[0].value = None;
    assert!(matches!(try_at(&site, &Place::gate("berths"), &who, &now()).verdict, Verdict::In(_)), "described by hand");
}

#[test]
fn a_server_that_was_passed_over_is_told() {
    let site = read(&text(""));
    let mut who = with_mail(None);
    who.look_ups[0].tried = vec![("ldaps://one.example".into(), "no answer within 3 s".into())];
    let mut story = Story::default();
    fold(&site, site.gate("berths").unwrap(), &who, &now(), &mut story);
    let told: Vec<String> = story.steps.iter().map(|s| sentence(s, Lang::Fr)).collect();
    assert!(told.iter().any(|l| l.contains("ldaps://one.example") && l.contains("un autre a été interrogé")), "{told:#?}");
    let plain = with_mail(None);
    assert_eq!(plain.facts(), who.facts(), "who answered is no fact of the person");
}

#[test]
fn mistakes_in_directories_are_named() {
    let change = |old: &str, new: &str| {
        let all = text("");
        assert!(all.contains(old), "{old}");
        all.replacen(old, new, 1)
    };
    let url = "url = \"ldaps://crews.example\"";
    let groups = "base = \"ou=g,dc=crews\"";
    for (text, expected) in [
        (change(url, "urls = []"), "names 0 servers"),
        (change(url, "urls = [\"ldaps://a.example\", \"ldap://b.example\"]"), "some are not"),
        (change(url, "urls = [\"ldaps://a.example\"]\nurl = \"ldaps://a.example\""), "side by side"),
        (change(url, "url = \"ldaps://a.example/dc=x\""), "is not an LDAP address"),
        (change(url, "url = \"ldap://a.example\""), "clear text"),
        (change(url, &format!("{url}\nreferrals = \"follow\"\nreferral-servers = [\"ldap://b.example\"]")), "not protected like"),
        (change(groups, &format!("{groups}\nmember = \"member\"\nmember-of = \"memberOf\"")), "side by side"),
        (change(groups, &format!("{groups}\nmember-of = \"memberOf\"\nchain = true")), "are not asked for"),
        (change(groups, &format!("{groups}\nmember-key = \"a b\"")), "no LDAP attribute name"),
        (change("suffixes = [\"@ships.example\", \"@Crews.example\"]", "suffixes = []"), "suffixes is empty"),
        (change("[\"crews\", \"harbour\"]", "[\"crews\", \"crews\"]"), "stands twice"),
        (change("[\"crews\", \"harbour\"]", "[\"crews\", \"harbor\"]"), "there is no directory \"harbor\""),
        (change("ship = \"ou\"", "ship = \"o u\""), "no LDAP attribute name"),
    ] {
        let findings = compile(&text).1;
        let errors: Vec<_> = findings.iter().filter(|f| f.severity == Severity::Error).collect();
        assert!(errors.iter().any(|f| f.what.contains(expected)), "{expected}: {errors:#?}");
    }
}

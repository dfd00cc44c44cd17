use std::collections::HashMap;

use passeur_protocols::kerberos::Config;
use passeur_protocols::kerberos::config::{Include, Wrong, boolean, is_included};
use proptest::prelude::*;

fn read(files: &[(&str, &str)]) -> Config {
    let all: HashMap<&str, &str> = files.iter().copied().collect();
    let (name, text) = files[0];
    Config::read(vec![(name.to_owned(), text.to_owned())], &mut |wanted| match wanted {
        Include::File(f) => all.get(f).map(|t| vec![(f.to_owned(), (*t).to_owned())]).ok_or_else(|| "not there".to_owned()),
        Include::Folder(d) => {
            let mut of: Vec<(String, String)> = all
                .iter()
                .filter(|(n, _)| n.strip_prefix(d).and_then(|r| r.strip_prefix('/')).is_some_and(is_included))
                .map(|(n, t)| ((*n).to_owned(), (*t).to_owned()))
                .collect();
            of.sort();
            Ok(of)
        }
    })
}

const USUAL: &str = "\
# a comment
[libdefaults]
  default_realm = HAVRELUNE.EXAMPLE
  dns_lookup_kdc = no
  default_ccache_name = \"FILE:/tmp/of \\\"%{uid}\\\"\"
[realms]
  HAVRELUNE.EXAMPLE = {
    kdc = kdc1.havrelune.example
    kdc = kdc2.havrelune.example:88
    auth_to_local_names = {
      anouk = anouk.local
    }
  }
[domain_realm]
  .havrelune.example = HAVRELUNE.EXAMPLE
  agents.havrelune.example = AGENTS.EXAMPLE
";

#[test]
fn settings_are_read_with_the_place_they_stand_at() {
    let c = read(&[("krb5.conf", USUAL)]);
    assert!(c.troubles.is_empty(), "{:?}", c.troubles);
    assert_eq!(c.default_realm(), Some("HAVRELUNE.EXAMPLE"));
    assert_eq!(c.of_defaults("default_realm").unwrap().place.to_string(), "krb5.conf:3");
    assert_eq!(c.of_defaults("default_ccache_name").unwrap().value, "FILE:/tmp/of \"%{uid}\"");
    assert!(!c.flag("dns_lookup_kdc", true) && c.flag("rdns", true));
    assert_eq!(c.realms(), ["HAVRELUNE.EXAMPLE"]);
    assert_eq!(c.kdcs("HAVRELUNE.EXAMPLE"), ["kdc1.havrelune.example", "kdc2.havrelune.example:88"]);
    assert_eq!(c.one(&["realms", "HAVRELUNE.EXAMPLE", "auth_to_local_names", "anouk"]).unwrap().value, "anouk.local");
    let realm = |host: &str| c.realm_of(host).map(|s| s.value.as_str());
    assert_eq!(realm("PASS.havrelune.example"), Some("HAVRELUNE.EXAMPLE"));
    assert_eq!(realm("a.b.havrelune.example"), Some("HAVRELUNE.EXAMPLE"));
    assert_eq!(realm("agents.havrelune.example"), Some("AGENTS.EXAMPLE"));
    // A name of the domain itself is no host in it, and what only ends alike is another.
    assert_eq!(realm("nothavrelune.example"), None);
    assert_eq!(realm(""), None);
}

#[test]
fn what_is_included_counts_where_it_is_included() {
    let c = read(&[
        ("krb5.conf", "includedir /etc/krb5.conf.d/\ninclude /etc/more\n[libdefaults]\nrdns = true\nforwardable = true\n"),
        ("/etc/krb5.conf.d//10-site", "[libdefaults]\nrdns = false\n"),
        ("/etc/krb5.conf.d//20.conf", "[libdefaults]\nforwardable = false\n"),
        ("/etc/krb5.conf.d//30.bak~", "[libdefaults]\ndefault_realm = WRONG\n"),
        ("/etc/more", "[libdefaults]\ndefault_realm = RIGHT\n"),
    ]);
    assert_eq!(c.default_realm(), Some("RIGHT"));
    assert!(!c.flag("rdns", true) && !c.flag("forwardable", true), "the first counts");
    let dead: Vec<String> = c.dead().into_iter().map(|(d, f)| format!("{} {} {}", d.path[1], d.place, f.place)).collect();
    assert_eq!(dead, ["rdns krb5.conf:4 /etc/krb5.conf.d//10-site:2", "forwardable krb5.conf:5 /etc/krb5.conf.d//20.conf:2"]);
    for (name, wanted) in [
        ("10-site", true),
        ("a_b", true),
        ("x.conf", true),
        ("x.y.conf", true),
        (".conf", false),
        ("x~", false),
        ("x.rpmsave", false),
        ("", false),
    ] {
        assert_eq!(is_included(name), wanted, "{name}");
    }
}

#[test]
fn what_is_final_is_not_added_to_by_later_files() {
    let c = Config::read(
        vec![
            ("a".into(), "[libdefaults]\nrdns* = false\n[realms]*\nR = {\nkdc = one\n}\n[domain_realm]\n.x = R\n".into()),
            ("b".into(), "[libdefaults]\nrdns = true\n[realms]\nR = {\nkdc = two\n}\n[domain_realm]\n.y = R\n".into()),
        ],
        &mut |_| Err("none".into()),
    );
    assert_eq!(c.kdcs("R"), ["one"]);
    assert_eq!(c.all(&["libdefaults", "rdns"]).len(), 1);
    assert!(c.realm_of("a.y").is_some());
}

#[test]
fn lines_that_are_not_as_they_should_be_are_told_with_their_place() {
    for (text, line, what) in [
        ("default_realm = R\n", 1, Wrong::NoSection),
        ("[libdefaults]\ndefault_realm R\n", 2, Wrong::NotUnderstood),
        ("[libdefaults\n", 1, Wrong::NotUnderstood),
        ("[]\n", 1, Wrong::NotUnderstood),
        ("[libdefaults]\n = R\n", 2, Wrong::NotUnderstood),
        ("[libdefaults]\na b = R\n", 2, Wrong::NotUnderstood),
        ("[libdefaults]\nx = \"open\n", 2, Wrong::Quotes),
        ("[realms]\nR = {\nkdc = a\n", 2, Wrong::Open),
        ("[realms]\nR = {\nkdc = a\n[libdefaults]\n", 2, Wrong::Open),
        ("[realms]\n}\n", 2, Wrong::Closed),
        ("include /nowhere\n", 1, Wrong::Include("/nowhere".into(), "not there".into())),
    ] {
        let c = read(&[("f", text)]);
        assert_eq!(c.troubles.len(), 1, "{text:?}: {:?}", c.troubles);
        assert_eq!((c.troubles[0].place.line, &c.troubles[0].what), (line, &what), "{text:?}");
    }
    let round = read(&[("f", "include f\n[libdefaults]\ndefault_realm = R\n")]);
    assert!(round.troubles.iter().any(|t| t.what == Wrong::Endless));
    assert_eq!(round.default_realm(), Some("R"));
    let deep = format!("[a]\n{}", "b = {\n".repeat(100));
    assert!(read(&[("f", &deep)]).troubles.iter().any(|t| t.what == Wrong::TooMuch));
}

#[test]
fn misspelt_settings_name_the_one_that_was_meant() {
    let c = read(&[(
        "f",
        "[libdefaults]\ndefault-realm = A\nforwardabel = 1\nrnds = 0\nrdns = 0\ndns_lookup_kd = no\nharbour = 1\n",
    )]);
    let all: Vec<_> = c.unknown().into_iter().map(|(s, meant)| (s.path[1].as_str(), meant)).collect();
    assert_eq!(
        all,
        [
            ("default-realm", Some("default_realm")),
            ("forwardabel", None),
            ("rnds", None),
            ("dns_lookup_kd", Some("dns_lookup_kdc")),
            ("harbour", None)
        ]
    );
}

#[test]
fn enctypes_are_read_as_the_library_reads_them() {
    let c = read(&[("f", "[libdefaults]\npermitted_enctypes = aes256-cts, rc4 -des3 aes128-sha2 nonsense\n")]);
    assert_eq!(c.enctypes("permitted_enctypes"), Some((vec![18, 23, 19], vec!["nonsense".to_owned()])));
    assert_eq!(c.enctypes("default_tgs_enctypes"), None);
    for (word, wanted) in [
        ("yes", Some(true)),
        ("ON", Some(true)),
        ("t", Some(true)),
        ("nil", Some(false)),
        ("0", Some(false)),
        ("maybe", None),
        ("", None),
    ] {
        assert_eq!(boolean(word), wanted, "{word}");
    }
}

proptest! {
    #[test]
    fn any_text_is_read_without_a_panic(text in "([\\[\\]{}=*#\"\\\\a \n]|include f\n|includedir d\n){0,200}") {
        let c = read(&[("f", &text)]);
        let _ = (c.dead(), c.unknown(), c.realm_of(&text), c.enctypes(&text));
    }
}

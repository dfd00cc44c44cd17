use passeur_protocols::kerberos::local::{NoAccount, account};
use passeur_protocols::kerberos::{Config, Principal};
use proptest::prelude::*;

fn config(of_realm: &str) -> Config {
    let text = format!("[libdefaults]\ndefault_realm = R\n[realms]\n{of_realm}");
    Config::read(vec![("krb5.conf".into(), text)], &mut |_| Err("none".into()))
}

fn of(rules: &str, principal: &str) -> Result<String, String> {
    let found = account(&config(rules), &Principal::parse(principal).unwrap());
    found.map(|(name, _)| name).map_err(|e| e.to_string())
}

/// As MIT's own library answers: each line was tried with it.
#[test]
fn a_principal_is_the_account_that_the_library_says() {
    for (rules, principal, wanted) in [
        ("", "anouk@R", Some("anouk")),
        ("", "anouk/admin@R", None),
        ("", "anouk@S", None),
        ("R = {\nauth_to_local_names = {\nanouk = a1\n}\n}\n", "anouk@R", Some("a1")),
        ("R = {\nauth_to_local_names = {\nanouk@R = a1\n}\n}\n", "anouk@R", Some("anouk")),
        ("R = {\nauth_to_local_names = {\nmarin@S = a1\n}\n}\n", "marin@S", None),
        // Names given one by one leave the realm out of it.
        ("R = {\nauth_to_local_names = {\nmarin = a1\n}\n}\n", "marin@S", Some("a1")),
        ("S = {\nauth_to_local_names = {\nmarin = a1\n}\n}\n", "marin@S", None),
        ("R = {\nauth_to_local = RULE:[1:$1@$0](^.*@S$)s/@.*//\n auth_to_local = DEFAULT\n}\n", "marin@S", Some("marin")),
        ("R = {\nauth_to_local = RULE:[1:$1@$0](.*@S)s/@.*//\n}\n", "anouk@R", None),
        (
            "R = {\nauth_to_local = RULE:[2:$1;$2](^.*;admin$)s/;admin$//\n auth_to_local = DEFAULT\n}\n",
            "anouk/admin@R",
            Some("anouk"),
        ),
        ("R = {\nauth_to_local = RULE:[1:x$1]\n}\n", "anouk@R", Some("xanouk")),
        ("R = {\nauth_to_local = RULE:[1:$1](an)\n}\n", "anouk@R", None),
        ("R = {\nauth_to_local = RULE:[1:$1](an.*)s/n/N/g\n}\n", "anoun@R", Some("aNouN")),
        ("R = {\nauth_to_local = RULE:[1:$1]s/a/b/s/b/c/\n}\n", "anouk@R", Some("cnouk")),
        ("R = {\nauth_to_local = NONSENSE\nauth_to_local = DEFAULT\n}\n", "anouk@R", None),
    ] {
        assert_eq!(of(rules, principal).ok().as_deref(), wanted, "{rules} {principal}");
    }
}

#[test]
fn what_cannot_be_read_is_told_with_its_line() {
    for rule in [
        "RULE:",
        "RULE:[x:$1]",
        "RULE:[1:$9]",
        "RULE:[1:$]",
        "RULE:[1:$1](",
        "RULE:[1:$1]((",
        "RULE:[1:$1]s/a",
        "RULE:[1:$1](*)",
        "RULE:[1:$1]x",
        "default",
    ] {
        let text = format!("R = {{\nauth_to_local = {rule}\n}}\n");
        let found = account(&config(&text), &Principal::parse("anouk@R").unwrap());
        assert!(matches!(&found, Err(NoAccount::BadRule(p)) if p.line == 5), "{rule}: {found:?}");
    }
    let none = Config::read(vec![("f".into(), "[realms]\n".into())], &mut |_| Err("none".into()));
    assert_eq!(account(&none, &Principal::parse("anouk@R").unwrap()), Err(NoAccount::NoDefaultRealm));
}

proptest! {
    #[test]
    fn any_rule_is_read_without_a_panic(rule in "RULE:\\[[0-9]:[$a-z0-9@;]{0,8}\\]([()a-z.*|\\\\]{0,12})(s/[a-z.]{0,4}/[a-z]{0,4}/g?){0,2}") {
        let _ = of(&format!("R = {{\nauth_to_local = {rule}\n}}\n"), "anouk/admin@R");
        let _ = of(&format!("R = {{\nauth_to_local = {rule}\n}}\n"), "anouk@R");
    }
}

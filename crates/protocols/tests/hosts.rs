//! Files of hosts: patterns, blocks, stacks, and whatever else somebody may have written.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

use passeur_protocols::pam::{Control, Stack};
use passeur_protocols::ssh::pattern::matches_address;
use passeur_protocols::ssh::{Lines, Login, matches};
use proptest::prelude::*;

#[test]
fn patterns_mean_what_they_say() {
    for (list, text, wanted) in [
        ("*", "", true),
        ("anouk", "anouk", true),
        ("anouk", "Anouk", false),
        ("an*k", "anouk", true),
        ("an*k", "anoukx", false),
        ("a?ouk", "anouk", true),
        ("a?ouk", "aouk", false),
        ("*.example,!pier.example", "bollard.example", true),
        ("!pier.example,*.example", "pier.example", false),
        ("!pier.example", "bollard.example", false),
        ("", "anouk", false),
        ("**a**", "xxaxx", true),
    ] {
        assert_eq!(matches(list, text), wanted, "{list} {text}");
    }
    for (list, address, wanted) in [
        ("10.20.0.0/16", "10.20.1.5", Some(true)),
        ("10.20.0.0/16", "10.21.1.5", Some(false)),
        ("0.0.0.0/0", "192.0.2.1", Some(true)),
        ("10.20.1.5/32", "10.20.1.5", Some(true)),
        ("10.20.0.0/33", "10.20.1.5", Some(false)),
        ("2001:db8::/32", "2001:db8::1", Some(true)),
        ("::/0", "10.20.1.5", Some(false)),
        ("10.20.*,!10.20.1.5", "10.20.1.5", Some(false)),
        ("10.20.*", "bollard", None),
    ] {
        assert_eq!(matches_address(list, address), wanted, "{list} {address}");
    }
    // No pattern takes longer than both lengths multiplied.
    assert!(!matches(&"*a".repeat(500), &"b".repeat(5_000)));
}

#[test]
fn a_block_that_cannot_be_judged_does_not_count() {
    let text = "GSSAPIAuthentication no\nMatch exec \"true\"\nGSSAPIAuthentication yes\nMatch LocalPort 22\nGSSAPIAuthentication yes\nMatch Group pilots,!crews\nGSSAPIAuthentication yes\n";
    let lines = Lines::read(&[("f".into(), text.into())], &mut |_| vec![]);
    let of = |groups: &[&str]| {
        let asked = Login { user: "anouk".into(), groups: groups.iter().map(|g| (*g).to_owned()).collect(), ..Login::default() };
        lines.of_server("gssapiauthentication", &asked).unwrap().item.value().to_owned()
    };
    assert_eq!((of(&[]), of(&["pilots"]), of(&["pilots", "crews"])), ("no".into(), "yes".into(), "no".into()));
    let dead = Lines::read(&[("f".into(), "UsePAM yes\nUsePAM yes\nUsePAM no\n".into())], &mut |_| vec![]);
    assert_eq!(dead.dead(&["usepam"]).iter().map(|(d, f)| (d.place.line, f.place.line)).collect::<Vec<_>>(), [(3, 1)]);
}

fn stack(files: &[(&str, &str)]) -> Stack {
    Stack::read("sshd", &mut |name| files.iter().find(|(n, _)| *n == name).map(|(_, t)| (*t).to_owned()))
}

#[test]
fn stacks_are_read_in_order_with_what_they_include() {
    let s = stack(&[
        ("sshd", "# of the server\n@include common\n-session optional /lib/security/pam_krb5.so use_it\naccount include one\n"),
        ("common", "auth [success=1 default=ignore] pam_krb5.so minimum_uid=1000\nauth requisite pam_deny.so\n"),
        ("one", "account required pam_unix.so\nsession required pam_other.so\n"),
    ]);
    assert!(s.troubles.is_empty(), "{:?}", s.troubles);
    let all: Vec<String> = s.entries.iter().map(|e| format!("{} {} {}", e.kind, e.module, e.place)).collect();
    assert_eq!(
        all,
        [
            "auth pam_krb5.so /etc/pam.d/common:1",
            "auth pam_deny.so /etc/pam.d/common:2",
            "session pam_krb5.so /etc/pam.d/sshd:3",
            "account pam_unix.so /etc/pam.d/one:1"
        ]
    );
    assert!(s.entries[2].may_lack && s.entries[0].arguments == ["minimum_uid=1000"]);
    for (control, ends, counts) in [
        (Control::Required, false, true),
        (Control::Requisite, true, true),
        (Control::Sufficient, false, false),
        (Control::Optional, false, false),
        (Control::Each(vec![("success".into(), "ok".into()), ("default".into(), "die".into())]), true, true),
        (Control::Each(vec![("success".into(), "2".into()), ("default".into(), "ignore".into())]), false, false),
        (Control::Each(vec![("auth_err".into(), "die".into()), ("default".into(), "ignore".into())]), true, false),
    ] {
        assert_eq!((control.ends_on_refusal(), control.counts_refusal()), (ends, counts), "{control:?}");
    }
    for (text, words) in [
        ("auth maybe pam_unix.so\n", "no line of a stack"),
        ("auth [success=1 pam_unix.so\n", "no line of a stack"),
        ("auth required\n", "no line of a stack"),
        ("@include nowhere\n", "nowhere is not there"),
        ("@include sshd\n", "without an end"),
    ] {
        let s = stack(&[("sshd", text)]);
        assert!(s.troubles.iter().any(|(_, w)| w.contains(words)), "{text}: {:?}", s.troubles);
    }
    assert_eq!(stack(&[]).troubles.len(), 1);
}

proptest! {
    #[test]
    fn any_text_is_read_without_a_panic(text in "((Match|Host|Include|auth|@include|\"|\\[|\\]|=|#|!|\\*| |\n|[a-z.]{1,4}){1}){0,60}") {
        let lines = Lines::read(&[("f".into(), text.clone())], &mut |_| vec![("g".into(), "Match all\nx y".into())]);
        let asked = Login { user: "a".into(), host: Some("b".into()), ..Login::default() };
        let _ = (lines.of_server("x", &asked), lines.of_client("x", &asked), lines.dead(&["x"]));
        let _ = Stack::read("sshd", &mut |n| (n == "sshd").then(|| text.clone()));
    }
}

#[test]
fn files_that_include_each_other_are_read_so_often_and_no_more() {
    let mut opened = 0;
    let circle = "Include *\nInclude *\nInclude *\n";
    let lines = Lines::read(&[("f".into(), circle.into())], &mut |_| {
        opened += 1;
        vec![("f".into(), circle.into()), ("g".into(), circle.into())]
    });
    assert!(lines.files.len() < 600 && opened <= 1_000, "{} {opened}", lines.files.len());
    assert_eq!(lines.troubles.len(), 2, "{:?}", lines.troubles);
    // Nor are lines that hold nothing.
    let many = "\n".repeat(100_000) + "UsePAM yes\n";
    let lines = Lines::read(&[("f".into(), many)], &mut |_| vec![]);
    assert_eq!((lines.items.len(), lines.troubles.len()), (0, 1));
}

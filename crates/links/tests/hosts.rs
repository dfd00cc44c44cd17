//! What stands in the way at a host, provoked by folders of files: one for each finding, laid over one in which nothing is wrong.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

use std::collections::BTreeSet;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};

use passeur_core::finding::Harm;
use passeur_core::host::{ALL, Finding, change, examine, verdict};
use passeur_core::step::Lang;
use passeur_links::files::Root;
use passeur_links::host::{Look, Principal, gather};

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/hosts")
}

/// Words that are no file of the host: how the folder is laid over the sound one.
const ORDERS: &[&str] = &["REMOVE", "LINKS", "MODES", "ARGS", "EXPECT"];

fn lay(from: &Path, to: &Path) {
    for entry in std::fs::read_dir(from).unwrap().map(Result::unwrap) {
        let name = entry.file_name().into_string().unwrap();
        let onto = to.join(&name);
        if entry.file_type().unwrap().is_dir() {
            std::fs::create_dir_all(&onto).unwrap();
            lay(&entry.path(), &onto);
        } else if !ORDERS.contains(&name.as_str()) {
            std::fs::copy(entry.path(), &onto).unwrap();
        }
    }
}

fn mode(path: &Path, mode: u32) {
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
}

fn order(case: &Path, name: &str) -> Vec<String> {
    std::fs::read_to_string(case.join(name)).unwrap_or_default().lines().map(str::to_owned).collect()
}

/// A host as a case has it.
fn host(case: &str) -> tempfile::TempDir {
    let (dir, of) = (tempfile::tempdir().unwrap(), folder().join(case));
    let to = dir.path();
    lay(&folder().join("sound"), to);
    lay(&of, to);
    for gone in order(&of, "REMOVE") {
        std::fs::remove_file(to.join(gone)).unwrap();
    }
    for link in order(&of, "LINKS") {
        let (from, target) = link.split_once(' ').unwrap();
        symlink(target, to.join(from)).unwrap();
    }
    if to.join("etc/krb5.keytab").exists() {
        mode(&to.join("etc/krb5.keytab"), 0o600);
    }
    for line in order(&of, "MODES") {
        let (bits, path) = line.split_once(' ').unwrap();
        mode(&to.join(path), u32::from_str_radix(bits, 8).unwrap());
    }
    dir
}

fn look(case: &str, at: &Path) -> Vec<Finding> {
    let args = order(&folder().join(case), "ARGS");
    let of = |name: &str| args.iter().find_map(|a| a.strip_prefix(&format!("{name}=")).map(str::to_owned));
    let facts = gather(&Look {
        root: Root::folder(at),
        person: Principal::parse(&of("person").unwrap_or("anouk@HAVRELUNE.EXAMPLE".into())).unwrap(),
        user: of("user"),
        from: of("from"),
        to: of("to"),
        krb5_config: None,
        keytab: None,
        sshd_config: None,
        ssh_config: None,
    });
    examine(&facts)
}

fn codes(all: &[Finding]) -> Vec<&'static str> {
    all.iter().map(|f| f.code().spec().code).collect()
}

#[test]
fn nothing_stands_in_the_way_at_a_sound_host() {
    let dir = host("sound");
    let all = look("sound", dir.path());
    assert!(all.is_empty(), "{all:#?}");
    assert_eq!(verdict(&all), passeur_core::host::Verdict { comes_in: true, goes_on: true });
}

/// What each folder provokes, in order, and that what is advised takes it away and brings nothing new.
#[test]
fn each_folder_provokes_its_finding_and_its_advice_mends_it() {
    let mut told = vec![];
    for code in ALL {
        let name = code.spec().code;
        assert!(folder().join(name).is_dir(), "no folder provokes {name}");
        let dir = host(name);
        let all = look(name, dir.path());
        let expected = order(&folder().join(name), "EXPECT").first().cloned().unwrap_or_else(|| name.to_owned());
        assert_eq!(codes(&all).join(" "), expected, "{name}: {all:#?}");
        let mine = all.iter().find(|f| f.code() == *code).unwrap();
        let broken = all.iter().any(|f| f.code().spec().harm == Harm::Broken);
        assert_eq!(verdict(&all).goes_on, !broken, "{name}");
        for lang in [Lang::En, Lang::Fr] {
            for words in [mine.found.what(lang), mine.found.seen(lang), mine.found.remedy(lang)] {
                assert!(!words.contains(['{', '}', '—']), "{name}: {words}");
            }
        }
        let line = mine.at.as_ref().map(|l| format!("\n  {l}: {}", l.text.trim())).unwrap_or_default();
        let change = mine.change.as_ref().map(|c| format!("\n  {} := {:?}", c.file(), c.written())).unwrap_or_default();
        told.push(format!("{name}\n  {}\n  → {}{line}{change}", mine.found.what(Lang::En), mine.found.remedy(Lang::En)));
        let Some(advised) = mine.change.clone() else { continue };
        for (file, changes) in change::by_file([advised]) {
            let path = dir.path().join(file.trim_start_matches('/'));
            let text = std::fs::read_to_string(&path).unwrap_or_default();
            std::fs::write(&path, change::apply(&text, &changes)).unwrap();
        }
        let after = look(name, dir.path());
        assert!(!codes(&after).contains(&name), "{name} stays: {after:#?}");
        let before: BTreeSet<_> = codes(&all).into_iter().collect();
        assert!(codes(&after).iter().all(|c| before.contains(c)), "{name} brings {:?}", codes(&after));
    }
    insta::assert_snapshot!(told.join("\n\n"));
}

/// A machine with next to nothing on it: what is missing is said once, and nothing is proposed that would have to be guessed.
#[test]
fn where_nothing_is_nothing_is_guessed() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::create_dir(dir.path().join("etc")).unwrap();
    std::fs::write(dir.path().join("etc/passwd"), "anouk:x:1000:1000::/home/anouk:/bin/sh\n").unwrap();
    std::fs::write(dir.path().join("etc/hostname"), "winch\n").unwrap();
    let all = look("sound", dir.path());
    assert_eq!(codes(&all), ["config.missing", "keytab.missing", "sshd.missing", "account.nobody", "onward.missing"]);
    assert!(all.iter().all(|f| f.change.is_none()), "{all:#?}");
    assert!(all[1].found.remedy(Lang::En).contains("addprinc -randkey host/NAME.DOMAIN,"), "{}", all[1].found.remedy(Lang::En));
    // A client is there; which hosts may have the ticket is for somebody to say.
    std::fs::create_dir(dir.path().join("etc/ssh")).unwrap();
    std::fs::write(dir.path().join("etc/ssh/ssh_config"), "Host *\n").unwrap();
    let all = look("sound", dir.path());
    assert!(codes(&all).ends_with(&["onward.no-gssapi", "onward.no-delegation"]), "{:?}", codes(&all));
    assert!(all.iter().all(|f| f.change.is_none()), "{all:#?}");
}

/// A ticket goes along to the host that was named, and to no other of its domain.
#[test]
fn delegation_is_never_wider_than_what_was_asked_about() {
    let dir = host("onward.no-delegation");
    let all = look("onward.no-delegation", dir.path());
    let written = all[0].change.as_ref().map(|c| c.written());
    assert_eq!(written.as_deref(), Some("Match host crane.havrelune.example\n    GSSAPIDelegateCredentials yes\nMatch all"));
    let unnamed = look("sound", dir.path());
    assert_eq!((codes(&unnamed), unnamed[0].change.is_none()), (vec!["onward.no-delegation"], true));
}

#[test]
fn no_folder_is_there_that_provokes_nothing() {
    let known: BTreeSet<&str> = ALL.iter().map(|c| c.spec().code).chain(["sound"]).collect();
    for entry in std::fs::read_dir(folder()).unwrap().map(Result::unwrap).filter(|e| e.path().is_dir()) {
        let name = entry.file_name().into_string().unwrap();
        assert!(known.contains(name.as_str()), "{name} is no code");
    }
}

/// Files that somebody hostile wrote: whatever they hold, they are read to an end and lead nowhere outside of the folder.
#[test]
fn hostile_files_are_read_to_an_end() {
    let dir = host("sound");
    let at = dir.path();
    symlink("../../../../../../etc/shadow", at.join("etc/ssh/sshd_config.d/10.conf")).unwrap();
    symlink("/etc/krb5.conf.d", at.join("etc/krb5.conf.d/again")).unwrap();
    std::fs::write(at.join("etc/krb5.conf.d/20"), "include /etc/krb5.conf\n".repeat(50)).unwrap();
    std::fs::write(at.join("etc/ssh/sshd_config.d/20.conf"), "Include /etc/ssh/sshd_config\n".repeat(2)).unwrap();
    std::fs::write(at.join("etc/pam.d/common-auth"), "@include sshd\n@include common-auth\n").unwrap();
    std::fs::write(at.join("etc/passwd"), b"anouk:\xff\xfe:::::\nanouk\n:::::::::\n").unwrap();
    std::fs::write(at.join("etc/group"), ":::\n::\nx:y:z:anouk,,,\n").unwrap();
    std::fs::write(at.join("etc/hosts"), "\u{0}\n# \n1.2.3.4\n").unwrap();
    std::fs::write(at.join("etc/hostname"), "\n\n").unwrap();
    std::fs::write(at.join("etc/krb5.keytab"), [5, 2, 0x7f, 0xff, 0xff, 0xff]).unwrap();
    let all = look("sound", at);
    let broken = codes(&all);
    assert!(broken.contains(&"config.damaged") && broken.contains(&"keytab.broken"), "{broken:?}");
    assert!(broken.contains(&"sshd.damaged") && broken.contains(&"pam.broken-line"), "{broken:?}");
}

/// `docs/hosts.md`, whole.
fn reference() -> String {
    let mut out = String::from(
        "# Hosts reached by SSH with a ticket\n\n\
         `passeur host NAME@REALM` says whether that person, holding a ticket, gets into this host by SSH without a password, and onward\n\
         to the next one; what stands in the way, in the order in which they meet it; and the exact line to change. With `--root FOLDER` it\n\
         looks at files of another host (`etc/krb5.conf`, `etc/krb5.keytab`, `etc/ssh`, `etc/pam.d`, `etc/passwd`, `etc/group`, `etc/hosts`,\n\
         `etc/hostname` and, for what they say, `home` and `usr/lib/*/security`). On the machine itself `sshd -T` is asked, and `ssh -G` for\n\
         one's own account or a file that is named (it runs what `Match exec` says): they are the judges of what counts. Run it as root, or\n\
         the keytab and the server's configuration stay unread.\n\n\
         Nothing is changed in place. `--diff` shows what is advised as a difference, `--write-to FOLDER` writes the changed files there,\n\
         each at its own path.\n\n\
         \x20   passeur host anouk@HAVRELUNE.EXAMPLE --from 10.20.1.5 --to winch.havrelune.example\n\
         \x20   passeur host anouk@HAVRELUNE.EXAMPLE --root /srv/bollard --diff\n\n\
         The lines that count are found as the programs find them: in `krb5.conf` and `sshd_config` the first of several, blocks that match\n\
         before what stands outside of them, includes where they stand; which account a principal is by `auth_to_local_names`, then\n\
         `auth_to_local`, then `.k5login`, which counts alone where it is there. Of PAM only the order of its stack and the modules of Kerberos\n\
         and GSS-API are looked at: whoever shows a ticket goes through `account` and `session`, not through `auth`.\n\n\
         ## Findings\n\n\
         Written from the table in `crates/core/src/host/catalogue.rs`; a folder in `crates/links/tests/hosts` provokes each.\n\n",
    );
    for code in ALL {
        let s = code.spec();
        out.push_str(&format!(
            "* `{}` ({})\n  {}\n  *{}*\n  → {}\n",
            s.code,
            s.harm.code(),
            s.what(Lang::En),
            s.seen(Lang::En),
            s.remedy(Lang::En)
        ));
    }
    out
}

#[test]
fn the_reference_in_the_docs_is_that_of_the_catalogue() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/hosts.md");
    let wanted = reference();
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, &wanted).unwrap();
    }
    let committed = std::fs::read_to_string(path).unwrap_or_default();
    assert!(committed == wanted, "docs/hosts.md is old; write it anew: UPDATE_DOCS=1 cargo test -p passeur-links --test hosts");
}

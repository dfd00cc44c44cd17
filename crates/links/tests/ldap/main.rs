//! Look-ups against directories that behave as real ones do and cannot run here, each by the same link that gates use.
#![allow(clippy::unwrap_used)] // A test that cannot go on should say where.

mod server;

use passeur_core::document::{Severity, compile};
use passeur_core::evidence::{GroupFound, LookUpState};
use passeur_core::site::Directory;
use passeur_links::ldap::{DirectoryLink, Recall};
use passeur_live::clock::Clock;
use server::{Held, Manner, Server, held};

const SITE: &str = include_str!("../../../../demo/site.toml");
const ANOUK: &str = "uid=anouk,ou=people,dc=havrelune,dc=example";

/// The demo's directory with other servers and, in its place, another table of groups.
fn directory(servers: &[String], more: &str, groups: &str) -> Directory {
    let urls: Vec<String> = servers.iter().map(|s| format!("{s:?}")).collect();
    // Nothing is kept, so that every look-up asks.
    let text = SITE
        .replacen("cache = \"30s\"", "cache = \"0s\"", 1)
        .replacen("url = \"ldap://127.0.0.1:8645\"", &format!("urls = [{}]\ntime-limit = \"1s\"\n{more}", urls.join(", ")), 1)
        .replacen("[directory.groups]\nbase = \"ou=groups,dc=havrelune,dc=example\"\nnested = true", groups, 1);
    let (site, findings) = compile(&text);
    let errors: Vec<_> = findings.iter().filter(|f| f.severity == Severity::Error).collect();
    site.unwrap_or_else(|| panic!("{errors:#?}")).directories.remove(0)
}

const GROUPS: &str = "[directory.groups]\nbase = \"ou=groups,dc=havrelune,dc=example\"";

fn link(directory: Directory) -> std::sync::Arc<DirectoryLink> {
    DirectoryLink::new(directory, vec!["a password".into()], Clock::system())
}

fn group(name: &str, members: &[&str]) -> Held {
    let dn = format!("cn={name},ou=groups,dc=havrelune,dc=example");
    held(&dn, &[("cn", &[name]), ("member", members)])
}

fn dn(name: &str) -> String {
    format!("cn={name},ou=groups,dc=havrelune,dc=example")
}

fn harbour() -> Vec<Held> {
    vec![
        held(ANOUK, &[("uid", &["anouk"]), ("employeeNumber", &["4101"]), ("objectClass", &["inetOrgPerson"])]),
        group("pilots", &[ANOUK]),
        group("berth-access", &[&dn("pilots"), &dn("planners")]),
        group("planners", &["uid=benoit,ou=people,dc=havrelune,dc=example"]),
        group("ring-a", &[&dn("ring-b"), ANOUK]),
        group("ring-b", &[&dn("ring-a")]),
        group("everybody", &[&dn("berth-access")]),
    ]
}

async fn groups(link: &DirectoryLink) -> Vec<(String, Option<String>)> {
    let found = link.find("anouk", Recall::Anew).await;
    let LookUpState::Answered { entry } = found.state else { panic!("{found:?}") };
    entry.groups.into_iter().map(|GroupFound { name, via, .. }| (name, via)).collect()
}

fn told(groups: &[(String, Option<String>)]) -> Vec<String> {
    groups.iter().map(|(n, v)| v.as_ref().map_or(n.clone(), |v| format!("{n} < {v}"))).collect()
}

async fn detail(link: &DirectoryLink) -> String {
    match link.find("anouk", Recall::Anew).await.state {
        LookUpState::Dead { detail } | LookUpState::BindRefused { detail } | LookUpState::Unusable { detail } => detail,
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn groups_in_groups_are_walked_with_how_somebody_is_in_each_and_loops_end() {
    let server = Server::new(harbour(), Manner::default()).await;
    let found = groups(&link(directory(&[server.url()], "", GROUPS))).await;
    let all = ["berth-access < pilots", "everybody < berth-access", "pilots", "ring-a", "ring-b < ring-a"];
    assert_eq!(told(&found), all);
    // Nobody reads a list of members: those can be long.
    assert!(server.take().iter().all(|a| !a.contains("range")));
    let flat = groups(&link(directory(&[server.url()], "", &format!("{GROUPS}\nnested = false")))).await;
    assert_eq!(told(&flat), ["pilots", "ring-a"]);
}

#[tokio::test]
async fn matching_in_chains_is_asked_for_only_where_the_server_says_it_can() {
    let chain = format!("{GROUPS}\nchain = true");
    let able = Server::new(harbour(), Manner { chain: true, ..Manner::default() }).await;
    let found = groups(&link(directory(&[able.url()], "", &chain))).await;
    assert_eq!(told(&found), ["berth-access < …", "everybody < …", "pilots", "ring-a", "ring-b < …"]);
    assert_eq!(able.take().iter().filter(|a| a.contains("in chain")).count(), 1);
    // A server that does not know the rule finds nothing and calls that an answer; it is walked instead.
    let unable = Server::new(harbour(), Manner::default()).await;
    let walked = groups(&link(directory(&[unable.url()], "", &chain))).await;
    assert_eq!(walked.len(), found.len());
    assert!(unable.take().iter().all(|a| !a.contains("in chain")));
}

#[tokio::test]
async fn a_primary_group_counts_though_no_list_holds_it() {
    let sid = [1, 2, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 0x51, 4, 0, 0];
    let of_group = [1, 2, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 1, 2, 0, 0];
    let mut all = harbour();
    all[0] = all[0].clone().with("objectSid", &sid).with("primaryGroupID", b"513").with("gidNumber", b"700");
    all.push(group("domain-users", &[]).with("objectSid", &of_group));
    all.push(group("quay-crew", &[]).with("gidNumber", b"700").with("objectClass", b"posixGroup"));
    all.push(group("through-primary", &[&dn("domain-users")]));
    for (manner, chain) in [(Manner::default(), ""), (Manner { chain: true, ..Manner::default() }, "\nchain = true")] {
        let server = Server::new(all.clone(), manner).await;
        let found = told(&groups(&link(directory(&[server.url()], "", &format!("{GROUPS}\nprimary = \"sid\"{chain}")))).await);
        assert!(found.contains(&"domain-users".to_owned()) && !found.contains(&"quay-crew".to_owned()), "{found:?}");
        assert!(found.contains(&"through-primary < domain-users".to_owned()), "{found:?}");
    }
    let server = Server::new(all.clone(), Manner::default()).await;
    let found = told(&groups(&link(directory(&[server.url()], "", &format!("{GROUPS}\nprimary = \"gid-number\"")))).await);
    assert!(found.contains(&"quay-crew".to_owned()), "{found:?}");
    assert!(!told(&groups(&link(directory(&[server.url()], "", GROUPS))).await).contains(&"quay-crew".to_owned()));
    // The number is there and the person's own identifier is not: which group it is cannot be told, so nothing is.
    all[0].values.remove("objectsid");
    let server = Server::new(all, Manner::default()).await;
    let words = detail(&link(directory(&[server.url()], "", &format!("{GROUPS}\nprimary = \"sid\"")))).await;
    assert!(words.contains("primary group"), "{words}");
}

#[tokio::test]
async fn a_list_at_the_person_is_read_as_a_whole_though_it_comes_in_ranges() {
    let lists: Vec<String> = (0..37).map(|i| dn(&format!("list-{i:02}"))).collect();
    let mut all = vec![held(ANOUK, &[("uid", &["anouk"]), ("objectClass", &["inetOrgPerson"])])];
    for l in &lists {
        all[0] = all[0].clone().with("memberOf", l.as_bytes());
        all.push(held(l, &[("cn", &["read from the name itself"])]));
    }
    // Elsewhere does not count, and neither does what only looks as if it lay below.
    all[0] = all[0].clone().with("memberOf", b"cn=elsewhere,dc=havrelune,dc=example");
    all[0] = all[0].clone().with("memberOf", b"cn=x\\,ou=groups,dc=havrelune,dc=example");
    all[1] = all[1].clone().with("memberOf", dn("above").as_bytes());
    let member_of = format!("{GROUPS}\nmember-of = \"memberOf\"");
    let server = Server::new(all, Manner { range: Some(10), ..Manner::default() }).await;
    let found = told(&groups(&link(directory(&[server.url()], "", &member_of))).await);
    assert_eq!(found.len(), 38, "{found:?}");
    assert!(found.contains(&"list-36".to_owned()) && found.contains(&"above < list-00".to_owned()), "{found:?}");
    server.manner.lock().unwrap().cut_ranges = true;
    let words = detail(&link(directory(&[server.url()], "", &member_of))).await;
    assert!(words.contains("memberof of uid=anouk") && words.contains("ends after 10 values"), "{words}");
}

#[tokio::test]
async fn keys_in_lists_count_where_the_directory_holds_them() {
    let mut all = harbour();
    all.push(group("by-key", &[]).with("memberUid", b"anouk"));
    all.push(group("above-it", &[&dn("by-key")]));
    let server = Server::new(all, Manner::default()).await;
    let found = told(&groups(&link(directory(&[server.url()], "", &format!("{GROUPS}\nmember-key = \"memberUid\"")))).await);
    assert_eq!(found, ["above-it < by-key", "by-key"]);
}

#[tokio::test]
async fn many_groups_come_page_by_page_and_part_of_them_is_no_answer() {
    let mut all = harbour();
    all.extend((0..60).map(|i| group(&format!("list-{i:02}"), &[ANOUK])));
    let server = Server::new(all, Manner { size_limit: Some(20), ..Manner::default() }).await;
    let found = groups(&link(directory(&[server.url()], "page = 25", &format!("{GROUPS}\nnested = false")))).await;
    assert_eq!(found.len(), 62);
    let pages = server.take().iter().filter(|a| a.contains("page 25")).count();
    assert_eq!(pages, 3);
    server.manner.lock().unwrap().search = Some(4);
    let cut = link(directory(&[server.url()], "page = 25", GROUPS)).find("anouk", Recall::Anew).await;
    assert!(matches!(cut.state, LookUpState::Several { .. }), "cut short, nobody can say who it is: {cut:?}");
}

#[tokio::test]
async fn a_server_that_does_not_answer_is_passed_over_and_a_refused_account_is_not_tried_elsewhere() {
    let (first, second) = (Server::new(harbour(), Manner::default()).await, Server::new(harbour(), Manner::default()).await);
    let servers = ["ldap://127.0.0.1:1".to_owned(), first.url(), second.url()];
    let clock = Clock::system();
    let link = DirectoryLink::new(directory(&servers, "", GROUPS), vec!["a password".into()], clock.clone());
    let found = link.look_up("anouk").await;
    assert_eq!(found.state.code(), "answered");
    assert_eq!(found.tried.len(), 1);
    assert!(found.tried[0].0.ends_with(":1") && found.tried[0].1.contains("does not accept"), "{:?}", found.tried);
    assert!(link.look_up("anouk").await.tried.is_empty(), "it rests");
    // The first that answers falls silent: the next one does it, within the time limit.
    first.manner.lock().unwrap().silent = true;
    let found = link.look_up("anouk").await;
    assert_eq!((found.state.code(), found.tried.len()), ("answered", 1), "{found:?}");
    assert!(found.tried[0].1.contains("within 1 s"), "{found:?}");
    let states = link.servers();
    assert_eq!(states.iter().map(|s| s.well).collect::<Vec<_>>(), [false, false, true]);
    // Once it has rested it is asked first again.
    first.manner.lock().unwrap().silent = false;
    clock.advance(chrono::Duration::seconds(90));
    first.take();
    assert_eq!(link.look_up("anouk").await.state.code(), "answered");
    assert!(!first.take().is_empty());
    // A refused account counts towards its being locked: it is not carried from server to server.
    for s in [&first, &second] {
        s.manner.lock().unwrap().bind = 49;
        s.binds.lock().unwrap().clear();
    }
    let anew = DirectoryLink::new(directory(&servers[1..], "", GROUPS), vec!["a password".into()], clock);
    assert_eq!(anew.look_up("anouk").await.state.code(), "bind-refused");
    assert_eq!(first.binds.lock().unwrap().len() + second.binds.lock().unwrap().len(), 1);
    // Nobody left: every one is named with what is wrong with it.
    let none = link_of(&["ldap://127.0.0.1:1", "ldap://127.0.0.1:2"]);
    let words = detail(&none).await;
    assert!(words.contains("127.0.0.1:1: ") && words.contains("; ldap://127.0.0.1:2: "), "{words}");
}

fn link_of(servers: &[&str]) -> std::sync::Arc<DirectoryLink> {
    link(directory(&servers.iter().map(|s| (*s).to_owned()).collect::<Vec<_>>(), "", GROUPS))
}

#[tokio::test]
async fn what_a_server_answers_is_told_apart_from_its_not_answering() {
    let (bad, good) = (Server::new(harbour(), Manner::default()).await, Server::new(harbour(), Manner::default()).await);
    let both = [bad.url(), good.url()];
    // Busy, unavailable, malformed: another may do better. No such base: another would say the same.
    for (manner, over) in [
        (Manner { search: Some(51), ..Manner::default() }, true),
        (Manner { search: Some(52), ..Manner::default() }, true),
        (Manner { malformed: true, ..Manner::default() }, true),
        (Manner { flood: true, ..Manner::default() }, true),
        (Manner { search: Some(32), ..Manner::default() }, false),
        (Manner { search: Some(50), ..Manner::default() }, false),
    ] {
        *bad.manner.lock().unwrap() = manner.clone();
        good.take();
        let found = link(directory(&both, "", GROUPS)).look_up("anouk").await;
        assert_eq!(found.state.code() == "answered", over, "{manner:?} {found:?}");
        assert_eq!(!good.take().is_empty(), over, "{manner:?}");
    }
}

#[tokio::test]
async fn referrals_are_followed_to_named_servers_only_and_never_without_end() {
    let far = Server::new(harbour(), Manner::default()).await;
    let near = Server::new(
        vec![],
        Manner { references: vec![format!("{}/ou=people,dc=havrelune,dc=example??sub", far.url())], ..Manner::default() },
    )
    .await;
    let follow = |others: &[String]| {
        let list: Vec<String> = others.iter().map(|s| format!("{s:?}")).collect();
        format!("referrals = \"follow\"\nreferral-servers = [{}]", list.join(", "))
    };
    // Not followed: nobody is found, and it says where nobody looked.
    let words = detail(&link(directory(&[near.url()], "", GROUPS))).await;
    assert!(words.contains("refers to") && words.contains(&far.url()), "{words}");
    assert!(far.binds.lock().unwrap().is_empty());
    // Followed, but to nobody who is not named: our password goes nowhere else.
    let words = detail(&link(directory(&[near.url()], &follow(&[]), GROUPS))).await;
    assert!(words.contains("not among referral-servers"), "{words}");
    assert!(far.binds.lock().unwrap().is_empty());
    let found = link(directory(&[near.url()], &follow(&[far.url()]), "")).look_up("anouk").await;
    assert_eq!(found.state.code(), "answered", "{found:?}");
    assert_eq!(far.binds.lock().unwrap().len(), 1);
    // The whole base lies elsewhere (result code 10).
    *near.manner.lock().unwrap() = Manner { referral: vec![format!("{}/", far.url())], ..Manner::default() };
    let found = link(directory(&[near.url()], &follow(&[far.url()]), GROUPS)).look_up("anouk").await;
    let LookUpState::Answered { entry } = found.state else { panic!("{found:?}") };
    assert_eq!(entry.groups.len(), 5, "groups are looked for there as well");
    let words = detail(&link(directory(&[near.url()], "", GROUPS))).await;
    assert!(words.contains("referral (10)") || words.contains("referral:"), "{words}");
    // Two that refer to each other.
    *far.manner.lock().unwrap() = Manner { referral: vec![near.url()], ..Manner::default() };
    let words = detail(&link(directory(&[near.url()], &follow(&[far.url()]), GROUPS))).await;
    assert!(words.contains("without end"), "{words}");
    // One that cannot be read, or that brings a filter of its own.
    for bad in ["http://x/", "ldap://127.0.0.1:1/dc=x??sub?(uid=root)", "nonsense"] {
        near.manner.lock().unwrap().referral = vec![bad.to_owned()];
        let words = detail(&link(directory(&[near.url()], &follow(&[]), GROUPS))).await;
        assert!(words.contains("cannot be read"), "{bad}: {words}");
    }
}

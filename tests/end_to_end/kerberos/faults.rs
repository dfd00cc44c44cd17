//! Whatever is wrong with what was shown is told in its own words, and lets nobody in.

use passeur_protocols::kerberos::Shown;
use reqwest::StatusCode;
use serde_json::json;

use super::{asked, asked_again, decided, show};
use crate::support::kerberos::{self, PASS, Workstation, in_base64, negotiate};
use crate::support::{Person, Stack};

/// A site that takes tickets for a service of the test's own too.
fn with_host(host: &str) -> impl FnOnce(String) -> String + '_ {
    move |site| {
        assert!(site.contains("keytabs = [\"harbour-keytab\"]\n"));
        let ours =
            format!("keytabs = [\"harbour-keytab\", \"own-keytab\"]\nhosts = [\"pass.havrelune.localhost\", \"{host}\"]\n");
        site.replace("keytabs = [\"harbour-keytab\"]\n", &ours)
    }
}

/// What becomes of a field that a browser sends.
async fn refused(stack: &Stack, field: &str) -> (String, String) {
    let (mut person, page) = asked(stack).await;
    let page = show(&mut person, &page, field).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{field}: {}", page.body);
    assert_eq!(page.header("www-authenticate"), "", "whoever is refused is not asked again");
    assert!(!person.cookies["pass.havrelune.localhost"].contains_key("passeur-session"));
    assert!(page.body.contains("Sign in another way"), "{}", page.body);
    decided(stack, &page.crossing()).await
}

/// Where some bytes stand in others.
fn find(all: &[u8], part: &[u8]) -> usize {
    all.windows(part.len()).position(|w| w == part).unwrap()
}

#[tokio::test]
async fn what_is_no_ticket_is_told_apart() {
    let stack = Stack::new().await;
    let good = Workstation::person("anouk").token(PASS).token;
    let ntlm = b"NTLMSSP\0\x01\0\0\0\x97\x82\x08\xe2".to_vec();
    let later = [&[0xa1, 0x05, 0x30, 0x03, 0xa0, 0x01, 0x00][..]].concat();
    for (field, code, says) in [
        ("NTLM TlRMTVNTUAABAAAA".to_owned(), "way.ticket-ntlm", "NTLM proves nothing"),
        (negotiate(&ntlm), "way.ticket-ntlm", "HTTP/pass.havrelune.localhost"),
        (negotiate(&later), "way.ticket-unreadable", "nobody here began"),
        (negotiate(&[]), "way.ticket-unreadable", "no token"),
        ("Negotiate".to_owned(), "way.ticket-unreadable", "no token"),
        ("Negotiate !!!".to_owned(), "way.ticket-unreadable", "not base64"),
        (negotiate(&good[..good.len() / 2]), "way.ticket-unreadable", "cut off"),
        (negotiate(&[0x60; 40]), "way.ticket-unreadable", "cut off"),
        (negotiate(&vec![0x60; 47 << 10]), "way.ticket-unreadable", "cut off"),
        // An offer of another mechanism, which nobody has heard of.
        (negotiate(&[0x60, 0x07, 0x06, 0x03, 0x2a, 0x03, 0x04, 0x05, 0x00]), "way.ticket-other", "1.2.3.4"),
    ] {
        let (got, words) = refused(&stack, &field).await;
        assert_eq!(got, code, "{says}: {words}");
        assert!(words.contains(says), "{says}: {words}");
    }
    // Another scheme is none of ours: whoever sends it is asked for a ticket.
    let (mut person, page) = asked(&stack).await;
    let page = show(&mut person, &page, "Basic YW5vdWs6eA==").await;
    assert_eq!((page.status, page.header("www-authenticate")), (StatusCode::UNAUTHORIZED, "Negotiate"));
}

#[tokio::test]
async fn a_ticket_counts_once_on_every_node_however_it_is_wrapped() {
    let stack = Stack::new().await;
    let token = Workstation::person("anouk").bare(PASS);
    let (mut person, page) = asked(&stack).await;
    assert_eq!(show(&mut person, &page, &negotiate(&token)).await.status, StatusCode::SEE_OTHER);
    let (code, words) = refused(&stack, &negotiate(&token)).await;
    assert_eq!(code, "way.ticket-replayed", "{words}");
    // The same proof in the wrapping of a negotiation.
    let length = |n: usize| if n < 128 { vec![n as u8] } else { vec![0x82, (n >> 8) as u8, n as u8] };
    let wrap = |tag: u8, inside: &[u8]| [&[tag][..], &length(inside.len()), inside].concat();
    let mechanism = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x12, 0x01, 0x02, 0x02];
    let list = wrap(0xa0, &wrap(0x30, &mechanism));
    let inner = wrap(0xa0, &wrap(0x30, &[list, wrap(0xa2, &wrap(0x04, &token))].concat()));
    let oid = [0x06, 0x06, 0x2b, 0x06, 0x01, 0x05, 0x05, 0x02];
    let wrapped = wrap(0x60, &[&oid[..], &inner].concat());
    assert!(matches!(Shown::of_token(wrapped.clone()), Shown::Ticket { .. }));
    assert_eq!(refused(&stack, &negotiate(&wrapped)).await.0, "way.ticket-replayed");
    // A node that starts anew on the same database knows it too: nothing of this is in memory.
    let flows = stack.database.look().await.query("SELECT flow FROM answered", &[]).await.unwrap();
    assert!(!flows.is_empty());
    // At once, one of many is taken.
    let token = Workstation::person("anouk").token(PASS).field();
    let mut at_once = tokio::task::JoinSet::new();
    let mut browsers = vec![];
    for _ in 0..8 {
        browsers.push(asked(&stack).await);
    }
    for (mut person, page) in browsers {
        let token = token.clone();
        at_once.spawn(async move { show(&mut person, &page, &token).await.status });
    }
    let all = at_once.join_all().await;
    assert_eq!(all.iter().filter(|s| **s == StatusCode::SEE_OTHER).count(), 1, "{all:?}");
}

#[tokio::test]
async fn what_was_changed_on_the_way_opens_nothing() {
    let stack = Stack::new().await;
    let token = Workstation::person("anouk").bare(PASS);
    let Shown::Ticket { ticket, .. } = Shown::of_token(token.clone()) else { panic!() };
    let changed = |part: &[u8], at: usize| {
        let mut out = token.clone();
        let i = find(&out, part) + at;
        out[i] ^= 1;
        negotiate(&out)
    };
    let end = ticket.der.len();
    let (code, words) = refused(&stack, &changed(&ticket.der, end - 40)).await;
    assert_eq!(code, "way.ticket-key-differs", "{words}");
    assert!(words.contains("or the ticket is forged"), "{words}");
    let (code, words) = refused(&stack, &changed(&ticket.proof.1, 20)).await;
    assert_eq!(code, "way.ticket-not-taken", "{words}");
    // Bytes changed all over, one at a time: nothing comes in, and nothing breaks.
    let (mut person, page) = asked(&stack).await;
    let options = 34..48; // Of the request: nothing protects them, and nothing hangs on them.
    for i in (0..token.len()).filter(|i| !options.contains(i)).step_by(5) {
        let mut out = token.clone();
        out[i] ^= 0x40;
        let answer = show(&mut person, &page, &negotiate(&out)).await;
        assert_eq!(answer.status, StatusCode::FORBIDDEN, "byte {i}");
    }
    // The one that was not changed is still good: none of those used it up.
    let page = asked_again(&stack, &mut person).await;
    assert_eq!(show(&mut person, &page, &negotiate(&token)).await.status, StatusCode::SEE_OTHER);
}

#[tokio::test]
async fn a_ticket_for_somebody_else_names_both() {
    let (host, other) = kerberos::service("elsewhere");
    let stack = Stack::new().await;
    let workstation = Workstation::person("anouk");
    let (code, words) = refused(&stack, &workstation.token(&format!("HTTP/{host}@HAVRELUNE.EXAMPLE")).field()).await;
    assert_eq!(code, "way.ticket-wrong-service");
    assert!(words.contains(&host) && words.contains("HTTP/pass.havrelune.localhost"), "{words}");
    drop(stack);
    // The host is named, and no key of it is there.
    let (host, _) = kerberos::service("keyless");
    let stack = Stack::with(with_host(&host)).await;
    stack.put("/secrets/own-keytab", json!({"value": in_base64(&other)})).await;
    let (code, words) = refused(&stack, &workstation.token(&format!("HTTP/{host}@HAVRELUNE.EXAMPLE")).field()).await;
    assert_eq!(code, "way.ticket-no-key", "{words}");
    assert!(words.contains("There is no key of HTTP/keyless"), "{words}");
    // One keytab that is none does not stop the others.
    stack.put("/secrets/own-keytab", json!({"value": "not a keytab"})).await;
    let (mut person, page) = asked(&stack).await;
    assert_eq!(show(&mut person, &page, &workstation.token(PASS).field()).await.status, StatusCode::SEE_OTHER);
}

#[tokio::test]
async fn keys_are_turned_and_nobody_is_refused() {
    let (host, file) = kerberos::service("turned");
    let service = format!("HTTP/{host}@HAVRELUNE.EXAMPLE");
    let stack = Stack::with(with_host(&host)).await;
    stack.put("/secrets/own-keytab", json!({"value": in_base64(&file)})).await;
    let old = Workstation::person("anouk");
    let before = old.token(&service);
    let taken = async |field: &str| {
        let (mut person, page) = asked(&stack).await;
        show(&mut person, &page, field).await.status == StatusCode::SEE_OTHER
    };
    assert!(taken(&before.field()).await);
    // The key is made anew at the KDC, and we were not told.
    let anew = file.with_extension("anew");
    let _ = std::fs::remove_file(&anew);
    kerberos::kadmin(&format!("ktadd -k {} HTTP/{host}", anew.display()));
    let new = Workstation::person("anouk");
    let (code, words) = refused(&stack, &new.token(&service).field()).await;
    assert_eq!(code, "way.ticket-key-version");
    assert!(words.contains("key version 3") && words.contains("the keytab holds 2"), "{words}");
    // With the new keys beside the old ones, and then in their place, both kinds of ticket are good.
    stack.put("/secrets/own-keytab", json!({"value": in_base64(&anew), "stand_by": true})).await;
    assert!(taken(&old.token(&service).field()).await && taken(&new.token(&service).field()).await);
    assert_eq!(stack.post("/secrets/own-keytab/use", json!({"version": 2})).await.0, 200);
    assert!(taken(&old.token(&service).field()).await && taken(&new.token(&service).field()).await);
    // Until the old ones are forgotten.
    assert_eq!(stack.delete("/secrets/own-keytab/versions/1").await.0, 200);
    assert_eq!(refused(&stack, &old.token(&service).field()).await.0, "way.ticket-key-version");
    assert!(taken(&new.token(&service).field()).await);
}

#[tokio::test]
async fn a_key_of_another_kind_and_another_key_of_the_same_version() {
    let (host, file) = kerberos::service("kinds");
    let service = format!("HTTP/{host}@HAVRELUNE.EXAMPLE");
    let stack = Stack::with(with_host(&host)).await;
    // Only a kind that the KDC does not choose: the last of three records.
    let all = std::fs::read(&file).unwrap();
    let mut at = 2;
    let mut records = vec![];
    while at < all.len() {
        let end = at + 4 + u32::from_be_bytes(all[at..at + 4].try_into().unwrap()) as usize;
        records.push(&all[at..end]);
        at = end;
    }
    let last = file.with_extension("last");
    std::fs::write(&last, [&[5, 2], *records.last().unwrap()].concat()).unwrap();
    stack.put("/secrets/own-keytab", json!({"value": in_base64(&last)})).await;
    let (code, words) = refused(&stack, &Workstation::person("anouk").token(&service).field()).await;
    assert_eq!(code, "way.ticket-enctype", "{words}");
    assert!(words.contains("aes256-cts-hmac-sha384-192") && words.contains("aes128-cts-hmac-sha1-96"), "{words}");
    // The account was made anew by somebody else: the same name and version, and another key.
    kerberos::kadmin(&format!("delprinc -force HTTP/{host}\naddprinc -randkey HTTP/{host}\ncpw -randkey HTTP/{host}"));
    stack.put("/secrets/own-keytab", json!({"value": in_base64(&file)})).await;
    let (code, words) = refused(&stack, &Workstation::person("anouk").token(&service).field()).await;
    assert_eq!(code, "way.ticket-key-differs", "{words}");
}

#[tokio::test]
async fn clocks_that_differ_are_told_with_how_far() {
    let stack = Stack::new().await;
    let workstation = Workstation::person("anouk");
    stack.clock.advance(chrono::Duration::minutes(4));
    let (mut person, page) = asked(&stack).await;
    assert_eq!(show(&mut person, &page, &workstation.token(PASS).field()).await.status, StatusCode::SEE_OTHER);
    stack.clock.advance(chrono::Duration::minutes(8));
    let (code, words) = refused(&stack, &workstation.token(PASS).field()).await;
    assert_eq!(code, "way.ticket-clock");
    assert!(words.contains("differ by 7") && words.contains("theirs is behind") && words.contains("300 s"), "{words}");
}

#[tokio::test]
async fn a_flow_is_of_its_browser_and_its_time_before_any_ticket_is_looked_at() {
    let stack = Stack::new().await;
    let (_, page) = asked(&stack).await;
    let token = Workstation::person("anouk").token(PASS).field();
    let answer = show(&mut Person::new(), &page, &token).await;
    assert_eq!(decided(&stack, &answer.crossing()).await.0, "check.state-other-browser");
    let (mut person, page) = asked(&stack).await;
    stack.clock.advance(chrono::Duration::minutes(16));
    let answer = show(&mut person, &page, &token).await;
    assert_eq!(decided(&stack, &answer.crossing()).await.0, "check.state-too-old");
    // Neither used the ticket up; the clock is moved back by nobody, so that it is a new one that comes in.
    let answer = person.open(&stack.pass("/.passeur/way/ticket/ticket?flow=x")).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
    let answer = person.open(&stack.pass("/.passeur/way/nowhere/ticket?flow=x")).await;
    assert_eq!(answer.status, StatusCode::FORBIDDEN);
}

//! An application that knows nothing but Kerberos sees each person as themselves, however they signed in, and nobody as anybody
//! else.

use std::sync::Arc;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::task::JoinSet;

use super::{asked_again, decided, show};
use crate::support::kerberos::{self, OtherRealm, PASS, Workstation, in_base64, kadmin};
use crate::support::{Page, Person, Stack, eventually};

/// Who the lock house says a request was of.
fn who(page: &Page) -> String {
    page.json()["who"].as_str().unwrap_or_else(|| panic!("{}", page.body)).to_owned()
}

/// Somebody at the lock house's door, signed in at the pilotage office.
async fn through_the_office(stack: &Stack, user: &str) -> (Person, Page) {
    to(stack, user, "/received").await
}

async fn to(stack: &Stack, user: &str, path: &str) -> (Person, Page) {
    let mut person = Person::new();
    let page = person.open(&stack.locks(path)).await;
    let back = person.prove(page, user).await;
    let page = person.follow(back).await;
    (person, page)
}

/// The same by a ticket; `along` sends the person's own along.
async fn by_ticket(stack: &Stack, user: &str, along: bool) -> (Person, Page) {
    let mut person = Person::new();
    let workstation = Workstation::person(user);
    let page = person.send(Method::GET, &stack.locks("/received"), None).await;
    let ask = person.until(page, "/.passeur/way/ticket/ticket").await;
    let challenge = person.send(Method::GET, &ask, None).await;
    assert_eq!(challenge.status, StatusCode::UNAUTHORIZED);
    let token = if along { workstation.along(PASS) } else { workstation.token(PASS) };
    let done = show(&mut person, &challenge, &token.field()).await;
    let page = person.follow(done).await;
    (person, page)
}

/// The steps of the crossing by which somebody came through the gate.
async fn told(stack: &Stack, user: &str) -> String {
    let list = stack.get(&format!("/crossings?gate=locks&outcome=admitted&person={user}&limit=5")).await;
    stack.story(list["crossings"][0]["id"].as_str().unwrap_or_else(|| panic!("{list}"))).await.to_string()
}

fn only(site: &str, by: &str) -> String {
    assert!(site.contains("by = [\"forwarded\", \"on-behalf\"]"));
    site.replace("by = [\"forwarded\", \"on-behalf\"]", by)
}

#[tokio::test]
async fn each_comes_as_themselves_whatever_they_signed_in_by() {
    let stack = Stack::new().await;
    let (mut farid, page) = through_the_office(&stack, "farid").await;
    assert_eq!(who(&page), "farid@HAVRELUNE.EXAMPLE");
    assert_eq!(page.saw("x-forwarded-host").len(), 1);
    eventually("it is told", async || told(&stack, "Farid").await.contains("asked for on their behalf")).await;
    let (_, page) = by_ticket(&stack, "anouk", false).await;
    assert_eq!(who(&page), "anouk@HAVRELUNE.EXAMPLE");
    let (_, page) = by_ticket(&stack, "benoit", true).await;
    assert_eq!(who(&page), "benoit@HAVRELUNE.EXAMPLE");
    eventually("it is told", async || told(&stack, "benoit").await.contains("from the one that their browser sent along")).await;
    // What a client sends of its own goes nowhere, and a form arrives whole.
    let token = Workstation::person("anouk").token("HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE").field();
    farid.extra.push(("authorization", token));
    let page = farid.send_body(Method::POST, &stack.locks("/received"), "x".repeat(100_000)).await;
    assert_eq!((who(&page), &page.json()["body"]), ("farid@HAVRELUNE.EXAMPLE".into(), &json!(100_000)));
    assert_eq!(page.header("www-authenticate"), "", "what the application proves is between it and us");
    let gates = stack.get("/gates").await.to_string();
    let told = "Authorization ← a Kerberos ticket for HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE: the person's own, or else on behalf, by HTTP/gateway";
    assert!(gates.contains(told), "{gates}");
    // A value that is no plain name is asked for as nobody.
    let stack = Stack::with(|s| only(&s, "by = [\"on-behalf\"]\nperson = \"name\"")).await;
    let (_, page) = through_the_office(&stack, "farid").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    assert_eq!(decided(&stack, &page.crossing()).await.0, "upstream.ticket-no-name");
}

#[tokio::test]
async fn what_the_kdc_refuses_is_told_in_its_own_words() {
    let stack = Stack::new().await;
    // First of all, so that nothing is known of the account yet.
    let (_, page) = through_the_office(&stack, "elodie").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let (code, words) = decided(&stack, &page.crossing()).await;
    assert_eq!(code, "upstream.ticket-person", "{words}");
    assert!(words.contains("elodie@HAVRELUNE.EXAMPLE may not be delegated"), "{words}");
    let remedy = stack.story(&page.crossing()).await.to_string();
    assert!(remedy.contains("modprinc +allow_forwardable elodie@HAVRELUNE.EXAMPLE"), "{remedy}");
    // An account of the test's own, that may do one thing after the other.
    let (host, file) = kerberos::service("account");
    let account = format!("HTTP/{host}@HAVRELUNE.EXAMPLE");
    let site = stack.site.replace("HTTP/gateway.havrelune.localhost@HAVRELUNE.EXAMPLE", &account);
    stack.put("/secrets/gateway-keytab", json!({"value": in_base64(&file)})).await;
    let site = only(&site, "by = [\"on-behalf\"]");
    let tried = async |site: &str, user: &str| {
        let (status, body) = stack.publish(site).await;
        assert!(status == 200 || body.to_string().contains("nothing changed"), "{body}");
        let (_, page) = through_the_office(&stack, user).await;
        match page.status {
            StatusCode::OK => (who(&page), String::new()),
            _ => decided(&stack, &page.crossing()).await,
        }
    };
    let (code, words) = tried(&site, "farid").await;
    assert_eq!(code, "upstream.ticket-not-allowed", "{words}");
    assert!(words.contains(&account) && words.contains("HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE"), "{words}");
    kerberos::may_delegate(&format!("HTTP/{host}"), "HTTP/lockhouse.havrelune.localhost");
    let (code, words) = tried(&site, "farid").await;
    assert_eq!(code, "upstream.ticket-account", "{words}");
    kadmin(&format!("modprinc +ok_to_auth_as_delegate HTTP/{host}"));
    assert_eq!(tried(&site, "farid").await.0, "farid@HAVRELUNE.EXAMPLE");
    let (code, _) =
        tried(&site.replace("HTTP/lockhouse.havrelune.localhost@", "HTTP/nowhere.havrelune.localhost@"), "farid").await;
    assert_eq!(code, "upstream.ticket-no-service");
    let stranger = format!("{}\nrealm = \"AGENTS.EXAMPLE\"", "by = [\"on-behalf\"]");
    let (code, words) = tried(&site.replace("by = [\"on-behalf\"]", &stranger), "farid").await;
    assert_eq!(code, "upstream.ticket-nobody", "{words}");
    // Our own key is made anew at the KDC, and nobody told us.
    kadmin(&format!("cpw -randkey HTTP/{host}"));
    stack.put("/secrets/gateway-keytab", json!({"value": in_base64(&file)})).await;
    let (code, words) = tried(&site, "benoit").await;
    assert_eq!(code, "upstream.ticket-own", "{words}");
}

#[tokio::test]
async fn an_account_that_is_locked_opens_nothing_any_more() {
    let stack =
        Stack::with_people(|people| people.replace("user = \"hugo\"", "user = \"farid-b\"").replace("p-1006", "p-9006")).await;
    let name = format!("left-{}", stack.address.port());
    kadmin(&format!("addprinc -pw gone-ashore -allow_tix {name}"));
    // The office calls somebody by a name whose account at the KDC is locked.
    let site = only(&stack.site, "by = [\"on-behalf\"]\nperson = \"locked\"");
    let mapping = format!(
        "[[mapping]]\nattribute = \"locked\"\nfrom = \"user\"\nby = [{{ format = \"{name}\" }}]\n\n[[mapping]]\nattribute = \"desk\""
    );
    let site = site.replacen("[[mapping]]\nattribute = \"desk\"", &mapping, 1);
    let (status, body) = stack.publish(&site).await;
    assert_eq!(status, 200, "{body}");
    let (_, page) = through_the_office(&stack, "farid").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    assert_eq!(decided(&stack, &page.crossing()).await.0, "upstream.ticket-revoked");
}

#[tokio::test]
async fn only_what_was_sent_along_will_do_and_after_a_restart_it_is_sent_again() {
    let mut stack = Stack::with(|s| {
        let from = s.find("account = \"HTTP/gateway").unwrap();
        let to = s[from..].find("\n\n").unwrap() + from;
        only(&format!("{}{}", &s[..from], &s[to..]), "by = [\"forwarded\"]")
    })
    .await;
    let (mut anouk, page) = by_ticket(&stack, "anouk", true).await;
    assert_eq!(who(&page), "anouk@HAVRELUNE.EXAMPLE");
    let (mut benoit, page) = by_ticket(&stack, "benoit", true).await;
    assert_eq!(who(&page), "benoit@HAVRELUNE.EXAMPLE");
    // Nothing of it is in the database.
    let dump = stack.database.look().await.query("SELECT evidence::text FROM sessions", &[]).await.unwrap();
    assert!(!format!("{dump:?}").contains("Negotiate"));
    for (user, along) in [("anouk", false), ("farid", true)] {
        let page = match along {
            true => through_the_office(&stack, user).await.1,
            false => by_ticket(&stack, user, false).await.1,
        };
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{user}: {}", page.body);
        assert_eq!(decided(&stack, &page.crossing()).await.0, "upstream.ticket-not-sent");
    }
    stack.restart().await;
    // Her session lives on, her ticket does not: her browser is asked for another, once.
    let before = anouk.cookies.clone();
    let page = anouk.send(Method::GET, &stack.locks("/received"), None).await;
    assert_eq!(page.status, StatusCode::SEE_OTHER);
    // Where another node had it and sent her back here, she would go to and fro: that is refused.
    let after = std::mem::replace(&mut anouk.cookies, before);
    let refused = anouk.send(Method::GET, &stack.locks("/received"), None).await;
    assert_eq!(refused.status, StatusCode::FORBIDDEN, "{}", refused.body);
    anouk.cookies = after;
    sends_another(&stack, &mut anouk, page, "anouk").await;
    // The next is told why as well, from the same network in the same minute.
    let page = benoit.send(Method::GET, &stack.locks("/received"), None).await;
    sends_another(&stack, &mut benoit, page, "benoit").await;
}

/// Somebody whose ticket the service lost sends another, and is told why.
async fn sends_another(stack: &Stack, person: &mut Person, sent_away: Page, user: &str) {
    let ask = person.until(sent_away, "/.passeur/way/ticket/ticket").await;
    let challenge = person.send(Method::GET, &ask, None).await;
    let done = show(person, &challenge, &Workstation::person(user).along(PASS).field()).await;
    let page = person.follow(done).await;
    assert_eq!(who(&page), format!("{user}@HAVRELUNE.EXAMPLE"));
    let told = told(stack, user).await;
    assert!(told.contains("way.ticket-lost"), "{told}");
}

#[tokio::test]
async fn after_a_restart_what_is_had_on_behalf_is_fetched_anew_and_what_ends_is_gone() {
    let mut stack = Stack::new().await;
    let (mut farid, page) = through_the_office(&stack, "farid").await;
    assert_eq!(who(&page), "farid@HAVRELUNE.EXAMPLE");
    stack.restart().await;
    farid.accept = "application/json";
    let page = farid.open(&stack.locks("/received")).await;
    assert_eq!(who(&page), "farid@HAVRELUNE.EXAMPLE");
    eventually("both are told", async || told(&stack, "Farid").await.matches("\"code\":\"upstream.ticket\"").count() == 2).await;
    let id = stack.get("/sessions").await[0]["id"].as_str().unwrap().to_owned();
    assert_eq!(stack.post("/sessions/end", json!({"sessions": [id]})).await.0, 200);
    assert_eq!(farid.open(&stack.locks("/received")).await.status, StatusCode::UNAUTHORIZED);
}

#[tokio::test]
async fn an_application_proves_itself_or_its_answer_goes_nowhere() {
    let stack = Stack::new().await;
    let (mut farid, page) = to(&stack, "farid", "/unproven/received").await;
    assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{}", page.body);
    assert!(!page.body.contains("farid@"), "{}", page.body);
    let (code, words) = decided(&stack, &page.crossing()).await;
    assert_eq!((code.as_str(), words.contains("answered without a token of its own")), ("upstream.not-proven", true), "{words}");
    // Its 401 stays within the gate.
    let page = farid.open(&stack.locks("/stranger/received")).await;
    assert_eq!((page.status, page.header("www-authenticate")), (StatusCode::BAD_GATEWAY, ""), "{}", page.body);
    assert_eq!(decided(&stack, &page.crossing()).await.0, "upstream.ticket-refused");
    let page = farid.send_body(Method::POST, &stack.locks("/stranger/received"), "x".into()).await;
    assert_eq!(page.status, StatusCode::BAD_GATEWAY);
    assert_eq!(farid.open(&stack.locks("/received")).await.status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn five_hundred_requests_at_once_and_none_as_somebody_else() {
    let stack = Arc::new(Stack::new().await);
    let mut people = vec![];
    for (user, by) in
        [("anouk", 1), ("benoit", 2), ("farid", 0), ("lucie", 0), ("klara", 1), ("benoit", 0), ("anouk", 2), ("nadia", 1)]
    {
        let (person, page) = match by {
            0 => through_the_office(&stack, user).await,
            by => by_ticket(&stack, user, by == 2).await,
        };
        let principal = format!("{user}@HAVRELUNE.EXAMPLE");
        if page.status == StatusCode::OK {
            assert_eq!(who(&page), principal);
            people.push((person, principal));
        } else {
            assert!(user == "klara" || user == "nadia", "{user}: {}", page.body);
        }
    }
    assert!(people.len() >= 6);
    let mut all = JoinSet::new();
    for n in 0..504 {
        let (mut person, principal) = people[n % people.len()].clone();
        // Half of them where the application takes a ticket for the whole connection.
        let path = if n % 2 == 0 { "/received" } else { "/once/received" };
        let url = stack.locks(path);
        person.accept = "application/json";
        all.spawn(async move {
            let page = person.send(Method::GET, &url, None).await;
            (page.status, page.json(), principal)
        });
    }
    let mut right = 0;
    for (status, body, principal) in all.join_all().await {
        assert_eq!((status, &body["who"]), (StatusCode::OK, &Value::String(principal)), "{body}");
        right += 1;
    }
    assert_eq!(right, 504);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_kdc_slows_nobody_who_has_a_ticket() {
    let silent = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let realm = format!("MUTE{}.EXAMPLE", silent.local_addr().unwrap().port());
    let _realm = OtherRealm::at(&realm, silent.local_addr().unwrap().port());
    let stack = Arc::new(Stack::new().await);
    let (mut farid, page) = through_the_office(&stack, "farid").await;
    assert_eq!(who(&page), "farid@HAVRELUNE.EXAMPLE");
    // Another gate to the same application, whose account's realm does not answer.
    let from = stack.site.find("[[gate]]\nname = \"locks\"").unwrap();
    let to = stack.site[from..].find("# The fitters' own book").unwrap() + from;
    let other = stack.site[from..to]
        .replace("name = \"locks\"", "name = \"mute\"")
        .replace("//locks.", "//mute.")
        .replace("by = [\"forwarded\", \"on-behalf\"]", "by = [\"on-behalf\"]")
        .replace("gateway-keytab", "mute-keytab")
        .replace("HTTP/gateway.havrelune.localhost@HAVRELUNE.EXAMPLE", &format!("gateway@{realm}"));
    let (status, body) =
        stack.publish(&stack.site.replace("# The fitters' own book", &format!("{other}# The fitters' own book"))).await;
    assert_eq!(status, 200, "{body}");
    // A key that the KDC would have to know.
    let text = |t: &str| [&(t.len() as u16).to_be_bytes()[..], t.as_bytes()].concat();
    let name = [1u16.to_be_bytes().to_vec(), text(&realm), text("gateway"), vec![0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 18]].concat();
    let record = [name, 32u16.to_be_bytes().to_vec(), vec![7; 32]].concat();
    let keytab = [&[5, 2][..], &(record.len() as u32).to_be_bytes(), &record].concat();
    let value = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, keytab);
    stack.put("/secrets/mute-keytab", json!({"value": value})).await;
    let mute = stack.locks("/received").replace("//locks.", "//mute.");
    let mut benoit = Person::new();
    let page = benoit.open(&mute).await;
    let page = benoit.open(&page.link("the pilotage office")).await;
    let back = benoit.prove(page, "benoit").await;
    let waiting = tokio::spawn(async move { benoit.follow(back).await });
    farid.accept = "application/json";
    for _ in 0..20 {
        assert_eq!(who(&farid.open(&stack.locks("/received")).await), "farid@HAVRELUNE.EXAMPLE");
    }
    let page = waiting.await.unwrap();
    assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{}", page.body);
    assert_eq!(decided(&stack, &page.crossing()).await.0, "upstream.ticket-silent");
    drop(silent);
}

#[tokio::test]
async fn somebody_else_in_the_same_browser_is_never_shown_as_the_one_before() {
    let stack = Stack::new().await;
    let (mut browser, page) = by_ticket(&stack, "anouk", true).await;
    assert_eq!(who(&page), "anouk@HAVRELUNE.EXAMPLE");
    // Another ticket in the same browser: another session, and nothing of the first.
    let page = asked_again(&stack, &mut browser).await;
    let done = show(&mut browser, &page, &Workstation::person("benoit").token(PASS).field()).await;
    browser.follow(done).await;
    browser.cookies.remove("locks.havrelune.localhost");
    let page = browser.open(&stack.locks("/once/received")).await;
    assert_eq!(who(&page), "benoit@HAVRELUNE.EXAMPLE");
}

#[test]
fn a_credential_that_lacks_what_it_begins_with_begins_nothing() {
    use libgssapi::context::{ClientCtx, CtxFlags};
    use libgssapi::credential::{Cred, CredUsage};
    use libgssapi::name::Name;
    use libgssapi::oid::{GSS_MECH_KRB5, GSS_MECH_SPNEGO, GSS_NT_KRB5_PRINCIPAL, OidSet};
    // The library would go on as whoever the process calls its default: here, as in the service, that is nobody.
    assert_eq!(crate::support::env("KRB5CCNAME"), "MEMORY:none");
    let name = |text: &str| Name::new(text.as_bytes(), Some(GSS_NT_KRB5_PRINCIPAL)).unwrap();
    let mut only = OidSet::new();
    only.add(GSS_MECH_KRB5).unwrap();
    let person = name("anouk@HAVRELUNE.EXAMPLE");
    let cred = Cred::acquire_with_password(Some(&person), "spring-tide", None, CredUsage::Initiate, Some(&only)).unwrap();
    assert!(!cred.mechanisms().unwrap().contains(GSS_MECH_SPNEGO).unwrap(), "what every standing is held against");
    let service = name("HTTP/lockhouse.havrelune.localhost@HAVRELUNE.EXAMPLE");
    let mut context = ClientCtx::new(Some(cred), service, CtxFlags::GSS_C_MUTUAL_FLAG, Some(GSS_MECH_SPNEGO));
    assert!(context.step(None, None).is_err());
}

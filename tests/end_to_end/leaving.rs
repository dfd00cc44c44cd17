//! Sessions that end: at the provider, everywhere at once, sooner at a gate or on a network; and the next person on a machine.

use passeur_standins::provider::Mode;
use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::support::{Page, Person, Stack};

/// Tells the service of an ended session, as a provider would.
async fn tell(stack: &Stack, token: &str) -> StatusCode {
    let url = stack.pass("/.passeur/oidc/pilotage/back-channel");
    Person::new().send(Method::POST, &url, Some(&[("logout_token", token)])).await.status
}

async fn status(person: &mut Person, url: &str) -> u16 {
    person.accept = "application/json";
    let status = person.send(Method::GET, url, None).await.status.as_u16();
    person.accept = "text/html";
    status
}

async fn sign_out(stack: &Stack, person: &mut Person, how_far: &str) -> Page {
    person.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[("how_far", how_far)])).await
}

/// The provider's own session of whoever is signed in there.
async fn sid(stack: &Stack, person: &str) -> String {
    let list = stack.get(&format!("/crossings?outcome=admitted&person={person}&limit=1")).await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    story["evidence"]["claims"]["sid"].as_str().unwrap_or_else(|| panic!("{story}")).to_owned()
}

/// The demo with a network that everybody here is on.
fn on_shared(site: String) -> String {
    let network = "[[network]]\nname = \"test terminals\"\nnetwork = \"127.0.0.1\"\nshared = true\nidle = \"5m\"\n\n";
    site.replacen("# Which way somebody takes", &format!("{network}# Which way somebody takes"), 1)
}

#[tokio::test]
async fn what_a_provider_ends_ends_here_by_its_own_message() {
    let stack = Stack::new().await;
    let (mut anouk, mut elsewhere) = (stack.signed_in("anouk").await, stack.signed_in("anouk").await);
    let mut benoit = stack.signed_in("benoit").await;
    let url = stack.gate("/received");
    let session = sid(&stack, "p-1001").await;
    // One of its sessions, and then all of a person.
    let one = stack.provider.logout_token("passeur-havrelune", "p-1001", Some(&session));
    assert_eq!(tell(&stack, &one).await, StatusCode::OK);
    assert_eq!((status(&mut elsewhere, &url).await, status(&mut anouk, &url).await), (401, 200), "the latest is {session}");
    let told = stack.get("/crossings?outcome=signed-out").await.to_string();
    assert!(told.contains("session.provider-signed-out"), "{told}");
    let all = stack.provider.logout_token("passeur-havrelune", "p-1001", None);
    assert_eq!(tell(&stack, &all).await, StatusCode::OK);
    assert_eq!(status(&mut anouk, &url).await, 401);
    assert_eq!(status(&mut benoit, &url).await, 200);
    // At the provider's own page it happens by itself.
    let page = sign_out(&stack, &mut benoit, "here").await;
    assert!(page.body.contains("end-session"), "{}", page.body);
}

#[tokio::test]
async fn a_logout_token_that_cannot_be_believed_ends_nothing() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let url = stack.gate("/received");
    let good = || stack.provider.logout_token("passeur-havrelune", "p-1001", None);
    for mode in [Mode::ForgedLogout, Mode::LogoutWithNonce] {
        stack.behave(mode);
        assert_eq!(tell(&stack, &good()).await, StatusCode::BAD_REQUEST, "{mode:?}");
        assert_eq!(stack.latest().await.1, "check.sign-out-refused");
    }
    stack.behave(Mode::Well);
    let other_client = stack.provider.logout_token("somebody-else", "p-1001", None);
    for token in ["", "x.y.z", &other_client, &"a".repeat(20_000)] {
        assert_eq!(tell(&stack, token).await, StatusCode::BAD_REQUEST);
    }
    let (mut nobody, token) = (Person::new(), good());
    for provider in ["pilotage-saml", "nowhere"] {
        let url = stack.pass(&format!("/.passeur/oidc/{provider}/back-channel"));
        assert_eq!(nobody.send(Method::POST, &url, Some(&[("logout_token", &token)])).await.status, StatusCode::NOT_FOUND);
    }
    assert_eq!(status(&mut anouk, &url).await, 200);
    // Good once: what came before is not sent again for a session that begins after.
    assert_eq!(tell(&stack, &token).await, StatusCode::OK);
    let mut again = stack.signed_in("anouk").await;
    assert_eq!(tell(&stack, &token).await, StatusCode::BAD_REQUEST);
    assert_eq!((status(&mut anouk, &url).await, status(&mut again, &url).await), (401, 200));
    let late = good();
    stack.clock.advance(chrono::Duration::minutes(12));
    assert_eq!(tell(&stack, &late).await, StatusCode::BAD_REQUEST, "it is too old");
    assert_eq!(status(&mut again, &url).await, 200);
}

#[tokio::test]
async fn a_frame_of_the_provider_ends_the_session_that_it_names_and_no_other() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    let url = stack.gate("/received");
    let session = sid(&stack, "p-1001").await;
    let issuer = stack.provider_origin();
    let mut frame = Person::new();
    let base = stack.pass("/.passeur/oidc/pilotage/front-channel");
    for query in [
        String::new(),
        format!("?sid={session}"),
        format!("?iss={issuer}"),
        format!("?iss=http://elsewhere.localhost&sid={session}"),
        format!("?iss={issuer}&sid={session}&sid={session}"),
    ] {
        assert_eq!(frame.send(Method::GET, &format!("{base}{query}"), None).await.status, StatusCode::BAD_REQUEST, "{query}");
    }
    let other = frame.send(Method::GET, &format!("{base}?iss={issuer}&sid=0000000000000000"), None).await;
    assert_eq!(other.status, StatusCode::OK);
    assert_eq!(status(&mut anouk, &url).await, 200);
    let page = frame.send(Method::GET, &format!("{base}?iss={issuer}&sid={session}"), None).await;
    assert_eq!(page.status, StatusCode::OK);
    assert!(page.header("content-security-policy").contains(&format!("frame-ancestors {issuer}")));
    assert_eq!((page.header("x-frame-options"), page.header("cache-control")), ("", "no-store"));
    assert_eq!(status(&mut anouk, &url).await, 401);
}

#[tokio::test]
async fn signing_out_says_what_is_signed_in_elsewhere_and_ends_it_if_wanted() {
    let stack = Stack::new().await;
    let (mut anouk, mut office, mut home) =
        (stack.signed_in("anouk").await, stack.signed_in("anouk").await, stack.signed_in("anouk").await);
    let mut benoit = stack.signed_in("benoit").await;
    let url = stack.gate("/received");
    let page = anouk.open(&stack.gate("/.passeur/sign-out")).await;
    assert!(page.body.contains("You are signed in elsewhere too") && page.body.contains("end-to-end"), "{}", page.body);
    let page = sign_out(&stack, &mut anouk, "here").await;
    assert!(page.body.contains("Still signed in elsewhere"), "{}", page.body);
    assert_eq!((status(&mut anouk, &url).await, status(&mut office, &url).await), (401, 200));
    let page = sign_out(&stack, &mut office, "everywhere").await;
    assert!(!page.body.contains("Still signed in elsewhere"), "{}", page.body);
    assert_eq!((status(&mut office, &url).await, status(&mut home, &url).await), (401, 401));
    assert_eq!(status(&mut benoit, &url).await, 200, "somebody else");
    let list = stack.get("/crossings?outcome=signed-out").await;
    assert!(list.to_string().contains("signed-out-everywhere"), "{list}");
}

#[tokio::test]
async fn a_provider_that_does_not_ask_afresh_lets_nobody_in_as_the_last() {
    let stack = Stack::with(on_shared).await;
    let mut browser = stack.signed_in("anouk").await;
    // Nothing is remembered there.
    assert!(!browser.cookies["pass.havrelune.localhost"].contains_key("passeur-way"));
    // The session idles; the provider still knows who was here, and is made to ask.
    stack.clock.advance(chrono::Duration::seconds(310));
    let page = browser.open(&stack.gate("/received")).await;
    assert!(page.body.contains("Password"), "{}", page.body);
    // Where it does not ask, its word is not enough.
    stack.behave(Mode::IgnoresPrompt);
    let page = browser.open(&stack.gate("/received")).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "check.not-afresh");
    assert!(story.to_string().contains("shared network test terminals"), "{story}");
}

#[tokio::test]
async fn a_gate_and_a_network_keep_sessions_shorter() {
    let gate = "name = \"berths\"\nsession = { idle = \"3m\" }";
    let stack = Stack::with(|s| on_shared(s).replacen("name = \"berths\"", gate, 1)).await;
    let mut anouk = stack.signed_in("anouk").await;
    stack.clock.advance(chrono::Duration::minutes(2));
    assert_eq!(status(&mut anouk, &stack.gate("/received")).await, 200);
    stack.clock.advance(chrono::Duration::minutes(4));
    assert_eq!(status(&mut anouk, &stack.gate("/received")).await, 401, "the gate's own");
    assert!(anouk.open(&stack.pass("/")).await.body.contains("Anouk"), "the session lives on");
    stack.clock.advance(chrono::Duration::minutes(6));
    assert!(!anouk.open(&stack.pass("/")).await.body.contains("Anouk"), "the network's");
}

#[tokio::test]
async fn pages_get_a_bar_to_sign_out_where_the_site_says_so() {
    let stack = Stack::new().await;
    let mut anouk = stack.signed_in("anouk").await;
    assert!(!anouk.open(&stack.gate("/")).await.body.contains("passeur-bar"), "off unless said");
    drop(stack);
    let bar = "name = \"berths\"\nresponse = { sign-out-bar = true }";
    let stack = Stack::with(|s| s.replacen("name = \"berths\"", bar, 1)).await;
    let mut anouk = stack.signed_in("anouk").await;
    let page = anouk.open(&stack.gate("/")).await;
    assert!(page.body.contains("Good day") && page.body.contains("passeur-bar"), "{}", page.body);
    let to = page.link("Sign out");
    let page = anouk.open(&to).await;
    assert!(page.body.contains("Sign out here and at every gate?"), "{}", page.body);
    // What is no page is left as it is.
    anouk.accept = "application/json";
    assert!(serde_json::from_str::<Value>(&anouk.open(&stack.gate("/received")).await.body).is_ok());
}

#[tokio::test]
async fn two_people_in_one_browser_are_never_mixed_up() {
    for shared in [true, false] {
        let stack = Stack::with(|s| if shared { on_shared(s) } else { s }).await;
        let mut browser = Person::new();
        for (user, person) in [("anouk", "anouk"), ("benoit", "benoit"), ("anouk", "anouk")] {
            let page = browser.open(&stack.gate("/received")).await;
            assert!(page.body.contains("Password"), "{shared} {user}: {}", page.body);
            let back = browser.prove(page, user).await;
            browser.accept = "application/json";
            assert_eq!(browser.follow(back).await.saw("x-harbour-user"), [person], "{shared}");
            browser.accept = "text/html";
            sign_out(&stack, &mut browser, "here").await;
        }
    }
}

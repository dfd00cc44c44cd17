//! Single logout, asked by either side, and by nobody else.

use reqwest::Method;

use super::refusal;
use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn signing_out_goes_both_ways() {
    let stack = Stack::new().await;
    // From here: the provider ends its own session too, and says so.
    let mut benoit = Person::new();
    assert_eq!(benoit.sign_in_by_saml(&stack.agents("/received"), "benoit").await.status, 200);
    let out = benoit.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    assert_eq!(out.status, 200, "{}", out.body);
    let at = out.body.find("/saml/sign-out?").unwrap_or_else(|| panic!("no way out: {}", out.body));
    let start = out.body[..at].rfind('"').unwrap() + 1;
    let link = out.body[start..start + out.body[start..].find('"').unwrap()].replace("&amp;", "&");
    let page = benoit.open(&link).await;
    assert!(page.body.contains("signed you out as well"), "{} {}", page.url, page.body);
    let page = benoit.open(&stack.agents("/")).await;
    assert!(page.body.contains("Password"), "the provider asks again: {}", page.body);
    // Another browser learns nothing from that answer.
    let answer = page_address(&stack, &mut benoit, "benoit").await;
    let other = Person::new().open(&answer).await;
    assert!(!other.body.contains("signed you out as well"), "{}", other.body);
    // From the provider: every session it began for the person ends.
    let mut anouk = Person::new();
    assert_eq!(anouk.sign_in_by_saml(&stack.agents("/received"), "anouk").await.status, 200);
    let mut elsewhere = Person::new();
    assert_eq!(elsewhere.sign_in_by_saml(&stack.agents("/received"), "anouk").await.status, 200);
    let entity = stack.pass("/.passeur/saml/metadata");
    let leave = format!("http://bureau-pilotage.localhost:{}/saml/leave?service={entity}", stack.provider_port());
    let page = anouk.open(&leave).await;
    assert!(page.body.contains("signed out of the pilotage office"), "{} {}", page.url, page.body);
    let page = anouk.send(Method::GET, &stack.agents("/received"), None).await;
    assert!(page.status.is_redirection(), "the session has ended: {}", page.body);
    let other = elsewhere.send(Method::GET, &stack.agents("/received"), None).await;
    assert_eq!(other.status, 200, "it named one session, and this is another");
    stack.settle().await;
    assert_eq!(stack.latest().await.0, "signed-out");
}

/// The address with which the provider answers that somebody is signed out.
async fn page_address(stack: &Stack, person: &mut Person, user: &str) -> String {
    let mut again = person.clone();
    assert_eq!(again.sign_in_by_saml(&stack.agents("/received"), user).await.status, 200);
    let out = again.send(Method::POST, &stack.pass("/.passeur/sign-out"), Some(&[])).await;
    let at = out.body.find("/saml/sign-out?").unwrap();
    let start = out.body[..at].rfind('"').unwrap() + 1;
    let link = out.body[start..start + out.body[start..].find('"').unwrap()].replace("&amp;", "&");
    again.send(Method::GET, &link, None).await.header("location").to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_signed_out_by_a_message_that_is_not_the_providers() {
    let stack = Stack::new().await;
    let mut anouk = Person::new();
    assert_eq!(anouk.sign_in_by_saml(&stack.agents("/received"), "anouk").await.status, 200);
    let entity = stack.pass("/.passeur/saml/metadata");
    let leave = format!("http://bureau-pilotage.localhost:{}/saml/leave?service={entity}", stack.provider_port());
    let mut forger = anouk.clone();
    let good = forger.send(Method::GET, &leave, None).await.header("location").to_owned();
    let here = stack.pass("/.passeur/saml/pilotage-saml/sign-out");
    let unsigned = good.split("&SigAlg=").next().unwrap();
    for bad in [
        unsigned.to_owned(),
        good.replace("RelayState=left", "RelayState=right"),
        here.clone(),
        format!("{here}?SAMLRequest=x&SAMLResponse=y"),
    ] {
        let page = Person::new().send(Method::GET, &bad, None).await;
        assert_eq!(refusal(&stack, &page).await.0, "check.sign-out-refused", "{bad}");
    }
    let cross = anouk.submit_to(&here, &[("SAMLRequest", "PGE+")]).await;
    assert_eq!(cross.status, 403);
    assert_eq!(anouk.send(Method::GET, &stack.agents("/received"), None).await.status, 200, "still signed in");
    let done = Person::new().send(Method::GET, &good, None).await;
    assert!(done.status.is_redirection());
    let page = Person::new().send(Method::GET, &good, None).await;
    let (code, why) = refusal(&stack, &page).await;
    assert_eq!(code, "check.sign-out-refused");
    assert!(why.contains("used before"), "{why}");
    assert!(anouk.send(Method::GET, &stack.agents("/received"), None).await.status.is_redirection());
}

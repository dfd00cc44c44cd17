//! Terms of use at a gate of tunnels: accepted in the browser before anything is opened, by whichever way the client asks.

use reqwest::Method;
use serde_json::Value;

use super::{OFFICE, answers, comes_in, present};
use crate::support::{Page, Person, Sea};

const WITH_TERMS: &str =
    "authority = \"tunnel-authority\"\nterms = { version = \"2026-12\", text = \"Keep the channel clear.\" }\n";

/// Presses the button under the terms.
async fn accepts(person: &mut Person, page: &Page, version: &str) -> Page {
    let action = page.body.split("action=\"").nth(1).and_then(|r| r.split('"').next()).unwrap().replace("&amp;", "&");
    let origin = url::Url::parse(&page.url).unwrap().origin().ascii_serialization();
    person.send(Method::POST, &format!("{origin}{}", action.replace("2026-12", version)), Some(&[])).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tunnel_opens_once_the_terms_are_accepted_and_not_before() {
    if !Sea::is_caged("tunnels::terms::a_tunnel_opens_once_the_terms_are_accepted_and_not_before") {
        return;
    }
    let sea = Sea::new(|site| site.replacen("authority = \"tunnel-authority\"\n", WITH_TERMS, 1)).await;
    sea.harbour.yard.serve();
    let client = sea.connect_by_browser("anouk");
    let mut anouk = Person::new();
    sea.harbour.sit("pilot");
    let url = client.address(1).await;
    let page = anouk.open(&url).await;
    let back = anouk.prove(page, "anouk").await;
    let terms = anouk.follow(back).await;
    assert!(terms.body.contains("Keep the channel clear.") && !terms.body.contains("Is it yours"), "{}", terms.body);
    // Neither a yes that was made by hand nor a code goes past them, and another version is read first.
    let origin = url::Url::parse(&url).unwrap().origin().ascii_serialization();
    let query = url::Url::parse(&url).unwrap().query().unwrap().to_owned();
    for forged in [
        format!("/.passeur/connect?{query}&answer=yes"),
        "/.passeur/connect-code".to_owned(),
        "/.passeur/connect-code?answer=no".to_owned(),
    ] {
        let page = anouk.send(Method::POST, &format!("{origin}{forged}"), Some(&[])).await;
        let page = anouk.follow(page).await;
        assert!(page.body.contains("Keep the channel clear."), "{forged}: {}", page.body);
    }
    let page = accepts(&mut anouk, &terms, "2026-11").await;
    let page = anouk.follow(page).await;
    assert!(page.body.contains("Keep the channel clear."), "{}", page.body);
    assert!(present(&sea).await.is_empty() && !sea.harbour.reaches("pilot", OFFICE[0], 80));
    // Accepted, it is asked whether the machine is theirs; and nobody is asked twice.
    let page = accepts(&mut anouk, &terms, "2026-12").await;
    let page = anouk.follow(page).await;
    assert!(page.body.contains("Is it yours"), "{}", page.body);
    let page = answers(&mut anouk, &page, "yes").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    let on = present(&sea).await;
    let story = sea.harbour.stack.story(on[0]["crossing"].as_str().unwrap()).await.to_string();
    assert!(story.contains("accepted version 2026-12 of the terms of use"), "{story}");
    let accepted = sea.harbour.stack.get("/presences/terms?gate=tunnel").await;
    assert!(accepted.to_string().contains("2026-12"), "{accepted}");
    drop(client);
    let (_, again, page) = comes_in(&sea, "again", "anouk").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    drop(again);
}

#[tokio::test(flavor = "multi_thread")]
async fn another_edition_with_terms_asks_who_comes_and_no_tunnel_goes_past_it() {
    if !Sea::is_caged("tunnels::terms::another_edition_with_terms_asks_who_comes_and_no_tunnel_goes_past_it") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    // A code taken before the terms were published opens nothing after.
    let first = sea.connect("first", 1194, &sea.typed("first", "anouk", "nothing"));
    first.says("AUTH_FAILED,CRV1:R,E:", 1).await;
    let state = first.said().rsplit("CRV1:R,E:").next().unwrap().split(':').next().unwrap().to_owned();
    sea.harbour.sit("pilot");
    let gate = format!("http://tunnel.havrelune.localhost:{}", sea.harbour.stack.address.port());
    let mut anouk = Person::new();
    let page = anouk.open(&format!("{gate}/")).await;
    let back = anouk.prove(page, "anouk").await;
    anouk.follow(back).await;
    let page = anouk.send(Method::POST, &format!("{gate}/.passeur/connect-code"), Some(&[])).await;
    let code = page.body.split("<code class=\"id\">").nth(1).and_then(|r| r.split('<').next()).unwrap().to_owned();
    let with = sea.harbour.stack.site.replacen("authority = \"tunnel-authority\"\n", WITH_TERMS, 1);
    assert_eq!(sea.harbour.stack.publish(&with).await.0, 200);
    let late = sea.connect("late", 1194, &sea.typed("late", "anouk", &format!("CRV1::{state}::{code}")));
    late.says("AUTH_FAILED,", 1).await;
    assert!(present(&sea).await.is_empty());
    sea.harbour.stack.settle().await;
    let all = sea.harbour.stack.get("/crossings?limit=20").await;
    let refused = |c: &Value| c["code"] == "tunnel.terms-not-accepted";
    assert!(all["crossings"].as_array().unwrap().iter().any(refused), "{all}");
}

//! Attributes made from others, as an application receives them: from claims, from bytes of a directory entry, and as
//! pairwise identifiers under a stored secret.

use serde_json::json;

use crate::support::{Directory, Page, Stack};

const MADE: &str = "[[gate.mapping]]\nattribute = \"login\"\nfrom = \"mail\"\nby = [{ before = \"@\" }, { case = \"upper\" }]\n\
    [[gate.mapping]]\nattribute = \"pairwise\"\nfrom = \"subject\"\nby = [{ hash = \"ledger-salt\" }]\n";

fn site(site: &str, url: &str) -> String {
    let headers = ["login", "pairwise", "badge"]
        .map(|a| format!("[[delivery.header]]\nname = \"X-Harbour-{a}\"\nattribute = \"{a}\"\n\n"))
        .concat();
    let shared = crate::support::env("PASSEUR_TEST_LDAP");
    site.replace(&shared, url)
        .replacen("# Lists are shared", &format!("{headers}# Lists"), 1)
        .replacen("department = \"", "badge = { attribute = \"jpegPhoto\", octets = \"uuid\" }\ndepartment = \"", 1)
        .replacen("delivery = \"ledger\"\n\n", &format!("delivery = \"ledger\"\n\n{MADE}\n"), 1)
}

/// What the application receives of somebody who signs in.
async fn received(stack: &Stack, user: &str) -> Page {
    let mut person = stack.signed_in(user).await;
    person.accept = "application/json";
    person.open(&stack.gate("/received")).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_made_reaches_the_application_and_its_absence_is_told() {
    let directory = Directory::alone().await;
    directory.modify(
        "dn: uid=anouk,ou=people,dc=havrelune,dc=example\nchangetype: modify\nadd: jpegPhoto\njpegPhoto:: AAECAwQFBgcICQoLDA0ODw==\n",
    );
    let stack = Stack::with(|s| site(&s, &directory.url())).await;
    stack.put("/secrets/harbour-account", json!({"value": directory.password()})).await;
    let page = received(&stack, "anouk").await;
    assert_eq!(page.saw("x-harbour-login"), ["ANOUK"]);
    assert_eq!(page.saw("x-harbour-badge"), ["00010203-0405-0607-0809-0a0b0c0d0e0f"]);
    assert_eq!(page.saw("x-harbour-desk"), ["Pilots' watch"]);
    assert!(page.saw("x-harbour-pairwise").is_empty(), "no secret is stored yet: nothing is made with an empty one");
    let crossings = stack.get("/crossings?person=p-1001").await;
    let id = crossings["crossings"][0]["id"].as_str().unwrap().to_owned();
    let told = stack.story(&id).await.to_string();
    assert!(told.contains("the secret it is made with is not at hand"), "{told}");
    assert!(told.contains("userinfo claim email, by before = \\\"@\\\", case = \\\"upper\\\""), "{told}");
    // Once it is stored, the identifier is there, and the same at every sign-in.
    let needed = stack.get("/secrets").await;
    let salt = needed["secrets"].as_array().unwrap_or(needed.as_array().unwrap()).clone();
    assert!(salt.iter().any(|s| s["name"] == "ledger-salt" && s["version"] == 0), "{salt:?}");
    stack.put("/secrets/ledger-salt", json!({"value": "what nobody can guess of the harbour"})).await;
    let first = received(&stack, "anouk").await.saw("x-harbour-pairwise");
    assert_eq!(first[0].len(), 43, "{first:?}");
    assert_eq!(received(&stack, "anouk").await.saw("x-harbour-pairwise"), first);
    assert_ne!(received(&stack, "benoit").await.saw("x-harbour-pairwise"), first);
    let gates = stack.get("/gates").await;
    assert_eq!(
        gates[0]["mappings"],
        json!([
            "desk ← department, by case = \"lower\", table = \"desks\"",
            "login ← mail, by before = \"@\", case = \"upper\"",
            "pairwise ← subject, by hash for berths"
        ])
    );
}

//! How we prove to an OpenID Connect provider that we are its client: by each method that it may ask for, and by no other.

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use passeur_standins::provider::Takes;

use crate::support::{Page, Person, Stack};

/// The site with a line more in the part of the pilotage office.
fn with(site: &str, line: &str) -> String {
    let changed = site.replacen("secret = \"pilotage-client\"\n", &format!("secret = \"pilotage-client\"\n{line}\n"), 1);
    assert_ne!(changed, site);
    changed
}

/// The provider takes another proof from now on, and this node knows it.
async fn takes(stack: &Stack, how: Takes, secret: Option<&str>) {
    stack.provider.take(how, secret);
    assert_eq!(stack.post("/providers/pilotage/refresh", json!({})).await.0, 200);
}

async fn publishes(stack: &Stack, line: &str) {
    let (status, body) = stack.publish(&with(&stack.site, line)).await;
    assert_eq!(status, 200, "{body}");
}

async fn signs_in(stack: &Stack) -> Page {
    Person::new().sign_in(&stack.gate("/"), "anouk").await
}

/// The code of the step that a refused sign-in ended with, and what it says.
async fn why(stack: &Stack, page: &Page) -> (String, String) {
    let story = stack.story(&page.crossing()).await;
    let steps = story["steps"].as_array().unwrap();
    let decided = steps.iter().find(|s| s["decided"] == true).unwrap_or_else(|| panic!("{story}"));
    (decided["code"].as_str().unwrap().to_owned(), decided["sentence"].as_str().unwrap().to_owned())
}

/// What the trial says of the client.
async fn tried(stack: &Stack) -> Vec<Value> {
    let (status, found) = stack.post("/trials/provider", json!({"name": "pilotage"})).await;
    assert_eq!(status, 200, "{found}");
    found["checks"].as_array().unwrap().iter().filter(|c| c["value"] == "client").cloned().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_goes_where_the_provider_wants_it() {
    let stack = Stack::new().await;
    // What the document offers is done unless the site says otherwise.
    takes(&stack, Takes::Post, None).await;
    assert_eq!(signs_in(&stack).await.status, StatusCode::OK);
    assert!(tried(&stack).await[0]["words"].as_str().unwrap().ends_with("(client_secret_post)"));
    // A provider that no site file names is tried with a typed secret in the same way.
    for (how, method) in [(Takes::Post, "client_secret_post"), (Takes::BasicAsItIs, "client_secret_basic")] {
        stack.provider.take(how, None);
        let ask = json!({"name": "unheard-of", "issuer": stack.provider_origin(), "client_id": "passeur-havrelune",
            "secret": "ebb-and-flow-of-the-demo"});
        let (_, found) = stack.post("/trials/provider", ask).await;
        let client = found["checks"].as_array().unwrap().iter().find(|c| c["value"] == "client").unwrap().clone();
        assert_eq!(client["verdict"], "good", "{found}");
        assert!(client["words"].as_str().unwrap().ends_with(&format!("({method})")), "{client}");
    }
    stack.provider.take(Takes::Post, None);
    publishes(&stack, "client-authentication = \"client_secret_basic\"").await;
    let page = signs_in(&stack).await;
    assert_eq!((page.status, why(&stack, &page).await.0.as_str()), (StatusCode::BAD_GATEWAY, "provider.token-refused"));
    let checks = tried(&stack).await;
    let words = checks[0]["words"].as_str().unwrap();
    assert_eq!(words, "the client proves itself by client_secret_basic, and the provider's document offers client_secret_post");
    // A provider that does not decode what the standard has encoded.
    let odd = "ebb:and+flow %41";
    stack.put("/secrets/pilotage-client", json!({"value": odd})).await;
    takes(&stack, Takes::BasicAsItIs, Some(odd)).await;
    assert_eq!(signs_in(&stack).await.status, StatusCode::BAD_GATEWAY);
    publishes(&stack, "client-authentication = \"client_secret_basic-plain\"").await;
    assert_eq!(signs_in(&stack).await.status, StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_key_proves_us_and_a_new_one_takes_over_without_a_refused_sign_in() {
    let stack = Stack::new().await;
    let keys = async || {
        let mut anybody = Person::new();
        let page = anybody.send(Method::GET, &stack.pass("/.passeur/oidc/pilotage/keys"), None).await;
        (page.status.as_u16(), page)
    };
    assert_eq!(keys().await.0, 404, "no provider is proven to by a key");
    let make = |stand_by: bool| json!({"years": 1, "stand_by": stand_by});
    assert_eq!(stack.post("/secrets/pilotage-client/make-key", make(false)).await.0, 200);
    // A key is never sent in the place of a secret.
    stack.provider.take(Takes::Post, None);
    let page = Person::new().open(&stack.gate("/")).await;
    let (code, words) = why(&stack, &page).await;
    assert_eq!(code, "sign-in.secret-unusable");
    assert!(words.contains("it is a private key, which is sent to nobody"), "{words}");
    assert_eq!(stack.get("/providers").await[0]["secret_stored"], false, "what is stored is of no use");
    // Nor one in another wrapping, locked, or damaged.
    for kind in ["EC PRIVATE KEY", "RSA PRIVATE KEY", "ENCRYPTED PRIVATE KEY", "PRIVATE KEY"] {
        let pem = format!("-----BEGIN {kind}-----\n***\n-----END {kind}-----\n");
        stack.put("/secrets/pilotage-client", json!({"value": pem})).await;
        let page = Person::new().open(&stack.gate("/")).await;
        assert_eq!(why(&stack, &page).await.0, "sign-in.secret-unusable", "{kind}");
    }
    assert_eq!(stack.post("/secrets/pilotage-client/make-key", make(false)).await.0, 200);
    takes(&stack, Takes::Assertions, None).await;
    publishes(&stack, "client-authentication = \"private_key_jwt\"").await;
    let (status, page) = keys().await;
    assert_eq!((status, page.header("content-type")), (200, "application/jwk-set+json"));
    let first = page.json();
    let public = ["alg", "e", "kid", "kty", "n", "use"];
    assert!(first["keys"][0].as_object().unwrap().keys().all(|m| public.contains(&m.as_str())), "{first}");
    stack.provider.know_keys(first.clone());
    let page = signs_in(&stack).await;
    assert_eq!(page.status, StatusCode::OK, "{}", page.body);
    let list = stack.get("/crossings?outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("private_key_jwt"), "{story}");
    assert!(tried(&stack).await[0]["words"].as_str().unwrap().ends_with("takes what proves it (private_key_jwt)"));
    // The sheet for the provider's team says where the keys are, and asks for no secret.
    let sheet = stack.get("/handover/provider/pilotage").await["markdown"].as_str().unwrap().to_owned();
    assert!(sheet.contains("/.passeur/oidc/pilotage/keys") && !sheet.contains("Client secret"), "{sheet}");
    // Another stands beside it, and is published before it is used; a provider that forgot the first takes it.
    assert_eq!(stack.post("/secrets/pilotage-client/make-key", make(true)).await.0, 200);
    let both = keys().await.1.json();
    assert_eq!((both["keys"].as_array().unwrap().len(), &both["keys"][0]), (2, &first["keys"][0]));
    stack.provider.know_keys(json!({"keys": [both["keys"][1]]}));
    assert_eq!(signs_in(&stack).await.status, StatusCode::OK);
    let (status, used) = stack.post("/secrets/pilotage-client/use", json!({"version": 8})).await;
    assert_eq!(status, 200, "{used}");
    assert_eq!(signs_in(&stack).await.status, StatusCode::OK);
    // What is no key proves nothing, and is not sent either.
    stack.put("/secrets/pilotage-client", json!({"value": "only words"})).await;
    let page = Person::new().open(&stack.gate("/")).await;
    assert_eq!(
        why(&stack, &page).await.1,
        "The secret pilotage-client cannot prove us to provider pilotage: it holds no PRIVATE KEY in PEM (PKCS #8)."
    );
    assert!(
        tried(&stack)
            .await
            .iter()
            .any(|c| c["verdict"] == "wrong" && c["words"].as_str().unwrap().contains("holds no PRIVATE KEY"))
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn command_lines_find_where_to_ask_to_be_let_in() {
    let stack = Stack::new().await;
    let mut anybody = Person::new();
    let page = anybody.send(Method::GET, &stack.pass("/.well-known/oauth-authorization-server"), None).await;
    let metadata = page.json();
    assert_eq!((page.status.as_u16(), page.header("content-type")), (200, "application/json"));
    assert_eq!(metadata["issuer"], stack.pass(""), "{metadata}");
    let authorize = metadata["device_authorization_endpoint"].as_str().unwrap();
    let asked = anybody.send(Method::POST, authorize, Some(&[("client_id", "anything")])).await.json();
    let poll = [
        ("grant_type", metadata["grant_types_supported"][0].as_str().unwrap()),
        ("device_code", asked["device_code"].as_str().unwrap()),
    ];
    let waits = anybody.send(Method::POST, metadata["token_endpoint"].as_str().unwrap(), Some(&poll)).await;
    assert_eq!((waits.status.as_u16(), &waits.json()["error"]), (400, &json!("authorization_pending")));
}

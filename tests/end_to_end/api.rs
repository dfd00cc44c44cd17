//! The management API: roles, problems, editions, and its own description.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Person, Stack, engineer};

#[tokio::test(flavor = "multi_thread")]
async fn a_role_comes_from_a_group_and_decides_how_far_one_goes() {
    let stack = Stack::new().await;
    let mut lucie = engineer(&stack, "lucie").await;
    let me = lucie.open(&stack.pass("/api/v1/me")).await.json();
    assert_eq!(
        (me["name"].as_str(), me["role"].as_str(), me["by"].as_str()),
        (Some("Lucie Morvan"), Some("configure"), Some("session"))
    );
    let mut marc = engineer(&stack, "marc").await;
    assert_eq!(marc.open(&stack.pass("/api/v1/me")).await.json()["role"], "view");
    assert_eq!(marc.open(&stack.pass("/api/v1/crossings")).await.status, 200);
    marc.extra =
        vec![("origin", stack.pass("")), ("sec-fetch-site", "same-origin".into()), ("content-type", "application/json".into())];
    let page = marc.send(Method::POST, &stack.pass("/api/v1/sessions/end"), None).await;
    assert!(page.status == 403 || page.status == 400, "{}", page.body);
    let mut anouk = engineer(&stack, "anouk").await;
    let page = anouk.open(&stack.pass("/api/v1/me")).await;
    assert_eq!((page.status.as_u16(), page.json()["type"].as_str()), (403, Some("urn:passeur:problem:role")));
    assert_eq!(Person::new().open(&stack.pass("/api/v1/me")).await.status, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_session_alone_changes_nothing_from_another_page() {
    let stack = Stack::new().await;
    let mut lucie = engineer(&stack, "lucie").await;
    for origin in [stack.gate(""), "http://evil.example".into()] {
        lucie.extra = vec![("origin", origin), ("content-type", "application/json".into())];
        let page = lucie.send(Method::POST, &stack.pass("/api/v1/sessions/end"), None).await;
        assert_eq!(page.json()["type"], "urn:passeur:problem:cross-site");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_mistake_is_listed_and_nothing_changes() {
    let stack = Stack::new().await;
    let bad = stack
        .site
        .replace(
            "provider = \"pilotage\"\ndirectory = \"harbour\"\ndelivery",
            "provider = \"pilotge\"\ndirectory = \"harbour\"\ndelivery",
        )
        .replace("idle = \"1h\"", "idle = \"soon\"");
    let (status, problem) = stack.publish(&bad).await;
    assert_eq!(status, 422);
    let findings = problem["findings"].as_array().unwrap();
    assert!(findings.len() >= 2, "{problem}");
    assert!(findings.iter().any(|f| f["remedy"] == "Did you mean \"pilotage\"?"), "{problem}");
    assert_eq!(stack.get("/site").await["number"], 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_engineers_do_not_overwrite_each_other() {
    let stack = Stack::new().await;
    let publish = async |based_on: i32| {
        stack.post("/site/publish", json!({"document": stack.site, "note": "n", "based_on": based_on})).await
    };
    assert_eq!(publish(1).await.0, 200);
    let (status, problem) = publish(1).await;
    assert_eq!((status, problem["type"].as_str()), (409, Some("urn:passeur:problem:conflict")));
    assert_eq!(publish(2).await.1["number"], 3);
}

#[tokio::test(flavor = "multi_thread")]
async fn secrets_are_told_about_and_never_told() {
    let stack = Stack::new().await;
    let list = stack.get("/secrets").await;
    assert!(!list.to_string().contains("ebb-and-flow"));
    let of = |name: &str| list.as_array().unwrap().iter().find(|s| s["name"] == name).unwrap();
    assert_eq!(of("pilotage-client")["needed_by"], json!(["provider pilotage"]));
    assert_eq!(of("harbour-keytab")["needed_by"], json!(["way in ticket: keys"]));
    let (_, second) = stack.put("/secrets/pilotage-client", json!({"value": "another"})).await;
    assert_eq!(second["version"], 2);
    for (name, value) in [("Not Plain", "x"), ("fine", ""), ("fine", &"x".repeat(70_000))] {
        assert_eq!(stack.put(&format!("/secrets/{name}"), json!({"value": value})).await.0, 400, "{name}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn odd_questions_get_a_problem_document() {
    let stack = Stack::new().await;
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    for (path, status) in [
        ("/crossings?limit=0", 400),
        ("/crossings?limit=99999", 400),
        ("/crossings?outcome=splendid", 400),
        ("/crossings?before=x", 400),
        ("/crossings/nonsense", 400),
        ("/crossings/111-1111-1111", 404),
        ("/handover/provider/No%20Name", 400),
        ("/handover/nobody/pilotage", 400),
        ("/handover/application/nothing", 404),
        ("/handover/provider/pilotage?gate=nothing", 404),
        ("/nothing", 404),
        ("/crossings?gate=nowhere", 404),
        ("/crossings?gate=cranes&limit=1", 200),
        ("/crossings?person=%00", 400),
        ("/sessions?person=a%00b", 400),
        ("/secrets/%00", 405),
    ] {
        let url = format!("http://{}/api/v1{path}", stack.address);
        let host = format!("pass.havrelune.localhost:{}", stack.address.port());
        let answer = client.get(url).header("host", host).bearer_auth(&stack.token).send().await.unwrap();
        assert_eq!(answer.status(), status, "{path}");
        if status == 200 {
            continue;
        }
        assert_eq!(answer.headers()["content-type"], "application/problem+json", "{path}");
        assert_eq!(answer.headers()["cache-control"], "no-store");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_handover_sheet_is_there_before_the_provider_is() {
    let stack = Stack::new().await;
    let sheet = stack.get("/handover/provider/coastguard").await;
    assert_eq!((&sheet["connected"], &sheet["edition"]), (&json!(false), &json!(1)));
    let redirect = stack.pass("/.passeur/oidc/coastguard/answer");
    assert!(sheet["markdown"].as_str().unwrap().contains(&redirect), "{sheet}");
    let sheet = stack.get("/handover/provider/pilotage").await;
    assert!(sheet["tables"][1].to_string().contains("the look-up in directory harbour"), "{sheet}");
    // It changes with the configuration, and says of which edition it is.
    assert_eq!(stack.publish(&stack.site.replace("scopes = [\"openid\", ", "scopes = [\"openid\", \"phone\", ")).await.0, 200);
    let sheet = stack.get("/handover/provider/pilotage").await;
    assert!(sheet["edition"] == 2 && sheet["markdown"].as_str().unwrap().contains("openid phone profile"), "{sheet}");
    for path in ["/handover/directory/harbour", "/handover/application/berths"] {
        assert_eq!(stack.get(path).await["connected"], true);
    }
    let mut lucie = crate::support::engineer(&stack, "lucie").await;
    let page = lucie.open(&stack.pass("/api/v1/handover/provider/pilotage/print?gate=berths")).await;
    assert!(page.status == 200 && page.header("content-type").starts_with("text/html"), "{}", page.status);
    assert!(page.header("content-security-policy").contains("style-src 'sha256-") && page.body.contains("for Berth ledger"));
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_of_crossings_follow_on_without_gap_or_repeat() {
    let stack = Stack::new().await;
    for _ in 0..5 {
        Person::new().sign_in(&stack.gate("/"), "gwen").await;
    }
    stack.settle().await;
    let mut seen = vec![];
    let mut path = "/crossings?limit=2".to_owned();
    loop {
        let list = stack.get(&path).await;
        seen.extend(list["crossings"].as_array().unwrap().iter().map(|c| c["id"].as_str().unwrap().to_owned()));
        match &list["next"] {
            Value::String(next) => path = format!("/crossings?limit=2&before={next}"),
            _ => break,
        }
    }
    let n = seen.len();
    seen.sort();
    seen.dedup();
    assert_eq!((n, seen.len()), (5, 5));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_committed_description_is_the_one_served() {
    let stack = Stack::new().await;
    let served = stack.get("/openapi.json").await;
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../console/openapi.json");
    if std::env::var_os("UPDATE_DOCS").is_some() {
        std::fs::write(path, serde_json::to_string_pretty(&served).unwrap() + "\n").unwrap();
    }
    let committed: Value = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    assert_eq!(served, committed, "console/openapi.json is old; write it anew with UPDATE_DOCS=1");
}

#[tokio::test(flavor = "multi_thread")]
async fn before_the_first_edition_pages_say_so_and_only_a_token_gets_on() {
    let stack = Stack::new().await;
    let (status, checked) = stack.post("/site/check", json!({"document": "format = 1"})).await;
    assert_eq!((status, &checked["sound"]), (200, &json!(false)));
    let bare = crate::support::Database::new().await;
    let client = bare.look().await;
    let n: i64 = client.query_one("SELECT count(*) FROM editions", &[]).await.unwrap().get(0);
    assert_eq!(n, 0, "a fresh database holds no edition");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_read_is_answered_by_a_problem_document_too() {
    let stack = Stack::new().await;
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let host = format!("pass.havrelune.localhost:{}", stack.address.port());
    for (method, path, content, body, status) in [
        (Method::DELETE, "/crossings", "", "", 405),
        (Method::GET, "/site/publish", "", "", 405),
        (Method::POST, "/sessions/end", "application/json", "{", 400),
        (Method::POST, "/sessions/end", "application/json", "{\"sessions\": 7}", 422),
        (Method::POST, "/sessions/end", "text/plain", "{}", 415),
        (Method::GET, "/crossings?limit=many", "", "", 400),
        (Method::GET, "/crossings?since=yesterday", "", "", 400),
    ] {
        let url = format!("http://{}/api/v1{path}", stack.address);
        let mut request = client.request(method.clone(), url).header("host", &host).bearer_auth(&stack.token).body(body);
        if !content.is_empty() {
            request = request.header("content-type", content);
        }
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), status, "{method} {path}");
        assert_eq!(answer.headers()["content-type"], "application/problem+json", "{method} {path}");
        let problem: Value = serde_json::from_str(&answer.text().await.unwrap()).unwrap();
        assert!(!problem["detail"].as_str().unwrap().is_empty() && problem["status"] == status, "{problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_providers_keys_are_fetched_anew_by_order_and_what_fails_leaves_what_was_known() {
    let stack = Stack::new().await;
    let (status, done) = stack.post("/providers/pilotage/refresh", json!({})).await;
    assert_eq!((status, &done["keys"]), (200, &json!(["tide-1"])), "{done}");
    let (status, done) = stack.post("/providers/pilotage-saml/refresh", json!({})).await;
    assert!(status == 200 && done["keys"][0].as_str().is_some_and(|k| k.len() > 20), "{status} {done}");
    assert_eq!(stack.get("/acts?limit=1").await["acts"][0]["what"], "refresh provider");
    stack.behave(passeur_standins::provider::Mode::Down);
    assert_eq!(stack.post("/providers/pilotage/refresh", json!({})).await.0, 502);
    assert_eq!(stack.post("/providers/nobody/refresh", json!({})).await.0, 404);
    stack.behave(passeur_standins::provider::Mode::Well);
    stack.signed_in("anouk").await;
}

//! Editions: drafts of two engineers, what a change means and does, going back, and never being locked out.

use reqwest::Method;
use serde_json::{Value, json};

use crate::support::{Person, Stack, engineer, eventually};

const ENGINEERS: &str = "when = { group = \"access-engineers\" }";
const ENTRY: &str = "when = { group = \"berth-access\" }";

fn changed(stack: &Stack, old: &str, new: &str) -> String {
    assert!(stack.site.contains(old), "{old}");
    stack.site.replacen(old, new, 1)
}

async fn publish(stack: &Stack, document: &str, more: Value) -> (u16, Value) {
    let mut ask = json!({"document": document, "note": "a test"});
    ask.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    stack.post("/site/publish", ask).await
}

#[tokio::test(flavor = "multi_thread")]
async fn two_engineers_with_one_draft_do_not_overwrite_each_other() {
    let stack = Stack::new().await;
    let put = |body: &'static str, header: (&'static str, String)| {
        stack.put_with("/site/draft", json!({"document": body, "based_on": 1}), header)
    };
    assert_eq!(put("a", ("x-nothing", String::new())).await.0, 428, "on which version?");
    let (status, first) = put("a", ("if-none-match", "*".into())).await;
    assert_eq!((status, first["sound"].as_bool()), (200, Some(false)));
    assert_eq!(put("b", ("if-none-match", "*".into())).await.0, 412, "there is one by now");
    let version = |d: &Value| format!("\"{}\"", d["version"]);
    let (status, second) = put("b", ("if-match", version(&first))).await;
    assert_eq!(status, 200);
    let (status, problem) = put("c", ("if-match", version(&first))).await;
    assert_eq!((status, problem["type"].as_str()), (412, Some("urn:passeur:problem:conflict")));
    assert!(problem["detail"].as_str().unwrap().contains("first token wrote the draft"), "{problem}");
    let read = stack.get("/site/draft").await;
    assert_eq!((read["document"].as_str(), &read["version"]), (Some("b"), &second["version"]));
    // It cannot be published while it holds mistakes; once it is published it is used up.
    let ask = json!({"draft": true, "note": "x"});
    assert_eq!(stack.post("/site/publish", ask.clone()).await.0, 422);
    let sound: &'static str = Box::leak(stack.site.clone().into_boxed_str());
    assert_eq!(put(sound, ("if-match", version(&second))).await.0, 200);
    let (status, edition) = stack.post("/site/publish", ask.clone()).await;
    assert_eq!((status, edition["number"].as_i64()), (200, Some(2)), "{edition}");
    assert_eq!(stack.post("/site/publish", ask).await.0, 404);
    // A draft that was begun on an edition before the live one is not published over it.
    assert_eq!(put(sound, ("if-none-match", "*".into())).await.0, 200);
    let (status, problem) = stack.post("/site/publish", json!({"draft": true, "note": "x"})).await;
    assert_eq!(status, 409);
    assert!(problem["detail"].as_str().unwrap().contains("Edition 2 is live"), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_that_refuses_people_asks_first_and_names_them() {
    let stack = Stack::with(|s| s[..s.find("# What must stay so").unwrap()].to_owned()).await;
    stack.signed_in("anouk").await;
    let mut visitor = Person::new();
    visitor.sign_in(&stack.gate("/"), "gwen").await;
    let stricter = changed(&stack, ENTRY, "when = { group = \"crane-desk\" }");
    let (status, comparison) = stack.post("/site/compare", json!({"after": {"document": stricter}})).await;
    assert_eq!(status, 200);
    let words: Vec<&str> = comparison["changes"].as_array().unwrap().iter().map(|c| c["words"].as_str().unwrap()).collect();
    assert_eq!(words[0], "gate berths would no longer admit group berth-access, apart from group planners and group crane-desk");
    assert!(comparison["difference"].as_str().unwrap().contains("+when = { group = \"crane-desk\" }"));
    let (status, r) = stack.post("/rehearse", json!({"source": {"document": stricter}})).await;
    assert_eq!(status, 200, "{r}");
    let count = |what: &str| r[what].as_i64().unwrap();
    assert_eq!((count("crossings"), count("same"), count("refused"), count("admitted")), (2, 1, 1, 0), "{r}");
    let affected = &r["refuses"][0];
    assert_eq!((affected["person"].as_str(), affected["gate"].as_str()), (Some("Anouk Tregarec"), Some("berths")));
    assert!(affected["then"].as_str().unwrap().starts_with("None of the 4 rules"), "{affected}");
    let (status, problem) = publish(&stack, &stricter, json!({})).await;
    assert_eq!((status, problem["anyway"].as_str()), (409, Some("refuses-people")));
    assert!(
        problem["detail"].as_str().unwrap().contains("1 person who came in this week: Anouk Tregarec at berths."),
        "{problem}"
    );
    assert_eq!(problem["refuses"].as_array().unwrap().len(), 1);
    assert_eq!(publish(&stack, &stricter, json!({"anyway": ["something-else"]})).await.0, 409);
    let (status, edition) = publish(&stack, &stricter, json!({"anyway": ["refuses-people"]})).await;
    assert_eq!((status, edition["number"].as_i64()), (200, Some(2)));
    // Back: an earlier edition again, as the next one, with the secrets of today.
    stack.put("/secrets/pilotage-client", json!({"value": "ebb-and-flow-of-the-demo"})).await;
    let (status, back) = stack.post("/site/publish", json!({"edition": 1, "note": "back"})).await;
    assert_eq!((status, back["number"].as_i64(), back["copy_of"].as_i64()), (200, Some(3), Some(1)), "{back}");
    let secret = back["secrets"].as_array().unwrap().iter().find(|s| s["name"] == "pilotage-client").unwrap();
    assert_eq!((secret["version"].as_i64(), secret["version_then"].as_i64()), (Some(2), Some(2)));
    let old = stack.get("/site/editions/1").await;
    assert_eq!(old["secrets"].as_array().unwrap().iter().find(|s| s["name"] == "pilotage-client").unwrap()["version_then"], 1);
    let history = stack.get("/site/editions").await;
    let told: Vec<_> = history.as_array().unwrap().iter().map(|e| (e["number"].as_i64(), e["live"].as_bool())).collect();
    assert_eq!(told, [(Some(3), Some(true)), (Some(2), Some(false)), (Some(1), Some(false))]);
    stack.signed_in("anouk").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_edition_that_nobody_confirms_goes_back_by_itself() {
    let stack = Stack::new().await;
    let mut before = engineer(&stack, "lucie").await;
    let titled = changed(&stack, "title = \"Berth ledger\"", "title = \"Ledger of berths\"");
    assert_eq!(publish(&stack, &titled, json!({"confirm_within": 61})).await.0, 400);
    let (status, edition) = publish(&stack, &titled, json!({"confirm_within": 5})).await;
    assert_eq!((status, edition["number"].as_i64()), (200, Some(2)), "{edition}");
    assert!(stack.get("/me").await["confirm_by"].is_string());
    // Neither a token nor a session from before shows that one can still sign in.
    assert_eq!(stack.post("/site/confirm", json!({})).await.0, 409);
    before.extra = vec![("origin", stack.pass(""))];
    let page = before.send(Method::POST, &stack.pass("/api/v1/site/confirm"), None).await;
    assert_eq!(page.status, 409, "{}", page.body);
    let mut after = engineer(&stack, "lucie").await;
    after.extra = vec![("origin", stack.pass(""))];
    let page = after.send(Method::POST, &stack.pass("/api/v1/site/confirm"), None).await;
    assert_eq!(page.status, 200, "{}", page.body);
    stack.clock.advance(chrono::Duration::minutes(6));
    assert_eq!(stack.get("/me").await["edition"], 2, "confirmed, it stays");
    // The next one is not confirmed.
    let (status, _) = publish(&stack, &stack.site, json!({"confirm_within": 1})).await;
    assert_eq!(status, 200);
    stack.clock.advance(chrono::Duration::minutes(2));
    eventually("the edition before is put back", async || stack.get("/me").await["edition"] == 4).await;
    let history = stack.get("/site/editions").await;
    assert_eq!((history[0]["copy_of"].as_i64(), history[0]["note"].as_str()), (Some(2), Some("edition 3 was not confirmed")));
    assert_eq!(stack.get("/site").await["document"], titled);
    let acts = stack.get("/acts?limit=1").await;
    assert_eq!((acts["acts"][0]["what"].as_str(), acts["acts"][0]["by"].as_str()), (Some("go back"), Some("service")));
    assert_eq!(stack.post("/site/confirm", json!({})).await.0, 409, "nothing waits any more");
}

#[tokio::test(flavor = "multi_thread")]
async fn another_directory_base_or_client_is_asked_about_by_name_since_nothing_recorded_tells_of_it() {
    let stack = Stack::with(|s| s[..s.find("# What must stay so").unwrap()].to_owned()).await;
    stack.signed_in("anouk").await;
    stack.settle().await;
    for (old, new, named) in [
        ("base = \"ou=people,dc=havrelune,dc=example\"", "base = \"ou=nobody,dc=havrelune,dc=example\"", "directory harbour"),
        ("filter = \"(objectClass=inetOrgPerson)\"", "filter = \"(objectClass=device)\"", "directory harbour"),
        ("client = \"passeur-havrelune\"", "client = \"somebody-else\"", "provider pilotage"),
    ] {
        let document = changed(&stack, old, new);
        let (status, r) = stack.post("/rehearse", json!({"source": {"document": document}})).await;
        assert_eq!(status, 200, "{r}");
        assert_eq!((r["same"].as_i64(), r["not_known"].as_i64()), (Some(0), Some(1)), "{new}: {r}");
        assert!(r.to_string().contains("what it said then does not count"), "{r}");
        let ask = json!({"document": document, "note": "x", "anyway": ["locked-out", "expectations", "other-issuer"]});
        let (status, asked) = stack.post("/site/publish", ask).await;
        assert_eq!((status, asked["anyway"].as_str()), (409, Some("other-source")), "{new}: {asked}");
        let detail = asked["detail"].as_str().unwrap();
        assert!(detail.contains(named) && detail.contains("gate berths") && detail.contains("passeur trial"), "{detail}");
    }
    // The sign-in host's own address.
    let moved = stack.site.replacen("//pass.havrelune.localhost", "//pass2.havrelune.localhost", 1);
    let ask = json!({"document": moved, "note": "x", "anyway": ["locked-out", "expectations", "other-issuer"]});
    let (status, asked) = stack.post("/site/publish", ask).await;
    assert_eq!((status, asked["anyway"].as_str()), (409, Some("other-source")), "{asked}");
    assert!(asked["detail"].as_str().unwrap().contains("every redirect address"), "{asked}");
    // What changes nothing of who is who is not asked about.
    let harmless = changed(&stack, "cache = \"30s\"", "cache = \"31s\"");
    assert_eq!(stack.post("/site/publish", json!({"document": harmless, "note": "x"})).await.0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_an_edition_would_stand_on_is_tried_before_it_is_live() {
    let stack = Stack::with(|s| s[..s.find("# What must stay so").unwrap()].to_owned()).await;
    stack.signed_in("anouk").await;
    let anyway = ["locked-out", "expectations", "other-issuer", "other-source", "refuses-people"];
    let asked = async |document: &str| {
        let (status, asked) = stack.post("/site/publish", json!({"document": document, "note": "x", "anyway": anyway})).await;
        (status, asked["anyway"].as_str().unwrap_or_default().to_owned(), asked["detail"].as_str().unwrap_or_default().to_owned())
    };
    for (old, new, says) in [
        ("base = \"ou=people,dc=havrelune,dc=example\"", "base = \"ou=nobody,dc=havrelune,dc=example\"", "ou=nobody"),
        ("base = \"ou=groups,dc=havrelune,dc=example\"", "base = \"ou=nothing,dc=havrelune,dc=example\"", "ou=nothing"),
        ("client = \"passeur-havrelune\"", "client = \"somebody-else\"", "provider pilotage"),
        ("secret = \"pilotage-client\"", "secret = \"not-stored\"", "not-stored is not stored"),
    ] {
        let (status, word, detail) = asked(&changed(&stack, old, new)).await;
        assert_eq!((status, word.as_str()), (409, "trial-failed"), "{new}: {detail}");
        assert!(detail.contains(says), "{new}: {detail}");
    }
    // The sign-in host's own address: the provider does not know the redirect address that follows from it.
    let moved = stack.site.replacen("//pass.havrelune.localhost", "//pass2.havrelune.localhost", 1);
    let (status, word, detail) = asked(&moved).await;
    assert_eq!((status, word.as_str()), (409, "trial-failed"), "{detail}");
    assert!(detail.contains("instead of sending back to http://pass2."), "{detail}");
    // Another server gets no stored password: it is not asked at all, and publishing asks about the source.
    let elsewhere = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    elsewhere.set_nonblocking(true).unwrap();
    let there = format!("ldap://{}", elsewhere.local_addr().unwrap());
    let at = stack.site.find("url = \"ldap://").unwrap() + 7;
    let end = at + stack.site[at..].find('"').unwrap();
    let document = format!("{}{there}{}", &stack.site[..at], &stack.site[end..]);
    let ask = json!({"document": document, "note": "x", "anyway": ["locked-out", "expectations", "refuses-people"]});
    let (status, told) = stack.post("/site/publish", ask).await;
    assert_eq!((status, told["anyway"].as_str()), (409, Some("other-source")), "{told}");
    let asked_of_trial = json!({"name": "harbour", "document": document});
    let (status, told) = stack.post("/trials/directory", asked_of_trial).await;
    assert_eq!((status, &told["good"]), (200, &json!(true)), "{told}");
    assert!(told.to_string().contains("only for whoever stored it"), "{told}");
    assert!(elsewhere.accept().is_err(), "nobody came there");
    // What works is published, and the word goes through all the same.
    assert_eq!(asked(&changed(&stack, "cache = \"30s\"", "cache = \"31s\"")).await.0, 200);
    assert_eq!(stack.publish(&changed(&stack, "client = \"passeur-havrelune\"", "client = \"somebody-else\"")).await.0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_person_is_rehearsed_in_the_directories_of_the_draft() {
    let stack = Stack::with(|s| s[..s.find("# What must stay so").unwrap()].to_owned()).await;
    stack.signed_in("anouk").await;
    stack.settle().await;
    let rehearse = async |document: &str, fresh: bool| {
        let ask = json!({"source": {"document": document}, "provider": "pilotage", "subject": "p-1001", "gate": "berths", "fresh": fresh});
        let (status, r) = stack.post("/rehearse/person", ask).await;
        assert_eq!(status, 200, "{r}");
        let of = |v: &serde_json::Value| v["verdict"].as_str().unwrap().to_owned();
        (of(&r["gates"][0]["now"]), of(&r["gates"][0]["then"]))
    };
    let says = |a: &str, b: &str| (a.to_owned(), b.to_owned());
    let nowhere = changed(&stack, "base = \"ou=people,dc=havrelune,dc=example\"", "base = \"ou=groups,dc=havrelune,dc=example\"");
    assert_eq!(rehearse(&nowhere, false).await, says("in", "not-known"), "what the other one said does not count");
    assert_eq!(rehearse(&nowhere, true).await, says("in", "out"), "the draft's is asked");
    let wider = changed(&stack, "base = \"ou=people,dc=havrelune,dc=example\"", "base = \"dc=havrelune,dc=example\"");
    assert_eq!(rehearse(&wider, true).await, says("in", "in"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_that_would_lock_engineers_out_is_refused_unless_forced_by_name() {
    let stack = Stack::new().await;
    let locked = changed(&stack, ENGINEERS, "when = { group = \"acces-engineers\" }");
    // Nobody ever signed in as an engineer: nothing can be said.
    assert_eq!(publish(&stack, &locked, json!({})).await.0, 200);
    assert_eq!(publish(&stack, &stack.site, json!({})).await.0, 200);
    let mut lucie = engineer(&stack, "lucie").await;
    let (status, problem) = publish(&stack, &locked, json!({"anyway": ["refuses-people"]})).await;
    assert_eq!((status, problem["anyway"].as_str()), (409, Some("locked-out")), "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains("Lucie Morvan"), "{problem}");
    // The publisher's own session is what counts for them.
    lucie.extra = vec![("origin", stack.pass("")), ("content-type", "application/json".into())];
    let body = json!({"document": locked, "note": "x"}).to_string();
    let page = lucie.send_body(Method::POST, &stack.pass("/api/v1/site/publish"), body).await;
    assert_eq!(page.status, 409);
    assert!(page.json()["detail"].as_str().unwrap().starts_with("You could not configure"), "{}", page.body);
    let gone = changed(
        &stack,
        "[engineers]\nprovider = \"pilotage\"\ndirectory = \"harbour\"\n\n",
        "[engineers]\nprovider = \"pilotage\"\n\n",
    );
    assert_eq!(publish(&stack, &gone, json!({})).await.0, 409, "groups come from the provider then, and are others");
    let forced = json!({"anyway": ["locked-out", "refuses-people"]});
    assert_eq!(publish(&stack, &locked, forced).await.0, 200);
    let acts = stack.get("/acts?limit=1").await;
    assert_eq!(acts["acts"][0]["about"]["anyway"], json!(["locked-out", "refuses-people"]));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_expectation_that_would_not_hold_names_the_rule_that_breaks_it() {
    let stack = Stack::new().await;
    let looser = changed(&stack, "when = { group = \"fitters\" }\nenter = true", "when = { everyone = true }\nenter = true");
    let looser = looser.replacen(
        "person = { groups = [\"fitters\"], claims = { preferred_username = \"farid\" }, amr = [\"pwd\"] }",
        "person = { groups = [], claims = { preferred_username = \"x\" } }",
        1,
    );
    let (_, check) = stack.post("/site/check", json!({"document": looser})).await;
    let finding = &check["findings"][0];
    assert_eq!((check["sound"].as_bool(), finding["severity"].as_str()), (Some(true), Some("expectation")), "{check}");
    assert_eq!(finding["what"], "must be refused, and comes in");
    assert!(finding["remedy"].as_str().unwrap().contains("is granted by crane fitters"), "{finding}");
    let (status, problem) = publish(&stack, &looser, json!({})).await;
    assert_eq!(
        (status, problem["anyway"].as_str(), problem["findings"].as_array().unwrap().len()),
        (409, Some("expectations"), 1)
    );
    assert_eq!(publish(&stack, &looser, json!({"anyway": ["expectations"]})).await.0, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn one_person_is_rehearsed_from_what_is_known_or_described() {
    let stack = Stack::new().await;
    stack.signed_in("anouk").await;
    let stricter = changed(&stack, ENTRY, "when = { group = \"crane-desk\" }");
    let ask = json!({"source": {"document": stricter}, "provider": "pilotage", "subject": "p-1001"});
    let (status, r) = stack.post("/rehearse/person", ask).await;
    assert_eq!(status, 200, "{r}");
    let berths = &r["gates"][0];
    assert_eq!(
        (berths["effect"].as_str(), berths["now"]["verdict"].as_str(), berths["then"]["verdict"].as_str()),
        (Some("refused"), Some("in"), Some("out"))
    );
    assert!(berths["now"]["headers"].as_array().unwrap().contains(&json!("X-Harbour-User: anouk")), "{berths}");
    assert_eq!(r["gates"].as_array().unwrap().last().unwrap()["gate"], "console");
    // Described by hand, without any directory.
    let planner = json!({"provider": "pilotage", "claims": {"preferred_username": "new", "name": "New Planner"}, "amr": ["mfa"], "groups": ["planners"]});
    let (status, r) = stack.post("/rehearse/person", planner.clone()).await;
    assert_eq!((status, r["gates"][0]["now"]["verdict"].as_str()), (200, Some("in")), "{r}");
    assert_eq!(r["gates"][0]["now"]["roles"], json!(["planner"]));
    // Described by hand, with the directory asked: Benoît's groups, whoever signs in.
    let real = json!({"provider": "pilotage", "claims": {"preferred_username": "benoit"}, "amr": ["mfa"], "gate": "berths"});
    let (_, r) = stack.post("/rehearse/person", real).await;
    assert_eq!((r["gates"].as_array().unwrap().len(), r["gates"][0]["now"]["roles"].clone()), (1, json!(["planner"])), "{r}");
    // Nobody like that, no provider like that, and a document with mistakes.
    let ask = |provider: &str, subject: &str| json!({"provider": provider, "subject": subject});
    assert_eq!(stack.post("/rehearse/person", ask("pilotage", "nobody")).await.0, 404);
    assert_eq!(stack.post("/rehearse/person", json!({"provider": "x", "claims": {}})).await.0, 404);
    assert_eq!(stack.post("/rehearse", json!({"source": {"document": "x ="}})).await.0, 422);
    assert_eq!(stack.post("/rehearse", json!({"source": {"document": "x", "edition": 1}})).await.0, 400);
    assert_eq!(stack.post("/rehearse", json!({"source": {}, "days": 0})).await.0, 400);
    // Nothing was changed by any of it, and nobody was recorded.
    assert_eq!(stack.get("/me").await["edition"], 1);
    assert_eq!(stack.get("/crossings").await["crossings"].as_array().unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_node_that_cannot_load_an_edition_keeps_the_last_good_one_and_says_so() {
    let stack = Stack::new().await;
    let db = stack.database.look().await;
    db.execute(
        "INSERT INTO editions (number, document, note, author, published_at) SELECT 2, 'format = 9', 'x', 'x', published_at FROM editions",
        &[],
    )
    .await
    .unwrap();
    eventually("it says so", async || stack.get("/me").await["trouble"].is_string()).await;
    let me = stack.get("/me").await;
    assert_eq!(me["edition"], 1);
    assert!(me["trouble"].as_str().unwrap().contains("edition 2 cannot be loaded on node test; edition 1 stays in use"), "{me}");
    stack.signed_in("anouk").await;
}

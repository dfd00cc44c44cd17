//! A provider is tried with nothing switched: all that came back is shown, and a wrong value of each kind is named.

use passeur_standins::provider::{Mode, Service};
use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::passeur;
use crate::support::{Page, Person, Stack, engineer, eventually, on_port};

/// The harbour's site file with one more SAML provider that no gate uses; `change` makes one of its values wrong.
fn with_office(stack: &Stack, change: impl Fn(String) -> String) -> String {
    let here = format!("http://bureau-pilotage.localhost:{}", stack.provider_port());
    let part = format!(
        "[[provider]]\nname = \"office\"\nkind = \"saml\"\nissuer = \"{here}/saml\"\nsign-on = \"{here}/saml/sign-on\"\n\
         certificates = [\"{}\"]\n[provider.attributes]\nuser = \"user\"\nname = \"name\"\nmail = \"mail\"\n",
        stack.provider.certificate()
    );
    format!("{}\n{}", stack.site, change(part))
}

async fn introduce(stack: &Stack) {
    let known = stack.introduce().await;
    let consumers = vec![stack.pass("/.passeur/saml/office/answer"), stack.pass("/.passeur/saml/pilotage-saml/answer")];
    stack.provider.add_service(Service { consumers, ..known });
}

async fn begin(stack: &Stack, ask: Value) -> Value {
    let (status, trial) = stack.post("/trials/sign-in", ask).await;
    assert_eq!(status, 200, "{trial}");
    trial
}

/// Signs somebody in at the address of a trial.
async fn go(trial: &Value, user: &str) -> (Person, Page) {
    let mut person = Person::new();
    let page = person.open(trial["address"].as_str().unwrap()).await;
    if !page.body.contains("Password") {
        return (person, page);
    }
    let back = person.prove(page, user).await;
    let page = match back.status.is_redirection() {
        true => person.follow(back).await,
        false => {
            let parked = person.submit(&back).await;
            person.follow(parked).await
        }
    };
    (person, page)
}

async fn brought(stack: &Stack, trial: &Value) -> Value {
    stack.get(&format!("/trials/sign-in/{}", trial["id"].as_str().unwrap())).await["brought"].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_that_only_a_draft_knows_is_signed_in_through_and_opens_nothing() {
    let stack = Stack::new().await;
    introduce(&stack).await;
    let document = with_office(&stack, |p| p);
    stack.put_with("/site/draft", json!({"document": document, "based_on": 1}), ("if-none-match", "*".into())).await;
    let trial = begin(&stack, json!({"provider": "office", "draft": true})).await;
    assert_eq!(trial["source"], "the draft");
    assert_eq!(brought(&stack, &trial).await, Value::Null);
    let (mut benoit, page) = go(&trial, "benoit").await;
    assert!(page.body.contains("was believed"), "{} {}", page.url, page.body);
    assert!(!benoit.cookies["pass.havrelune.localhost"].keys().any(|c| c.ends_with("session")), "no session began");
    let b = brought(&stack, &trial).await;
    assert_eq!((b["outcome"].as_str(), b["subject"].as_str()), (Some("tried"), Some("p-1002")), "{b}");
    let steps = b["steps"].to_string();
    for said in ["began a trial sign-in", "check.assertion", "assertion signed", "urn:pilotage:two-factors"] {
        assert!(steps.contains(said), "{said}: {steps}");
    }
    let raw = b["raw"][0]["text"].as_str().unwrap();
    assert!(raw.contains("<saml:NameID") && raw.contains("benoit") && raw.contains("SignatureValue>…<"), "{raw}");
    let at = |gate: &str| b["gates"].as_array().unwrap().iter().find(|g| g["gate"] == gate).unwrap().clone();
    assert_eq!((at("agents")["verdict"].as_str(), at("agents")["uses"].as_bool()), (Some("in"), Some(false)));
    assert!(at("berths")["headers"].to_string().contains("X-Harbour-Roles: planner"), "{}", at("berths"));
    assert!(at("berths")["steps"].to_string().contains("directory.answered"), "what the directory adds");
    // The crane logbook goes by groups that a provider sends, and this one sends none.
    assert_eq!(at("cranes")["verdict"], "out");
    assert_eq!(at("harbour-wide")["verdict"], "in");
    assert_eq!(at("console")["verdict"], "out");
    // It counts once, and is told as a crossing.
    let again = benoit.send(Method::GET, trial["address"].as_str().unwrap(), None).await;
    assert_eq!(again.status, 410);
    let story = stack.story(b["crossing"].as_str().unwrap()).await;
    assert_eq!((story["outcome"].as_str(), story["gate"].as_str()), (Some("tried"), Some("trial")));
    // Whoever may not configure sees nothing of it.
    let mut marc = engineer(&stack, "marc").await;
    let path = format!("/api/v1/trials/sign-in/{}", trial["id"].as_str().unwrap());
    assert_eq!(marc.open(&stack.pass(&path)).await.status, 403);
    assert_eq!(Person::new().open(&stack.pass(&path)).await.status, 401);
    stack.clock.advance(chrono::Duration::minutes(61));
    assert_eq!(stack.status(&format!("/trials/sign-in/{}", trial["id"].as_str().unwrap())).await, 404);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_of_a_document_that_takes_a_live_ones_name_never_gets_an_answer_meant_for_that() {
    let stack = Stack::new().await;
    let liar = crate::authorities::another(&stack).await;
    let live = stack.provider_origin();
    stack.put("/secrets/spare", json!({"value": "kept for later"})).await;
    let document = stack
        .site
        .replace("secret = \"pilotage-client\"", "secret = \"spare\"")
        .replace(&format!("issuer = \"{live}\""), &format!("issuer = \"{liar}\""));
    let trial = begin(&stack, json!({"provider": "pilotage", "document": document})).await;
    let own = stack.pass("/.passeur/oidc/pilotage/trial");
    assert_eq!(trial["register"].as_str(), Some(own.as_str()), "{trial}");
    // Nobody registered that address at the provider that the live edition trusts: an answer of that one cannot come there.
    let mut lucie = Person::new();
    let sent = lucie.send(Method::GET, trial["address"].as_str().unwrap(), None).await;
    let to = url::Url::parse(sent.headers["location"].to_str().unwrap()).unwrap();
    let given = |name: &str| to.query_pairs().find(|(n, _)| n == name).unwrap().1.into_owned();
    assert_eq!(given("redirect_uri"), own);
    // The liar sends the browser on to the live provider, with the live address and all that binds the answer to this browser.
    let mut onward = to.clone();
    onward.set_port(url::Url::parse(&live).unwrap().port()).unwrap();
    onward.set_query(None);
    let answer_at = stack.pass("/.passeur/oidc/pilotage/answer");
    for (name, value) in to.query_pairs() {
        let value = if name == "redirect_uri" { answer_at.as_str().into() } else { value };
        onward.query_pairs_mut().append_pair(&name, &value);
    }
    let page = lucie.open(onward.as_str()).await;
    assert!(page.body.contains("Password"), "the live provider knows the address: {} {}", page.status, page.body);
    let back = lucie.prove(page, "lucie").await;
    let page = lucie.follow(back).await;
    // The code is good, and it is given to nobody.
    assert_eq!(page.status, 403, "{} {}", page.url, page.body);
    let story = stack.story(&page.crossing()).await;
    assert!(story["steps"].to_string().contains("is not one of ours"), "{story}");
    assert_eq!(brought(&stack, &trial).await, Value::Null);
    // The same provider under the same name needs no other address.
    let same = begin(&stack, json!({"provider": "pilotage", "document": stack.site})).await;
    assert_eq!(same["register"], Value::Null);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stored_secret_that_nobody_uses_is_sent_nowhere_by_whoever_may_try_a_document() {
    let stack = Stack::new().await;
    stack.put("/secrets/spare", json!({"value": "kept for later"})).await;
    let live = stack.provider_origin();
    let liar = crate::authorities::another(&stack).await;
    let document = stack
        .site
        .replace("secret = \"pilotage-client\"", "secret = \"spare\"")
        .replace(&format!("issuer = \"{live}\""), &format!("issuer = \"{liar}\""));
    let mut lucie = crate::support::engineer(&stack, "lucie").await;
    let ask = json!({"provider": "pilotage", "document": document}).to_string();
    let trial = crate::outliving::call(&mut lucie, &stack, "/trials/sign-in", &ask).await;
    let trial: Value = serde_json::from_str(&trial.body).unwrap();
    let page = Person::new().open(trial["address"].as_str().unwrap()).await;
    assert!(!page.body.contains("Password"), "nobody is sent there: {}", page.body);
    let said = brought(&stack, &trial).await.to_string();
    assert!(said.contains("The stored secret spare is not sent to"), "{said}");
    // Whoever stored it may have it tried.
    let own = begin(&stack, json!({"provider": "pilotage", "document": document})).await;
    let page = Person::new().open(own["address"].as_str().unwrap()).await;
    assert!(page.body.contains("not registered here"), "the provider was asked: {}", page.body);
    // A live edition that names a secret which is not stored sends nobody to the provider without it.
    let unstored = stack.site.replace("secret = \"pilotage-client\"", "secret = \"not-stored\"");
    let anyway = ["refuses-people", "locked-out", "expectations", "other-source", "trial-failed"];
    let (status, answer) = stack.post("/site/publish", json!({"document": unstored, "note": "x", "anyway": anyway})).await;
    assert_eq!(status, 200, "{answer}");
    let page = Person::new().open(&stack.gate("/")).await;
    assert_eq!(page.status.as_u16(), 502, "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "sign-in.secret-missing", "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_value_of_each_kind_is_named_with_what_was_seen_and_what_was_wanted() {
    let stack = Stack::new().await;
    introduce(&stack).await;
    let here = format!("http://bureau-pilotage.localhost:{}", stack.provider_port());
    let other = crate::support::another_key();
    let other: String = {
        let pem = other.split_once("-----BEGIN CERTIFICATE-----").unwrap().1.split_once("-----END").unwrap().0;
        pem.split_whitespace().collect()
    };
    type Change<'a> = Box<dyn Fn(String) -> String + 'a>;
    let own = stack.provider.certificate();
    let cases: Vec<(Change<'_>, &str, &str)> = vec![
        (
            Box::new(|p| p.replace(&format!("issuer = \"{here}/saml\""), "issuer = \"https://other.example\"")),
            "check.saml-issuer",
            "https://other.example",
        ),
        (Box::new(|p| p.replace(&own, &other)), "check.saml-signature", "fits none"),
        (
            Box::new(|p| p.replace("[provider.attributes]", "require-encrypted = true\n[provider.attributes]")),
            "check.saml-not-encrypted",
            "in clear",
        ),
        (
            Box::new(|p| p.replace("[provider.attributes]", "subject = \"employee\"\n[provider.attributes]")),
            "check.saml-no-subject",
            "employee",
        ),
        (
            Box::new(|p| {
                let by_hand = format!("sign-on = \"{here}/saml/sign-on\"\ncertificates = [\"{own}\"]");
                p.replace(&by_hand, &format!("metadata = \"{here}/nothing\""))
            }),
            "provider.metadata-failed",
            "404",
        ),
    ];
    for (change, code, said) in &cases {
        let document = with_office(&stack, change);
        let trial = begin(&stack, json!({"provider": "office", "document": document})).await;
        let (_, page) = go(&trial, "benoit").await;
        assert!(page.body.contains("was not believed"), "{code}: {}", page.body);
        let b = brought(&stack, &trial).await;
        let decided = b["steps"].as_array().unwrap().iter().find(|s| s["decided"] == true).unwrap().clone();
        assert_eq!(decided["code"], *code, "{b}");
        assert!(b["why"].as_str().unwrap().contains(said), "{code}: {}", b["why"]);
        assert!(decided["remedy"].is_string() && b["gates"].as_array().unwrap().is_empty());
        assert!(
            *code == "provider.metadata-failed" || b["raw"][0]["text"].as_str().unwrap().contains("benoit"),
            "what came is shown all the same"
        );
    }
    // What is too weak for the site's own provider, or missing for a gate, is told gate by gate.
    let document = with_office(&stack, |p| {
        p.replace("[provider.attributes]", "require-acr = [\"urn:other\"]\n[provider.attributes]")
            .replace("user = \"user\"", "user = \"login\"")
    });
    let trial = begin(&stack, json!({"provider": "office", "document": document})).await;
    go(&trial, "benoit").await;
    let b = brought(&stack, &trial).await;
    assert_eq!(b["outcome"], "tried");
    let berths = &b["gates"][0];
    assert!(berths["verdict"] == "out" && berths["because"].as_str().unwrap().contains("urn:other"), "{berths}");
    let document = with_office(&stack, |p| p.replace("user = \"user\"", "user = \"login\""));
    let trial = begin(&stack, json!({"provider": "office", "document": document})).await;
    go(&trial, "benoit").await;
    let b = brought(&stack, &trial).await;
    assert!(b["gates"][0]["because"].as_str().unwrap().contains("did not release it"), "{}", b["gates"][0]);
    assert!(b["gates"][0]["missing"].to_string().contains("user is absent"), "{}", b["gates"][0]);
    // The provider's own refusal stays its own.
    stack.behave(Mode::Refuses);
    let trial = begin(&stack, json!({"provider": "office", "document": with_office(&stack, |p| p)})).await;
    let mut person = Person::new();
    let page = person.open(trial["address"].as_str().unwrap()).await;
    let parked = person.submit(&page).await;
    person.follow(parked).await;
    let b = brought(&stack, &trial).await;
    assert_eq!(b["outcome"], "provider-refused");
    assert!(b["why"].as_str().unwrap().contains("The office is closed to this account"), "{b}");
}

#[tokio::test(flavor = "multi_thread")]
async fn openid_connect_is_tried_in_the_same_way() {
    let stack = Stack::new().await;
    let trial = begin(&stack, json!({"provider": "pilotage"})).await;
    let (_, page) = go(&trial, "jonas").await;
    assert!(page.body.contains("was believed"), "{}", page.body);
    let b = brought(&stack, &trial).await;
    let names: Vec<&str> = b["raw"].as_array().unwrap().iter().map(|r| r["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["id_token", "userinfo"]);
    let token = b["raw"][0]["text"].as_str().unwrap();
    assert!(token.contains("\"kid\": \"tide-1\"") && token.contains("\"amr\"") && !token.contains("eyJ"), "{token}");
    let berths = &b["gates"][0];
    assert!(berths["uses"] == true && berths["missing"].to_string().contains("X-Harbour-Staff-Number is not sent"), "{berths}");
    stack.put("/secrets/pilotage-client", json!({"value": "wrong"})).await;
    let trial = begin(&stack, json!({"provider": "pilotage"})).await;
    go(&trial, "benoit").await;
    let b = brought(&stack, &trial).await;
    assert!(b["why"].as_str().unwrap().contains("invalid_client"), "{b}");
    // A stored secret goes nowhere but to whom the live edition gives it.
    let thief = stack.site.replace("issuer = \"http://bureau-pilotage.localhost", "issuer = \"http://elsewhere.localhost");
    for (secret, document) in [
        ("harbour-account", stack.site.replace("secret = \"pilotage-client\"", "secret = \"harbour-account\"")),
        ("pilotage-client", thief.replace("http://elsewhere.localhost", "http://localhost")),
    ] {
        let trial = begin(&stack, json!({"provider": "pilotage", "document": document})).await;
        let (_, page) = go(&trial, "benoit").await;
        assert!(page.body.contains("was not believed"), "{secret}: {}", page.body);
        let b = brought(&stack, &trial).await;
        assert!(b["why"].as_str().unwrap().contains(&format!("The stored secret {secret} is not sent to")), "{secret}: {b}");
        assert!(!b.to_string().contains("client_secret_basic"), "no secret was at hand: {b}");
    }
    for (ask, status) in [
        (json!({"provider": "nobody"}), 404),
        (json!({"provider": "pilotage", "draft": true}), 404),
        (json!({"provider": "pilotage", "document": "format = 1"}), 422),
    ] {
        assert_eq!(stack.post("/trials/sign-in", ask.clone()).await.0, status, "{ask}");
    }
    let page = Person::new().open(&stack.pass("/.passeur/sign-in?trial=nonsense")).await;
    assert_eq!(page.status, 410);
}

const TUNNEL: &str = include_str!("../../demo/tunnel.toml");

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_of_an_entrance_says_for_whom_and_is_for_those_who_may() {
    let stack = Stack::with(|site| format!("{site}\n{}", on_port(&site, TUNNEL))).await;
    for (ask, status, words) in [
        (json!({"entrance": "pilots"}), 400, "Say for whom"),
        (json!({"entrance": "pilots", "from": " ", "person": ""}), 400, "Say for whom"),
        (json!({"entrance": "pilots", "from": "the office"}), 400, "from is the IP address"),
        (json!({"entrance": "pilots", "from": "0.0.0.0/0"}), 400, "many people's"),
        (json!({"entrance": "pilots", "from": "2001:db8::/32"}), 400, "no wider than /48"),
        (json!({"entrance": "pilots", "person": "x".repeat(201)}), 400, "at most 200"),
        (json!({"entrance": "pilots", "person": "a\u{0}b"}), 400, "person is"),
        (json!({"entrance": "elsewhere", "person": "anouk"}), 404, "has an entrance \"elsewhere\""),
        (json!({"entrance": "switches", "person": "anouk"}), 404, "has an entrance \"switches\""),
        (json!({"entrance": "pilots", "persons": "anouk"}), 422, "persons"),
    ] {
        let (got, said) = stack.post("/trials/entrance", ask.clone()).await;
        assert!(got == status && said["detail"].as_str().unwrap().contains(words), "{ask}: {got} {said}");
    }
    // A wide network says for whom where a person does as well; an address of one family in the other is that address.
    let (status, wide) =
        stack.post("/trials/entrance", json!({"entrance": "pilots", "from": "10.0.0.9/8", "person": "anouk"})).await;
    assert!(status == 200 && wide["from"] == "10.0.0.0/8", "{wide}");
    let (status, mapped) = stack.post("/trials/entrance", json!({"entrance": "pilots", "from": "::ffff:198.51.100.7"})).await;
    assert!(status == 200 && mapped["from"] == "198.51.100.7", "{mapped}");
    // Nobody speaks with the VPN server: it is told before anybody connects, with what to do.
    assert_eq!(mapped["findings"][0]["code"], "tunnel.server-lost");
    assert!(mapped["findings"][0]["remedy"].as_str().unwrap().contains("--tunnel pilots=SOCKET"), "{mapped}");
    // Who may look, looks; ending and beginning are for who may act. Both are kept in the record of acts.
    let mut lucie = engineer(&stack, "lucie").await;
    let ask = json!({"name": "viewer", "role": "view", "days": 1}).to_string();
    let made = crate::outliving::call(&mut lucie, &stack, "/tokens", &ask).await.json();
    let one = format!("/trials/entrance/{}", mapped["id"].as_str().unwrap());
    for (method, path, status) in [
        (Method::GET, "/trials/entrance", 200),
        (Method::GET, one.as_str(), 200),
        (Method::POST, "/trials/entrance", 403),
        (Method::DELETE, one.as_str(), 403),
    ] {
        let mut viewer = Person::new();
        let bearer = format!("Bearer {}", made["value"].as_str().unwrap());
        viewer.extra = vec![("authorization", bearer), ("content-type", "application/json".to_owned())];
        let body = json!({"entrance": "pilots", "person": "anouk"}).to_string();
        let page = viewer.send_body(method.clone(), &stack.pass(&format!("/api/v1{path}")), body).await;
        assert_eq!(page.status, status, "{method} {path}: {}", page.body);
    }
    assert_eq!(stack.status("/trials/entrance/00000000-0000-0000-0000-000000000000").await, 404);
    assert_eq!(stack.delete(&one).await.0, 200);
    let (status, again) = stack.delete(&one).await;
    assert!(status == 200 && again["open"] == false, "ended twice is ended once: {again}");
    let acts = stack.get("/acts").await.to_string();
    assert_eq!(acts.matches("\"end trial of an entrance\"").count(), 1, "{acts}");
    assert_eq!(acts.matches("\"trial of an entrance\"").count(), 2, "{acts}");
    // The command says where to connect and what is wrong, and tells that nobody came.
    let command = passeur(&stack, &["trial", "entrance", "pilots", "--person", "Anouk Tregarec"], "");
    let ended = async {
        let begun = async || {
            stack.get("/trials/entrance").await.as_array().unwrap().iter().find(|t| t["person"] == "Anouk Tregarec").cloned()
        };
        eventually("the command began one", async || begun().await.is_some()).await;
        let id = begun().await.unwrap()["id"].as_str().unwrap().to_owned();
        let list = passeur(&stack, &["trial", "entrance", "--list"], "").await;
        assert!(list.out.contains("Anouk Tregarec") && list.out.contains("anouk from 10.0.0.0/8"), "{}", list.out);
        passeur(&stack, &["trial", "entrance", "--id", &id, "--end"], "").await
    };
    let (ran, end) = tokio::join!(command, ended);
    assert!(ran.code == 3 && end.code == 3, "{} {}", ran.err, end.err);
    assert!(ran.err.contains("Connect with a client to 198.51.100.1:1194/udp now."), "{}", ran.err);
    assert!(ran.err.contains("! No node speaks with the VPN server of entrance pilots"), "{}", ran.err);
    assert!(ran.out.contains("Nobody came by entrance pilots in this trial."), "{}", ran.out);
    // So many at once, and no more.
    let mut statuses = vec![];
    for n in 0..21 {
        statuses.push(stack.post("/trials/entrance", json!({"entrance": "pilots", "person": format!("p-{n}")})).await.0);
    }
    assert_eq!(statuses.iter().filter(|s| **s == 429).count(), 2, "{statuses:?}");
}

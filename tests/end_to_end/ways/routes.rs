//! Sign-in routes: the name typed decides, the network and the device do, and nobody learns from it who has an account.

use std::collections::BTreeMap;

use futures_util::StreamExt;
use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::support::{Page, Person, Stack};

/// Where a name leads at the ledger for everybody.
async fn by_name(stack: &Stack, person: &mut Person, name: &str) -> Page {
    let page = person.open(&stack.everybody("/received")).await;
    let done = person.fill_in(&page, &[("name", name)]).await;
    person.follow(done).await
}

/// What a page is of: the host it stands on, and its first words.
fn led_to(page: &Page) -> &'static str {
    let office = page.url.contains("bureau-pilotage.localhost");
    match page.body.as_str() {
        _ if office && page.url.contains("/saml") => "pilotage-saml",
        _ if office => "pilotage",
        b if b.contains("/.passeur/way/harbour-password") => "harbour-password",
        b if b.contains("/.passeur/way/visitors") => "visitors",
        b if b.contains("How do you want to sign in?") => "asked",
        b if b.contains("/.passeur/name") => "name",
        b => panic!("{}: {b}", page.url),
    }
}

fn codes(story: &Value) -> Vec<String> {
    story["steps"].as_array().unwrap().iter().map(|s| s["code"].as_str().unwrap().to_owned()).collect()
}

/// Puts routes in the place of the demo's.
fn routes(site: &str, text: &str) -> String {
    let begin = site.find("[[route]]").unwrap();
    let end = site.find("# Who may use the console.").unwrap();
    format!("{}{text}\n{}", &site[..begin], &site[end..])
}

#[tokio::test]
async fn a_name_decides_where_somebody_signs_in_and_goes_along() {
    let stack = Stack::new().await;
    for (name, way) in [
        ("master@SHIPS.example", "visitors"),
        ("agent@agents.example", "pilotage-saml"),
        ("AGENTS.example\\agent", "pilotage-saml"),
        ("elodie", "harbour-password"),
        ("benoit", "pilotage"),
    ] {
        let page = by_name(&stack, &mut Person::new(), name).await;
        assert_eq!(led_to(&page), way, "{name}: {}", page.url);
        match way {
            "visitors" | "harbour-password" => assert!(page.body.contains(&format!("value=\"{name}\"")), "{}", page.body),
            "pilotage" => assert!(page.url.contains("login_hint=benoit"), "{}", page.url),
            _ => {}
        }
    }
    // All the way in, and told: which route decided, and why those before it did not.
    let mut benoit = Person::new();
    let page = by_name(&stack, &mut benoit, "benoit").await;
    let back = benoit.prove(page, "benoit").await;
    benoit.accept = "application/json";
    assert_eq!(benoit.follow(back).await.saw("x-harbour-user"), ["benoit"]);
    let list = stack.get("/crossings?outcome=admitted&limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    let told: Vec<&str> = story["steps"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|s| s["code"].as_str().unwrap().starts_with("route."))
        .map(|s| s["sentence"].as_str().unwrap())
        .collect();
    insta::assert_snapshot!(told.join("\n"));
    assert!(!story.to_string().contains("login_hint=benoit"), "what was typed is not told: {story}");
    // The browser remembers, and is not asked for a name again.
    let host = "pass.havrelune.localhost";
    benoit.cookies.get_mut(host).unwrap().remove("passeur-session");
    benoit.cookies.remove("everybody.havrelune.localhost");
    benoit.cookies.remove("bureau-pilotage.localhost");
    benoit.accept = "text/html";
    stack.clock.advance(chrono::Duration::minutes(2));
    assert_eq!(led_to(&benoit.open(&stack.everybody("/received")).await), "pilotage");
    let (outcome, _) = stack.latest().await;
    assert_eq!(outcome, "waiting");
    let list = stack.get("/crossings?limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(codes(&story).contains(&"route.remembered".to_owned()), "{story}");
}

#[tokio::test]
async fn networks_devices_and_gates_decide_without_a_name() {
    let text = r#"
[[route]]
name = "telephones"
device = "mobile"
ways-in = "harbour-password"

[[route]]
name = "the yard"
network = "10.20.0.0/16"
gate = "harbour-wide"
ways-in = ["visitors", "harbour-password"]
ask = true

[[route]]
name = "at the quay"
gate = "quay"
ways-in = "visitors"

[[route]]
name = "everybody"
ways-in = ["pilotage", "harbour-password"]
"#;
    let proxy = "trusted-proxies = [\"127.0.0.1\"]\nproxies-write = \"x-forwarded-for\"\nkeep-crossings";
    let stack = Stack::with(|s| routes(&s.replacen("keep-crossings", proxy, 1), text)).await;
    let open = async |headers: &[(&'static str, &str)], url: String| {
        let mut person = Person::new();
        person.extra = headers.iter().map(|(n, v)| (*n, (*v).to_owned())).collect();
        led_to(&person.open(&url).await)
    };
    let everybody = || stack.everybody("/received");
    assert_eq!(open(&[], everybody()).await, "pilotage");
    assert_eq!(open(&[("sec-ch-ua-mobile", "?1")], everybody()).await, "harbour-password");
    // The proxy is believed, and those that it names are not.
    assert_eq!(open(&[("x-forwarded-for", "10.20.3.4")], everybody()).await, "asked");
    assert_eq!(open(&[("x-forwarded-for", "10.20.3.4, 192.0.2.1")], everybody()).await, "pilotage");
    assert_eq!(open(&[("forwarded", "for=10.20.3.4")], everybody()).await, "pilotage");
    assert_eq!(open(&[("forwarded", "for=10.20.3.4"), ("x-forwarded-for", "192.0.2.1")], everybody()).await, "pilotage");
    assert_eq!(open(&[], stack.pass("/.passeur/sign-in?for=quay")).await, "visitors");
    // A way that the route does not lead to is not to be had by naming it.
    let mut person = Person::new();
    let page = person.open(&format!("{}&way=visitors", stack.pass("/.passeur/sign-in?for=console"))).await;
    assert_eq!(led_to(&page), "pilotage", "{}", page.url);
    let mut person = Person::new();
    person.cookies.entry("pass.havrelune.localhost".into()).or_default().insert("passeur-way".into(), "visitors".into());
    assert_eq!(led_to(&person.open(&everybody()).await), "pilotage");
}

#[tokio::test]
async fn nobody_learns_from_a_route_who_has_an_account() {
    let text = r#"
[[route]]
name = "lock keepers"
gate = "harbour-wide"
entry = { directory = "harbour", attribute = "department", is = "locks" }
ways-in = "harbour-password"

[[route]]
name = "planners"
gate = "harbour-wide"
entry = { directory = "harbour", group = "planners" }
ways-in = "visitors"

[[route]]
name = "known at the office"
gate = "harbour-wide"
known-by = "user"
ways-in = "pilotage-saml"

[[route]]
name = "everybody else"
gate = "harbour-wide"
ways-in = "pilotage"
"#;
    let stack = Stack::with(|s| routes(&s, text)).await;
    assert_eq!(led_to(&by_name(&stack, &mut Person::new(), "elodie").await), "harbour-password");
    assert_eq!(led_to(&by_name(&stack, &mut Person::new(), "benoit").await), "visitors");
    assert_eq!(led_to(&by_name(&stack, &mut Person::new(), "anouk").await), "pilotage");
    // Names that nobody has are spread over all of it, always alike.
    let mut seen: BTreeMap<&str, usize> = BTreeMap::new();
    for n in 0..40 {
        let name = format!("nobody-{n}");
        let led = led_to(&by_name(&stack, &mut Person::new(), &name).await);
        *seen.entry(led).or_default() += 1;
        if n < 3 {
            assert_eq!(led_to(&by_name(&stack, &mut Person::new(), &name.to_uppercase()).await), led, "{name}");
        }
    }
    assert_eq!(seen.len(), 4, "{seen:?}");
    // Whoever came in before is known by then.
    let mut anouk = Person::new();
    anouk.sign_in_by_saml(&stack.agents("/received"), "anouk").await;
    assert_eq!(led_to(&by_name(&stack, &mut Person::new(), "Anouk").await), "pilotage-saml");
}

#[tokio::test]
async fn engineers_try_routes_before_anybody_is_sent_along_them() {
    let stack = Stack::new().await;
    let routes = stack.get("/routes").await;
    assert_eq!(routes.as_array().unwrap().len(), 6, "{routes}");
    let sentence = "gate harbour-wide; department = locks → Your harbour password, or else A passkey";
    assert_eq!(routes[4]["sentence"], sentence);
    let ask = async |ask: Value| stack.post("/routes/try", ask).await;
    let (_, tried) = ask(serde_json::json!({"gate": "harbour-wide"})).await;
    assert_eq!((&tried["name_wanted"], &tried["ways"][0]), (&true.into(), &"visitors".into()), "{tried}");
    let (_, tried) = ask(serde_json::json!({"gate": "harbour-wide", "name": "elodie", "address": "10.20.0.1"})).await;
    assert_eq!((&tried["route"], &tried["ways"][0]), (&"lock keepers".into(), &"harbour-password".into()), "{tried}");
    let (_, tried) = ask(serde_json::json!({"gate": "harbour-wide", "name": "nobody-at-all"})).await;
    assert!(tried.to_string().contains("route.nobody"), "an engineer may know: {tried}");
    // At other gates the demo's routes do not count.
    let (_, tried) = ask(serde_json::json!({"gate": "berths", "name": "elodie"})).await;
    assert_eq!((&tried["route"], &tried["ways"][0]), (&Value::Null, &"pilotage".into()), "{tried}");
    // Of a draft, and of what cannot be.
    let document =
        format!("{}\n[[route]]\nname = \"x\"\nways-in = \"nowhere\"\n", stack.get("/site").await["document"].as_str().unwrap());
    assert_eq!(ask(serde_json::json!({"document": document, "gate": "berths"})).await.0, 422);
    assert_eq!(ask(serde_json::json!({"gate": "nowhere"})).await.0, 404);
    assert_eq!(ask(serde_json::json!({"gate": "berths", "address": "somewhere"})).await.0, 400);
}

#[tokio::test]
async fn too_many_names_are_not_looked_up_and_keep_nobody_out() {
    // From here no route leads to the code by mail but by name, and none at all to the agents' entrance.
    let inside = "name = \"shipping agents\"\nnetwork = \"10.0.0.0/8\"";
    let stack = Stack::with(|s| s.replacen("name = \"shipping agents\"", inside, 1)).await;
    let mut person = Person::new();
    let page = person.open(&stack.everybody("/received")).await;
    // A suffix alone raises no question, and is not counted.
    // Many at once: each has its least time to answer, and one after the other could reach into the next window. Not all at once:
    // that would measure how long a slow machine lets them wait for a connection to the database.
    let typing = (0..120).map(|n| {
        let (mut person, page) = (person.clone(), &page);
        async move { person.fill_in(page, &[("name", &format!("x{n}"))]).await.status }
    });
    let typed: Vec<StatusCode> = futures_util::stream::iter(typing).buffer_unordered(16).collect().await;
    assert!(typed.iter().all(|s| *s == StatusCode::OK), "{typed:?}");
    let last = person.fill_in(&page, &[("name", "x120")]).await.body;
    assert!(last.contains("How do you want to sign in?") && last.contains("A code by mail"), "{last}");
    assert!(!last.contains("agents"), "what no route leads to from here is not to be had by typing names: {last}");
    let done = person.fill_in(&page, &[("name", "x@ships.example")]).await;
    assert_eq!(led_to(&person.follow(done).await), "visitors");
    let list = stack.get("/crossings?limit=5").await;
    assert!(!list.to_string().contains("x120"), "{list}");
}

#[tokio::test]
async fn a_form_for_a_name_belongs_to_its_browser_and_its_time() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = person.open(&stack.everybody("/received")).await;
    let mut other = Person::new();
    other.open(&stack.everybody("/received")).await;
    let (_, fields) = page.form();
    let to = stack.pass("/.passeur/name");
    let fields: Vec<(&str, &str)> = fields.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
    assert_eq!(other.fill_in(&page, &[("name", "benoit")]).await.status, StatusCode::FORBIDDEN);
    let told = stack.get("/crossings?limit=20").await.to_string();
    assert!(told.contains("check.state-other-browser"), "{told}");
    // What was sealed for a name opens no form of a way in, and the other way round.
    let way = stack.pass("/.passeur/way/harbour-password");
    assert_eq!(person.send(Method::POST, &way, Some(&fields)).await.status, StatusCode::FORBIDDEN);
    let garbage = [("flow", "v1.garbage"), ("name", "x")];
    assert_eq!(person.send(Method::POST, &to, Some(&garbage)).await.status, StatusCode::FORBIDDEN);
    // Another site's page sends none in somebody's name.
    assert_eq!(person.submit_to(&to, &fields).await.status, StatusCode::FORBIDDEN);
    stack.clock.advance(chrono::Duration::minutes(31));
    let late = person.fill_in(&page, &[("name", "benoit")]).await;
    assert_eq!(late.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.story(&late.crossing()).await["code"], "check.state-too-old");
}

#[tokio::test]
async fn whoever_a_way_in_comes_to_nothing_for_may_choose_another() {
    let stack = Stack::new().await;
    stack.behave(passeur_standins::provider::Mode::Refuses);
    let mut person = Person::new();
    let page = by_name(&stack, &mut person, "benoit").await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let refused = page.crossing();
    let choice = person.open(&page.link("Sign in another way")).await;
    assert_eq!(led_to(&choice), "asked");
    let form = person.open(&choice.link("Your harbour password")).await;
    let done = person.fill_in(&form, &[("name", "benoit"), ("password", "neap-tide")]).await;
    person.accept = "application/json";
    assert_eq!(person.follow(done).await.saw("x-harbour-user"), ["benoit"]);
    // It is another crossing: what was refused stays told.
    assert_eq!(stack.story(&refused).await["outcome"], "provider-refused");
    // Where there is one way, there is no other.
    let page = Person::new().open(&stack.gate("/")).await;
    assert!(page.status == StatusCode::FORBIDDEN && !page.body.contains("Sign in another way"), "{}", page.body);
}

#[tokio::test]
async fn a_directory_that_is_dead_makes_no_route_certain() {
    let stack = Stack::with(|s| s.replacen("url = \"ldap://", "url = \"ldap://127.0.0.1:1\" # ", 1)).await;
    let mut person = Person::new();
    let page = by_name(&stack, &mut person, "elodie").await;
    assert_eq!(led_to(&page), "pilotage", "{}", page.url);
    let list = stack.get("/crossings?limit=1").await;
    let story = stack.story(list["crossings"][0]["id"].as_str().unwrap()).await;
    assert!(story.to_string().contains("directory harbour did not answer"), "{story}");
}

//! Networks that open after sign-in: who is let in, what they are told, and what engineers are answered.

use reqwest::Method;
use serde_json::{Value, json};

use crate::cli::passeur;
use crate::support::{Page, Person, Stack, on_port};

const YARD: &str = include_str!("../../crates/core/tests/core/yard.toml");

/// The demo's site with the yard, on the port of the stack.
pub fn with_yard(site: String) -> String {
    format!("{site}\n{}", on_port(&site, YARD))
}

pub fn yard(stack: &Stack, path: &str) -> String {
    format!("http://yard.havrelune.localhost:{}{path}", stack.address.port())
}

/// Opens an address, takes the pilotage office among the ways in, and signs in there.
pub async fn by_the_office(person: &mut Person, url: &str, user: &str) -> Page {
    let choice = person.open(url).await;
    let page = person.open(&choice.link("the pilotage office")).await;
    let back = person.prove(page, user).await;
    person.follow(back).await
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_signs_in_at_a_network_gate_reads_what_opens_to_them() {
    // By day everybody reaches the cranes; what is asked here must not hang on the hour.
    let by_day = "when = { hours = { from = \"06:00\", until = \"20:00\" } }\nreach = [\"crane-hosts\"]";
    let stack = Stack::with(|site| {
        let site = with_yard(site);
        assert!(site.contains(by_day));
        site.replace(by_day, "when = { everyone = true }\nmessage = \"Good day.\"")
    })
    .await;
    let mut farid = Person::new();
    let page = by_the_office(&mut farid, &yard(&stack, "/anything"), "farid").await;
    assert_eq!(page.status, 200, "{}", page.body);
    for words in ["Farid Haddad", "the cranes", "10.80.4.0/24", "the internet", "at most 2 GB", "2 machines at a time"] {
        assert!(page.body.contains(words), "{words}: {}", page.body);
    }
    // Nothing guards the zone, and nobody is told that anything is open.
    assert!(page.body.contains("no machine guards this network"), "{}", page.body);
    assert!(!page.body.contains("<script"), "{}", page.body);
    assert_eq!(page.header("cache-control"), "no-store");
    let gwen = by_the_office(&mut Person::new(), &yard(&stack, "/"), "gwen").await;
    assert!(gwen.body.contains("the internet") && !gwen.body.contains("10.80.4.0/24"), "{}", gwen.body);
    // Behind the gate is no application: nothing goes anywhere, whatever is sent.
    for method in [Method::POST, Method::PUT, Method::DELETE] {
        let answer = farid.send_body(method, &yard(&stack, "/"), "a=b".into()).await;
        assert_eq!(answer.status, 405, "{}", answer.body);
    }
    // A rule of the whole site counts here too, and an ended session shows nothing.
    for session in stack.get("/sessions").await.as_array().unwrap() {
        stack.post("/sessions/end", json!({"sessions": [session["id"]]})).await;
    }
    let after = farid.send(Method::GET, &yard(&stack, "/"), None).await;
    assert!(after.status != 200 || !after.body.contains("10.80.4.0/24"), "{}", after.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_wants_to_stay_longer_proves_anew_who_they_are_and_nothing_else_begins_again() {
    let stack = Stack::with(with_yard).await;
    let mut farid = Person::new();
    by_the_office(&mut farid, &yard(&stack, "/"), "farid").await;
    let before = stack.get("/sessions").await[0].clone();
    let page = farid.open(&yard(&stack, "/")).await;
    assert!(page.body.contains("(4 h 00 min)") || page.body.contains("(3 h 59 min)"), "{}", page.body);
    // The provider would know them; it is asked for a new proof all the same.
    let sent = farid.open(&yard(&stack, "/.passeur/extend")).await;
    let sent = match sent.body.contains("the pilotage office") && sent.status == 200 {
        true => farid.open(&sent.link("the pilotage office")).await,
        false => sent,
    };
    assert!(sent.url.contains("prompt=login"), "{} {}", sent.url, sent.body);
    let back = farid.prove(sent, "farid").await;
    let page = farid.follow(back).await;
    assert!(page.body.contains("(4 h 00 min)") || page.body.contains("(3 h 59 min)"), "{}", page.body);
    let sessions = stack.get("/sessions").await;
    assert!(
        sessions.as_array().unwrap().len() == 1 && sessions[0]["id"] != before["id"],
        "one in the place of the other: {sessions}"
    );
    // Whoever is not signed in signs in, and another page that leads there begins nothing by itself.
    let stranger = Person::new().open(&yard(&stack, "/.passeur/extend")).await;
    assert!(stranger.status == 200 && stranger.body.contains("the pilotage office"), "{}", stranger.body);
    assert_eq!(stack.get("/sessions").await.as_array().unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_small_browser_of_a_portal_is_offered_what_works_in_it_alone() {
    let real = |site: String| with_yard(site).replacen("name = \"pilotage\"\n", "name = \"pilotage\"\nreal-browser = true\n", 1);
    let stack = Stack::with(real).await;
    let small = "Mozilla/5.0 (iPhone; CPU iPhone OS 18_5 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Mobile/15E148";
    let with = |agent: &str| {
        let mut person = Person::new();
        person.extra.push(("user-agent", agent.to_owned()));
        person
    };
    let address = yard(&stack, "/");
    let choice = with(small).open(&address).await;
    assert!(!choice.body.contains(">the pilotage office<") && choice.body.contains("A code by mail"), "{}", choice.body);
    assert!(choice.body.contains("do not work in this small window") && choice.body.contains(&address), "{}", choice.body);
    // A real browser is offered all of it, and told nothing.
    let choice = with("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101").open(&address).await;
    assert!(choice.body.contains(">the pilotage office<") && !choice.body.contains("small window"), "{}", choice.body);
    // By an address of before, or where there is no other way: they are told where to go, and the crossing tells it.
    let told = with(small).open(&choice.link("the pilotage office")).await;
    assert!(
        told.body.contains("Open your own browser") && told.body.contains(&format!("<code>{address}</code>")),
        "{}",
        told.body
    );
    assert!(told.body.contains("Or sign in here in another way"), "{}", told.body);
    stack.settle().await;
    let all = stack.get("/crossings?gate=yard").await;
    let newest = all["crossings"][0]["id"].as_str().unwrap();
    let story = stack.get(&format!("/crossings/{newest}")).await;
    assert!(story.to_string().contains("take real-browser out of its [[provider]]"), "{story}");
}

async fn tried(stack: &Stack, ask: Value) -> Value {
    let (status, answer) = stack.post("/reach/try", ask).await;
    assert_eq!(status, 200, "{answer}");
    answer["gates"][0].clone()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_engineer_is_told_whether_somebody_reaches_something_and_why_not() {
    let stack = Stack::with(with_yard).await;
    let fitter = json!({"provider": "pilotage", "groups": ["fitters"], "at": "2026-12-01T12:00:00Z"});
    let gate = tried(&stack, json!({"to": "10.80.4.7:22", "person": fitter})).await;
    assert_eq!(
        (gate["gate"].as_str(), gate["open"].as_bool(), gate["reach"].as_str()),
        (Some("yard"), Some(true), Some("crane-hosts"))
    );
    let gate = tried(&stack, json!({"to": "a.cranes.havrelune.example:80", "person": fitter})).await;
    assert_eq!(gate["open"], false);
    assert!(gate["remedy"].as_str().unwrap().contains("\"tcp/80\""), "{gate}");
    // At night the rule of the day opens nothing, and the steps say so.
    let pilot = json!({"provider": "pilotage", "amr": ["mfa"], "groups": ["pilots"], "at": "2026-12-01T23:00:00Z"});
    let gate = tried(&stack, json!({"to": "a.cranes.havrelune.example:22", "person": pilot})).await;
    assert!(gate["sentence"].as_str().unwrap().contains("“by day”"), "{gate}");
    assert!(gate["steps"].to_string().contains("23:00"), "{gate}");
    // Whoever is refused is told by which rule, and reaches what is open to everybody.
    let leaver = json!({"provider": "pilotage", "amr": ["mfa"], "claims": {"sub": "p-1999"}, "groups": ["fitters"]});
    let gate = tried(&stack, json!({"to": "10.80.4.7:22", "person": leaver})).await;
    assert_eq!((gate["open"].as_bool(), gate["verdict"].as_str()), (Some(false), Some("out")), "{gate}");
    assert!(gate["because"].as_str().unwrap().contains("whoever has left"), "{gate}");
    assert_eq!(tried(&stack, json!({"to": "10.70.0.1:53/udp", "person": leaver})).await["open"], true);
    assert_eq!(tried(&stack, json!({"to": "10.70.0.1:53/udp"})).await["open"], true);
    assert_eq!(tried(&stack, json!({"to": "192.0.2.1:443"})).await["open"], false);
    // Names that lead to this machine are resolved, and judged by where they lead.
    let (_, answer) = stack.post("/reach/try", json!({"to": "printer.localhost:443"})).await;
    assert_eq!(answer["addresses"], json!(["127.0.0.1"]));
    for (wrong, words) in [
        (json!({"to": "10.80.4.7"}), "names no port"),
        (json!({"to": "x".repeat(5_000)}), "names no port"),
        (json!({"to": "10.80.4.7:22", "gate": "berths"}), "is no gate of kind network"),
        (json!({"to": "10.80.4.7:22", "machine": "tablet"}), "machine is an IP address, or a hardware address"),
        (json!({"to": "10.80.4.7:22", "machine": "10.70.0.9", "person": fitter}), "not both"),
        (
            json!({"to": "10.80.4.7:22", "person": {"provider": "pilotage", "address": "nowhere", "groups": []}}),
            "address is an IP address",
        ),
    ] {
        let (status, answer) = stack.post("/reach/try", wrong).await;
        assert_eq!(status, 400, "{answer}");
        assert!(answer["detail"].as_str().unwrap().contains(words) && answer.to_string().len() < 2_000, "{answer}");
    }
    let nobody = Person::new().send_body(Method::POST, &stack.pass("/api/v1/reach/try"), "{}".into()).await;
    assert!([401, 403].contains(&nobody.status.as_u16()), "{}", nobody.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_command_line_tells_reach_and_ends_with_three_where_it_is_closed() {
    let stack = Stack::with(with_yard).await;
    let list = passeur(&stack, &["reach", "list"], "").await;
    assert_eq!(list.code, 0, "{}", list.err);
    insta::assert_snapshot!(list.out);
    let who = ["--provider", "pilotage", "--amr", "mfa", "--group", "fitters", "--at", "2026-12-01T12:00:00Z"];
    let open = passeur(&stack, &[&["reach", "try", "10.80.4.7:22"], &who[..]].concat(), "").await;
    let closed = passeur(&stack, &[&["reach", "try", "mail.havrelune.example:993", "--story"], &who[..]].concat(), "").await;
    let nobody = passeur(&stack, &["--language", "fr", "reach", "try", "192.0.2.1:443", "--nobody"], "").await;
    assert_eq!((open.code, closed.code, nobody.code), (0, 3, 3), "{}{}{}", open.err, closed.err, nobody.err);
    let filters = vec![(r"\d{4}-\d\d-\d\d \d\d:\d\d(:\d\d)?", "MOMENT"), (r" +\d+ ms", " N ms")];
    insta::with_settings!({filters => filters}, {
        insta::assert_snapshot!([open.out, closed.out, nobody.out].join("\n"));
    });
    let draft = stack.site.replace("services = \"tcp/993\"", "services = [\"tcp/993\", \"tcp/587\"]");
    let file = std::env::temp_dir().join(format!("passeur-yard-{}.toml", stack.address.port()));
    std::fs::write(&file, draft.replace("reach = [\"internet\"]", "reach = [\"internet\", \"mail\"]")).unwrap();
    let path = file.to_str().unwrap();
    let drafted = passeur(&stack, &[&["reach", "try", "mail.havrelune.example:587", path], &who[..]].concat(), "").await;
    let compared = passeur(&stack, &["site", "compare", path], "").await;
    std::fs::remove_file(&file).unwrap();
    assert_eq!(drafted.code, 0, "{}{}", drafted.out, drafted.err);
    assert!(compared.out.contains("reach mail would also lead to tcp/587"), "{}", compared.out);
    assert!(compared.out.contains("gate yard would now open mail"), "{}", compared.out);
    let there = passeur(&stack, &["reach", "try", "10.80.4.7:22", "--address", "10.70.0.9"], "").await;
    assert!(there.code == 3 && there.out.contains("nobody is on with 10.70.0.9"), "{}{}", there.out, there.err);
    let device = ["reach", "try", "10.80.4.7:22", "--device", "02:70:00:00:00:09", "--at", "2025-01-01T00:00:00Z"];
    let before = passeur(&stack, &device, "").await;
    assert!(before.code != 0 && before.err.contains("No edition was live at that moment"), "{}{}", before.out, before.err);
    let missing = passeur(&stack, &["reach", "try", "10.80.4.7:22"], "").await;
    assert_eq!(missing.code, 2, "{}", missing.err);
    let both = passeur(&stack, &["reach", "try", "10.80.4.7:22", "--nobody", "--provider", "pilotage"], "").await;
    assert_eq!(both.code, 2, "{}", both.err);
    let gates = passeur(&stack, &["gates", "--match", "yard0"], "").await;
    assert!(gates.out.contains("yard0") && gates.out.contains("crane tablet 3"), "{}", gates.out);
    let sheet = passeur(&stack, &["handover", "yard", "--for", "application"], "").await;
    assert!(sheet.code == 0 && sheet.out.contains("Open to everybody"), "{}{}", sheet.out, sheet.err);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_signing_in_needs_is_proposed_and_found_closed_until_it_is_opened() {
    let stack = Stack::with(with_yard).await;
    let port = stack.site.split("bureau-pilotage.localhost:").nth(1).unwrap().split(['"', '/']).next().unwrap().to_owned();
    let shut = passeur(&stack, &["zone", "propose", "yard"], "").await;
    assert_eq!(shut.code, 3, "{}{}", shut.out, shut.err);
    assert!(shut.out.contains(&format!("closed  bureau-pilotage.localhost:{port}")), "{}", shut.out);
    assert!(shut.out.contains("pilotage signs people in there; rules open it afterwards, by internet"), "{}", shut.out);
    let surveyed = stack.post("/survey", json!({})).await.1;
    assert!(surveyed.to_string().contains("zone.provider-shut") && surveyed.to_string().contains("zone.unguarded"), "{surveyed}");
    // The lines it prints are a sound site file, and open what is needed.
    let lines: String = shut.out.split_once("every machine of the zone:").unwrap().1.to_owned();
    let (parts, before) = lines.split_once("# In [[zone]] yard:\n").unwrap();
    let mended = format!("{}\n{parts}", stack.site.replacen("before = [\"resolver\"]\n", before, 1));
    assert_eq!(stack.publish(&mended).await.0, 200);
    let open = passeur(&stack, &["zone", "propose", "yard"], "").await;
    assert_eq!(open.code, 0, "{}{}", open.out, open.err);
    assert!(
        open.out.contains(&format!("open by reach yard-sign-in-{port}"))
            || open.out.contains(&format!("by reach yard-sign-in-{port}")),
        "{}",
        open.out
    );
    assert!(!stack.post("/survey", json!({})).await.1.to_string().contains("zone.provider-shut"));
    // A provider that does not say where it sends people is not taken for one that needs nothing.
    assert_eq!(passeur(&stack, &["zone", "propose", "quay"], "").await.code, 4);
    let unseen = passeur(&stack, &["zone", "propose", "yard", "--seen-from", "fd70:70::9"], "").await;
    assert!(unseen.code != 0 && unseen.err.contains("--names-listen"), "{}{}", unseen.out, unseen.err);
    assert_eq!(stack.post("/zones/yard/proposal?seen_from=tablet", json!({})).await.0, 400);
    let odd = passeur(&stack, &["zone", "propose", "../gates"], "").await;
    assert_eq!(odd.code, 4, "{}{}", odd.out, odd.err);
}

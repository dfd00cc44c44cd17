//! Rules that depend on the request and on time, as the data path meets them.

use reqwest::Method;

use crate::support::{Person, Stack};

/// The berth ledger's rules replaced; expectations left out.
fn rules(site: &str, text: &str) -> String {
    let begin = site.find("[[gate.rule]]").unwrap();
    let end = site.find("# Whoever is let in may look").unwrap();
    let expected = site.find("# What must stay so").unwrap();
    format!("{}{text}\n{}", &site[..begin], &site[end..expected])
}

const READERS: &str = "[[gate.rule]]\nname = \"readers\"\nwhen = { all = [{ group = \"berth-access\" }, { method = [\"GET\", \"HEAD\"] }] }\nenter = true\n\
    [[gate.rule]]\nname = \"writers\"\nwhen = { group = \"planners\" }\nenter = true\nroles = [\"planner\"]\n";

async fn status(person: &mut Person, method: Method, url: &str) -> u16 {
    person.accept = "application/json";
    person.send(method, url, None).await.status.as_u16()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_on_the_method_decides_each_request_and_tells_of_each_decision_once() {
    let stack = Stack::with(|s| rules(&s, READERS)).await;
    let (mut anouk, mut benoit) = (stack.signed_in("anouk").await, stack.signed_in("benoit").await);
    let url = stack.gate("/received");
    for _ in 0..3 {
        assert_eq!(status(&mut anouk, Method::GET, &url).await, 200);
        assert_eq!(status(&mut anouk, Method::POST, &url).await, 403);
        assert_eq!(status(&mut anouk, Method::HEAD, &url).await, 200);
        assert_eq!(status(&mut benoit, Method::POST, &url).await, 200);
    }
    stack.settle().await;
    let crossings = stack.get("/crossings?person=p-1001").await;
    let told: Vec<&str> = crossings["crossings"].as_array().unwrap().iter().map(|c| c["outcome"].as_str().unwrap()).collect();
    assert_eq!(told, ["refused", "admitted"], "to and fro, each told once");
    let story = stack.story(crossings["crossings"][0]["id"].as_str().unwrap()).await;
    let sentences: Vec<&str> = story["steps"].as_array().unwrap().iter().map(|s| s["sentence"].as_str().unwrap()).collect();
    assert!(sentences.contains(&"The live session was decided anew: this request is decided otherwise."), "{sentences:#?}");
    assert!(sentences.iter().any(|s| s.contains("method POST")), "{sentences:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_list_of_networks_and_a_path_are_asked_of_every_request() {
    let text = "[[gate.rule]]\nname = \"from the yard\"\nwhen = { all = [{ group = \"berth-access\" }, { network = \"yard\" }] }\nenter = true\n\
        [[gate.rule]]\nname = \"reports from anywhere\"\nwhen = { all = [{ group = \"berth-access\" }, { path = \"/received/reports\" }] }\nenter = true\n";
    let stack = Stack::with(|s| format!("{}\n[lists.networks]\nyard = [\"127.0.0.1\"]\n", rules(&s, text))).await;
    let anouk = stack.signed_in("anouk").await;
    let head = stack.head(&anouk);
    let asked = async |from: &str, path: &str| {
        let socket = tokio::net::TcpSocket::new_v4().unwrap();
        socket.bind(format!("{from}:0").parse().unwrap()).unwrap();
        let mut stream = socket.connect(stack.address).await.unwrap();
        let request = format!("GET {path} HTTP/1.1\r\n{head}\r\nAccept: application/json\r\n\r\n");
        tokio::io::AsyncWriteExt::write_all(&mut stream, request.as_bytes()).await.unwrap();
        let mut answer = String::new();
        tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut answer).await.unwrap();
        answer.split(' ').nth(1).unwrap().to_owned()
    };
    for (from, path, want) in [
        ("127.0.0.1", "/received", "200"),
        ("127.0.0.2", "/received", "403"),
        // The application has no such page; that it was asked is what counts.
        ("127.0.0.2", "/received/reports", "404"),
        ("127.0.0.2", "/received/reports/../x", "400"),
        ("127.0.0.2", "/received/%72eports", "403"),
        ("127.0.0.1", "/received", "200"),
    ] {
        assert_eq!(asked(from, path).await, want, "{from} {path}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn time_alone_changes_a_decision_and_is_told() {
    let text = "[[gate.rule]]\nname = \"fresh\"\nwhen = { all = [{ group = \"berth-access\" }, { signed-in-within = \"30m\" }] }\nenter = true\n";
    let stack = Stack::with(|s| rules(&s, text)).await;
    let mut anouk = stack.signed_in("anouk").await;
    let url = stack.gate("/received");
    stack.clock.advance(chrono::Duration::minutes(29));
    assert_eq!(status(&mut anouk, Method::GET, &url).await, 200);
    stack.clock.advance(chrono::Duration::minutes(2));
    assert_eq!(status(&mut anouk, Method::GET, &url).await, 403);
    stack.settle().await;
    let id = stack.get("/crossings?limit=1").await["crossings"][0]["id"].as_str().unwrap().to_owned();
    let story = stack.story(&id).await.to_string();
    assert!(story.contains("decided anew: time has passed") && story.contains("signed in within 30 min"), "{story}");
    // Rehearsed as it was then, the sign-in is the same.
    let (_, r) = stack.post("/rehearse", serde_json::json!({"source": {"edition": 1}})).await;
    assert_eq!((r["crossings"].as_i64(), r["same"].as_i64()), (Some(2), Some(2)), "{r}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_gives_less_time_words_and_values() {
    let text = "[[gate.rule]]\nname = \"briefly\"\nwhen = { group = \"berth-access\" }\nenter = true\nabsolute = \"10m\"\nmessage = \"Mind the tide.\"\ndeliver = { desk = \"north quay\" }\n";
    let given = |s: String| rules(&s, text).replacen("attribute = \"name\"", "given = \"desk\"", 1);
    let stack = Stack::with(given).await;
    let mut anouk = stack.signed_in("anouk").await;
    let url = stack.gate("/received");
    anouk.accept = "application/json";
    assert_eq!(anouk.open(&url).await.saw("x-harbour-name"), ["north quay"]);
    anouk.accept = "text/html";
    assert!(anouk.open(&stack.pass("/")).await.body.contains("Mind the tide."));
    // The session lives on; at this gate it is over, and the provider is asked to sign in afresh.
    stack.clock.advance(chrono::Duration::minutes(11));
    assert_eq!(status(&mut anouk, Method::POST, &url).await, 401);
    anouk.accept = "text/html";
    let page = anouk.send(Method::GET, &url, None).await;
    let asked = anouk.until(page, "/authorize").await;
    assert!(asked.contains("prompt=login"), "{asked}");
    // The refused POST is told in the same moment of the stopped clock, so which of the two is the latest is not said.
    let told = stack.get("/crossings").await;
    let waiting = |c: &serde_json::Value| c["outcome"] == "waiting";
    assert!(told["crossings"].as_array().unwrap().iter().any(waiting), "{told}");
    assert!(anouk.open(&stack.pass("/")).await.body.contains("Anouk Tregarec"), "the quay still knows the person");
    // Why she had to sign in again is told with what comes of it: here the provider's clock is behind.
    let page = anouk.send(Method::GET, &asked, None).await;
    let page = anouk.prove(page, "anouk").await;
    let story = stack.story(&anouk.follow(page).await.crossing()).await;
    let why = |s: &serde_json::Value| s["code"] == "gate.no-session" && s["params"]["why"]["code"] == "too-old";
    assert!(story["steps"].as_array().unwrap().iter().any(why), "{story}");
}

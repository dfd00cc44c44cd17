//! The emergency account: works when provider, directory and edition are all broken, and only from where it is named.

use reqwest::Method;
use serde_json::json;

use crate::support::{Page, Person, Stack, eventually, raw};

const PASSWORD: &str = "storm-anchor-of-the-demo";

async fn enter(person: &mut Person, base: &str, password: &str) -> Page {
    let form = [("name", "harbour-master"), ("password", password)];
    person.send(Method::POST, &format!("{base}/.passeur/emergency"), Some(&form)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_replaces_an_edition_that_cannot_be_loaded_is_asked_against_the_one_in_use() {
    let stack = Stack::with(|s| s[..s.find("# What must stay so").unwrap()].to_owned()).await;
    stack.signed_in("anouk").await;
    let db = stack.database.look().await;
    let unloadable = "INSERT INTO editions (number, document, note, author, published_at) \
        SELECT 2, 'format = 9', 'x', 'x', published_at FROM editions";
    db.execute(unloadable, &[]).await.unwrap();
    eventually("it says so", async || stack.get("/me").await["trouble"].is_string()).await;
    let base = format!("http://anything.localhost:{}", stack.address.port());
    let mut person = Person::new();
    enter(&mut person, &base, PASSWORD).await;
    person.extra = vec![("origin", base.clone()), ("content-type", "application/json".into())];
    let stricter = stack.site.replacen("when = { group = \"berth-access\" }", "when = { group = \"crane-desk\" }", 1);
    let moved = stack.site.replacen("//pass.havrelune.localhost", "//pass2.havrelune.localhost", 1);
    let another = stack.site.replacen(&format!(":{}", stack.provider_port()), ":9", 1);
    for (document, wanted) in [(stricter, Some("refuses-people")), (moved, Some("other-source")), (another, Some("other-source"))]
    {
        assert_ne!(document, stack.site);
        let ask = json!({"document": document, "note": "x", "anyway": ["other-issuer"]}).to_string();
        let page = person.send_body(Method::POST, &format!("{base}/api/v1/site/publish"), ask).await;
        assert_eq!((page.status.as_u16(), page.json()["anyway"].as_str()), (409, wanted), "{}", page.body);
    }
    let ask = json!({"document": stack.site, "note": "mended"}).to_string();
    let page = person.send_body(Method::POST, &format!("{base}/api/v1/site/publish"), ask).await;
    assert_eq!(page.status, 200, "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn it_works_when_everything_else_is_broken_and_every_use_is_shown() {
    let stack = Stack::new().await;
    // An edition under which nothing works: another sign-in host, a provider and a directory that are not there, and a
    // second engineer wanted whom nobody could be.
    let broken = stack
        .site
        .replace("http://pass.havrelune.localhost", "http://elsewhere.localhost")
        .replace(&format!(":{}", stack.provider_port()), ":9")
        .replace("ldap://127.0.0.1", "ldap://127.0.0.9")
        .replace("[engineers]\n", "[engineers]\nsecond-engineer = true\n");
    assert_eq!(stack.publish(&broken).await.0, 200);
    let port = stack.address.port();
    let base = format!("http://anything.localhost:{port}");
    let mut person = Person::new();
    assert_eq!(person.open(&format!("{base}/api/v1/me")).await.status, 401, "even a token is nothing here");
    assert!(person.open(&format!("{base}/.passeur/emergency")).await.body.contains("Emergency account"));
    assert_eq!(enter(&mut person, &base, "wrong").await.status, 403);
    let page = enter(&mut person, &base, PASSWORD).await;
    assert_eq!((page.status.as_u16(), page.header("location")), (303, "/console/"));
    assert!(page.header("set-cookie").contains("HttpOnly"), "{}", page.header("set-cookie"));
    let me = person.open(&format!("{base}/api/v1/me")).await.json();
    assert_eq!(
        (me["name"].as_str(), me["role"].as_str(), me["by"].as_str()),
        (Some("emergency account harbour-master"), Some("configure"), Some("emergency"))
    );
    assert!(person.open(&format!("{base}/console/")).await.body.contains("<div id=\"app\""));
    // Going back by hand mends the site.
    person.extra = vec![("origin", base.clone()), ("content-type", "application/json".into())];
    let body = json!({"edition": 1, "note": "mended"}).to_string();
    let page = person.send_body(Method::POST, &format!("{base}/api/v1/site/publish"), body).await;
    assert_eq!(page.status, 200, "{}", page.body);
    stack.signed_in("anouk").await;
    // A page of another host cannot use the cookie.
    person.extra = vec![("origin", "http://evil.example".into()), ("content-type", "application/json".into())];
    let page = person.send_body(Method::POST, &format!("{base}/api/v1/site/publish"), "{}".into()).await;
    assert_eq!(page.json()["type"], "urn:passeur:problem:cross-site");
    // Every engineer sees that it was used; the record says by whom what was done.
    assert!(stack.get("/me").await["emergency"].is_string());
    let acts = stack.get("/acts?limit=3").await;
    let told: Vec<_> =
        acts["acts"].as_array().unwrap().iter().map(|a| (a["what"].as_str().unwrap(), a["by"].as_str().unwrap())).collect();
    assert_eq!(told, [("publish", "emergency"), ("emergency sign-in", "emergency"), ("emergency sign-in failed", "emergency")]);
    // It opens no gate, and confirms nothing.
    let gate = stack.gate("/received");
    person.cookies.insert("berths.havrelune.localhost".into(), person.cookies["anything.localhost"].clone());
    person.extra.clear();
    person.accept = "application/json";
    assert_eq!(person.open(&gate).await.status, 401);
    // It ends by itself after an hour, and when it is ended.
    assert_eq!(person.open(&format!("{base}/api/v1/me")).await.status, 200);
    stack.clock.advance(chrono::Duration::minutes(61));
    assert_eq!(person.open(&format!("{base}/api/v1/me")).await.status, 401);
    enter(&mut person, &base, PASSWORD).await;
    let kept = person.cookies.clone();
    let page = person.send(Method::POST, &format!("{base}/.passeur/emergency"), Some(&[("end", "1")])).await;
    assert_eq!(page.status, 303);
    person.cookies = kept;
    assert_eq!(person.open(&format!("{base}/api/v1/me")).await.status, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn to_anybody_else_it_is_not_there() {
    let stack = Stack::new().await;
    let port = stack.address.port();
    let mut person = Person::new();
    enter(&mut person, &stack.pass(""), PASSWORD).await;
    let cookie = person.cookie("pass.havrelune.localhost");
    let asked = async |from: &str, host: &str, path: &str, more: &str| {
        let socket = tokio::net::TcpSocket::new_v4().unwrap();
        socket.bind(format!("{from}:0").parse().unwrap()).unwrap();
        let mut stream = socket.connect(stack.address).await.unwrap();
        let head = format!("GET {path} HTTP/1.1\r\nHost: {host}:{port}\r\nConnection: close\r\n{more}\r\n");
        tokio::io::AsyncWriteExt::write_all(&mut stream, head.as_bytes()).await.unwrap();
        let mut answer = String::new();
        tokio::io::AsyncReadExt::read_to_string(&mut stream, &mut answer).await.unwrap();
        answer.split(' ').nth(1).unwrap().to_owned()
    };
    let with = format!("Cookie: {cookie}\r\n");
    for (from, host, path, more, status) in [
        ("127.0.0.1", "pass.havrelune.localhost", "/.passeur/emergency", "", "200"),
        ("127.0.0.1", "nowhere.localhost", "/.passeur/emergency", "", "200"),
        ("127.0.0.2", "pass.havrelune.localhost", "/.passeur/emergency", "", "404"),
        ("127.0.0.2", "nowhere.localhost", "/.passeur/emergency", "", "421"),
        ("127.0.0.1", "berths.havrelune.localhost", "/.passeur/emergency", "", "404"),
        // A session that went elsewhere is none.
        ("127.0.0.1", "pass.havrelune.localhost", "/api/v1/me", &with, "200"),
        ("127.0.0.2", "pass.havrelune.localhost", "/api/v1/me", &with, "401"),
        // Somebody behind a proxy that no edition names.
        ("127.0.0.1", "nowhere.localhost", "/.passeur/emergency", "X-Forwarded-For: 127.0.0.1\r\n", "421"),
        ("127.0.0.1", "pass.havrelune.localhost", "/.passeur/emergency", "Forwarded: for=127.0.0.1\r\n", "404"),
        // Nothing else is served to unknown hosts.
        ("127.0.0.1", "nowhere.localhost", "/", "", "421"),
        ("127.0.0.1", "nowhere.localhost", "/.passeur/sign-in", "", "421"),
    ] {
        assert_eq!(asked(from, host, path, more).await, status, "{from} {host} {path} {more}");
    }
    let form = format!(
        "POST /.passeur/emergency HTTP/1.1\r\nHost: pass.havrelune.localhost:{port}\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 34\r\nConnection: close\r\n\r\nname=harbour-master&password=guess"
    );
    assert!(raw(stack.address, &form).await.starts_with("HTTP/1.1 403"), "a form that no page of ours sent");
}

#[tokio::test(flavor = "multi_thread")]
async fn guessing_is_slowed_and_recorded() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    for _ in 0..5 {
        assert_eq!(enter(&mut person, &stack.pass(""), "guess").await.status, 403);
    }
    let page = enter(&mut person, &stack.pass(""), PASSWORD).await;
    assert_eq!((page.status.as_u16(), page.header("retry-after")), (429, "300"), "even the right one has to wait");
    let acts = stack.get("/acts").await;
    let failed = acts["acts"].as_array().unwrap().iter().filter(|a| a["what"] == "emergency sign-in failed").count();
    assert_eq!(failed, 5);
    assert!(!acts.to_string().contains("guess"));
    stack.clock.advance(chrono::Duration::minutes(6));
    assert_eq!(enter(&mut person, &stack.pass(""), PASSWORD).await.status, 303);
    // Where nothing can be written down, nobody comes in.
    let mut late = Person::new();
    stack.database.shut().await;
    assert_eq!(enter(&mut late, &stack.pass(""), PASSWORD).await.status, 503);
}

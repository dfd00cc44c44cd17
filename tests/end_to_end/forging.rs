//! What a client sends of identity is never believed.

use reqwest::Method;
use serde_json::Value;

use crate::support::{Person, RawUpstream, Stack, raw};
use crate::upstreams::{at, instead};

fn cookie(person: &Person) -> String {
    person.cookie("berths.havrelune.localhost")
}

fn gate_token(person: &Person) -> String {
    person.cookies["berths.havrelune.localhost"]["passeur-gate"].clone()
}

async fn received(stack: &Stack, head: &str, body: &str) -> Value {
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    let request = format!(
        "{}\r\nHost: {host}\r\nAccept: application/json\r\nConnection: close{}\r\n\r\n{body}",
        head.lines().next().unwrap(),
        { head.lines().skip(1).map(|l| format!("\r\n{l}")).collect::<String>() }
    );
    let answer = raw(stack.address, &request).await;
    let json = answer.split_once("\r\n\r\n").map(|(_, b)| b).unwrap_or_default();
    let from = json.find('{').unwrap_or_else(|| panic!("{answer}"));
    let to = json.rfind('}').unwrap();
    serde_json::from_str(&json[from..=to]).unwrap_or_else(|e| panic!("{e}: {answer}"))
}

fn values(json: &Value, of: &str) -> Vec<String> {
    let pairs = json["headers"].as_array().unwrap().iter().chain(json["trailers"].as_array().unwrap());
    let folded = |n: &str| n.to_lowercase().replace(['_', '.'], "-");
    pairs.filter(|p| folded(p[0].as_str().unwrap()) == of).map(|p| p[1].as_str().unwrap().to_owned()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn forged_headers_are_removed_in_every_spelling() {
    let stack = Stack::new().await;
    let anouk = stack.signed_in("anouk").await;
    let cookie = cookie(&anouk);
    for name in [
        "X-Harbour-User",
        "x-harbour-user",
        "X_Harbour_User",
        "X-Harbour_User",
        "X.Harbour.User",
        "X-HARBOUR-USER",
        "X~Harbour~User",
    ] {
        let json = received(&stack, &format!("GET /received HTTP/1.1\nCookie: {cookie}\n{name}: harbour-master"), "").await;
        assert_eq!(values(&json, "x-harbour-user"), ["anouk"], "{name}: {json}");
    }
    // Also a header that this person has no value for: absent must stay absent.
    let jonas = stack.signed_in("jonas").await;
    let head = format!("GET /received HTTP/1.1\nCookie: {}\nX-Harbour-Staff_Number: 1", self::cookie(&jonas));
    assert!(values(&received(&stack, &head, "").await, "x-harbour-staff-number").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn forged_trailers_are_removed_and_connection_cannot_remove_a_delivered_header() {
    let stack = Stack::new().await;
    let anouk = stack.signed_in("anouk").await;
    let cookie = cookie(&anouk);
    let head = format!(
        "POST /received HTTP/1.1\nCookie: {cookie}\nTransfer-Encoding: chunked\nTrailer: X-Harbour-User, X-Harbour-Roles, X-Plain\nTE: trailers"
    );
    let body = "3\r\nabc\r\n0\r\nX-Harbour-User: harbour-master\r\nX_Harbour_Roles: planner\r\nCookie: a=b\r\n\r\n";
    let json = received(&stack, &head, body).await;
    assert_eq!(values(&json, "x-harbour-user"), ["anouk"], "{json}");
    assert!(values(&json, "x-harbour-roles").is_empty(), "{json}");
    assert_eq!(json["body_length"], 3);
    let json =
        received(&stack, &format!("GET /received HTTP/1.1\nCookie: {cookie}\nConnection: X-Harbour-User, Forwarded, Host"), "")
            .await;
    assert_eq!(values(&json, "x-harbour-user"), ["anouk"], "{json}");
    assert_eq!(values(&json, "forwarded").len(), 1);
}

/// A connection remembers what its last request meant: its host, its cookie, and what the names of its fields mean.
#[tokio::test(flavor = "multi_thread")]
async fn what_one_request_of_a_connection_meant_says_nothing_of_the_next() {
    let stack = Stack::new().await;
    let (anouk, jonas) = (cookie(&stack.signed_in("anouk").await), cookie(&stack.signed_in("jonas").await));
    let gate = |name: &str| format!("{name}.havrelune.localhost:{}", stack.address.port());
    let (berths, agents) = (gate("berths"), gate("agents"));
    let plain = |host: &str, cookie: &str| format!("Host: {host}\r\nCookie: {cookie}\r\nX-Tide: low\r\n");
    let asked: [(String, Result<&str, u16>); 10] = [
        (plain(&berths, &anouk), Ok("anouk")),
        (plain(&berths, &anouk), Ok("anouk")),
        // The same fields with other values: somebody else, nobody, another gate, two hosts in one.
        (plain(&berths, &jonas), Ok("jonas")),
        (plain(&berths, "passeur-gate=nothing"), Err(401)),
        (plain(&agents, &anouk), Err(401)),
        (plain(&berths, &anouk), Ok("anouk")),
        // One field more, and the same again.
        (plain(&berths, &anouk) + "X_Harbour_User: harbour-master\r\n", Ok("anouk")),
        (plain(&berths, &jonas) + "X_Harbour_User: harbour-master\r\n", Ok("jonas")),
        (plain(&berths, &anouk) + "Connection: X-Harbour-User\r\n", Ok("anouk")),
        (plain(&berths, &anouk) + "X-HTTP-Method-Override: DELETE\r\n", Err(400)),
    ];
    let all: String =
        asked.iter().map(|(h, _)| format!("GET /received HTTP/1.1\r\n{h}Accept: application/json\r\n\r\n")).collect();
    let answers = raw(stack.address, &all).await;
    let answers: Vec<&str> = answers.split("HTTP/1.1 ").skip(1).collect();
    assert_eq!(answers.len(), asked.len(), "{answers:#?}");
    for (answer, (head, wanted)) in answers.into_iter().zip(&asked) {
        match wanted {
            Ok(user) => {
                let json = answer.get(answer.find('{').unwrap()..=answer.rfind('}').unwrap()).unwrap();
                let json: Value = serde_json::from_str(json).unwrap();
                assert_eq!(values(&json, "x-harbour-user"), [*user], "{head}");
                assert_eq!(values(&json, "x-tide"), ["low"], "{head}");
                assert!(!json.to_string().contains("passeur-gate"), "{head}: {json}");
            }
            Err(status) => assert!(answer.starts_with(&status.to_string()), "{head}: {answer}"),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn where_a_request_came_from_is_said_by_us_alone() {
    let stack = Stack::new().await;
    let cookie = cookie(&stack.signed_in("anouk").await);
    let head = format!(
        "GET /received HTTP/1.1\nCookie: {cookie}\nX-Forwarded-For: 10.9.9.9\nX_Forwarded_Host: evil.example\nForwarded: for=10.9.9.9\nX-Real-IP: 10.9.9.9"
    );
    let json = received(&stack, &head, "").await;
    assert_eq!(values(&json, "x-forwarded-for"), ["127.0.0.1"]);
    assert!(!json.to_string().contains("10.9.9.9") && !json.to_string().contains("evil.example"), "{json}");
}

#[tokio::test(flavor = "multi_thread")]
async fn no_field_claims_another_path_method_host_or_address() {
    let stack = Stack::new().await;
    let cookie = cookie(&stack.signed_in("anouk").await);
    let claims = [
        "X-Original-URL",
        "X-Rewrite-URL",
        "X_Original_Url",
        "X-Original-Host",
        "X-Forwarded-Prefix",
        "X-Forwarded-User",
        "X-Forwarded",
        "True-Client-IP",
        "Client-IP",
        "X-Client-IP",
        "X-Cluster-Client-IP",
        "X-Host",
        "X-Url-Scheme",
        "Front-End-Https",
        "Proxy",
    ];
    let fields: String = claims.iter().map(|c| format!("\n{c}: /assign")).collect();
    let json = received(&stack, &format!("GET /received HTTP/1.1\nCookie: {cookie}\nX-Harmless: 1{fields}"), "").await;
    assert!(!json["headers"].to_string().contains("/assign"), "{json}");
    assert_eq!(values(&json, "x-harmless"), ["1"]);
    // A second method would make it another request: it is not let through as either.
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    for name in ["X-HTTP-Method-Override", "X-HTTP-Method", "X-Method-Override", "X_Http_Method_Override"] {
        let request = format!(
            "POST /received HTTP/1.1\r\nHost: {host}\r\nCookie: {cookie}\r\n{name}: DELETE\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
        );
        let answer = raw(stack.address, &request).await;
        assert!(answer.starts_with("HTTP/1.1 400") && answer.contains("names another method"), "{name}: {answer}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_of_ours_reaches_no_application() {
    let stack =
        Stack::with(|s| s.replace("[[gate.section]]", "[[gate.section]]\npath = \"/received\"\nopen = true\n\n[[gate.section]]"))
            .await;
    let personal = "passeur_0123456789012345678901234567890123456789012";
    for value in [
        format!("Bearer {personal}"),
        format!("bearer  {personal}"),
        format!("Token token={personal}"),
        format!("token \"{personal}\""),
    ] {
        let json = received(&stack, &format!("GET /received HTTP/1.1\nAuthorization: {value}"), "").await;
        assert_eq!(values(&json, "authorization"), Vec::<String>::new(), "{value}: {json}");
    }
    // What an application's own clients send to its open part is between them.
    let json = received(&stack, "GET /received HTTP/1.1\nAuthorization: Bearer of-the-application", "").await;
    assert_eq!(values(&json, "authorization"), ["Bearer of-the-application"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_client_that_breaks_its_own_upload_does_not_make_the_application_look_down() {
    use tokio::io::AsyncWriteExt;
    let stack = Stack::new().await;
    let anouk = stack.admitted("anouk").await;
    for _ in 0..5 {
        let mut broken = tokio::net::TcpStream::connect(stack.address).await.unwrap();
        let head = stack.head(&anouk);
        let request = format!("POST /received HTTP/1.1\r\n{head}\r\nContent-Length: 1000000\r\n\r\nabc");
        broken.write_all(request.as_bytes()).await.unwrap();
        broken.set_zero_linger().unwrap();
        drop(broken);
    }
    let failed = async || {
        let gates = stack.get("/gates").await;
        gates.to_string().contains("broke") || gates.to_string().contains("\"healthy\":false")
    };
    stack.settle().await;
    assert!(!failed().await, "{}", stack.get("/gates").await);
    let json = received(&stack, &format!("GET /received HTTP/1.1\nCookie: {}", cookie(&anouk)), "").await;
    assert_eq!(values(&json, "x-harbour-user"), ["anouk"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn our_cookies_never_reach_the_upstream_and_others_do() {
    let stack = Stack::new().await;
    let token = gate_token(&stack.signed_in("anouk").await);
    let head = format!("GET /received HTTP/1.1\nCookie: theirs=1; passeur-gate={token}; __Host-Passeur-x=2\nCookie: also=3");
    let json = received(&stack, &head, "").await;
    assert_eq!(values(&json, "cookie"), ["theirs=1; also=3"], "{json}");
}

#[tokio::test(flavor = "multi_thread")]
async fn two_cookies_a_foreign_token_and_garbage_are_no_session() {
    let stack = Stack::new().await;
    let token = gate_token(&stack.signed_in("anouk").await);
    let session = stack.signed_in("anouk").await.cookies["pass.havrelune.localhost"]["passeur-session"].clone();
    let host = format!("Host: berths.havrelune.localhost:{}", stack.address.port());
    for (cookie, why) in [
        (format!("passeur-gate={token}; passeur-gate={token}"), "duplicate"),
        (format!("passeur-gate={session}"), "unknown"),
        (format!("passeur-gate={}", "A".repeat(43)), "unknown"),
        ("passeur-gate=".to_owned(), "unknown"),
        (format!("Passeur-Gate={token}"), "none"),
    ] {
        let answer =
            raw(stack.address, &format!("GET /received HTTP/1.1\r\n{host}\r\nCookie: {cookie}\r\nConnection: close\r\n\r\n"))
                .await;
        assert!(answer.starts_with("HTTP/1.1 401"), "{cookie}: {answer}");
        assert!(
            answer.contains(&format!("urn:passeur:problem:{why}")) && answer.to_lowercase().contains("www-authenticate"),
            "{answer}"
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gates_token_is_good_at_that_gate_only() {
    let stack = Stack::with(|site| {
        let gate = &site[site.find("[[gate]]").unwrap()..site.find("# The same ledger by the agents").unwrap()];
        let other = gate.replace("name = \"berths\"", "name = \"sheds\"").replace("http://berths.", "http://sheds.");
        format!("{site}\n{other}")
    })
    .await;
    let mut anouk = stack.signed_in("anouk").await;
    let mine = anouk.cookies["berths.havrelune.localhost"].clone();
    let sheds = stack.gate("/received").replace("berths.", "sheds.");
    anouk.cookies.insert("sheds.havrelune.localhost".into(), mine);
    anouk.accept = "application/json";
    let page = anouk.send(Method::GET, &sheds, None).await;
    assert_eq!((page.status.as_u16(), page.json()["type"].as_str().unwrap()), (401, "urn:passeur:problem:other-gate"));
    // With the session at the sign-in host, nothing is asked again.
    anouk.accept = "text/html";
    assert_eq!(anouk.open(&sheds).await.status, 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn tunnels_traces_and_foreign_upgrades_are_refused_with_and_without_a_session() {
    let stack = Stack::new().await;
    let cookie = cookie(&stack.signed_in("anouk").await);
    let host = format!("berths.havrelune.localhost:{}", stack.address.port());
    for with in [String::new(), format!("Cookie: {cookie}\r\n")] {
        for (head, status) in [
            (format!("TRACE / HTTP/1.1\r\nHost: {host}\r\n"), "405"),
            (format!("GET / HTTP/1.1\r\nHost: {host}\r\nUpgrade: websocket, h2c\r\nConnection: Upgrade\r\n"), "400"),
            (
                format!(
                    "GET / HTTP/1.1\r\nHost: {host}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nOrigin: http://evil.example\r\n"
                ),
                "403",
            ),
            (format!("GET / HTTP/1.1\r\nHost: {host}\r\nHost: {host}\r\n"), "400"),
            (format!("POST / HTTP/1.1\r\nHost: {host}\r\nTransfer-Encoding: x, chunked\r\n"), "400"),
            (format!("GET http://pass.havrelune.localhost/ HTTP/1.1\r\nHost: {host}\r\n"), "400"),
        ] {
            let answer = raw(stack.address, &format!("{head}{with}Connection: close\r\n\r\n")).await;
            assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{head}: {answer}");
        }
        // An offer of another protocol is ignored: the answer is what it would be without it, and nothing of it goes on.
        let offer = format!(
            "GET /received HTTP/1.1\r\nHost: {host}\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABk\r\n{with}Connection: close, Upgrade, HTTP2-Settings\r\n\r\n"
        );
        let answer = raw(stack.address, &offer).await;
        assert!(!answer.starts_with("HTTP/1.1 101") && !answer.to_lowercase().contains("http2-settings"), "{answer}");
        assert!(answer.starts_with(if with.is_empty() { "HTTP/1.1 401" } else { "HTTP/1.1 200" }), "{answer}");
        if !with.is_empty() {
            assert!(answer.contains("1.1 passeur"), "it says that it stands in between: {answer}");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upstream_cannot_set_our_cookies_nor_make_its_answer_public() {
    let upstream = RawUpstream::new(
        "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nSet-Cookie: theirs=1\r\nSet-Cookie: passeur-gate=planted\r\nSet-Cookie: =__Host-passeur-session=planted\r\nCache-Control: public, max-age=60\r\nConnection: x-inner\r\nX-Inner: 1\r\nClear-Site-Data: \"*\"\r\nAlt-Svc: h3=\":443\"\r\nNEL: {}\r\nReport-To: {}\r\nReporting-Endpoints: a=\"https://elsewhere.example\"\r\nService-Worker-Allowed: /\r\nCDN-Cache-Control: max-age=60\r\nMy-Cache-Control: max-age=60\r\nSurrogate-Control: max-age=60\r\n\r\nok",
        false,
    )
    .await;
    let port = upstream.address.port();
    let stack = Stack::with(|site| instead(site, &at(port))).await;
    let mut anouk = Person::new();
    let page = anouk.sign_in(&stack.gate("/"), "anouk").await;
    assert_eq!((page.status.as_u16(), page.body.as_str()), (200, "ok"));
    let set: Vec<_> = page.headers.get_all("set-cookie").iter().collect();
    assert_eq!(set, ["theirs=1"]);
    assert_eq!(page.header("cache-control"), "private, max-age=60");
    for name in [
        "x-inner",
        "clear-site-data",
        "alt-svc",
        "nel",
        "report-to",
        "reporting-endpoints",
        "service-worker-allowed",
        "cdn-cache-control",
        "my-cache-control",
        "surrogate-control",
    ] {
        assert!(page.headers.get(name).is_none(), "{name}");
    }
    let seen = upstream.seen.lock().unwrap().join("\n");
    assert!(!seen.contains("passeur-"), "{seen}");
}

#[tokio::test(flavor = "multi_thread")]
async fn only_a_navigating_person_is_redirected() {
    let stack = Stack::new().await;
    let host = format!("Host: berths.havrelune.localhost:{}\r\nConnection: close\r\n", stack.address.port());
    for (request, status) in [
        ("GET / HTTP/1.1\r\nAccept: text/html\r\n", "303"),
        ("GET / HTTP/1.1\r\nAccept: */*\r\n", "401"),
        ("GET / HTTP/1.1\r\nAccept: text/html\r\nSec-Fetch-Mode: cors\r\n", "401"),
        ("GET / HTTP/1.1\r\nAccept: */*\r\nSec-Fetch-Mode: navigate\r\n", "303"),
        ("POST / HTTP/1.1\r\nAccept: text/html\r\nSec-Fetch-Mode: navigate\r\nContent-Length: 0\r\n", "401"),
        ("HEAD / HTTP/1.1\r\nAccept: text/html\r\n", "303"),
        ("GET /.passeur/nothing HTTP/1.1\r\nAccept: text/html\r\n", "404"),
        ("GET /%2epasseur/x HTTP/1.1\r\nAccept: text/html\r\n", "404"),
        ("GET /healthz HTTP/1.1\r\n", "401"),
    ] {
        let answer = raw(stack.address, &format!("{request}{host}\r\n")).await;
        assert!(answer.starts_with(&format!("HTTP/1.1 {status}")), "{request}: {answer}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_forged_is_told_once_a_minute() {
    let stack = Stack::new().await;
    let cookie = cookie(&stack.signed_in("anouk").await);
    for _ in 0..3 {
        received(&stack, &format!("GET /received HTTP/1.1\nCookie: {cookie}\nX_Harbour_User: harbour-master"), "").await;
    }
    assert_eq!(stack.latest().await, ("admitted".into(), "gate.headers-removed".into()));
    let list = stack.get("/crossings?limit=1").await;
    let line = &list["crossings"][0];
    assert!(line["why"].as_str().unwrap().contains("x_harbour_user"), "{line}");
    assert_eq!(line["subject"], "p-1001");
    let all = stack.get("/crossings").await;
    let told = all["crossings"].as_array().unwrap().iter().filter(|c| c["code"] == "gate.headers-removed").count();
    assert_eq!(told, 1, "the others are counted on it: {all}");
}

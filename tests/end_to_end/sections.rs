//! Sections of a gate, and where a request came from when proxies stand in front.

use serde_json::Value;

use crate::support::{Person, Stack, raw};

fn with_open(site: String) -> String {
    site.replace("[[gate.section]]", "[[gate.section]]\npath = \"/received\"\nopen = true\n\n[[gate.section]]")
}

async fn ask(stack: &Stack, person: Option<&Person>, target: &str) -> (String, String) {
    let host = format!("Host: berths.havrelune.localhost:{}\r\nConnection: close", stack.address.port());
    let head = person.map_or(host, |p| stack.head(p));
    let answer =
        raw(stack.address, &format!("GET {target} HTTP/1.1\r\n{head}\r\nAccept: application/json\r\nX_Harbour_User: me\r\n\r\n"))
            .await;
    let status = answer.split(' ').nth(1).unwrap_or_default().to_owned();
    (status, answer)
}

#[tokio::test(flavor = "multi_thread")]
async fn an_open_section_is_reached_by_anybody_and_told_nothing() {
    let stack = Stack::with(with_open).await;
    let anouk = stack.admitted("anouk").await;
    for person in [None, Some(&anouk)] {
        let (status, answer) = ask(&stack, person, "/received").await;
        assert_eq!(status, "200", "{answer}");
        assert!(
            !answer.to_lowercase().contains("x-harbour-user") && !answer.to_lowercase().contains("x_harbour_user"),
            "{answer}"
        );
        assert!(!answer.contains("passeur-gate"), "{answer}");
    }
    // Only the plain spelling is open; everything else asks for a session.
    for odd in ["/Received", "/received;x", "/%72eceived", "/receivedx", "/received.json", "/"] {
        assert_eq!(ask(&stack, None, odd).await.0, "401", "{odd}");
    }
    for odd in ["//received", "/received/../", "/received/%2e%2e/", "/received%2f", "/x%5c..%5creceived"] {
        assert_eq!(ask(&stack, None, odd).await.0, "400", "{odd}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_section_that_asks_for_more_cannot_be_spelt_past() {
    let stack = Stack::new().await;
    let (anouk, benoit) = (stack.signed_in("anouk").await, stack.signed_in("benoit").await);
    for spelling in ["/assign", "/ASSIGN", "/%61ssign", "/assign;a=b", "/assign/", "/assign.json", "/%C3%A1ssign"] {
        let (status, answer) = ask(&stack, Some(&anouk), spelling).await;
        assert_eq!(status, "403", "{spelling}: {answer}");
        assert!(answer.contains("Only berth planners assign berths."), "{answer}");
        assert_eq!(ask(&stack, None, spelling).await.0, "401", "{spelling}");
        let reached = ask(&stack, Some(&benoit), spelling).await.0;
        assert!(reached == "405" || reached == "404", "{spelling} reaches the application: {reached}");
    }
    // What servers read in different ways comes to no server, whoever asks.
    for doubtful in [
        "//assign",
        "/./assign",
        "/x/../assign",
        "/%2561ssign",
        "/x/..%2fassign",
        "/a%5cb/../assign",
        "/a%2fb/../assign",
        "/a%252fb/../assign",
        "/assign.",
        "/assign%20",
        "/assign%3fx",
        "/assign::$DATA",
        "/a%c5%bfsign",
        "/ASSIGN~1",
    ] {
        for person in [None, Some(&anouk), Some(&benoit)] {
            let (status, answer) = ask(&stack, person, doubtful).await;
            assert_eq!(status, "400", "{doubtful}: {answer}");
            assert!(answer.contains("servers read the path"), "{doubtful}: {answer}");
        }
    }
    // A second path in a header is none that a section is asked for.
    let head = stack.head(&benoit);
    let moved = raw(stack.address, &format!("MOVE /received HTTP/1.1\r\n{head}\r\nDestination: /assign/1\r\n\r\n")).await;
    assert!(moved.starts_with("HTTP/1.1 400"), "{moved}");
    // Told once, in full, with what was wanted and seen.
    stack.settle().await;
    let list = stack.get("/crossings?outcome=refused").await;
    let told = list["crossings"].as_array().unwrap();
    assert_eq!(told.len(), 1, "{list}");
    assert_eq!(told[0]["why"], "The section /assign asks for more than entry: group planners. Seen: not in planners.");
    assert_eq!(ask(&stack, Some(&anouk), "/received").await.0, "200", "the rest of the gate is open to them");
    // In a browser it is a page with the rule's words and the crossing.
    let mut browser = anouk.clone();
    let page = browser.send(reqwest::Method::GET, &stack.gate("/assign"), None).await;
    assert_eq!((page.status.as_u16(), page.crossing()), (403, told[0]["id"].as_str().unwrap().to_owned()));
    assert!(page.body.contains("Only berth planners assign berths."), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn where_a_request_came_from_is_believed_from_trusted_proxies_only() {
    let seen = async |stack: &Stack, fields: &str| {
        let anouk = stack.signed_in("anouk").await;
        let head = stack.head(&anouk);
        let answer =
            raw(stack.address, &format!("GET /received HTTP/1.1\r\n{head}\r\nAccept: application/json\r\n{fields}\r\n\r\n"))
                .await;
        let json: Value = serde_json::from_str(&answer[answer.find('{').unwrap()..=answer.rfind('}').unwrap()]).unwrap();
        let value = |name: &str| {
            let all = json["headers"].as_array().unwrap().iter().filter(|h| h[0] == name);
            all.map(|h| h[1].as_str().unwrap().to_owned()).collect::<Vec<_>>().join(" | ")
        };
        (value("x-forwarded-for"), value("forwarded"))
    };
    let claim = "X-Forwarded-For: 6.6.6.6, 198.51.100.7";
    let plain = Stack::new().await;
    assert_eq!(seen(&plain, claim).await.0, "127.0.0.1");
    let behind = async |field: &str| {
        let keys = format!("trusted-proxies = [\"127.0.0.0/8\"]\nproxies-write = \"{field}\"\nkeep-crossings");
        Stack::with(|s| s.replace("keep-crossings", &keys)).await
    };
    let by_standard = behind("forwarded").await;
    assert_eq!(seen(&by_standard, "Forwarded: for=\"[2001:db8::1]\"").await.0, "2001:db8::1, 127.0.0.1");
    assert_eq!(seen(&by_standard, claim).await.0, "127.0.0.1", "the other field is no word of a proxy's");
    let survey = by_standard.post("/survey", Value::Null).await.1;
    assert!(!survey.to_string().contains("proxies.field"), "{survey}");
    let behind = behind("x-forwarded-for").await;
    // Nobody behind a proxy that appends to X-Forwarded-For chooses an address by the standard's field, which it passes on.
    let both = format!("Forwarded: for=10.9.9.9\r\n{claim}");
    for claim in [claim, &both] {
        let (xff, forwarded) = seen(&behind, claim).await;
        assert_eq!(xff, "198.51.100.7, 127.0.0.1");
        assert!(forwarded.starts_with("for=198.51.100.7;host=") && forwarded.ends_with(", for=127.0.0.1"), "{forwarded}");
    }
    // Refusals are recorded under the address that counts.
    let host = format!("Host: berths.havrelune.localhost:{}\r\nConnection: close", behind.address.port());
    raw(behind.address, &format!("GET / HTTP/1.1\r\n{host}\r\n{claim}\r\n\r\n")).await;
    behind.settle().await;
    let found = behind.get("/crossings?outcome=unauthenticated").await;
    assert_eq!(found["crossings"][0]["address"], "198.51.100.7");
    // The other field's arrival is told, by the crossing and by the survey once nothing else comes.
    raw(behind.address, &format!("GET / HTTP/1.1\r\n{host}\r\nForwarded: for=10.9.9.9\r\n\r\n")).await;
    behind.settle().await;
    let told = behind.get("/crossings?outcome=unauthenticated").await["crossings"][0].clone();
    assert_eq!(told["address"], "127.0.0.1");
    let story = behind.story(told["id"].as_str().unwrap()).await;
    assert!(story["steps"].to_string().contains("gate.proxy-field-ignored"), "{story}");
}

//! RADIUS clients: what they are told of whom, and each cause for which they are told nothing, or no. What they tell of sessions there is in
//! `accounting`, what they are ordered in `orders`, and how they hand a code on in `codes`.

mod accounting;
mod codes;
mod machines;
mod orders;
mod quay;
mod realm;
mod room;
mod tls;

use std::time::Duration;

use serde_json::{Value, json};

use crate::support::{Nas, Stack, Told, Where, eventually, on_port};

const RADIUS: &str = include_str!("../../../demo/radius.toml");
pub const GATEWAY: &str = "gateway-secret-of-the-quays-01";
const DOORS: &str = "doors-secret-of-the-quays-0002";

pub const ACCEPT: u8 = 2;
const REJECT: u8 = 3;
pub const USER: u8 = 1;
const PASSWORD: u8 = 2;
pub const SERVICE: u8 = 6;
const FILTER: u8 = 11;
const REPLY: u8 = 18;
const CLASS: u8 = 25;
const VENDOR: u8 = 26;
const SESSION_TIMEOUT: u8 = 27;
const IDLE_TIMEOUT: u8 = 28;
const CALLED: u8 = 30;
const CALLING: u8 = 31;
const PROXY_STATE: u8 = 33;
const EAP: u8 = 79;
const VLAN: u8 = 81;
const INTERIM: u8 = 85;
const NAS_FILTER_RULE: u8 = 92;
pub const AUTHORIZE_ONLY: [u8; 4] = [0, 0, 0, 17];

/// The harbour with the gateway of the quays; `change` changes its part of the site file.
pub async fn quays(change: impl FnOnce(String) -> String) -> Stack {
    let place = Where { radius: true, ..Where::default() };
    let stack = Stack::guarding(place, |site| format!("{site}\n{}", change(on_port(&site, RADIUS)))).await;
    stack.put("/secrets/quay-gateway", json!({"value": GATEWAY})).await;
    stack.put("/secrets/quay-doors", json!({"value": DOORS})).await;
    let server = stack.radius();
    // Secrets are read every two seconds: the gateway asks whether somebody is there.
    for (at, secret) in [("127.0.0.11", GATEWAY), ("127.0.0.12", DOORS)] {
        let nas = Nas::at(at, server, secret).await;
        let mut n = 0;
        eventually("the client is known", async || {
            n += 1;
            let alive = nas.packet(12, n, [n; 16], &[], true);
            nas.send(&alive).await;
            nas.heard(Duration::from_millis(300)).await.is_some_and(|octets| nas.reads(&alive, &octets).code == ACCEPT)
        })
        .await;
    }
    stack
}

async fn gateway(stack: &Stack) -> Nas {
    Nas::at("127.0.0.11", stack.radius(), GATEWAY).await
}

async fn doors(stack: &Stack) -> Nas {
    Nas::at("127.0.0.12", stack.radius(), DOORS).await
}

async fn authorizes(nas: &Nas, user: &str) -> Told {
    nas.asks(&nas.request(&[(USER, user.as_bytes()), (SERVICE, &AUTHORIZE_ONLY), (CALLING, b"192.0.2.44")])).await
}

/// The latest crossing of the gate, with its story.
async fn latest(stack: &Stack) -> (Value, String) {
    stack.settle().await;
    let all = stack.get("/crossings?limit=1&gate=quays").await;
    let one = all["crossings"][0].clone();
    let story = stack.story(one["id"].as_str().unwrap_or_else(|| panic!("{all}"))).await.to_string();
    (one, story)
}

/// Waits until a crossing of late tells something.
async fn is_told(stack: &Stack, words: &str) {
    let mut seen = vec![];
    for _ in 0..1_200 {
        stack.settle().await;
        let all = stack.get("/crossings?limit=20").await;
        seen.clear();
        for one in all["crossings"].as_array().unwrap() {
            seen.push(stack.story(one["id"].as_str().unwrap()).await.to_string());
        }
        if seen.iter().any(|s| s.contains(words)) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{words}: {seen:#?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_gateway_that_signed_somebody_in_is_told_what_the_rules_give_them() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    let told = authorizes(&nas, "anouk@havrelune.example").await;
    assert_eq!(told.code, ACCEPT, "{told:?}");
    assert_eq!(told.texts(FILTER), ["quay-staff"]);
    assert_eq!(told.texts(VLAN), ["quays"]);
    assert_eq!(told.texts(REPLY), ["The quays are open to you."]);
    // What rules let somebody reach, as one text of filter rules: the exception is cut out, and the rest is denied.
    assert_eq!(
        told.texts(NAS_FILTER_RULE),
        ["permit in 6 from any to 10.80.6.0 443\0permit in 6 from any to 10.80.6.2/31 443\0deny in ip from any to any"]
    );
    assert_eq!((told.number(64), told.number(65)), (Some(13), Some(6)));
    assert_eq!(
        (told.number(SESSION_TIMEOUT), told.number(IDLE_TIMEOUT), told.number(INTERIM)),
        (Some(28_800), Some(1_800), Some(600))
    );
    let vendors = told.attributes.iter().find(|(k, _)| *k == VENDOR).unwrap().1.clone();
    assert_eq!(vendors, [&32_473u32.to_be_bytes()[..], &[7, 10], b"pilotage"].concat());
    // The session stands among the others, and its number is the Class.
    let sessions = stack.get("/sessions").await;
    let own = sessions.as_array().unwrap().iter().find(|s| s["subject"] == "anouk@havrelune.example").unwrap().clone();
    let class = told.attributes.iter().find(|(k, _)| *k == CLASS).unwrap().1.clone();
    assert_eq!(uuid::Uuid::from_slice(&class).unwrap().to_string(), own["id"].as_str().unwrap());
    let (line, story) = latest(&stack).await;
    assert_eq!((&line["outcome"], &line["address"]), (&json!("admitted"), &json!("192.0.2.44")));
    for words in [
        "RADIUS client quay-gateway, from 127.0.0.11, asks about somebody whom it signed in itself",
        "calls them anouk@havrelune.example; they are looked up by it: uid = anouk",
        "pilots and engineers work on the quays",
        "Filter-Id: quay-staff",
        "was told to let them in, with Filter-Id = quay-staff, VLAN = quays, Berth-Profile = pilotage",
    ] {
        assert!(story.contains(words), "{words}\n{story}");
    }
    // Two rules stack for an engineer.
    let told = authorizes(&nas, "HAVRELUNE\\lucie").await;
    assert_eq!(told.texts(FILTER), ["quay-staff", "beacons"]);
    assert_eq!(told.texts(REPLY), ["The quays are open to you.", "The beacons answer you as well."]);
    // Nobody in the directory, nobody in a group.
    for (user, outcome) in [("nobody-here", "refused"), ("farid", "refused")] {
        let told = authorizes(&nas, user).await;
        let (line, story) = latest(&stack).await;
        assert_eq!((told.code, &line["outcome"]), (REJECT, &json!(outcome)), "{user}: {told:?}\n{story}");
        assert!(told.texts(REPLY)[0].contains(line["id"].as_str().unwrap()), "{told:?}");
        assert!(told.texts(FILTER).is_empty());
    }
    // What rehearsal shows is what was told.
    let ask = json!({"provider": "gateway-word", "claims": {"user": "anouk", "account": "anouk"}, "groups": ["pilots"],
        "attributes": {"departmentNumber": ["pilotage"]}, "gate": "quays", "tunnel": {"entrance": "quay-gateway"}});
    let (status, rehearsed) = stack.post("/rehearse/person", ask).await;
    let shown = rehearsed.to_string();
    assert!(
        status == 200 && ["Filter-Id", "quay-staff", "VLAN", "Berth-Profile", "pilotage"].iter().all(|w| shown.contains(w)),
        "{shown}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_and_a_password_are_proven_in_the_directory_and_tries_are_counted() {
    let stack = quays(|site| site).await;
    let nas = doors(&stack).await;
    let asks = async |user: &str, password: &str| {
        nas.asks(&nas.request(&[(USER, user.as_bytes()), (PASSWORD, password.as_bytes()), (CALLED, b"door 4")])).await
    };
    let told = asks("anouk", "spring-tide").await;
    assert_eq!((told.code, told.texts(FILTER)), (ACCEPT, vec!["quay-staff".to_owned()]), "{told:?}");
    let (line, story) = latest(&stack).await;
    assert_eq!(line["person"], "anouk", "the name, and not the key that the directory has for it");
    assert!(story.contains("Called-Station-Id door 4") && !story.contains("spring-tide"), "{story}");
    // Wrong, of nobody, and too long for the wire: no, with the same words.
    let mut words = std::collections::BTreeSet::new();
    for (user, password) in [("anouk", "wrong"), ("nobody-here", "spring-tide"), ("anouk", "x".repeat(128).as_str())] {
        let told = asks(user, password).await;
        assert_eq!(told.code, REJECT, "{user}");
        words.insert(told.texts(REPLY)[0].split(" (").next().unwrap().to_owned());
    }
    assert_eq!(words.len(), 1, "{words:?}");
    // More tries than the way in allows.
    for _ in 0..4 {
        asks("anouk", "wrong").await;
    }
    let told = asks("anouk", "spring-tide").await;
    assert!(told.code == REJECT && told.texts(REPLY)[0].starts_with("Too many tries"), "{told:?}");
    assert_eq!(asks("klara", "all-the-rosters").await.code, ACCEPT, "others are not kept out by it");
    // Whoever signs people in itself may not be asked here, nor the other way round.
    let told = nas.asks(&nas.request(&[(USER, b"anouk"), (SERVICE, &AUTHORIZE_ONLY)])).await;
    assert_eq!(told.code, REJECT);
    let (_, story) = latest(&stack).await;
    assert!(story.contains("may not ask about authorize-only"), "{story}");
}

#[tokio::test(flavor = "multi_thread")]
async fn each_cause_for_which_nothing_or_no_is_said_is_told_apart() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    let silent = async |nas: &Nas, octets: &[u8]| {
        nas.send(octets).await;
        let answer = nas.heard(Duration::from_millis(300)).await;
        assert!(answer.is_none(), "{answer:?}");
    };
    let user: (u8, &[u8]) = (USER, b"anouk");
    let told = async |words: &str| is_told(&stack, words).await;
    // Where no client sends from.
    let stranger = Nas::at("127.0.0.13", stack.radius(), GATEWAY).await;
    silent(&stranger, &stranger.request(&[user])).await;
    told("A RADIUS request came from 127.0.0.13, where no client sends from").await;
    // Another secret, none at all, two of them.
    let other = Nas::at("127.0.0.11", stack.radius(), "another-secret-of-the-quays-03").await;
    silent(&other, &other.request(&[user, (SERVICE, &AUTHORIZE_ONLY)])).await;
    told("it was made with another secret, or changed on its way").await;
    silent(&nas, &nas.packet(1, 200, [1; 16], &[user, (SERVICE, &AUTHORIZE_ONLY)], false)).await;
    told("it has no Message-Authenticator").await;
    silent(&nas, &nas.packet(1, 201, [2; 16], &[user, (80, &[0; 16])], true)).await;
    told("its Message-Authenticator is none, or stands twice").await;
    // Changed on its way: one bit of the name.
    let mut changed = nas.request(&[user, (SERVICE, &AUTHORIZE_ONLY)]);
    changed[22] ^= 1;
    silent(&nas, &changed).await;
    // A part that was lost, and what is no packet.
    let whole = nas.request(&[user, (SERVICE, &AUTHORIZE_ONLY)]);
    silent(&nas, &whole[..whole.len() - 5]).await;
    told("a part was lost on the way").await;
    for octets in [vec![], vec![1; 19], vec![0xff; 4_096], [&whole[..20], &[1, 0]].concat()] {
        silent(&nas, &octets).await;
    }
    // An accounting request, and an answer, at the port for access.
    for code in [2, 4, 11, 40, 43] {
        silent(&nas, &nas.packet(code, 202, [3; 16], &[user], true)).await;
    }
    // EAP ends cleanly for the supplicant, and words stand beside no EAP-Message.
    let told_no = nas.asks(&nas.request(&[user, (EAP, &[2, 9, 0, 10, 1, b'a', b'n', b'o', b'u', b'k'])])).await;
    assert_eq!((told_no.code, told_no.attributes.len()), (REJECT, 2), "{told_no:?}");
    assert_eq!(told_no.attributes[1], (EAP, vec![4, 9, 0, 4]));
    told("asks by EAP").await;
    for chap in [(3u8, vec![1u8; 17]), (VENDOR, [&311u32.to_be_bytes()[..], &[1, 4, 0, 0]].concat())] {
        assert_eq!(nas.asks(&nas.request(&[user, (chap.0, &chap.1)])).await.code, REJECT);
    }
    told("asks by CHAP").await;
    assert_eq!(nas.asks(&nas.request(&[user])).await.code, REJECT);
    told("shows no password").await;
    // What proxies left behind comes back in its order.
    let request = nas.request(&[user, (SERVICE, &AUTHORIZE_ONLY), (PROXY_STATE, b"one"), (PROXY_STATE, b"two")]);
    let first = nas.asks(&request).await;
    assert_eq!((first.code, first.texts(PROXY_STATE)), (ACCEPT, vec!["one".to_owned(), "two".to_owned()]));
    // The same request again is the same answer, and no second session.
    let sessions = async || stack.get("/sessions").await.as_array().unwrap().len();
    let before = sessions().await;
    assert_eq!(nas.asks(&request).await.attributes, first.attributes);
    assert_eq!(sessions().await, before);
    // Twice in one instant as well.
    let request = nas.request(&[user, (SERVICE, &AUTHORIZE_ONLY)]);
    nas.send(&request).await;
    nas.send(&request).await;
    nas.heard(Duration::from_secs(10)).await.unwrap();
    assert_eq!(sessions().await, before + 1);
    // A weak secret is none.
    stack.put("/secrets/quay-gateway", json!({"value": "testing123"})).await;
    told_after_secret(&stack, &nas).await;
    told("is not stored, or shorter than 16 octets").await;
}

/// Asks until the new secret is known: nothing is answered by it.
async fn told_after_secret(stack: &Stack, nas: &Nas) {
    let mut n = 100;
    eventually("the weak secret counts for nothing", async || {
        n += 1;
        nas.send(&nas.packet(12, n, [n; 16], &[], true)).await;
        nas.heard(Duration::from_millis(200)).await.is_none()
    })
    .await;
    stack.settle().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_directory_that_does_not_answer_and_somebody_who_left_are_refused() {
    let stack = quays(|site| site).await;
    let nas = gateway(&stack).await;
    assert_eq!(authorizes(&nas, "anouk").await.code, ACCEPT);
    let (status, taken) = stack.post("/people/take-away", json!({"people": ["gateway-word/anouk"], "block": "left"})).await;
    assert!(status == 200 && taken["sessions"].as_array().unwrap().len() == 1, "{taken}");
    for name in ["anouk", "ANOUK", " Anouk "] {
        let told = authorizes(&nas, name).await;
        assert!(told.code == REJECT && told.texts(REPLY)[0].starts_with("You are kept out"), "{name}: {told:?}");
    }
    assert_eq!(authorizes(&nas, "anouk\u{7}").await.code, REJECT);
    // The look-up is dead: no, and the crossing says so.
    let dead =
        stack.site.replace("base = \"ou=people,dc=havrelune,dc=example\"", "base = \"ou=nowhere,dc=havrelune,dc=example\"");
    assert_eq!(stack.publish(&dead).await.0, 200);
    let told = authorizes(&nas, "klara").await;
    let (line, story) = latest(&stack).await;
    assert_eq!((told.code, &line["outcome"]), (REJECT, &json!("failed")), "{story}");
}

/// What another implementation sends as the gateway, with how it ended and what it says of it. `what` is `auth` or `acct`.
async fn radclient(stack: &Stack, what: &str, line: &str) -> (Option<i32>, String) {
    use tokio::io::AsyncWriteExt;
    let secret = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(secret.path(), format!("{GATEWAY}\n")).unwrap();
    let mut child = tokio::process::Command::new("radclient")
        .args(["-x", "-r", "1", "-t", "15", "-S"])
        .arg(secret.path())
        .args([stack.radius().to_string().as_str(), what])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("radclient of freeradius-utils");
    child.stdin.take().unwrap().write_all(format!("Packet-Src-IP-Address = 127.0.0.11, {line}\n").as_bytes()).await.unwrap();
    let out = child.wait_with_output().await.unwrap();
    (out.status.code(), format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr)))
}

#[tokio::test(flavor = "multi_thread")]
async fn another_implementation_takes_the_answers_for_proven() {
    let stack = quays(|site| site).await;
    let (code, said) = radclient(
        &stack,
        "auth",
        "User-Name = \"anouk@havrelune.example\", Service-Type = Authorize-Only, Message-Authenticator = 0x00",
    )
    .await;
    assert_eq!(code, Some(0), "{said}");
    for words in [
        "Received Access-Accept",
        "Filter-Id = \"quay-staff\"",
        "Tunnel-Private-Group-Id:0 = \"quays\"",
        "Tunnel-Type:0 = VLAN",
        "Session-Timeout = 28800",
        "Reply-Message = \"The quays are open to you.\"",
    ] {
        assert!(said.contains(words), "{words}\n{said}");
    }
    let (code, said) = radclient(
        &stack,
        "auth",
        "User-Name = \"farid@havrelune.example\", Service-Type = Authorize-Only, Message-Authenticator = 0x00",
    )
    .await;
    assert!(code == Some(1) && said.contains("Received Access-Reject"), "{said}");
}

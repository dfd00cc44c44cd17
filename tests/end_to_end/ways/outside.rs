//! Codes that a server of others judges: another implementation of RADIUS says yes, asks for more, or no; and servers that say nothing of use.

use std::net::SocketAddr;

use chrono::Duration;
use reqwest::StatusCode;
use serde_json::json;
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::net::UdpSocket;
use tokio::process::{Child, Command};

use super::factors::by_password;
use crate::support::{Page, Person, Stack};

const SECRET: &str = "secret-of-the-key-fobs-0001";

/// The other implementation, and where it listens.
async fn server() -> (Child, SocketAddr) {
    let peer = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("peers/codes.py");
    let mut command = Command::new("/usr/bin/python3");
    command.arg(peer).arg(SECRET).stdout(std::process::Stdio::piped()).kill_on_drop(true);
    let mut child = command.spawn().expect("python3 with python3-pyrad");
    let line = BufReader::new(child.stdout.take().unwrap()).lines().next_line().await.unwrap().unwrap();
    (child, SocketAddr::from(([127, 0, 0, 1], line.parse().unwrap())))
}

/// The harbour, where the section in which berths are assigned wants a code of a key fob.
async fn harbour(servers: &[SocketAddr]) -> Stack {
    let all = servers.iter().map(|s| format!("\"{s}\"")).collect::<Vec<_>>().join(", ");
    let factors = format!(
        "[factors.outside]\ntitle = \"the code of your key fob\"\nservers = [{all}]\nsecret = \"fobs\"\nname = \"user\"\nwithin = \"1s\"\n"
    );
    let stack = Stack::with(|site| format!("{site}\n{factors}")).await;
    assert_eq!(stack.put("/secrets/fobs", json!({"value": SECRET})).await.0, 200);
    stack
}

/// Goes where a code is asked for.
async fn asks(stack: &Stack, person: &mut Person) -> Page {
    let page = person.open(&stack.everybody("/assign")).await;
    assert!(page.body.contains("The code of your key fob"), "{} {}", page.status, page.body);
    page
}

#[tokio::test(flavor = "multi_thread")]
async fn another_implementation_says_yes_asks_for_more_or_says_no() {
    let (_child, at) = server().await;
    let stack = harbour(&[at]).await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let page = asks(&stack, &mut benoit).await;
    let refused = benoit.fill_in(&page, &[("code", "999999")]).await;
    assert_eq!(refused.status, StatusCode::FORBIDDEN, "{}", refused.body);
    let story = stack.story(&refused.crossing()).await.to_string();
    for words in [
        &format!("The server for codes at {at} was asked about the code of benoit. It said no. Code not valid."),
        "the server for codes says no",
    ] {
        assert!(story.contains(words), "{words}: {story}");
    }
    assert!(!story.contains("999999"), "{story}");
    // It wants a PIN besides; what the form hands back is of this session alone.
    let more = benoit.fill_in(&refused, &[("code", "222222")]).await;
    assert!(more.status == StatusCode::OK && more.body.contains("Choose a new PIN of four digits."), "{}", more.body);
    let outside = more.form().1.into_iter().find(|(n, _)| n == "outside").unwrap().1;
    assert!(!outside.contains("wants-a-new-pin"));
    let mut forged = more.clone();
    forged.body = more.body.replace(&outside, &format!("{}A", &outside[..outside.len() - 1]));
    assert_eq!(benoit.fill_in(&forged, &[("code", "8888")]).await.status, StatusCode::FORBIDDEN);
    let done = benoit.fill_in(&more, &[("code", "8888")]).await;
    let page = benoit.follow(done).await;
    assert_eq!(page.url, stack.everybody("/assign"), "{}", page.body);
    // Another session, by the code alone.
    let mut again = by_password(&stack, "benoit", "neap-tide").await;
    let page = asks(&stack, &mut again).await;
    let done = again.fill_in(&page, &[("code", "111111")]).await;
    assert_eq!(again.follow(done).await.url, stack.everybody("/assign"));
    let all = stack.get("/crossings?limit=5").await.to_string();
    assert!(all.contains("harbour-wide"), "{all}");
}

#[tokio::test(flavor = "multi_thread")]
async fn tries_are_counted_and_a_state_is_good_for_its_time_and_session() {
    let (_child, at) = server().await;
    let stack = harbour(&[at]).await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let page = asks(&stack, &mut benoit).await;
    let more = benoit.fill_in(&page, &[("code", "222222")]).await;
    // Another session of the same person hands it back.
    let mut other = by_password(&stack, "benoit", "neap-tide").await;
    let mut page = asks(&stack, &mut other).await;
    let outside = more.form().1.into_iter().find(|(n, _)| n == "outside").unwrap().1;
    page.body = page.body.replacen(
        "<input type=\"hidden\" name=\"flow\"",
        &format!("<input type=\"hidden\" name=\"outside\" value=\"{outside}\"><input type=\"hidden\" name=\"flow\""),
        1,
    );
    assert_eq!(other.fill_in(&page, &[("code", "8888")]).await.status, StatusCode::FORBIDDEN);
    stack.later(Duration::seconds(181));
    let late = benoit.fill_in(&more, &[("code", "8888")]).await;
    assert_eq!(late.status, StatusCode::FORBIDDEN, "too late");
    let story = stack.story(&late.crossing()).await.to_string();
    assert!(story.contains("a question of the server for codes that is over"), "no server was asked: {story}");
    // Tries are counted by quarters of an hour: twelve lie in two of them at most.
    let mut statuses = vec![];
    for _ in 0..12 {
        statuses.push(benoit.fill_in(&more, &[("code", "8888")]).await.status);
    }
    assert!(statuses.contains(&StatusCode::TOO_MANY_REQUESTS), "{statuses:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_says_nothing_of_use_is_passed_over_and_told() {
    // The first answers with rubbish, the second without a proof, by the right identifier and shape.
    let (rubbish, unproven) = (UdpSocket::bind("127.0.0.1:0").await.unwrap(), UdpSocket::bind("127.0.0.1:0").await.unwrap());
    let at = [rubbish.local_addr().unwrap(), unproven.local_addr().unwrap()];
    let (_child, good) = server().await;
    tokio::spawn(async move {
        let mut buffer = [0u8; 4_096];
        while let Ok((_, from)) = rubbish.recv_from(&mut buffer).await {
            let _ = rubbish.send_to(b"yes", from).await;
        }
    });
    tokio::spawn(async move {
        let mut buffer = [0u8; 4_096];
        while let Ok((_, from)) = unproven.recv_from(&mut buffer).await {
            let mut yes = vec![2u8, buffer[1], 0, 20];
            yes.extend([0u8; 16]);
            let _ = unproven.send_to(&yes, from).await;
        }
    });
    let stack = harbour(&[at[0], at[1], good]).await;
    let mut benoit = by_password(&stack, "benoit", "neap-tide").await;
    let page = asks(&stack, &mut benoit).await;
    let done = benoit.fill_in(&page, &[("code", "111111")]).await;
    assert_eq!(benoit.follow(done).await.url, stack.everybody("/assign"));
    let survey = stack.post("/survey", json!({})).await.1.to_string();
    for server in at {
        assert!(survey.contains("factor.server-silent") && survey.contains(&server.to_string()), "{server}: {survey}");
    }
    // Nobody answers: it is told, and is no try.
    let without = stack.site.replacen(&format!(", \"{good}\""), "", 1);
    assert_eq!(stack.publish(&without).await.0, 200);
    let mut other = by_password(&stack, "benoit", "neap-tide").await;
    let page = asks(&stack, &mut other).await;
    for _ in 0..7 {
        let page = other.fill_in(&page, &[("code", "111111")]).await;
        assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{}", page.body);
        let story = stack.story(&page.crossing()).await.to_string();
        assert!(
            story.contains("No server for codes answered") && story.contains("an answer that another secret proves, or none"),
            "{story}"
        );
    }
    // Another secret proves nothing, and by a weak one nobody is asked.
    assert_eq!(stack.publish(&stack.site).await.0, 200);
    for (secret, words) in
        [("another-secret-of-the-fobs-2", "No server for codes answered"), ("testing123", "is not stored, or weak")]
    {
        assert_eq!(stack.put("/secrets/fobs", json!({"value": secret})).await.0, 200);
        let page = asks(&stack, &mut other).await;
        let page = other.fill_in(&page, &[("code", "111111")]).await;
        assert_eq!(page.status, StatusCode::BAD_GATEWAY, "{words}: {}", page.body);
        let story = stack.story(&page.crossing()).await.to_string();
        assert!(story.contains(words), "{words}: {story}");
    }
}

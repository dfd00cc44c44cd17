//! The command line signs in by the device flow (RFC 8628).

use std::process::Stdio;

use chrono::Duration;
use reqwest::{Method, StatusCode};
use serde_json::Value;
use tokio::io::{AsyncBufReadExt, BufReader};

use crate::support::{Page, Person, Stack, binary, engineer};

const GRANT: &str = "urn:ietf:params:oauth:grant-type:device_code";

/// A request as a command line sends it: no origin, no cookie.
async fn post(stack: &Stack, path: &str, form: &[(&str, &str)]) -> (StatusCode, Value) {
    let client = reqwest::Client::builder().no_proxy().build().unwrap();
    let host = format!("pass.havrelune.localhost:{}", stack.address.port());
    let answer = client.post(format!("http://{}{path}", stack.address)).header("host", host).form(form).send().await.unwrap();
    (answer.status(), answer.json().await.unwrap())
}

async fn poll(stack: &Stack, code: &str) -> Value {
    post(stack, "/.passeur/device/token", &[("grant_type", GRANT), ("device_code", code)]).await.1
}

async fn answer(stack: &Stack, lucie: &mut Person, form: &[(&str, &str)]) -> Page {
    lucie.accept = "text/html";
    lucie.send(Method::POST, &stack.pass("/.passeur/device"), Some(form)).await
}

#[tokio::test]
async fn a_device_waits_until_an_engineer_says_how_far_it_may_go() {
    let stack = Stack::new().await;
    let (status, begun) = post(&stack, "/.passeur/device/authorize", &[("client_id", "passeur")]).await;
    assert_eq!(status, StatusCode::OK, "{begun}");
    let (device, user) = (begun["device_code"].as_str().unwrap(), begun["user_code"].as_str().unwrap());
    assert_eq!(poll(&stack, device).await["error"], "authorization_pending");
    assert_eq!(poll(&stack, device).await["error"], "slow_down", "asked again at once");
    // Nobody who is no engineer, and no other site's page, answers.
    let mut benoit = stack.signed_in("benoit").await;
    let form = [("user_code", user), ("answer", "yes"), ("role", "view")];
    assert_eq!(answer(&stack, &mut benoit, &form).await.status, StatusCode::FORBIDDEN);
    let mut lucie = engineer(&stack, "lucie").await;
    let page = lucie.submit_to(&stack.pass("/.passeur/device"), &form).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "another site's form");
    // She sees who asks before she says so; the code may be typed in any spelling.
    let typed = user.to_lowercase().replace('-', " ");
    let page = answer(&stack, &mut lucie, &[("user_code", &typed)]).await;
    assert!(page.body.contains("127.0.0.1") && page.body.contains("It is me"), "{}", page.body);
    assert_eq!(answer(&stack, &mut lucie, &[("user_code", "BBBB-BBBB")]).await.status, StatusCode::NOT_FOUND);
    let page = answer(&stack, &mut lucie, &[("user_code", user), ("answer", "yes"), ("role", "operate")]).await;
    assert!(page.body.contains("It is let in"), "{}", page.body);
    let token = poll(&stack, device).await;
    let value = token["access_token"].as_str().unwrap_or_else(|| panic!("{token}")).to_owned();
    assert_eq!(poll(&stack, device).await["error"], "invalid_grant", "fetched once");
    // It is hers, no wider than she said, and an act on record.
    let list = stack.get("/tokens").await;
    let made = list.as_array().unwrap().iter().find(|t| t["owner"] == "Lucie Morvan").unwrap();
    assert_eq!(made["role"], "operate", "{list}");
    assert!(stack.get("/acts").await["acts"].to_string().contains("let a command line in"));
    let mut program = Person::new();
    program.extra = vec![("authorization", format!("Bearer {value}"))];
    assert_eq!(program.send(Method::GET, &stack.pass("/api/v1/me"), None).await.json()["role"], "operate");
}

#[tokio::test]
async fn what_is_denied_or_too_late_gets_nothing() {
    let stack = Stack::new().await;
    let mut lucie = engineer(&stack, "lucie").await;
    let begun = post(&stack, "/.passeur/device/authorize", &[]).await.1;
    let form = [("user_code", begun["user_code"].as_str().unwrap()), ("answer", "no")];
    assert!(answer(&stack, &mut lucie, &form).await.body.contains("not let in"));
    assert_eq!(poll(&stack, begun["device_code"].as_str().unwrap()).await["error"], "access_denied");
    let late = post(&stack, "/.passeur/device/authorize", &[]).await.1;
    stack.clock.advance(Duration::minutes(11));
    let form = [("user_code", late["user_code"].as_str().unwrap()), ("answer", "yes"), ("role", "view")];
    assert_eq!(answer(&stack, &mut lucie, &form).await.status, StatusCode::NOT_FOUND);
    assert_eq!(poll(&stack, late["device_code"].as_str().unwrap()).await["error"], "expired_token");
    assert_eq!(poll(&stack, "never-seen").await["error"], "invalid_grant");
    // Codes are not guessed: ten tries, and no more for a while.
    stack.one_window();
    for _ in 0..10 {
        answer(&stack, &mut lucie, &[("user_code", "CCCC-CCCC")]).await;
    }
    assert_eq!(answer(&stack, &mut lucie, &[("user_code", "CCCC-CCCC")]).await.status, StatusCode::TOO_MANY_REQUESTS);
}

#[tokio::test]
async fn the_command_line_signs_in_and_out() {
    let stack = Stack::new().await;
    let mut lucie = engineer(&stack, "lucie").await;
    let home = std::env::temp_dir().join(format!("passeur-device-{}", stack.address.port()));
    let run = |what: &str| {
        let mut c = tokio::process::Command::new(binary("passeur"));
        c.arg(what).env_clear().env("XDG_STATE_HOME", &home).env("PASSEUR_URL", stack.pass("")).kill_on_drop(true);
        c.stdout(Stdio::piped()).stderr(Stdio::piped());
        c
    };
    let out = run("whoami").output().await.unwrap();
    assert!(String::from_utf8_lossy(&out.stderr).contains("passeur sign-in"), "{out:?}");
    let mut signing_in = run("sign-in").spawn().unwrap();
    let mut lines = BufReader::new(signing_in.stdout.take().unwrap()).lines();
    let code = loop {
        let line = lines.next_line().await.unwrap().unwrap();
        if let Some(code) = line.strip_prefix("    ") {
            break code.to_owned();
        }
    };
    let form = [("user_code", code.as_str()), ("answer", "yes"), ("role", "view")];
    assert!(answer(&stack, &mut lucie, &form).await.body.contains("It is let in"));
    assert!(signing_in.wait().await.unwrap().success());
    let me = run("whoami").output().await.unwrap();
    assert!(String::from_utf8_lossy(&me.stdout).contains("view"), "{me:?}");
    let out = run("sign-out").output().await.unwrap();
    assert!(out.status.success(), "{out:?}");
    assert!(!run("whoami").output().await.unwrap().status.success());
    std::fs::remove_dir_all(home).unwrap();
}

//! Codes by mail: who gets one, what the others see, and what a code is good for.

use reqwest::StatusCode;

use super::form;
use crate::support::{Page, Person, Stack, eventually};

const TITLE: &str = "A code by mail, for visiting ships";
const MASTER: &str = "master.amber@ships.example";

async fn asked(stack: &Stack, person: &mut Person, mail: &str) -> Page {
    let page = form(stack, person, TITLE).await;
    person.fill_in(&page, &[("mail", mail)]).await
}

/// The code in the latest of so many mails.
async fn code(stack: &Stack, mail: &str, count: usize) -> String {
    let text = stack.mailbox.wait_for(mail, count).await.text;
    let line = text.lines().find(|l| l.starts_with("    ")).unwrap();
    line.split_whitespace().collect()
}

#[tokio::test]
async fn a_code_lets_in_once_in_the_browser_that_asked() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = asked(&stack, &mut person, " Master.Amber@Ships.example").await;
    assert_eq!(page.status, StatusCode::OK);
    let code = code(&stack, MASTER, 1).await;
    assert_eq!(stack.mailbox.of(MASTER)[0].subject[7..], *" is your code for Harbour authority of Havrelune");
    // Not elsewhere.
    let mut thief = Person::new();
    form(&stack, &mut thief, TITLE).await;
    assert_eq!(thief.fill_in(&page, &[("code", &code)]).await.status, StatusCode::FORBIDDEN);
    let shown = format!("{} {}", &code[..3], &code[3..]);
    let done = person.fill_in(&page, &[("code", &shown)]).await;
    person.accept = "application/json";
    let there = person.follow(done).await;
    assert_eq!((there.status, there.saw("x-harbour-user")), (StatusCode::OK, vec![MASTER.to_owned()]));
    person.accept = "text/html";
    // Not again, even with another form open in the same browser.
    let again = person.fill_in(&page, &[("code", &code)]).await;
    assert_eq!(again.status, StatusCode::FORBIDDEN);
    assert_eq!(stack.latest().await.1, "way.code-wrong");
    // The person is no mail address, and the story names what happened.
    let session = stack.get("/sessions").await[0].clone();
    assert!(!session["subject"].as_str().unwrap().contains('@'), "{session}");
}

#[tokio::test]
async fn nobody_learns_who_gets_a_code() {
    let stack = Stack::new().await;
    let blank = |page: &Page, mail: &str| {
        let flow = page.form().1.swap_remove(0).1;
        let (before, after) = page.body.split_once("ask=").unwrap();
        format!("{before}{}", after.split_once('&').unwrap().1).replace(&flow, "FLOW").replace(mail, "MAIL")
    };
    let mut person = Person::new();
    let admitted = asked(&stack, &mut person, MASTER).await;
    let mut stranger = Person::new();
    let not = asked(&stack, &mut stranger, "someone@elsewhere.example").await;
    assert_eq!(blank(&admitted, MASTER), blank(&not, "someone@elsewhere.example"));
    let wrong = person.fill_in(&admitted, &[("code", "x")]).await;
    let none = stranger.fill_in(&not, &[("code", "x")]).await;
    let same = |page: &Page| blank(page, "MAIL").replace(&page.crossing(), "ID");
    assert_eq!((wrong.status, same(&wrong)), (none.status, same(&none)));
    stack.mailbox.wait_for(MASTER, 1).await;
    assert_eq!(stack.mailbox.all().len(), 1);
    for bad in ["", "x", "a@b@c", "a@ships.example\r\nBcc: b@elsewhere.example"] {
        let page = asked(&stack, &mut Person::new(), bad).await;
        assert_eq!(page.status, StatusCode::FORBIDDEN, "{bad}");
    }
}

#[tokio::test]
async fn a_code_is_tried_five_times_and_lives_ten_minutes() {
    let stack = Stack::new().await;
    let mut person = Person::new();
    let page = asked(&stack, &mut person, MASTER).await;
    let right = code(&stack, MASTER, 1).await;
    let wrong = if right == "000000" { "000001" } else { "000000" };
    for _ in 0..5 {
        assert_eq!(person.fill_in(&page, &[("code", wrong)]).await.status, StatusCode::FORBIDDEN);
    }
    assert_eq!(person.fill_in(&page, &[("code", &right)]).await.status, StatusCode::FORBIDDEN);
    let page = asked(&stack, &mut person, MASTER).await;
    let right = code(&stack, MASTER, 2).await;
    stack.clock.advance(chrono::Duration::minutes(11));
    assert_eq!(person.fill_in(&page, &[("code", &right)]).await.status, StatusCode::FORBIDDEN);
}

#[tokio::test]
async fn an_address_is_not_flooded_and_its_owner_not_kept_out() {
    let stack = Stack::new().await;
    stack.one_window();
    let mut owner = Person::new();
    let page = asked(&stack, &mut owner, MASTER).await;
    let first = code(&stack, MASTER, 1).await;
    let done = owner.fill_in(&page, &[("code", &first)]).await;
    assert_eq!(owner.follow(done).await.status, StatusCode::OK);
    for n in 0..4 {
        let page = asked(&stack, &mut Person::new(), MASTER).await;
        let wanted = if n < 3 { StatusCode::OK } else { StatusCode::TOO_MANY_REQUESTS };
        assert_eq!(page.status, wanted, "{n}");
    }
    owner.cookies.get_mut("pass.havrelune.localhost").unwrap().remove("passeur-session");
    let page = owner.open(&stack.pass("/.passeur/sign-in?for=quay&way=visitors")).await;
    assert_eq!(owner.fill_in(&page, &[("mail", MASTER)]).await.status, StatusCode::OK);
    code(&stack, MASTER, 5).await;
}

#[tokio::test]
async fn a_mail_that_was_not_taken_is_told_to_engineers_alone() {
    let stack = Stack::new().await;
    stack.mailbox.refuse(true);
    let mut person = Person::new();
    let page = asked(&stack, &mut person, MASTER).await;
    assert_eq!(page.status, StatusCode::OK);
    // What is written later is waited for, not slept for.
    eventually("the refusal is told", async || {
        let list = stack.get("/crossings?limit=10").await;
        for line in list["crossings"].as_array().unwrap() {
            if stack.story(line["id"].as_str().unwrap()).await.to_string().contains("no such box") {
                return true;
            }
        }
        false
    })
    .await;
}

#[tokio::test]
async fn slow_guessing_makes_codes_longer_and_locks_nobody_out() {
    let stack = Stack::new().await;
    let wrong = async |times: usize| {
        let mut stranger = Person::new();
        let page = asked(&stack, &mut stranger, MASTER).await;
        for _ in 0..times {
            assert_eq!(stranger.fill_in(&page, &[("code", "000000")]).await.status, StatusCode::FORBIDDEN);
        }
    };
    // Four codes with five tries each, hours apart: below every window of minutes.
    for _ in 0..4 {
        wrong(5).await;
        stack.later(chrono::Duration::hours(3));
    }
    let mut owner = Person::new();
    let page = asked(&stack, &mut owner, MASTER).await;
    assert!(page.body.contains("ten letters"), "{}", page.body);
    let long = code(&stack, MASTER, 5).await;
    assert!(long.len() == 10 && long.bytes().all(|b| b.is_ascii_uppercase()), "{long}");
    let typed = format!("{} {}", &long[..5].to_lowercase(), &long[5..]);
    let done = owner.fill_in(&page, &[("code", &typed)]).await;
    assert_eq!(owner.follow(done).await.status, StatusCode::OK);
    // Whoever came has six digits again.
    let mut again = Person::new();
    let page = asked(&stack, &mut again, MASTER).await;
    assert!(page.body.contains("six digits"), "{}", page.body);
}

#[tokio::test]
async fn a_code_by_mail_is_no_code_of_an_authenticator() {
    let stack = Stack::with(|s| {
        let strong = "[[gate.rule]]\nname = \"strong\"\nwhen = { way-in = [\"visitors\"] }\nstep-up = { factor = \"otp\" }\n\n";
        s.replacen("[[gate.rule]]\nname = \"masters of", &format!("{strong}[[gate.rule]]\nname = \"masters of"), 1)
    })
    .await;
    let mut person = Person::new();
    let page = asked(&stack, &mut person, MASTER).await;
    let code = code(&stack, MASTER, 1).await;
    let done = person.fill_in(&page, &[("code", &code)]).await;
    let page = person.follow(done).await;
    assert_eq!(page.status, StatusCode::FORBIDDEN, "{}", page.body);
    let story = stack.story(&page.crossing()).await;
    assert_eq!(story["code"], "factor.none", "{story}");
}

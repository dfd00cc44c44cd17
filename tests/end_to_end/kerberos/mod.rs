//! Kerberos, end to end: against a real KDC whose database is the directory.

mod faults;
mod forging;
mod inspect;
mod password;
mod upstream;
mod way_in;

use reqwest::{Method, StatusCode};

use crate::support::{Page, Person, Stack};

/// A browser that was asked for a ticket, and the page that it would show if it had none.
async fn asked(stack: &Stack) -> (Person, Page) {
    let mut person = Person::new();
    let page = asked_again(stack, &mut person).await;
    (person, page)
}

async fn asked_again(stack: &Stack, person: &mut Person) -> Page {
    let page = person.send(Method::GET, &stack.pass("/.passeur/sign-in?for=quay&way=ticket&afresh=1"), None).await;
    let to = page.header("location").to_owned();
    let page = person.send(Method::GET, &stack.pass(&to), None).await;
    assert_eq!((page.status, page.header("www-authenticate")), (StatusCode::UNAUTHORIZED, "Negotiate"), "{}", page.body);
    page
}

/// Sends what a browser sends at the address that asked. What comes back is not followed.
async fn show(person: &mut Person, page: &Page, field: &str) -> Page {
    person.extra.push(("authorization", field.to_owned()));
    let answer = person.send(Method::GET, &page.url, None).await;
    person.extra.pop();
    answer
}

/// The code of the step that decided a crossing, and its sentence.
async fn decided(stack: &Stack, id: &str) -> (String, String) {
    let story = stack.story(id).await;
    let step = story["steps"].as_array().unwrap().iter().find(|s| s["decided"] == true).unwrap_or_else(|| panic!("{story}"));
    (step["code"].as_str().unwrap().to_owned(), step["sentence"].as_str().unwrap().to_owned())
}

//! Which ways in are offered, the page on which people choose, and the cookie by which a browser remembers what it took.
//! What decides between them is in [`super::route`].

use axum::response::{IntoResponse, Response};
use passeur_core::site::{Access, Site};
use passeur_core::step::{Step, StepCode};
use passeur_engine::attempt::Attempt;
use passeur_http::cookies;

use super::ask::{Ask, Purposed};
use super::{Visit, local};
use crate::pages::{self, Choice};
use passeur_engine::Engine;

/// How long a browser remembers the way in that it took, in seconds: half a year.
const REMEMBERED_S: i64 = 180 * 86_400;

/// Ways in that are offered for what is asked, in the order of the site file.
pub fn offered<'s>(site: &'s Site, to: &Purposed) -> Vec<&'s str> {
    match to {
        Purposed::Gate(ask) => site.gate(&ask.gate).map(|g| of_access(&g.access)).unwrap_or_default(),
        Purposed::Console | Purposed::ConsoleFresh | Purposed::Device { .. } => {
            site.engineers.as_ref().map(of_access).unwrap_or_default()
        }
        Purposed::Quay | Purposed::Factors | Purposed::Tokens | Purposed::Unasked { .. } | Purposed::Trial { .. } => {
            of_site(site)
        }
    }
}

/// Ways in of a gate, or of the console.
pub fn of_access(access: &Access) -> Vec<&str> {
    access.ways.iter().map(String::as_str).collect()
}

/// Ways in that are taken anywhere, each once.
pub fn of_site(site: &Site) -> Vec<&str> {
    let mut all: Vec<&str> = vec![];
    for way in site.accesses().flat_map(|a| &a.ways) {
        if !all.contains(&way.as_str()) {
            all.push(way);
        }
    }
    all
}

/// The address that goes on to what is asked by a way in, or asks which.
pub fn address(engine: &Engine, to: &Purposed, way: Option<&str>) -> String {
    match way {
        Some(way) => format!("{}&way={way}", onward(engine, to)),
        None => format!("{}&another=1", onward(engine, to)),
    }
}

/// The address that goes on to what is asked.
pub fn onward(engine: &Engine, to: &Purposed) -> String {
    let what = match to {
        Purposed::Gate(ask) => format!("ask={}", ask.seal(engine)),
        Purposed::Console => "for=console".to_owned(),
        Purposed::Factors => "for=factors".to_owned(),
        Purposed::Tokens => "for=tokens".to_owned(),
        Purposed::ConsoleFresh => "for=console&fresh=1".to_owned(),
        Purposed::Device { code } => {
            format!("for=device&user_code={}", url::form_urlencoded::byte_serialize(code.as_bytes()).collect::<String>())
        }
        Purposed::Quay | Purposed::Unasked { .. } | Purposed::Trial { .. } => "for=quay".to_owned(),
    };
    format!("/.passeur/sign-in?{what}")
}

/// The address at which somebody who came to nothing by one way in may choose another, as an attempt of its own; none where there
/// is no other.
pub fn another(engine: &Engine, site: &Site, to: &Purposed) -> Option<String> {
    if matches!(to, Purposed::Trial { .. } | Purposed::Unasked { .. }) || offered(site, to).len() < 2 {
        return None;
    }
    let afresh = match to {
        Purposed::Gate(ask) => {
            let began = engine.now().timestamp_millis();
            Purposed::Gate(Ask { crossing: engine.new_crossing(), began, asked: vec![], ..ask.clone() })
        }
        other => other.clone(),
    };
    Some(address(engine, &afresh, None))
}

/// Asks the person.
pub fn ask(engine: &Engine, site: &Site, mut attempt: Attempt, visit: &Visit, to: &Purposed, offered: &[String]) -> Response {
    attempt.step(|| Step::new(StepCode::WaysOffered).with("ways", offered.to_vec()));
    attempt.record_waiting();
    let choice = |w: &String| Choice { title: site.title_of_way(w).to_owned(), address: address(engine, to, Some(w)) };
    let choices: Vec<Choice> = offered.iter().map(choice).collect();
    pages::choose(site, visit.facts.lang, local::place(site, to), &choices).into_response()
}

/// The cookie by which a browser remembers the way in that it took.
pub fn remember(site: &Site, way: &str) -> String {
    let (name, secure) = site.address.cookie("way");
    cookies::set(&name, way, secure, Some(REMEMBERED_S))
}

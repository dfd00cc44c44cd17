//! Which ways in are offered, the page on which people choose, and the cookie by which a browser remembers what it took.
//! What decides between them is in [`crate::route`].

use axum::response::{IntoResponse, Response};
use passeur_core::site::Site;
use passeur_core::step;
use passeur_engine::Engine;
use passeur_http::cookies;

use super::destination::offered;
use super::{Ask, Asked, Destination, Journey};
use crate::pages::{self, Choice};

/// How long a browser remembers the way in that it took, in seconds: half a year.
const REMEMBERED_S: i64 = 180 * 86_400;

/// The address at which somebody who came to nothing by one way in may choose another, as an attempt of its own; none where there
/// is no other.
pub fn another(engine: &Engine, site: &Site, to: &Destination) -> Option<String> {
    if matches!(to, Destination::Trial { .. } | Destination::Unasked { .. }) || offered(site, to).len() < 2 {
        return None;
    }
    let afresh = match to {
        Destination::Gate(ask) => {
            let began = engine.now().timestamp_millis();
            Destination::Gate(Ask { crossing: engine.new_crossing(), began, asked: vec![], ..ask.clone() })
        }
        other => other.clone(),
    };
    Some(afresh.onward_by(engine, None))
}

/// Asks the person.
pub fn ask(mut journey: Journey<'_, Asked>, all: &[String]) -> Response {
    let (engine, site) = (journey.engine(), journey.site());
    let (offered, elsewhere) = journey.that_work(all);
    if let (true, Some(first)) = (offered.is_empty(), all.first()) {
        return journey.ask_for_real_browser(first);
    }
    let elsewhere = elsewhere.then(|| journey.typed_address());
    journey.step(|| step!(WaysOffered { ways: offered.to_vec() }));
    journey.attempt.record_waiting();
    let choices = choices(engine, site, &journey.to, &offered);
    pages::choose(site, journey.desk.lang(), journey.to.title(site), &choices, elsewhere.as_deref()).into_response()
}

/// Ways in as a page offers them.
pub fn choices(engine: &Engine, site: &Site, to: &Destination, ways: &[String]) -> Vec<Choice> {
    let one = |w: &String| Choice { title: site.title_of_way(w).to_owned(), address: to.onward_by(engine, Some(w)) };
    ways.iter().map(one).collect()
}

/// The cookie by which a browser remembers the way in that it took.
pub fn remember(site: &Site, way: &str) -> String {
    let (name, secure) = site.address.cookie("way");
    cookies::set(&name, way, secure, Some(REMEMBERED_S))
}

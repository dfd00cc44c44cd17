//! The small browser that a system opens by itself when a network asks for a sign-in. It has no passkeys, shows no second window and forgets
//! its cookies; some providers refuse it. Ways in that cannot work there are not offered, and people are told where to go instead.

use axum::response::{IntoResponse, Response};
use passeur_core::site::{Site, WayKind};
use passeur_core::step;

use crate::journey::destination::offered;
use crate::journey::{Asked, Destination, Journey, choose};
use crate::pages;

/// Whether a way in works in such a browser.
pub fn works(site: &Site, way: &str) -> bool {
    match site.way(way) {
        Some(way) => match &way.kind {
            WayKind::Passkey(_) => false,
            // A name and password may stand for a ticket.
            WayKind::Ticket(t) => t.password,
            _ => true,
        },
        None => site.provider(way).is_none_or(|p| !p.real_browser),
    }
}

impl<'a> Journey<'a, Asked> {
    /// Whether the person is to take a real browser for a way in.
    pub fn wants_real_browser(&self, way: &str) -> bool {
        let is_trial = matches!(self.to, Destination::Trial { .. });
        !is_trial && self.desk.visit.facts.is_mini_browser() && !works(self.site(), way)
    }

    /// Of the ways in that are offered, those that work where the person is; and whether some do not.
    pub fn that_work(&self, ways: &[String]) -> (Vec<String>, bool) {
        let works: Vec<String> = ways.iter().filter(|w| !self.wants_real_browser(w)).cloned().collect();
        let all = works.len() == ways.len();
        (works, !all)
    }

    /// Where the person goes on in a browser of their own: an address that can be typed.
    pub fn typed_address(&self) -> String {
        let site = self.site();
        match &self.to {
            Destination::Gate(ask) => site.gate(&ask.gate).map_or_else(|| site.address.at("/"), |g| g.address.at("/")),
            _ => site.address.at("/"),
        }
    }

    /// Tells the person to open a real browser, and offers whatever works here.
    pub fn ask_for_real_browser(mut self, way: &str) -> Response {
        let (engine, site) = (self.engine(), self.site());
        self.step(|| step!(RealBrowser { ways: vec![way.to_owned()] }));
        self.attempt.record_waiting();
        let ways: Vec<String> = offered(site, &self.to).into_iter().map(str::to_owned).collect();
        let (others, _) = self.that_work(&ways);
        let others = choose::choices(engine, site, &self.to, &others);
        let page = pages::RealBrowser { place: self.to.title(site), way: site.title_of_way(way), address: &self.typed_address() };
        pages::real_browser(site, self.desk.lang(), &page, &others).into_response()
    }
}

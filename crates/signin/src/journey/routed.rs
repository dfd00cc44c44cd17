//! What decided the way in, told again when the person comes back.

use std::net::IpAddr;

use passeur_core::route::{self, Choice, Decided, Device, Facts, Typed};
use passeur_core::step;
use passeur_core::step::Step;
use passeur_live::edition::Edition;
use serde::{Deserialize, Serialize};

use super::destination::{Destination, offered};

/// Names typed in one neighbourhood within the window of tries, after which none is looked up.
pub const NAMES_MAX: i32 = 120;

/// What decided the way in, sealed into the flow: enough to tell it again when the person comes back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Routed {
    /// The edition whose routes were asked.
    pub edition: i32,
    pub address: IpAddr,
    pub device: Device,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub typed: Option<Typed>,
    pub way: String,
    pub how: How,
    /// More names were typed from there than are looked up.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub too_many: bool,
    /// The way in by ticket that came to nothing before, since the browser had none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_ticket: Option<String>,
}

/// How it came to the way in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// It was the first of the route.
    Route,
    /// The browser took it last.
    Remembered,
    /// The person chose it.
    Chosen,
}

/// What is open to somebody whose name is not looked up: they choose.
pub fn unnamed(ways: Vec<String>) -> Decided {
    Decided { ask: ways.len() > 1, ways, ..Decided::default() }
}

/// The steps that tell of a choice by routes.
pub fn steps_of(decided: &Decided, by_name: bool, too_many: bool) -> Vec<Step> {
    let mut out = vec![];
    if by_name {
        out.push(step!(NameAsked));
    }
    if too_many {
        let minutes = passeur_core::site::TRIES_MINUTES;
        out.push(step!(RouteTooMany { limit: i64::from(NAMES_MAX), minutes }));
    }
    out.extend(
        decided
            .passed
            .iter()
            .map(|p| step!(RoutePassed { route: p.route.as_str(), wanted: p.wanted.clone(), seen: p.seen.clone() })),
    );
    let ways = decided.ways.clone();
    match &decided.route {
        Some(route) if decided.nobody => out.push(step!(RouteNobody { route: route.as_str() })),
        _ => {}
    }
    out.push(match &decided.route {
        Some(route) => step!(RouteTaken { route: route.as_str(), ways }),
        None => step!(RouteNone { ways }),
    });
    out
}

impl Routed {
    /// Whether the person chose it.
    pub fn was_chosen(&self) -> bool {
        self.how == How::Chosen
    }

    /// The ways in that were open; none where other routes are live by now.
    pub fn ways(&self, edition: &Edition, to: &Destination) -> Option<Vec<String>> {
        match self.choice(edition, to)? {
            Choice::Decided(d) => Some(d.ways),
            Choice::NameWanted { ways } => Some(ways),
        }
    }

    fn choice(&self, edition: &Edition, to: &Destination) -> Option<Choice> {
        let site = &edition.site;
        let offered = offered(site, to);
        let place = to.place_of_routes();
        let facts = Facts { place: &place, address: Some(self.address), device: self.device, offered: &offered };
        (self.edition == edition.number).then(|| route::choose(&site.routes, &facts, self.typed.as_ref()))
    }

    /// The steps that tell of it; of another edition's routes only what was taken.
    pub fn steps(&self, edition: &Edition, to: &Destination) -> Vec<Step> {
        // Where there are no routes there is nothing to tell of them.
        let mut out = match self.choice(edition, to).filter(|_| !edition.site.routes.is_empty()) {
            Some(Choice::Decided(d)) => steps_of(&d, self.typed.is_some(), self.too_many),
            Some(Choice::NameWanted { ways }) if self.too_many => steps_of(&unnamed(ways), true, true),
            Some(Choice::NameWanted { .. }) | None => vec![],
        };
        let way = self.way.as_str();
        out.extend(self.no_ticket.iter().map(|way| step!(TicketNone { way: way.as_str() })));
        out.extend(match self.how {
            How::Route => None,
            How::Remembered => Some(step!(RouteRemembered { way })),
            How::Chosen => Some(step!(RouteNamed { way })),
        });
        out
    }
}

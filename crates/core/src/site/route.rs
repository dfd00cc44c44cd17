//! Which way in people take: what the site file says of it. Routes are judged in [`crate::route`].

use super::condition::Named;
use super::place::Place;
use ipnet::IpNet;

/// One route. Each thing that it asks for must hold; a list holds where any of its members does.
#[derive(Clone, Debug, PartialEq)]
pub struct Route {
    pub name: String,
    /// Gates, the console or the quay; empty means anywhere.
    pub places: Vec<Place>,
    /// Where people come from.
    pub networks: Option<Named<IpNet>>,
    /// What they use, by [`Device::is`].
    pub devices: Vec<String>,
    /// What follows the user name, in lower case; the empty text for a name without one.
    pub suffixes: Vec<String>,
    pub by: Option<ByName>,
    /// Where it leads: ways in, of which the first is taken.
    pub ways: Vec<String>,
    /// Whether people are asked which of them they take.
    pub ask: bool,
    /// Whether the way in is given the name without its suffix.
    pub strip: bool,
}

/// What has to be found out of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ByName {
    /// The directory's entry of that name fits.
    Entry { directory: String, holds: Holds },
    /// Somebody came in before by one of the route's ways whose attribute is that name.
    Known { attribute: String },
}

/// What an entry has to hold. Values compare without regard to case.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Holds {
    /// One of these values of an attribute, by the site's name of it.
    Attribute { attribute: String, values: Vec<String> },
    /// Membership of one of these groups.
    Group(Vec<String>),
}

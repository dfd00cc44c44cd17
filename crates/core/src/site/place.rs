//! The places somebody goes to: gates, and those of our own. What is written of a place in records, site files and addresses is text; only
//! here is that text read, so that no gate is taken for the console whatever it is called.

use std::fmt;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// What stands before the name of a gate that is called as a place of our own is. A name holds no slash.
const GATE: &str = "gate/";

/// A place.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Place {
    /// A gate by its name.
    Gate(String),
    /// The console, with the management API.
    Console,
    /// What is open to somebody, and what they can do themselves.
    Quay,
    /// The sign-in host, where no gate is meant yet.
    SignIn,
    /// Nowhere: an engineer tries a provider.
    Trial,
}

impl Place {
    const OURS: [(Place, &str); 4] =
        [(Place::Console, "console"), (Place::Quay, "quay"), (Place::SignIn, "sign-in"), (Place::Trial, "trial")];

    /// A gate of this name.
    pub fn gate(name: &str) -> Place {
        Place::Gate(name.to_owned())
    }

    /// The gate's name; none of a place of our own.
    pub fn as_gate(&self) -> Option<&str> {
        match self {
            Place::Gate(name) => Some(name),
            Place::Console | Place::Quay | Place::SignIn | Place::Trial => None,
        }
    }

    /// From the text that [`fmt::Display`] writes.
    pub fn parse(text: &str) -> Place {
        match Place::OURS.into_iter().find(|(_, word)| *word == text) {
            Some((place, _)) => place,
            None => Place::gate(text.strip_prefix(GATE).unwrap_or(text)),
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Place::Gate(name) if Place::OURS.iter().any(|(_, word)| word == name) => write!(f, "{GATE}{name}"),
            Place::Gate(name) => f.write_str(name),
            ours => f.write_str(Place::OURS.iter().find(|(p, _)| p == ours).map_or("", |(_, word)| word)),
        }
    }
}

impl Serialize for Place {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Place {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Place, D::Error> {
        String::deserialize(d).map(|text| Place::parse(&text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_gate_of_any_name_is_told_from_the_places_of_our_own() {
        for (place, text) in [
            (Place::Console, "console"),
            (Place::Quay, "quay"),
            (Place::SignIn, "sign-in"),
            (Place::Trial, "trial"),
            (Place::gate("berths"), "berths"),
            (Place::gate("console"), "gate/console"),
            (Place::gate("api"), "api"),
        ] {
            assert_eq!((place.to_string().as_str(), Place::parse(text)), (text, place));
        }
        assert_eq!(Place::parse("gate/berths"), Place::gate("berths"), "it may be written so");
    }
}

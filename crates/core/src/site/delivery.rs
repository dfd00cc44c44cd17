//! The headers that a gate hands over, or the attributes of a RADIUS answer: what the site file says of them. Values are made in [`crate::delivery`].
use super::attribute_id::AttributeId;
use super::radius::{RadiusAttribute, RadiusValue};

/// A named set of headers.
#[derive(Clone, Debug)]
pub struct Delivery {
    pub name: String,
    pub headers: Vec<HeaderRule>,
}

/// One header to deliver.
#[derive(Clone, Debug)]
pub struct HeaderRule {
    /// As written in the site file; compared by [`fold_name`].
    pub name: String,
    pub value: ValueOf,
    pub encoding: Encoding,
    /// What joins several values; none where the application is told one value.
    pub join: Option<String>,
    pub on_separator: OnSeparator,
    pub missing: Missing,
    /// The attribute of a RADIUS answer that it fills, in the place of a header.
    pub fit: Option<Fit>,
}

/// The attribute of a RADIUS answer that a value fills.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fit {
    pub attribute: RadiusAttribute,
    /// Whether a text that is too long is cut, and not left out.
    pub cuts: bool,
}

impl Fit {
    /// Whether a value from there is filter rules made from reach.
    pub fn filters(&self, value: &ValueOf) -> bool {
        *value == ValueOf::Reach && self.attribute.value == RadiusValue::Filter
    }
}

impl Delivery {
    /// Whether it fills RADIUS answers, and no requests.
    pub fn is_of_radius(&self) -> bool {
        self.headers.iter().any(|h| h.fit.is_some())
    }
}

/// Where a header's value comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ValueOf {
    Attribute(AttributeId),
    Groups,
    Roles,
    /// What rules let somebody reach: filter rules where the attribute takes those, else the names of reaches.
    Reach,
    /// A value that a rule gives, by its name.
    Given(String),
    Constant(String),
    Template(Vec<Piece>),
}

/// A piece of a template.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    Text(String),
    Attribute(AttributeId),
}

impl Piece {
    /// The attribute it stands for, if it is not text.
    pub(crate) fn attribute(&self) -> Option<AttributeId> {
        match self {
            Piece::Attribute(id) => Some(*id),
            Piece::Text(_) => None,
        }
    }
}

impl ValueOf {
    /// Every attribute it looks at.
    pub fn attributes(&self) -> Vec<AttributeId> {
        match self {
            ValueOf::Attribute(id) => vec![*id],
            ValueOf::Template(pieces) => pieces.iter().filter_map(Piece::attribute).collect(),
            ValueOf::Groups | ValueOf::Roles | ValueOf::Reach | ValueOf::Given(_) | ValueOf::Constant(_) => vec![],
        }
    }
}

/// What to do when there is no usable value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Missing {
    /// Leave the header out. The default.
    Omit,
    /// Refuse entry.
    Refuse,
}

/// How text becomes bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8 bytes as they are. The default.
    Utf8,
    /// ISO 8859-1; a character outside it drops the value.
    Latin1,
    /// Percent-encoding of everything but unreserved characters (RFC 3986 2.3).
    Percent,
    /// Base64 of the UTF-8 bytes (RFC 4648 4).
    Base64,
}

/// What to do with a member that holds the separator.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnSeparator {
    /// Drop the whole value. The default: a group `a,admin` must not become two.
    Refuse,
    /// Percent-encode the separator's characters, and `%`, inside every member.
    Escape,
}

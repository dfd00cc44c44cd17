//! Attributes by number: their names stand in the site.

/// An attribute by its place in [`Site::attributes`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct AttributeId(pub(crate) u16);

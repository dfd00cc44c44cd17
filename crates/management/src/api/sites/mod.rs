//! The site file and its editions: read, checked, compared, drafted, agreed to, published.

mod agree;
mod documents;
mod draft;
mod publish;
mod sources;

pub use agree::*;
pub use documents::*;
pub use draft::*;
pub use publish::*;

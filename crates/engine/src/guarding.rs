//! What engineers ask of a node that guards zones, whatever its kernel is.

use std::collections::HashSet;

use tokio::task::JoinHandle;

/// A node that guards zones.
pub trait Guarding: Send + Sync {
    /// Marks of the machines that the kernel of this node lets through; none where it does not say.
    fn marks_held(&self) -> JoinHandle<Option<HashSet<u32>>>;
    /// The name that a machine told the lease daemon; what it says of itself is nobody's proof.
    fn name_of(&self, hardware: &str) -> Option<String>;
}

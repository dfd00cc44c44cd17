//! What engineers ask of a node that guards zones, whatever its kernel is.

use std::collections::HashSet;
use std::net::IpAddr;
use std::sync::Arc;

use passeur_core::site::Service;
use passeur_live::edition::Edition;
use passeur_store::PresenceRow;
use tokio::task::JoinHandle;

/// What the kernel of a node holds of a machine, and whether that leads somewhere.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KernelWay {
    /// Whether it knows the machine.
    pub knows: bool,
    /// Whether its lease is good.
    pub is_open: bool,
    /// Reaches that are open to the machine alone.
    pub reaches: Vec<String>,
    /// The reach that leads there, for each address that was asked; none where it is refused.
    pub by: Vec<(IpAddr, Option<String>)>,
}

/// A node that guards zones.
pub trait Guarding: Send + Sync {
    /// Marks of the machines that the kernel of this node lets through; none where it does not say.
    fn marks_held(&self) -> JoinHandle<Option<HashSet<u32>>>;
    /// Puts an edition into force in the kernel of this node, unless it is; whoever waits for it waits for that.
    fn in_force(&self, edition: Arc<Edition>) -> JoinHandle<()>;
    /// What the kernel of this node holds of a machine, and by what it reaches each of some addresses; none where it does not say.
    fn way_of(&self, machine: PresenceRow, to: Vec<IpAddr>, service: Service) -> JoinHandle<Option<KernelWay>>;
    /// Names that the machine at an address asked this node's resolver for of late while nobody was signed in on it, the latest first; none
    /// where this node answers no questions about names.
    fn asked_by(&self, machine: IpAddr) -> Option<Vec<String>>;
    /// The name that a machine told the lease daemon; what it says of itself is nobody's proof.
    fn name_of(&self, hardware: &str) -> Option<String>;
}

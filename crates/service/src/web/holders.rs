//! What sessions opened at gates of kind `web`, told what becomes of these sessions.

use std::collections::HashMap;
use std::sync::Arc;

use passeur_core::circumstances::Circumstances;
use passeur_core::evidence::Evidence;
use passeur_core::id::CrossingId;
use passeur_engine::engine::{Held, Holders};
use passeur_engine::grants::glance;
use passeur_engine::{Engine, sessions};
use passeur_gate_network::NetworkGate;
use passeur_gate_vpn::radius::RadiusGate;
use passeur_gateway::admission::Admission;
use passeur_gateway::table::Table;
use passeur_live::edition::Edition;
use passeur_live::session::LiveSession;
use passeur_store::Usage;
use tokio::runtime::Handle;
use uuid::Uuid;

/// The admissions of the data path.
pub struct Admissions {
    pub table: Arc<Table>,
    /// The runtime of pages, calls and look-ups: what the watch must not wait for goes there.
    pub runtime: Handle,
}

impl Holders for Admissions {
    fn ended(&self) {
        self.table.forget_ended();
    }

    fn rights_changed(&self, engine: &Engine, ids: &[Uuid]) {
        let held = self.table.take(ids);
        if !held.is_empty() {
            // Whoever waits for this node waits for what it knows, not for what it looks up.
            let engine = engine.clone();
            self.runtime.spawn(async move { review(&engine, held).await });
        }
    }

    fn held(&self) -> Vec<Held> {
        let held = |a: Arc<Admission>| Held { session: a.session.id, gate: a.gate().to_owned(), good_until: a.good_until() };
        self.table.held().into_iter().map(held).collect()
    }

    fn usage(&self) -> Vec<(CrossingId, Usage)> {
        let taken = self.table.admissions().into_iter().filter_map(|a| a.counters.take().map(|c| (a.crossing, c)));
        taken
            .map(|(id, (requests, bytes_in, bytes_out))| {
                (id, Usage { requests: requests as i64, bytes_in: bytes_in as i64, bytes_out: bytes_out as i64 })
            })
            .collect()
    }

    fn prune(&self, keep: &dyn Fn(&LiveSession) -> bool) {
        self.table.prune(keep);
    }
}

/// What gates of every kind hold.
pub struct All {
    pub web: Admissions,
    /// Where this node guards zones.
    pub networks: Option<NetworkGate>,
    /// Where this node answers RADIUS clients.
    pub at_clients: Option<RadiusGate>,
}

impl Holders for All {
    fn ended(&self) {
        self.web.ended();
        if let Some(networks) = &self.networks {
            networks.ended();
        }
        if let Some(at_clients) = &self.at_clients {
            at_clients.ended();
        }
    }

    fn rights_changed(&self, engine: &Engine, ids: &[Uuid]) {
        self.web.rights_changed(engine, ids);
        if let Some(networks) = &self.networks {
            networks.rights_changed(ids);
        }
        if let Some(at_clients) = &self.at_clients {
            at_clients.rights_changed(ids);
        }
    }

    fn held(&self) -> Vec<Held> {
        let mut held = self.web.held();
        held.extend(self.networks.iter().flat_map(NetworkGate::held));
        held.extend(self.at_clients.iter().flat_map(RadiusGate::held));
        held
    }

    fn usage(&self) -> Vec<(CrossingId, Usage)> {
        self.web.usage()
    }

    fn prune(&self, keep: &dyn Fn(&LiveSession) -> bool) {
        self.web.prune(keep);
    }

    fn is_shut(&self) -> bool {
        self.networks.as_ref().is_none_or(NetworkGate::is_shut)
    }
}

/// Looks at what connections and streams hold of sessions whose rights changed, and takes back what would not be given now.
/// An open stream asks nothing more, so nothing else would.
async fn review(engine: &Engine, held: Vec<Arc<Admission>>) {
    let Some(edition) = engine.live.get() else { return };
    let mut by_session: HashMap<Uuid, Vec<Arc<Admission>>> = HashMap::new();
    for a in held {
        by_session.entry(a.session.id).or_default().push(a);
    }
    for (id, admissions) in by_session {
        let row = match engine.store.session(id).await {
            Ok(row) => row,
            Err(e) => {
                tracing::warn!(error = %e, "a session whose rights changed cannot be read; what is open on it is cut");
                None
            }
        };
        let known = row.and_then(|r| sessions::read_evidence(&r));
        for admission in admissions {
            if !known.as_ref().is_some_and(|k| still(engine, &edition, &admission, k)) {
                admission.withdraw();
            }
        }
    }
}

/// Whether a gate would still let somebody in as it did. Where that depends on the single request, which nobody kept, the
/// connection is cut: it asks again, and is decided for what it asks.
fn still(engine: &Engine, edition: &Edition, admission: &Admission, evidence: &Evidence) -> bool {
    let (site, name) = (&edition.site, admission.gate());
    let (Some(gate), Some(view)) = (site.gate(name), edition.view(name)) else { return false };
    let at = Circumstances::at(engine.now());
    view.is_blind() && glance(site, gate, evidence, &at).admits
}

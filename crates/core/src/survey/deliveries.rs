//! What gates deliver: values that nothing feeds, names that are changed on the way, and headers that could be forged because
//! two gates lead to the same application.

use super::{Code, Finding};
use crate::delivery::{HeaderRule, fold_name};
use crate::site::{Access, AttributeId, BUILT_IN, Gate, Site, Upstream};

pub(super) fn look(site: &Site, out: &mut Vec<Finding>) {
    for d in &site.deliveries {
        if !site.gates.iter().any(|g| g.delivery.as_ref() == Some(&d.name)) {
            out.push(Finding::new(Code::DeliveryUnattached, format!("delivery {}", d.name)).with("delivery", d.name.as_str()));
        }
        for h in d.headers.iter().filter(|h| !h.name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')) {
            out.push(
                Finding::new(Code::HeaderName, format!("delivery {}", d.name))
                    .with("delivery", d.name.as_str())
                    .with("header", h.name.as_str()),
            );
        }
    }
    for gate in &site.gates {
        for h in headers(site, gate) {
            for id in h.value.attributes().into_iter().filter(|id| !is_fed(site, &gate.access, *id)) {
                out.push(
                    Finding::new(Code::HeaderNotMapped, format!("gate {}", gate.name))
                        .with("gate", gate.name.as_str())
                        .with("header", h.name.as_str())
                        .with("attribute", site.attribute_name(id)),
                );
            }
        }
    }
    forgeable(site, out);
}

fn headers<'a>(site: &'a Site, gate: &'a Gate) -> impl Iterator<Item = &'a HeaderRule> {
    site.delivery(gate).into_iter().flat_map(|d| &d.headers)
}

/// Whether anything can give an attribute a value for those who come this way.
pub(super) fn is_fed(site: &Site, access: &Access, id: AttributeId) -> bool {
    BUILT_IN.contains(&site.attribute_name(id))
        || access.ways.iter().any(|w| site.fed_by_sign_in(w).iter().any(|(a, _)| *a == id))
        || access.directories.iter().filter_map(|d| site.directory(d)).any(|d| d.attributes.iter().any(|(a, _)| *a == id))
        || access.mappings.iter().any(|m| m.attribute == id)
}

fn addresses(gate: &Gate) -> &[Upstream] {
    gate.web().map_or(&[], |w| &w.upstreams.members)
}

/// A header is taken from clients only where it is delivered: another gate to the same application lets it pass.
fn forgeable(site: &Site, out: &mut Vec<Finding>) {
    for other in &site.gates {
        for gate in site.gates.iter().filter(|g| g.name != other.name) {
            let Some(shared) = addresses(gate).iter().find(|u| addresses(other).contains(u)) else {
                continue;
            };
            let taken = |folded: &str| headers(site, gate).any(|mine| fold_name(&mine.name) == folded);
            let open: Vec<&str> = headers(site, other).filter(|h| !taken(&fold_name(&h.name))).map(|h| h.name.as_str()).collect();
            if !open.is_empty() {
                out.push(
                    Finding::new(Code::HeaderForgeable, format!("gate {}", gate.name))
                        .with("gate", gate.name.as_str())
                        .with("headers", open.join(", "))
                        .with("upstream", shared.to_string())
                        .with("other", other.name.as_str()),
                );
            }
        }
    }
}

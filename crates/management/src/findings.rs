//! What is wrong with a site file, as the service and the client tell it: the types of core turned into those of the API.

use passeur_api::{Finding, Severity};
use passeur_core::document;
use passeur_core::expect::Broken;

/// A mistake, or something worth a second look.
pub fn of_document(f: document::Finding) -> Finding {
    Finding { severity: f.severity.into(), line: f.line, place: f.place, what: f.what, remedy: f.remedy }
}

/// An expectation that does not hold.
pub fn of_expectation(b: Broken) -> Finding {
    Finding {
        severity: Severity::Expectation,
        line: b.line,
        place: format!("{}, at {}", b.name, b.place),
        what: b.what.join("; "),
        remedy: b.because,
    }
}

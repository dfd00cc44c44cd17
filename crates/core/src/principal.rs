//! Who a person is at the KDC of an account that acts for people.
use crate::attribute::Attribute;
use crate::evidence::Evidence;
use crate::identity::Identity;
use crate::person::WayIn;
use crate::site::Behalf;

/// Why nobody knows as whom to ask.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoPrincipal {
    /// The attribute is not there.
    Absent(crate::attribute::Absence),
    /// It has several values, or one that is no name of a person.
    Unfit,
}

impl Behalf {
    /// The principal of a person: that of their own ticket where they came by one, else what the attribute says.
    ///
    /// # Errors
    /// Why there is none.
    pub fn principal(&self, evidence: &Evidence, who: &Identity) -> Result<String, NoPrincipal> {
        if evidence.way_in == WayIn::Ticket && evidence.through.is_none() {
            return Ok(evidence.subject.clone());
        }
        let attribute: &Attribute = who.attribute(self.person);
        let values = attribute.values().map_err(|a| NoPrincipal::Absent(a.clone()))?;
        let [value] = values else { return Err(NoPrincipal::Unfit) };
        of_realm(value, &self.realm).ok_or(NoPrincipal::Unfit)
    }
}

/// A plain name of a realm: no character of it means anything to Kerberos.
fn of_realm(name: &str, realm: &str) -> Option<String> {
    let odd = |c: char| c.is_control() || c.is_whitespace() || "@/\\".contains(c);
    (!name.is_empty() && name.len() <= 200 && !name.contains(odd)).then(|| format!("{name}@{realm}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_becomes_a_principal_only_where_nothing_in_it_means_anything() {
        for (name, wanted) in [
            ("farid", Some("farid@R")),
            ("o'neil-x.2", Some("o'neil-x.2@R")),
            ("farid/admin", None),
            ("farid@ELSEWHERE", None),
            ("fa rid", None),
            ("a\\b", None),
            ("", None),
            ("a\u{0}", None),
        ] {
            assert_eq!(of_realm(name, "R").as_deref(), wanted, "{name:?}");
        }
    }
}

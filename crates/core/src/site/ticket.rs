//! A Kerberos ticket as a way in: whose tickets are taken, and who somebody is by the name of their principal.
//!
//! A principal is believed as far as its realm is named here, and only where it is a person's: `anouk/admin` is not Anouk, and a
//! service or a machine is nobody.

/// Tickets (RFC 4120), shown by a browser (RFC 4559).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TicketWay {
    /// Names of the secrets that hold keytabs; every key of each is good.
    pub keytabs: Vec<String>,
    /// Hosts as which tickets are taken, in lower case: the service is `HTTP/` and one of these.
    pub hosts: Vec<String>,
    pub realms: Vec<Realm>,
    /// Whether a name and password may stand for a ticket, which the KDC of the realm is asked about.
    pub password: bool,
    /// Wrong passwords of one name, as in [`super::PasswordWay`].
    pub tries: u32,
}

/// A realm whose people are taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Realm {
    pub realm: String,
    pub user: RealmUser,
}

/// What a person of a realm is called here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RealmUser {
    /// What stands before `@`.
    Name,
    /// The whole principal, as for people of somebody else's realm.
    Principal,
}

/// Somebody by their principal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OfRealm<'a> {
    /// What stands before `@`.
    pub name: &'a str,
    pub realm: &'a str,
    /// What they are called here.
    pub user: String,
}

/// The name and the realm of a principal that holds no escapes; it is all name where it says no realm.
pub fn name_and_realm(principal: &str) -> (&str, &str) {
    principal.rsplit_once('@').unwrap_or((principal, ""))
}

/// The realm of a principal; empty where it says none.
pub fn realm_of(principal: &str) -> &str {
    name_and_realm(principal).1
}

/// Why a principal is nobody here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Nobody {
    /// Its realm is not named.
    OtherRealm,
    /// It has more than one component: a service, a machine, or somebody in another office.
    Instance,
    /// It holds something that no person's name does.
    Strange,
}

impl Nobody {
    /// The code of the reason.
    pub fn code(self) -> &'static str {
        match self {
            Nobody::OtherRealm => "principal-other-realm",
            Nobody::Instance => "principal-instance",
            Nobody::Strange => "principal-strange",
        }
    }
}

impl TicketWay {
    /// Who somebody is, by a principal as GSS-API displays it (RFC 1964 2.1.1).
    ///
    /// # Errors
    /// Why it is nobody here.
    pub fn person<'a>(&self, principal: &'a str) -> Result<OfRealm<'a>, Nobody> {
        // An escaped character would make one principal look like another.
        if principal.chars().any(|c| c == '\\' || c.is_control() || c.is_whitespace()) || principal.len() > 256 {
            return Err(Nobody::Strange);
        }
        let (name, realm) =
            principal.split_once('@').filter(|(n, r)| !n.is_empty() && !r.contains('@')).ok_or(Nobody::Strange)?;
        // Realms differ in case (RFC 4120 6.1).
        let of = self.realms.iter().find(|r| r.realm == realm).ok_or(Nobody::OtherRealm)?;
        if name.contains('/') {
            return Err(Nobody::Instance);
        }
        let user = match of.user {
            RealmUser::Name => name,
            RealmUser::Principal => principal,
        };
        Ok(OfRealm { name, realm, user: user.to_owned() })
    }

    /// The principal that a typed name means: of the first realm, unless it says which.
    pub fn principal(&self, typed: &str) -> Option<String> {
        let typed = typed.trim();
        let (name, realm) = match typed.split_once('@') {
            // People type realms in any case; the KDC takes one.
            Some((name, realm)) => (name, self.realms.iter().find(|r| r.realm.eq_ignore_ascii_case(realm))?),
            None => (typed, self.realms.first()?),
        };
        let principal = format!("{name}@{}", realm.realm);
        self.person(&principal).is_ok().then_some(principal)
    }

    /// The service principals that browsers ask their KDC for, without a realm.
    pub fn services(&self) -> Vec<String> {
        self.hosts.iter().map(|h| format!("HTTP/{h}")).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn way() -> TicketWay {
        let realm = |realm: &str, user| Realm { realm: realm.into(), user };
        TicketWay {
            keytabs: vec!["k".into()],
            hosts: vec!["pass.havrelune.example".into()],
            realms: vec![realm("HAVRELUNE.EXAMPLE", RealmUser::Name), realm("AGENTS.EXAMPLE", RealmUser::Principal)],
            password: true,
            tries: 5,
        }
    }

    #[test]
    fn a_principal_is_a_person_of_a_realm_that_is_named_and_nobody_else() {
        let way = way();
        for (principal, wanted) in [
            ("anouk@HAVRELUNE.EXAMPLE", Ok("anouk")),
            ("marin@AGENTS.EXAMPLE", Ok("marin@AGENTS.EXAMPLE")),
            ("anouk@havrelune.example", Err(Nobody::OtherRealm)),
            ("anouk@ELSEWHERE.EXAMPLE", Err(Nobody::OtherRealm)),
            ("anouk/admin@HAVRELUNE.EXAMPLE", Err(Nobody::Instance)),
            ("HTTP/pass.havrelune.example@HAVRELUNE.EXAMPLE", Err(Nobody::Instance)),
            ("anouk\\@AGENTS.EXAMPLE@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
            ("anouk@HAVRELUNE.EXAMPLE@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
            ("anouk\\/admin@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
            ("anouk", Err(Nobody::Strange)),
            ("@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
            ("an ouk@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
            ("anouk\n@HAVRELUNE.EXAMPLE", Err(Nobody::Strange)),
        ] {
            assert_eq!(way.person(principal).map(|p| p.user), wanted.map(str::to_owned), "{principal:?}");
        }
    }

    #[test]
    fn a_typed_name_is_of_the_first_realm_unless_it_says_which() {
        let way = way();
        for (typed, wanted) in [
            ("anouk", Some("anouk@HAVRELUNE.EXAMPLE")),
            (" anouk ", Some("anouk@HAVRELUNE.EXAMPLE")),
            ("marin@agents.example", Some("marin@AGENTS.EXAMPLE")),
            ("anouk@elsewhere.example", None),
            ("anouk/admin", None),
            ("", None),
            ("a@b@agents.example", None),
        ] {
            assert_eq!(way.principal(typed).as_deref(), wanted, "{typed:?}");
        }
    }
}

//! Whether an access takes somebody, and which of its directories is asked for them.
use crate::attribute::Absence;
use crate::evidence::{Entry, Evidence, GroupFound, WayIn};
use crate::site::{ACCESS_TOKEN, Access, Asking, Directory, PERSONAL_TOKEN, Site, Way, WayKind};

impl Access {
    /// Whether people of a provider or way in come here, by it or by a passkey of theirs.
    pub fn is_of(&self, site: &Site, provider: &str) -> bool {
        let by_passkey = |w: &Way| matches!(&w.kind, WayKind::Passkey(p) if p.of.iter().any(|o| o == provider));
        self.ways.iter().any(|w| w == provider || site.way(w).is_some_and(by_passkey))
    }

    /// Whether somebody who came in this way is taken here.
    pub fn takes(&self, site: &Site, evidence: &Evidence) -> bool {
        // The name of a provider may stand for another issuer by now.
        if !site.knows(&evidence.provider, &evidence.person()) {
            return false;
        }
        let way = evidence.way();
        let callers = self.callers.as_ref();
        match way {
            ACCESS_TOKEN => return callers.is_some_and(|c| c.access_tokens.contains(&evidence.provider)),
            PERSONAL_TOKEN => return callers.is_some_and(|c| c.personal) && self.is_of(site, &evidence.provider),
            _ => {}
        }
        let theirs = match site.way(way).map(|w| &w.kind) {
            Some(WayKind::Certificate(_)) => {
                return evidence.through.is_none() && callers.is_some_and(|c| c.certificates.as_deref() == Some(way));
            }
            // Who may come by passkey is the site's word of today, whoever enrolled one.
            Some(WayKind::Passkey(p)) => p.of.contains(&evidence.provider),
            // A machine that was taken off the list is let in no more.
            Some(WayKind::Machine(all)) => all.iter().any(|m| evidence.subject == m.hardware.to_string()),
            _ => evidence.through.is_none(),
        };
        theirs && self.ways.iter().any(|w| w == way)
    }

    /// The directory that is asked for the person of the evidence: see [`Access::asking`].
    pub fn asked<'s>(&self, site: &'s Site, evidence: &Evidence) -> Option<&'s Directory> {
        match self.directories.as_slice() {
            _ if evidence.way_in == WayIn::Machine => None,
            [only] => site.directory(only),
            _ => self.asking(site, evidence).map(|a| a.directory),
        }
    }

    /// Which of the directories is asked for the person of the evidence: the first that is fed and whose suffix fits. None
    /// where no directory is named, and for machines, which are in none. Where none fits, the first, with the reason why it has nothing to look for.
    pub fn asking<'s>(&self, site: &'s Site, evidence: &Evidence) -> Option<Asking<'s>> {
        if evidence.way_in == WayIn::Machine {
            return None;
        }
        let mut first: Option<Asking<'s>> = None;
        for directory in self.directories.iter().filter_map(|name| site.directory(name)) {
            let fed = crate::identity::fed(site, self, evidence, directory.fed_by);
            let value = match fed.values() {
                Ok([one]) => Ok(one),
                Ok(_) => Err("several-values"),
                Err(absence) => Err(absence.code()),
            };
            let fits = value.as_ref().ok().and_then(|v| directory.fits(v));
            match (value, fits) {
                (Ok(value), Some(suffix)) => {
                    let cut = suffix.filter(|_| directory.cut_suffix).map_or(0, str::len);
                    let value = value.get(..value.len() - cut).unwrap_or_default().to_owned();
                    return Some(Asking { directory, suffix, value: Ok(value) });
                }
                // What is not known may belong here: the next directory would answer for somebody else's value.
                (Err(code), _) if fed.values().is_err_and(Absence::is_unknown) => {
                    return Some(Asking { directory, suffix: None, value: Err(code.to_owned()) });
                }
                (Err(code), _) => {
                    first.get_or_insert(Asking { directory, suffix: None, value: Err(code.to_owned()) });
                }
                (Ok(_), None) => {
                    first.get_or_insert(Asking { directory, suffix: None, value: Err("other-suffix".to_owned()) });
                }
            }
        }
        first
    }
}

impl Directory {
    /// Groups of an entry by the names the site knows them by.
    pub fn known_groups<'a>(&'a self, entry: &'a Entry) -> impl Iterator<Item = GroupFound> + 'a {
        let named = |name: &str| self.groups.as_ref().map_or_else(|| name.to_owned(), |g| g.qualified(name));
        entry.groups.iter().map(move |g| GroupFound { name: named(&g.name), dn: g.dn.clone(), via: g.via.as_deref().map(named) })
    }
}

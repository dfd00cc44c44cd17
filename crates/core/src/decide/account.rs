//! What must hold before any rule is asked: factors the provider reported, and the state of the directory account.

use super::Refusal;
use crate::crossing::Outcome;
use crate::evidence::{Entry, Evidence, LookUp, LookUpState};
use crate::site::{Access, Asking, Directory, Disabled, Site};
use crate::step;
use crate::step::{Param, Phrase, Step, StepCode, Witness};

fn stop(outcome: Outcome, code: StepCode) -> Result<(), Refusal> {
    Err(Refusal { outcome, code, words: None, need: None })
}

/// Whether the sign-in was one that the gate takes, and as strong as the provider's part of the edition requires.
pub(super) fn factors(site: &Site, access: &Access, evidence: &Evidence, witness: &mut impl Witness) -> Result<(), Refusal> {
    if evidence.unasked && !access.unasked {
        witness.step(|| step!(SamlUnasked { provider: evidence.provider.as_str() }));
        return stop(Outcome::CheckFailed, StepCode::SamlUnasked);
    }
    // A way in of our own is as strong as the site made it; what a provider says of its own sign-in is for that alone.
    if evidence.through.is_some() || site.way(&evidence.provider).is_some() {
        return Ok(());
    }
    let Some(provider) = site.provider(&evidence.provider) else {
        return stop(Outcome::CheckFailed, StepCode::OtherProvider);
    };
    let f = &evidence.factors;
    let acr_ok = provider.require_acr.is_empty() || f.acr.as_ref().is_some_and(|a| provider.require_acr.contains(a));
    let amr_ok = provider.require_amr.iter().all(|m| f.amr.contains(m));
    if acr_ok && amr_ok {
        return Ok(());
    }
    witness.step(|| {
        let wanted = Phrase::Factors { any_acr: provider.require_acr.clone(), amr: provider.require_amr.clone() };
        let seen = Phrase::Factors { any_acr: f.acr.iter().cloned().collect(), amr: f.amr.clone() };
        step!(FactorsInsufficient { seen, wanted })
    });
    stop(Outcome::CheckFailed, StepCode::FactorsInsufficient)
}

/// Whether the look-up gave what the gate needs. Each way it can fail has its own step.
pub(super) fn directory(site: &Site, access: &Access, evidence: &Evidence, witness: &mut impl Witness) -> Result<(), Refusal> {
    let Some(asking) = access.asking(site, evidence) else { return Ok(()) };
    let directory = asking.directory;
    if access.directories.len() > 1 {
        witness.step(|| chosen(site, access, &asking));
    }
    let missing;
    let look_up = match evidence.look_up(&directory.name) {
        Some(l) if l.is_for(&asking) => l,
        _ => {
            missing = LookUp {
                directory: directory.name.clone(),
                key: directory.key.clone(),
                value: None,
                at: evidence.factors.auth_time.unwrap_or_default(),
                millis: 0,
                cached: false,
                tried: vec![],
                asked: None,
                state: match &asking.value {
                    Err(absence) => LookUpState::NoKey { absence: absence.clone() },
                    Ok(_) => LookUpState::Dead { detail: "it was not asked in this session".to_owned() },
                },
            };
            &missing
        }
    };
    for (server, detail) in &look_up.tried {
        witness.step(|| {
            step!(DirectoryFailedOver { directory: directory.name.as_str(), server: server.as_str(), detail: detail.as_str() })
        });
    }
    match &look_up.state {
        LookUpState::Answered { entry } => {
            witness.step(|| found(directory, look_up, &entry.dn));
            witness.step(|| groups(directory, entry));
            Ok(())
        }
        LookUpState::Disabled { entry, why } => {
            witness.step(|| found(directory, look_up, &entry.dn));
            let (name, dn, why) = (directory.name.as_str(), entry.dn.as_str(), why.as_str());
            match access.disabled {
                Disabled::Admit => {
                    witness.step(|| step!(DirectoryDisabledAllowed { directory: name, dn, why }));
                    witness.step(|| groups(directory, entry));
                    Ok(())
                }
                Disabled::Refuse => {
                    witness.step(|| step!(DirectoryDisabled { directory: name, dn, why }));
                    stop(Outcome::Refused, StepCode::DirectoryDisabled)
                }
            }
        }
        failed => {
            if access.without_directory {
                witness.step(|| {
                    step!(DirectoryWentOn {
                        directory: directory.name.as_str(),
                        state: Param::reason(failed.code()),
                        key: look_up.key.as_str(),
                        value: look_up.value.clone().unwrap_or_default()
                    })
                });
                return Ok(());
            }
            witness.step(|| failure(site, directory, look_up));
            let outcome = match failed {
                LookUpState::Dead { .. } | LookUpState::BindRefused { .. } | LookUpState::Unusable { .. } => Outcome::Failed,
                _ => Outcome::Refused,
            };
            stop(outcome, failure_code(failed))
        }
    }
}

fn found(directory: &Directory, l: &LookUp, dn: &str) -> Step {
    step!(DirectoryAnswered {
        directory: directory.name.as_str(),
        key: l.key.as_str(),
        value: l.value.clone().unwrap_or_default(),
        dn,
        millis: i64::from(l.millis),
        cached: if l.cached { "cache" } else { "LDAP" }
    })
}

fn groups(directory: &Directory, entry: &Entry) -> Step {
    let members: Vec<_> = directory.known_groups(entry).map(|g| Phrase::Member { group: g.name, via: g.via }).collect();
    step!(DirectoryGroups { count: members.len() as i64, groups: members })
}

/// Which of several directories is asked, and why.
fn chosen(site: &Site, access: &Access, asking: &Asking<'_>) -> Step {
    let d = asking.directory;
    let why = match (&asking.value, asking.suffix) {
        (Err(code), _) => Param::reason(code),
        (Ok(_), Some(suffix)) => Param::Text(suffix.to_owned()),
        (Ok(_), None) => Param::reason("any-suffix"),
    };
    step!(DirectoryChosen {
        directory: d.name.as_str(),
        of: access.directories.clone(),
        attribute: site.attribute_name(d.fed_by),
        why
    })
}

fn failure_code(state: &LookUpState) -> StepCode {
    match state {
        LookUpState::NoEntry => StepCode::DirectoryNoEntry,
        LookUpState::Several { .. } => StepCode::DirectorySeveral,
        LookUpState::BindRefused { .. } => StepCode::DirectoryBindRefused,
        LookUpState::NoKey { .. } => StepCode::DirectoryNoKey,
        LookUpState::Unusable { .. } => StepCode::DirectoryUnusable,
        LookUpState::Dead { .. } | LookUpState::Answered { .. } | LookUpState::Disabled { .. } => StepCode::DirectoryDead,
    }
}

fn failure(site: &Site, directory: &Directory, l: &LookUp) -> Step {
    let (name, account) = (directory.name.as_str(), directory.account.clone().unwrap_or_default());
    let (key, value) = (l.key.as_str(), l.value.clone().unwrap_or_default());
    let (base, url) = (directory.base.as_str(), directory.servers.join(" "));
    match &l.state {
        LookUpState::NoEntry => step!(DirectoryNoEntry { directory: name, key, value, base }),
        LookUpState::Several { dns } => step!(DirectorySeveral { directory: name, key, value, dns: dns.clone() }),
        LookUpState::BindRefused { detail } => {
            step!(DirectoryBindRefused { directory: name, account, detail: detail.as_str(), key, value })
        }
        LookUpState::Unusable { detail } => {
            step!(DirectoryUnusable { directory: name, key, value, base, detail: detail.as_str() })
        }
        LookUpState::NoKey { absence } => step!(DirectoryNoKey {
            directory: name,
            attribute: site.attribute_name(directory.fed_by),
            absence: Param::reason(absence),
        }),
        LookUpState::Dead { detail } => step!(DirectoryDead { directory: name, url, detail: detail.as_str(), key, value }),
        // What answered is told elsewhere.
        LookUpState::Answered { .. } | LookUpState::Disabled { .. } => {
            step!(DirectoryDead { directory: name, url, detail: l.state.code(), key, value })
        }
    }
}

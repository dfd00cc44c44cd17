//! What a survey found.

use passeur_api::{Survey, SurveyFinding};
use passeur_core::step::Lang;
use passeur_core::survey::Finding;

/// What a survey found, for whoever asks again.
pub struct Done {
    pub(super) edition: i32,
    pub(super) at: passeur_core::Moment,
    pub(super) millis: u32,
    pub(super) findings: Vec<Finding>,
    pub(super) looked_at: usize,
    /// What could not be looked at in time.
    pub(super) not_seen: Vec<String>,
}

impl Done {
    /// In the words of the API.
    pub fn show(&self, node: &str, lang: Lang) -> Survey {
        Survey {
            node: node.to_owned(),
            edition: self.edition,
            at: self.at,
            millis: self.millis,
            looked_at: self.looked_at,
            not_seen: self.not_seen.clone(),
            findings: shown(&self.findings, lang),
        }
    }
}

/// Findings in the words of the API.
pub fn shown(findings: &[Finding], lang: Lang) -> Vec<SurveyFinding> {
    let one = |f: &Finding| SurveyFinding {
        code: f.code.spec().code.to_owned(),
        harm: f.code.spec().harm.into(),
        place: f.place.clone(),
        what: f.what(lang),
        seen: f.seen(lang),
        remedy: f.remedy(lang),
    };
    findings.iter().map(one).collect()
}

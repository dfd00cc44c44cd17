//! A crossing: one attempt to get through a gate, with its numbered steps and its outcome.

use serde::{Deserialize, Serialize};

use crate::step::{Bearing, Lang, Step, StepCode, sentence};

/// How a crossing ended. Endings that look alike to a person are told apart here.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// The person was let in.
    Admitted,
    /// Our rules, or the account's state, say no.
    Refused,
    /// The provider said no, in its own words.
    ProviderRefused,
    /// A check of ours on what came back failed.
    CheckFailed,
    /// A part that is needed did not answer as it should: provider, directory, upstream, store.
    Failed,
    /// A request that cannot be sent to sign in, without a session.
    Unauthenticated,
    /// The request itself was not acceptable.
    BadRequest,
    /// Sent to the provider, which has not answered yet.
    Waiting,
    /// Sent to the provider and not seen again within the time limit.
    NeverCameBack,
    /// A session was ended.
    SignedOut,
    /// An engineer's trial sign-in, which opens nothing.
    Tried,
}

/// Every outcome, for filters and documentation.
pub const OUTCOMES: &[Outcome] = &[
    Outcome::Admitted,
    Outcome::Refused,
    Outcome::ProviderRefused,
    Outcome::CheckFailed,
    Outcome::Failed,
    Outcome::Unauthenticated,
    Outcome::BadRequest,
    Outcome::Waiting,
    Outcome::NeverCameBack,
    Outcome::SignedOut,
    Outcome::Tried,
];

impl Outcome {
    /// The stable code.
    pub fn code(self) -> &'static str {
        match self {
            Outcome::Admitted => "admitted",
            Outcome::Refused => "refused",
            Outcome::ProviderRefused => "provider-refused",
            Outcome::CheckFailed => "check-failed",
            Outcome::Failed => "failed",
            Outcome::Unauthenticated => "unauthenticated",
            Outcome::BadRequest => "bad-request",
            Outcome::Waiting => "waiting",
            Outcome::NeverCameBack => "never-came-back",
            Outcome::SignedOut => "signed-out",
            Outcome::Tried => "tried",
        }
    }

    /// From the stable code.
    pub fn parse(code: &str) -> Option<Outcome> {
        OUTCOMES.iter().copied().find(|o| o.code() == code)
    }

    /// The outcome in a few words.
    pub fn words(self, lang: Lang) -> &'static str {
        let fr = lang == Lang::Fr;
        match self {
            Outcome::Admitted if fr => "admis",
            Outcome::Admitted => "admitted",
            Outcome::Refused if fr => "refusé",
            Outcome::Refused => "refused",
            Outcome::ProviderRefused if fr => "refusé par le fournisseur",
            Outcome::ProviderRefused => "provider refused",
            Outcome::CheckFailed if fr => "contrôle échoué",
            Outcome::CheckFailed => "check failed",
            Outcome::Failed if fr => "panne",
            Outcome::Failed => "something failed",
            Outcome::Unauthenticated if fr => "sans session",
            Outcome::Unauthenticated => "no session",
            Outcome::BadRequest if fr => "requête refusée",
            Outcome::BadRequest => "bad request",
            Outcome::Waiting if fr => "chez le fournisseur",
            Outcome::Waiting => "at the provider",
            Outcome::NeverCameBack if fr => "jamais revenu",
            Outcome::NeverCameBack => "never came back",
            Outcome::SignedOut if fr => "déconnecté",
            Outcome::SignedOut => "signed out",
            Outcome::Tried if fr => "essayé",
            Outcome::Tried => "tried",
        }
    }
}

/// The step that decided: the last that stopped the crossing, or else the last that gave something.
pub fn deciding(steps: &[Step]) -> Option<usize> {
    let last = |b: Bearing| steps.iter().rposition(|s| s.code.spec().bearing == b);
    last(Bearing::Stop).or_else(|| steps.iter().rposition(|s| s.code == StepCode::Granted)).or_else(|| last(Bearing::Pass))
}

/// One line that says why, for lists.
pub fn headline(steps: &[Step], lang: Lang) -> String {
    deciding(steps).or(steps.len().checked_sub(1)).map(|i| sentence(&steps[i], lang)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::step;
    use crate::step::Phrase;

    #[test]
    fn outcomes_keep_their_codes() {
        for o in OUTCOMES {
            assert_eq!(Outcome::parse(o.code()), Some(*o));
            assert_eq!(serde_json::to_value(o).unwrap(), o.code());
        }
    }

    #[test]
    fn the_eye_lands_on_the_step_that_decided() {
        let arrived = || step!(Arrived { method: "GET", target: "/", gate: "berths", address: "192.0.2.7", agent: "a browser" });
        let mail = step!(AttributePresent { attribute: "mail", values: vec!["a@havrelune.example".to_owned()], origin: "SAML" });
        let refused = [
            arrived(),
            step!(ReturnCut),
            step!(RefusedByRule { rule: "visitors", words: "No.", saw: vec![Phrase::Everyone] }),
            mail,
        ];
        assert_eq!(deciding(&refused), Some(2));
        let admitted = [
            arrived(),
            step!(Granted { gate: "berths", rules: vec!["pilots".to_owned()], roles: Phrase::Roles { roles: vec![] } }),
            step!(HeaderDelivered { header: "X-Mail", value: "a@havrelune.example", origin: "SAML" }),
            step!(CameThrough { gate: "berths", target: "/" }),
        ];
        assert_eq!(deciding(&admitted), Some(1));
        assert_eq!(deciding(&[]), None);
    }
}

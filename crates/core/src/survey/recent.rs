//! What sign-ins of the last hour say of a provider. A trial asks what can be asked without anybody; what fails only with a person (a key
//! that was changed under its old name, another audience, a clock) shows in their crossings alone.

use std::collections::HashMap;

use crate::crossing::{Outcome, deciding};
use crate::step::{Lang, Param, Step, StepCode, remedy, sentence};

/// What came of answers of one provider.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recent {
    /// Answers that were not believed.
    pub failed: i64,
    /// Answers that were.
    pub came: i64,
    /// The most frequent reason, and what to do about it.
    pub because: String,
    pub remedy: String,
}

/// Codes that say nothing of the provider: anybody can bring them about alone.
const NOT_THE_PROVIDER: [StepCode; 11] = [
    StepCode::StateUnreadable,
    StepCode::StateTooOld,
    StepCode::StateOtherBrowser,
    StepCode::StateReplayed,
    StepCode::AnswerGone,
    StepCode::AnswersFull,
    StepCode::FlowsFull,
    StepCode::Overloaded,
    StepCode::SamlUnreadable,
    StepCode::SamlReplayed,
    StepCode::SamlUnasked,
];

fn provider(steps: &[Step]) -> Option<&str> {
    let answered = steps.iter().find(|s| s.code == StepCode::ProviderAnswered)?;
    match answered.params.get("provider") {
        Some(Param::Text(name)) => Some(name),
        _ => None,
    }
}

/// How often each code decided, with a step that did.
type Why<'a> = HashMap<StepCode, (i64, &'a Step)>;

/// Counts crossings with their steps, by provider.
pub fn recent(crossings: &[(Outcome, Vec<Step>)], lang: Lang) -> HashMap<String, Recent> {
    let mut out: HashMap<String, (Recent, Why<'_>)> = HashMap::new();
    for (outcome, steps) in crossings {
        let Some(name) = provider(steps) else { continue };
        let believed = steps.iter().any(|s| matches!(s.code, StepCode::IdTokenAccepted | StepCode::AssertionAccepted));
        let (counts, why) = out.entry(name.to_owned()).or_default();
        if believed {
            counts.came += 1;
            continue;
        }
        let decided = deciding(steps).and_then(|i| steps.get(i));
        let Some(step) = decided.filter(|s| !NOT_THE_PROVIDER.contains(&s.code)) else { continue };
        if matches!(outcome, Outcome::CheckFailed | Outcome::Failed) {
            counts.failed += 1;
            why.entry(step.code).or_insert((0, step)).0 += 1;
        }
    }
    let told = out.into_iter().map(|(name, (mut counts, why))| {
        if let Some((_, step)) = why.into_values().max_by_key(|(n, s)| (*n, s.code.spec().code)) {
            counts.because = sentence(step, lang);
            counts.remedy = remedy(step, lang).unwrap_or_default();
        }
        (name, counts)
    });
    told.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::step;

    fn came(how: Step, outcome: Outcome) -> (Outcome, Vec<Step>) {
        let answered = step!(ProviderAnswered { provider: "pilotage", parameters: "code, state", after: "2 s" });
        (outcome, vec![answered, how])
    }

    #[test]
    fn what_anybody_can_bring_about_alone_says_nothing_of_the_provider() {
        let refused =
            || step!(IdTokenRefused { check: Param::reason("signature"), seen: "RS256", wanted: "a key of the provider" });
        let accepted = step!(IdTokenAccepted {
            issuer: "https://id.pilotage.example",
            subject: "7",
            alg: "RS256",
            kid: "1",
            audience: "passeur",
            expires_in: 60,
        });
        let all = [
            came(refused(), Outcome::CheckFailed),
            came(refused(), Outcome::CheckFailed),
            came(step!(ProviderSilent { endpoint: "/token", how: "timed out" }), Outcome::Failed),
            came(step!(StateReplayed), Outcome::CheckFailed),
            came(step!(StateOtherBrowser), Outcome::CheckFailed),
            came(accepted, Outcome::Refused),
            (Outcome::CheckFailed, vec![step!(StateUnreadable)]),
        ];
        let found = recent(&all, Lang::En);
        let of = &found["pilotage"];
        assert_eq!((found.len(), of.failed, of.came), (1, 3, 1));
        assert!(of.because.contains("signature") && of.remedy.contains("passeur provider refresh"), "{of:?}");
    }
}

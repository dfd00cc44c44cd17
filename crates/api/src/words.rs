//! The words of the API that form a list: one enum each, so that the description of the API, the client in the browser and the command line
//! share it, and a new word does not compile where it is not handled. Where core has the list, each of its words becomes one here.

use passeur_core::{compare, crossing, document, evidence, finding, rehearse, role, step};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

macro_rules! words {
    ($($(#[$doc:meta])+ $name:ident { $($(#[$of:meta])* $variant:ident = $word:tt),+ $(,)? })+) => {$(
        $(#[$doc])+
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, ToSchema)]
        pub enum $name {
            $($(#[$of])* #[serde(rename = $word)] $variant,)+
        }

        impl $name {
            /// Every word, in order.
            pub const ALL: &[$name] = &[$($name::$variant),+];

            /// The word, as it stands in JSON.
            pub fn word(self) -> &'static str {
                match self {
                    $($name::$variant => $word,)+
                }
            }

            /// From the word.
            pub fn parse(word: &str) -> Option<$name> {
                $name::ALL.iter().copied().find(|w| w.word() == word)
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }
    )+};
}

words! {
    /// How far somebody may go. Each includes those before it.
    Role {
        /// Look at everything but secrets.
        View = "view",
        /// End sessions and run trials, too.
        Operate = "operate",
        /// Publish editions and set secrets, too.
        Configure = "configure",
    }

    /// By what an engineer is known to the API.
    KnownBy {
        Session = "session",
        Token = "token",
        Emergency = "emergency",
    }

    /// How far a connection came in a trial of an entrance.
    TriedStage {
        /// Its person is signing in.
        SigningIn = "signing-in",
        /// They are signed in, and have not said yet that the tunnel is theirs.
        SignedIn = "signed-in",
        /// Not let in: the crossing says by what.
        Refused = "refused",
        /// Let in, with nothing opened.
        LetIn = "let-in",
        /// Its tunnel stands.
        Stands = "stands",
        /// It was let in, and is over.
        Over = "over",
    }

    /// What stands behind a gate.
    GateKind {
        /// A web application.
        Web = "web",
        /// Networks that open after sign-in.
        Network = "network",
        /// Tunnels that open after sign-in.
        Vpn = "vpn",
    }

    /// How a crossing ended.
    Outcome {
        Admitted = "admitted",
        Refused = "refused",
        ProviderRefused = "provider-refused",
        CheckFailed = "check-failed",
        Failed = "failed",
        Unauthenticated = "unauthenticated",
        BadRequest = "bad-request",
        Waiting = "waiting",
        NeverCameBack = "never-came-back",
        SignedOut = "signed-out",
        Tried = "tried",
    }

    /// The part of a crossing that a step belongs to.
    Stage {
        Gate = "gate",
        Provider = "provider",
        Check = "check",
        Directory = "directory",
        Identity = "identity",
        Rules = "rules",
        Delivery = "delivery",
        HandBack = "hand-back",
        Session = "session",
        Upstream = "upstream",
    }

    /// How a step bears on the outcome.
    StepBearing {
        /// It happened; it neither helped nor hindered.
        Fact = "fact",
        /// A check passed or a rule gave something.
        Pass = "pass",
        /// Worth seeing, without having decided.
        Notice = "notice",
        /// It stopped the crossing.
        Stop = "stop",
    }

    /// What a change between two editions means for those who come.
    ChangeBearing {
        Narrower = "narrower",
        Wider = "wider",
        Other = "other",
    }

    /// What a finding of the survey, or of a host, harms.
    Harm {
        Danger = "danger",
        Broken = "broken",
        Soon = "soon",
        Untidy = "untidy",
    }

    /// What a finding of a site file is.
    Severity {
        /// The document is no edition.
        Error = "error",
        /// Worth a second look.
        Warning = "warning",
        /// An expectation that does not hold.
        Expectation = "expectation",
    }

    /// What a check of a trial came to.
    CheckVerdict {
        Good = "good",
        Wrong = "wrong",
        NotKnown = "not known",
    }

    /// What becomes of somebody at a gate under another edition.
    Effect {
        Same = "same",
        Refused = "refused",
        Admitted = "admitted",
        Differs = "differs",
        NotKnown = "not-known",
    }

    /// How somebody fares at a gate.
    FareVerdict {
        In = "in",
        Out = "out",
        NoGate = "no-gate",
        NotKnown = "not-known",
    }

    /// What a directory answered.
    LookUpState {
        Answered = "answered",
        Disabled = "disabled",
        NoEntry = "no-entry",
        SeveralEntries = "several-entries",
        BindRefused = "bind-refused",
        Dead = "dead",
        UnusableAnswer = "unusable-answer",
        NoKey = "no-key",
    }

    /// For whom a handover sheet is.
    SheetFor {
        Provider = "provider",
        Directory = "directory",
        Realm = "realm",
        Application = "application",
    }

    /// A provider's protocol.
    ProviderKind {
        Oidc = "oidc",
        Saml = "saml",
    }

    /// A kind of second factor.
    FactorKind {
        Totp = "totp",
        Passkey = "passkey",
    }

    /// What a KDC answered.
    RealmAnswer {
        Answered = "answered",
        Alive = "alive",
        NotAsked = "not-asked",
        Silent = "silent",
    }

    /// What a KDC says of a service.
    ServiceFound {
        Sealed = "sealed",
        Unknown = "unknown",
        NotAsked = "not-asked",
    }

    /// Whether an account may act for people.
    AccountState {
        Acts = "acts",
        Refused = "refused",
        NotKnown = "not-known",
    }

    /// A file that Kerberos reads or writes.
    KerberosFileKind {
        Keytab = "keytab",
        Cache = "cache",
        Config = "config",
    }

    /// What is wrong with a part of a Kerberos file.
    NoteKind {
        Wrong = "wrong",
        Weak = "weak",
        Dead = "dead",
    }
}

macro_rules! from_core {
    ($($of:ty => $to:ident { $($variant:ident),+ $(,)? })+) => {$(
        impl From<$of> for $to {
            fn from(word: $of) -> $to {
                match word {
                    $(<$of>::$variant => $to::$variant,)+
                }
            }
        }
    )+};
}

from_core! {
    role::Role => Role { View, Operate, Configure }
    crossing::Outcome => Outcome {
        Admitted, Refused, ProviderRefused, CheckFailed, Failed, Unauthenticated, BadRequest, Waiting, NeverCameBack, SignedOut, Tried,
    }
    step::Stage => Stage { Gate, Provider, Check, Directory, Identity, Rules, Delivery, HandBack, Session, Upstream }
    step::Bearing => StepBearing { Fact, Pass, Notice, Stop }
    compare::Bearing => ChangeBearing { Narrower, Wider, Other }
    finding::Harm => Harm { Danger, Broken, Soon, Untidy }
    document::Severity => Severity { Error, Warning }
}

impl From<Role> for role::Role {
    fn from(role: Role) -> role::Role {
        match role {
            Role::View => role::Role::View,
            Role::Operate => role::Role::Operate,
            Role::Configure => role::Role::Configure,
        }
    }
}

impl From<&rehearse::Effects> for Effect {
    fn from(effects: &rehearse::Effects) -> Effect {
        match effects {
            rehearse::Effects::Same => Effect::Same,
            rehearse::Effects::Refused => Effect::Refused,
            rehearse::Effects::Admitted => Effect::Admitted,
            rehearse::Effects::Differs(_) => Effect::Differs,
            rehearse::Effects::NotKnown(_) => Effect::NotKnown,
        }
    }
}

impl From<&rehearse::Verdict> for FareVerdict {
    fn from(verdict: &rehearse::Verdict) -> FareVerdict {
        match verdict {
            rehearse::Verdict::In(_) => FareVerdict::In,
            rehearse::Verdict::Out => FareVerdict::Out,
            rehearse::Verdict::NoGate => FareVerdict::NoGate,
            rehearse::Verdict::NotKnown(_) => FareVerdict::NotKnown,
        }
    }
}

impl From<&evidence::LookUpState> for LookUpState {
    fn from(state: &evidence::LookUpState) -> LookUpState {
        match state {
            evidence::LookUpState::Answered { .. } => LookUpState::Answered,
            evidence::LookUpState::Disabled { .. } => LookUpState::Disabled,
            evidence::LookUpState::NoEntry => LookUpState::NoEntry,
            evidence::LookUpState::Several { .. } => LookUpState::SeveralEntries,
            evidence::LookUpState::BindRefused { .. } => LookUpState::BindRefused,
            evidence::LookUpState::Dead { .. } => LookUpState::Dead,
            evidence::LookUpState::Unusable { .. } => LookUpState::UnusableAnswer,
            evidence::LookUpState::NoKey { .. } => LookUpState::NoKey,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A word of core is the same word here, and each word reads back from JSON.
    #[test]
    fn words_are_those_of_core_and_read_back() {
        for outcome in crossing::OUTCOMES {
            assert_eq!(Outcome::from(*outcome).word(), outcome.code());
        }
        for role in role::Role::ALL {
            assert_eq!(Role::from(role).word(), role.word());
            assert_eq!(role::Role::from(Role::from(role)), role);
        }
        for (harm, word) in [(finding::Harm::Danger, "danger"), (finding::Harm::Untidy, "untidy")] {
            assert_eq!((harm.code(), Harm::from(harm).word()), (word, word));
        }
        let of_stage = |s: step::Stage| serde_json::to_value(s).unwrap();
        assert_eq!(of_stage(step::Stage::HandBack), Stage::from(step::Stage::HandBack).word());
        for state in LookUpState::ALL {
            let json = serde_json::to_value(state).unwrap();
            assert_eq!(json, state.word());
            assert_eq!(serde_json::from_value::<LookUpState>(json).unwrap(), *state);
            assert_eq!(LookUpState::parse(state.word()), Some(*state));
        }
        assert_eq!(evidence::LookUpState::NoEntry.code(), LookUpState::from(&evidence::LookUpState::NoEntry).word());
        assert_eq!(Outcome::parse("let-in"), None);
    }
}

//! Why somebody is refused, in words for them: true, and no more than a stranger may know.

use passeur_core::step::{Lang, Stage, StepCode};

/// The headline of a refusal.
pub fn headline(code: Option<StepCode>, lang: Lang) -> &'static str {
    let stage = code.map(|c| c.spec().stage);
    let (en, fr) = match (code, stage) {
        (Some(StepCode::ProviderRefused | StepCode::TokenRefused), _) => {
            ("Your sign-in was not accepted", "Votre connexion n'a pas été acceptée")
        }
        (
            Some(
                StepCode::DirectoryDead
                | StepCode::DirectoryBindRefused
                | StepCode::DirectoryUnusable
                | StepCode::ProviderSilent
                | StepCode::DiscoveryFailed
                | StepCode::MetadataFailed
                | StepCode::Overloaded
                | StepCode::TicketNotNow
                | StepCode::UpstreamTicketOwn
                | StepCode::UpstreamTicketSilent
                | StepCode::UpstreamTicketFailed
                | StepCode::UpstreamTicketRefused
                | StepCode::UpstreamNotProven,
            ),
            _,
        ) => ("Not possible just now", "Impossible pour l'instant"),
        (_, Some(Stage::Check | Stage::HandBack)) | (Some(StepCode::AskUnreadable), _) => {
            ("This sign-in could not be completed", "Cette connexion n'a pas pu aboutir")
        }
        (_, Some(Stage::Gate)) => ("This request is not let through", "Cette requête n'est pas admise"),
        _ => ("You may not enter here", "Vous ne pouvez pas entrer ici"),
    };
    match lang {
        Lang::En => en,
        Lang::Fr => fr,
    }
}

/// The reason in plain words: true, and no more than a stranger may know.
#[allow(clippy::too_many_lines)] // A catalogue: one line a reason.
pub fn plain(code: Option<StepCode>, lang: Lang) -> &'static str {
    use StepCode as C;
    let (en, fr) = match code {
        Some(C::RefusedByRule) => {
            ("The rules of this application refuse you:", "Les règles de cette application vous refusent :")
        }
        Some(C::TicketNtlm | C::TicketOther) => (
            "Your machine showed no ticket, but something that is not taken here. Sign in another way.",
            "Votre poste n'a pas montré de ticket, mais autre chose, qui n'est pas accepté ici. Connectez-vous autrement.",
        ),
        Some(C::TicketClock) => (
            "Your machine's clock and ours differ too much for its ticket to be taken. Set it, or sign in another way.",
            "L'horloge de votre poste et la nôtre diffèrent trop pour que son ticket soit accepté. Réglez-la, ou connectez-vous autrement.",
        ),
        Some(C::TicketExpired) => (
            "Your machine's ticket has run out. Lock the machine, unlock it, and try again.",
            "Le ticket de votre poste a expiré. Verrouillez le poste, déverrouillez-le et réessayez.",
        ),
        Some(C::TicketShared) => (
            "Others use this machine too, so that its ticket does not say who you are. Sign in another way.",
            "D'autres utilisent aussi ce poste : son ticket ne dit pas qui vous êtes. Connectez-vous autrement.",
        ),
        Some(C::TicketNobody) => (
            "Your machine's ticket is good, and nobody here goes by its name. Sign in another way.",
            "Le ticket de votre poste est bon, mais personne ici ne porte ce nom. Connectez-vous autrement.",
        ),
        Some(
            C::TicketUnreadable
            | C::TicketWrongService
            | C::TicketRealm
            | C::TicketNoKey
            | C::TicketKeyVersion
            | C::TicketEnctype
            | C::TicketKeyDiffers
            | C::TicketNotYet
            | C::TicketBindings
            | C::TicketReplayed
            | C::TicketNotTaken
            | C::TicketNotNow,
        ) => (
            "Your machine's ticket could not be taken. Sign in another way; why it was not is known to those who look after this.",
            "Le ticket de votre poste n'a pas pu être accepté. Connectez-vous autrement ; les responsables savent pourquoi.",
        ),
        Some(C::UpstreamTicketPerson) => (
            "You are let in, but your account may not be handed on to this application. Use it from a workstation of the organisation, or ask those who look after it.",
            "Vous êtes admis, mais votre compte ne peut pas être transmis à cette application. Utilisez-la depuis un poste de l'organisation, ou adressez-vous à ses responsables.",
        ),
        Some(C::UpstreamTicketNotSent) => (
            "You are let in, but this application wants the ticket of your own machine, and none came along. Use it from a workstation of the organisation.",
            "Vous êtes admis, mais cette application veut le ticket de votre propre poste, et il n'est pas venu. Utilisez-la depuis un poste de l'organisation.",
        ),
        Some(
            C::UpstreamTicketNoName
            | C::UpstreamTicketNotAllowed
            | C::UpstreamTicketAccount
            | C::UpstreamTicketRevoked
            | C::UpstreamTicketNobody
            | C::UpstreamTicketNoService
            | C::UpstreamTicketOwn
            | C::UpstreamTicketSilent
            | C::UpstreamTicketFailed
            | C::UpstreamTicketRefused
            | C::UpstreamNotProven,
        ) => (
            "You are let in, but this application takes tickets only, and there is none for you that it takes. It is known to those who look after this why.",
            "Vous êtes admis, mais cette application ne prend que des tickets, et il n'y en a pas pour vous qu'elle accepte. Les responsables savent pourquoi.",
        ),
        Some(C::NothingGrants) => (
            "You signed in, but none of the rules of this application lets you in. If you should have access, ask those who look after it.",
            "Vous êtes connecté, mais aucune règle de cette application ne vous admet. Si vous devez y avoir accès, adressez-vous à ses responsables.",
        ),
        Some(C::Unprotected) => {
            ("This application is not open to anybody yet.", "Cette application n'est encore ouverte à personne.")
        }
        Some(C::DirectoryDisabled) => (
            "Your account in the directory is disabled or has expired.",
            "Votre compte dans l'annuaire est désactivé ou a expiré.",
        ),
        Some(C::DirectoryNoEntry | C::DirectorySeveral | C::DirectoryNoKey) => (
            "You signed in, but you could not be found for certain in the directory that this application relies on.",
            "Vous êtes connecté, mais vous n'avez pas pu être trouvé avec certitude dans l'annuaire dont dépend cette application.",
        ),
        Some(C::DirectoryDead | C::DirectoryBindRefused | C::DirectoryUnusable) => (
            "You signed in, but the directory that says what you may open does not answer. Please try again later.",
            "Vous êtes connecté, mais l'annuaire qui dit ce que vous pouvez ouvrir ne répond pas. Réessayez plus tard.",
        ),
        Some(C::HeaderRefused) => (
            "You may enter, but something this application needs to know about you is missing.",
            "Vous pouvez entrer, mais il manque une information dont cette application a besoin.",
        ),
        Some(C::ProviderRefused | C::TokenRefused) => (
            "The service where you sign in said no. In its own words:",
            "Le service où vous vous connectez a dit non. Selon ses propres mots :",
        ),
        Some(C::ProviderSilent | C::DiscoveryFailed) => (
            "The service where you sign in does not answer. Please try again later.",
            "Le service où vous vous connectez ne répond pas. Réessayez plus tard.",
        ),
        Some(C::FactorsInsufficient) => (
            "This application asks for a stronger sign-in than the one you used.",
            "Cette application exige une connexion plus forte que celle utilisée.",
        ),
        Some(C::StateTooOld) => ("The sign-in took too long.", "La connexion a pris trop de temps."),
        Some(C::StateReplayed) => ("This step of the sign-in was already used.", "Cette étape de la connexion a déjà servi."),
        Some(C::StateOtherBrowser) => (
            "The sign-in ended in another browser than the one it began in, or cookies are blocked.",
            "La connexion s'est terminée dans un autre navigateur, ou les cookies sont bloqués.",
        ),
        Some(C::CodeRefused) => (
            "This link back to the application was already used or is not yours.",
            "Ce lien de retour a déjà servi ou n'est pas le vôtre.",
        ),
        Some(C::AskUnreadable) => {
            ("This link to sign in is incomplete or too old.", "Ce lien de connexion est incomplet ou trop ancien.")
        }
        _ => (
            "Something about this request or sign-in was not as it must be.",
            "Quelque chose dans cette requête ou connexion n'était pas conforme.",
        ),
    };
    match lang {
        Lang::En => en,
        Lang::Fr => fr,
    }
}

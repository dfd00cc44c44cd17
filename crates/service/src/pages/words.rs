//! What pages say, in each language.

use passeur_core::step::{Lang, Stage, StepCode};

/// Fixed words of pages.
#[derive(Clone, Copy)]
pub enum Word {
    Place,
    SignedInAs,
    Crossing,
    QuoteId,
    TryAgain,
    ToQuay,
    SignOut,
    SignedOut,
    AskSignOut,
    SignedOutHere,
    StillAtProvider,
    SignOutAt,
    NotSetUp,
    NothingPublished,
    NotNow,
    CannotRecord,
    UpstreamDown,
    QuayTitle,
    MayOpen,
    MayNotOpen,
    NothingToOpen,
    KnownOfMe,
    SignIn,
    NotSignedIn,
    SessionSince,
    Groups,
    Factors,
    Console,
    SignInFirst,
    FormInterrupted,
    FormKept,
    FormNotKept,
    FormAgain,
    FormGone,
    SendNow,
    Discard,
    TriedTitle,
    TriedWell,
    TriedBadly,
    ReadTrial,
    TrialOver,
    GoingOnTitle,
    GoingOn,
    GoOn,
    SignedOutEverywhere,
    NotEverywhere,
    EmergencyTitle,
    EmergencyWords,
    EmergencyIn,
    EmergencyName,
    EmergencyPassword,
    EmergencyWrong,
    EmergencyWait,
}

/// The words.
pub fn say(word: Word, lang: Lang) -> &'static str {
    let (en, fr) = match word {
        Word::TriedTitle => ("Trial sign-in", "Connexion d'essai"),
        Word::TriedWell => (
            "The provider's answer was believed. Nothing was opened by it; what came back can be read in the console.",
            "La réponse du fournisseur a été crue. Elle n'ouvre rien ; ce qui est revenu se lit dans la console.",
        ),
        Word::TriedBadly => (
            "The provider's answer was not believed. The console says which check failed, with the value seen and the value wanted.",
            "La réponse du fournisseur n'a pas été crue. La console dit quel contrôle a échoué, avec la valeur vue et celle attendue.",
        ),
        Word::ReadTrial => ("Read what came back", "Lire ce qui est revenu"),
        Word::TrialOver => (
            "This trial is over, or something came back already. Begin another.",
            "Cet essai est terminé, ou a déjà reçu une réponse. Commencez-en un autre.",
        ),
        Word::GoingOnTitle => ("One moment", "Un instant"),
        Word::GoingOn => ("You are being sent on to", "Vous allez être envoyé vers"),
        Word::GoOn => ("Continue", "Continuer"),
        Word::SignedOutEverywhere => (
            "The provider has signed you out as well, here and everywhere it knew of.",
            "Le fournisseur vous a aussi déconnecté, ici et partout où il le pouvait.",
        ),
        Word::NotEverywhere => (
            "You are signed out here. The provider does not say that you are signed out everywhere: on a shared machine, close the browser.",
            "Vous êtes déconnecté ici. Le fournisseur ne dit pas que vous l'êtes partout : sur un poste partagé, fermez le navigateur.",
        ),
        Word::EmergencyTitle => ("Emergency account", "Compte de secours"),
        Word::EmergencyWords => (
            "For when nobody can sign in as usual. Every use is recorded and shown to all engineers.",
            "Pour quand personne ne peut se connecter comme d'habitude. Chaque usage est enregistré et montré à tous les ingénieurs.",
        ),
        Word::EmergencyIn => (
            "You are signed in with the emergency account, for an hour.",
            "Vous êtes connecté avec le compte de secours, pour une heure.",
        ),
        Word::EmergencyName => ("Name", "Nom"),
        Word::EmergencyPassword => ("Password", "Mot de passe"),
        Word::EmergencyWrong => ("Name and password do not belong together.", "Le nom et le mot de passe ne vont pas ensemble."),
        Word::EmergencyWait => ("Too many tries failed. Wait five minutes.", "Trop d'essais ont échoué. Attendez cinq minutes."),
        Word::Place => ("Application", "Application"),
        Word::SignInFirst => ("Sign in first", "Connectez-vous d'abord"),
        Word::FormInterrupted => (
            "Your session had ended when you sent this form, so it did not reach the application.",
            "Votre session était terminée quand vous avez envoyé ce formulaire : l'application ne l'a pas reçu.",
        ),
        Word::FormKept => (
            "What you entered is kept for half an hour. After signing in you can look at it once more and send it.",
            "Votre saisie est gardée une demi-heure. Après la connexion, vous pourrez la relire et l'envoyer.",
        ),
        Word::FormNotKept => (
            "It could not be kept: go back in your browser to copy what you entered, then sign in.",
            "Elle n'a pas pu être gardée : revenez en arrière pour copier votre saisie, puis connectez-vous.",
        ),
        Word::FormAgain => (
            "This is the form that your sign-in interrupted. It has not been sent.",
            "Voici le formulaire que la connexion a interrompu. Il n'a pas été envoyé.",
        ),
        Word::FormGone => {
            ("This form is no longer kept, or was shown already.", "Ce formulaire n'est plus gardé, ou a déjà été montré.")
        }
        Word::SendNow => ("Send it now", "L'envoyer maintenant"),
        Word::Discard => ("Do not send it", "Ne pas l'envoyer"),
        Word::SignedInAs => ("Signed in as", "Connecté comme"),
        Word::Crossing => ("Crossing", "Passage"),
        Word::QuoteId => (
            "If you ask for help, quote the crossing: with it, the reason is found at once.",
            "Si vous demandez de l'aide, citez le passage : la raison se trouve alors aussitôt.",
        ),
        Word::TryAgain => ("Try again", "Réessayer"),
        Word::ToQuay => ("To the quay", "Vers le quai"),
        Word::SignOut => ("Sign out", "Se déconnecter"),
        Word::SignedOut => ("You are signed out", "Vous êtes déconnecté"),
        Word::AskSignOut => ("Sign out here and at every gate?", "Se déconnecter ici et à toutes les portes ?"),
        Word::SignedOutHere => (
            "Your session here has ended, and with it every gate it opened.",
            "Votre session ici est terminée, et avec elle toutes les portes qu'elle ouvrait.",
        ),
        Word::StillAtProvider => (
            "You may still be signed in where you typed your password. On a shared machine, sign out there too.",
            "Vous êtes peut-être encore connecté là où vous avez saisi votre mot de passe. Sur un poste partagé, déconnectez-vous aussi là-bas.",
        ),
        Word::SignOutAt => ("Sign out at", "Se déconnecter de"),
        Word::NotSetUp => ("Not set up yet", "Pas encore configuré"),
        Word::NothingPublished => ("No edition has been published on this site.", "Aucune édition n'a été publiée sur ce site."),
        Word::NotNow => ("Not possible just now", "Impossible pour l'instant"),
        Word::CannotRecord => (
            "Nobody is let through while what happens cannot be written down. Please try again in a moment.",
            "Personne ne passe tant que rien ne peut être consigné. Réessayez dans un instant.",
        ),
        Word::UpstreamDown => (
            "You are signed in and may enter, but the application behind this gate does not answer.",
            "Vous êtes connecté et pouvez entrer, mais l'application derrière cette porte ne répond pas.",
        ),
        Word::QuayTitle => ("Quay", "Quai"),
        Word::MayOpen => ("What you may open", "Ce que vous pouvez ouvrir"),
        Word::MayNotOpen => ("not for you", "pas pour vous"),
        Word::NothingToOpen => ("There is nothing here that you may open.", "Il n'y a rien ici que vous puissiez ouvrir."),
        Word::KnownOfMe => ("What is known of you", "Ce que l'on sait de vous"),
        Word::SignIn => ("Sign in with", "Se connecter avec"),
        Word::NotSignedIn => ("You are not signed in.", "Vous n'êtes pas connecté."),
        Word::SessionSince => ("Session since", "Session depuis"),
        Word::Groups => ("Groups", "Groupes"),
        Word::Factors => ("How you proved it", "Comment vous l'avez prouvé"),
        Word::Console => ("Console", "Console"),
    };
    match lang {
        Lang::En => en,
        Lang::Fr => fr,
    }
}

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
                | StepCode::ProviderSilent
                | StepCode::DiscoveryFailed
                | StepCode::MetadataFailed,
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
pub fn plain(code: Option<StepCode>, lang: Lang) -> &'static str {
    use StepCode as C;
    let (en, fr) = match code {
        Some(C::RefusedByRule) => {
            ("The rules of this application refuse you:", "Les règles de cette application vous refusent :")
        }
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
        Some(C::DirectoryDead | C::DirectoryBindRefused) => (
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

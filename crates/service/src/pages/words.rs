//! What pages say, in each language.

use passeur_core::step::{Lang, Stage, StepCode};

/// Fixed words of pages.
#[derive(Clone, Copy)]
pub enum Word {
    Place,
    UsePasskey,
    DeviceTitle,
    DeviceWords,
    DeviceCode,
    DeviceNoSuch,
    DeviceConfirm,
    DeviceFrom,
    DeviceProgram,
    DeviceRole,
    DeviceYes,
    DeviceNo,
    DeviceLetIn,
    DeviceDenied,
    DeviceNoEngineer,
    TokensTitle,
    TokensWords,
    TokenMade,
    TokenNotMade,
    NoTokens,
    Until,
    UsedLast,
    Revoke,
    NewToken,
    NoTokenGates,
    TokenFor,
    TokenPaths,
    TokenDays,
    MakeToken,
    PasskeyRefused,
    PasskeyFailed,
    FactorTitle,
    FactorFor,
    WrongFactor,
    AuthenticatorCode,
    RecoveryCode,
    OrRecovery,
    FactorsTitle,
    FactorsWords,
    NoFactors,
    SignInAgainFirst,
    ProveFirst,
    NotFromHere,
    TooManyFactors,
    RecoveryTitle,
    RecoveryWords,
    RecoveryLeft,
    ScanTitle,
    ScanWords,
    OrType,
    FactorName,
    FactorNameExample,
    Enrol,
    Remove,
    Since,
    NewPasskey,
    NewTotp,
    NewRecovery,
    ChooseTitle,
    ChooseFor,
    AnotherWay,
    SomeoneElse,
    NoTicket,
    NoOtherWay,
    TicketHere,
    TakeTicket,
    SignInTitle,
    SignInNow,
    SignedInNow,
    OnToSignIn,
    NameFor,
    UserName,
    MailAddress,
    NoMailAddress,
    SendCode,
    CodeSent,
    SixDigits,
    WrongCode,
    TooManyTries,
    SignedInAs,
    Crossing,
    QuoteId,
    TryAgain,
    ToQuay,
    SignOut,
    SignedOut,
    AskSignOut,
    AlsoElsewhere,
    StillElsewhere,
    SignOutEverywhere,
    SeenLast,
    BrowserOn,
    YourRoles,
    RolesChanged,
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
        Word::ChooseTitle => ("How do you want to sign in?", "Comment voulez-vous vous connecter ?"),
        Word::ChooseFor => ("You are on your way to", "Vous allez vers"),
        Word::AnotherWay => ("Sign in another way", "Se connecter autrement"),
        Word::SomeoneElse => ("Sign in as someone else", "Se connecter sous un autre nom"),
        Word::NoTicket => ("This machine showed no ticket of yours.", "Ce poste n'a montré aucun ticket à votre nom."),
        Word::NoOtherWay => (
            "There is no other way in here. Sign in to the machine itself, and open the application again.",
            "Il n'y a pas d'autre voie ici. Connectez-vous au poste lui-même, puis rouvrez l'application.",
        ),
        Word::TicketHere => (
            "You may come in as whoever is signed in to this machine.",
            "Vous pouvez entrer sous le nom de qui est connecté à ce poste.",
        ),
        Word::TakeTicket => ("Use this machine's sign-in", "Utiliser la connexion du poste"),
        Word::SignInTitle => ("Sign in", "Connexion"),
        Word::SignInNow => ("Sign in", "Se connecter"),
        Word::OnToSignIn => ("You go on to sign in.", "Vous poursuivez vers la connexion."),
        Word::NameFor => {
            ("Your user name decides where you sign in for", "Votre nom d'utilisateur indique où vous connecter pour")
        }
        Word::SignedInNow => ("You are signed in.", "Vous êtes connecté."),
        Word::UserName => ("User name", "Nom d'utilisateur"),
        Word::MailAddress => ("Mail address", "Adresse électronique"),
        Word::NoMailAddress => ("This is no mail address.", "Ce n'est pas une adresse électronique."),
        Word::SendCode => ("Send me a code", "M'envoyer un code"),
        Word::CodeSent => ("If it may come in, a code is on its way to", "Si elle est admise, un code est en route vers"),
        Word::SixDigits => ("The six digits", "Les six chiffres"),
        Word::WrongCode => (
            "This is not the code, or it is too old or was used before.",
            "Ce n'est pas le code, ou il est trop vieux ou a déjà servi.",
        ),
        Word::TooManyTries => ("Too many tries. Wait", "Trop d'essais. Attendez"),
        Word::PasskeyRefused => (
            "This passkey does not let you in now. Sign in another way; at the quay you see which passkeys you have.",
            "Cette clé d'accès ne vous admet pas maintenant. Connectez-vous autrement ; au quai vous voyez vos clés d'accès.",
        ),
        Word::TokensTitle => ("My tokens", "Mes jetons"),
        Word::TokensWords => (
            "A program of yours sends a token instead of signing in. It may do no more than you may, and is over when you are.",
            "Un programme à vous envoie un jeton au lieu de se connecter. Il ne peut rien de plus que vous, et finit avec vous.",
        ),
        Word::TokenMade => ("This is the new token. It is shown this once.", "Voici le nouveau jeton. Il n'est montré qu'ici."),
        Word::TokenNotMade => (
            "It was not made: give it a name, a gate and a time; paths are plain, one a line.",
            "Il n'a pas été fait : donnez un nom, une porte et une durée ; les chemins sont simples, un par ligne.",
        ),
        Word::NoTokens => ("You have none.", "Vous n'en avez aucun."),
        Word::Until => ("until", "jusqu'au"),
        Word::UsedLast => ("last used", "utilisé le"),
        Word::Revoke => ("Revoke", "Révoquer"),
        Word::NewToken => ("A new token", "Un nouveau jeton"),
        Word::NoTokenGates => {
            ("No gate that you may open takes tokens.", "Aucune porte qui vous est ouverte n'accepte de jeton.")
        }
        Word::TokenFor => ("Good for", "Valable pour"),
        Word::TokenPaths => (
            "Only at or below these paths, one a line; empty for all",
            "Seulement sous ces chemins, un par ligne ; vide pour tous",
        ),
        Word::TokenDays => ("For so many days", "Pour tant de jours"),
        Word::MakeToken => ("Make it", "Le faire"),
        Word::DeviceTitle => ("Let a command line in", "Admettre une ligne de commande"),
        Word::DeviceWords => (
            "Type the code that `passeur sign-in` shows. Go on only if you began it yourself.",
            "Saisissez le code affiché par `passeur sign-in`. Ne continuez que si vous l'avez lancé vous-même.",
        ),
        Word::DeviceCode => ("The code", "Le code"),
        Word::DeviceNoSuch => (
            "Nothing waits under that code, or it has run out. Begin anew with `passeur sign-in`.",
            "Rien n'attend sous ce code, ou il a expiré. Recommencez avec `passeur sign-in`.",
        ),
        Word::DeviceConfirm => (
            "Whoever waits there will act in your name for twelve hours. Is it you?",
            "Qui attend là agira en votre nom pendant douze heures. Est-ce vous ?",
        ),
        Word::DeviceFrom => ("It waits at", "Il attend à"),
        Word::DeviceProgram => ("Program", "Programme"),
        Word::DeviceRole => ("How far it may go", "Jusqu'où elle peut aller"),
        Word::DeviceYes => ("It is me: let it in", "C'est moi : l'admettre"),
        Word::DeviceNo => ("It is not me", "Ce n'est pas moi"),
        Word::DeviceLetIn => ("It is let in. Go back to your terminal.", "Elle est admise. Revenez à votre terminal."),
        Word::DeviceDenied => ("It is not let in.", "Elle n'est pas admise."),
        Word::DeviceNoEngineer => (
            "You are signed in, but not as an engineer of this site.",
            "Vous êtes connecté, mais pas comme ingénieur de ce site.",
        ),
        Word::UsePasskey => ("Use a passkey", "Utiliser une clé d'accès"),
        Word::PasskeyFailed => (
            "That did not work, or was called off. Try once more, or another way.",
            "Cela n'a pas marché, ou a été interrompu. Réessayez, ou faites autrement.",
        ),
        Word::FactorTitle => ("Prove that it is you", "Prouvez que c'est vous"),
        Word::FactorFor => ("One more proof is asked for by", "Une preuve de plus est demandée par"),
        Word::WrongFactor => (
            "That is not the code, or it was used before. Is your phone's clock right?",
            "Ce n'est pas le code, ou il a déjà servi. L'horloge du téléphone est-elle juste ?",
        ),
        Word::AuthenticatorCode => ("The code your authenticator shows", "Le code de votre authentificateur"),
        Word::RecoveryCode => ("A recovery code", "Un code de secours"),
        Word::OrRecovery => ("A recovery code does as well.", "Un code de secours convient aussi."),
        Word::FactorsTitle => ("My second factors", "Mes seconds facteurs"),
        Word::FactorsWords => (
            "Some places ask for more than your sign-in: a passkey, or a code of an authenticator.",
            "Certains lieux demandent plus que votre connexion : une clé d'accès, ou le code d'un authentificateur.",
        ),
        Word::NoFactors => ("You have enrolled none yet.", "Vous n'en avez encore enrôlé aucun."),
        Word::SignInAgainFirst => (
            "Before you enrol one, sign in once more, so that it is surely you.",
            "Avant d'en enrôler un, reconnectez-vous, pour être sûr que c'est vous.",
        ),
        Word::ProveFirst => (
            "Before you change anything, prove one of those you have.",
            "Avant de changer quoi que ce soit, prouvez l'un de ceux que vous avez.",
        ),
        Word::NotFromHere => ("Factors are not enrolled from this network.", "On n'enrôle pas de facteur depuis ce réseau."),
        Word::TooManyFactors => ("You have too many: remove one first.", "Vous en avez trop : retirez-en un d'abord."),
        Word::RecoveryTitle => ("Your recovery codes", "Vos codes de secours"),
        Word::RecoveryWords => (
            "Keep them where only you find them. Each does once what your factor does; they are shown this once, and those before count no more.",
            "Gardez-les là où vous seul les trouvez. Chacun remplace une fois votre facteur ; ils ne sont montrés qu'ici, et les précédents ne comptent plus.",
        ),
        Word::RecoveryLeft => ("Recovery codes left:", "Codes de secours restants :"),
        Word::ScanTitle => ("A new authenticator", "Un nouvel authentificateur"),
        Word::ScanWords => (
            "Scan this with your authenticator, then enter the code it shows.",
            "Scannez ceci avec votre authentificateur, puis entrez le code affiché.",
        ),
        Word::OrType => ("Or type this key:", "Ou saisissez cette clé :"),
        Word::FactorName => ("A name for it", "Un nom pour lui"),
        Word::FactorNameExample => ("my phone", "mon téléphone"),
        Word::Enrol => ("Enrol it", "L'enrôler"),
        Word::Remove => ("Remove", "Retirer"),
        Word::Since => ("since", "depuis"),
        Word::NewPasskey => ("A new passkey", "Une nouvelle clé d'accès"),
        Word::NewTotp => ("A new authenticator", "Un nouvel authentificateur"),
        Word::NewRecovery => ("New recovery codes", "De nouveaux codes de secours"),
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
        Word::AlsoElsewhere => ("You are signed in elsewhere too:", "Vous êtes connecté ailleurs aussi :"),
        Word::StillElsewhere => ("Still signed in elsewhere:", "Toujours connecté ailleurs :"),
        Word::SignOutEverywhere => ("Sign out everywhere", "Se déconnecter partout"),
        Word::YourRoles => ("your roles:", "vos rôles :"),
        Word::RolesChanged => ("Your roles changed", "Vos rôles ont changé"),
        Word::BrowserOn => ("A browser on", "Un navigateur sur"),
        Word::SeenLast => ("last seen", "vu"),
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

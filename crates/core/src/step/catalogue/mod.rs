//! The one table of step codes: code, stage, bearing, parameters, words in each language and the remedy.
//!
//! It drives storage (codes are stable: never rename or reuse one), stories, the reference in `docs/steps.md`, the structs
//! that steps are made of ([`says`]) and the invariant tests below.

use serde::{Deserialize, Serialize};

use super::{Bearing, Lang, Stage};

#[macro_use]
mod networks;
#[macro_use]
mod radius;
#[macro_use]
mod tickets;

/// What the catalogue says of one code.
#[derive(Debug)]
pub struct Spec {
    pub code: &'static str,
    pub stage: Stage,
    pub bearing: Bearing,
    pub params: &'static [&'static str],
    words: [&'static str; 2],
    remedy: Option<[&'static str; 2]>,
}

impl Spec {
    /// The template of its sentence.
    pub fn words(&self, lang: Lang) -> &'static str {
        self.words[lang as usize]
    }
    /// The template of its remedy.
    pub fn remedy(&self, lang: Lang) -> Option<&'static str> {
        self.remedy.map(|r| r[lang as usize])
    }
}

macro_rules! catalogue {
    ($($variant:ident = $code:literal $stage:ident $bearing:ident [$($p:ident),*]
        $en:literal / $fr:literal $(=> $ren:literal / $rfr:literal)?;)*) => {
        /// The code of a step.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum StepCode {
            $(#[doc = $en] #[serde(rename = $code)] $variant,)*
        }
        /// Every code, in the order of the table.
        pub const ALL: &[StepCode] = &[$(StepCode::$variant),*];
        impl StepCode {
            /// What the catalogue says of it.
            pub fn spec(self) -> &'static Spec {
                match self {
                    $(StepCode::$variant => {
                        const SPEC: Spec = Spec {
                            code: $code, stage: Stage::$stage, bearing: Bearing::$bearing, params: &[$(stringify!($p)),*],
                            words: [$en, $fr], remedy: catalogue!(@remedy $($ren, $rfr)?),
                        };
                        &SPEC
                    })*
                }
            }
        }
        /// What each step says: a struct a code, with a field for each parameter that its sentence or its remedy names.
        /// [`step!`](crate::step!) fills them in.
        pub mod says {
            use super::super::{Param, Step};
            $(#[doc = $en] pub struct $variant { $(pub $p: Param),* }
            impl From<$variant> for Step {
                fn from(said: $variant) -> Step {
                    let $variant { $($p),* } = said;
                    Step::of(super::StepCode::$variant, [$((stringify!($p), $p)),*])
                }
            })*
        }
    };
    (@remedy) => { None };
    (@remedy $en:literal, $fr:literal) => { Some([$en, $fr]) };
}

with_networks! { with_radius with_tickets catalogue
    // ── at the gate
    Arrived = "gate.arrived" Gate Fact [method, target, gate, address, agent]
        "{method} {target} came to gate {gate} from {address}." / "{method} {target} est arrivé à la porte {gate} depuis {address}.";
    ProxyFieldIgnored = "gate.proxy-field-ignored" Gate Notice [field, wanted, address]
        "The request also carried {field}, which the proxies of this site do not write: it was ignored, and {address} counts, from {wanted}." / "La requête portait aussi {field}, que les mandataires de ce site n'écrivent pas : il a été ignoré, et {address} compte, d'après {wanted}."
        => "Where {address} is the address of your own proxy, it writes {field}: set proxies-write = \"{field}\" under [site]. Otherwise somebody tried to choose their address." / "Si {address} est l'adresse de votre propre mandataire, il écrit {field} : mettez proxies-write = « {field} » sous [site]. Sinon, quelqu'un a voulu choisir son adresse.";
    NoSession = "gate.no-session" Gate Fact [why]
        "There was no session to use: {why}." / "Aucune session utilisable : {why}.";
    SentToSignIn = "gate.sent-to-sign-in" Gate Fact [to]
        "The person was sent to sign in at {to}." / "La personne a été envoyée se connecter à {to}.";
    ReturnCut = "gate.return-not-kept" Gate Notice []
        "The address asked for could not be kept through the sign-in; the person returns to the front page instead." / "L'adresse demandée n'a pas pu être conservée ; la personne reviendra à la page d'accueil.";
    FormKept = "gate.form-kept" Gate Notice [kept]
        "A form came without a session; it was {kept}, and is never sent again alone." / "Un formulaire est arrivé sans session ; il a été {kept} et n'est jamais renvoyé seul.";
    NotNavigation = "gate.not-navigation" Gate Stop [method, why]
        "The request needs a session and is not one a person could be redirected from, so it got 401." / "La requête exige une session et ne peut pas être redirigée : réponse 401."
        => "Open the gate's address in a browser first; scripts and background requests only work inside a live session." / "Ouvrez d'abord l'adresse de la porte dans un navigateur ; scripts et requêtes d'arrière-plan exigent une session active.";
    MethodRefused = "gate.method-refused" Gate Stop [method]
        "The method {method} is never let through." / "La méthode {method} n'est jamais admise.";
    UpgradeRefused = "gate.upgrade-refused" Gate Stop [protocol]
        "An upgrade to {protocol} was asked for; only websocket is let through." / "Un passage au protocole {protocol} a été demandé ; seul websocket est admis.";
    OriginRefused = "gate.origin-refused" Gate Stop [origin, wanted]
        "A WebSocket was opened from {origin}; only {wanted} may." / "Un WebSocket a été ouvert depuis {origin} ; seul {wanted} le peut."
        => "If that page is meant to use this gate, serve it from the gate's own address." / "Si cette page doit utiliser la porte, servez-la depuis l'adresse de la porte.";
    AmbiguousRequest = "gate.ambiguous-request" Gate Stop [what]
        "The request could be read in two ways and was refused: {what}." / "La requête pouvait se lire de deux façons et a été refusée : {what}.";
    PathInDoubt = "gate.path-in-doubt" Gate Stop [path, what]
        "Parts of this gate have rules of their own, and servers read the path {path} in different ways: it holds {what}." / "Des parties de cette porte ont leurs propres règles, et les serveurs lisent le chemin {path} de différentes façons : il contient {what}."
        => "Have the application link to its plain path. If it cannot do without, give those parts a gate of their own instead of sections and conditions on paths." / "Faites que l'application utilise le chemin simple. Si elle ne peut s'en passer, donnez à ces parties une porte à elles au lieu de sections et de conditions de chemin.";
    HeadersStripped = "gate.headers-removed" Gate Notice [names]
        "Headers that only this gate may set came from the client and were removed: {names}." / "Des en-têtes réservés à la porte venaient du client et ont été retirés : {names}.";
    Unprotected = "gate.no-rule" Gate Stop [gate]
        "Gate {gate} has no rule, so it admits nobody." / "La porte {gate} n'a aucune règle : elle n'admet personne."
        => "Add a [[gate.rule]] under gate {gate} and publish." / "Ajoutez une [[gate.rule]] à la porte {gate} et publiez.";
    AskUnreadable = "sign-in.ask-unreadable" Gate Stop []
        "The link to sign in was altered, cut or is too old." / "Le lien de connexion a été altéré, tronqué ou est trop ancien."
        => "Open the application's own address again; do not bookmark sign-in pages." / "Rouvrez l'adresse de l'application ; ne mettez pas en favori les pages de connexion.";

    // ── out to the provider and back
    TrialBegan = "sign-in.trial" Gate Fact [by, provider, source]
        "{by} began a trial sign-in through provider {provider}, with {source}; it opens nothing." / "{by} a commencé une connexion d'essai par le fournisseur {provider}, avec {source} ; elle n'ouvre rien.";
    SessionUsed = "session.used" Session Fact [person, since]
        "The session of {person}, begun {since}, was used; nothing was asked." / "La session de {person}, ouverte {since}, a servi ; rien n'a été demandé.";
    SecretMissing = "sign-in.secret-missing" Provider Stop [provider, secret]
        "The site file names the secret {secret} for provider {provider}, and none of that name is stored: nobody is sent there without it." / "Le fichier de site nomme le secret {secret} pour le fournisseur {provider}, et aucun de ce nom n'est stocké : personne n'y est envoyé sans lui."
        => "Store it: passeur secret set {secret}" / "Stockez-le : passeur secret set {secret}";
    SecretUnusable = "sign-in.secret-unusable" Provider Stop [provider, secret, how]
        "The secret {secret} cannot prove us to provider {provider}: {how}." / "Le secret {secret} ne peut pas nous prouver au fournisseur {provider} : {how}."
        => "Compare client-authentication of provider {provider} with what is stored as {secret}; `passeur trial provider {provider}` tries both, and `passeur secret make-key {secret}` makes a key." / "Comparez client-authentication du fournisseur {provider} avec ce qui est stocké sous {secret} ; `passeur trial provider {provider}` essaie les deux, et `passeur secret make-key {secret}` fabrique une clé.";
    TrialSecretWithheld = "sign-in.trial-secret-withheld" Provider Stop [provider, secret, issuer]
        "The stored secret {secret} is not sent to {issuer}: the live edition does not use it there, and somebody else stored it." / "Le secret stocké {secret} n'est pas envoyé à {issuer} : l'édition en vigueur ne l'y utilise pas, et quelqu'un d'autre l'a stocké."
        => "Store its value yourself (passeur secret set {secret}) and begin the trial again." / "Stockez vous-même sa valeur (passeur secret set {secret}) et recommencez l'essai.";
    DiscoveryFailed = "provider.discovery-failed" Provider Stop [provider, issuer, how]
        "Provider {provider} could not be asked for its addresses at {issuer}: {how}." / "Le fournisseur {provider} n'a pas pu donner ses adresses à {issuer} : {how}."
        => "Run `passeur trial provider {provider}`: it tries the address, TLS, issuer and keys one by one." / "Lancez `passeur trial provider {provider}` : adresse, TLS, émetteur et clés sont essayés un à un.";
    SentToProvider = "provider.sent" Provider Fact [provider, endpoint, parameters, redirect_uri]
        "The person was sent to provider {provider} at {endpoint} with: {parameters}." / "La personne a été envoyée au fournisseur {provider}, à {endpoint}, avec : {parameters}.";
    NeverCameBack = "provider.never-came-back" Provider Stop [provider, redirect_uri, minutes]
        "The person did not come back from provider {provider} within {minutes} minutes." / "La personne n'est pas revenue du fournisseur {provider} en {minutes} minutes."
        => "If this happens to everyone, the provider shows its own error page: compare its registered redirect address with {redirect_uri}. If to one person, they gave up or closed the page." / "Si cela arrive à tous, le fournisseur affiche sa propre erreur : comparez son adresse de retour avec {redirect_uri}. Si c'est une seule personne, elle a renoncé.";
    ProviderAnswered = "provider.answered" Provider Fact [provider, parameters, after]
        "Provider {provider} sent the person back after {after} s with: {parameters}." / "Le fournisseur {provider} a renvoyé la personne après {after} s avec : {parameters}.";
    ProviderRefused = "provider.refused" Provider Stop [provider, error, description]
        "Provider {provider} refused, in its own words: {error}: {description}" / "Le fournisseur {provider} a refusé, selon ses propres mots : {error} : {description}"
        => "The reason lies with the provider: give its team this crossing's time, the client and the words above." / "La raison est chez le fournisseur : transmettez à son équipe l'heure, le client et les mots ci-dessus.";
    StateUnreadable = "check.state-unreadable" Check Stop []
        "The state parameter is not one of ours, or was altered." / "Le paramètre state n'est pas le nôtre ou a été altéré."
        => "If it happens to many, look for a proxy that rewrites addresses, or nodes with different key rings." / "Si cela touche plusieurs personnes, cherchez un mandataire qui réécrit les adresses ou des nœuds aux trousseaux différents.";
    StateTooOld = "check.state-too-old" Check Stop [minutes, limit]
        "The sign-in took {minutes} minutes; at most {limit} are allowed." / "La connexion a duré {minutes} minutes ; {limit} au plus sont permises."
        => "Open the application's address again." / "Rouvrez l'adresse de l'application.";
    StateOtherBrowser = "check.state-other-browser" Check Stop []
        "The answer came in another browser than the one that was sent to the provider." / "La réponse est arrivée dans un autre navigateur que celui envoyé au fournisseur."
        => "Normal when cookies are blocked or a link was opened elsewhere. Many of these at once can be an attack." / "Normal si les cookies sont bloqués ou le lien ouvert ailleurs. En nombre, ce peut être une attaque.";
    StateReplayed = "check.state-replayed" Check Stop []
        "This answer of the provider was used before." / "Cette réponse du fournisseur a déjà servi."
        => "Normal after the Back button; otherwise somebody copied the address." / "Normal après le bouton Précédent ; sinon quelqu'un a copié l'adresse.";
    IssuerMismatch = "check.issuer" Check Stop [seen, wanted]
        "The answer names issuer {seen}; wanted was {wanted}." / "La réponse nomme l'émetteur {seen} ; attendu : {wanted}."
        => "Either the issuer in the site file is wrong, or a mix-up between providers is being tried (RFC 9207)." / "Soit l'émetteur du fichier de site est faux, soit on tente de confondre deux fournisseurs (RFC 9207).";
    TokensReceived = "provider.tokens" Provider Pass [endpoint, auth, kinds, millis]
        "The code was exchanged at {endpoint} ({auth}) in {millis} ms for: {kinds}." / "Le code a été échangé à {endpoint} ({auth}) en {millis} ms contre : {kinds}.";
    TokenRefused = "provider.token-refused" Provider Stop [endpoint, client_id, auth, error, description]
        "The provider's token endpoint {endpoint} refused client {client_id} ({auth}), in its own words: {error}: {description}" / "Le point d'accès aux jetons {endpoint} a refusé le client {client_id} ({auth}), selon ses propres mots : {error} : {description}"
        => "invalid_client: client id or secret differ from the provider's. invalid_grant: the redirect address differs, or the code was too old." / "invalid_client : client ou secret différents. invalid_grant : adresse de retour différente, ou code trop vieux.";
    ProviderSilent = "provider.no-answer" Provider Stop [endpoint, how]
        "The provider did not answer at {endpoint}: {how}." / "Le fournisseur n'a pas répondu à {endpoint} : {how}."
        => "Try the address from this host; look for a firewall, a proxy or an expired certificate." / "Essayez l'adresse depuis cette machine ; cherchez un pare-feu, un mandataire ou un certificat expiré.";
    KeysRefetched = "check.keys-fetched" Check Fact [kid, count]
        "The provider's keys were fetched once more because none known fitted the signature by key {kid}; it now has {count}." / "Les clés du fournisseur ont été relues car aucune connue ne convenait à la signature par la clé {kid} ; il en a {count}.";
    IdTokenAccepted = "check.id-token" Check Pass [issuer, subject, alg, kid, audience, expires_in]
        "The id_token of {subject} is valid: signed {alg} with key {kid} by {issuer}, for {audience}, for another {expires_in} s." / "L'id_token de {subject} est valide : signé {alg} avec la clé {kid} par {issuer}, pour {audience}, encore {expires_in} s.";
    IdTokenRefused = "check.id-token-refused" Check Stop [check, seen, wanted]
        "The id_token failed the check of {check}: seen {seen}, wanted {wanted}." / "L'id_token a échoué au contrôle {check} : vu {seen}, attendu {wanted}."
        => "Compare the value seen with the site file and with this host's clock; a wrong signature key can also be an attack." / "Comparez la valeur vue au fichier de site et à l'horloge ; une mauvaise clé peut aussi être une attaque.";
    FactorsInsufficient = "check.factors" Check Stop [seen, wanted]
        "The provider reports the authentication as {seen}; this site wants {wanted}." / "Le fournisseur décrit l'authentification comme {seen} ; le site exige {wanted}."
        => "Let the provider's team require a second factor for this client and report it in acr or amr." / "Demandez à l'équipe du fournisseur d'exiger un second facteur pour ce client et de l'indiquer dans acr ou amr.";
    OtherProvider = "check.other-provider" Check Stop [seen, wanted]
        "The session came by provider {seen}; this gate wants {wanted}." / "La session vient du fournisseur {seen} ; cette porte exige {wanted}."
        => "Sign in again through the gate; it will ask the right provider." / "Reconnectez-vous par la porte ; elle demandera le bon fournisseur.";
    TakenAway = "sign-out.taken-away" Session Fact [sessions, tokens, factors]
        "Taken away on every node: sessions {sessions}, tokens {tokens}, factors {factors}." / "Retirés sur chaque nœud : sessions {sessions}, jetons {tokens}, facteurs {factors}.";
    Blocked = "sign-out.blocked" Session Fact [by, why]
        "From now on the person is kept out, by {by}: {why}." / "Désormais la personne est tenue à l'écart, par {by} : {why}.";
    KeptOut = "check.kept-out" Check Stop [person, by, since, why, key]
        "{person} is kept out since {since}, by {by}: {why}." / "{person} est tenu à l'écart depuis {since}, par {by} : {why}."
        => "Whatever the rules say. To let them in again: passeur leaver {key} --lift." / "Quoi que disent les règles. Pour les laisser revenir : passeur leaver {key} --lift.";
    OtherIssuer = "check.other-issuer" Check Stop [provider, seen, wanted]
        "Who vouches for this person is {seen}; in this edition {provider} stands for {wanted}." / "La personne est attestée par {seen} ; dans cette édition, {provider} désigne {wanted}."
        => "Sign in again: people, factors and tokens belong to the issuer, not to its name in the site file. If the issuer only changed its address, publish with --move-issuer {provider}." / "Reconnectez-vous : personnes, facteurs et jetons appartiennent à l'émetteur et non à son nom dans le fichier du site. S'il n'a changé que d'adresse, publiez avec --move-issuer {provider}.";
    UserInfoAnswered = "provider.userinfo" Provider Pass [endpoint, claims, millis]
        "The userinfo endpoint answered in {millis} ms with: {claims}." / "Le point d'accès userinfo a répondu en {millis} ms avec : {claims}.";
    ReferredRead = "claims.referred" Provider Pass [claims, at, millis]
        "The provider sent {claims} by reference; they were read at {at} in {millis} ms." / "Le fournisseur a transmis {claims} par référence ; lus à {at} en {millis} ms.";
    ReferredFailed = "claims.reference-failed" Provider Notice [claims, at, how]
        "The provider sent {claims} by reference, which could not be read at {at}: {how}. Rules that ask about them grant nothing." / "Le fournisseur a transmis {claims} par référence, illisibles à {at} : {how}. Les règles qui en dépendent n'accordent rien.";
    GroupsUnnamed = "identity.groups-unnamed" Identity Notice [provider, values]
        "Provider {provider} sends groups as identifiers that nothing names: {values}. No rule by name holds of them; name them in a table under [provider.groups]." / "Le fournisseur {provider} transmet des groupes comme identifiants que rien ne nomme : {values}. Aucune règle par nom ne s'y applique ; nommez-les dans une table sous [provider.groups].";
    UserInfoFailed = "provider.userinfo-failed" Provider Notice [endpoint, how]
        "Userinfo from {endpoint} is not used: {how}." / "Les informations de {endpoint} ne sont pas utilisées : {how}.";
    UserInfoOther = "provider.userinfo-other" Provider Notice [endpoint, seen, wanted]
        "The answer of {endpoint} is about {seen}, and the person is {wanted}: nothing of it is used (OpenID Connect Core 5.3.2)." / "La réponse de {endpoint} concerne {seen}, et la personne est {wanted} : rien n'en est utilisé (OpenID Connect Core 5.3.2)."
        => "Show the provider's team both values: id_token and userinfo must name one person by the same sub for this client." / "Montrez les deux valeurs à l'équipe du fournisseur : id_token et userinfo doivent nommer la même personne par le même sub pour ce client.";
    ClaimsReleased = "provider.claims" Provider Fact [claims, acr, amr]
        "The provider released: {claims}. Authentication: acr {acr}, amr {amr}." / "Le fournisseur a transmis : {claims}. Authentification : acr {acr}, amr {amr}.";

    // ── ways in of our own
    WaysOffered = "way.offered" Provider Fact [ways]
        "The person was asked how to sign in: {ways}." / "La personne a choisi comment se connecter parmi : {ways}.";
    RouteTaken = "route.taken" Provider Fact [route, ways]
        "Route {route} decided how the person signs in: {ways}." / "La route {route} a décidé de la voie : {ways}.";
    RouteNone = "route.none" Provider Fact [ways]
        "No route fits; open are: {ways}." / "Aucune route ne convient ; sont ouvertes : {ways}.";
    RoutePassed = "route.passed" Provider Fact [route, wanted, seen]
        "Route {route} did not fit: it wants {wanted}, and there was {seen}." / "La route {route} ne convenait pas : elle veut {wanted}, et il y avait {seen}.";
    RouteNobody = "route.nobody" Provider Notice [route]
        "Nobody has the name that was typed. So that this cannot be learnt here, it was sent along {route} as if somebody had it." / "Personne n'a le nom saisi. Pour ne pas le révéler, il a suivi {route} comme si quelqu'un l'avait.";
    RouteTooMany = "route.too-many-names" Provider Notice [limit, minutes]
        "More than {limit} names were typed from there within {minutes} minutes, so none is looked up: the person was asked how to sign in." / "Plus de {limit} noms saisis depuis cet endroit en {minutes} minutes : aucun n'est cherché, la personne a choisi elle-même.";
    RouteRemembered = "route.remembered" Provider Fact [way]
        "This browser took {way} last, and takes it again." / "Ce navigateur a pris {way} la dernière fois et la reprend.";
    RouteNamed = "route.chosen" Provider Fact [way]
        "The person chose {way}." / "La personne a choisi {way}.";
    NameAsked = "route.name-asked" Provider Fact []
        "A user name was asked for, since a route hangs on it." / "Un nom d'utilisateur a été demandé, car une route en dépend.";
    RealBrowser = "way.real-browser" Provider Stop [ways]
        "The person came with the small browser that their system opens for a portal, in which {ways} does not work, and was told to open their own." / "La personne est venue avec le petit navigateur que son système ouvre pour un portail, où {ways} ne fonctionne pas ; il lui a été dit d'ouvrir le sien."
        => "If the provider's pages work there, take real-browser out of its [[provider]]." / "Si les pages du fournisseur y fonctionnent, retirez real-browser de son [[provider]].";
    WayShown = "way.shown" Provider Fact [way]
        "The person was asked by way in {way}." / "La personne a été interrogée par la voie {way}.";
    VouchAsked = "way.guest-asked" Provider Fact [name, note]
        "A guest who calls themselves {name} asked for somebody's word: {note}." / "Un visiteur qui se nomme {name} a demandé un garant : {note}.";
    VouchedFor = "way.guest-vouched" Check Pass [name, sponsor, key]
        "{sponsor} ({key}) vouched for {name}." / "{sponsor} ({key}) s'est porté garant de {name}.";
    VouchDenied = "way.guest-denied" Check Stop [sponsor]
        "{sponsor} did not vouch for the guest." / "{sponsor} ne s'est pas porté garant du visiteur."
        => "Ask {sponsor} whom they refused; another person may vouch for the guest." / "Demandez à {sponsor} qui a été refusé ; une autre personne peut se porter garante.";
    VouchOver = "way.guest-over" Check Stop [minutes]
        "Nobody vouched for the guest within {minutes} minutes, or the word was taken back." / "Personne ne s'est porté garant en {minutes} minutes, ou la parole a été reprise."
        => "The guest begins again; answer-within of the [[way]] says how long they wait." / "Le visiteur recommence ; answer-within de la [[way]] dit combien de temps il attend.";
    PasswordRight = "way.password" Check Pass [directory, dn, millis]
        "Directory {directory} accepted the password of {dn} in {millis} ms." / "L'annuaire {directory} a accepté le mot de passe de {dn} en {millis} ms.";
    PasswordNobody = "way.password-nobody" Check Stop [directory, characters, why]
        "The name typed ({characters} characters, not kept: it may be a password) belongs to nobody in directory {directory}: {why}." / "Le nom saisi ({characters} caractères, non gardé : ce peut être un mot de passe) n'est à personne dans l'annuaire {directory} : {why}."
        => "Compare the name with the directory's key and base; a password typed in the wrong field looks the same." / "Comparez le nom à la clé et à la base de l'annuaire ; un mot de passe saisi au mauvais endroit donne la même chose.";
    PasswordWrong = "way.password-wrong" Check Stop [directory, dn]
        "Directory {directory} says that the password of {dn} is wrong." / "L'annuaire {directory} dit que le mot de passe de {dn} est faux."
        => "Many of these for one account are somebody guessing, or a device with an old password." / "En nombre pour un compte : quelqu'un devine, ou un appareil garde un vieux mot de passe.";
    PasswordUnusable = "way.password-unusable" Check Stop [directory, dn, why]
        "{dn} may not sign in, says directory {directory}: {why}. The person was only told that it did not work." / "{dn} ne peut pas se connecter, dit l'annuaire {directory} : {why}. La personne a seulement su que cela n'a pas marché."
        => "Unlock, enable or renew the account, or set a new password, in the directory." / "Débloquez, activez ou prolongez le compte, ou changez le mot de passe, dans l'annuaire.";
    PasswordNoSubject = "way.password-no-subject" Check Stop [directory, dn, attribute]
        "{dn} in directory {directory} does not hold exactly one value of {attribute}, which is to be the person's key." / "{dn} dans l'annuaire {directory} n'a pas exactement une valeur de {attribute}, qui doit être la clé de la personne."
        => "Let our account read {attribute}, or name another attribute with subject = \"…\" under the way in." / "Permettez à notre compte de lire {attribute}, ou nommez un autre attribut avec subject = « … » sous la voie d'entrée.";
    PasswordNotAsked = "way.password-no-answer" Check Stop [directory, how]
        "The password could not be checked, because directory {directory} did not answer: {how}." / "Le mot de passe n'a pas pu être vérifié, car l'annuaire {directory} n'a pas répondu : {how}."
        => "Run `passeur trial directory {directory}`: it tries address, TLS, account and base one by one." / "Lancez `passeur trial directory {directory}` : adresse, TLS, compte et base sont essayés un à un.";
    TooManyTries = "way.too-many-tries" Check Stop [way, bound, limit, minutes]
        "No more tries are taken by way in {way} for now: more than {limit} in {minutes} minutes {bound}." / "La voie {way} n'accepte plus d'essai pour l'instant : plus de {limit} en {minutes} minutes {bound}."
        => "It passes by itself. Browsers that signed in to the account before have a count of their own, so nobody is locked out by others." / "Cela passe tout seul. Les navigateurs déjà connectés au compte ont leur propre compte : personne n'est bloqué par d'autres.";
    CodeMailed = "way.code-mailed" Check Fact [mail, minutes]
        "A code was mailed to {mail}; it is good for {minutes} minutes." / "Un code a été envoyé à {mail} ; il vaut {minutes} minutes.";
    CodeNotMailed = "way.code-not-mailed" Check Notice [why]
        "No code was mailed, which the person was not told: {why}." / "Aucun code n'a été envoyé, ce que la personne n'a pas su : {why}.";
    MailedCodeRight = "way.code" Check Pass [mail]
        "The code that was mailed to {mail} was right." / "Le code envoyé à {mail} était juste.";
    MailedCodeWrong = "way.code-wrong" Check Stop [why]
        "The code was not taken: {why}." / "Le code n'a pas été admis : {why}."
        => "Ask for another code; each is good once, for a short time, in the browser that asked for it." / "Demandez un autre code ; chacun vaut une fois, peu de temps, dans le navigateur qui l'a demandé.";

    TokenInUrl = "gate.token-in-address" Gate Stop []
        "A token stood in the address, where logs and histories keep it; it was not looked at." / "Un jeton figurait dans l'adresse, où journaux et historiques le gardent ; il n'a pas été examiné."
        => "Send it as `Authorization: Bearer …` (RFC 6750 2.1), and make another: this one has been seen." / "Envoyez-le par « Authorization: Bearer … » (RFC 6750 2.1), et faites-en un autre : celui-ci a été vu.";
    TokenPath = "gate.token-path" Gate Stop [paths]
        "The token is good for {paths} only." / "Le jeton ne vaut que pour {paths}.";
    AccessTokenRight = "caller.access-token" Check Pass [provider, subject, client, how, expires_in]
        "An access token of provider {provider} for {subject}, given to client {client}, is valid ({how}) for another {expires_in} s." / "Un jeton d'accès du fournisseur {provider} pour {subject}, remis au client {client}, est valide ({how}) encore {expires_in} s.";
    PersonalTokenRight = "caller.personal-token" Check Pass [name, provider, at, expires]
        "The token “{name}”, good until {expires}, was used; what provider {provider} said of its owner at {at} counts." / "Le jeton « {name} », valable jusqu'au {expires}, a servi ; ce que le fournisseur {provider} a dit de son propriétaire à {at} compte.";
    PersonalTokenMade = "caller.token-made" Session Notice [name, gates, days]
        "The person made the token “{name}” for {gates}, good for {days} days." / "La personne a fait le jeton « {name} » pour {gates}, valable {days} jours.";
    PersonalTokenRevoked = "caller.token-revoked" Session Notice [name]
        "The person revoked the token “{name}”." / "La personne a révoqué le jeton « {name} ».";
    CertificateRight = "caller.certificate" Check Pass [subject, issuer, fingerprint, until]
        "The client certificate of {subject}, issued by {issuer} ({fingerprint}), is good until {until}." / "Le certificat client de {subject}, émis par {issuer} ({fingerprint}), vaut jusqu'au {until}.";
    CallerRefused = "caller.refused" Check Stop [check, seen, wanted]
        "The token was not taken: {check}: seen {seen}, wanted {wanted}." / "Le jeton n'a pas été admis : {check} : vu {seen}, attendu {wanted}."
        => "Compare what was seen with [gate.callers]; get a new token from the provider, or make one at the quay." / "Comparez ce qui a été vu à [gate.callers] ; demandez un nouveau jeton au fournisseur, ou faites-en un au quai.";
    PasskeyRight = "way.passkey" Check Pass [name, provider, at]
        "The passkey “{name}” was right; what provider {provider} said of the person at {at} counts." / "La clé d'accès « {name} » était juste ; ce que le fournisseur {provider} a dit de la personne à {at} compte.";
    PasskeyRefused = "way.passkey-refused" Check Stop [why]
        "The passkey was not taken: {why}." / "La clé d'accès n'a pas été admise : {why}."
        => "Have the person sign in another way; at the quay they see which passkeys they have, and may enrol one anew." / "La personne doit se connecter autrement ; au quai elle voit ses clés d'accès et peut en enrôler une.";
    FactorRight = "factor.proven" Check Pass [kind, name]
        "The person proved {kind}: “{name}”." / "La personne a prouvé {kind} : « {name} ».";
    FactorWrong = "factor.wrong" Check Stop [kind, why]
        "{kind} was not proven: {why}." / "{kind} : preuve non admise : {why}."
        => "Wrong codes often mean a wrong clock on the phone. An engineer can take a lost factor away with `passeur factors`." / "Des codes faux viennent souvent d'une mauvaise horloge du téléphone. Un ingénieur peut retirer un facteur perdu avec `passeur factors`.";
    FactorAsked = "factor.outside-asked" Check Fact [server, user, answer, words]
        "The server for codes at {server} was asked about the code of {user}. It said {answer}. {words}" / "Le serveur de codes {server} a été interrogé sur le code de {user}. Réponse : {answer}. {words}";
    FactorSilent = "factor.outside-silent" Check Stop [tried]
        "No server for codes answered: {tried}." / "Aucun serveur de codes n'a répondu : {tried}."
        => "Let this host reach them by UDP, and compare the secret of [factors.outside] with theirs: an answer that proves another one is none." / "Laissez cet hôte les joindre en UDP, et comparez le secret de [factors.outside] avec le leur : une réponse prouvée par un autre n'en est pas une.";
    FactorNoSecret = "factor.outside-no-secret" Check Stop [secret]
        "The secret {secret}, which servers for codes share with us, is not stored, or weak." / "Le secret {secret}, que partagent les serveurs de codes, n'est pas enregistré, ou est faible."
        => "Make one, for both sides: openssl rand -hex 24 | passeur secret set {secret}" / "Créez-en un, pour les deux côtés : openssl rand -hex 24 | passeur secret set {secret}";
    FactorNone = "factor.none" Check Stop [wanted]
        "A factor is asked for ({wanted}), and the person has enrolled none that would do." / "Un facteur est demandé ({wanted}) et la personne n'en a enrôlé aucun qui convienne."
        => "Have them enrol one at the quay, from a network where the site allows it." / "Elle doit en enrôler un au quai, depuis un réseau où le site le permet.";
    FactorEnrolled = "factor.enrolled" Session Pass [kind, name]
        "The person enrolled {kind}: “{name}”." / "La personne a enrôlé {kind} : « {name} ».";
    FactorRemoved = "factor.removed" Session Notice [kind, name]
        "The person removed {kind}: “{name}”." / "La personne a retiré {kind} : « {name} ».";
    RecoveryMade = "factor.recovery-codes" Session Notice [count]
        "The person was given {count} new recovery codes; those before count no more." / "La personne a reçu {count} nouveaux codes de secours ; les précédents ne comptent plus.";

    // ── SAML
    MetadataFailed = "provider.metadata-failed" Provider Stop [provider, address, how]
        "The metadata of provider {provider} at {address} cannot be used: {how}." / "Les métadonnées du fournisseur {provider} à {address} sont inutilisables : {how}."
        => "Run `passeur trial provider {provider}`: it tries the address, TLS, entity id, dates and certificates one by one." / "Lancez `passeur trial provider {provider}` : adresse, TLS, identifiant d'entité, dates et certificats sont essayés un à un.";
    MetadataKept = "provider.metadata-kept" Provider Notice [provider, how, since]
        "The metadata of provider {provider} could not be read again ({how}); what was read at {since} still counts." / "Les métadonnées du fournisseur {provider} n'ont pas pu être relues ({how}) ; celles lues à {since} comptent encore.";
    MetadataRefetched = "provider.metadata-read" Provider Fact [provider, certificates]
        "The metadata of provider {provider} was read again because the signature fits no known certificate; it now names {certificates}." / "Les métadonnées du fournisseur {provider} ont été relues car la signature ne correspond à aucun certificat connu ; il en nomme {certificates}.";
    RequestUnsigned = "provider.request-unsigned" Provider Stop [provider]
        "Provider {provider} wants signed requests, and there is no usable key to sign with." / "Le fournisseur {provider} exige des requêtes signées, et aucune clé utilisable ne permet de signer."
        => "Name a key with [saml] key = \"…\" and make one with `passeur secret make-key`; then send the provider's team our metadata anew." / "Nommez une clé avec [saml] key = « … » et créez-la avec `passeur secret make-key` ; envoyez ensuite nos métadonnées à l'équipe du fournisseur.";
    AnswerTooLarge = "check.answer-too-large" Check Stop [limit]
        "The provider's answer holds more than {limit} bytes, and was not read." / "La réponse du fournisseur dépasse {limit} octets et n'a pas été lue."
        => "Have the provider's team release fewer attributes; the handover sheet lists those needed." / "Demandez à l'équipe du fournisseur de transmettre moins d'attributs ; la fiche de passation liste ceux qu'il faut.";
    AnswersFull = "check.answers-full" Check Stop [limit]
        "More than {limit} answers wait to be fetched by their browsers, so this one was not taken." / "Plus de {limit} réponses attendent leur navigateur ; celle-ci n'a pas été prise."
        => "Try again in two minutes. If it lasts, somebody is flooding this address: see the listener's counts." / "Réessayez dans deux minutes. Si cela dure, quelqu'un inonde cette adresse : voyez les compteurs.";
    FlowsFull = "check.flows-full" Check Stop [limit]
        "{limit} answers came from this network within the last minutes, and no more of them are taken for now." / "{limit} réponses sont venues de ce réseau ces dernières minutes ; aucune autre n'est prise pour l'instant."
        => "Try again in a quarter of an hour. If nobody signs in from there in such numbers, see the network's attempts under passeur crossings and stop what floods." / "Réessayez dans un quart d'heure. Si personne ne se connecte de là en si grand nombre, voyez les tentatives de ce réseau par passeur crossings et arrêtez ce qui inonde.";
    Overloaded = "check.overloaded" Check Stop []
        "So much waited to be checked, from this network or in all, that this was not checked." / "Il y avait tant à vérifier, depuis ce réseau ou au total, que ceci ne l'a pas été."
        => "Try again in a moment. If it lasts, somebody floods the sign-in host: passeur node shows the listener's counts, passeur crossings the addresses." / "Réessayez dans un instant. Si cela dure, quelqu'un inonde l'hôte de connexion : passeur node montre les compteurs, passeur crossings les adresses.";
    AnswerGone = "check.answer-gone" Check Stop []
        "The provider's answer was fetched before, or waited for more than two minutes." / "La réponse du fournisseur a déjà été lue, ou a attendu plus de deux minutes."
        => "Normal after the Back button or a reload; open the application's address again." / "Normal après le bouton Précédent ou un rechargement ; rouvrez l'adresse de l'application.";
    SamlNoAnswer = "check.saml-no-answer" Check Stop [what]
        "What came is no SAML answer: {what}." / "Ce qui est arrivé n'est pas une réponse SAML : {what}."
        => "Compare the consumer address the provider has with the handover sheet; a proxy may also have cut the form." / "Comparez l'adresse de consommation enregistrée à la fiche de passation ; un mandataire a pu couper le formulaire.";
    SamlNoRelayState = "check.saml-relay-state" Check Stop [seen]
        "The answer says that it was asked for, and does not bring back our RelayState (seen: {seen})." / "La réponse se dit sollicitée mais ne rapporte pas notre RelayState (vu : {seen})."
        => "The provider must give RelayState back as it came (SAML bindings 3.5.3). Without it the sign-in cannot be told from a stolen one." / "Le fournisseur doit rendre RelayState tel quel (SAML bindings 3.5.3). Sans lui, la connexion ne se distingue pas d'un vol.";
    SamlUnasked = "check.saml-unasked" Check Stop [provider]
        "Provider {provider} sent the person without being asked, and this gate does not take that." / "Le fournisseur {provider} a envoyé la personne sans y être invité, et cette porte ne l'admet pas."
        => "Open the application's own address. To let people begin at the provider, set unasked = true at the gate." / "Ouvrez l'adresse de l'application. Pour permettre de partir du fournisseur, mettez unasked = true à la porte.";
    SamlUnreadable = "check.saml-unreadable" Check Stop [how]
        "The answer cannot be read as SAML: {how}." / "La réponse ne peut pas se lire comme du SAML : {how}."
        => "No known provider writes this. If a proxy changes what passes, take it out; otherwise treat it as an attack." / "Aucun fournisseur n'écrit cela. Si un mandataire modifie les messages, retirez-le ; sinon, traitez-le comme une attaque.";
    SamlShape = "check.saml-shape" Check Stop [how]
        "The answer is built so that two readers could see different things: {how}." / "La réponse est construite pour que deux lecteurs voient autre chose : {how}."
        => "This is how signatures are wrapped: treat it as an attack, and tell the provider's team. No setting takes it." / "C'est ainsi qu'on enveloppe une signature : traitez-le comme une attaque et prévenez l'équipe du fournisseur. Aucun réglage ne l'admet.";
    SamlAlgorithm = "check.saml-algorithm" Check Stop [seen]
        "The answer uses {seen}, which is not accepted." / "La réponse utilise {seen}, qui n'est pas accepté."
        => "Have the provider's team choose RSA or ECDSA with SHA-256 or better, and AES-GCM with RSA-OAEP for encryption." / "Demandez à l'équipe du fournisseur RSA ou ECDSA avec SHA-256 ou mieux, et AES-GCM avec RSA-OAEP pour le chiffrement.";
    SamlSignature = "check.saml-signature" Check Stop [how, certificates]
        "The signature fits none of the provider's certificates ({certificates}): {how}." / "La signature ne correspond à aucun certificat du fournisseur ({certificates}) : {how}."
        => "If the provider changed its key, take its new metadata or certificate; compare the fingerprint by telephone. Otherwise the answer was altered." / "Si le fournisseur a changé de clé, prenez ses nouvelles métadonnées ou son certificat ; comparez l'empreinte par téléphone. Sinon la réponse a été altérée.";
    SamlNotSigned = "check.saml-not-signed" Check Stop []
        "Neither the answer nor its assertion is signed." / "Ni la réponse ni son assertion n'est signée."
        => "Have the provider's team sign the assertion, the response, or both." / "Demandez à l'équipe du fournisseur de signer l'assertion, la réponse, ou les deux.";
    SamlIssuer = "check.saml-issuer" Check Stop [seen, wanted]
        "The answer is of issuer {seen}; wanted was {wanted}." / "La réponse est de l'émetteur {seen} ; attendu : {wanted}."
        => "Compare issuer in the site file with the provider's entity id, to the letter. An answer of another provider brought here is an attack." / "Comparez issuer du fichier de site à l'identifiant d'entité du fournisseur, à la lettre. Une réponse d'un autre fournisseur est une attaque.";
    SamlDestination = "check.saml-destination" Check Stop [seen, wanted]
        "The answer was made for the address {seen}; it came to {wanted}." / "La réponse était destinée à {seen} ; elle est arrivée à {wanted}."
        => "Have the provider's team enter the consumer address of the handover sheet, to the letter." / "Demandez à l'équipe du fournisseur de saisir l'adresse de consommation de la fiche de passation, à la lettre.";
    SamlInResponseTo = "check.saml-in-response-to" Check Stop [seen, wanted]
        "The answer is to the request {seen}; this browser asked {wanted}." / "La réponse porte sur la requête {seen} ; ce navigateur a demandé {wanted}."
        => "Normal after the Back button with several tabs: open the application's address again. Otherwise an answer to somebody else was brought here." / "Normal après le bouton Précédent avec plusieurs onglets : rouvrez l'adresse de l'application. Sinon, la réponse d'un autre a été apportée ici.";
    SamlAudience = "check.saml-audience" Check Stop [seen, wanted]
        "The assertion is for {seen}; we are {wanted}." / "L'assertion est destinée à {seen} ; nous sommes {wanted}."
        => "Have the provider's team enter our entity id of the handover sheet, to the letter." / "Demandez à l'équipe du fournisseur de saisir notre identifiant d'entité de la fiche de passation, à la lettre.";
    SamlCondition = "check.saml-condition" Check Stop [seen]
        "The assertion holds the condition {seen}, which is not understood, so it may not be used (SAML core 2.5.1.1)." / "L'assertion contient la condition {seen}, inconnue ; elle ne peut pas servir (SAML core 2.5.1.1)."
        => "Have the provider's team leave that condition out for us." / "Demandez à l'équipe du fournisseur de ne pas mettre cette condition pour nous.";
    SamlSubject = "check.saml-subject" Check Stop [how, wanted]
        "The assertion does not confirm its subject to us at {wanted}: {how}." / "L'assertion ne nous confirme pas son sujet à {wanted} : {how}."
        => "A bearer confirmation with our consumer address as Recipient, our request and an end is wanted; compare the address with the handover sheet." / "Il faut une confirmation « bearer » avec notre adresse de consommation, notre requête et une fin ; comparez l'adresse à la fiche de passation.";
    SamlNotYet = "check.saml-not-yet" Check Stop [from, now]
        "The assertion is good from {from} on only; here it is {now}." / "L'assertion n'est valable qu'à partir de {from} ; il est ici {now}."
        => "Compare both clocks; set them by NTP. skew in the site file tolerates up to five minutes." / "Comparez les deux horloges ; réglez-les par NTP. skew dans le fichier de site tolère jusqu'à cinq minutes.";
    SamlTooLate = "check.saml-too-late" Check Stop [until, now]
        "The assertion was good until {until}; here it is {now}." / "L'assertion valait jusqu'à {until} ; il est ici {now}."
        => "Compare both clocks; otherwise the answer was kept back and brought later." / "Comparez les deux horloges ; sinon la réponse a été retenue puis apportée plus tard.";
    SamlNotAuthenticated = "check.saml-authentication" Check Stop []
        "The assertion does not say that anybody proved who they are." / "L'assertion ne dit pas que quelqu'un a prouvé son identité."
        => "Have the provider's team send an AuthnStatement; an assertion of attributes alone is no sign-in." / "Demandez à l'équipe du fournisseur d'envoyer un AuthnStatement ; des attributs seuls ne valent pas connexion.";
    SamlNotEncrypted = "check.saml-not-encrypted" Check Stop []
        "The assertion came in clear, and the site file wants it encrypted." / "L'assertion est arrivée en clair, et le fichier de site l'exige chiffrée."
        => "Have the provider's team encrypt for the certificate in our metadata, or take require-encrypted away." / "Demandez à l'équipe du fournisseur de chiffrer pour le certificat de nos métadonnées, ou retirez require-encrypted.";
    SamlNotOpened = "check.saml-not-opened" Check Stop []
        "What is encrypted in the answer cannot be opened with our key." / "Ce qui est chiffré dans la réponse ne s'ouvre pas avec notre clé."
        => "The provider probably encrypts for an old certificate of ours: send it our metadata anew. While a key changes, keep both versions (`passeur secret`)." / "Le fournisseur chiffre sans doute pour un ancien certificat : renvoyez-lui nos métadonnées. Pendant un changement de clé, gardez les deux versions (`passeur secret`).";
    SamlNoSubject = "check.saml-no-subject" Check Stop [attribute, seen]
        "The person's key is the attribute {attribute}, and the assertion holds {seen} of it." / "La clé de la personne est l'attribut {attribute}, et l'assertion en contient : {seen}."
        => "Have the provider's team release exactly one value of it, or change subject in the site file." / "Demandez à l'équipe du fournisseur d'en transmettre exactement une valeur, ou changez subject dans le fichier de site.";
    SamlNoName = "check.saml-no-name" Check Stop [seen]
        "The assertion holds no NameID that tells the person from others for good: {seen}." / "L'assertion ne contient aucun NameID qui distingue durablement la personne : {seen}."
        => "Have the provider's team send a persistent NameID, or name the attribute that is the person's key: subject in the provider's part of the site file." / "Demandez à l'équipe du fournisseur un NameID persistant, ou nommez l'attribut qui identifie la personne : subject dans la partie du fournisseur.";
    SamlReplayed = "check.saml-replayed" Check Stop [id]
        "The assertion {id} was used before." / "L'assertion {id} a déjà servi."
        => "Somebody kept a copy of the answer: see who signed in with it before, and treat it as an attack." / "Quelqu'un a gardé une copie de la réponse : voyez qui l'a utilisée avant, et traitez-le comme une attaque.";
    AssertionAccepted = "check.assertion" Check Pass [issuer, subject, signed, certificate, audience, expires_in]
        "The assertion about {subject} is valid: {signed}, by the certificate {certificate} of {issuer}, for {audience}, for another {expires_in} s." / "L'assertion sur {subject} est valide : {signed}, par le certificat {certificate} de {issuer}, pour {audience}, encore {expires_in} s.";
    AttributesReleased = "provider.attributes" Provider Fact [attributes, format, context, at]
        "The assertion holds: {attributes}. NameID {format}. Authentication: {context}, at {at}." / "L'assertion contient : {attributes}. NameID {format}. Authentification : {context}, à {at}.";
    ProviderSignedOut = "session.provider-signed-out" Session Fact [provider, sessions]
        "Provider {provider} signed the person out: {sessions} sessions ended here." / "Le fournisseur {provider} a déconnecté la personne : {sessions} sessions terminées ici.";
    NotAfresh = "check.not-afresh" Check Stop [provider, seen, sent, behind]
        "A proof of after {sent} was wanted of provider {provider}, and the one that came is of {seen}." / "Une preuve postérieure à {sent} était attendue du fournisseur {provider} ; celle reçue date de {seen}."
        => "An older proof is not enough here (after signing out, on shared machines, for factors and tokens): the provider must heed prompt=login and max_age (OpenID Connect), or ForceAuthn (SAML), and say when the person proved it. Its clock is {behind} s behind ours: set the clocks where that is not 0." / "Après une déconnexion et sur les postes partagés, la dernière preuve ne suffit pas : le fournisseur doit suivre prompt=login et max_age, ou ForceAuthn, et dire quand. Son horloge retarde de {behind} s sur la nôtre : réglez les horloges si ce n'est pas 0.";
    SharedNetwork = "sign-in.shared-network" Gate Fact [network]
        "The machine is on the shared network {network}: the person is asked to prove anew who they are, and nothing is remembered." / "Le poste est sur le réseau partagé {network} : l'identité est prouvée à nouveau et rien n'est retenu.";
    SignOutRefused = "check.sign-out-refused" Check Stop [provider, how]
        "A message to sign somebody out, said to be of provider {provider}, was not believed: {how}." / "Un message de déconnexion, présenté comme du fournisseur {provider}, n'a pas été cru : {how}."
        => "Messages to sign out must be signed by the provider, for our address, fresh and used once. Many of these at once can be an attack." / "Ces messages doivent être signés par le fournisseur, pour notre adresse, récents et utilisés une fois. En nombre, ce peut être une attaque.";

    // ── directory
    DirectoryChosen = "directory.chosen" Directory Fact [directory, of, attribute, why]
        "Of the gate's directories ({of}), {directory} is asked, for what {attribute} ends with: {why}." / "Parmi les annuaires de la porte ({of}), {directory} est interrogé, d'après la fin de {attribute} : {why}.";
    DirectoryFailedOver = "directory.failed-over" Directory Notice [directory, server, detail]
        "Server {server} of directory {directory} did not answer ({detail}); another was asked." / "Le serveur {server} de l'annuaire {directory} n'a pas répondu ({detail}) ; un autre a été interrogé.";
    DirectoryAnswered = "directory.answered" Directory Pass [directory, key, value, dn, millis, cached]
        "Directory {directory} holds one entry with {key} = {value}: {dn} ({cached}, {millis} ms)." / "L'annuaire {directory} contient une fiche avec {key} = {value} : {dn} ({cached}, {millis} ms).";
    DirectoryGroups = "directory.groups" Directory Fact [count, groups]
        "It lists {count} groups, nested ones included: {groups}." / "Il indique {count} groupes, y compris imbriqués : {groups}.";
    DirectoryDisabled = "directory.disabled" Directory Stop [directory, dn, why]
        "Directory {directory} says the account {dn} may not be used: {why}." / "L'annuaire {directory} indique que le compte {dn} ne peut pas servir : {why}."
        => "If the person should have access, the directory team must enable the account; the provider's yes does not count alone." / "Si la personne doit avoir accès, l'équipe de l'annuaire doit activer le compte ; l'accord du fournisseur ne suffit pas.";
    DirectoryDisabledAllowed = "directory.disabled-allowed" Directory Notice [directory, dn, why]
        "Directory {directory} says the account {dn} may not be used ({why}); this gate goes on all the same." / "L'annuaire {directory} indique que le compte {dn} ne peut pas servir ({why}) ; la porte continue malgré tout.";
    DirectoryNoEntry = "directory.no-entry" Directory Stop [directory, key, value, base]
        "Directory {directory} has no entry with {key} = {value}." / "L'annuaire {directory} n'a aucune fiche avec {key} = {value}."
        => "Check with `passeur person {value} --directory {directory}`; then the entry is missing, or key and claim do not belong together." / "Vérifiez avec `passeur person {value} --directory {directory}` ; la fiche manque, ou clé et attribut ne vont pas ensemble.";
    DirectorySeveral = "directory.several" Directory Stop [directory, key, value, dns]
        "Directory {directory} has several entries with {key} = {value}: {dns}." / "L'annuaire {directory} a plusieurs fiches avec {key} = {value} : {dns}."
        => "Choose a key that is unique, or narrow the base or the filter." / "Choisissez une clé unique, ou restreignez la base ou le filtre.";
    DirectoryBindRefused = "directory.bind-refused" Directory Stop [directory, account, detail, key, value]
        "Directory {directory} refused our own account {account}, so that {key} = {value} was not looked for: {detail}." / "L'annuaire {directory} a refusé notre propre compte {account}, si bien que {key} = {value} n'a pas été cherché : {detail}."
        => "Set the account's password anew with `passeur secret set`, or have the account unlocked." / "Redéfinissez le mot de passe avec `passeur secret set`, ou faites déverrouiller le compte.";
    DirectoryDead = "directory.dead" Directory Stop [directory, url, detail, key, value]
        "Directory {directory} did not answer at {url} when {key} = {value} was looked for: {detail}." / "L'annuaire {directory} n'a pas répondu à {url} quand {key} = {value} était cherché : {detail}."
        => "Run `passeur trial directory {directory}` from this host." / "Lancez `passeur trial directory {directory}` depuis cette machine.";
    DirectoryUnusable = "directory.unusable-answer" Directory Stop [directory, key, value, base, detail]
        "Directory {directory} answered the search for {key} = {value} under {base} with what cannot be used: {detail}." / "L'annuaire {directory} a répondu à la recherche {key} = {value} sous {base} par ce qui est inutilisable : {detail}."
        => "With noSuchObject the base {base}, or that of its groups, is not there or our account may not see it: `passeur trial directory {directory}` says which. Write it as the directory names it, and publish." / "Avec noSuchObject, la base {base} ou celle de ses groupes n'existe pas ou notre compte ne peut la voir : `passeur trial directory {directory}` dit laquelle. Écrivez-la comme l'annuaire, et publiez.";
    DirectoryNoKey = "directory.no-key" Directory Stop [directory, attribute, absence]
        "Directory {directory} was not asked: {attribute}, which feeds it, gives nothing to look for, because {absence}." / "L'annuaire {directory} n'a pas été interrogé : {attribute}, qui l'alimente, ne donne rien à chercher, car {absence}."
        => "Let the provider's team release the claim; the handover sheet names it. Where it is released, see by what suffixes directories are chosen." / "Demandez à l'équipe du fournisseur de transmettre cet attribut ; la fiche de passation le nomme. S'il est transmis, voyez par quels suffixes les annuaires sont choisis.";
    DirectoryWentOn = "directory.went-on" Directory Notice [directory, state, key, value]
        "Directory {directory} gave nothing for {key} = {value} ({state}); this gate goes on without it." / "L'annuaire {directory} n'a rien donné pour {key} = {value} ({state}) ; la porte continue sans lui.";

    // ── identity and rules
    AttributePresent = "identity.attribute" Identity Fact [attribute, values, origin]
        "{attribute} is {values}, from {origin}." / "{attribute} vaut {values}, depuis {origin}.";
    AttributeAbsent = "identity.attribute-absent" Identity Notice [attribute, absence, origin]
        "{attribute} is absent: {absence} ({origin})." / "{attribute} est absent : {absence} ({origin}).";
    RuleMatched = "rules.matched" Rules Pass [rule, gives, saw]
        "Rule “{rule}” applies and gives {gives}. Seen: {saw}." / "La règle « {rule} » s'applique et donne {gives}. Vu : {saw}.";
    RuleNotMatched = "rules.not-matched" Rules Fact [rule, wanted, saw]
        "Rule “{rule}” does not apply: it wants {wanted}. Seen: {saw}." / "La règle « {rule} » ne s'applique pas : elle exige {wanted}. Vu : {saw}.";
    RuleUncertain = "rules.uncertain" Rules Notice [rule, wanted, saw]
        "Whether refusing rule “{rule}” applies cannot be known ({wanted}); it counts as refusing. Seen: {saw}." / "On ne peut savoir si la règle de refus « {rule} » s'applique ({wanted}) ; elle vaut refus. Vu : {saw}.";
    RefusedByRule = "rules.refused" Rules Stop [rule, words, saw]
        "Rule “{rule}” refuses: {words} Seen: {saw}." / "La règle « {rule} » refuse : {words} Vu : {saw}."
        => "If the person should come in, change what the rule saw (a group, an attribute) or the rule itself." / "Si la personne doit entrer, changez ce que la règle a vu (groupe, attribut) ou la règle.";
    NothingGrants = "rules.nothing-grants" Rules Stop [gate, rules]
        "None of the {rules} rules of gate {gate} grants entry to this person." / "Aucune des {rules} règles de la porte {gate} n'admet cette personne."
        => "The steps above say what each rule wanted and saw: have the person put into one of those groups, or add a rule. A group that the directory does not have at all cannot be joined: passeur survey names such groups." / "Les étapes ci-dessus disent ce que chaque règle exigeait et a vu : faites ajouter la personne à un de ces groupes, ou ajoutez une règle. Un groupe que l'annuaire n'a pas ne peut être rejoint : passeur survey les nomme.";
    RolesFrom = "rules.roles-from" Rules Pass [rule, source, roles, other]
        "By rule {rule} {source} gives entry {roles}; no roles are: {other}." / "Par la règle {rule}, {source} donne l'entrée {roles} ; ne sont pas des rôles : {other}.";
    RolesChanged = "rules.roles-changed" Rules Notice [gate, gained, lost, why, since]
        "Roles at {gate} are others than at {since}: gained {gained}; lost {lost}. Why: {why}." / "Les rôles à {gate} ne sont plus ceux de {since} : gagnés {gained} ; perdus {lost}. Pourquoi : {why}.";
    RuleConflict = "rules.conflict" Rules Notice [rule, what, kept, dropped]
        "Rule “{rule}” gives {what} as {dropped}, and a rule before it as {kept}: the first counts." / "La règle « {rule} » donne {dropped} pour {what}, une règle avant elle {kept} : la première compte.";
    StepUpNeeded = "rules.step-up" Rules Stop [rule, wanted, saw]
        "Rule “{rule}” asks for a stronger or fresher sign-in: {wanted}. Seen: {saw}." / "La règle « {rule} » demande une connexion plus forte ou plus récente : {wanted}. Vu : {saw}."
        => "The person was asked for it where that is possible: by the provider, or by a factor of their own ([factors]). If it did not come back, the provider does not report it." / "On l'a demandé à la personne là où c'est possible : par le fournisseur ou par un facteur à elle ([factors]). S'il n'est pas revenu, le fournisseur ne l'indique pas.";
    StepUpAsked = "session.step-up" Session Fact [what]
        "The person was asked for what is missing: {what}." / "On a demandé à la personne ce qui manque : {what}.";
    SectionRefused = "rules.section-refused" Rules Stop [section, wanted, saw]
        "The section {section} asks for more than entry: {wanted}. Seen: {saw}." / "La section {section} demande plus que l'entrée : {wanted}. Vu : {saw}."
        => "Put the person in that group or have the attribute set, or change the section." / "Ajoutez la personne à ce groupe, faites renseigner l'attribut, ou changez la section.";
    Granted = "rules.granted" Rules Pass [gate, rules, roles]
        "Entry to gate {gate} is granted by {rules}, {roles}." / "L'entrée à la porte {gate} est accordée par {rules}, {roles}.";

    // ── delivery
    HeaderDelivered = "delivery.header" Delivery Fact [header, value, origin]
        "{header}: {value} (from {origin})" / "{header} : {value} (depuis {origin})";
    HeaderOmitted = "delivery.header-omitted" Delivery Notice [header, reason]
        "{header} is not sent: {reason}." / "{header} n'est pas envoyé : {reason}.";
    HeaderRefused = "delivery.header-required" Delivery Stop [header, reason]
        "{header} has no usable value and the delivery says to refuse then: {reason}." / "{header} n'a pas de valeur utilisable et la remise exige alors un refus : {reason}."
        => "Have the value put right at its source, or set missing = \"omit\" for it." / "Faites corriger la valeur à sa source, ou mettez missing = \"omit\" pour elle.";

    AttributeCut = "delivery.attribute-cut" Delivery Notice [header, most]
        "{header} was cut to {most} octets, as the delivery says." / "{header} a été coupé à {most} octets, comme le dit la remise.";
    FilterWithoutNames = "delivery.filter-names" Delivery Notice [header, names]
        "{header} leaves out what is reached by name, which a gateway cannot be told: {names}." / "{header} omet ce qui est atteint par nom, qu'une passerelle ne peut apprendre : {names}."
        => "Write the networks in the [[reach]] as well." / "Écrivez aussi les réseaux dans le [[reach]].";
    NoDelivery = "delivery.none" Delivery Fact [gate]
        "Gate {gate} has no delivery: the application is told nothing of the person." / "La porte {gate} n'a pas de remise : l'application n'apprend rien de la personne."
        => "If it is to know them, add a [[delivery]] with its headers and name it in the gate: delivery = \"NAME\"." / "Si elle doit la connaître, ajoutez une [[delivery]] avec ses en-têtes et nommez-la dans la porte : delivery = « NOM ».";
    SectionsOpen = "delivery.sections-open" Delivery Fact [sections]
        "In these sections, which are open to anybody, nothing is delivered even for people who are signed in: {sections}." / "Dans ces sections, ouvertes à tous, rien n'est remis, même pour les personnes connectées : {sections}."
        => "If the application needs the person there, take open away from the section." / "Si l'application y a besoin de la personne, retirez open de la section.";

    // ── sessions and hand-back
    SessionBegan = "session.began" Session Pass [until]
        "A session began, good until {until} at the latest." / "Une session a commencé, valable au plus tard jusqu'à {until}.";
    CodeIssued = "hand-back.code-issued" HandBack Fact [to]
        "A one-time code sent the browser back to {to}." / "Un code à usage unique a renvoyé le navigateur à {to}.";
    CodeRefused = "hand-back.code-refused" HandBack Stop [why]
        "The one-time code was refused: {why}." / "Le code à usage unique a été refusé : {why}."
        => "Normal after the Back button; open the application's address again. Otherwise somebody copied the address." / "Normal après le bouton Précédent ; rouvrez l'adresse de l'application. Sinon quelqu'un a copié l'adresse.";
    CameThrough = "hand-back.came-through" HandBack Pass [gate, target]
        "The code was taken once, in the same browser; the gate {gate} opened and the person was sent to {target}." / "Le code a été pris une fois, dans le même navigateur ; la porte {gate} s'est ouverte vers {target}.";
    RightsReRead = "session.re-read" Session Notice [directory, gained, lost]
        "Directory {directory} was asked again. Groups gained: {gained}. Groups lost: {lost}." / "L'annuaire {directory} a été consulté de nouveau. Groupes gagnés : {gained}. Groupes perdus : {lost}.";
    RightsKept = "session.rights-kept" Session Notice [directory, how, at]
        "Directory {directory} does not answer again ({how}); what it said at {at} still counts." / "L'annuaire {directory} ne répond plus ({how}) ; ce qu'il a dit à {at} compte encore.";
    DecidedAgain = "gate.decided-again" Gate Fact [why]
        "The live session was decided anew: {why}." / "La session active a été décidée à nouveau : {why}.";
    SignedOut = "session.signed-out" Session Fact [by, who]
        "The session was ended by {by}: {who}." / "La session a été terminée par {by} : {who}.";
    SignedOutEverywhere = "session.signed-out-everywhere" Session Fact [sessions]
        "The person signed out everywhere: {sessions} further sessions ended." / "La personne s'est déconnectée partout : {sessions} autres sessions terminées.";

    PasswordHanded = "delivery.password" Delivery Fact []
        "The password that was typed goes to the application as Basic authentication; it is sealed, and gone with the session." / "Le mot de passe saisi va à l'application par authentification Basic ; il est scellé et disparaît avec la session.";
    PasswordNotHanded = "delivery.no-password" Delivery Notice [way]
        "The gate hands a password over, and none is at hand: the person came by {way}." / "La porte remet un mot de passe, et il n'y en a pas : la personne est venue par {way}.";

    // ── beyond
    UpstreamFailed = "upstream.failed" Upstream Stop [upstream, how]
        "The application at {upstream} did not take the request: {how}." / "L'application à {upstream} n'a pas pris la requête : {how}."
        => "Passeur and the sign-in are fine; see whether the application runs and listens there." / "Passeur et la connexion vont bien ; voyez si l'application tourne et écoute à cette adresse.";
    StoreFailed = "store.failed" Session Stop [how]
        "What happened could not be written down, so the attempt was refused." / "Ce qui s'est passé n'a pas pu être consigné ; la tentative a été refusée."
        => "See the service's log and whether PostgreSQL answers." / "Voyez le journal du service et si PostgreSQL répond.";
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(template: &str) -> Vec<&str> {
        template.split('{').skip(1).map(|p| p.split_once('}').expect("a closed brace").0).collect()
    }

    #[test]
    fn every_template_names_only_parameters_of_its_step_and_says_the_same_in_both_languages() {
        for code in ALL {
            let spec = code.spec();
            let mut by_lang = vec![];
            for lang in [Lang::En, Lang::Fr] {
                let mut names = named(spec.words(lang));
                names.sort();
                assert!(names.iter().all(|n| spec.params.contains(n)), "{} {lang:?}: {names:?}", spec.code);
                assert!(spec.remedy(lang).is_none_or(|r| named(r).iter().all(|n| spec.params.contains(n))), "{}", spec.code);
                by_lang.push(names);
            }
            assert_eq!(by_lang[0], by_lang[1], "{}", spec.code);
            assert_ne!(spec.words(Lang::En), spec.words(Lang::Fr), "{}", spec.code);
        }
    }

    #[test]
    fn codes_are_unique() {
        let mut codes: Vec<_> = ALL.iter().map(|c| c.spec().code).collect();
        codes.sort();
        let n = codes.len();
        codes.dedup();
        assert_eq!(codes.len(), n);
    }

    #[test]
    fn whatever_stops_a_crossing_at_a_check_the_directory_or_a_rule_has_a_remedy() {
        for code in ALL {
            let s = code.spec();
            if s.bearing == Bearing::Stop && matches!(s.stage, Stage::Check | Stage::Directory | Stage::Rules | Stage::Provider) {
                assert!(s.remedy(Lang::En).is_some(), "{}", s.code);
            }
        }
    }
}

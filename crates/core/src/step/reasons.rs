//! Words for coded reasons: why an attribute is absent, how a look-up failed, why a session was not usable.

use super::Lang;

/// Code, English, French.
pub const REASONS: &[(&str, &str, &str)] = &[
    ("not-released", "the provider did not release it", "le fournisseur ne l'a pas transmis"),
    ("not-in-entry", "the directory entry does not hold it", "la fiche de l'annuaire ne le contient pas"),
    ("look-up-failed", "the directory look-up failed", "la recherche dans l'annuaire a échoué"),
    ("not-mapped", "nothing in this edition maps to it for this gate", "rien dans cette édition ne l'alimente pour cette porte"),
    ("dropped", "a step dropped it", "une étape l'a écarté"),
    ("unsafe", "its value may not be used", "sa valeur ne peut pas être utilisée"),
    ("not-recorded", "it was not recorded then", "il n'a pas été enregistré alors"),
    ("answered", "answered", "a répondu"),
    ("disabled", "the account is disabled or expired", "le compte est désactivé ou expiré"),
    ("no-entry", "no entry", "aucune fiche"),
    ("several-entries", "several entries", "plusieurs fiches"),
    ("bind-refused", "our account was refused", "notre compte a été refusé"),
    ("dead", "no answer", "pas de réponse"),
    ("no-key", "no value to search for", "aucune valeur à chercher"),
    ("none", "no session cookie", "aucun cookie de session"),
    ("unknown", "the session is not known", "la session n'est pas connue"),
    ("duplicate", "two cookies of our name count as none", "deux cookies de notre nom comptent pour aucun"),
    ("other-gate", "the token belongs to another gate", "le jeton appartient à une autre porte"),
    ("ended", "the session was ended", "la session a été terminée"),
    ("idle-too-long", "the session was not used for too long", "la session est restée inutilisée trop longtemps"),
    ("too-old", "the session reached its greatest age", "la session a atteint son âge limite"),
    ("live", "live", "active"),
    ("person", "the person", "la personne"),
    ("engineer", "an engineer", "un ingénieur"),
    ("control-character", "it holds a control character", "elle contient un caractère de contrôle"),
    ("separator", "a member holds the separator", "un élément contient le séparateur"),
    ("not-latin-1", "it holds a character outside latin-1", "elle contient un caractère hors latin-1"),
    ("too-long", "it is too long for a header", "elle est trop longue pour un en-tête"),
    ("not-text", "it is not text", "ce n'est pas du texte"),
    ("code-unknown", "the code is unknown, was used before, or is older than a minute", "le code est inconnu, déjà utilisé ou vieux de plus d'une minute"),
    ("code-other-browser", "it was issued to another browser", "il a été remis à un autre navigateur"),
    ("code-other-gate", "it was issued for another gate", "il a été remis pour une autre porte"),
    ("connect", "nothing accepts connections there", "rien n'y accepte de connexion"),
    ("time-out", "no answer within the time limit", "pas de réponse dans le délai"),
    ("protocol", "the answer was not valid HTTP", "la réponse n'était pas du HTTP valide"),
    ("network", "another site's page", "la page d'un autre site"),
    ("empty", "no value", "aucune valeur"),
];

/// The words for a code, if it is one.
pub fn reason_text(code: &str, lang: Lang) -> Option<&'static str> {
    REASONS.iter().find(|r| r.0 == code).map(|r| match lang {
        Lang::En => r.1,
        Lang::Fr => r.2,
    })
}

//! What to do about a step, by the reason that it gives: where one code has many causes, each has a remedy of its own, which names the
//! thing to change. A reason that is not here leaves the remedy of the code ([`super::catalogue`]).

use super::{Lang, Param, Step, StepCode};

/// Which codes, the parameter that holds the reason, the reason, then what to do in English and in French. Parameters of the step may stand
/// in it.
type Remedy = (&'static [StepCode], &'static str, &'static str, &'static str, &'static str);

const ID_TOKEN: &[StepCode] = &[StepCode::IdTokenRefused];
const CALLER: &[StepCode] = &[StepCode::CallerRefused];
const HEADER: &[StepCode] = &[StepCode::HeaderOmitted, StepCode::HeaderRefused];
const FACTOR: &[StepCode] = &[StepCode::FactorWrong];
const ATTRIBUTE: &[StepCode] = &[StepCode::AttributeAbsent];

/// Where clocks differ.
const SKEW: (&str, &str) = (
    "Compare the clocks: `timedatectl` here, and the provider's with `passeur trial provider`; skew under the provider tolerates up to five minutes.",
    "Comparez les horloges : `timedatectl` ici, celle du fournisseur par `passeur trial provider` ; skew sous le fournisseur tolère jusqu'à cinq minutes.",
);

/// Where a provider gives nothing.
const RELEASE: (&str, &str) = (
    "Have the provider's team release it to our client: `passeur handover` of the provider lists each claim by name.",
    "Demandez à l'équipe du fournisseur de le transmettre à notre client : `passeur handover` du fournisseur liste chaque attribut.",
);

/// Where a directory gives nothing.
const FILL_IN: (&str, &str) = (
    "Have the directory team fill it in the person's entry and let our account read it: `passeur person` shows what the entry gives.",
    "Demandez à l'équipe de l'annuaire de le renseigner dans la fiche et d'en permettre la lecture à notre compte : `passeur person` montre ce que donne la fiche.",
);

const REMEDIES: &[Remedy] = &[
    (
        FACTOR,
        "why",
        "code-refused",
        "Look in that server's own log for the name in the step before: it says whether it knows nobody by it, or the code. The attribute under name in [factors.outside] makes the name.",
        "Cherchez dans le journal de ce serveur le nom de l'étape précédente : il dit s'il n'y connaît personne, ou si c'est le code. L'attribut sous name de [factors.outside] fait ce nom.",
    ),
    (
        FACTOR,
        "why",
        "question-over",
        "No server was asked. What a server for codes asks besides is answered within three minutes, in the same browser; have the person enter a new code.",
        "Aucun serveur n'a été interrogé. On répond dans les trois minutes, dans le même navigateur, à ce que le serveur de codes demande en plus ; faites saisir un nouveau code.",
    ),
    (
        ID_TOKEN,
        "check",
        "form",
        "The token endpoint gave something else than a signed JWT. If the provider encrypts id_tokens for this client, have its team switch that off.",
        "Le point d'accès aux jetons a donné autre chose qu'un JWT signé. Si le fournisseur chiffre les id_tokens pour ce client, faites-le désactiver.",
    ),
    (
        ID_TOKEN,
        "check",
        "crit",
        "Have the provider's team leave critical header extensions out of id_tokens for this client.",
        "Demandez à l'équipe du fournisseur de ne pas mettre d'extension critique dans les id_tokens de ce client.",
    ),
    (
        ID_TOKEN,
        "check",
        "algorithm",
        "Have the provider's team sign id_tokens for this client with one of the algorithms wanted ({wanted}).",
        "Demandez à l'équipe du fournisseur de signer les id_tokens de ce client par un des algorithmes attendus ({wanted}).",
    ),
    (
        ID_TOKEN,
        "check",
        "issuer",
        "If {seen} is this provider, write it to the letter as issuer in the site file; otherwise another provider's token came here, which is an attack or a mix-up.",
        "Si {seen} est bien ce fournisseur, écrivez-le à la lettre comme issuer dans le fichier de site ; sinon un jeton d'un autre fournisseur est arrivé ici.",
    ),
    (
        ID_TOKEN,
        "check",
        "key",
        "The key that signed is not among those at the provider's jwks_uri, which were fetched once more. Have its team publish it there; `passeur provider refresh` fetches them again.",
        "La clé qui a signé n'est pas parmi celles du jwks_uri du fournisseur, qui ont été relues. Faites-la publier ; `passeur provider refresh` les relit.",
    ),
    (
        ID_TOKEN,
        "check",
        "signature",
        "Its key is published and does not verify it. If the provider changed the key under the same name, `passeur provider refresh` fetches it; if it did not, the token was altered on the way: treat it as an attack.",
        "Sa clé est publiée et ne la vérifie pas. Si le fournisseur a changé la clé sous le même nom, `passeur provider refresh` la relit ; sinon le jeton a été modifié : traitez-le comme une attaque.",
    ),
    (
        ID_TOKEN,
        "check",
        "audience",
        "The token is for client {seen}. Compare client under the provider in the site file ({wanted}) with the client that its team registered.",
        "Le jeton est pour le client {seen}. Comparez client sous le fournisseur dans le fichier de site ({wanted}) avec celui que son équipe a enregistré.",
    ),
    (
        ID_TOKEN,
        "check",
        "azp",
        "The token was issued to client {seen}. Compare client in the site file ({wanted}) with the client that the provider's team registered.",
        "Le jeton a été remis au client {seen}. Comparez client dans le fichier de site ({wanted}) avec celui enregistré par l'équipe du fournisseur.",
    ),
    (
        ID_TOKEN,
        "check",
        "nonce",
        "The token answers another sign-in than this one. Have the person begin again; if it happens to everybody, the provider or something before it gives out kept answers.",
        "Le jeton répond à une autre connexion. La personne doit recommencer ; si cela touche tout le monde, le fournisseur ou ce qui le précède ressert des réponses gardées.",
    ),
    (
        ID_TOKEN,
        "check",
        "expiry",
        "Compare the clocks: `timedatectl` here, and the provider's with `passeur trial provider`. If they agree, the answer was kept back on the way.",
        "Comparez les horloges : `timedatectl` ici, celle du fournisseur par `passeur trial provider`. Si elles concordent, la réponse a été retenue en chemin.",
    ),
    (ID_TOKEN, "check", "issue-time", SKEW.0, SKEW.1),
    (ID_TOKEN, "check", "not-before", SKEW.0, SKEW.1),
    (
        ID_TOKEN,
        "check",
        "times",
        "Have the provider's team send exp and iat as numbers (OpenID Connect Core 2).",
        "Demandez à l'équipe du fournisseur d'envoyer exp et iat comme des nombres (OpenID Connect Core 2).",
    ),
    (
        ID_TOKEN,
        "check",
        "sub",
        "Have the provider's team send sub as a text of 1 to 255 ASCII characters (OpenID Connect Core 2).",
        "Demandez à l'équipe du fournisseur d'envoyer sub comme un texte de 1 à 255 caractères ASCII (OpenID Connect Core 2).",
    ),
    (
        ID_TOKEN,
        "check",
        "at_hash",
        "The access token that came along is not the one that the id_token was made with: show the provider's team this crossing, or look for who stands in between.",
        "Le jeton d'accès reçu n'est pas celui de l'id_token : montrez ce passage à l'équipe du fournisseur, ou cherchez qui se tient entre les deux.",
    ),
    (
        CALLER,
        "check",
        "audience",
        "The token is for {seen}. Have the program ask the provider for one for {wanted}, or write audience under [gate.callers] as the provider calls this gate.",
        "Le jeton est pour {seen}. Le programme doit en demander un pour {wanted}, ou écrivez audience sous [gate.callers] comme le fournisseur nomme cette porte.",
    ),
    (
        CALLER,
        "check",
        "scope",
        "Have the program ask the provider for the scope {wanted}, and its team allow it to this client.",
        "Le programme doit demander la portée {wanted}, et l'équipe du fournisseur la permettre à ce client.",
    ),
    (
        CALLER,
        "check",
        "expiry",
        "The program must ask for a new token when one runs out. If it is new, compare the clocks: `timedatectl` here, and the provider's with `passeur trial provider`.",
        "Le programme doit demander un nouveau jeton à l'expiration. S'il est récent, comparez les horloges : `timedatectl` ici, celle du fournisseur par `passeur trial provider`.",
    ),
    (
        CALLER,
        "check",
        "issuer",
        "The token is of {seen}; this gate takes those of {wanted}. Have the program ask there.",
        "Le jeton vient de {seen} ; cette porte prend ceux de {wanted}. Le programme doit en demander un là.",
    ),
    (
        CALLER,
        "check",
        "key",
        "The key that signed is not among those at the provider's jwks_uri. Have its team publish it; `passeur provider refresh` fetches them again.",
        "La clé qui a signé n'est pas parmi celles du jwks_uri. Faites-la publier ; `passeur provider refresh` les relit.",
    ),
    (
        CALLER,
        "check",
        "signature",
        "The token was altered, or its key was changed under the same name: `passeur provider refresh` fetches it.",
        "Le jeton a été modifié, ou sa clé a changé sous le même nom : `passeur provider refresh` la relit.",
    ),
    (
        CALLER,
        "check",
        "typ",
        "The program sent a JWT that is no access token (RFC 9068), such as an id_token. Have it send the access token, or name introspection under [gate.callers].",
        "Le programme a envoyé un JWT qui n'est pas un jeton d'accès (RFC 9068), un id_token peut-être. Il doit envoyer le jeton d'accès, ou nommez l'introspection sous [gate.callers].",
    ),
    (
        CALLER,
        "check",
        "active",
        "The provider says that the token is not active: it ran out or was revoked there. Have the program ask for a new one.",
        "Le fournisseur dit que le jeton n'est pas actif : expiré ou révoqué. Le programme doit en demander un autre.",
    ),
    (
        CALLER,
        "check",
        "owner",
        "Its owner does not come in by themselves any more, or not with what the token was made from. Have them sign in at the gate: the crossing of that says what is wrong.",
        "Son propriétaire n'entre plus lui-même, ou plus par ce qui a servi à faire le jeton. Qu'il se connecte à la porte : ce passage dira ce qui ne va pas.",
    ),
    (HEADER, "reason", "not-released", RELEASE.0, RELEASE.1),
    (HEADER, "reason", "not-in-entry", FILL_IN.0, FILL_IN.1),
    (
        HEADER,
        "reason",
        "look-up-failed",
        "See the step of the directory above: its remedy is this one's.",
        "Voyez plus haut l'étape de l'annuaire : son remède est celui-ci.",
    ),
    (
        HEADER,
        "reason",
        "not-mapped",
        "Nothing feeds it at this gate. Name its source under attributes of the provider or directory that the gate uses, or add a [[mapping]].",
        "Rien ne l'alimente à cette porte. Nommez sa source sous attributes du fournisseur ou de l'annuaire de la porte, ou ajoutez une [[mapping]].",
    ),
    (
        HEADER,
        "reason",
        "not-given",
        "No rule that applies gives it: add it to values of a rule that lets the person in.",
        "Aucune règle applicable ne le donne : ajoutez-le à values d'une règle qui admet la personne.",
    ),
    (
        HEADER,
        "reason",
        "not-recorded",
        "It was not asked for when the person signed in. Have them sign in once more, or read their rights again: `passeur re-read`.",
        "Il n'a pas été demandé à la connexion. La personne doit se reconnecter, ou relisez ses droits : `passeur re-read`.",
    ),
    (
        HEADER,
        "reason",
        "no-secret",
        "Store the secret that it is made with: `passeur survey` names it.",
        "Enregistrez le secret qui sert à le calculer : `passeur survey` le nomme.",
    ),
    (
        HEADER,
        "reason",
        "empty",
        "The person has none: give one by a rule or at its source, or leave the header as it is.",
        "La personne n'en a aucune : donnez-en une par une règle ou à la source, ou laissez l'en-tête ainsi.",
    ),
    (
        HEADER,
        "reason",
        "several-values",
        "Write join = \",\" under {header} where the application takes a list; otherwise map the attribute to one value, by choose = \"first\".",
        "Écrivez join = « , » sous {header} si l'application accepte une liste ; sinon ramenez l'attribut à une valeur, par choose = « first ».",
    ),
    (
        HEADER,
        "reason",
        "too-many-values",
        "Deliver fewer under {header}: keep = \"…\" in a mapping leaves only the values that the gateway needs.",
        "Remettez-en moins sous {header} : keep = « … » dans une règle de correspondance ne laisse que les valeurs utiles à la passerelle.",
    ),
    (
        HEADER,
        "reason",
        "too-many-rules",
        "Join networks and ports in the [[reach]] that the rules give, take exceptions out of wide networks, or give fewer of them.",
        "Regroupez réseaux et ports des [[reach]] que donnent les règles, retirez les exceptions des grands réseaux, ou donnez-en moins.",
    ),
    (
        HEADER,
        "reason",
        "does-not-fit",
        "Have the value put right at its source, or make a fitting one of it in a mapping. A text that is too long is cut with too-long = \"cut\" under {header}.",
        "Faites corriger la valeur à la source, ou tirez-en une qui convient par une règle de correspondance. Un texte trop long est coupé avec too-long = « cut » sous {header}.",
    ),
    (
        HEADER,
        "reason",
        "separator",
        "Choose another join under {header}, or on-separator = \"escape\" where the application decodes it. If the member should not be there, have it put right at its source.",
        "Choisissez un autre join sous {header}, ou on-separator = « escape » si l'application le décode. Si l'élément est de trop, faites-le corriger à la source.",
    ),
    (
        HEADER,
        "reason",
        "unsafe",
        "Have the value put right at its source. For characters that the application cannot read plainly: encoding = \"percent\" or \"base64\" under {header}.",
        "Faites corriger la valeur à la source. Pour des caractères que l'application ne lit pas tels quels : encoding = « percent » ou « base64 » sous {header}.",
    ),
    (ATTRIBUTE, "absence", "not-released", RELEASE.0, RELEASE.1),
    (ATTRIBUTE, "absence", "not-in-entry", FILL_IN.0, FILL_IN.1),
];

/// What to do about a step for the reason that it gives.
pub(super) fn by_reason(step: &Step, lang: Lang) -> Option<&'static str> {
    let given = |name: &str| match step.params.get(name) {
        Some(Param::Reason { code, .. }) => Some(code.as_str()),
        _ => None,
    };
    REMEDIES.iter().find(|(codes, param, reason, ..)| codes.contains(&step.code) && given(param) == Some(reason)).map(|r| {
        match lang {
            Lang::En => r.3,
            Lang::Fr => r.4,
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::step;
    use crate::step::reasons::reason_text;

    #[test]
    fn every_remedy_is_of_a_reason_that_is_told_and_names_only_parameters_of_its_step() {
        let mut seen = std::collections::BTreeSet::new();
        for (codes, param, reason, en, fr) in REMEDIES {
            for code in *codes {
                assert!(seen.insert((code.spec().code, param, reason)), "{code:?} {reason}: only the first of two is ever told");
            }
            assert!(reason_text(reason, Lang::En).is_some(), "{reason}");
            for code in *codes {
                let params = code.spec().params;
                assert!(params.contains(param), "{code:?} {param}");
                for text in [en, fr] {
                    let named = text.split('{').skip(1).filter_map(|p| p.split('}').next());
                    assert!(named.into_iter().all(|n| params.contains(&n)), "{code:?} {reason}: {text}");
                }
            }
        }
    }

    #[test]
    fn no_two_checks_of_an_id_token_share_a_remedy_that_names_nothing() {
        let of = |check: &str| {
            let step = step!(IdTokenRefused { check: Param::reason(check), seen: "a", wanted: "b" });
            by_reason(&step, Lang::En).expect(check)
        };
        let all = ["signature", "nonce", "audience", "expiry", "issuer", "algorithm", "key", "sub", "form"].map(of);
        let apart: std::collections::BTreeSet<_> = all.iter().collect();
        assert_eq!(apart.len(), all.len());
    }
}

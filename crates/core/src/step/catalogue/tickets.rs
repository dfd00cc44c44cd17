//! The part of the table that tells of Kerberos. It hands on what stands before it, so that there is one table all the same.

macro_rules! with_tickets {
    ($then:ident $($before:tt)*) => { $then! { $($before)*
        // ── a ticket as a way in
        TicketAsked = "way.ticket-asked" Provider Fact [way, services]
            "By way in {way} the browser was asked for a Kerberos ticket for {services}." / "Par la voie {way}, le navigateur a été prié de montrer un ticket Kerberos pour {services}.";
        TicketNone = "way.ticket-none" Provider Notice [way]
            "The browser showed no ticket, and went on by another way than {way}." / "Le navigateur n'a montré aucun ticket et a pris une autre voie que {way}."
            => "If this machine should have one: on it, run `kvno` (MIT) or `klist get` (Windows) with the service above, and see that the sign-in host is among the addresses that its browser negotiates with." / "Si ce poste devrait en avoir un : lancez-y `kvno` (MIT) ou `klist get` (Windows) avec le service ci-dessus, et vérifiez que l'hôte de connexion est parmi les adresses avec lesquelles son navigateur négocie.";
        TicketWaits = "way.ticket-waits" Provider Notice [way, why]
            "The ticket of this machine was not taken silently by way in {way}, since {why}; the person was asked." / "Le ticket de ce poste n'a pas été pris en silence par la voie {way}, car {why} ; la personne a été interrogée.";
        TicketShared = "way.ticket-shared" Check Stop [network]
            "A ticket was shown on shared network {network}: there it says who signed in to the machine, not who sits at it, and is not taken." / "Un ticket a été montré sur le réseau partagé {network} : il y dit qui s'est connecté au poste, non qui s'y trouve, et n'est pas pris."
            => "If each person signs in to those machines by themselves, take shared = true off the network." / "Si chacun se connecte lui-même à ces postes, retirez shared = true du réseau.";
        TicketTaken = "way.ticket" Check Pass [client, service, kvno, enctype, proven, bound]
            "{client} showed a ticket for {service}, sealed with key version {kvno} ({enctype}); their KDC saw them prove who they are at {proven}. {bound}." / "{client} a montré un ticket pour {service}, scellé par la version {kvno} de la clé ({enctype}) ; son KDC l'a authentifié à {proven}. {bound}.";
        TicketNtlm = "way.ticket-ntlm" Check Stop [services]
            "The browser sent NTLM instead of a ticket: its machine belongs to no realm, reached no KDC, or was told that there is no service {services}. NTLM proves nothing to us and is never taken." / "Le navigateur a envoyé NTLM au lieu d'un ticket : son poste n'est d'aucun domaine, n'a joint aucun KDC, ou a appris qu'il n'y a pas de service {services}. NTLM ne nous prouve rien et n'est jamais pris."
            => "On that machine run `klist get` with that service: its error says which of the three it is. A missing service name is the most common: have the directory team register it." / "Sur ce poste, lancez `klist get` avec ce service : son erreur dit lequel des trois. Le nom de service manquant est le plus fréquent : faites-le enregistrer par l'équipe de l'annuaire.";
        TicketOther = "way.ticket-other" Check Stop [mechanisms]
            "The browser offered no Kerberos first, but {mechanisms}." / "Le navigateur n'a pas proposé Kerberos d'abord, mais {mechanisms}."
            => "See that the machine holds a ticket (`klist`) and that its browser may negotiate with the sign-in host." / "Vérifiez que le poste a un ticket (`klist`) et que son navigateur peut négocier avec l'hôte de connexion.";
        TicketUnreadable = "way.ticket-unreadable" Check Stop [why]
            "What came instead of a ticket cannot be read: {why}." / "Ce qui est venu au lieu d'un ticket est illisible : {why}."
            => "Where it happens to many, something on the way cuts long headers: tickets of people in many groups are long." / "Si cela touche plusieurs personnes, quelque chose en chemin coupe les longs en-têtes : les tickets des personnes de nombreux groupes sont longs.";
        TicketWrongService = "way.ticket-wrong-service" Check Stop [asked, wanted]
            "The ticket is for {asked}; tickets are taken for {wanted}." / "Le ticket est pour {asked} ; les tickets sont pris pour {wanted}."
            => "Browsers ask for the name in their address bar, or for what DNS says it is an alias of. Have people use the sign-in host's own name, or name that host under hosts of the way in and put its key into the keytab." / "Les navigateurs demandent le nom de la barre d'adresse, ou celui dont le DNS dit qu'il est l'alias. Faites utiliser le nom même de l'hôte de connexion, ou citez cet hôte dans hosts de la voie et mettez sa clé dans le keytab.";
        TicketRealm = "way.ticket-realm" Check Stop [realm, known]
            "The ticket was sealed by realm {realm}; the keytab holds keys of {known}." / "Le ticket est scellé par le domaine {realm} ; le keytab contient des clés de {known}."
            => "Name another keytab under keytabs of the way in, with a key that this realm made, or have the machine's krb5.conf map the sign-in host to the realm we have a key of." / "Citez un autre keytab dans keytabs de la voie, avec une clé de ce domaine, ou faites pointer l'hôte de connexion vers le domaine connu dans le krb5.conf du poste.";
        TicketNoKey = "way.ticket-no-key" Check Stop [wanted, has]
            "There is no key of {wanted} in the keytab; it holds {has}." / "Le keytab n'a pas de clé de {wanted} ; il contient {has}."
            => "Have the directory team add that principal to the keytab, and store it anew with `passeur secret set`." / "Faites ajouter ce principal au keytab par l'équipe de l'annuaire, et enregistrez-le de nouveau avec `passeur secret set`.";
        TicketKeyVersion = "way.ticket-key-version" Check Stop [principal, wanted, has]
            "The ticket is sealed with key version {wanted} of {principal}; the keytab holds {has}." / "Le ticket est scellé par la version {wanted} de la clé de {principal} ; le keytab contient {has}."
            => "A higher version: the key was made anew at the KDC; have it written into a keytab and store that with `passeur secret set`. A lower one: the person's machine kept an old ticket; `klist purge` or a new sign-in there ends it. Keep both versions in a keytab until old tickets have expired." / "Version supérieure : la clé a été refaite au KDC ; faites écrire un keytab et enregistrez-le avec `passeur secret set`. Version inférieure : le poste a gardé un ancien ticket ; `klist purge` ou une nouvelle connexion suffit. Gardez les deux versions jusqu'à l'expiration des anciens tickets.";
        TicketEnctype = "way.ticket-enctype" Check Stop [principal, wanted, has]
            "The ticket is sealed with {wanted}; the keytab's keys of {principal} are of {has}." / "Le ticket est scellé en {wanted} ; les clés de {principal} du keytab sont en {has}."
            => "Have the keytab written with that encryption type as well, or have the account at the KDC restricted to those that the keytab holds." / "Faites écrire le keytab avec ce chiffrement aussi, ou limitez le compte au KDC à ceux du keytab.";
        TicketKeyDiffers = "way.ticket-key-differs" Check Stop [principal, kvno]
            "Our key of {principal}, version {kvno}, does not open the ticket: it is another key of the same version, or the ticket is forged." / "Notre clé de {principal}, version {kvno}, n'ouvre pas le ticket : c'est une autre clé de même version, ou le ticket est forgé."
            => "Two accounts may hold the same service name, or the password of the account was set without writing a new keytab. Have the keytab written anew, and look for a second account with that name." / "Deux comptes portent peut-être ce nom de service, ou le mot de passe du compte a changé sans nouveau keytab. Faites réécrire le keytab et cherchez un second compte de ce nom.";
        TicketClock = "way.ticket-clock" Check Stop [seconds, side, limit]
            "The person's machine and this node differ by {seconds} s ({side}); at most {limit} s are allowed." / "Le poste et ce nœud diffèrent de {seconds} s ({side}) ; {limit} s au plus sont permises."
            => "Set both clocks by the same time server; `chronyc tracking` or `w32tm /query /status` says how far each is off." / "Réglez les deux horloges sur le même serveur de temps ; `chronyc tracking` ou `w32tm /query /status` dit l'écart de chacune.";
        TicketNotYet = "way.ticket-not-yet" Check Stop [starts]
            "The ticket is valid from {starts} only." / "Le ticket n'est valable qu'à partir de {starts}."
            => "A postdated ticket, or a KDC whose clock is ahead: compare its clock with this node's." / "Un ticket postdaté, ou un KDC dont l'horloge avance : comparez-la à celle de ce nœud.";
        TicketExpired = "way.ticket-expired" Check Stop [ended]
            "The ticket expired at {ended}." / "Le ticket a expiré à {ended}."
            => "The person's machine should fetch a new one by itself: lock and unlock it, or run `kinit`." / "Le poste devrait en obtenir un nouveau : verrouillez-le et déverrouillez-le, ou lancez `kinit`.";
        TicketBindings = "way.ticket-bindings" Check Stop []
            "The ticket is bound to another TLS channel than the one it came on." / "Le ticket est lié à un autre canal TLS que celui par lequel il est venu."
            => "Somebody between the browser and this node ends TLS: a proxy that inspects traffic, or an attacker that relays tickets. Let the sign-in host's traffic through unopened." / "Quelqu'un termine TLS entre le navigateur et ce nœud : un mandataire qui inspecte, ou un attaquant qui relaie des tickets. Laissez passer ce trafic sans l'ouvrir.";
        TicketReplayed = "way.ticket-replayed" Check Stop []
            "The very same proof was shown before." / "La même preuve exactement a déjà été montrée."
            => "A browser makes a new one each time. Look for a proxy that repeats requests; many of these are an attack." / "Un navigateur en fait une nouvelle à chaque fois. Cherchez un mandataire qui répète des requêtes ; en nombre, c'est une attaque.";
        TicketNotTaken = "way.ticket-not-taken" Check Stop [how]
            "The ticket was not taken: {how}." / "Le ticket n'a pas été pris : {how}."
            => "Compare keytab, clock and KDC with `passeur survey`; have the person's machine fetch a new ticket." / "Comparez keytab, horloge et KDC avec `passeur survey` ; faites obtenir un nouveau ticket au poste.";
        TicketNobody = "way.ticket-nobody" Check Stop [client, why]
            "The ticket is good, and {client} is nobody here: {why}." / "Le ticket est bon, et {client} n'est personne ici : {why}."
            => "If such people should come in, name their realm in a [[way.realm]] of the way in." / "Si ces personnes doivent entrer, citez leur domaine dans un [[way.realm]] de la voie.";
        TicketNotNow = "way.ticket-not-now" Check Stop [way, how]
            "No ticket can be judged by way in {way} now: {how}." / "Aucun ticket ne peut être jugé par la voie {way} pour l'instant : {how}."
            => "See that each secret that keytabs names is stored and is a keytab: `passeur secret list`, `passeur survey`." / "Vérifiez que chaque secret cité par keytabs est enregistré et est un keytab : `passeur secret list`, `passeur survey`.";

        // ── a password of a realm
        RealmPassword = "way.realm-password" Check Pass [client, service, millis]
            "The KDC gave {client} a ticket for the password that was typed, and our key of {service} opens it ({millis} ms)." / "Le KDC a donné à {client} un ticket pour le mot de passe saisi, et notre clé de {service} l'ouvre ({millis} ms).";
        RealmPasswordRefused = "way.realm-password-refused" Check Stop [why]
            "The KDC gave nothing for the name and password that were typed: {why}. The person was only told that it did not work." / "Le KDC n'a rien donné pour le nom et le mot de passe saisis : {why}. La personne a seulement su que cela n'a pas marché."
            => "A wrong name looks like a wrong password to people. An expired password or an account that is locked is put right at the KDC or the directory." / "Un nom faux ressemble à un mot de passe faux pour les gens. Un mot de passe expiré ou un compte bloqué se règle au KDC ou dans l'annuaire.";
        RealmSilent = "way.realm-silent" Check Stop [realm, how]
            "The password could not be checked, because no KDC of {realm} answered: {how}." / "Le mot de passe n'a pas pu être vérifié, car aucun KDC de {realm} n'a répondu : {how}."
            => "See what krb5.conf says of the realm, and whether its KDC answers on port 88 from this node: `KRB5_TRACE=/dev/stderr kinit` tells each step." / "Voyez ce que krb5.conf dit du domaine, et si son KDC répond sur le port 88 depuis ce nœud : `KRB5_TRACE=/dev/stderr kinit` dit chaque étape.";

        // ── a ticket for the application
        UpstreamTicket = "upstream.ticket" Upstream Pass [person, service, by, millis]
            "The application is shown a ticket of {person} for {service}, {by} ({millis} ms)." / "L'application reçoit un ticket de {person} pour {service}, {by} ({millis} ms).";
        TicketLost = "way.ticket-lost" Session Notice [person]
            "The ticket that the browser of {person} sent along was on another node, or here before a restart: it is asked to send another." / "Le ticket transmis par le navigateur de {person} était sur un autre nœud, ou ici avant un redémarrage : il est prié d'en transmettre un autre.";
        UpstreamTicketNotSent = "upstream.ticket-not-sent" Upstream Stop [service, way]
            "The application is shown the person's own ticket only, and none is here: they came by {way}, or their browser sent none along." / "L'application ne reçoit que le ticket de la personne, et il n'y en a pas : elle est venue par {way}, ou son navigateur n'en a pas transmis."
            => "Let browsers hand tickets on to the sign-in host (the list of servers for delegation in their policy), have tickets be forwardable (`kinit -f`, forwardable = true), or add \"on-behalf\" to by of the gate's ticket." / "Laissez les navigateurs transmettre les tickets à l'hôte de connexion (liste des serveurs de délégation), rendez les tickets transmissibles (`kinit -f`, forwardable = true), ou ajoutez « on-behalf » à by.";
        UpstreamTicketNoName = "upstream.ticket-no-name" Upstream Stop [attribute, why]
            "Nobody knows as whom to ask for a ticket: attribute {attribute}: {why}." / "Nul ne sait au nom de qui demander un ticket : attribut {attribute} : {why}."
            => "Name under person of the gate's ticket an attribute that holds exactly the name in the realm, without realm and slashes." / "Citez sous person un attribut qui contient exactement le nom dans le domaine, sans domaine ni barres.";
        UpstreamTicketNotAllowed = "upstream.ticket-not-allowed" Upstream Stop [account, service]
            "The KDC does not let {account} delegate to {service}." / "Le KDC ne permet pas à {account} de déléguer vers {service}."
            => "For the directory team. MIT with a directory: add `krbAllowedToDelegateTo: {service}` to the entry of {account}. Active Directory: `Set-ADUser ACCOUNT -Add (ConvertFrom-StringData 'msDS-AllowedToDelegateTo={service}')`. Proof: `kvno -U PERSON -P {service}` with that account's keytab." / "Pour l'équipe de l'annuaire. MIT avec annuaire : ajoutez `krbAllowedToDelegateTo: {service}` à la fiche de {account}. Active Directory : `Set-ADUser COMPTE -Add (ConvertFrom-StringData 'msDS-AllowedToDelegateTo={service}')`. Preuve : `kvno -U PERSONNE -P {service}` avec le keytab de ce compte.";
        UpstreamTicketAccount = "upstream.ticket-account" Upstream Stop [account]
            "{account} may not act for others: what the KDC gives it for people may not be forwarded." / "{account} ne peut pas agir pour d'autres : ce que le KDC lui donne pour les personnes n'est pas transmissible."
            => "For the directory team. MIT: `kadmin: modprinc +ok_to_auth_as_delegate +allow_forwardable {account}`. Active Directory: `Set-ADAccountControl ACCOUNT -TrustedToAuthForDelegation $true`. On this node: forwardable = true in krb5.conf." / "Pour l'équipe de l'annuaire. MIT : `kadmin: modprinc +ok_to_auth_as_delegate +allow_forwardable {account}`. Active Directory : `Set-ADAccountControl COMPTE -TrustedToAuthForDelegation $true`. Sur ce nœud : forwardable = true dans krb5.conf.";
        UpstreamTicketPerson = "upstream.ticket-person" Upstream Stop [person, account]
            "{person} may not be delegated: the KDC lets {account} act for others, and not for them." / "{person} ne peut pas être délégué : le KDC permet à {account} d'agir pour d'autres, mais pas pour cette personne."
            => "Often on purpose, for accounts of administrators: then they use the application from a workstation. Otherwise, MIT: `kadmin: modprinc +allow_forwardable {person}`; Active Directory: take the person out of Protected Users and clear \"Account is sensitive and cannot be delegated\"." / "Souvent voulu, pour les comptes d'administration : ils utilisent alors l'application depuis un poste. Sinon, MIT : `kadmin: modprinc +allow_forwardable {person}` ; Active Directory : retirez la personne de Protected Users et décochez « compte sensible, ne peut être délégué ».";
        UpstreamTicketRevoked = "upstream.ticket-revoked" Upstream Stop [person]
            "The account of {person} at the KDC is disabled, locked or expired." / "Le compte de {person} au KDC est désactivé, bloqué ou expiré."
            => "If they should still work here: MIT: `kadmin: modprinc +allow_tix {person}`, or a later end; Active Directory: enable or unlock the account. If they left, end their sessions: `passeur end`." / "Si la personne doit encore travailler : MIT : `kadmin: modprinc +allow_tix {person}`, ou une fin plus tardive ; Active Directory : réactivez ou débloquez le compte. Si elle est partie : `passeur end`.";
        UpstreamTicketNobody = "upstream.ticket-nobody" Upstream Stop [person]
            "The KDC knows nobody called {person}." / "Le KDC ne connaît personne du nom de {person}."
            => "Compare person and realm of the gate's ticket with the names of accounts at the KDC." / "Comparez person et realm du ticket de la porte aux noms des comptes du KDC.";
        UpstreamTicketNoService = "upstream.ticket-no-service" Upstream Stop [service]
            "The KDC knows no service {service}." / "Le KDC ne connaît aucun service {service}."
            => "Compare service of the gate's ticket, to the letter, with what the application's keytab holds (`klist -k`); have the directory team register it." / "Comparez service du ticket de la porte, à la lettre, au keytab de l'application (`klist -k`) ; faites-le enregistrer.";
        UpstreamTicketOwn = "upstream.ticket-own" Upstream Stop [account, how]
            "Our own account {account} cannot sign in at its KDC: {how}." / "Notre propre compte {account} ne peut pas se connecter à son KDC : {how}."
            => "Have the keytab of {account} written anew and store it under the secret that the gate's ticket names; see that the account is enabled." / "Faites réécrire le keytab de {account} et enregistrez-le sous le secret cité ; vérifiez que le compte est actif.";
        UpstreamTicketSilent = "upstream.ticket-silent" Upstream Stop [realm, how]
            "No ticket could be asked for, because no KDC of {realm} answered: {how}." / "Aucun ticket n'a pu être demandé, car aucun KDC de {realm} n'a répondu : {how}."
            => "See what krb5.conf says of the realm, and whether its KDC answers on port 88 from this node." / "Voyez ce que krb5.conf dit du domaine, et si son KDC répond sur le port 88 depuis ce nœud.";
        UpstreamTicketFailed = "upstream.ticket-failed" Upstream Stop [service, how]
            "There is no ticket for {service}: {how}." / "Il n'y a pas de ticket pour {service} : {how}."
            => "Try the same by hand, with the keytab of our account: `kinit -k`, then `kvno -U PERSON -P` and the service." / "Essayez à la main, avec le keytab de notre compte : `kinit -k`, puis `kvno -U PERSONNE -P` et le service.";
        UpstreamTicketRefused = "upstream.ticket-refused" Upstream Stop [service, person, upstream]
            "The application at {upstream} answered 401 to a ticket of {person} for {service}, twice." / "L'application de {upstream} a répondu 401 à un ticket de {person} pour {service}, deux fois."
            => "Mostly its keytab holds other keys than the KDC, or another name than {service}; or its clock is off. Its own log says which: give its team this crossing's time." / "Le plus souvent, son keytab contient d'autres clés que le KDC, ou un autre nom que {service} ; ou son horloge dévie. Son journal le dit : donnez à son équipe l'heure de ce passage.";
        UpstreamNotProven = "upstream.not-proven" Upstream Stop [service, upstream, how]
            "The application at {upstream} did not prove that it is {service}: {how}. Its answer was not handed on." / "L'application de {upstream} n'a pas prouvé qu'elle est {service} : {how}. Sa réponse n'a pas été transmise."
            => "It must answer with a Negotiate token of its own (mutual authentication, RFC 4559). If it should, something else may be answering in its place." / "Elle doit répondre par son propre jeton Negotiate (authentification mutuelle, RFC 4559). Si elle le devrait, autre chose répond peut-être à sa place.";
    } };
}

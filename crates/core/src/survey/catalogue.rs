//! The one table of survey findings: code, harm, parameters, and in each language what is wrong, how it was seen and what to
//! do. Codes are stable: never rename or reuse one. It drives the survey, the reference in `docs/survey.md` and the test that
//! every code can be provoked.

use crate::finding::catalogue;

catalogue! {
    // ── danger
    HeaderForgeable = "delivery.forgeable" Danger ["gate", "headers", "upstream", "other"]
        "Whoever comes through gate {gate} can write {headers} to {upstream}: gate {other} delivers that there, and gate {gate} does not take it away." / "Quiconque passe par la porte {gate} peut écrire {headers} vers {upstream} : la porte {other} l'y remet et {gate} ne le retire pas.",
        "Compared what all gates deliver that lead to the same application." / "Comparaison de ce que remettent toutes les portes menant à la même application.",
        "Attach the same delivery to gate {gate}, or lead it to an address of its own, and publish." / "Attachez la même remise à la porte {gate}, ou donnez-lui une adresse propre, et publiez.";
    RefusedGroupMissing = "rule.refused-group-missing" Danger ["gate", "rule", "group", "directory"]
        "Rule “{rule}” of {gate} refuses group {group}, and directory {directory} has no such group: it refuses nobody." / "La règle « {rule} » de {gate} refuse le groupe {group}, que l'annuaire {directory} n'a pas : elle ne refuse personne.",
        "Asked the directory for every group that rules name." / "Tous les groupes nommés par les règles ont été cherchés dans l'annuaire.",
        "Ask the directory team what the group is called now, and write that name in the rule." / "Demandez à l'équipe de l'annuaire le nom actuel du groupe et écrivez-le dans la règle.";
    ActsBroken = "acts.broken" Danger ["number"]
        "The record of what engineers do does not hold from act {number} on: something was changed, added or taken away." / "Le registre des actes ne tient plus à partir de l'acte {number} : il a été modifié.",
        "Walked the chain of acts with the key ring." / "La chaîne des actes a été parcourue avec le trousseau de clés.",
        "Run `passeur acts check`, compare with counts and heads in older logs and backups, and find out who could write to the database." / "Lancez `passeur acts check`, comparez aux journaux et sauvegardes, et cherchez qui pouvait écrire dans la base.";
    ExpectationBroken = "expectation.broken" Danger ["name", "what", "because"]
        "The expectation “{name}” does not hold: {what}. {because}" / "L'attente « {name} » n'est pas tenue : {what}. {because}",
        "Tried every expectation of the live edition now." / "Toutes les attentes de l'édition active ont été essayées maintenant.",
        "Change the rule that decided, or the expectation, and publish." / "Changez la règle qui a décidé, ou l'attente, et publiez.";
    TableRestored = "sluice.restored" Danger ["node", "times", "found"]
        "Somebody else changed Passeur's packet-filter table on node {node}, {times} times since its sluice began; it was put back each time." / "Quelqu'un d'autre a modifié la table de Passeur sur le nœud {node}, {times} fois depuis le début ; elle a été rétablie à chaque fois.",
        "The sluice compares its table whenever the kernel says that rules changed; the last time: {found}." / "L'écluse compare sa table à chaque changement de règles ; la dernière fois : {found}.",
        "Find what runs `nft flush ruleset` or changes table inet passeur on {node}: journalctl -u passeur-sluice has the moments." / "Cherchez ce qui lance `nft flush ruleset` ou modifie la table inet passeur sur {node} : journalctl -u passeur-sluice donne les moments.";
    ZoneBypassed = "zone.bypassed" Danger ["node", "table"]
        "On node {node}, {table} takes connections past every rule once they run: they are not counted, and a cut does not stop them." / "Sur le nœud {node}, {table} fait contourner toutes les règles aux connexions établies : elles ne sont ni comptées ni coupées.",
        "Listed the flow tables of all tables in the node's kernel." / "Lecture des tables de flux de toutes les tables du noyau du nœud.",
        "Take the guarded interface out of that flow table: `nft list flowtables` on {node} shows who made it." / "Retirez l'interface gardée de cette table de flux : `nft list flowtables` sur {node} montre qui l'a créée.";
    RadiusDisobeys = "radius.disobeys" Danger ["client", "count", "port"]
        "RADIUS client {client} did not end sessions that are over here when it was ordered to, and they may be open there: {count}." / "Le client RADIUS {client} n'a pas terminé sur ordre des sessions finies ici, peut-être encore ouvertes chez lui : {count}.",
        "Counted the orders that were refused, or that nobody answered." / "Compte des ordres refusés, ou restés sans réponse.",
        "On {client}, turn on dynamic authorization (RFC 5176) at {port} for this host, with the secret or certificates by which it asks; `passeur present list` names the sessions, and their crossings the cause." / "Sur {client}, activez l'autorisation dynamique (RFC 5176) sur {port} pour cet hôte, avec le secret ou les certificats de ses requêtes ; `passeur present list` nomme les sessions, et leurs passages la cause.";
    RadiusTakesNoOrders = "radius.takes-no-orders" Danger ["client", "count"]
        "RADIUS client {client} takes no orders to end sessions, and some that are over here may be open there: {count}." / "Le client RADIUS {client} ne prend pas d'ordres de terminer une session, et certaines, finies ici, sont peut-être ouvertes chez lui : {count}.",
        "Counted the sessions that ended here before their time at the client." / "Compte des sessions finies ici avant leur terme chez le client.",
        "End them on {client}; `passeur present list` names them. Where it can take orders (RFC 5176), set dynamic-authorization of [[radius-client]] {client} to its port; else shorten absolute in the rules of its gate." / "Terminez-les sur {client} ; `passeur present list` les nomme. S'il peut prendre des ordres (RFC 5176), mettez dynamic-authorization de [[radius-client]] {client} à son port ; sinon raccourcissez absolute dans les règles de sa porte.";
    RadiusUnknownSessions = "radius.unknown-sessions" Danger ["client", "count"]
        "RADIUS client {client} tells of sessions for which nobody was let in here: {count}." / "Le client RADIUS {client} parle de sessions pour lesquelles personne n'a été admis ici : {count}.",
        "Held the sessions that it tells of against those that were let in." / "Les sessions dont il parle ont été rapprochées de celles qui ont été admises.",
        "Look on {client} who lets these in: accounts of its own, or another server; `passeur present list --match radius` lists them." / "Voyez sur {client} qui les admet : des comptes à lui, ou un autre serveur ; `passeur present list --match radius` les liste.";
    // ── broken
    CodeServerSilent = "factor.server-silent" Broken ["server", "why", "node"]
        "The server for codes at {server} did not answer node {node} when it was asked last: {why}." / "Le serveur de codes {server} n'a pas répondu au nœud {node} la dernière fois : {why}.",
        "Noted what came of the last question to each server." / "Le résultat de la dernière question à chaque serveur a été noté.",
        "On {server}, let {node} ask by UDP, with the secret of [factors.outside], and have it send a Message-Authenticator with its answers." / "Sur {server}, laissez {node} demander en UDP, avec le secret de [factors.outside], et faites-lui envoyer un Message-Authenticator avec ses réponses.";
    DeviceAuthorityOver = "device.authority-over" Broken ["check", "authority", "until"]
        "The authority {authority} of device check {check} ran out on {until}: no device passes by its certificates." / "L'autorité {authority} du contrôle d'appareils {check} a expiré le {until} : aucun appareil ne passe par ses certificats.",
        "Read the certificates under authorities of every device check." / "Lecture des certificats sous authorities de chaque contrôle d'appareils.",
        "Paste its successor under authorities of [[device-check]] {check}, beside it while devices change over, and publish." / "Collez son successeur sous authorities de [[device-check]] {check}, à côté de lui le temps du changement, et publiez.";
    DeviceAuthoritySilent = "device.authority-silent" Broken ["check", "address", "why"]
        "Whether certificates of device check {check} were revoked cannot be asked at {address}: {why}." / "On ne peut demander à {address} si les certificats du contrôle d'appareils {check} ont été révoqués : {why}.",
        "Fetched the list as a sign-in does, and looked at what the last questions brought." / "La liste a été cherchée comme à une connexion, et les dernières réponses relues.",
        "Let this host reach {address} by http, or write the address that the authority gives now in [[device-check]] {check}; until then when-unreachable says what counts." / "Laissez cet hôte atteindre {address} par http, ou écrivez l'adresse que donne l'autorité dans [[device-check]] {check} ; d'ici là when-unreachable dit ce qui vaut.";
    RadiusSecretFails = "radius.secret-fails" Broken ["client", "count", "secret"]
        "Requests of RADIUS client {client} were not proven in the last day, and not answered: {count}." / "Des requêtes du client RADIUS {client} n'ont pas été prouvées depuis un jour, et sont restées sans réponse : {count}.",
        "Counted the crossings in which its proof was missing or wrong." / "Compte des passages où sa preuve manquait ou était fausse.",
        "Enter the secret {secret} anew on both sides: openssl rand -hex 24 | passeur secret set {secret}, and on {client}; have it send a Message-Authenticator with every request." / "Entrez à nouveau le secret {secret} des deux côtés : openssl rand -hex 24 | passeur secret set {secret}, et sur {client} ; faites-lui envoyer un Message-Authenticator avec chaque requête.";
    ProfilesExpired = "profile.expired" Broken ["gate", "count", "which"]
        "Personal profiles at gate {gate} with which people connected until the end ran out in the last 14 days, and have no successor: {count} ({which})." / "Des profils personnels de la porte {gate}, utilisés jusqu'au bout, ont expiré depuis 14 jours et n'ont pas de successeur : {count} ({which}).",
        "Compared the last day of every profile that was in use with today." / "Comparaison du dernier jour de chaque profil utilisé avec aujourd'hui.",
        "These people are refused at an entrance with profiles = \"personal\": tell them to make a new one at the gate's address, under /profile; or passeur profile make {gate} --person … --device …" / "Ces personnes sont refusées à une entrée avec profiles = \"personal\" : dites-leur d'en créer un nouveau à l'adresse de la porte, sous /profile ; ou passeur profile make {gate} --person … --device …";
    RadiusCertificateFails = "radius.certificate-fails" Broken ["client", "count"]
        "Connections of RADIUS client {client} showed no certificate of it in the last day, and were closed: {count}." / "Des connexions du client RADIUS {client} n'ont pas montré son certificat depuis un jour, et ont été fermées : {count}.",
        "Counted the crossings in which its certificate was missing, or another." / "Compte des passages où son certificat manquait ou était un autre.",
        "The newest of these crossings says which certificate came, and why it is none of [[radius-client]] {client}: paste the new one beside the old under certificates, or have {client} show the one that it had." / "Le plus récent de ces passages dit quel certificat est venu, et pourquoi il n'est pas de [[radius-client]] {client} : collez le nouveau près de l'ancien sous certificates, ou faites montrer à {client} celui d'avant.";
    RadiusClock = "radius.clock" Broken ["client", "seconds"]
        "The clock of RADIUS client {client} is {seconds} seconds ahead of ours: it will take no orders to end a session." / "L'horloge du client RADIUS {client} avance de {seconds} secondes sur la nôtre : il ne prendra aucun ordre de terminer une session.",
        "Held Event-Timestamp of what it told last against our clock." / "Event-Timestamp de sa dernière nouvelle a été rapproché de notre horloge.",
        "Have {client} keep its time by NTP, with the servers that this host uses." / "Réglez l'heure de {client} par NTP, sur les serveurs qu'utilise cet hôte.";
    OnlyGroupMissing = "rule.only-group-missing" Broken ["gate", "rule", "group", "directory"]
        "Nobody can enter {gate}: rule “{rule}” asks for group {group}, which directory {directory} does not have, and no other rule lets anybody in." / "Personne ne peut entrer à {gate} : la règle « {rule} » demande le groupe {group}, que l'annuaire {directory} n'a pas, et aucune autre règle n'admet personne.",
        "Asked the directory for every group that rules name." / "Tous les groupes nommés par les règles ont été cherchés dans l'annuaire.",
        "Ask the directory team what the group is called now, and write that name in the rule." / "Demandez à l'équipe de l'annuaire le nom actuel du groupe et écrivez-le dans la règle.";
    ProviderUnreachable = "provider.unreachable" Broken ["provider", "words"]
        "Provider {provider} does not answer: nobody can sign in through it." / "Le fournisseur {provider} ne répond pas : personne ne peut se connecter par lui.",
        "Fetched its discovery document: {words}." / "Lecture de son document de découverte : {words}.",
        "Run `passeur trial provider {provider}` on this host; check name, port, firewall and certificate authority." / "Lancez `passeur trial provider {provider}` ici ; vérifiez nom, port, pare-feu et autorité.";
    ProviderIssuer = "provider.issuer" Broken ["provider", "words"]
        "The issuer of provider {provider} is not as the site file says." / "L'émetteur du fournisseur {provider} n'est pas celui du fichier de site.",
        "Read its discovery document: {words}." / "Lecture de son document de découverte : {words}.",
        "Write the issuer exactly as the document names it, and publish." / "Écrivez l'émetteur exactement comme le document, et publiez.";
    ProviderKeys = "provider.keys" Broken ["provider", "words"]
        "Provider {provider} shows no key that its tokens could be checked with." / "Le fournisseur {provider} ne montre aucune clé utilisable.",
        "Fetched its keys: {words}." / "Lecture de ses clés : {words}.",
        "Ask the provider's team for its jwks_uri and signing keys." / "Demandez à l'équipe du fournisseur son jwks_uri et ses clés.";
    ProviderFailing = "provider.failing" Broken ["provider", "failed", "came", "because", "remedy"]
        "In the last hour {failed} answers of provider {provider} were not believed, and {came} were." / "Dans la dernière heure, {failed} réponses du fournisseur {provider} n'ont pas été crues, et {came} l'ont été.",
        "Read the crossings of the last hour; most failed so: {because}" / "Lecture des passages de la dernière heure ; le plus souvent : {because}",
        "{remedy} The crossings: passeur crossings --outcome check-failed,failed --since 1h" / "{remedy} Les passages : passeur crossings --outcome check-failed,failed --since 1h";
    ProviderClock = "provider.clock" Broken ["provider", "words"]
        "The clocks of this node and of provider {provider} differ too much: valid sign-ins look expired." / "Les horloges de ce nœud et du fournisseur {provider} diffèrent trop : des connexions valides semblent expirées.",
        "Compared the date of its answer: {words}." / "Comparaison de la date de sa réponse : {words}.",
        "Set both clocks by NTP; look at `timedatectl` here." / "Réglez les deux horloges par NTP ; voyez `timedatectl` ici.";
    ProviderClient = "provider.client" Broken ["provider", "words"]
        "Provider {provider} does not take our client id and secret." / "Le fournisseur {provider} n'accepte pas notre identifiant et notre secret.",
        "Offered it a code that nobody issued: {words}." / "Un code que personne n'a émis lui a été présenté : {words}.",
        "Compare the client id; store the secret anew with `passeur secret set`." / "Comparez l'identifiant ; enregistrez le secret avec `passeur secret set`.";
    ProviderRedirect = "provider.redirect" Broken ["provider", "words"]
        "Provider {provider} does not know our redirect address: people do not come back." / "Le fournisseur {provider} ne connaît pas notre adresse de retour : les gens ne reviennent pas.",
        "Asked it for a sign-in without anybody: {words}." / "Une connexion sans personne lui a été demandée : {words}.",
        "Have exactly the address registered that `passeur handover {provider}` lists." / "Faites enregistrer exactement l'adresse que donne `passeur handover {provider}`.";
    ProviderMetadata = "provider.metadata" Broken ["provider", "words"]
        "The SAML metadata of provider {provider} cannot be used: when what is kept of it runs out, nobody can sign in through it." / "Les métadonnées SAML du fournisseur {provider} sont inutilisables : quand celles gardées expireront, personne ne pourra se connecter par lui.",
        "Read it now: {words}." / "Lues maintenant : {words}.",
        "Ask the provider's team to publish it anew; where it is to be signed, compare the fingerprint of metadata-signed-by." / "Demandez à l'équipe du fournisseur de les republier ; si elles doivent être signées, comparez l'empreinte de metadata-signed-by.";
    ProxyField = "proxies.field" Broken ["wanted", "other", "count"]
        "Trusted proxies do not say where requests come from in {wanted}, but in {other}, which is not believed: everybody seems to come from the proxy, in rules on networks, in limits and in reports." / "Les mandataires de confiance ne disent pas l'origine des requêtes dans {wanted} mais dans {other}, qui n'est pas cru : tous semblent venir du mandataire, pour les règles de réseau, les limites et les rapports.",
        "Counted requests through trusted proxies since the edition is in use here: {count} carried {other} alone." / "Requêtes passées par les mandataires de confiance depuis que l'édition sert ici : {count} portaient {other} seul.",
        "Set proxies-write = \"{other}\" under [site] if every trusted proxy sets or appends to it, and publish." / "Mettez proxies-write = « {other} » sous [site] si chaque mandataire l'écrit ou le complète, et publiez.";
    OwnKeyUnusable = "saml.own-key" Broken ["words"]
        "Our own SAML key cannot be used: requests are not signed, and nothing that is encrypted for us is opened." / "Notre propre clé SAML est inutilisable : rien n'est signé, et rien de chiffré pour nous n'est ouvert.",
        "Opened the secret that [saml] key names: {words}." / "Ouverture du secret nommé par [saml] key : {words}.",
        "Make one with `passeur secret make-key`, and send providers our metadata anew." / "Créez-en une avec `passeur secret make-key`, et renvoyez nos métadonnées aux fournisseurs.";
    DirectoryUnreachable = "directory.unreachable" Broken ["directory", "words"]
        "No server of directory {directory} answers." / "Aucun serveur de l'annuaire {directory} ne répond.",
        "Connected to each: {words}." / "Connexion à chacun : {words}.",
        "Run `passeur trial directory {directory}` on this host; check name, port, firewall and certificate authority." / "Lancez `passeur trial directory {directory}` ici ; vérifiez nom, port, pare-feu et autorité.";
    DirectoryAccount = "directory.account" Broken ["directory", "words"]
        "Directory {directory} refuses our account: nobody's groups are known." / "L'annuaire {directory} refuse notre compte : les groupes de personne ne sont connus.",
        "Bound the account: {words}." / "Liaison du compte : {words}.",
        "Store its password anew with `passeur secret set`, or have the account unlocked." / "Enregistrez son mot de passe avec `passeur secret set`, ou faites déverrouiller le compte.";
    DirectoryBase = "directory.base" Broken ["directory", "words"]
        "A base of directory {directory} is not there, or our account may not read it." / "Une base de l'annuaire {directory} n'existe pas, ou notre compte ne peut la lire.",
        "Searched it: {words}." / "Recherche : {words}.",
        "Write the base as the directory names it, or have the account allowed to read it." / "Écrivez la base comme l'annuaire, ou faites autoriser la lecture.";
    DirectoryPerson = "directory.person" Broken ["directory", "sample", "words"]
        "{sample}, who signed in of late, is not found in directory {directory} as a gate would." / "{sample}, connecté récemment, n'est pas trouvé dans l'annuaire {directory} comme le ferait une porte.",
        "Looked them up: {words}." / "Recherche : {words}.",
        "See `passeur person --directory {directory} {sample}`; then mend key, base or filter, or the entry." / "Voyez `passeur person --directory {directory} {sample}` ; corrigez clé, base ou filtre, ou la fiche.";
    UpstreamUnreachable = "upstream.unreachable" Broken ["gate", "words"]
        "The application behind gate {gate} does not answer at any address." / "L'application derrière la porte {gate} ne répond à aucune adresse.",
        "Connected to each from this node: {words}." / "Connexion à chacune depuis ce nœud : {words}.",
        "See that it runs and listens there, and that no firewall stands between." / "Vérifiez qu'elle tourne et écoute, et qu'aucun pare-feu ne bloque.";
    UpstreamCertificate = "upstream.certificate" Broken ["gate", "address", "words"]
        "The certificate of {address}, behind gate {gate}, is not accepted." / "Le certificat de {address}, derrière la porte {gate}, n'est pas accepté.",
        "Made a TLS handshake: {words}." / "Négociation TLS : {words}.",
        "Have it renewed for that name, or name its authority under [gate.upstream-tls] ca-file." / "Faites-le renouveler pour ce nom, ou nommez son autorité sous [gate.upstream-tls] ca-file.";
    CertificateExpired = "certificate.expired" Broken ["of", "until"]
        "The certificate of {of} ran out on {until}." / "Le certificat de {of} a expiré le {until}.",
        "Read its validity (RFC 5280 4.1.2.5)." / "Lecture de sa validité (RFC 5280 4.1.2.5).",
        "Have it renewed; files of our own listener are read again by themselves." / "Faites-le renouveler ; nos propres fichiers sont relus automatiquement.";
    CertificateHost = "certificate.host" Broken ["host", "of"]
        "No certificate of the TLS listener names {host}, the address of {of}." / "Aucun certificat de l'écoute TLS ne nomme {host}, l'adresse de {of}.",
        "Compared the names of all certificates with all addresses of the edition." / "Comparaison des noms des certificats et des adresses de l'édition.",
        "Put NAME.pem and NAME.key for it into the folder of certificates." / "Placez NOM.pem et NOM.key dans le dossier des certificats.";
    SecretMissing = "secret.missing" Broken ["name", "by"]
        "The secret {name} is not stored; it is needed for {by}." / "Le secret {name} n'est pas enregistré ; {by} en a besoin.",
        "Compared the edition with the secrets that are stored." / "Comparaison de l'édition et des secrets enregistrés.",
        "Store it: passeur secret set {name}" / "Enregistrez-le : passeur secret set {name}";
    GateNoRule = "gate.no-rule" Broken ["gate"]
        "Gate {gate} has no rule, so it admits nobody." / "La porte {gate} n'a aucune règle : elle n'admet personne.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Add a [[gate.rule]] with enter = true, and publish." / "Ajoutez une [[gate.rule]] avec enter = true, et publiez.";
    GateAdmitsNobody = "gate.admits-nobody" Broken ["gate"]
        "No rule of gate {gate} that could ever apply grants entry, so it admits nobody." / "Aucune règle de la porte {gate} pouvant s'appliquer n'admet quelqu'un.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Give enter = true to a rule that applies to those who should come in, and publish." / "Donnez enter = true à une règle qui s'applique, et publiez.";
    ZoneUnguarded = "zone.unguarded" Broken ["zone", "interface", "gate"]
        "No node guards zone {zone}: whoever signs in at gate {gate} is let in, and nothing opens to them." / "Aucun nœud ne garde la zone {zone} : qui se connecte à la porte {gate} est admis, et rien ne s'ouvre.",
        "Asked every node which zones its kernel holds as this edition says." / "Chaque nœud a été interrogé sur les zones que son noyau tient comme le dit cette édition.",
        "On the node that has {interface}: start passeur-sluice with --interface {interface}, and the service with --sluice." / "Sur le nœud qui a {interface} : lancez passeur-sluice avec --interface {interface}, et le service avec --sluice.";
    TunnelServerLost = "tunnel.server-lost" Broken ["entrance", "gate", "words"]
        "No node speaks with the VPN server of entrance {entrance}: nobody comes in there by gate {gate}." / "Aucun nœud ne parle au serveur VPN de l'entrée {entrance} : personne n'y entre par la porte {gate}.",
        "Asked every node with which VPN servers it speaks: {words}." / "Chaque nœud a été interrogé sur les serveurs VPN auxquels il parle : {words}.",
        "Start the server with the lines that `passeur handover {gate} --for application` prints, and the service on its node with --tunnel {entrance}=SOCKET." / "Lancez le serveur avec les lignes qu'écrit `passeur handover {gate} --for application`, et le service sur son nœud avec --tunnel {entrance}=SOCKET.";
    TunnelHandWindow = "tunnel.hand-window" Broken ["entrance", "window", "patience"]
        "The VPN server of entrance {entrance} cuts off whoever takes longer than {window} s to sign in; the entrance gives {patience} s." / "Le serveur VPN de l'entrée {entrance} coupe qui met plus de {window} s à se connecter ; l'entrée en donne {patience}.",
        "Read what the server tells clients that wait." / "Lecture de ce que le serveur dit aux clients qui attendent.",
        "Write hand-window {patience} in its configuration and start it again, or sign-in-within = \"{window}s\" in [[entrance]] {entrance}." / "Écrivez hand-window {patience} dans sa configuration et relancez-le, ou sign-in-within = \"{window}s\" dans [[entrance]] {entrance}.";
    TunnelSocketOpen = "tunnel.socket-open" Broken ["entrance", "node", "folder", "mode"]
        "Others on {node} may reach the management socket of entrance {entrance}: whoever does lets anybody in." / "D'autres sur {node} peuvent atteindre la prise de gestion de l'entrée {entrance} : qui l'atteint fait entrer n'importe qui.",
        "Read the mode of {folder}: {mode}." / "Lecture du mode de {folder} : {mode}.",
        "On {node}: chmod 0750 {folder}, with a group of the service alone." / "Sur {node} : chmod 0750 {folder}, avec un groupe du seul service.";
    SluiceTrouble = "sluice.trouble" Broken ["node", "words"]
        "The packet filter of node {node} is not as it should be: nobody new is let through there." / "Le filtre de paquets du nœud {node} n'est pas comme il devrait : plus personne n'y passe.",
        "The node said: {words}." / "Le nœud a dit : {words}.",
        "See whether passeur-sluice runs on {node} and what it logs: systemctl status passeur-sluice." / "Voyez si passeur-sluice tourne sur {node} et ce qu'il journalise : systemctl status passeur-sluice.";
    InterfaceMissing = "zone.interface-missing" Broken ["zone", "interface", "node"]
        "Node {node} has no interface {interface}, so zone {zone} is nowhere." / "Le nœud {node} n'a pas d'interface {interface} : la zone {zone} n'est nulle part.",
        "Asked the node's kernel for the interface." / "L'interface a été demandée au noyau du nœud.",
        "Bring {interface} up on {node}, or write the interface that `ip link` shows there in [[zone]] {zone}." / "Activez {interface} sur {node}, ou écrivez dans [[zone]] {zone} l'interface que montre `ip link`.";
    ForwardingOff = "zone.forwarding-off" Broken ["node", "family", "setting"]
        "Node {node} does not forward {family}: whoever is let through reaches nothing by it." / "Le nœud {node} ne relaie pas {family} : qui passe n'atteint rien par là.",
        "Read the node's kernel setting {setting}." / "Lecture du réglage {setting} du noyau du nœud.",
        "On {node}: sysctl -w {setting}=1, and the same in /etc/sysctl.d." / "Sur {node} : sysctl -w {setting}=1, et de même dans /etc/sysctl.d.";
    ZoneWithoutAddress = "zone.without-address" Broken ["zone", "network", "node", "interface"]
        "Node {node} has no address of {network} on {interface}: machines of zone {zone} with such addresses have no router and no portal there." / "Le nœud {node} n'a pas d'adresse de {network} sur {interface} : les machines de la zone {zone} n'y ont ni routeur ni portail.",
        "Compared the networks of the zone with the addresses of the interface." / "Comparaison des réseaux de la zone et des adresses de l'interface.",
        "Give {interface} an address of {network} on {node}, or take the network out of [[zone]] {zone}." / "Donnez à {interface} une adresse de {network} sur {node}, ou retirez ce réseau de [[zone]] {zone}.";
    ZoneNamesUnseen = "zone.names-unseen" Broken ["zone", "reach", "name", "node"]
        "Reach {reach} leads to {name}, and nothing opens by that name in zone {zone}: node {node} learns such names from the questions of machines, and does not answer these." / "L'accès {reach} mène à {name}, et rien ne s'ouvre par ce nom dans la zone {zone} : le nœud {node} apprend ces noms par les questions des machines, et n'y répond pas.",
        "Compared the zone's resolver with the addresses at which the node answers questions about names." / "Comparaison du résolveur de la zone et des adresses où le nœud répond aux questions de noms.",
        "Start the service on {node} with --names-listen at the zone's resolver and --names-from, or write hosts in [[reach]] {reach} one by one." / "Lancez le service sur {node} avec --names-listen à l'adresse du résolveur de la zone et --names-from, ou écrivez les hôtes un par un dans [[reach]] {reach}.";
    ZoneProviderShut = "zone.provider-shut" Broken ["zone", "provider", "host", "why", "given"]
        "Whoever is in zone {zone} cannot sign in by {provider}: {host} is closed there before sign-in, and {why}." / "Qui se trouve dans la zone {zone} ne peut pas se connecter par {provider} : {host} y est fermé avant la connexion, et {why}.",
        "Read where the provider sends browsers, and what its certificate names; reaches that rules give afterwards: {given}." / "Lecture des adresses où le fournisseur envoie les navigateurs et de celles que nomme son certificat ; accès donnés ensuite par des règles : {given}.",
        "Run `passeur zone propose {zone}`: it prints the [[reach]] to name in before of the zone. Or leave {provider} out of the zone's ways-in." / "Lancez `passeur zone propose {zone}` : il écrit la [[reach]] à nommer dans before de la zone. Ou retirez {provider} des ways-in de la zone.";
    ReachNameDead = "reach.name-dead" Broken ["reach", "name", "words", "gates"]
        "Reach {reach} leads to {name}, which does not resolve: nothing opens by that name ({gates})." / "L'accès {reach} mène à {name}, qui ne se résout pas : rien ne s'ouvre par ce nom ({gates}).",
        "Resolved every host name of every reach on this node: {words}." / "Chaque nom d'hôte de chaque accès a été résolu ici : {words}.",
        "Mend the name in to of [[reach]] {reach}, or the resolver of this node." / "Corrigez le nom dans to de [[reach]] {reach}, ou le résolveur de ce nœud.";
    MachineOver = "machine.over" Broken ["gate", "machine", "owner", "until", "listed"]
        "The machine {machine} of {owner} is not let in at gate {gate} any more: its last day was {until}." / "La machine {machine} de {owner} n'est plus admise à la porte {gate} : son dernier jour était le {until}.",
        "Compared the last day of every machine without a person with today." / "Comparaison du dernier jour de chaque machine sans personne avec aujourd'hui.",
        "Ask {owner} whether it is still needed; write another until, or take its {listed} away, and publish." / "Demandez à {owner} si elle sert encore ; écrivez un autre until, ou retirez sa {listed}, et publiez.";
    RuleRefusesAll = "rule.refuses-all" Broken ["gate", "rule", "why"]
        "Rule “{rule}” refuses everybody at {gate}: {why}, so it can never be judged, and what cannot be judged is refused." / "La règle « {rule} » refuse tout le monde à {gate} : {why} ; elle ne peut être jugée et vaut refus.",
        "Looked at where each rule's groups and attributes come from." / "Examen de l'origine des groupes et attributs de chaque règle.",
        "Name the directory or map the attribute at {gate}, or take the rule away, and publish." / "Nommez l'annuaire ou alimentez l'attribut à {gate}, ou retirez la règle, et publiez.";
    HeaderNotMapped = "delivery.not-mapped" Broken ["gate", "header", "attribute"]
        "Gate {gate} never sends {header}: nothing there feeds the attribute {attribute}." / "La porte {gate} n'envoie jamais {header} : rien n'y alimente l'attribut {attribute}.",
        "Looked at where each delivered value comes from at each gate." / "Examen de l'origine de chaque valeur remise à chaque porte.",
        "Map {attribute} from a claim, the directory or a [[gate.mapping]], or take the header away, and publish." / "Alimentez {attribute} par un attribut, l'annuaire ou une [[gate.mapping]], ou retirez l'en-tête, et publiez.";
    NodeTrouble = "node.trouble" Broken ["node", "words"]
        "Node {node} does not use the live edition: {words}" / "Le nœud {node} n'utilise pas l'édition active : {words}",
        "Asked the node." / "Le nœud a été interrogé.",
        "Bring its binary to the version of the others, or publish an edition that it can load." / "Mettez son binaire à la version des autres, ou publiez une édition qu'il peut charger.";
    PartitionMissing = "database.partition" Broken ["day"]
        "The database has no place for crossings of {day}: from then on every sign-in is refused." / "La base n'a pas de place pour les passages du {day} : dès lors toute connexion est refusée.",
        "Looked at the tables of crossings by day." / "Examen des tables de passages par jour.",
        "See the log of the service for why they could not be made; they are made every hour." / "Voyez dans le journal pourquoi elles n'ont pu être créées ; elles le sont chaque heure.";
    KeytabUnusable = "kerberos.keytab" Broken ["secret", "words"]
        "The secret {secret} is no keytab that can be used: {words}." / "Le secret {secret} n'est pas un keytab utilisable : {words}.",
        "Read every keytab that the live edition names." / "Lecture de tous les keytabs nommés par l'édition active.",
        "Store it anew: passeur secret set {secret} --file KEYTAB. `passeur kerberos read KEYTAB` tells what is in it." / "Enregistrez-le de nouveau : passeur secret set {secret} --file KEYTAB. `passeur kerberos read KEYTAB` dit ce qu'il contient.";
    NoKeyOf = "kerberos.no-key" Broken ["service", "of"]
        "No keytab of {of} holds a key of {service}, which browsers ask a ticket for: every ticket is refused." / "Aucun keytab de {of} ne contient de clé de {service}, pour qui les navigateurs demandent un ticket : tout ticket est refusé.",
        "Compared the hosts of each way in by ticket with the keys that are stored." / "Comparaison des hôtes de chaque entrée par ticket et des clés enregistrées.",
        "Directory team: ktadd -k KEYTAB {service}. Then passeur secret set NAME --file KEYTAB; see `passeur handover --for realm`." / "Équipe de l'annuaire : ktadd -k KEYTAB {service}. Puis passeur secret set NOM --file KEYTAB ; voyez `passeur handover --for realm`.";
    NoService = "kerberos.no-service" Broken ["service", "of"]
        "The KDC knows no service {service}, which {of} needs: nobody gets a ticket for it." / "Le KDC ne connaît aucun service {service}, dont {of} a besoin : personne n'obtient de ticket pour lui.",
        "Asked it for a ticket for that service." / "Un ticket pour ce service lui a été demandé.",
        "Directory team: addprinc -randkey {service} (Active Directory: setspn -S), or mend the name in the site file." / "Équipe de l'annuaire : addprinc -randkey {service} (Active Directory : setspn -S), ou corrigez le nom dans le fichier de site.";
    KeyVersion = "kerberos.key-version" Broken ["service", "ours", "theirs"]
        "The KDC seals tickets for {service} with key version {theirs}; ours are of version {ours}: they do not open." / "Le KDC scelle les tickets pour {service} avec la clé de version {theirs} ; les nôtres sont de version {ours} : ils ne s'ouvrent pas.",
        "Asked it for a ticket for that service, and read which key seals it." / "Un ticket pour ce service lui a été demandé, et sa clé lue.",
        "Have a keytab written anew (ktadd makes another version each time), and store it: passeur secret set NAME --file KEYTAB" / "Faites écrire un nouveau keytab (ktadd crée une version à chaque fois) et enregistrez-le : passeur secret set NOM --file KEYTAB";
    KeyEnctype = "kerberos.key-enctype" Broken ["service", "ours", "theirs"]
        "The KDC seals tickets for {service} with {theirs}; our key of that version is of {ours}." / "Le KDC scelle les tickets pour {service} avec {theirs} ; notre clé de cette version est de {ours}.",
        "Asked it for a ticket for that service, and read which key seals it." / "Un ticket pour ce service lui a été demandé, et sa clé lue.",
        "Have a keytab written with every encryption type of the account, and store it." / "Faites écrire un keytab avec tous les types de chiffrement du compte, et enregistrez-le.";
    KeyDiffers = "kerberos.key-differs" Broken ["realm", "principal", "words"]
        "The KDC of {realm} does not take our key of {principal}: it was made anew there, or is another one's." / "Le KDC de {realm} refuse notre clé de {principal} : elle y a été refaite, ou c'est celle d'un autre.",
        "Signed in with it: {words}." / "Connexion avec elle : {words}.",
        "Have a keytab written anew for {principal}, and store it: passeur secret set NAME --file KEYTAB" / "Faites écrire un nouveau keytab pour {principal}, et enregistrez-le : passeur secret set NOM --file KEYTAB";
    AccountCannot = "kerberos.account" Broken ["gate", "account", "words"]
        "{account}, which gets tickets for people at gate {gate}, cannot sign in: nobody reaches the application." / "{account}, qui obtient les tickets des personnes à la porte {gate}, ne peut se connecter : personne n'atteint l'application.",
        "Signed in with its keytab: {words}." / "Connexion avec son keytab : {words}.",
        "Try kinit -k -t KEYTAB {account}; have its keytab written anew or the account unlocked, and store the keytab." / "Essayez kinit -k -t KEYTAB {account} ; faites refaire son keytab ou déverrouiller le compte, et enregistrez le keytab.";
    ActsForNobody = "kerberos.acts-for-nobody" Broken ["gate", "account"]
        "{account} may act for nobody: at gate {gate} nobody who came without a ticket reaches the application." / "{account} ne peut agir pour personne : à la porte {gate}, qui est venu sans ticket n'atteint pas l'application.",
        "Asked for a ticket as somebody (S4U2Self): what came may not be forwarded." / "Un ticket au nom de quelqu'un a été demandé (S4U2Self) : il n'est pas transférable.",
        "Directory team: modprinc +ok_to_auth_as_delegate {account} (Active Directory: Use any authentication protocol)." / "Équipe de l'annuaire : modprinc +ok_to_auth_as_delegate {account} (Active Directory : Utiliser tout protocole d'authentification).";
    NotAllowedTo = "kerberos.not-allowed" Broken ["gate", "account", "service"]
        "{account} may not act for people towards {service}: gate {gate} refuses whoever came without a ticket." / "{account} ne peut agir pour les personnes vers {service} : la porte {gate} refuse qui est venu sans ticket.",
        "Asked for a ticket for it as somebody else (S4U2Proxy)." / "Un ticket pour lui a été demandé au nom d'un autre (S4U2Proxy).",
        "Directory team: krbAllowedToDelegateTo: {service} on the entry of {account} (Active Directory: msDS-AllowedToDelegateTo)." / "Équipe de l'annuaire : krbAllowedToDelegateTo: {service} sur la fiche de {account} (Active Directory : msDS-AllowedToDelegateTo).";
    KdcSilent = "kerberos.kdc" Broken ["realm", "words"]
        "No KDC of realm {realm} answers this node." / "Aucun KDC du royaume {realm} ne répond à ce nœud.",
        "Asked it: {words}." / "Question posée : {words}.",
        "Look at [realms] of krb5.conf on this node, or at _kerberos._udp of the domain; at the KDC itself; at port 88 in between." / "Voyez [realms] dans krb5.conf sur ce nœud, ou _kerberos._udp du domaine ; le KDC lui-même ; le port 88 entre les deux.";
    KdcClock = "kerberos.clock" Broken ["realm", "seconds"]
        "The clocks of this node and of the KDC of {realm} differ by {seconds} s: no ticket is taken beyond 300." / "Les horloges de ce nœud et du KDC de {realm} diffèrent de {seconds} s : au-delà de 300 aucun ticket n'est accepté.",
        "Read the KDC's time when it was asked." / "Lecture de l'heure du KDC à sa réponse.",
        "Set both clocks by NTP; look at `timedatectl` here." / "Réglez les deux horloges par NTP ; voyez `timedatectl` ici.";
    NotOffered = "kerberos.not-offered" Broken ["gate", "address", "words"]
        "{address}, behind gate {gate}, does not offer Negotiate: it will not take the tickets it is shown." / "{address}, derrière la porte {gate}, ne propose pas Negotiate : elle n'acceptera pas les tickets présentés.",
        "Asked it for its first page with no ticket: {words}." / "Sa première page demandée sans ticket : {words}.",
        "Have the application's team switch Kerberos on there (for its own service name), or take [gate.ticket] away." / "Faites activer Kerberos par l'équipe de l'application (pour son propre nom), ou retirez [gate.ticket].";
    ConfigBroken = "kerberos.config" Broken ["at", "words"]
        "This node's krb5.conf is not read as it is meant, at {at}: {words}." / "Le krb5.conf de ce nœud n'est pas lu comme prévu, à {at} : {words}.",
        "Read it with all that it includes." / "Lu avec tout ce qu'il inclut.",
        "Mend that line; `passeur kerberos read krb5.conf` shows every setting that counts, and start the service again." / "Corrigez cette ligne ; `passeur kerberos read krb5.conf` montre ce qui compte ; puis redémarrez le service.";
    // ── soon
    DirectoryServerDown = "directory.server-down" Soon ["directory", "server", "words"]
        "Server {server} of directory {directory} does not answer; others do." / "Le serveur {server} de l'annuaire {directory} ne répond pas ; d'autres répondent.",
        "Connected to each: {words}." / "Connexion à chacun : {words}.",
        "Have it brought back: when the others fail nobody can sign in." / "Faites-le rétablir : si les autres tombent, plus personne ne se connecte.";
    UpstreamDown = "upstream.down" Soon ["gate", "address", "words"]
        "{address}, behind gate {gate}, does not answer; others do." / "{address}, derrière la porte {gate}, ne répond pas ; d'autres répondent.",
        "Connected to it from this node: {words}." / "Connexion depuis ce nœud : {words}.",
        "See that it runs and listens there." / "Vérifiez qu'elle tourne et écoute.";
    ResolverElsewhere = "zone.resolver-elsewhere" Soon ["zone", "address", "node"]
        "The resolver {address} of zone {zone} is another machine than node {node}: names open as it answers, and nobody here sees it fail." / "Le résolveur {address} de la zone {zone} est une autre machine que le nœud {node} : rien ici ne voit s'il tombe.",
        "Compared the resolvers of the zone with the node's own addresses." / "Comparaison des résolveurs de la zone et des adresses du nœud.",
        "Let a resolver answer at an address of {node} in the zone, and write that in resolver of [[zone]] {zone}." / "Faites répondre un résolveur à une adresse de {node} dans la zone, et écrivez-la dans resolver de [[zone]] {zone}.";
    OptionUnseen = "zone.option-unseen" Soon ["zone", "people", "option"]
        "{people} people came on in zone {zone}, and no machine's system asked how it stands: lease and router advertisement do not seem to say where to ask." / "{people} personnes sont venues dans la zone {zone}, et le système d'aucune machine n'a demandé où il en est : ni le bail ni l'annonce de routeur ne semblent dire où demander.",
        "Counted requests for /.passeur/captive since the node began (RFC 8908)." / "Les demandes de /.passeur/captive depuis le démarrage du nœud ont été comptées (RFC 8908).",
        "Send option 114 and 103 (RFC 8910) with {option}: in dnsmasq, dhcp-option=114,{option}." / "Envoyez les options 114 et 103 (RFC 8910) avec {option} : dans dnsmasq, dhcp-option=114,{option}.";
    RadiusTellsNothing = "radius.tells-nothing" Soon ["client"]
        "RADIUS client {client} lets people in and tells nothing of them: when they leave, and which addresses they had, is not known." / "Le client RADIUS {client} admet des gens et n'en dit rien : ni leur départ ni leurs adresses ne sont connus.",
        "Looked for accounting of its sessions." / "Recherche de comptabilité pour ses sessions.",
        "On {client}, send accounting with Start, Interim-Update and Stop to the same server, and hand Class back." / "Sur {client}, envoyez la comptabilité avec Start, Interim-Update et Stop au même serveur, et rendez Class.";
    RadiusNeverAsked = "radius.never-asked" Untidy ["client", "addresses"]
        "RADIUS client {client} never asked anything." / "Le client RADIUS {client} n'a jamais rien demandé.",
        "Looked for its requests among the crossings that are kept." / "Recherche de ses requêtes parmi les passages conservés.",
        "Where it should, see that its requests come from {addresses}, and to where passeur serve --radius-listen (over TLS, --radius-tls-listen) listens; else take [[radius-client]] {client} out." / "S'il le devait, vérifiez que ses requêtes viennent de {addresses}, et vont là où passeur serve --radius-listen (sur TLS, --radius-tls-listen) écoute ; sinon retirez [[radius-client]] {client}.";
    TunnelPoolNearFull = "tunnel.pool-near-full" Soon ["entrance", "node", "given", "places"]
        "Entrance {entrance} has given out {given} of its {places} addresses on {node}." / "L'entrée {entrance} a attribué {given} de ses {places} adresses sur {node}.",
        "Counted the addresses of clients that are connected." / "Les adresses des clients connectés ont été comptées.",
        "Write a larger IPv4 network in [[entrance]] {entrance} and as server in its VPN server's configuration." / "Écrivez un réseau IPv4 plus grand dans [[entrance]] {entrance} et comme server dans la configuration de son serveur VPN.";
    ProfilesRunOut = "profile.runs-out" Soon ["gate", "count", "which"]
        "Personal profiles at gate {gate} with which people connected of late run out within 14 days, and have no successor: {count} ({which})." / "Des profils personnels de la porte {gate}, utilisés récemment, expirent sous 14 jours et n'ont pas de successeur : {count} ({which}).",
        "Compared the last day of every profile that is in use with today." / "Comparaison du dernier jour de chaque profil utilisé avec aujourd'hui.",
        "Tell these people to make a new one at the gate's address, under /profile, on the same machine and under the same name; or passeur profile make {gate} --person … --device …" / "Dites à ces personnes d'en créer un nouveau à l'adresse de la porte, sous /profile, sur la même machine et sous le même nom ; ou passeur profile make {gate} --person … --device …";
    ZoneNearFull = "zone.near-full" Soon ["node", "present", "most"]
        "{present} machines are let through on node {node}; {most} are the most." / "{present} machines passent sur le nœud {node} ; {most} est le maximum.",
        "Counted those that the node lets through." / "Celles que le nœud laisse passer ont été comptées.",
        "Divide the zone between two nodes, or shorten absolute in the rules so that machines leave sooner." / "Partagez la zone entre deux nœuds, ou raccourcissez absolute dans les règles.";
    MachineSoonOver = "machine.soon-over" Soon ["gate", "machine", "owner", "until", "listed"]
        "The machine {machine} of {owner} is let in at gate {gate} until {until}, and not after." / "La machine {machine} de {owner} est admise à la porte {gate} jusqu'au {until}, et pas après.",
        "Compared the last day of every machine without a person with today." / "Comparaison du dernier jour de chaque machine sans personne avec aujourd'hui.",
        "Ask {owner} whether it is still needed; write another until in its {listed} in time, and publish." / "Demandez à {owner} si elle sert encore ; écrivez à temps un autre until dans sa {listed}, et publiez.";
    DeviceAuthoritySoon = "device.authority-soon" Soon ["check", "authority", "until"]
        "The authority {authority} of device check {check} runs out on {until}." / "L'autorité {authority} du contrôle d'appareils {check} expire le {until}.",
        "Read the certificates under authorities of every device check." / "Lecture des certificats sous authorities de chaque contrôle d'appareils.",
        "Ask whoever issues these certificates for the next authority, and paste it under authorities of [[device-check]] {check} beside this one." / "Demandez à qui émet ces certificats l'autorité suivante, et collez-la sous authorities de [[device-check]] {check} à côté de celle-ci.";
    CertificateSoon = "certificate.soon" Soon ["of", "until", "days"]
        "The certificate of {of} runs out on {until}, in {days} days." / "Le certificat de {of} expire le {until}, dans {days} jours.",
        "Read its validity (RFC 5280 4.1.2.5)." / "Lecture de sa validité (RFC 5280 4.1.2.5).",
        "Have it renewed now." / "Faites-le renouveler maintenant.";
    SigningSoon = "provider.signing-certificate" Soon ["provider", "fingerprint", "until"]
        "A certificate that provider {provider} signs with ran out or soon does, on {until}: its team is about to change it." / "Un certificat de signature du fournisseur {provider} a expiré ou expire bientôt, le {until} : son équipe va le changer.",
        "Read {fingerprint} of its metadata; its dates decide nothing at a sign-in." / "Lecture de {fingerprint} dans ses métadonnées ; ses dates ne décident rien à la connexion.",
        "Ask when the next one comes. Read from metadata it is taken by itself; by hand, put it beside this one in certificates." / "Demandez quand vient le suivant. Lu dans les métadonnées, il est pris de lui-même ; à la main, ajoutez-le dans certificates.";
    MetadataChanged = "provider.metadata-changed" Soon ["provider", "words"]
        "The metadata of provider {provider} changed since this node read it." / "Les métadonnées du fournisseur {provider} ont changé depuis que ce nœud les a lues.",
        "Read it again: {words}." / "Relues : {words}.",
        "It is taken within the hour. If nobody announced it, compare the fingerprint with the provider's team by telephone." / "Elles seront prises dans l'heure. Si personne ne l'a annoncé, comparez l'empreinte avec l'équipe du fournisseur par téléphone.";
    OwnCertificateSoon = "saml.own-certificate" Soon ["fingerprint", "until"]
        "The certificate of our own SAML key runs out on {until}: some providers refuse it then." / "Le certificat de notre clé SAML expire le {until} : certains fournisseurs le refuseront alors.",
        "Read {fingerprint}." / "Lecture de {fingerprint}.",
        "Make the next with `passeur secret make-key --stand-by`, send providers our metadata, then use it." / "Créez la suivante avec `passeur secret make-key --stand-by`, envoyez nos métadonnées, puis utilisez-la.";
    TokenSoon = "token.soon" Soon ["name", "until", "days"]
        "The API token {name} ends on {until}, in {days} days." / "Le jeton d'API {name} finit le {until}, dans {days} jours.",
        "Looked at every token." / "Examen de tous les jetons.",
        "Make a new one in the console, and put it where this one is used." / "Créez-en un autre dans la console et mettez-le à sa place.";
    SecretOld = "secret.old" Soon ["name", "days"]
        "The secret {name} has been in use for {days} days; many providers and directories let secrets run out after a year." / "Le secret {name} sert depuis {days} jours ; souvent ils expirent au bout d'un an.",
        "Looked at when each secret was stored." / "Examen de la date de chaque secret.",
        "Ask whether it runs out. Then `passeur secret set {name} --stand-by` while the other side changes." / "Demandez s'il expire. Puis `passeur secret set {name} --stand-by` pendant le changement.";
    NeverReleased = "attribute.never-released" Soon ["attribute", "claim", "provider", "count"]
        "Provider {provider} released {claim}, which feeds {attribute}, to none of the last {count} people." / "Le fournisseur {provider} n'a transmis {claim}, qui alimente {attribute}, pour aucune des {count} dernières personnes.",
        "Read what was received at their sign-ins." / "Lecture de ce qui a été reçu à leurs connexions.",
        "Have the claim released to our client (see `passeur handover {provider}`), or take the attribute away." / "Faites transmettre l'attribut à notre client (voir `passeur handover {provider}`), ou retirez-le.";
    NeverInEntry = "attribute.never-in-entry" Soon ["attribute", "source", "directory", "count"]
        "No entry of the last {count} people in directory {directory} holds {source}, which feeds {attribute}." / "Aucune fiche des {count} dernières personnes dans l'annuaire {directory} ne contient {source}, qui alimente {attribute}.",
        "Read what the directory answered." / "Lecture des réponses de l'annuaire.",
        "Check the attribute's name, and that our account may read it." / "Vérifiez le nom de l'attribut et que notre compte peut le lire.";
    NeverCameBack = "provider.never-came-back" Soon ["provider", "never", "sent"]
        "Of {sent} people sent to provider {provider} in the last day {never} never came back." / "Sur {sent} personnes envoyées au fournisseur {provider} en un jour, {never} ne sont jamais revenues.",
        "Counted sign-ins that were begun and not answered." / "Comptage des connexions commencées et sans réponse.",
        "Sign in once and see what the provider shows; a wrong redirect address shows only there." / "Connectez-vous et voyez ce que montre le fournisseur ; une mauvaise adresse de retour ne se voit que là.";
    NodeLost = "node.lost" Soon ["node", "at"]
        "Node {node} was last heard of at {at}." / "Le nœud {node} a été vu pour la dernière fois à {at}.",
        "Looked at when each node last wrote that it runs." / "Examen de la dernière trace de chaque nœud.",
        "See whether its host runs and reaches the database. A node that stops in order takes itself off the list." / "Voyez si sa machine tourne et atteint la base. Un nœud arrêté proprement se retire de la liste.";
    DatabaseSlow = "database.slow" Soon ["millis"]
        "The database took {millis} ms for a small question." / "La base a mis {millis} ms pour une petite question.",
        "Asked it for one row." / "Une seule ligne lui a été demandée.",
        "Look at its load and its disk, and at the network between; sign-ins wait for it." / "Regardez sa charge, son disque et le réseau ; les connexions l'attendent.";
    NotConfirmed = "edition.not-confirmed" Soon ["by"]
        "The live edition goes back by itself at {by} unless somebody confirms it." / "L'édition active sera retirée à {by} si personne ne la confirme.",
        "Looked at the live edition." / "Examen de l'édition active.",
        "Sign out, sign in to the console again, and confirm there." / "Déconnectez-vous, reconnectez-vous à la console et confirmez.";
    NobodyConfigures = "engineers.none" Soon []
        "No rule under [engineers] gives the role configure: nobody can change anything by signing in." / "Aucune règle sous [engineers] ne donne le rôle configure : personne ne peut rien changer en se connectant.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Add an [[engineers.rule]] with roles = [\"configure\"] for those who may, and publish." / "Ajoutez une [[engineers.rule]] avec roles = [\"configure\"], et publiez.";
    KdcClockDrifts = "kerberos.clock-drifts" Soon ["realm", "seconds"]
        "The clocks of this node and of the KDC of {realm} differ by {seconds} s; from 300 on no ticket is taken." / "Les horloges de ce nœud et du KDC de {realm} diffèrent de {seconds} s ; dès 300 aucun ticket n'est accepté.",
        "Read the KDC's time when it was asked." / "Lecture de l'heure du KDC à sa réponse.",
        "Set both clocks by NTP; look at `timedatectl` here." / "Réglez les deux horloges par NTP ; voyez `timedatectl` ici.";
    WeakKeys = "kerberos.weak" Soon ["secret", "principal", "enctypes"]
        "{secret} holds keys of {principal} that are deprecated: {enctypes}. KDCs and libraries stop taking them, and they can be broken." / "{secret} contient des clés obsolètes de {principal} : {enctypes}. KDC et bibliothèques cessent de les accepter, et elles se cassent.",
        "Read the encryption type of every key (RFC 6649, RFC 8429)." / "Lecture du type de chiffrement de chaque clé (RFC 6649, RFC 8429).",
        "Directory team: give the account AES keys, write a keytab with those alone, and store it." / "Équipe de l'annuaire : donnez au compte des clés AES, écrivez un keytab avec elles seules, et enregistrez-le.";
    HostAlias = "kerberos.alias" Soon ["host", "canonical"]
        "{host} is an alias of {canonical}: browsers that follow it ask for a ticket for HTTP/{canonical}, which is not taken." / "{host} est un alias de {canonical} : les navigateurs qui le suivent demandent un ticket pour HTTP/{canonical}, qui n'est pas accepté.",
        "Looked up the name and what it stands for." / "Résolution du nom et de ce qu'il désigne.",
        "Give {host} an address record of its own; or add {canonical} to hosts of the way in, and a key of it to its keytab." / "Donnez à {host} son propre enregistrement d'adresse ; ou ajoutez {canonical} aux hosts de l'entrée, et sa clé au keytab.";
    // ── untidy
    GroupMissing = "rule.group-missing" Untidy ["gate", "rule", "group", "directory"]
        "Rule “{rule}” of {gate} names group {group}, which directory {directory} does not have." / "La règle « {rule} » de {gate} nomme le groupe {group}, que l'annuaire {directory} n'a pas.",
        "Asked the directory for every group that rules name." / "Tous les groupes nommés par les règles ont été cherchés dans l'annuaire.",
        "Ask the directory team what the group is called, or take it out of the rule." / "Demandez le nom du groupe à l'équipe de l'annuaire, ou retirez-le de la règle.";
    RuleNever = "rule.never" Untidy ["gate", "rule", "why"]
        "Rule “{rule}” of {gate} can never apply: {why}." / "La règle « {rule} » de {gate} ne peut jamais s'appliquer : {why}.",
        "Looked at what each rule asks for." / "Examen de ce que demande chaque règle.",
        "Change its condition, or take it away, and publish." / "Changez sa condition ou retirez-la, et publiez.";
    RuleHidden = "rule.hidden" Untidy ["gate", "rule", "by"]
        "Rule “{rule}” of {gate} changes nothing: whoever it applies to, “{by}” applies to as well." / "La règle « {rule} » de {gate} ne change rien : « {by} » s'applique aux mêmes personnes.",
        "Compared the rules of each gate with one another." / "Comparaison des règles de chaque porte entre elles.",
        "Take one of the two away, or narrow “{by}”, and publish." / "Retirez l'une des deux, ou restreignez « {by} », et publiez.";
    DeliveryUnattached = "delivery.unattached" Untidy ["delivery"]
        "Delivery {delivery} is attached to no gate." / "La remise {delivery} n'est attachée à aucune porte.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Name it in a gate with delivery = \"{delivery}\", or take it away, and publish." / "Nommez-la dans une porte avec delivery = \"{delivery}\", ou retirez-la, et publiez.";
    HeaderName = "delivery.header-name" Untidy ["delivery", "header"]
        "Many servers drop or rename a header such as {header}, which delivery {delivery} sends: its name holds more than letters, digits and hyphens." / "Beaucoup de serveurs écartent ou renomment un en-tête comme {header}, envoyé par la remise {delivery}.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Use hyphens, as X-Harbour-User, where the application allows it." / "Utilisez des tirets, comme X-Harbour-User, si l'application le permet.";
    SourceUnused = "site.unused" Untidy ["what"]
        "Nothing in the edition uses {what}." / "Rien dans l'édition n'utilise {what}.",
        "Read the live edition." / "Lecture de l'édition active.",
        "Name it where it is meant, or take it away, and publish." / "Nommez-le là où il est prévu, ou retirez-le, et publiez.";
    SecretStandsBy = "secret.stands-by" Untidy ["name", "version", "days"]
        "Version {version} of secret {name} has stood beside the one in use for {days} days." / "La version {version} du secret {name} attend à côté de l'actuelle depuis {days} jours.",
        "Looked at the versions of every secret." / "Examen des versions de chaque secret.",
        "When the other side has changed: passeur secret use {name} {version}" / "Quand l'autre côté a changé : passeur secret use {name} {version}";
    SecretUnused = "secret.unused" Untidy ["name"]
        "The secret {name} is stored and nothing in the live edition needs it." / "Le secret {name} est enregistré et rien dans l'édition active n'en a besoin.",
        "Compared the edition with the secrets that are stored." / "Comparaison de l'édition et des secrets enregistrés.",
        "Unless an earlier edition may come back: passeur secret remove {name}" / "Sauf si une édition antérieure peut revenir : passeur secret remove {name}";
    ChainNotOffered = "directory.chain-not-offered" Untidy ["directory"]
        "The site file asks directory {directory} to match in chains, and it does not say that it can: groups in groups are walked." / "Le fichier de site demande à l'annuaire {directory} de suivre les chaînes ; il ne dit pas le pouvoir : elles sont parcourues.",
        "Read what its root entry says it can do." / "Lecture de ce que son entrée racine dit pouvoir faire.",
        "Take chain = true away, and publish." / "Retirez chain = true, et publiez.";
    KeysUnused = "kerberos.keys-unused" Untidy ["secret", "principals"]
        "{secret} also holds keys that nothing here needs: {principals}." / "{secret} contient aussi des clés dont rien ici n'a besoin : {principals}.",
        "Compared the keys with the hosts and accounts of the edition." / "Comparaison des clés avec les hôtes et comptes de l'édition.",
        "Have a keytab written with the needed ones alone, and store it: a key that is not here cannot be taken from here." / "Faites écrire un keytab avec les seules clés utiles, et enregistrez-le : une clé absente ne peut être volée.";
    ConfigLine = "kerberos.config-line" Untidy ["at", "words"]
        "A line of this node's krb5.conf does nothing, at {at}: {words}." / "Une ligne du krb5.conf de ce nœud ne fait rien, à {at} : {words}.",
        "Read it with all that it includes." / "Lu avec tout ce qu'il inclut.",
        "Take the line away, or write what was meant." / "Retirez la ligne, ou écrivez ce qui était voulu.";
    FirstToken = "token.first" Untidy []
        "The first token, which belongs to nobody and may do everything, is still good." / "Le premier jeton, qui n'appartient à personne et peut tout, est encore valable.",
        "Looked at every token." / "Examen de tous les jetons.",
        "Make tokens of your own in the console, then: passeur token revoke \"first token\"; start the service without --first-token-file." / "Créez vos propres jetons dans la console, puis : passeur token revoke \"first token\" ; démarrez sans --first-token-file.";
    NoEmergency = "emergency.none" Untidy []
        "There is no emergency account: when the provider, the directory or the edition is broken, nobody can mend it by the console." / "Il n'y a pas de compte d'urgence : en cas de panne, personne ne peut réparer par la console.",
        "Looked at how the service was started." / "Examen du démarrage du service.",
        "Make one with `passeur emergency new FILE`, and start with --emergency-file." / "Créez-en un avec `passeur emergency new FICHIER` et démarrez avec --emergency-file.";
}

#[cfg(test)]
mod tests {
    #[test]
    fn codes_are_unique_and_templates_name_only_their_parameters_in_both_languages() {
        crate::finding::holds(super::ALL);
    }
}

//! The one table of what stands in the way at a host: code, harm, parameters, and in each language what is wrong, how it was seen
//! and what to do. In the order in which somebody who comes in meets it. Codes are stable. It drives `passeur host`, the reference
//! in `docs/hosts.md` and the test that a folder of files provokes every code.

use crate::finding::catalogue;

catalogue! {
    // ── names
    ShortName = "names.short" Broken ["canonical", "own"]
        "This host takes itself for {canonical}, which is no full name: tickets for host/{own} are not taken." / "Cet hôte se prend pour {canonical}, qui n'est pas un nom complet : les tickets pour host/{own} ne sont pas acceptés.",
        "Looked for its own name as the server does: by /etc/hosts and DNS, or as it is where krb5.conf says so." / "Son propre nom a été cherché comme le fait le serveur : par /etc/hosts et le DNS, ou tel quel si krb5.conf le dit.",
        "Write the full name on that line: of /etc/hosts first, of /etc/hostname alone." / "Écrivez le nom complet sur cette ligne : en premier dans /etc/hosts, seul dans /etc/hostname.";
    // ── krb5.conf
    ConfigMissing = "config.missing" Broken ["words"]
        "There is no krb5.conf that could be read: {words}." / "Aucun krb5.conf ne peut être lu : {words}.",
        "Followed its name." / "Son nom a été suivi.",
        "Write one with default_realm and its KDCs; the directory team has it." / "Écrivez-en un avec default_realm et ses KDC ; l'équipe de l'annuaire l'a.";
    ConfigDeadLink = "config.dead-link" Broken ["link", "to"]
        "{link} is a link to {to}, which is not there." / "{link} est un lien vers {to}, qui n'existe pas.",
        "Followed it, link by link." / "Il a été suivi, lien par lien.",
        "Put the file back, or lead the link to the one that is used: ln -sfn FILE {link}" / "Remettez le fichier, ou menez le lien vers celui qui sert : ln -sfn FICHIER {link}";
    ConfigElsewhere = "config.elsewhere" Untidy ["at", "other", "path"]
        "The server is told at {at} to read {other}: what stands in {path} does nothing for it." / "Le serveur doit lire {other}, selon {at} : ce qui est dans {path} ne lui sert à rien.",
        "Read the environments that it is started with." / "Lecture des environnements de son démarrage.",
        "Take KRB5_CONFIG away there, or change {other} alone." / "Retirez KRB5_CONFIG de là, ou ne changez que {other}.";
    ConfigTwice = "config.twice" Untidy ["file", "other"]
        "{file} is read twice, also as {other}." / "{file} est lu deux fois, aussi comme {other}.",
        "Compared what is included, links followed." / "Comparaison des fichiers inclus, liens suivis.",
        "Take one of the two away: what is changed in one is undone by the other." / "Retirez l'un des deux : ce qui est changé dans l'un est défait par l'autre.";
    ConfigDamaged = "config.damaged" Broken ["at", "words"]
        "krb5.conf is not read as it is meant, at {at}: {words}." / "krb5.conf n'est pas lu comme prévu, à {at} : {words}.",
        "Read it with all that it includes." / "Lu avec tout ce qu'il inclut.",
        "Mend that line." / "Corrigez cette ligne.";
    NoDefaultRealm = "config.no-default-realm" Broken ["realm"]
        "krb5.conf names no default realm, so that no principal is an account here." / "krb5.conf ne nomme aucun royaume par défaut : aucun principal n'est un compte ici.",
        "Read it with all that it includes." / "Lu avec tout ce qu'il inclut.",
        "Write under [libdefaults]: default_realm = {realm}" / "Écrivez sous [libdefaults] : default_realm = {realm}";
    ConfigDead = "config.dead-line" Untidy ["name", "at", "first"]
        "The line at {at} does nothing: {name} is set before, at {first}." / "La ligne à {at} ne fait rien : {name} est défini avant, à {first}.",
        "Read it with all that it includes; the first counts." / "Lu avec tout ce qu'il inclut ; le premier compte.",
        "Take it away, or change the first." / "Retirez-la, ou changez la première.";
    RealmOfHost = "config.realm-of-host" Broken ["host", "realm", "keys", "at"]
        "{at} says that {host} is of realm {realm}; its keys are of {keys}: programs here ask the wrong KDC." / "{at} dit que {host} est du royaume {realm} ; ses clés sont de {keys} : les programmes d'ici demandent au mauvais KDC.",
        "Compared [domain_realm] with the keytab." / "Comparaison de [domain_realm] et du keytab.",
        "Write {keys} there." / "Écrivez-y {keys}.";
    Enctypes = "config.enctypes" Broken ["at", "keys"]
        "{at} allows none of the encryption types of the host's keys ({keys}): no ticket opens." / "{at} n'autorise aucun type de chiffrement des clés de l'hôte ({keys}) : aucun ticket ne s'ouvre.",
        "Compared permitted_enctypes with the keytab." / "Comparaison de permitted_enctypes et du keytab.",
        "Take the line away." / "Retirez la ligne.";
    // ── keys
    KeytabMissing = "keytab.missing" Broken ["path", "host"]
        "There is no {path}: nothing opens a ticket for this host." / "Il n'y a pas de {path} : rien n'ouvre un ticket pour cet hôte.",
        "Looked for it." / "Il a été cherché.",
        "Directory team: addprinc -randkey host/{host}, ktadd -k krb5.keytab host/{host}; put it there as root's, mode 600." / "Équipe de l'annuaire : addprinc -randkey host/{host}, ktadd -k krb5.keytab host/{host} ; placez-le là, à root, mode 600.";
    KeytabBroken = "keytab.broken" Broken ["path", "words"]
        "{path} cannot be used: {words}." / "{path} est inutilisable : {words}.",
        "Read it." / "Lecture.",
        "Have it written anew; `passeur kerberos read FILE` tells what is in one." / "Faites-le refaire ; `passeur kerberos read FICHIER` dit ce qu'il contient.";
    KeytabExposed = "keytab.exposed" Danger ["path", "mode"]
        "Others than root may read {path} (mode {mode}): whoever does can be this host, and anybody on it." / "D'autres que root peuvent lire {path} (mode {mode}) : qui le lit peut être cet hôte, et quiconque dessus.",
        "Read its mode." / "Lecture de son mode.",
        "chown root {path} && chmod 600 {path}; then have its keys made anew." / "chown root {path} && chmod 600 {path} ; puis faites refaire ses clés.";
    NoHostKey = "keytab.no-host-key" Broken ["path", "hosts", "has"]
        "{path} holds no key of {hosts}; it holds keys of {has}." / "{path} ne contient pas de clé de {hosts} ; il en contient de {has}.",
        "Compared it with the names of this host." / "Comparaison avec les noms de cet hôte.",
        "Directory team: a keytab for the name that people type. Or call the host by the name that it has a key of." / "Équipe de l'annuaire : un keytab pour le nom que les gens tapent. Ou appelez l'hôte par le nom dont il a la clé.";
    KeytabWeak = "keytab.weak" Soon ["path", "enctypes"]
        "The host's keys in {path} are deprecated ones alone: {enctypes}." / "Les clés de l'hôte dans {path} sont toutes obsolètes : {enctypes}.",
        "Read the encryption type of every key (RFC 6649, RFC 8429)." / "Lecture du type de chiffrement de chaque clé (RFC 6649, RFC 8429).",
        "Directory team: AES keys for the account, and a keytab with those." / "Équipe de l'annuaire : des clés AES pour le compte, et un keytab avec celles-ci.";
    // ── the server
    SshdMissing = "sshd.missing" Broken ["path"]
        "There is no SSH server on this host: {path} is not there, or cannot be read." / "Il n'y a pas de serveur SSH sur cet hôte : {path} n'existe pas ou ne peut être lu.",
        "Looked for its configuration, and asked sshd -T where this machine has it." / "Sa configuration a été cherchée, et sshd -T interrogé là où cette machine l'a.",
        "apt install openssh-server; or name its file with --sshd-config, and look as root." / "apt install openssh-server ; ou nommez son fichier avec --sshd-config, et regardez en root.";
    SshdDamaged = "sshd.damaged" Broken ["at", "words"]
        "The server's configuration cannot be followed at {at}: {words}." / "La configuration du serveur ne peut être suivie à {at} : {words}.",
        "Read it with all that it includes." / "Lue avec tout ce qu'elle inclut.",
        "Mend that line, and try sshd -t." / "Corrigez cette ligne et essayez sshd -t.";
    NoGssapi = "sshd.no-gssapi" Broken ["at"]
        "The server takes no tickets: GSSAPIAuthentication is off ({at})." / "Le serveur n'accepte pas de tickets : GSSAPIAuthentication est désactivé ({at}).",
        "Read its configuration; of lines outside of blocks the first counts." / "Lecture de sa configuration ; hors des blocs la première ligne compte.",
        "GSSAPIAuthentication yes, before any Match; then have the server read it: systemctl reload ssh" / "GSSAPIAuthentication yes, avant tout Match ; puis systemctl reload ssh";
    BlockUndoes = "sshd.block-undoes" Broken ["user", "at", "block"]
        "Tickets are taken, but not of {user}: the block at {block} switches them off, at {at}." / "Les tickets sont acceptés, mais pas de {user} : le bloc à {block} les désactive, à {at}.",
        "Read its configuration as it is for this account." / "Lecture de sa configuration pour ce compte.",
        "GSSAPIAuthentication yes in that block, or narrow its condition." / "GSSAPIAuthentication yes dans ce bloc, ou restreignez sa condition.";
    Methods = "sshd.methods" Broken ["methods", "at"]
        "A ticket alone is not enough: AuthenticationMethods is {methods}, at {at}." / "Un ticket seul ne suffit pas : AuthenticationMethods vaut {methods}, à {at}.",
        "Read its configuration as it is for this account." / "Lecture de sa configuration pour ce compte.",
        "Add gssapi-with-mic to it as a list of its own." / "Ajoutez-y gssapi-with-mic comme une liste à part.";
    StrictName = "sshd.strict-name" Broken ["canonical", "has", "at"]
        "The server takes tickets for host/{canonical} alone, and its keytab has keys of {has}." / "Le serveur n'accepte que les tickets pour host/{canonical}, et son keytab a des clés de {has}.",
        "Read GSSAPIStrictAcceptorCheck ({at}), the host's own name and the keytab." / "Lecture de GSSAPIStrictAcceptorCheck ({at}), du nom de l'hôte et du keytab.",
        "GSSAPIStrictAcceptorCheck no: then every key of the keytab counts. Or mend the host's name." / "GSSAPIStrictAcceptorCheck no : toute clé du keytab compte alors. Ou corrigez le nom de l'hôte.";
    UserRefused = "sshd.user-refused" Broken ["user", "at", "words"]
        "The server refuses {user} whatever they show: {words}, at {at}." / "Le serveur refuse {user} quoi qu'il montre : {words}, à {at}.",
        "Read AllowUsers, DenyUsers, AllowGroups, DenyGroups and PermitRootLogin." / "Lecture de AllowUsers, DenyUsers, AllowGroups, DenyGroups et PermitRootLogin.",
        "Add the account there, or one of its groups." / "Ajoutez-y le compte, ou l'un de ses groupes.";
    SshdDead = "sshd.dead-line" Untidy ["name", "at", "first"]
        "The line at {at} does nothing: {name} is set before, at {first}." / "La ligne à {at} ne fait rien : {name} est défini avant, à {first}.",
        "Read its configuration; the first counts." / "Lecture de sa configuration ; la première compte.",
        "Take it away, or change the first." / "Retirez-la, ou changez la première.";
    SshdOlder = "sshd.older" Broken ["file", "since"]
        "The server runs since {since} and has not read {file}, which was changed later." / "Le serveur tourne depuis {since} et n'a pas lu {file}, modifié depuis.",
        "Compared its start with the dates of its files." / "Comparaison de son démarrage et des dates de ses fichiers.",
        "sshd -t && systemctl reload ssh" / "sshd -t && systemctl reload ssh # puis réessayez";
    // ── the account
    Nobody = "account.nobody" Broken ["person", "words"]
        "{person} is no account of this host: {words}." / "{person} n'est aucun compte de cet hôte : {words}.",
        "Read auth_to_local of the default realm and .k5login." / "Lecture de auth_to_local du royaume par défaut et de .k5login.",
        "Write a rule for that realm, or name {person} in the account's .k5login." / "Écrivez une règle pour ce royaume, ou nommez {person} dans le .k5login du compte.";
    AccountMissing = "account.missing" Broken ["user"]
        "There is no account {user} on this host." / "Il n'y a pas de compte {user} sur cet hôte.",
        "Looked for it in /etc/passwd, or asked the system." / "Il a été cherché dans /etc/passwd, ou demandé au système.",
        "Make it, or connect the host to the directory that has it." / "Créez-le, ou reliez l'hôte à l'annuaire qui l'a.";
    OtherName = "account.other-name" Broken ["person", "offered", "user"]
        "The client asks for account {offered}; {person} is {user} here." / "Le client demande le compte {offered} ; {person} est {user} ici.",
        "Compared what the client offers with auth_to_local." / "Comparaison de ce que le client propose et de auth_to_local.",
        "Type {user}@ before the host's name, or write User {user} for it in ~/.ssh/config." / "Tapez {user}@ devant le nom de l'hôte, ou écrivez User {user} pour lui dans ~/.ssh/config.";
    K5loginUnsafe = "account.k5login-unsafe" Danger ["path", "words"]
        "{path} is not to be trusted: {words}." / "{path} n'est pas digne de confiance : {words}.",
        "Read its owner and mode." / "Lecture de son propriétaire et de son mode.",
        "It must be the account's own or root's, and writable by nobody else: chmod 644 {path}" / "Il doit appartenir au compte ou à root, et n'être modifiable par nul autre : chmod 644 {path}";
    K5login = "account.k5login" Broken ["path", "person"]
        "{path} is there and does not name {person}: whoever it does not name is refused, also the account's own." / "{path} existe et ne nomme pas {person} : qui n'y est pas est refusé, même le compte lui-même.",
        "Read it." / "Lecture.",
        "Add a line: {person}" / "Ajoutez une ligne : {person}";
    NoShell = "account.no-shell" Broken ["user", "shell"]
        "{user} comes in and is put out at once: the shell is {shell}." / "{user} entre et ressort aussitôt : le shell est {shell}.",
        "Read it in /etc/passwd." / "Lecture dans /etc/passwd.",
        "usermod -s /bin/bash {user}, if they are to work here." / "usermod -s /bin/bash {user}, s'il doit travailler ici.";
    // ── PAM
    PamBroken = "pam.broken-line" Broken ["at", "words"]
        "PAM cannot follow its stack for sshd at {at}: {words}." / "PAM ne peut suivre sa pile pour sshd à {at} : {words}.",
        "Read it with all that it includes." / "Lue avec tout ce qu'elle inclut.",
        "Mend that line; keep a session open meanwhile." / "Corrigez cette ligne ; gardez une session ouverte.";
    PamModule = "pam.no-module" Broken ["module", "at"]
        "{module} is not installed, and at {at} its absence refuses everybody." / "{module} n'est pas installé, et à {at} son absence refuse tout le monde.",
        "Looked for it among the system's modules." / "Il a été cherché parmi les modules du système.",
        "Install it, or take the line away; keep a session open meanwhile." / "Installez-le, ou retirez la ligne ; gardez une session ouverte.";
    PamLate = "pam.order" Soon ["kerberos", "ends"]
        "Nobody's password in the realm is ever asked about: at {ends} everybody ends who has none here, before Kerberos at {kerberos}." / "Le mot de passe du royaume n'est jamais vérifié : à {ends} finit qui n'en a pas ici, avant Kerberos à {kerberos}.",
        "Read the stack for sshd in order." / "Lecture de la pile pour sshd dans l'ordre.",
        "Move the line of Kerberos before it; tickets are not concerned." / "Placez la ligne de Kerberos avant ; les tickets ne sont pas concernés.";
    // ── onward
    NotForwardable = "onward.not-forwardable" Broken ["at"]
        "Tickets that are asked for here may not be forwarded ({at}): nobody goes on from the next host." / "Les tickets demandés ici ne sont pas transférables ({at}) : on ne va pas plus loin que l'hôte suivant.",
        "Read forwardable of krb5.conf." / "Lecture de forwardable dans krb5.conf.",
        "Write under [libdefaults]: forwardable = true" / "Écrivez sous [libdefaults] : forwardable = true";
    NoKdc = "onward.no-kdc" Broken ["realm"]
        "Nothing here says where a KDC of {realm} is: a ticket comes in, and none is had for the next host." / "Rien ici ne dit où est un KDC de {realm} : un ticket entre, et aucun n'est obtenu pour l'hôte suivant.",
        "Read [realms] and dns_lookup_kdc." / "Lecture de [realms] et dns_lookup_kdc.",
        "Write kdc = HOST under [realms] {realm}, or let DNS be asked." / "Écrivez kdc = HÔTE sous [realms] {realm}, ou laissez interroger le DNS.";
    ClientMissing = "onward.missing" Broken ["path"]
        "There is no SSH client on this host ({path} is not there): nobody goes on from here." / "Il n'y a pas de client SSH sur cet hôte ({path} n'existe pas) : personne ne va plus loin.",
        "Looked for its configuration, and asked ssh -G where this machine has it." / "Sa configuration a été cherchée, et ssh -G interrogé là où cette machine l'a.",
        "apt install openssh-client, if people are to go on from here." / "apt install openssh-client, si l'on doit aller plus loin d'ici.";
    ClientNoGssapi = "onward.no-gssapi" Broken ["to", "at"]
        "The client here shows no ticket to {to}: GSSAPIAuthentication is off ({at})." / "Le client d'ici ne montre pas de ticket à {to} : GSSAPIAuthentication est désactivé ({at}).",
        "Read its configuration for that host; the first line counts." / "Lecture de sa configuration pour cet hôte ; la première ligne compte.",
        "GSSAPIAuthentication yes, for the hosts of this realm." / "GSSAPIAuthentication yes, pour les hôtes de ce royaume.";
    ClientMethods = "onward.methods" Broken ["to", "methods", "at"]
        "The client here tries {methods} alone at {to}, and no ticket ({at})." / "Le client d'ici n'essaie que {methods} sur {to}, et aucun ticket ({at}).",
        "Read PreferredAuthentications for that host." / "Lecture de PreferredAuthentications pour cet hôte.",
        "Put gssapi-with-mic first there." / "Mettez-y gssapi-with-mic en premier.";
    NoDelegation = "onward.no-delegation" Broken ["to", "at"]
        "The person's ticket stays behind: GSSAPIDelegateCredentials is off for {to} ({at}), so that they cannot go on from there." / "Le ticket de la personne reste derrière : GSSAPIDelegateCredentials est désactivé pour {to} ({at}) ; elle ne peut aller plus loin.",
        "Read the client's configuration for that host." / "Lecture de la configuration du client pour cet hôte.",
        "GSSAPIDelegateCredentials yes, for hosts that may use the ticket, and for no others; --to HOST shows the lines for one." / "GSSAPIDelegateCredentials yes, pour les hôtes qui peuvent utiliser le ticket, et pour nul autre ; --to HÔTE montre les lignes pour un hôte.";
    ShortTarget = "onward.short-name" Broken ["name"]
        "A ticket is asked for host/{name}, and no host has a key of a short name." / "Un ticket est demandé pour host/{name}, et aucun hôte n'a de clé d'un nom court.",
        "Read HostName and CanonicalizeHostname of the client, and dns_canonicalize_hostname." / "Lecture de HostName et CanonicalizeHostname du client, et de dns_canonicalize_hostname.",
        "Type the full name, or write HostName %h.DOMAIN for it." / "Tapez le nom complet, ou écrivez HostName %h.DOMAINE pour lui.";
}

#[cfg(test)]
mod tests {
    #[test]
    fn codes_are_unique_and_templates_name_only_their_parameters_in_both_languages() {
        crate::finding::holds(super::ALL);
    }
}

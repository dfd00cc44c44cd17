//! The part of the table that tells of gateways, switches and access points that ask by RADIUS. It hands on what stands before it, so that there
//! is one table all the same.

macro_rules! with_radius {
    ($then:ident $($before:tt)*) => { $then! { $($before)*
        // ── what RADIUS clients ask
        RadiusAsked = "radius.asked" Gate Fact [client, from, what, calls]
            "RADIUS client {client}, from {from}, asks about {what}. Of where the person comes from it says: {calls}." / "Le client RADIUS {client}, depuis {from}, demande {what}. D'où vient la personne, il dit : {calls}.";
        RadiusNamed = "radius.named" Check Fact [client, user, value]
            "RADIUS client {client} signed the person in itself and calls them {user}; they are looked up by it: {value}." / "Le client RADIUS {client} a connecté la personne lui-même et la nomme {user} ; elle est cherchée par ce nom : {value}.";
        RadiusAnswered = "radius.answered" Delivery Fact [client, attributes]
            "RADIUS client {client} was told to let them in, with {attributes}." / "Le client RADIUS {client} a reçu l'ordre d'admettre la personne, avec {attributes}.";
        RadiusChallenged = "radius.challenged" Check Fact [client, seconds]
            "RADIUS client {client} was told to ask for a code of the person's own factor, within {seconds} seconds." / "Le client RADIUS {client} a reçu l'ordre de demander un code du facteur de la personne, en {seconds} secondes.";
        RadiusCode = "radius.code" Check Fact [client, crossing]
            "RADIUS client {client} hands on the code that was asked for in crossing {crossing}, after the password was proven there." / "Le client RADIUS {client} transmet le code demandé au passage {crossing}, où le mot de passe avait été prouvé.";
        RadiusNoChallenge = "radius.no-challenge" Check Stop [client]
            "RADIUS client {client} answers a question that this node did not ask, asked of somebody else, or asked too long ago." / "Le client RADIUS {client} répond à une question que ce nœud n'a pas posée, ou à quelqu'un d'autre, ou il y a trop longtemps."
            => "Begin again with the password. Where several nodes answer {client}, have it send the code to the one that it asked." / "Recommencez par le mot de passe. Si plusieurs nœuds répondent à {client}, faites-lui envoyer le code à celui qu'il a interrogé.";
        RadiusStranger = "radius.stranger" Check Stop [from]
            "A RADIUS request came from {from}, where no client sends from: nothing was answered." / "Une requête RADIUS est venue de {from}, d'où aucun client n'émet : rien n'a été répondu."
            => "If it is a client of yours, add {from} to the addresses of its [[radius-client]]; a gateway with several networks may send from another than you think." / "Si c'est l'un de vos clients, ajoutez {from} aux addresses de son [[radius-client]] ; une passerelle à plusieurs réseaux peut émettre d'un autre que prévu.";
        RadiusUnreadable = "radius.unreadable" Check Stop [client, how]
            "What RADIUS client {client} sent is no packet: {how}. Nothing was answered." / "Ce que le client RADIUS {client} a envoyé n'est pas un paquet : {how}. Rien n'a été répondu."
            => "Where a part was lost, let fragments of UDP pass between {client} and this host, or have it send less." / "Si une partie manque, laissez passer les fragments UDP entre {client} et cet hôte, ou faites-lui envoyer moins.";
        RadiusUnproven = "radius.unproven" Check Stop [client, check]
            "A request of RADIUS client {client} is not proven: {check}. Nothing was answered." / "Une requête du client RADIUS {client} n'est pas prouvée : {check}. Rien n'a été répondu."
            => "Enter the same secret on both sides: passeur secret set, and the gateway's own page. Have {client} send a Message-Authenticator with every request." / "Entrez le même secret des deux côtés : passeur secret set, et la page de la passerelle. Faites envoyer par {client} un Message-Authenticator avec chaque requête.";
        RadiusWantsTls = "radius.wants-tls" Check Stop [client]
            "RADIUS client {client} asked without TLS, and its certificate is what proves it: nothing was answered." / "Le client RADIUS {client} a demandé sans TLS, et c'est son certificat qui le prouve : rien n'a été répondu."
            => "Set {client} to RADIUS over TLS (RFC 6614), to where passeur serve --radius-tls-listen listens; or write secret in place of its certificates in [[radius-client]] {client}." / "Réglez {client} sur RADIUS sur TLS (RFC 6614), vers là où passeur serve --radius-tls-listen écoute ; ou écrivez secret à la place de ses certificats dans [[radius-client]] {client}.";
        RadiusNoTls = "radius.no-tls" Check Stop [client, how]
            "A connection of RADIUS client {client} came to no TLS: {how}. It was closed." / "Une connexion du client RADIUS {client} n'a pas abouti à TLS : {how}. Elle a été fermée."
            => "Set {client} to RADIUS over TLS (RFC 6614), with this service's authority and its own certificate. Where it shares a secret instead, it asks by UDP, at --radius-listen." / "Réglez {client} sur RADIUS sur TLS (RFC 6614), avec l'autorité de ce service et son propre certificat. S'il partage un secret, il demande en UDP, à --radius-listen.";
        RadiusCertificate = "radius.certificate" Check Stop [client, shown, check]
            "A connection of RADIUS client {client} showed a certificate that is none of it ({shown}): {check}. It was closed." / "Une connexion du client RADIUS {client} a montré un certificat qui n'est pas le sien ({shown}) : {check}. Elle a été fermée."
            => "If it is a new one of yours, paste it beside the old one under certificates in [[radius-client]] {client}; otherwise somebody else sends from its address." / "Si c'est un nouveau à vous, collez-le près de l'ancien sous certificates dans [[radius-client]] {client} ; sinon quelqu'un d'autre émet de son adresse.";
        RadiusMachine = "radius.machine" Check Pass [client, hardware, machine, owner, purpose]
            "RADIUS client {client} asks about a machine by its hardware address {hardware}: {machine} of {owner} ({purpose}). Anybody on the link can copy that address." / "Le client RADIUS {client} demande pour une machine par son adresse matérielle {hardware} : {machine}, de {owner} ({purpose}). N'importe qui sur le lien peut copier cette adresse.";
        RadiusMachineUnknown = "radius.machine-unknown" Check Stop [client, hardware, way]
            "RADIUS client {client} asks about a machine with the hardware address {hardware}, which way in {way} does not list." / "Le client RADIUS {client} demande pour une machine d'adresse matérielle {hardware}, que l'entrée {way} ne liste pas."
            => "If it belongs here, add a [[way.machine]] to [[way]] {way} with hardware = \"{hardware}\", its owner, its purpose and a last day." / "Si elle a sa place ici, ajoutez un [[way.machine]] à [[way]] {way} avec hardware = \"{hardware}\", son responsable, sa raison et un dernier jour.";
        RadiusMachineOver = "radius.machine-over" Check Stop [machine, until, way]
            "The machine {machine} was to be let in until {until}." / "La machine {machine} devait être admise jusqu'au {until}."
            => "If its owner still needs it, write a later until for {machine} in [[way]] {way}; otherwise take it off the port." / "Si son responsable en a encore besoin, écrivez un until plus tardif pour {machine} dans [[way]] {way} ; sinon débranchez-la.";
        RadiusMachineOdd = "radius.machine-odd" Check Stop [client, said, calling]
            "RADIUS client {client} asks about the machine {said}, and says that {calling} calls." / "Le client RADIUS {client} demande pour la machine {said}, et dit que {calling} appelle."
            => "Have {client} send the machine's own address as User-Name and as Calling-Station-Id; where somebody typed an address as a name, they are no machine." / "Faites envoyer par {client} l'adresse de la machine comme User-Name et Calling-Station-Id ; si quelqu'un a tapé une adresse comme nom, ce n'est pas une machine.";
        RadiusNoSecret = "radius.no-secret" Check Stop [client, secret]
            "The secret {secret} of RADIUS client {client} is not stored, or shorter than 16 octets: nothing was answered." / "Le secret {secret} du client RADIUS {client} n'est pas enregistré, ou compte moins de 16 octets : rien n'a été répondu."
            => "Make a long one, and enter it on both sides: openssl rand -hex 24 | passeur secret set {secret}" / "Créez-en un long, et entrez-le des deux côtés : openssl rand -hex 24 | passeur secret set {secret}";
        RadiusEap = "radius.eap" Check Stop [client]
            "RADIUS client {client} asks by EAP, which this service does not speak: it was refused with EAP-Failure." / "Le client RADIUS {client} demande par EAP, que ce service ne parle pas : refus avec EAP-Failure."
            => "Set {client} to PAP, or to authorize after a sign-in of its own. Where machines prove themselves by EAP on a port or cell, another server has to answer these." / "Réglez {client} sur PAP, ou sur l'autorisation après sa propre connexion. Si des machines se prouvent par EAP sur un port ou une cellule, un autre serveur doit y répondre.";
        RadiusChap = "radius.chap" Check Stop [client]
            "RADIUS client {client} asks by CHAP, for which a directory would have to give passwords away in clear." / "Le client RADIUS {client} demande par CHAP, pour lequel un annuaire devrait livrer les mots de passe en clair."
            => "Set {client} to PAP." / "Réglez {client} sur PAP.";
        RadiusNothing = "radius.nothing-shown" Check Stop [client]
            "RADIUS client {client} shows no password, and does not say that it signed the person in itself." / "Le client RADIUS {client} ne montre aucun mot de passe, et ne dit pas avoir connecté la personne lui-même."
            => "Set {client} to send User-Password, or Service-Type Authorize-Only after its own sign-in." / "Réglez {client} pour envoyer User-Password, ou Service-Type Authorize-Only après sa propre connexion.";
        RadiusMayNotAsk = "radius.may-not-ask" Check Stop [client, what]
            "RADIUS client {client} may not ask about {what}." / "Le client RADIUS {client} ne peut pas demander {what}."
            => "Where it should, add the word to takes of [[radius-client]] {client}." / "S'il le doit, ajoutez le mot à takes de [[radius-client]] {client}.";
        RadiusTooMany = "radius.too-many" Check Stop [client]
            "RADIUS client {client} asks more than is answered at a time: this request was dropped." / "Le client RADIUS {client} demande plus qu'il n'est répondu à la fois : cette requête a été abandonnée."
            => "See what makes {client} ask so much; a look-up that hangs keeps requests open: passeur survey." / "Voyez pourquoi {client} demande autant ; une recherche qui traîne garde les requêtes ouvertes : passeur survey.";
        RadiusNoRoom = "radius.no-room" Delivery Stop [client]
            "The attributes for RADIUS client {client} are longer than a packet: nothing would be told whole." / "Les attributs pour le client RADIUS {client} dépassent un paquet : rien ne serait dit en entier."
            => "Deliver fewer or shorter values: too-long = \"cut\", or only the groups that the client needs." / "Remettez moins de valeurs, ou plus courtes : too-long = \"cut\", ou les seuls groupes utiles au client.";
        // ── what they tell of sessions there, and what they are ordered
        RadiusBegan = "radius.began" Session Fact [client, number, addresses]
            "RADIUS client {client} says that the session began there, under its number {number}. The machine has {addresses}." / "Le client RADIUS {client} dit que la session y a commencé, sous son numéro {number}. La machine a {addresses}.";
        RadiusAddresses = "radius.addresses" Session Fact [client, addresses]
            "RADIUS client {client} says that the machine has {addresses} now." / "Le client RADIUS {client} dit que la machine a maintenant {addresses}.";
        RadiusOver = "radius.over" Session Fact [client, cause, seconds, up, down]
            "RADIUS client {client} says that the session is over there ({cause}), after {seconds} seconds. From the machine came {up} octets, and {down} went to it." / "Le client RADIUS {client} dit que la session y est finie ({cause}), après {seconds} secondes. {up} octets sont venus de la machine, {down} y sont allés.";
        RadiusGoesOn = "radius.goes-on" Session Notice [client]
            "RADIUS client {client} tells of the session after it was over here: it goes on there." / "Le client RADIUS {client} parle de la session alors qu'elle était finie ici : elle y continue.";
        RadiusAskedAgain = "radius.asked-again" Session Fact [client]
            "RADIUS client {client} asked again for the same machine: this session gave way to the new one." / "Le client RADIUS {client} a redemandé pour la même machine : cette session a cédé la place à la nouvelle.";
        RadiusAnew = "radius.client-anew" Session Fact [client]
            "RADIUS client {client} begins or ends its work: nothing of before is on there." / "Le client RADIUS {client} commence ou finit son service : rien d'avant n'y est ouvert.";
        RadiusUnheard = "radius.unheard" Session Notice [client, minutes]
            "RADIUS client {client} has told nothing of the session for {minutes} minutes: it counts as over." / "Le client RADIUS {client} n'a rien dit de la session depuis {minutes} minutes : elle compte comme finie.";
        RadiusOrdered = "radius.ordered" Session Fact [client, what, to, says]
            "RADIUS client {client} was ordered at {to} to {what}: {says}." / "Le client RADIUS {client} a reçu à {to} l'ordre de {what} : {says}.";
        RadiusDisobeyed = "radius.disobeyed" Session Notice [client, what, to, says]
            "RADIUS client {client} was ordered at {to} to {what}, and did not: {says}." / "Le client RADIUS {client} a reçu à {to} l'ordre de {what}, sans le faire : {says}."
            => "The session may be open there still. Where it was silent, let packets to {to} pass and turn dynamic authorization on there, for this host and with the secret or certificate by which it asks; where it refused, its cause says what it misses; both clocks must agree within five minutes." / "La session y est peut-être encore ouverte. S'il s'est tu, laissez passer les paquets vers {to} et activez-y l'autorisation dynamique, pour cet hôte et avec le secret ou le certificat de ses requêtes ; s'il a refusé, sa cause dit ce qui lui manque ; les deux horloges doivent s'accorder à cinq minutes près.";
        RadiusNotOrdered = "radius.not-ordered" Session Notice [client, what, until]
            "RADIUS client {client} takes no orders to {what}: the session may be open there until {until}." / "Le client RADIUS {client} ne prend pas d'ordre de {what} : la session peut y rester ouverte jusqu'à {until}."
            => "End it at the client. Where the client can take orders (RFC 5176), set dynamic-authorization of [[radius-client]] {client} to its port." / "Terminez-la chez le client. S'il peut prendre des ordres (RFC 5176), mettez dynamic-authorization de [[radius-client]] {client} à son port.";
        RadiusOrderNoSecret = "radius.order-no-secret" Session Stop [client, what, secret]
            "RADIUS client {client} could not be ordered to {what}: the secret {secret} is not stored, or shorter than 16 octets. The session may be open there still." / "Le client RADIUS {client} n'a pas pu recevoir l'ordre de {what} : le secret {secret} n'est pas enregistré, ou compte moins de 16 octets. La session y est peut-être encore ouverte."
            => "Store the secret that {client} has: passeur secret set {secret}. The order goes out within half a minute of it." / "Enregistrez le secret qu'a {client} : passeur secret set {secret}. L'ordre part dans la demi-minute qui suit.";
        RadiusOrderNoTls = "radius.order-no-tls" Session Stop [client, what, node]
            "RADIUS client {client} could not be ordered to {what}: it takes orders over TLS, which node {node} does not speak. The session may be open there still." / "Le client RADIUS {client} n'a pas pu recevoir l'ordre de {what} : il prend ses ordres sur TLS, que le nœud {node} ne parle pas. La session y est peut-être encore ouverte."
            => "Start {node} with --tls-listen and --certificates, as the nodes at which {client} asks." / "Démarrez {node} avec --tls-listen et --certificates, comme les nœuds où {client} demande.";
        RadiusUnknown = "radius.unknown-session" Check Stop [client, number, user]
            "RADIUS client {client} tells of a session {number} of {user} for which nobody was let in here." / "Le client RADIUS {client} parle d'une session {number} de {user} pour laquelle personne n'a été admis ici."
            => "Look at {client} who let it in: an account of its own, or another server. Sessions of before a restore of the database are not known either." / "Voyez chez {client} qui l'a admise : un compte à lui, ou un autre serveur. Les sessions d'avant une restauration de la base ne sont pas connues non plus.";
        RadiusTooManyUnknown = "radius.too-many-unknown" Check Stop [client, most]
            "RADIUS client {client} tells of more than {most} sessions for which nobody was let in here: no more are listed." / "Le client RADIUS {client} parle de plus de {most} sessions pour lesquelles personne n'a été admis ici : pas une de plus n'est listée."
            => "Have {client} send accounting to whichever server lets its people in." / "Faites envoyer la comptabilité par {client} au serveur qui admet ses gens.";
    } };
}

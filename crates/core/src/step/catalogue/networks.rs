//! The part of the table that tells of networks. It hands on what stands before it, so that there is one table all the same.

macro_rules! with_networks {
    ($then:ident $($before:tt)*) => { $then! { $($before)*
        // ── a network gate's machines
        TermsAccepted = "network.terms-accepted" Gate Pass [version, at]
            "The person accepted version {version} of the terms of use at {at}." / "La personne a accepté la version {version} des conditions d'utilisation à {at}.";
        MachineOn = "network.on" Gate Pass [machine, zone, opens, until]
            "The machine {machine} is let through in zone {zone}, until {until} at the latest. Open are: {opens}." / "La machine {machine} passe dans la zone {zone}, jusqu'à {until} au plus tard. Sont ouverts : {opens}.";
        MachineChanged = "network.changed" Gate Fact [machine, zone, opens, why]
            "What is open to the machine {machine} in zone {zone} was decided anew, because {why}: {opens}." / "Ce qui est ouvert à la machine {machine} dans la zone {zone} a été décidé à nouveau, car {why} : {opens}.";
        MachineOff = "network.off" Session Fact [machine, zone, why, up, down]
            "The machine {machine} is let through no more in zone {zone}, because {why}. From it came {up} octets, and {down} went to it." / "La machine {machine} ne passe plus dans la zone {zone}, car {why}. {up} octets en sont venus, {down} y sont allés.";
        AddressGained = "network.address-gained" Session Fact [machine, address]
            "The machine {machine} has the address {address} now." / "La machine {machine} a maintenant l'adresse {address}.";
        AddressLost = "network.address-lost" Session Fact [machine, address]
            "The machine {machine} has the address {address} no more." / "La machine {machine} n'a plus l'adresse {address}.";
        AddressHandedOver = "network.address-handed-over" Session Notice [address, machine, to]
            "The address {address} of the machine {machine} answers from {to} now." / "L'adresse {address} de la machine {machine} répond maintenant depuis {to}.";
        MachineEndedByPerson = "network.ended-by-person" Session Fact [machine, gate]
            "The person ended their machine {machine} at gate {gate}, on the quay." / "La personne a fermé sa machine {machine} à la porte {gate}, sur le quai.";
        MachineUnseen = "network.machine-unseen" Gate Stop [address, zone, interface]
            "The kernel knows no hardware address of {address} on {interface}, so that nothing can be let through in zone {zone}." / "Le noyau ne connaît aucune adresse matérielle de {address} sur {interface} ; rien ne peut passer dans la zone {zone}."
            => "Where another router stands between, write machines = \"routed\" in [[zone]] {zone}. Otherwise see that the machine is on {interface}: ip neigh show dev {interface}." / "Si un autre routeur est entre les deux, écrivez machines = \"routed\" dans [[zone]] {zone}. Sinon, vérifiez que la machine est sur {interface} : ip neigh show dev {interface}.";
        SluiceFailed = "network.sluice-failed" Gate Stop [zone, node, how]
            "Node {node} could not let the machine through in zone {zone}: {how}." / "Le nœud {node} n'a pas pu laisser passer la machine dans la zone {zone} : {how}."
            => "See whether passeur-sluice runs on {node} and what it logs: systemctl status passeur-sluice." / "Voyez si passeur-sluice tourne sur {node} et ce qu'il journalise : systemctl status passeur-sluice.";
        DevicesFull = "network.devices-full" Gate Stop [most, machines]
            "The person has {most} machines on already, and may have no more: {machines}." / "La personne a déjà {most} machines connectées, et pas davantage : {machines}."
            => "One of them must leave first (sign out there, or passeur present end), a rule must give more devices, or the gate must write when-full = \"end-oldest\"." / "L'une doit partir d'abord (s'y déconnecter, ou passeur present end), une règle doit donner plus de devices, ou la porte écrire when-full = \"end-oldest\".";
        QuotaUsed = "network.quota-used" Gate Stop [used, quota]
            "The person's machines moved {used} octets at this gate within 24 hours, and {quota} is the most." / "Les machines de la personne ont échangé {used} octets à cette porte en 24 heures ; le maximum est {quota}."
            => "It opens again as the hours pass; quota in the rule that gives it changes the most." / "Cela rouvre au fil des heures ; quota, dans la règle qui le donne, change le maximum.";
        OpensNothing = "network.opens-nothing" Gate Notice [zone]
            "No rule that applies opens a reach: nothing but what everybody reaches in zone {zone} is open." / "Aucune règle applicable n'ouvre d'accès : rien n'est ouvert dans la zone {zone} hormis ce qui l'est à tous.";
        // ── tunnels
        TunnelAsked = "tunnel.asked" Gate Fact [entrance, outside, client]
            "A client at {outside} asked for a tunnel at entrance {entrance}. It says of itself: {client}." / "Un client en {outside} a demandé un tunnel à l'entrée {entrance}. Il dit de lui-même : {client}.";
        TunnelBrowser = "tunnel.browser-elsewhere" Gate Notice [browser, outside]
            "The person said that the tunnel is theirs in a browser at {browser}, and the client is at {outside}." / "La personne a dit que le tunnel est le sien dans un navigateur en {browser}, et le client est en {outside}.";
        TunnelBrowserRefused = "tunnel.browser-refused" Gate Stop [entrance, browser, outside]
            "Entrance {entrance} takes a browser at the client's own address alone: the browser was at {browser}, and the client at {outside}." / "L'entrée {entrance} n'admet qu'un navigateur à l'adresse du client : le navigateur était en {browser}, le client en {outside}."
            => "Where one machine has both, its browser reaches this host another way than the VPN server: by a proxy, or by the other family. Publish the gate's host and the server under one family, or write browser = \"anywhere\" in [[entrance]] {entrance}." / "Si une même machine a les deux, son navigateur atteint cet hôte par un autre chemin que le serveur VPN : un mandataire, ou l'autre famille. Publiez l'hôte de la porte et le serveur dans une même famille, ou écrivez browser = \"anywhere\" dans [[entrance]] {entrance}.";
        RulesLetIn = "machine.rules-let-in" Gate Pass [person, crossing]
            "The rules let {person} in at the gate, as crossing {crossing} tells." / "Les règles admettent {person} à la porte, comme le dit le passage {crossing}.";
        AddressTaken = "tunnel.address-taken" Gate Stop [address, zone]
            "The address {address}, which the client at entrance {zone} was to have, is somebody else's." / "L'adresse {address}, que le client à l'entrée {zone} devait avoir, est à quelqu'un d'autre."
            => "Connect again. Where it happens again, see who has it: passeur present --address {address}." / "Reconnectez-vous. Si cela se répète, voyez qui l'a : passeur present --address {address}.";
        TunnelDenied = "tunnel.denied" Gate Stop [entrance, outside]
            "The person said that the tunnel which a client at {outside} asked for at entrance {entrance} is not theirs." / "La personne a dit que le tunnel demandé par un client en {outside} à l'entrée {entrance} n'est pas le sien."
            => "Somebody sent them the address, or they opened an old one. See who asks from {outside}." / "Quelqu'un leur a envoyé l'adresse, ou elle en a ouvert une ancienne. Voyez qui demande depuis {outside}.";
        TunnelTrial = "tunnel.trial" Gate Notice [entrance, opens]
            "Entrance {entrance} is a trial: nothing is opened. Otherwise these would be: {opens}." / "L'entrée {entrance} est un essai : rien n'est ouvert. Sinon le seraient : {opens}.";
        TunnelTried = "tunnel.tried" Gate Notice [by, entrance, opens]
            "{by} is trying out entrance {entrance}: nothing is opened to this tunnel. Otherwise these would be: {opens}." / "{by} essaie l'entrée {entrance} : rien n'est ouvert à ce tunnel. Sinon le seraient : {opens}.";
        TunnelTrialOver = "tunnel.trial-over" Gate Stop [entrance]
            "The tunnel began in a trial of entrance {entrance}, which is over: it is not let through for real." / "Le tunnel a commencé dans un essai de l'entrée {entrance}, qui est terminé : il n'est pas admis pour de bon."
            => "Have its person connect again: they are decided on for real then." / "Faites reconnecter la personne : la décision vaudra alors pour de bon.";
        TunnelTerms = "tunnel.terms-not-accepted" Gate Stop [gate, version]
            "The person has not accepted version {version} of the terms of use of gate {gate}, and a client shows none." / "La personne n'a pas accepté la version {version} des conditions d'utilisation de la porte {gate}, et un client n'en affiche pas."
            => "They open the address of gate {gate} in a browser, read the terms and accept them, then connect again. Who accepted which: passeur present terms." / "Elle ouvre l'adresse de la porte {gate} dans un navigateur, lit les conditions et les accepte, puis se reconnecte. Qui a accepté quoi : passeur present terms.";
        TunnelPoolFull = "tunnel.pool-full" Gate Stop [entrance, network]
            "Entrance {entrance} has no address left in {network}." / "L'entrée {entrance} n'a plus d'adresse dans {network}."
            => "Write a larger network in [[entrance]] {entrance} and in its server's configuration, or fewer devices a person at the gate." / "Écrivez un réseau plus grand dans [[entrance]] {entrance} et dans la configuration de son serveur, ou moins de devices par personne à la porte.";
        TunnelCodeRefused = "tunnel.code-refused" Gate Stop [entrance, outside]
            "A client at {outside} sent a code at entrance {entrance} that is nobody's: it was used, its time is over, or it was never one." / "Un client en {outside} a envoyé à l'entrée {entrance} un code qui n'est à personne : il a servi, son délai est passé, ou ce n'en fut jamais un."
            => "The person opens the gate's address, takes a new code with \"Show me a code\", and types it within two minutes. After ten wrong ones from one network no more are taken for a quarter of an hour." / "La personne ouvre l'adresse de la porte, prend un nouveau code par « Afficher un code », et le tape en deux minutes. Après dix codes faux d'un même réseau, plus aucun n'est admis pendant un quart d'heure.";
        TunnelNoRoom = "tunnel.no-room" Gate Stop [entrance, outside]
            "A client at {outside} asked for a tunnel at entrance {entrance}, and could not wait: too many of its network do already, or that could not be written." / "Un client en {outside} a demandé un tunnel à l'entrée {entrance} sans pouvoir attendre : trop d'autres de son réseau attendent, ou cela n'a pas pu être écrit."
            => "See who asks from there: passeur crossings --address {outside}. What waits is forgotten with sign-in-within of [[entrance]] {entrance}." / "Voyez qui demande de là : passeur crossings --address {outside}. Ce qui attend est oublié après sign-in-within de [[entrance]] {entrance}.";
        ProfileOfAnother = "tunnel.profile-of-another" Gate Stop [device, of, person]
            "The client shows the profile of {device}, which was made for {of}, and {person} signed in." / "Le client montre le profil de {device}, créé pour {of}, et {person} s'est connecté."
            => "{person} makes a profile of their own at the gate's address, under /profile; that of {of} is revoked with passeur profile revoke where it went astray." / "{person} crée son propre profil à l'adresse de la porte, sous /profile ; celui de {of} se révoque par passeur profile revoke s'il s'est égaré.";
        ProfileOver = "tunnel.profile-over" Gate Stop [device]
            "The client shows a profile that counts no more: that of {device} was revoked, or its time is over." / "Le client montre un profil qui ne compte plus : celui de {device} a été révoqué, ou son délai est passé."
            => "Its person makes a new one at the gate's address, under /profile." / "Sa personne en crée un nouveau à l'adresse de la porte, sous /profile.";
        ProfileUnknown = "tunnel.profile-unknown" Gate Stop [entrance, outside]
            "A client at {outside} shows no personal profile of this gate at entrance {entrance}, which takes no other." / "Un client en {outside} ne montre aucun profil personnel de cette porte à l'entrée {entrance}, qui n'en admet pas d'autre."
            => "The person makes a profile at the gate's address, under /profile, and gives that file to the client." / "La personne crée un profil à l'adresse de la porte, sous /profile, et donne ce fichier au client.";
        TunnelPushed = "tunnel.pushed" Gate Fact [addresses, lines]
            "The client was given {addresses} and told: {lines}." / "Le client a reçu {addresses} et ces consignes : {lines}.";
        TunnelLate = "tunnel.late" Gate Stop [entrance, patience]
            "The client at entrance {entrance} was gone when its person was let in: it waits for {patience} at most." / "Le client à l'entrée {entrance} était parti quand sa personne a été admise : il attend {patience} au plus."
            => "Connect again. Where people need longer, raise sign-in-within in [[entrance]] {entrance}, and hand-window in its server's configuration." / "Reconnectez-vous. S'il faut plus de temps, augmentez sign-in-within dans [[entrance]] {entrance}, et hand-window dans la configuration de son serveur.";
        TunnelUp = "tunnel.up" Session Fact [machine, outside]
            "The VPN server says that the tunnel of {machine} stands, from {outside}." / "Le serveur VPN dit que le tunnel de {machine} est établi, depuis {outside}.";
        TunnelBack = "tunnel.back" Session Fact [outside, client]
            "The client came back from {outside} within its time, without a new sign-in. It says of itself: {client}." / "Le client est revenu depuis {outside} dans son délai, sans nouvelle connexion. Il dit de lui-même : {client}.";
        TunnelKeyRenewed = "tunnel.decided-again" Session Fact [machine]
            "The tunnel of {machine} renewed its key, and the rules were asked again." / "Le tunnel de {machine} a renouvelé sa clé, et les règles ont été interrogées à nouveau.";
    } };
}

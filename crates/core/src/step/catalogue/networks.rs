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
    } };
}

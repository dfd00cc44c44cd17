//! For the team that keeps a Kerberos realm: accounts, service names, delegation, keytabs and people's browsers, each with the
//! command that does it and the one that proves it.

use super::{Part, Row, Sheet};
use crate::site::{Gate, Site, TicketWay, UpstreamTicket, name_and_realm, realm_of};

pub(super) fn sheet(site: &Site, realm: &str) -> Sheet {
    let ways: Vec<(&str, &TicketWay)> = site.ticket_ways().collect();
    // A way's own keys are of its first realm; the others trust it.
    let own: Vec<&(&str, &TicketWay)> = ways.iter().filter(|(_, t)| t.realms.first().is_some_and(|r| r.realm == realm)).collect();
    let trusting = ways.iter().filter(|(_, t)| t.realms.iter().skip(1).any(|r| r.realm == realm));
    let trusts: Vec<&str> = trusting.filter_map(|(_, t)| Some(t.realms.first()?.realm.as_str())).collect();
    let gates: Vec<(&Gate, &UpstreamTicket)> =
        site.gates.iter().filter_map(|g| Some((g, g.ticket()?))).filter(|(_, t)| of_gate(t, realm)).collect();
    let connected = !own.is_empty() || !trusts.is_empty() || !gates.is_empty();
    let mut parts = vec![];
    let hosts: Vec<(&str, &str)> = match connected {
        true => own.iter().flat_map(|(_, t)| t.hosts.iter().map(|h| (h.as_str(), keytab(t)))).collect(),
        false => vec![(site.address.name(), "harbour-keytab")],
    };
    if !hosts.is_empty() {
        let rows = hosts.iter().flat_map(|(host, secret)| service(host, secret, realm)).collect();
        parts.push(Part { code: "enter", heading: "Please make these accounts, and a keytab of each", rows });
    }
    let accounts: Vec<Row> = gates.iter().flat_map(|(g, t)| account(g, t, realm)).collect();
    if !accounts.is_empty() {
        parts.push(Part { code: "allow", heading: "Accounts that act for people", rows: accounts });
    }
    if !trusts.is_empty() {
        let rows = trusts.iter().map(|to| trust(realm, to)).collect();
        parts.push(Part { code: "allow", heading: "Trust between realms", rows });
    }
    parts.push(Part { code: "receive", heading: "What people's machines need", rows: machines(site, &hosts, &gates, realm) });
    parts.push(Part { code: "send-back", heading: "Please send back", rows: back(&hosts, &gates, realm) });
    Sheet {
        title: format!("{} in the Kerberos realm {realm}", site.name),
        state: String::new(),
        connected,
        parts,
        steps: vec![
            "Keytabs are stored with passeur secret set NAME --file KEYTAB; what is in one tells passeur kerberos read KEYTAB."
                .to_owned(),
            "We compare keys, names, clocks and delegation with your KDC: passeur kerberos check. It says what is wrong, and the \
             command that mends it."
                .to_owned(),
            format!("On a machine of one person: kinit, then curl --negotiate -u : -v {}", site.address.at("/")),
            "Tell us before a key is made anew: two keytabs can stand side by side, and nobody is refused who holds an older ticket."
                .to_owned(),
        ],
    }
}

fn of_gate(t: &UpstreamTicket, realm: &str) -> bool {
    let of = |principal: &str| realm_of(principal) == realm;
    of(&t.service) || t.behalf.as_ref().is_some_and(|b| of(&b.account))
}

/// Where keys of a way in are kept.
fn keytab(way: &TicketWay) -> &str {
    way.keytabs.first().map_or("keytab", String::as_str)
}

/// A service name with its account and keytab. `kvno` asks for a ticket, which proves that the name is known and unique.
fn service(host: &str, secret: &str, realm: &str) -> Vec<Row> {
    let name = format!("HTTP/{host}");
    vec![
        Row::new(
            "Service name",
            format!("{name}@{realm}"),
            "people's browsers ask for a ticket for it; one account alone may have it",
        )
        .proven(format!("kvno {name}")),
        Row::new(
            "With MIT Kerberos",
            format!("kadmin: addprinc -randkey {name}\nkadmin: ktadd -k {secret}.keytab {name}"),
            "each ktadd makes the key anew: the keytab before it is of no use any more",
        )
        .proven(format!("klist -k -e -t {secret}.keytab\nkinit -k -t {secret}.keytab {name}")),
        Row::new("With Active Directory", active_directory(&name, &format!("svc-{secret}"), secret, realm), AD_WHY)
            .proven(format!("setspn -Q {name}\nkinit -k -t {secret}.keytab {name}")),
    ]
}

const AD_WHY: &str = "a user account with AES switched on, whose password does not run out; RC4 is not needed";

fn active_directory(name: &str, account: &str, secret: &str, realm: &str) -> String {
    // An account's name in Active Directory has at most 20 characters.
    let account: String = account.chars().take(20).collect();
    let account = account.trim_end_matches('-');
    format!(
        "New-ADUser {account} -KerberosEncryptionType AES256 -PasswordNeverExpires $true\nsetspn -S {name} {account}\n\
         ktpass /princ {name}@{realm} /mapuser {account} /crypto AES256-SHA1 /ptype KRB5_NT_PRINCIPAL +rndPass /out {secret}.keytab\nEnable-ADAccount {account}"
    )
}

fn account(gate: &Gate, t: &UpstreamTicket, realm: &str) -> Vec<Row> {
    let place = format!("gate {}", gate.name);
    let mut out = vec![
        Row::new(
            "The application's service name",
            t.service.clone(),
            format!("{place} shows it tickets; its own team holds the key"),
        )
        .proven(format!("kvno {}", t.service)),
    ];
    let Some(b) = t.behalf.as_ref().filter(|b| realm_of(&b.account) == realm) else { return out };
    let name = name_and_realm(&b.account).0;
    let service = name_and_realm(&t.service).0;
    let file = format!("{}.keytab", b.keytab);
    out.extend([
        Row::new("Our account", b.account.clone(), format!("{place} gets tickets with it as people who came without one"))
            .proven(format!("kinit -k -t {file} {name}")),
        Row::new(
            "With MIT Kerberos",
            format!(
                "kadmin: addprinc -randkey +ok_to_auth_as_delegate {name}\nkadmin: ktadd -k {file} {name}\non its entry: \
                 krbAllowedToDelegateTo: {}",
                t.service
            ),
            "it may act for people, and towards that service alone; the KDC's database must be a directory",
        )
        .proven(format!("kinit -k -t {file} {name}\nkvno -U PERSON -P {service}")),
        Row::new(
            "With Active Directory",
            format!(
                "{}\nSet-ADAccountControl ACCOUNT -TrustedToAuthForDelegation $true\nSet-ADUser ACCOUNT -Add \
                 @{{'msDS-AllowedToDelegateTo'='{service}'}}",
                active_directory(name, &format!("svc-{}", b.keytab), &b.keytab, realm)
            ),
            "ACCOUNT is the one made above; “use any authentication protocol”, towards that service alone",
        )
        .proven(format!("kvno -U PERSON -P {service}")),
        Row::new(
            "People who may not be delegated",
            "those of whom you wish it",
            "-allow_forwardable, or “account is sensitive”: the gate refuses them, and says why",
        )
        .proven(format!("kvno -U SUCH-A-PERSON -P {service}")),
    ]);
    out
}

fn trust(realm: &str, to: &str) -> Row {
    Row::new(
        format!("From {realm} to {to}"),
        format!("kadmin: addprinc krbtgt/{to}@{realm}"),
        format!("in both realms, with the same password and encryption types; people of {realm} then get tickets of {to}"),
    )
    .proven(format!("kinit PERSON@{realm}\nkvno krbtgt/{to}@{realm}"))
}

/// Settings of browsers and of krb5.conf, for whoever keeps people's machines.
fn machines(site: &Site, hosts: &[(&str, &str)], gates: &[(&Gate, &UpstreamTicket)], realm: &str) -> Vec<Row> {
    let sign_in = site.address.name().to_owned();
    let check = format!("curl --negotiate -u : -v {}", site.address.at("/"));
    let mut names: Vec<&str> = hosts.iter().map(|(h, _)| *h).collect();
    if !names.contains(&sign_in.as_str()) {
        names.push(&sign_in);
    }
    let list = names.join(",");
    let mut out = vec![
        Row::new(
            "Chromium and Edge",
            format!("AuthServerAllowlist = {list}"),
            "a browser negotiates with hosts of this list alone",
        )
        .proven("chrome://policy on one machine"),
        Row::new("Firefox", format!("network.negotiate-auth.trusted-uris = {list}"), "the same").proven("about:config"),
        Row::new("Windows", format!("intranet zone: {}", site.address.at("")), "for programs that ask the system")
            .proven("Internet options, Security, Local intranet"),
    ];
    if gates.iter().any(|(_, t)| t.takes_forwarded()) {
        out.push(
            Row::new(
                "Tickets that are sent along",
                format!("AuthNegotiateDelegateAllowlist = {list}\nnetwork.negotiate-auth.delegation-uris = {list}"),
                "the person's own ticket goes on to the application; it must be forwardable",
            )
            .proven("klist -f shows F for krbtgt"),
        );
    }
    out.push(
        Row::new(
            "Name of the host",
            format!("{sign_in}: an address record, no alias"),
            "some browsers ask for a ticket for what an alias stands for",
        )
        .proven(format!("host {sign_in}")),
    );
    out.push(
        Row::new(
            "Realm of the host",
            format!("[domain_realm] {sign_in} = {realm}"),
            "where the domain's name is not the realm's, in krb5.conf or as a host mapping",
        )
        .proven(check),
    );
    out
}

fn back(hosts: &[(&str, &str)], gates: &[(&Gate, &UpstreamTicket)], realm: &str) -> Vec<Row> {
    let mut keytabs: Vec<&str> = hosts.iter().map(|(_, secret)| *secret).collect();
    let of_gates = gates.iter().filter_map(|(_, t)| t.behalf.as_ref()).filter(|b| realm_of(&b.account) == realm);
    keytabs.extend(of_gates.map(|b| b.keytab.as_str()));
    keytabs.sort_unstable();
    keytabs.dedup();
    let mut out: Vec<Row> = keytabs
        .iter()
        .map(|k| Row::new(format!("{k}.keytab"), "", "by a safe way: it is as good as the account's password"))
        .collect();
    out.extend([
        Row::new("KDCs", "", "names and ports (88, TCP and UDP), or that DNS names them in _kerberos._udp"),
        Row::new("Encryption types", "", "those that tickets are given with: aes256-cts-hmac-sha384-192 or -sha1-96 wished"),
        Row::new("Source of time", "", "ours must be within five minutes of yours"),
        Row::new("Longest ticket", "", "for so long an older key is kept beside a new one"),
    ]);
    out
}

//! From a lease to a page, with a real DHCP server and client.

use passeur_standins::cage::{ROUTER, SITE, VISITOR, written};

use super::{on, without_terms};
use crate::networks::yard;
use crate::support::{Harbour, eventually};

#[tokio::test(flavor = "multi_thread")]
async fn a_machine_that_leases_its_address_is_told_of_the_portal_and_loses_the_network_with_its_address() {
    if !Harbour::is_caged(
        "yard::leases::a_machine_that_leases_its_address_is_told_of_the_portal_and_loses_the_network_with_its_address",
    ) {
        return;
    }
    let harbour = Harbour::new(without_terms).await;
    harbour.yard.serve();
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    let portal = yard(&harbour.stack, "/.passeur/captive");
    // One address to lease, so that whoever comes next has the same; addresses of the other family by router advertisement.
    let line = format!(
        "dnsmasq -k --conf-file=/dev/null --port=0 --no-hosts --pid-file= --user=root --interface=yard0 --except-interface=lo --bind-interfaces \
         --dhcp-range=10.70.0.100,10.70.0.100,255.255.255.0,120 --dhcp-authoritative --no-ping --dhcp-leasefile={} \
         --enable-ra --dhcp-range=fd70:70::,ra-stateless,64,600 --dhcp-option=114,{portal}",
        at("leases")
    );
    let mut server = harbour.yard.start(None, &line);
    let script = "#!/bin/sh\ncase \"$reason\" in BOUND|RENEW|REBIND|REBOOT)\n ip -4 addr flush dev \"$interface\"\n \
        ip addr add \"$new_ip_address/24\" dev \"$interface\"; ip route replace default via \"$new_routers\"\n \
        printf %s \"$new_captive_portal\" > \"$YARD_CAPTIVE\" ;; EXPIRE|FAIL|RELEASE|STOP) ip -4 addr flush dev \"$interface\" ;; esac\n";
    std::fs::write(at("script"), script).unwrap();
    std::fs::set_permissions(at("script"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    std::fs::write(
        at("conf"),
        "option captive-portal code 114 = text;\nrequest subnet-mask, routers, captive-portal;\ntimeout 5;\n",
    )
    .unwrap();
    let lease = |machine: &str| {
        let own = |name: &str| at(&format!("{name}.{machine}"));
        std::fs::write(own("lease"), "").unwrap();
        harbour.yard.on(
            machine,
            &format!(
                "ip -4 addr flush dev eth0; dhclient -4 -1 -q -e YARD_CAPTIVE={} -cf {} -sf {} -lf {} -pf {} eth0",
                own("captive"),
                at("conf"),
                at("script"),
                own("lease"),
                own("pid")
            ),
        )
    };
    let mut said = String::new();
    eventually("the visitor's machine has a lease", async || {
        let (done, words) = lease("visitor");
        said = words;
        done
    })
    .await;
    assert_eq!(std::fs::read_to_string(at("captive.visitor")).unwrap(), portal, "{said}");
    let (_, addresses) = harbour.yard.on("visitor", "ip -br addr show eth0");
    assert!(addresses.contains("10.70.0.100"), "{addresses}");
    assert!(!harbour.reaches("visitor", SITE[0], 443));
    on(&harbour, "farid").await;
    for host in SITE {
        assert!(harbour.reaches("visitor", host, 443), "{host}");
    }
    let had = harbour.stack.get("/presences/addresses?address=10.70.0.100").await;
    assert_eq!(had[0]["hardware"], written(&VISITOR.hardware), "{had}");
    // The machine goes, and its address goes to another machine: that one has nothing of it.
    let (done, words) = harbour.yard.on(
        "visitor",
        &format!(
            "dhclient -4 -r -q -cf {} -sf {} -lf {} -pf {} eth0",
            at("conf"),
            at("script"),
            at("lease.visitor"),
            at("pid.visitor")
        ),
    );
    assert!(done, "{words}");
    eventually("the tablet has the address that was the visitor's", async || {
        lease("tablet").0 && harbour.yard.on("tablet", "ip -br addr show eth0").1.contains("10.70.0.100")
    })
    .await;
    assert!(!harbour.reaches("tablet", SITE[0], 443), "the address alone opens nothing");
    let mut tablet = harbour.yard.start(Some("tablet"), &format!("ping -q -c 3 {}", ROUTER[0]));
    tablet.wait().unwrap();
    eventually("the visitor's machine is off", async || {
        let all = harbour.stack.get("/presences?all=true&text=farid").await;
        all["presences"][0]["ended_by"] == "its address went to another machine"
    })
    .await;
    let had = harbour.stack.get("/presences/addresses?address=10.70.0.100").await;
    assert!(had.as_array().unwrap().iter().any(|h| h["subject"] == "p-1004" && h["until"].is_string()), "{had}");
    server.kill().unwrap();
    server.wait().unwrap();
}

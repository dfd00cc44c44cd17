//! Devices at the far end of tunnels: the VPN server verifies what clients show, and the gate asks whose it is.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use reqwest::StatusCode;

use super::{answers, comes_in, opens, present};
use crate::support::{Authority, Person, Sea, eventually};

/// The site with a check of laptops by an authority, which the gate of the tunnel requires.
fn requiring(site: &str, authority: &[u8]) -> String {
    let gate = "[[gate.device]]\ncheck = \"laptop\"\nwords = \"Ask the harbour desk for a laptop.\"\n\n[[gate.device]]\ncheck = \"kept-up\"";
    let site = site.replacen("[[gate.device]]\ncheck = \"kept-up\"", gate, 1);
    format!(
        "{site}\n[[device-check]]\nname = \"laptop\"\ntitle = \"a laptop of the harbour\"\nclient = \"2.5\"\n[device-check.certificate]\nauthorities = [\"{}\"]\n",
        STANDARD.encode(authority)
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn a_tunnel_is_of_a_laptop_by_the_authority_that_its_server_saw() {
    if !Sea::is_caged("tunnels::laptops::a_tunnel_is_of_a_laptop_by_the_authority_that_its_server_saw") {
        return;
    }
    let sea = Sea::new(|site| site).await;
    sea.harbour.yard.serve();
    let own = std::fs::read_to_string(sea.folder.path().join("ca.pem")).unwrap();
    let own = passeur_core::x509::certificate(&own).unwrap();
    let published = sea.harbour.stack.publish(&requiring(&sea.harbour.stack.site, &own)).await;
    assert_eq!(published.0, 200, "{}", published.1);
    // The browser in which the pilot signs in has no certificate: the machine of the tunnel counts.
    let (_person, mut client, page) = comes_in(&sea, "anouk", "anouk").await;
    assert!(page.body.contains("The tunnel is open"), "{}", page.body);
    client.says("Initialization Sequence Completed", 1).await;
    let on = present(&sea).await;
    let story = sea.harbour.stack.story(on[0]["crossing"].as_str().unwrap()).await.to_string();
    assert!(story.contains("a good certificate of CN=client"), "{story}");
    // Another edition, which believes another authority: the tunnel ends, and nobody comes in by that certificate.
    let other = Authority::new("other-laptops");
    assert_eq!(sea.harbour.stack.publish(&requiring(&sea.harbour.stack.site, &other.der())).await.0, 200);
    eventually("the tunnel ends", async || client.is_over() || present(&sea).await.is_empty()).await;
    let again = sea.connect_by_browser("again");
    let mut anouk = Person::new();
    let page = opens(&sea, &mut anouk, &again, 1, "anouk").await;
    let page = if page.body.contains("Is it yours") { answers(&mut anouk, &page, "yes").await } else { page };
    assert!(page.body.contains("Ask the harbour desk for a laptop."), "{} {}", page.status, page.body);
    assert_ne!(page.status, StatusCode::INTERNAL_SERVER_ERROR);
    let all = sea.harbour.stack.get("/crossings?limit=1&gate=tunnel").await;
    let story = sea.harbour.stack.story(all["crossings"][0]["id"].as_str().unwrap()).await.to_string();
    assert!(story.contains("none of these authorities issued it"), "{story}");
    assert!(present(&sea).await.is_empty());
}

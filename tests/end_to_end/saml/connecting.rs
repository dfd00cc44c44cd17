//! Connecting a provider: the sheet, one address, and the trial of values.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::json;

use super::received;
use crate::support::{Person, Stack};

#[tokio::test(flavor = "multi_thread")]
async fn the_values_of_the_handover_sheet_are_all_that_the_other_side_needs() {
    let stack = Stack::new().await;
    // Made before the provider is in the site, as the engineer would hand it over.
    let sheet = stack.get("/handover/provider/agents-office?kind=saml").await;
    assert_eq!(sheet["connected"], false);
    let value = |label: &str| -> String {
        let rows = sheet["tables"][0]["rows"].as_array().unwrap();
        rows.iter().find(|r| r["label"] == label).unwrap_or_else(|| panic!("{label}: {sheet}"))["value"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let pem: String = value("Our certificate").lines().filter(|l| !l.contains("CERTIFICATE")).collect();
    let service = passeur_standins::provider::Service {
        entity_id: value("Entity id"),
        consumers: vec![value("Consumer address (ACS)")],
        sign_out: Some(value("Logout address")),
        certificates: vec![STANDARD.decode(pem).unwrap()],
        encrypt: true,
    };
    stack.provider.add_service(service);
    // And what comes back is one address.
    let here = format!("http://bureau-pilotage.localhost:{}/saml/metadata", stack.provider_port());
    let (_, read) = stack.post("/providers/read", json!({"address": here, "name": "agents-office"})).await;
    let part = read["part"].as_str().unwrap();
    let site = format!(
        "{}\n{part}user = \"user\"\n",
        stack.site.replace("provider = \"pilotage-saml\"", "provider = \"agents-office\"")
    );
    let (status, said) = stack.publish(&site).await;
    assert_eq!(status, 200, "{said}");
    let page = Person::new().sign_in_by_saml(&stack.agents("/received"), "benoit").await;
    assert!(page.status == 200 && received(&page, "x-harbour-user", "benoit"), "{}", page.body);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_trial_names_the_wrong_value_and_one_address_makes_the_part_of_the_site_file() {
    let stack = Stack::new().await;
    let verdicts = |answer: &serde_json::Value| -> Vec<(String, String)> {
        let all = answer["checks"].as_array().unwrap().iter();
        all.map(|c| (c["value"].as_str().unwrap().to_owned(), c["verdict"].as_str().unwrap().to_owned())).collect()
    };
    let (_, good) = stack.post("/trials/provider", json!({"name": "pilotage-saml"})).await;
    assert_eq!(good["good"], true, "{good}");
    assert!(verdicts(&good).contains(&("consumer address".into(), "good".into())), "{good}");
    let here = format!("http://bureau-pilotage.localhost:{}", stack.provider_port());
    for (change, value) in [
        (json!({"issuer": format!("{here}/saml/")}), "issuer"),
        (json!({"metadata": format!("{here}/nothing")}), "address"),
        (json!({"metadata": format!("{here}/.well-known/openid-configuration")}), "metadata"),
        (json!({"metadata": "http://bureau-pilotage.example/"}), "address"),
        (json!({"metadata": "http://127.0.0.1:1/"}), "address"),
    ] {
        let mut ask = change.clone();
        ask["name"] = "pilotage-saml".into();
        let (_, answer) = stack.post("/trials/provider", ask).await;
        assert!(verdicts(&answer).contains(&(value.into(), "wrong".into())), "{change}: {answer}");
    }
    stack.provider.add_service(passeur_standins::provider::Service {
        entity_id: stack.pass("/.passeur/saml/metadata"),
        consumers: vec!["https://elsewhere.example/".into()],
        ..Default::default()
    });
    let (_, answer) = stack.post("/trials/provider", json!({"name": "pilotage-saml"})).await;
    assert!(verdicts(&answer).contains(&("consumer address".into(), "wrong".into())), "{answer}");
    // One field is enough.
    for (address, kind) in [
        (format!("{here}/saml/metadata"), "saml"),
        (here.clone(), "oidc"),
        (format!("{here}/.well-known/openid-configuration"), "oidc"),
    ] {
        let (status, part) = stack.post("/providers/read", json!({"address": address})).await;
        assert_eq!((status, part["kind"].as_str()), (200, Some(kind)), "{part}");
        let site = format!(
            "format = 1\n[site]\nname = \"S\"\naddress = \"https://s.example\"\n{}",
            part["part"].as_str().unwrap().replace("client = \"\"", "client = \"c\"")
        );
        let (_, checked) = stack.post("/site/check", json!({"document": site})).await;
        assert!(!checked.to_string().contains("\"error\""), "{site}\n{checked}");
    }
    let (status, part) = stack.post("/providers/read", json!({"text": stack.provider.saml_metadata(), "name": "by-file"})).await;
    assert_eq!(status, 200, "{part}");
    let text = part["part"].as_str().unwrap();
    assert!(text.contains("sign-on = ") && text.contains(&stack.provider.certificate()), "{text}");
    for bad in [
        json!({}),
        json!({"address": "http://elsewhere.example"}),
        json!({"address": format!("{here}/nothing")}),
        json!({"text": "<a/>"}),
        json!({"text": "{}"}),
    ] {
        assert_eq!(stack.post("/providers/read", bad.clone()).await.0, 400, "{bad}");
    }
}

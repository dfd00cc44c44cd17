//! Machines that nobody sits at: let in by their hardware addresses where the site file lists them and a rule means them.

use serde_json::{Value, json};

use super::{ACCEPT, CALLING, FILTER, PASSWORD, REJECT, SERVICE, USER, VLAN, doors, latest, quays};
use crate::support::Told;

const CALL_CHECK: [u8; 4] = [0, 0, 0, 10];
const CAMERA: &str = "00:1b:44:11:3a:b7";
const TIMEOUT: u8 = 27;

#[tokio::test(flavor = "multi_thread")]
async fn a_camera_is_let_in_by_its_address_until_its_last_day_and_gets_what_machines_get() {
    let stack = quays(|site| site).await;
    let nas = doors(&stack).await;
    let asks = async |attributes: &[(u8, &[u8])]| -> Told { nas.asks(&nas.request(attributes)).await };
    // As switches write it.
    for said in [CAMERA, "00-1B-44-11-3A-B7", "001b.4411.3ab7", "001b44113ab7"] {
        let told = asks(&[(USER, said.as_bytes()), (SERVICE, &CALL_CHECK), (CALLING, b"00-1B-44-11-3A-B7")]).await;
        let (line, story) = latest(&stack).await;
        assert_eq!((told.code, told.texts(FILTER)), (ACCEPT, vec!["cameras".to_owned()]), "{said}: {told:?}\n{story}");
        assert_eq!(told.texts(VLAN), ["cameras"]);
        assert_eq!(line["person"], "camera at gate 4");
        assert!(story.contains("camera at gate 4 of quay works (watches gate 4)") && story.contains("can copy"), "{story}");
    }
    let sessions = stack.get("/sessions").await;
    let of = |s: &Value| s["subject"] == CAMERA && s["provider"] == "quay-machines";
    assert!(sessions.as_array().unwrap().iter().any(of), "{sessions}");
    // Another machine, one that another calls for, and several at once.
    for (attributes, why) in [
        (
            vec![(USER, &b"00:1b:44:11:3a:b8"[..]), (SERVICE, &CALL_CHECK)],
            "00:1b:44:11:3a:b8, which way in quay-machines does not list",
        ),
        (
            vec![(USER, &b"00:1b:44:11:3a:bb"[..]), (SERVICE, &CALL_CHECK)],
            "00:1b:44:11:3a:bb, which way in quay-machines does not list",
        ),
        (vec![(USER, CAMERA.as_bytes()), (SERVICE, &CALL_CHECK), (CALLING, b"00-1B-44-11-3A-B8")], "00-1B-44-11-3A-B8 calls"),
        (vec![(USER, &b"ff:ff:ff:ff:ff:ff"[..]), (SERVICE, &CALL_CHECK)], "name and a password"),
    ] {
        let told = asks(&attributes).await;
        let (_, story) = latest(&stack).await;
        assert!(told.code == REJECT && story.contains(why), "{why}: {told:?}\n{story}");
    }
    // Whoever types the address as a name, and as a password, is a person whom the directory does not know.
    let told = asks(&[(USER, CAMERA.as_bytes()), (PASSWORD, CAMERA.as_bytes())]).await;
    let (_, story) = latest(&stack).await;
    assert!(told.code == REJECT && !story.contains("camera at gate 4"), "{told:?}\n{story}");
    // Taken off the list, it is let in no more, and whoever is in by it is out.
    let other = stack.site.replace(CAMERA, "00:1b:44:11:3a:c9");
    assert_eq!(stack.publish(&other).await.0, 200);
    let told = asks(&[(USER, CAMERA.as_bytes()), (SERVICE, &CALL_CHECK)]).await;
    assert_eq!(told.code, REJECT);
    crate::support::eventually("it is on nowhere", async || {
        let all = stack.get("/sessions").await;
        !all.as_array().unwrap().iter().any(|s| s["subject"] == CAMERA && s["ended_at"] == json!(null) && s["state"] != "ended")
    })
    .await;
    // On its last day it is told to be over with that day; on the next it is nobody.
    let today = stack.clock.now().date_naive();
    let last = stack.site.replace("until = \"2031-12-31\"", &format!("until = \"{today}\""));
    assert_eq!(stack.publish(&last).await.0, 200);
    let told = asks(&[(USER, CAMERA.as_bytes()), (SERVICE, &CALL_CHECK)]).await;
    let left = (today.succ_opt().unwrap().and_time(chrono::NaiveTime::MIN).and_utc() - stack.clock.now()).num_seconds();
    let most = u32::try_from(left + 2).unwrap().min(12 * 3_600);
    assert!(told.code == ACCEPT && told.number(TIMEOUT).unwrap() <= most, "{told:?}");
    let before = stack.site.replace("until = \"2031-12-31\"", &format!("until = \"{}\"", today.pred_opt().unwrap()));
    assert_eq!(stack.publish(&before).await.0, 200);
    let told = asks(&[(USER, CAMERA.as_bytes()), (SERVICE, &CALL_CHECK)]).await;
    let (_, story) = latest(&stack).await;
    assert!(told.code == REJECT && story.contains("was to be let in until"), "{told:?}\n{story}");
}

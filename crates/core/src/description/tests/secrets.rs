use super::*;

const OPEN: &str = "node = \"works-1\"\nuser = \"works\"\npassword = \"sealed:password\"\ncertificate = \"file:/etc/works.pem\"\n\
                    key = \"sealed:key\"\nfallbacks = \"mqtts://second.example\"\nserver-name = \"cloud.example\"";

#[test]
fn all_secrets_of_what_runs_are_revealed_and_told_where_they_go() {
    let gateway = GATEWAY.replace("mqtt://broker", "mqtts://broker").replace("node = \"works-1\"", OPEN);
    let mut description = read(&files(&gateway, POINTS)).unwrap();
    let mut seen = Vec::new();
    let revealed = description.reveal(|goes_to, sealed| {
        seen.push(goes_to.to_owned());
        sealed.strip_prefix("sealed:").map(|text| format!("plain {text}")).ok_or(())
    });
    assert_eq!(revealed, Ok(()));
    let broker = &description.uplinks[0].broker;
    assert_eq!(broker.password.as_ref().unwrap().reveal(), "plain password");
    assert_eq!(broker.key.as_ref().unwrap().reveal(), "plain key");
    let goes_to = "mqtts://broker.example\nmqtts://second.example\ncloud.example\n";
    assert_eq!(seen, [goes_to, goes_to], "each of them is opened, for its brokers in their own form");

    let mut description = read(&files(&gateway, POINTS)).unwrap();
    assert_eq!(description.reveal(|_, _| Err("closed")), Err("closed"));
}

#[test]
fn what_leads_elsewhere_is_another_place() {
    let links = [
        serde_json::json!({ "name": "a", "protocol": "modbus-tcp", "host": "10.20.0.11" }),
        serde_json::json!({ "name": "b", "protocol": "modbus-tcp", "host": "10.20.0.11", "port": 502 }),
        serde_json::json!({ "name": "c", "protocol": "modbus-tcp", "host": "10.20.0.11", "port": 503 }),
        serde_json::json!({ "name": "d", "protocol": "modbus-rtu", "device-path": "/dev/ttyS1" }),
    ];
    let of_link = |at: usize| destination(ObjectClass::Link, &links[at], &links);
    assert_eq!(of_link(0), of_link(1), "a default that is said is the same place");
    assert!(of_link(0) != of_link(2) && of_link(3).contains("/dev/ttyS1"));
    for (at, link) in ["a", "b", "c", "d"].into_iter().enumerate() {
        let device = serde_json::json!({ "name": "pump", "link": link });
        assert_eq!(
            destination(ObjectClass::Device, &device, &links),
            of_link(at),
            "what is behind a link goes its way"
        );
    }
}

//! What needs a person: one list for the whole site, the worst first, with what to do about it.

use super::status::Status;
use interlex_core::{DeviceState, DeviceStatus, LinkState, LinkStatus, UplinkState, UplinkStatus};
use interlex_gateway::GatewayStatus;
use serde::Serialize;

/// How bad something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Urgency {
    /// Values are being lost.
    Losing,
    /// A part does not work.
    Broken,
    /// Some values are not good.
    Doubtful,
    /// It works, and will not for long.
    Soon,
}

/// Something that needs a person.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub(crate) struct Need {
    /// How bad it is; the list begins with the worst.
    urgency: Urgency,
    /// The gateway; empty where it is about the service.
    gateway: String,
    /// What it is about: database, uplink, link, device.
    kind: &'static str,
    /// Its name.
    name: String,
    /// What is the matter.
    what: String,
    /// Since when, in milliseconds since 1970 UTC; `null` where nobody knows.
    since: Option<i64>,
    /// What to do about it.
    action: String,
}

/// Certificates are warned of so long before they end.
const ENDING: i64 = 30 * 86_400_000;

/// What needs a person now, the worst first; of the same urgency, what began first.
pub(crate) fn needs(status: &Status) -> Vec<Need> {
    let mut needs = Vec::new();
    if !status.database.up {
        let why = status.database.last_error.as_deref().unwrap_or("it does not answer");
        needs.push(Need {
            urgency: Urgency::Broken,
            gateway: String::new(),
            kind: "database",
            name: "database".to_owned(),
            what: format!("The database is away: {why}"),
            since: Some(status.database.since),
            action: "Start MariaDB again, or look at its disk. Polling and publishing go on; what waits is in memory until then."
                .to_owned(),
        });
    }
    for gateway in &status.gateways {
        needs.extend(gateway.uplinks.iter().flat_map(|uplink| of_uplink(gateway, uplink, status.at)));
        needs.extend(gateway.links.iter().flat_map(|link| of_link(gateway, link)));
    }
    needs.sort_by_key(|need| (need.urgency, need.since.unwrap_or(i64::MAX)));
    needs
}

fn of_uplink(gateway: &GatewayStatus, uplink: &UplinkStatus, now: i64) -> Vec<Need> {
    let need = |urgency, what: String, since, action: &str| Need {
        urgency,
        gateway: gateway.name.clone(),
        kind: "uplink",
        name: uplink.name.clone(),
        what,
        since,
        action: action.to_owned(),
    };
    let mut needs = Vec::new();
    let buffer = &uplink.buffer;
    let kept = counted(buffer.waiting, if uplink.kind == "json" { "message" } else { "sample" });
    if buffer.is_full {
        let what = format!("There is no room beside {kept} that wait: others are being lost");
        let action = "Bring the broker back, or give the uplink a larger journal.";
        needs.push(need(Urgency::Losing, what, buffer.oldest_at, action));
    }
    match uplink.state {
        UplinkState::Offline => {
            let why = uplink.last_error.as_deref().unwrap_or("no connection");
            let kept = if buffer.waiting > 0 { format!("; {kept} kept until then") } else { String::new() };
            let action =
                "Look at the broker and the network there, then at address, certificates and password of the uplink.";
            let what = format!("The broker at {} cannot be reached: {why}{kept}", uplink.url);
            needs.push(need(Urgency::Broken, what, Some(uplink.since), action));
        }
        UplinkState::Waiting => {
            let action = "Start the primary host, or take primary-host out of the uplink.";
            let what = format!("The primary host is not online; {kept} kept until then");
            needs.push(need(Urgency::Broken, what, Some(uplink.since), action));
        }
        UplinkState::Connecting | UplinkState::Online => {}
    }
    if let Some(error) = &buffer.journal_error {
        let action = "Look at the database: until it takes the journal, a crash costs what waits.";
        needs.push(need(Urgency::Doubtful, format!("The journal waits for the database: {error}"), None, action));
    }
    if let Some(until) = uplink.certificate_until.filter(|until| until - now < ENDING) {
        let days = (until - now) / 86_400_000;
        let (urgency, what) = match until < now {
            true => (Urgency::Broken, "Its certificate has ended".to_owned()),
            false => (Urgency::Soon, format!("Its certificate ends in {days} days")),
        };
        needs.push(need(urgency, what, None, "Ask for a new certificate at the page of the uplink."));
    }
    needs
}

fn of_link(gateway: &GatewayStatus, link: &LinkStatus) -> Vec<Need> {
    let need = |urgency, kind, name: &str, what: String, since, action: &str| Need {
        urgency,
        gateway: gateway.name.clone(),
        kind,
        name: name.to_owned(),
        what,
        since,
        action: action.to_owned(),
    };
    if link.state == LinkState::Down {
        let why = link.last_error.as_deref().unwrap_or("no connection");
        let points: u64 = link.devices.iter().map(|device| device.points as u64).sum();
        let what = format!("No way to {}: {why}; {} have no new values", link.target, counted(points, "point"));
        let action = "Look at power, cable and address of what is at the other end.";
        return vec![need(Urgency::Broken, "link", &link.name, what, Some(link.since), action)];
    }
    let of_device = |device: &DeviceStatus| match device.state {
        DeviceState::Silent => {
            let why = device.last_error.as_deref().unwrap_or("no answer");
            let what =
                format!("It does not answer: {why}; {} have no new values", counted(device.points as u64, "point"));
            let action = "Look at its power, its cable and its address: the link itself works.";
            Some(need(Urgency::Broken, "device", &device.name, what, Some(device.since), action))
        }
        DeviceState::Up if device.points_good < device.points => {
            let bad = counted((device.points - device.points_good) as u64, "point");
            let action = "Open one of them: it says why, and its address can be mended there.";
            let what = format!("{bad} of {} not good", device.points);
            Some(need(Urgency::Doubtful, "device", &device.name, what, None, action))
        }
        DeviceState::Up | DeviceState::Waiting | DeviceState::Unreachable => None,
    };
    link.devices.iter().filter_map(of_device).collect()
}

fn counted(count: u64, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::app::DatabaseState;
    use interlex_core::{BufferState, Timestamp};

    fn device(name: &str, state: DeviceState, good: usize) -> DeviceStatus {
        let new = DeviceStatus::new(name, "", (10, 1), Timestamp::from_millis(500));
        DeviceStatus { state, points_good: good, ..new }
    }

    #[test]
    fn the_worst_comes_first_and_what_follows_from_it_is_not_told_twice() {
        let main =
            "[gateway]\nname = \"works\"\n[[link]]\nname = \"bus\"\nprotocol = \"modbus-tcp\"\nhost = \"10.0.0.1\"\n";
        let files = [("gateway.toml".to_owned(), main.to_owned())].into();
        let protocol = interlex_core::description::read(&files).unwrap().links.remove(0);
        let devices = vec![
            device("silent", DeviceState::Silent, 0),
            device("some", DeviceState::Up, 8),
            device("fine", DeviceState::Up, 10),
        ];
        let up = LinkStatus {
            state: LinkState::Up,
            ..LinkStatus::new("bus", &protocol.protocol, devices, Timestamp::from_millis(0))
        };
        let below = vec![device("behind", DeviceState::Unreachable, 0)];
        let down = LinkStatus {
            state: LinkState::Down,
            ..LinkStatus::new("line", &protocol.protocol, below, Timestamp::from_millis(100))
        };
        let uplink = UplinkStatus {
            name: "cloud".to_owned(),
            kind: "sparkplug",
            url: "mqtts://broker".to_owned(),
            node: String::new(),
            state: UplinkState::Offline,
            since: 700,
            last_error: None,
            last_error_at: None,
            counted_since: 0,
            messages: 0,
            samples_delivered: 0,
            samples_per_second: 0.0,
            buffer: BufferState { is_full: true, waiting: 9, oldest_at: Some(900), ..BufferState::default() },
            bd_seq: None,
            host_in_doubt: false,
            certificate_until: Some(1000 + 86_400_000),
        };
        let gateway = GatewayStatus {
            name: "works".to_owned(),
            title: String::new(),
            revision: 1,
            activated_at: 0,
            since: 0,
            points: 40,
            points_good: 18,
            links: vec![up, down],
            uplinks: vec![uplink],
        };
        let database = DatabaseState { up: true, since: 0, last_error: None };
        let mut status = Status { at: 1000, version: "", database, gateways: vec![gateway], needs: Vec::new() };
        let told =
            |status: &Status| needs(status).iter().map(|need| (need.urgency, need.name.clone())).collect::<Vec<_>>();
        let expected = [
            (Urgency::Losing, "cloud"),
            (Urgency::Broken, "line"),
            (Urgency::Broken, "silent"),
            (Urgency::Broken, "cloud"),
            (Urgency::Doubtful, "some"),
            (Urgency::Soon, "cloud"),
        ];
        assert_eq!(told(&status), expected.map(|(urgency, name)| (urgency, name.to_owned())));
        assert_eq!(needs(&status)[4].what, "2 points of 10 not good");
        (status.database.up, status.gateways) = (false, Vec::new());
        assert_eq!(told(&status), [(Urgency::Broken, "database".to_owned())]);
    }
}

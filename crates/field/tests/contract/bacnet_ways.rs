//! What BACnet devices do beside what all devices do.

use crate::bacnet::{config, object};
use crate::dnp3::{Gateway, until};
use crate::suite::WallClock;
use interlex_bacnet::{
    ConfirmedService, Device, DeviceHost, IAm, MacAddress, MaxApdu, Node, NodeConfig, NodeEvent, Now, Object,
    ObjectIdentifier, Peer, PropertyIdentifier, ReadProperty, ReadPropertyAck, Segmentation, Sockets, Station, Terms,
    UnconfirmedService, Value as Told,
};
use interlex_core::description::{Description, Files, read as read_files};
use interlex_core::{DeviceState, OfferEvent, Quality, Value};
use interlex_field::{
    Memories, OfferRequest, Offering, PointWrite, Relinquish, Via, WriteError, WriteOutcome, reason_words, write,
};
use serde_json::json;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio_util::sync::{CancellationToken, DropGuard};

const ALL: Ipv4Addr = Ipv4Addr::new(127, 255, 255, 255);
const PRESENT_VALUE: PropertyIdentifier = PropertyIdentifier::PRESENT_VALUE;

/// A gateway with a link of this protocol, and what its devices are.
struct Building {
    description: Description,
    gateway: Gateway,
}

impl Building {
    /// The link and the devices by their keys, and one list of points for all of them.
    fn start(link: &str, devices: &[(&str, &str)], rows: &str) -> Self {
        let mut main = format!(
            "[gateway]\nname = \"g\"\n[rates]\nfast = \"200ms\"\n[[link]]\nname = \"building\"\nprotocol = \"bacnet-ip\"\n{link}\n\
             timeout = \"300ms\"\n"
        );
        let mut files = Files::new();
        for (name, keys) in devices {
            main.push_str(&format!("[[device]]\nname = \"{name}\"\nlink = \"building\"\npoints = \"p.csv\"\n{keys}\n"));
        }
        files.insert("p.csv".to_owned(), format!("name,address,access,priority,watch,rate,deadband\n{rows}"));
        files.insert("gateway.toml".to_owned(), main);
        let description = read_files(&files).unwrap();
        let gateway = Gateway::start(&description);
        Self { description, gateway }
    }

    /// Takes whatever listeners are told, so that nobody waits.
    fn listen(mut self) -> Self {
        let (_, events) = mpsc::channel(1);
        let mut events = std::mem::replace(&mut self.gateway.events, events);
        tokio::spawn(async move { while events.recv().await.is_some() {} });
        self
    }

    fn state(&self, device: &str) -> DeviceState {
        self.gateway.link.status().devices.iter().find(|known| known.name == device).unwrap().state
    }

    fn error(&self, device: &str) -> String {
        let status = self.gateway.link.status();
        status.devices.iter().find(|known| known.name == device).unwrap().last_error.clone().unwrap_or_default()
    }

    async fn is_up(&self, device: &str) {
        until(&format!("{device} is up: {}", self.error(device)), || self.state(device) == DeviceState::Up).await;
    }

    /// What a point shows: value, class of quality, reason.
    fn shows(&self, device: &str, point: &str) -> (String, &'static str, String) {
        let index = self.gateway.points.find(device, point).unwrap().index;
        let reading = self.gateway.latest.read(index).unwrap();
        let reason = reading.quality.reason().map(reason_words).unwrap_or_default();
        (reading.value.map_or_else(String::new, |value| value.to_string()), reading.quality.class(), reason)
    }

    async fn becomes(&self, device: &str, point: &str, value: &str, class: &str) {
        let what = || format!("{device}/{point} becomes {value} {class}");
        until(&what(), || {
            let (now, quality, _) = self.shows(device, point);
            (now.as_str(), quality) == (value, class)
        })
        .await;
    }

    fn via(&self) -> Via {
        Via { links: vec![self.gateway.link.clone()], memories: Memories::default(), clock: Arc::new(WallClock) }
    }

    async fn command(&self, device: &str, point: &str, value: Option<Value>) -> Result<WriteOutcome, WriteError> {
        let (link, info) = (self.description.links[0].clone(), self.gateway.points.find(device, point).unwrap());
        let device = self.description.devices.iter().find(|known| known.settings.name.as_str() == device).unwrap();
        let point = info.point().into_owned();
        let relinquishes = if value.is_some() { Relinquish::No } else { Relinquish::Yes };
        let (value, device, index) = (value.unwrap_or(Value::Bool(false)), device.clone(), Some(info.index));
        write(&PointWrite { link, device, point, value, relinquishes, index }, &self.via()).await
    }

    async fn words(&self, point: &str, value: Option<Value>) -> String {
        match self.command("one", point, value).await {
            Ok(outcome) => outcome.words,
            Err(error) => error.outcome().to_string(),
        }
    }

    /// What a source tells.
    async fn offers(&self, source: &str, device: Option<&str>, filled: serde_json::Value) -> Vec<OfferEvent> {
        let link = self.description.links[0].clone();
        let of_name = |name: &str| self.description.devices.iter().find(|known| known.settings.name.as_str() == name);
        let device = device.and_then(of_name).cloned();
        let (events, mut told) = mpsc::channel(8);
        let request = OfferRequest { link, device, source: source.to_owned(), filled };
        let offering = Offering::new(&request, events).unwrap();
        let via = self.via();
        tokio::spawn(async move { offering.carry_out(&via).await });
        let mut all = Vec::new();
        while let Some(event) = told.recv().await {
            all.push(event);
        }
        all
    }
}

/// A port that nobody else uses, so that broadcasts reach nobody else.
fn own_port() -> u16 {
    interlex_sidecar::own_socket().unwrap().port()
}

struct Stop(CancellationToken, #[expect(dead_code, reason = "it stops when it is dropped")] DropGuard);

fn stop() -> Stop {
    let stop = CancellationToken::new();
    Stop(stop.clone(), stop.drop_guard())
}

fn host(
    at: SocketAddrV4,
    broadcast: Ipv4Addr,
    devices: Vec<(Option<Station>, Device)>,
    stop: &Stop,
) -> Arc<DeviceHost> {
    let host = DeviceHost::bind(at, broadcast, devices).unwrap();
    tokio::spawn(Arc::clone(&host).serve(stop.0.clone()));
    host
}

/// A device with so many temperatures.
fn device(instance: u32, temperatures: u32) -> Device {
    (1..=temperatures).fold(Device::new(config(instance)), |device, number| {
        let temperature = Object::valued(object(0, number), &format!("temperature-{number}"), 20.5_f32)
            .with(PropertyIdentifier::UNITS, Told::Enumerated(62))
            .with(PropertyIdentifier::COV_INCREMENT, 0.5_f32);
        device.with(temperature)
    })
}

fn rows(temperatures: u32) -> String {
    (1..=temperatures).map(|number| format!("t{number},analog-input:{number},read,,,fast\n")).collect()
}

fn set(host: &DeviceHost, instance: u32, number: u32, value: f32) {
    host.with_object(instance, object(0, number), |object| object.set(PRESENT_VALUE, value));
}

/// One device at an address of its own, and a link that only speaks with it.
fn alone(device: Device, keys: &str, rows: &str, stop: &Stop) -> (Arc<DeviceHost>, Building) {
    let (at, own) = (interlex_sidecar::own_address(), interlex_sidecar::own_address());
    let instance = device.config().instance;
    let host = host(SocketAddrV4::new(at, 47_808), at, vec![(None, device)], stop);
    let link = format!("interface = \"{own}\"\nbroadcast = \"{own}\"");
    let keys = format!("instance = {instance}\nhost = \"{at}\"\n{keys}");
    (host, Building::start(&link, &[("one", &keys)], rows).listen())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_is_found_by_its_instance_and_found_again_elsewhere() {
    let (stop, port) = (stop(), own_port());
    let [first, second, own] = [(); 3].map(|()| interlex_sidecar::own_address());
    let before = host(SocketAddrV4::new(first, port), ALL, vec![(None, device(4001, 1))], &stop);
    let building =
        Building::start(&format!("interface = \"{own}\"\nport = {port}"), &[("one", "instance = 4001")], &rows(1))
            .listen();
    building.is_up("one").await;
    building.becomes("one", "t1", "20.5", "good").await;
    // Somebody else says that it is 4001, while the one that is known is there: nobody knows who is meant.
    let after = host(SocketAddrV4::new(second, port), ALL, vec![(None, device(4001, 1))], &stop);
    set(&after, 4001, 1, 99.0);
    let say =
        |host: &DeviceHost| host.with(4001, |device, node, _| device.say_who(node, interlex_bacnet::Audience::Local));
    until("two have one instance", || {
        say(&after);
        building.error("one").contains("both have this instance")
    })
    .await;
    assert_eq!(building.shows("one", "t1").0, "20.5", "the values are still those of the first one");
    let refused = building.command("one", "t1", Some(Value::Float64(1.0))).await.unwrap_err().to_string();
    assert!(refused.contains("read only") || refused.contains("nothing is written"), "{refused}");
    // The first one goes: the other one is it.
    before.pull_cable(true);
    until("it is silent", || building.state("one") == DeviceState::Silent).await;
    until("it has moved", || {
        say(&after);
        building.shows("one", "t1").0 == "99"
    })
    .await;
    building.is_up("one").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_behind_a_router_are_reached_by_a_foreign_device() {
    let stop = stop();
    let (at, own) = (interlex_sidecar::own_address(), interlex_sidecar::own_address());
    let station = |network, mac: u8| Some(Station { network, mac: MacAddress::new(&[mac]).unwrap() });
    let devices = vec![(None, device(4001, 1)), (station(5, 12), device(4002, 1)), (station(6, 12), device(4003, 1))];
    let host = host(SocketAddrV4::new(at, 47_808), at, devices, &stop);
    host.manage_broadcasts();
    for (instance, value) in [(4001, 1.5), (4002, 2.5), (4003, 3.5)] {
        set(&host, instance, 1, value);
    }
    let link = format!("interface = \"{own}\"\nbbmd = \"{at}\"");
    let fixed = format!("instance = 4003\nhost = \"{at}\"\nnetwork = 6\nstation = \"0c\"");
    let devices = [("one", "instance = 4001"), ("two", "instance = 4002\nnetwork = 5"), ("three", fixed.as_str())];
    let building = Building::start(&link, &devices, &rows(1)).listen();
    for (device, value) in [("one", "1.5"), ("two", "2.5"), ("three", "3.5")] {
        building.becomes(device, "t1", value, "good").await;
    }
    assert_eq!(host.foreign(), 1);
    // Who is there is asked of all networks, and told of each.
    let told = building.offers("devices", None, json!({ "wait": "300ms" })).await;
    let found = told.iter().filter_map(|event| match event {
        OfferEvent::Device { device, said } => Some((device["instance"].as_u64().unwrap(), said.clone())),
        _ => None,
    });
    let mut found: Vec<_> = found.collect();
    found.sort();
    assert_eq!(found.iter().map(|(instance, _)| *instance).collect::<Vec<_>>(), [4001, 4002, 4003]);
    assert!(found[1].1.contains("network 5 station 0c"), "{}", found[1].1);
    assert!(matches!(told.last(), Some(OfferEvent::Done { .. })), "{told:?}");
    // Routers are asked where networks are, and whoever looks in one that nobody leads to is told so.
    let is_note =
        |event: &&OfferEvent| matches!(event, OfferEvent::Note { text } if text.contains("behind the router"));
    assert_eq!(told.iter().filter(is_note).count(), 2, "{told:?}");
    let told = building.offers("devices", None, json!({ "wait": "300ms", "network": 9 })).await;
    assert!(matches!(told.last(), Some(OfferEvent::Failed { why }) if why.contains("leads to network 9")), "{told:?}");
}

fn now() -> Now {
    Now { instant: tokio::time::Instant::now().into_std(), utc_millis: 0 }
}

/// A stranger on the same network.
struct Stranger {
    sockets: Sockets,
    node: Node,
}

impl Stranger {
    fn at(address: SocketAddrV4) -> Self {
        let sockets = Sockets::bind(address, ALL, true).unwrap();
        Self { sockets, node: Node::new(NodeConfig::default(), fastrand::Rng::new(), now().instant) }
    }

    /// What comes next from an address.
    async fn hears(&mut self, from: Ipv4Addr) -> NodeEvent {
        let mut buffer = Sockets::buffer();
        loop {
            while let Some((via, peer, length)) = self.sockets.try_receive(&mut buffer) {
                self.node.handle_input(now().instant, via, peer, &buffer[..length]);
                match self.node.poll_event() {
                    Some(event) if *peer.ip() == from => return event,
                    _ => {}
                }
            }
            tokio::time::timeout(Duration::from_secs(20), self.sockets.readable()).await.unwrap().unwrap();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn our_own_device_is_there_unless_somebody_else_has_its_instance() {
    let (stop, port) = (stop(), own_port());
    let [at, own, other, stranger] = [(); 4].map(|()| interlex_sidecar::own_address());
    let _controller = host(SocketAddrV4::new(at, port), ALL, vec![(None, device(4001, 1))], &stop);
    let mut stranger = Stranger::at(SocketAddrV4::new(stranger, port));
    let link = |own: Ipv4Addr| format!("interface = \"{own}\"\nport = {port}\ninstance = 9000");
    let building = Building::start(&link(own), &[("one", "instance = 4001")], &rows(1)).listen();
    // It asks whether somebody has it, and says that it is there when nobody does.
    let told = loop {
        if let NodeEvent::Told { service: UnconfirmedService::I_AM, data, .. } = stranger.hears(own).await {
            break IAm::decode(&data).unwrap();
        }
    };
    assert_eq!(told.device.instance(), 9000);
    let (mut data, object) = (Vec::new(), ObjectIdentifier::device(9000).unwrap());
    ReadProperty { object, reference: PropertyIdentifier::OBJECT_NAME.into() }.encode(&mut data);
    let to = Peer::from(SocketAddrV4::new(own, port));
    stranger.node.request(now().instant, to, ConfirmedService::READ_PROPERTY, data, Terms::default()).unwrap();
    let (target, asked) = stranger.node.poll_transmit().unwrap();
    stranger.sockets.send(target, &asked).unwrap();
    let answer = loop {
        if let NodeEvent::Answered { outcome, .. } = stranger.hears(own).await {
            break ReadPropertyAck::decode(&outcome.unwrap()).unwrap().value.one();
        }
    };
    assert_eq!(answer, Some(Told::CharacterString("interlex-building".to_owned())));
    building.is_up("one").await;
    // Another gateway with the same instance hears of it, and is quiet.
    let second = Building::start(&link(other), &[("one", "instance = 4001")], &rows(1)).listen();
    until("it is told so", || second.error("one").contains("our own instance 9000 is that of the device at")).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_point_that_wants_smaller_moves_says_so_in_its_subscription() {
    let value = |host: &DeviceHost, number| {
        let read = |device: &mut Device| {
            device.object_mut(object(0, number)).unwrap().value(PropertyIdentifier::COV_INCREMENT)
        };
        host.with(4001, |device, _, _| read(device)).flatten()
    };
    for knows in [true, false] {
        let stop = stop();
        let temperature = |number, increment: f32| {
            Object::valued(object(0, number), &format!("t{number}"), 20.5_f32)
                .with(PropertyIdentifier::COV_INCREMENT, increment)
                .with(PropertyIdentifier::HIGH_LIMIT, 90.0_f32)
        };
        let mut controller = Device::new(config(4001)).with(temperature(1, 5.0)).with(temperature(2, 5.0));
        if !knows {
            // What it says that it does: everything but subscriptions to properties.
            let own = ObjectIdentifier::device(4001).unwrap();
            let services: Vec<bool> = (0..44).map(|at| [5, 12, 14, 15].contains(&at)).collect();
            let services = interlex_bacnet::BitString::of(&services);
            controller.object_mut(own).unwrap().set(PropertyIdentifier::PROTOCOL_SERVICES_SUPPORTED, services);
        }
        let rows = "t1,analog-input:1,read,,,fast,0.25\nt2,analog-input:2,read,,,fast,0\nlimit,analog-input:1.high-limit,read,,,fast,0\n";
        let (host, building) = alone(controller, "check-period = \"1h\"", rows, &stop);
        building.is_up("one").await;
        let subscribed = if knows { 3 } else { 2 };
        until("it is subscribed to", || host.with(4001, |device, _, _| device.subscriptions()) == Some(subscribed))
            .await;
        let said = building.error("one").contains("COV_Increment is above the deadband of t1 (5)");
        assert_eq!(said, !knows, "{}", building.error("one"));
        let tell = |property, value: f32| {
            host.with_object(4001, object(0, 1), |object| object.set(property, value)).unwrap();
        };
        tell(PropertyIdentifier::HIGH_LIMIT, 80.0);
        building.becomes("one", "limit", "80", "good").await;
        if knows {
            tell(PRESENT_VALUE, 20.75);
            building.becomes("one", "t1", "20.75", "good").await;
        }
        assert_eq!(value(&host, 1), Some(Told::Real(5.0)), "it is never changed");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_told_is_read_and_what_was_not_told_is_missed() {
    // Room for one subscription, none at all, and a device that takes them and tells nothing.
    for fault in 0..3 {
        let stop = stop();
        let (host, building) = alone(device(4001, 3), "", &rows(3), &stop);
        host.with(4001, |device, _, _| match fault {
            0 => device.faults_mut().most_subscriptions = Some(1),
            1 => device.faults_mut().refuses_subscriptions = true,
            _ => device.faults_mut().tells_nothing = true,
        });
        building.is_up("one").await;
        for value in [30.0, 40.0] {
            (1..=3).for_each(|number| set(&host, 4001, number, value));
            for point in ["t1", "t2", "t3"] {
                building.becomes("one", point, &value.to_string(), "good").await;
            }
        }
    }
    // It tells changes, and then does not any more: the next check sees it.
    let stop = stop();
    let (host, building) = alone(device(4001, 1), "check-period = \"500ms\"", &rows(1), &stop);
    until("it is subscribed to", || host.with(4001, |device, _, _| device.subscriptions()) == Some(1)).await;
    set(&host, 4001, 1, 30.0);
    building.becomes("one", "t1", "30", "good").await;
    host.with(4001, |device, _, _| device.faults_mut().tells_nothing = true);
    set(&host, 4001, 1, 50.0);
    building.becomes("one", "t1", "50", "good").await;
    assert!(building.error("one").contains("was not told"), "{}", building.error("one"));
    set(&host, 4001, 1, 60.0);
    building.becomes("one", "t1", "60", "good").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_starts_anew_is_subscribed_to_anew() {
    let stop = stop();
    let port = own_port();
    let [at, own] = [(); 2].map(|()| interlex_sidecar::own_address());
    let host = host(SocketAddrV4::new(at, port), ALL, vec![(None, device(4001, 2))], &stop);
    let link = format!("interface = \"{own}\"\nport = {port}");
    let building = Building::start(&link, &[("one", "instance = 4001")], &rows(2)).listen();
    let subscriptions = || host.with(4001, |device, _, _| device.subscriptions()) == Some(2);
    until("both are subscribed to", subscriptions).await;
    host.with(4001, |device, node, _| device.restart(node));
    until("both are subscribed to anew", subscriptions).await;
    set(&host, 4001, 2, 77.0);
    building.becomes("one", "t2", "77", "good").await;
    let views = building.gateway.link.requests(Arc::clone(&building.gateway.points)).await.unwrap();
    assert!(views.iter().any(|view| view.reads == "changes of analog-input:1 by 0.5 or more"), "{views:?}");
    // At the end it is told so.
    drop(building);
    until("nobody is subscribed any more", || host.with(4001, |device, _, _| device.subscriptions()) == Some(0)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_are_read_whatever_they_cannot_do_and_one_bad_object_spoils_only_its_own_point() {
    for fault in 0..5 {
        let stop = stop();
        let mut what = device(4001, 60);
        match fault {
            0 => what.faults_mut().refuses_multiple = true,
            // It says 1476, and gives up above 200; or loses what is longer.
            1 => what.faults_mut().most_octets = Some(200),
            2 => what.faults_mut().loses_above = Some(200),
            3 => what.faults_mut().reorders_results = true,
            _ => {
                what = Device::new(interlex_bacnet::DeviceConfig {
                    max_apdu: MaxApdu::LEAST,
                    segmentation: Segmentation::None,
                    ..config(4001)
                })
            }
        }
        if fault == 4 {
            for number in 1..=60 {
                what = what.with(Object::valued(object(0, number), "x", 20.5_f32));
            }
        }
        let rows =
            format!("{}bad,analog-input:99,read,,,fast\nflag,analog-input:3.out-of-service,read,,,fast\n", rows(60));
        let (_host, building) = alone(what, "only-asked = true", &rows, &stop);
        building.is_up("one").await;
        for number in 1..=60 {
            assert_eq!(building.shows("one", &format!("t{number}")).1, "good", "fault {fault}");
        }
        assert_eq!(building.shows("one", "bad"), (String::new(), "bad", "unknown-object (object)".to_owned()));
        assert_eq!(building.shows("one", "flag").0, "false");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn flags_are_told_with_the_value() {
    let stop = stop();
    let (host, building) = alone(device(4001, 1), "", &rows(1), &stop);
    building.is_up("one").await;
    let flag = |at, is_set, reliability| {
        host.with_object(4001, object(0, 1), |object| {
            object.set(PropertyIdentifier::RELIABILITY, Told::Enumerated(reliability));
            object.set_flag(at, is_set);
        });
    };
    let becomes = async |class: &str, reason: &str| {
        until(&format!("{class} {reason}: {:?}", building.shows("one", "t1")), || {
            let (_, quality, why) = building.shows("one", "t1");
            quality == class && why == reason
        })
        .await;
    };
    flag(0, true, 0);
    becomes("good", "in alarm").await;
    flag(0, false, 0);
    flag(1, true, 4);
    becomes("bad", "fault, open-loop").await;
    assert_eq!(building.shows("one", "t1").0, "20.5", "the value is kept");
    flag(1, false, 0);
    flag(3, true, 0);
    becomes("uncertain", "out of service").await;
    flag(3, false, 0);
    becomes("good", "").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn commands_have_priorities_and_are_given_back() {
    let stop = stop();
    let (valve, pump): (ObjectIdentifier, ObjectIdentifier) = (object(1, 1), object(4, 1));
    let what = device(4001, 1)
        .with(Object::valued(valve, "valve", 10.0_f32).with(PropertyIdentifier::MAX_PRES_VALUE, 100.0_f32))
        .with(Object::valued(pump, "pump", Told::Enumerated(0)))
        .with(Object::valued(object(2, 1), "number", 5.0_f32));
    let rows = "valve,analog-output:1,read-write,12,,fast\npump,binary-output:1,read-write,,,fast\n\
                number,analog-value:1,read-write,,,fast\nsensor,analog-input:1,read-write,,,fast\n";
    let (host, building) = alone(what, "priority = 9", rows, &stop);
    building.is_up("one").await;
    let number = |number: f64| Some(Value::Float64(number));
    assert_eq!(building.words("valve", number(42.0)).await, "confirmed");
    building.becomes("one", "valve", "42", "good").await;
    assert_eq!(building.words("pump", Some(Value::Bool(true))).await, "confirmed");
    let slot = |object, priority: u32| {
        let reference =
            interlex_bacnet::PropertyReference { property: PropertyIdentifier::PRIORITY_ARRAY, index: Some(priority) };
        let read = |device: &mut Device, now: Now| device.read(now, object, &reference).unwrap().one().unwrap();
        host.with(4001, |device, _, now| read(device, now)).unwrap()
    };
    assert_eq!(
        (slot(valve, 12), slot(pump, 9)),
        (Told::Real(42.0), Told::Enumerated(1)),
        "of the point, and of its device"
    );
    // Somebody at the device goes before us.
    host.with_object(4001, valve, |valve| valve.command(8, Some(Told::Real(70.0))));
    let taken = building.words("valve", number(50.0)).await;
    assert_eq!(taken, "accepted: taken at priority 12, while priority 8 holds 70");
    building.becomes("one", "valve", "70", "good").await;
    assert_eq!(building.words("valve", None).await, "confirmed", "the own slot is free");
    assert_eq!((slot(valve, 12), slot(valve, 8)), (Told::Null, Told::Real(70.0)));
    let refused = building.words("valve", number(101.0)).await;
    assert!(refused.contains("refused") && refused.contains("value-out-of-range"), "{refused}");
    let refused = building.words("sensor", number(1.0)).await;
    assert!(refused.contains("out of service"), "{refused}");
    let refused = building.words("number", None).await;
    assert!(refused.contains("no priorities"), "{refused}");
    // An input that is out of service takes a value.
    host.with_object(4001, object(0, 1), |sensor| sensor.set(PropertyIdentifier::OUT_OF_SERVICE, true));
    assert_eq!(building.words("sensor", number(33.0)).await, "confirmed");
}

#[tokio::test(flavor = "multi_thread")]
async fn objects_are_offered_with_names_units_limits_and_words() {
    for lists_by_index in [false, true] {
        let stop = stop();
        let mode = Object::valued(object(19, 1), "mode", 2_u32)
            .with(PropertyIdentifier::DESCRIPTION, "Mode of the substation")
            .with_array(PropertyIdentifier::STATE_TEXT, ["off", "automatic", "by hand"].map(Told::from));
        let pump = Object::valued(object(4, 1), "pump", Told::Enumerated(1))
            .with(PropertyIdentifier::INACTIVE_TEXT, "stopped")
            .with(PropertyIdentifier::ACTIVE_TEXT, "runs");
        let valve = Object::valued(object(1, 1), "valve", 10.0_f32)
            .with(PropertyIdentifier::MIN_PRES_VALUE, 0.0_f32)
            .with(PropertyIdentifier::MAX_PRES_VALUE, 100.0_f32);
        let mut what = device(4001, 300).with(mode).with(pump).with(valve);
        what.faults_mut().lists_by_index = lists_by_index;
        let (_host, building) = alone(what, "", &rows(1), &stop);
        building.is_up("one").await;
        let told = building.offers("objects", Some("one"), json!({})).await;
        let offers = told.iter().filter_map(|event| match event {
            OfferEvent::Points { offers } => Some(offers),
            _ => None,
        });
        let offers: Vec<_> = offers.flatten().collect();
        assert_eq!((offers.len(), matches!(told.last(), Some(OfferEvent::Done { .. }))), (303, true));
        let of = |name: &str| offers.iter().find(|offer| offer.path == [name]).unwrap();
        let temperature = of("temperature-7");
        assert_eq!(temperature.point["address"], "analog-input:7");
        assert_eq!((&temperature.point["unit"], &temperature.value), (&json!("°C"), &json!(20.5)));
        assert!(!temperature.point.contains_key("access"));
        assert_eq!(of("mode").point["enumeration"], "1=off;2=automatic;3=by hand");
        assert_eq!(
            (of("pump").note.as_str(), &of("pump").point["access"]),
            ("off is stopped, on is runs", &json!("read-write"))
        );
        assert_eq!((&of("valve").point["low"], &of("valve").point["high"]), (&json!(0.0), &json!(100.0)));
        let few = building.offers("objects", Some("one"), json!({ "containing": "PUMP" })).await;
        let count = few.iter().map(|event| if let OfferEvent::Points { offers } = event { offers.len() } else { 0 });
        assert_eq!(count.sum::<usize>(), 1);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn another_device_at_its_address_is_not_taken_for_it() {
    let stop = stop();
    let (at, own) = (interlex_sidecar::own_address(), interlex_sidecar::own_address());
    let _host = host(SocketAddrV4::new(at, 47_808), at, vec![(None, device(4009, 1))], &stop);
    let link = format!("interface = \"{own}\"\nbroadcast = \"{own}\"");
    let building = Building::start(&link, &[("one", &format!("instance = 4001\nhost = \"{at}\""))], &rows(1)).listen();
    until("it is said", || building.error("one").contains("is another device")).await;
    tokio::time::sleep(Duration::from_millis(500)).await;
    assert_eq!(building.shows("one", "t1").1, "bad", "its objects have the same names");
    assert!(matches!(
        building.gateway.latest.read(building.gateway.points.find("one", "t1").unwrap().index).unwrap().quality,
        Quality::Bad(_)
    ));
}

/// Keeps what is remembered in memory: what a run before has kept is there for the next one.
#[derive(Debug, Default)]
struct Shelf(std::sync::Mutex<std::collections::HashMap<String, Vec<u8>>>);

type Kept<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

impl interlex_field::Keeper for Shelf {
    fn load(&self, place: String) -> Kept<'_, Option<Vec<u8>>> {
        Box::pin(async move { self.0.lock().unwrap().get(&place).cloned() })
    }

    fn save(&self, place: String, content: Vec<u8>) -> Kept<'_, bool> {
        Box::pin(async move {
            self.0.lock().unwrap().insert(place, content);
            true
        })
    }

    fn keep_events(&self, _: &str, _: Vec<interlex_core::SequenceEntry>) -> Kept<'_, ()> {
        Box::pin(async {})
    }

    fn last_events(&self, _: &str) -> Kept<'_, Option<Vec<interlex_field::KeptEvent>>> {
        Box::pin(async { None })
    }
}

/// The times and values that were told of what was, as long as they come.
fn past(events: &mut mpsc::Receiver<interlex_core::FieldEvent>, into: &mut Vec<(i64, String)>) {
    while let Ok(event) = events.try_recv() {
        let interlex_core::FieldEvent::Samples(samples) = event else { continue };
        let of_past = samples.iter().filter(|sample| sample.kind == interlex_core::SampleKind::Past);
        let told = |sample: &interlex_core::Sample| {
            (sample.source_time.as_millis(), sample.value.as_ref().map_or_else(String::new, ToString::to_string))
        };
        into.extend(of_past.map(told));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_recorded_meanwhile_is_had_back_in_order_and_once() {
    let stop = stop();
    let (log, source) = (object(20, 7), object(0, 1));
    let records = interlex_bacnet::TrendLog::new(source, Duration::from_millis(100), 1000);
    let reference = interlex_bacnet::Content::reference(source, PRESENT_VALUE);
    let history = Object::new(log, "history")
        .with_content(PropertyIdentifier::LOG_DEVICE_OBJECT_PROPERTY, reference)
        .with_log(records);
    let (at, own) = (interlex_sidecar::own_address(), interlex_sidecar::own_address());
    let host = host(SocketAddrV4::new(at, 47_808), at, vec![(None, device(4001, 2).with(history))], &stop);
    let growing = Arc::clone(&host);
    tokio::spawn(stop.0.clone().run_until_cancelled_owned(async move {
        for number in 0_u16.. {
            tokio::time::sleep(Duration::from_millis(100)).await;
            set(&growing, 4001, 1, f32::from(number));
        }
    }));
    let link = format!("interface = \"{own}\"\nbroadcast = \"{own}\"");
    let keys = format!("instance = 4001\nhost = \"{at}\"\nretries = 0\ntimezone = \"Europe/Berlin\"");
    let shelf: Arc<Shelf> = Arc::default();
    let start = |shelf: &Arc<Shelf>| {
        let mut building = Building::start(&link, &[("one", &keys)], &rows(2));
        let memories = Memories::default().of_gateway(Some(Arc::clone(shelf) as _));
        building.gateway = Gateway::start_with(&building.description, memories);
        building
    };
    let mut building = start(&shelf);
    let mut told = Vec::new();
    until("it is up", || {
        past(&mut building.gateway.events, &mut told);
        building.state("one") == DeviceState::Up
    })
    .await;
    assert!(told.is_empty(), "nothing was missed before it was known: {told:?}");
    host.pull_cable(true);
    until("it is silent", || {
        past(&mut building.gateway.events, &mut told);
        building.state("one") == DeviceState::Silent
    })
    .await;
    host.pull_cable(false);
    until("what was recorded is here", || {
        past(&mut building.gateway.events, &mut told);
        told.len() > 5
    })
    .await;
    // All that the log has between the first and the last of them, each once and in order.
    let in_order = |told: &[(i64, String)]| {
        let (first, last) = (told.first().unwrap().0, told.last().unwrap().0);
        let read = |device: &mut Device| {
            let log = device.object_mut(log).unwrap().log_mut().unwrap();
            let record = |record: &interlex_bacnet::LogRecord| {
                let interlex_bacnet::LogDatum::Value(value) = &record.datum else { panic!("{record:?}") };
                (record.at.local_millis().unwrap() - 3_600_000, value.to_string())
            };
            log.records().map(record).filter(|(at, _)| (first..=last).contains(at)).collect::<Vec<_>>()
        };
        assert_eq!(told, host.with(4001, |device, _, _| read(device)).unwrap());
    };
    in_order(&told);
    // A run that ends, and the next one some time later.
    until("how far it came is kept", || {
        past(&mut building.gateway.events, &mut told);
        shelf.0.lock().unwrap().values().any(|kept| String::from_utf8_lossy(kept).contains("\"7\""))
    })
    .await;
    drop(building);
    let mut building = start(&shelf);
    let before = told.len();
    until("what was recorded meanwhile is here", || {
        past(&mut building.gateway.events, &mut told);
        told.len() > before + 5
    })
    .await;
    in_order(&told[before..]);
    assert!(told[before].0 > told[before - 1].0, "nothing comes twice");
}

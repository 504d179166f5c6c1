//! DNP3 outstations for the suite.

use crate::line::Line;
use crate::suite::{Field, WallClock, Writes};
use interlex_core::description::{Description, Files, read};
use interlex_core::{DeviceState, FieldEvent, LatestTable, PointTable, RecentValues, Value};
use interlex_dnp3::{
    CommandStatus, ControlRelayOutputBlock, EventClass, Flags, LinkAddress, MeasuredValue, Number, Object, Outstation,
    OutstationConfig, OutstationHost, Point, PointKind, PointUpdate, Process,
};
use interlex_field::{LinkHandle, Listeners, Memories, PointWrite, Relinquish, Surroundings, Via, start, write};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio_util::sync::{CancellationToken, DropGuard};

pub(crate) struct Dnp3Field {
    pub(crate) host: Arc<OutstationHost<Machine>>,
    line: Line,
    _stop: DropGuard,
}

#[derive(Default)]
pub(crate) struct Machine {
    told: u64,
    written: Vec<u64>,
    /// The controls that outputs with two states were given, by index.
    pub(crate) controls: Vec<(u32, ControlRelayOutputBlock)>,
    /// How it was restarted: cold, or warm.
    pub(crate) restarts: Vec<bool>,
    writes: Option<Writes>,
    is_swallowed: bool,
}

impl Process for Machine {
    fn select(&mut self, _: PointKind, _: u32, _: &Object) -> CommandStatus {
        if self.writes == Some(Writes::Refuses) { CommandStatus::LOCAL } else { CommandStatus::SUCCESS }
    }

    fn operate(&mut self, _: PointKind, index: u32, command: &Object) -> CommandStatus {
        if let Object::Control(control) = command {
            self.controls.push((index, *control));
            return CommandStatus::SUCCESS;
        }
        let Object::Setting { number, .. } = command else { return CommandStatus::NOT_SUPPORTED };
        self.is_swallowed = self.writes == Some(Writes::Swallows);
        if self.writes != Some(Writes::Ignores) {
            self.written.push(number.as_f64() as u64);
        }
        CommandStatus::SUCCESS
    }

    fn set_time(&mut self, _: u64) {}

    fn restart(&mut self, is_cold: bool) -> Option<u16> {
        self.restarts.push(is_cold);
        Some(250)
    }

    fn is_answered(&mut self) -> bool {
        !std::mem::take(&mut self.is_swallowed)
    }
}

pub(crate) const MASTER: LinkAddress = LinkAddress(1);
const GROWS: Duration = Duration::from_millis(5);

pub(crate) fn address(device: &str) -> LinkAddress {
    LinkAddress(if device == "one" { 10 } else { 11 })
}

fn outstation() -> Outstation {
    // A confirm that is lost costs less than it takes to be called silent.
    let config = OutstationConfig { confirm_timeout: Duration::from_millis(100), ..OutstationConfig::default() };
    let mut outstation = Outstation::new(config, [MASTER]);
    let whole = |number: u32| MeasuredValue::Number(Number::Uint32(number));
    outstation.put(PointKind::Counter, 0, Point::new(whole(0), Some(EventClass::First)));
    outstation.put(PointKind::AnalogOutput, 0, Point::new(MeasuredValue::Number(Number::Int32(7)), None));
    outstation.put(PointKind::Analog, 5, Point::new(MeasuredValue::Number(Number::Float32(7.5)), None));
    outstation
}

/// A gateway with a link, by its own keys.
pub(crate) fn describe(link: &str, devices: &[&str], with_more: &[&str]) -> Description {
    describe_with(link, devices, with_more, |_| String::new())
}

/// The same with more keys for each device.
pub(crate) fn describe_with(
    link: &str,
    devices: &[&str],
    with_more: &[&str],
    keys: impl Fn(&str) -> String,
) -> Description {
    let mut main = format!(
        "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"relays\"\n{link}\ntimeout = \"200ms\"\n\
         reconnect-limit = \"50ms\"\n"
    );
    let mut files = Files::new();
    for device in devices {
        let address = address(device);
        main.push_str(&format!(
            "[[device]]\nname = \"{device}\"\nlink = \"relays\"\naddress = {address}\nevent-period = \"300ms\"\n{}",
            keys(device)
        ));
        let more = if with_more.contains(device) { "more,analog:5,,fast,read\n" } else { "" };
        let list = format!(
            "name,address,type,rate,access\ncount,counter:0,,fast,read\n\
             set-point,analog-output:0,uint16,fast,read-write\n{more}"
        );
        files.insert(format!("points/{device}.csv"), list);
    }
    files.insert("gateway.toml".to_owned(), main);
    read(&files).unwrap()
}

impl Dnp3Field {
    /// Where the line to it begins.
    pub(crate) const fn line(&self) -> SocketAddr {
        self.line.address
    }
}

impl Field for Dnp3Field {
    async fn start() -> Self {
        let stop = CancellationToken::new();
        let listener = TcpListener::bind((interlex_sidecar::own_address(), 0)).await.unwrap();
        let behind = listener.local_addr().unwrap();
        let stations = ["one", "two"].map(|device| (address(device), outstation(), Machine::default()));
        let host = OutstationHost::new(stations);
        tokio::spawn(Arc::clone(&host).serve(listener, stop.clone()));
        let growing = Arc::clone(&host);
        tokio::spawn(stop.clone().run_until_cancelled_owned(async move {
            loop {
                tokio::time::sleep(GROWS).await;
                for device in ["one", "two"] {
                    growing.with(address(device), |outstation, machine, now| {
                        // What was written is what it says of its output.
                        let set = machine.written.last().map(|set| Number::Int32(*set as i32));
                        let flags = Flags::ONLINE;
                        if let Some(set) = set {
                            let update = PointUpdate { value: set.into(), flags, time: now.wall };
                            outstation.update(PointKind::AnalogOutput, 0, update);
                        }
                        // Only what somebody listens to is told.
                        if outstation.backlog(MASTER) == Some(0) {
                            machine.told += 1;
                            let value = Number::Uint32(machine.told as u32).into();
                            outstation.update(PointKind::Counter, 0, PointUpdate { value, flags, time: now.wall });
                        }
                    });
                }
            }
        }));
        let line = Line::new(behind, b"nonsense that nobody asked for; ");
        line.connect(false).await;
        Self { host, line, _stop: stop.drop_guard() }
    }

    fn description(&self, devices: &[&str], with_more: &[&str]) -> Description {
        let (host, port) = (self.line.address.ip(), self.line.address.port());
        describe(&format!("protocol = \"dnp3-tcp\"\nhost = \"{host}\"\nport = {port}"), devices, with_more)
    }

    fn told(&self, device: &str) -> u64 {
        self.host.with(address(device), |_, machine, _| machine.told).unwrap()
    }

    fn silence(&self, device: &str, is_silent: bool) {
        self.host.silence(address(device), is_silent);
    }

    fn takes_writes(&self, device: &str, how: Writes) {
        self.host.with(address(device), |_, machine, _| machine.writes = Some(how));
    }

    fn written(&self, device: &str) -> Vec<u64> {
        self.host.with(address(device), |_, machine, _| machine.written.clone()).unwrap()
    }

    fn cut(&self) {
        self.line.cut();
    }

    async fn mend(&self) {
        self.line.connect(false).await;
    }

    async fn flood(&self, is_flooding: bool) {
        self.line.connect(is_flooding).await;
    }
}

/// What runs a link.
pub(crate) struct Gateway {
    pub(crate) link: LinkHandle,
    pub(crate) events: mpsc::Receiver<FieldEvent>,
    pub(crate) points: Arc<PointTable>,
    pub(crate) latest: Arc<LatestTable>,
    pub(crate) _stop: DropGuard,
}

impl Gateway {
    pub(crate) fn start(description: &Description) -> Self {
        Self::start_with(description, Memories::default())
    }

    pub(crate) fn start_with(description: &Description, memories: Memories) -> Self {
        let points = Arc::new(PointTable::new(description, &PointTable::default()));
        let latest = Arc::new(LatestTable::new(points.indices()));
        let (recent, listeners) = (Arc::new(RecentValues::default()), Listeners::default());
        recent.grow(points.indices());
        let (sender, events) = mpsc::channel(16);
        listeners.set(vec![sender]);
        let clock = Arc::new(WallClock);
        let known = Arc::clone(&latest);
        let around = Surroundings { points: Arc::clone(&points), latest, recent, listeners, memories, clock };
        let stop = CancellationToken::new();
        let (link, _) = start(description, &description.links[0], &around, stop.clone());
        Self { link, events, points, latest: known, _stop: stop.drop_guard() }
    }
}

/// Listens to what is told, and says of all of it that it is safe.
pub(crate) async fn all_is_safe(mut events: mpsc::Receiver<FieldEvent>) {
    while let Some(event) = events.recv().await {
        if let FieldEvent::Keep(receipt) = event {
            receipt.stored();
        }
    }
}

pub(crate) async fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let waiting = async {
        while !holds() {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(60), waiting).await.is_ok(), "waited in vain: {what}");
}

/// Two outstations behind a link are read and written.
pub(crate) async fn both_are_read_and_written(field: &Dnp3Field, link: &str) {
    let description = describe(link, &["one", "two"], &[]);
    let Gateway { link, events, points, _stop, .. } = Gateway::start(&description);
    let via = Via { links: vec![link.clone()], memories: Memories::default(), clock: Arc::new(WallClock) };
    tokio::spawn(all_is_safe(events));
    until("both are up", || link.status().devices.iter().all(|device| device.state == DeviceState::Up)).await;
    for (device, value) in [("one", 42), ("two", 43)] {
        let before = field.told(device);
        until("its events are confirmed", || field.told(device) > before + 3).await;
        let device = description.devices.iter().find(|known| known.settings.name.as_str() == device).unwrap();
        let info = points.find(device.settings.name.as_str(), "set-point").unwrap();
        let point = info.point().into_owned();
        let (link, index) = (description.links[0].clone(), Some(info.index));
        // What is lost on the way is never sent again by itself: whoever wrote it tries another value.
        let mut tried = Vec::new();
        for value in value..value + 20 {
            tried.push(value);
            let (link, device, point) = (link.clone(), device.clone(), point.clone());
            let wanted =
                PointWrite { link, device, point, value: Value::Uint(value), relinquishes: Relinquish::No, index };
            if write(&wanted, &via).await.is_ok_and(|outcome| outcome.outcome().word().to_string() == "confirmed") {
                break;
            }
        }
        let written = field.written(device.settings.name.as_str());
        assert_eq!(written.last(), tried.last());
        assert!(written.is_sorted_by(|one, next| one < next), "nothing is carried out twice: {written:?}");
    }
}

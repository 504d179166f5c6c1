//! A serial line with several units, and what is done on it once: writes, identification, scans.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Description, DeviceProtocol, Files, read};
use interlex_core::{Offer, OfferEvent, Value};
use interlex_gateway::{
    DeviceState, FrameFilter, Gateway, GatewayOptions, IdentityObject, Memories, OfferRequest, Offering, PointWrite,
    Relinquish, WriteError, ask_for_offers, identify, try_write, via,
};
use interlex_modbus::{
    ExceptionCode, Framing, ReadData, Refusal, Request, Response, Table, Units, Written, serve_wire,
};
use interlex_plant::SerialLine;
use interlex_sidecar::{Database, own_socket};
use interlex_store::{AuditFilter, Store};
use serde_json::json;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio_util::sync::CancellationToken;

/// Units 1 to 8 with twenty holding registers and as many coils each; some may be dead.
#[derive(Debug, Default)]
struct Field {
    registers: Mutex<HashMap<(u8, u16), u16>>,
    asked: Mutex<Vec<u8>>,
    dead: Mutex<Vec<u8>>,
    /// Units that do not know function 22.
    without_mask: Mutex<bool>,
    /// Units that do not know function 06.
    without_single: Mutex<bool>,
}

impl Units for Field {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        self.asked.lock().unwrap().push(unit);
        if unit > 8 || self.dead.lock().unwrap().contains(&unit) {
            return Err(Refusal::Silence);
        }
        let mut registers = self.registers.lock().unwrap();
        let missing = || Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS);
        match request {
            Request::Read(read) if read.table() == Table::HoldingRegister => {
                let range = read.address()..read.address() + read.quantity();
                let exists =
                    |address: &u16| (*address < 20 && *address != 13) || registers.contains_key(&(unit, *address));
                if !range.clone().all(|address| exists(&address)) {
                    return Err(missing());
                }
                let value = |address| registers.get(&(unit, address)).copied().unwrap_or(address);
                Ok(Response::Data(ReadData::Registers(range.map(value).collect())))
            }
            Request::Write(write) => {
                let address = write.address();
                match write.written() {
                    Written::Register(value) if !*self.without_single.lock().unwrap() => {
                        _ = registers.insert((unit, address), *value)
                    }
                    Written::Registers(values) => {
                        registers.extend((address..).zip(values).map(|(address, value)| ((unit, address), *value)));
                    }
                    Written::Mask { and, or } if !*self.without_mask.lock().unwrap() => {
                        let register = registers.entry((unit, address)).or_insert(address);
                        *register = *register & and | or & !and;
                    }
                    _ => return Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
                }
                Ok(Response::Written)
            }
            Request::Identify(request) => {
                let long = "x".repeat(240);
                Ok(Response::Identification(request.pick(0x03, &[(0, "Alderfen"), (1, "AW-1"), (2, &long)])?))
            }
            _ => Err(ExceptionCode::ILLEGAL_FUNCTION.into()),
        }
    }
}

const POINTS: &str = "name,address,type,scale,access,low,high,rate\nlevel,holding:0,uint16,0.1,read,,,fast\n\
                      set-point,holding:4,int16,0.1,read-write,-10,50,fast\nratio,holding:6,float32,,read-write,,,fast\n\
                      pump,holding:8.3,,,read-write,,,fast\nmode,holding:8.4-7,uint16,,read-write,,,fast\n";

struct Bench {
    field: Arc<Field>,
    description: Arc<Description>,
    gateway: Gateway,
}

impl Bench {
    async fn start(framing: Framing, units: impl Iterator<Item = u8>, more: &str) -> Self {
        Self::with_timeout("50ms", framing, units, more).await
    }

    /// What is tested for what it finds, and not for how soon, waits for a busy machine.
    async fn with_timeout(timeout: &str, framing: Framing, units: impl Iterator<Item = u8>, more: &str) -> Self {
        let line = SerialLine::open().unwrap();
        let path = line.path().display().to_string();
        let field = Arc::new(Field::default());
        let (units_of_line, silence) = (Arc::clone(&field) as Arc<dyn Units>, framing.silence(115_200));
        tokio::spawn(serve_wire(line, framing, silence, units_of_line, CancellationToken::new()));
        let word = if framing == Framing::Ascii { "modbus-ascii" } else { "modbus-rtu" };
        let mut main = format!(
            "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"200ms\"\n[[link]]\nname = \"meter-line\"\nprotocol = \
             \"{word}\"\ndevice-path = \"{path}\"\nbaud = 115200\nparity = \"none\"\ntimeout = \"{timeout}\"\n"
        );
        for unit in units {
            main.push_str(&format!(
                "[[device]]\nname = \"unit-{unit}\"\nlink = \"meter-line\"\nunit = {unit}\npoints = \"p.csv\"\n{more}"
            ));
        }
        let files: Files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), POINTS.to_owned())].into();
        let description = Arc::new(read(&files).unwrap());
        let gateway = Gateway::start(Arc::clone(&description), GatewayOptions::default()).await;
        Self { field, description, gateway }
    }

    async fn until(&self, what: &str, holds: impl Fn(&Gateway) -> bool) {
        let waiting = async {
            while !holds(&self.gateway) {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
        };
        let waited = tokio::time::timeout(Duration::from_secs(30), waiting).await;
        assert!(waited.is_ok(), "waited in vain: {what}\n{:#?}", self.gateway.status());
    }

    async fn write(&self, point: &str, value: Value) -> Result<(Option<Value>, Option<bool>), String> {
        let outcome = self.gateway.commands().write("unit-1", point, value).await.unwrap();
        outcome.map(|outcome| (outcome.value, outcome.confirmed)).map_err(|error| error.to_string())
    }

    fn value(&self, point: &str) -> Option<Value> {
        let running = self.gateway.running();
        running.latest().read(running.points().find("unit-1", point).unwrap().index).unwrap().value
    }

    /// What is offered, but for the progress; where a unit is named, by a device there.
    async fn offers(&self, source: &str, filled: serde_json::Value, unit: Option<u8>) -> Vec<OfferEvent> {
        let (sender, mut receiver) = tokio::sync::mpsc::channel(4);
        let running = self.gateway.running();
        let device = unit.map(|unit| {
            let mut device = self.description.devices[0].clone();
            let DeviceProtocol::Modbus(modbus) = &mut device.protocol else { panic!() };
            modbus.unit = unit;
            device
        });
        let link = self.description.links[0].clone();
        let request = OfferRequest { link, device, source: source.to_owned(), filled };
        let offering = Offering::new(&request, sender).unwrap();
        let collecting = async {
            let mut events = Vec::new();
            while let Some(event) = receiver.recv().await {
                events.push(event);
            }
            events
        };
        let via = running.via();
        let ((), events) = tokio::join!(ask_for_offers(offering, &via), collecting);
        events.into_iter().filter(|event| !matches!(event, OfferEvent::Progress { .. })).collect()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn three_dead_units_of_eight_cost_the_five_others_next_to_nothing() {
    let bench = Bench::start(Framing::Rtu, 1..=8, "").await;
    bench.until("all good", |gateway| gateway.status().points_good == 40).await;
    *bench.field.dead.lock().unwrap() = vec![2, 5, 7];
    bench
        .until("three are silent", |gateway| {
            let link = &gateway.status().links[0];
            link.devices.iter().filter(|device| device.state == DeviceState::Silent).count() == 3
        })
        .await;
    let polls = || bench.gateway.running().statistics("meter-line").unwrap().rates[0].polls;
    bench.field.asked.lock().unwrap().clear();
    let (before, started) = (polls(), tokio::time::Instant::now());
    // Ten seconds of the line: fifty periods of 200 ms.
    bench.until("fifty periods", |_| started.elapsed() >= Duration::from_secs(10)).await;
    let (done, scheduled) = (polls() - before, started.elapsed().as_millis() / 200 * 5);
    assert!(u128::from(done) * 2 >= scheduled, "{done} of {scheduled} polls");
    let asked = bench.field.asked.lock().unwrap().clone();
    let probes = asked.iter().filter(|unit| [2, 5, 7].contains(unit)).count();
    assert!(probes > 0 && probes < 60, "{probes} requests to dead units");
    let statistics = bench.gateway.running().statistics("meter-line").unwrap();
    assert!(statistics.bus_load.is_some_and(|load| load > 0.001 && load < 0.5), "{statistics:?}");
    let achieved = statistics.rates[0].achieved_ms.unwrap();
    assert!(achieved >= 190.0, "{achieved}");
    bench.field.dead.lock().unwrap().clear();
    bench.until("all are back", |gateway| gateway.status().points_good == 40).await;
    bench.gateway.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn values_are_written_ahead_of_polls_and_read_back() {
    for framing in [Framing::Rtu, Framing::Ascii] {
        let bench = Bench::with_timeout("1s", framing, 1..=1, "").await;
        bench.until("all good", |gateway| gateway.status().points_good == 5).await;
        assert_eq!(bench.write("set-point", Value::Float64(-2.5)).await, Ok((Some(Value::Float64(-2.5)), Some(true))));
        assert_eq!(bench.field.registers.lock().unwrap()[&(1, 4)], 0xFFE7);
        bench.until("it is polled", |_| bench.value("set-point") == Some(Value::Float64(-2.5))).await;
        let ratio = Value::Float64(1.25);
        assert_eq!(bench.write("ratio", ratio).await, Ok((Some(Value::Float32(1.25)), Some(true))));
        // 8 is 1000 binary: bit 3 is set, bits 4 to 7 are not.
        assert_eq!(bench.write("pump", Value::Bool(false)).await, Ok((Some(Value::Bool(false)), Some(true))));
        assert_eq!(bench.write("mode", Value::Uint(5)).await, Ok((Some(Value::Uint(5)), Some(true))));
        assert_eq!(bench.field.registers.lock().unwrap()[&(1, 8)], 0b0101_0000);
        let refused = [
            ("set-point", Value::Uint(51), "51 is above its high limit 50"),
            ("level", Value::Uint(1), "the point is read only; its access would have to be read-write"),
            ("mode", Value::Uint(16), "16 does not fit bits 4 to 7: 0 to 15 does"),
            ("pump", Value::Uint(2), "2 is no bit: write true or false"),
        ];
        let before = bench.field.registers.lock().unwrap().clone();
        for (point, value, why) in refused {
            assert_eq!(bench.write(point, value).await, Err(why.to_owned()));
        }
        assert_eq!(*bench.field.registers.lock().unwrap(), before, "nothing was sent");
        bench.field.dead.lock().unwrap().push(1);
        let error = bench.write("set-point", Value::Uint(5)).await.unwrap_err();
        assert!(error.contains("unit 1: no answer within 1s"), "{error}");
        bench.gateway.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn bits_are_written_by_reading_first_where_the_device_lacks_the_function() {
    let bench = Bench::with_timeout("1s", Framing::Rtu, 1..=1, "").await;
    *bench.field.without_mask.lock().unwrap() = true;
    bench.until("all good", |gateway| gateway.status().points_good == 5).await;
    let error = bench.write("mode", Value::Uint(5)).await.unwrap_err();
    assert!(error.contains("exception 01, illegal function"), "{error}");
    bench.gateway.stop().await;

    let bench =
        Bench::with_timeout("1s", Framing::Rtu, 1..=1, "bit-writes = \"read-modify-write\"\nwrites = \"multiple\"\n")
            .await;
    *bench.field.without_mask.lock().unwrap() = true;
    *bench.field.without_single.lock().unwrap() = true;
    bench.until("all good", |gateway| gateway.status().points_good == 5).await;
    assert_eq!(bench.write("mode", Value::Uint(5)).await, Ok((Some(Value::Uint(5)), Some(true))));
    assert_eq!(bench.field.registers.lock().unwrap()[&(1, 8)], 0b0101_1000, "the other bits stay");
    bench.gateway.stop().await;
}

fn points_of(events: &[OfferEvent]) -> Vec<Offer> {
    let points = events.iter().filter_map(|event| match event {
        OfferEvent::Points { offers } => Some(offers.clone()),
        _ => None,
    });
    points.flatten().collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_says_who_it_is_and_a_scan_finds_units_and_addresses() {
    let bench = Bench::with_timeout("500ms", Framing::Rtu, 1..=2, "").await;
    bench.until("all good", |gateway| gateway.status().points_good == 10).await;
    let link = &bench.description.links[0];
    let identity = identify(link, &bench.description.devices[0], &bench.gateway.running().via()).await.unwrap();
    let object = |id, name: &str, value: &str| IdentityObject { id, name: name.into(), value: value.into() };
    assert_eq!(identity.objects[..2], [object(0, "VendorName", "Alderfen"), object(1, "ProductCode", "AW-1")]);
    assert_eq!((identity.objects[2].value.len(), identity.frames.len()), (240, 4), "in two answers");

    bench.field.dead.lock().unwrap().push(4);
    let fast = |first: u16, last: u16| json!({ "first": first, "last": last, "per-second": 100 });
    let units = bench.offers("units", fast(1, 9), None).await;
    let found: Vec<_> = units
        .iter()
        .filter_map(|event| match event {
            OfferEvent::Device { device, .. } => device["unit"].as_u64(),
            _ => None,
        })
        .collect();
    assert_eq!(found, [1, 2, 3, 5, 6, 7, 8]);
    let events = bench.offers("addresses", fast(0, 60), Some(3)).await;
    let found: Vec<_> = points_of(&events).iter().map(|offer| offer.path[1].parse::<u16>().unwrap()).collect();
    assert_eq!(found, (0..=12).chain(14..=19).collect::<Vec<_>>());
    assert!(matches!(events.last(), Some(OfferEvent::Done { requests }) if *requests < 100), "{events:?}");
    let mut coils = fast(0, 60);
    coils["table"] = "coil".into();
    let why = "unit 3: exception 01, illegal function".to_owned();
    assert_eq!(bench.offers("addresses", coils, Some(3)).await, [OfferEvent::Failed { why }]);
    assert_eq!(bench.gateway.status().points_good, 10, "polls went on");
    let frames = bench.gateway.running().frames("meter-line", &FrameFilter::default()).unwrap();
    assert!(frames.iter().any(|frame| frame.text.starts_with("00 \"Alderfen\"")), "{frames:?}");
    // Unit 8 speaks SunSpec: the common model, whose manufacturer and address alone are there, and the end.
    let mut registers: HashMap<(u8, u16), u16> = (0..72).map(|at| ((8, 40_000 + at), 0)).collect();
    for (at, value) in [(0, 0x5375), (1, 0x6E53), (2, 1), (3, 66), (4, 0x416C), (68, 8), (69, 0xFFFF), (70, 0xFFFF)] {
        registers.insert((8, 40_000 + at), value);
    }
    *bench.field.registers.lock().unwrap() = registers;
    let why = "unit 1 has no SunSpec marker at holding register 40000, 0 or 50000".to_owned();
    assert_eq!(bench.offers("sunspec", json!({}), Some(1)).await, [OfferEvent::Failed { why }]);
    let events = bench.offers("sunspec", json!({}), Some(8)).await;
    let offers = points_of(&events);
    let told: Vec<_> = offers.iter().map(|offer| (offer.path.join("/"), offer.point["address"].clone())).collect();
    assert_eq!(
        told,
        [("common/Mn".to_owned(), json!("holding:40004")), ("common/DA".to_owned(), json!("holding:40068"))]
    );
    assert_eq!((&offers[0].value, &offers[1].value), (&json!("Al"), &json!(8)), "with what they say now");

    bench.gateway.stop().await;

    // Without a running link the port is opened for it alone.
    let nothing = via(None, &Memories::default());
    let alone = identify(link, &bench.description.devices[0], &nothing).await.unwrap();
    assert_eq!(alone.objects, identity.objects);
    let mut point = interlex_core::description::Point::clone(&bench.description.devices[0].points[1]);
    point.settings.access = interlex_core::description::Access::Read;
    let device = bench.description.devices[0].clone();
    let write = PointWrite {
        link: link.clone(),
        device,
        point,
        value: Value::Uint(1),
        relinquishes: Relinquish::No,
        index: None,
    };
    assert!(matches!(try_write(&write, &nothing).await, Err(WriteError::Refused(_))));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_commanded_value_that_is_not_commanded_anew_goes_back_to_the_safe_one() {
    let directory = tempfile::tempdir().unwrap();
    let mut database = Database::start(directory.path(), own_socket().unwrap()).await.unwrap();
    let store = Store::new(&database.url("interlex")).unwrap();
    store.migrate().await.unwrap();
    let mut bench = Bench::start(Framing::Rtu, 1..2, "").await;
    bench.gateway.stop().await;
    let mut description = Description::clone(&bench.description);
    let points = &mut description.devices[0].points;
    let mut changed = points.to_vec();
    for (point, lifetime) in [(1, "300ms"), (4, "1h")] {
        let point = Arc::make_mut(&mut changed[point]);
        point.settings.lifetime = Some(lifetime.parse().unwrap());
        point.settings.safe_value = Some("5".into());
    }
    *points = changed.into();
    let start = async || {
        let options = GatewayOptions { revision: 1, store: Some(store.clone()), ..GatewayOptions::default() };
        Gateway::start(Arc::new(description.clone()), options).await
    };
    bench.gateway = start().await;
    bench.until("the unit answers", |gateway| gateway.status().links[0].devices[0].state == DeviceState::Up).await;
    let register = |bench: &Bench, address| bench.field.registers.lock().unwrap().get(&(1, address)).copied();
    let write =
        async |bench: &Bench, point: &str, value| bench.gateway.commands().write("unit-1", point, value).await.unwrap();
    let until = |gateway: &Gateway, point: &str| {
        let running = gateway.running();
        gateway.commands().commanded_until(running.points().find("unit-1", point).unwrap())
    };

    write(&bench, "set-point", Value::Float64(40.0)).await.unwrap();
    let first = until(&bench.gateway, "set-point").unwrap();
    assert!(write(&bench, "set-point", Value::Float64(90.0)).await.is_err(), "above its limit");
    assert_eq!(until(&bench.gateway, "set-point"), Some(first), "what is refused refreshes nothing");
    write(&bench, "set-point", Value::Float64(41.0)).await.unwrap();
    assert!(until(&bench.gateway, "set-point").unwrap() > first);
    assert_eq!(register(&bench, 4), Some(410));
    bench.until("the safe value is there", |_| register(&bench, 4) == Some(50)).await;
    bench.until("nothing is due any more", |gateway| until(gateway, "set-point").is_none()).await;
    let audit = store.audit(&AuditFilter { limit: 10, ..AuditFilter::default() }).await.unwrap();
    let told: Vec<_> = audit.iter().map(|entry| (entry.person.as_str(), entry.detail.as_str())).collect();
    assert_eq!(told, [("(lifetime)", "unit-1/set-point = 5, its safe value, after its lifetime: confirmed")]);

    write(&bench, "mode", Value::Uint(7)).await.unwrap();
    assert!(until(&bench.gateway, "mode").is_some());
    write(&bench, "mode", Value::Uint(5)).await.unwrap();
    assert_eq!(until(&bench.gateway, "mode"), None, "the safe value holds for good");
    // The gateway is away when the moment comes.
    bench.field.dead.lock().unwrap().push(1);
    let _ = write(&bench, "set-point", Value::Float64(42.0)).await.unwrap_err();
    assert!(until(&bench.gateway, "set-point").is_some(), "a silent device may have taken it");
    bench.gateway.stop().await;
    bench.field.registers.lock().unwrap().insert((1, 4), 420);
    bench.field.dead.lock().unwrap().clear();
    bench.gateway = start().await;
    bench.until("the safe value is there", |_| register(&bench, 4) == Some(50)).await;
    bench.gateway.stop().await;
    store.close().await;
    database.stop().await;
}

/// One controller for two machines: the map of the second stands four registers behind that of the first.
#[tokio::test(flavor = "multi_thread")]
async fn devices_that_share_a_unit_are_asked_together_and_are_up_and_silent_together() {
    let second = "[[device]]\nname = \"unit-1b\"\nlink = \"meter-line\"\nunit = 1\nbase = 4\npoints = \"p.csv\"\n";
    let bench = Bench::start(Framing::Rtu, 1..=1, second).await;
    bench.until("all good", |gateway| gateway.status().points_good == 10).await;
    let running = bench.gateway.running();
    let level =
        |device: &str| running.latest().read(running.points().find(device, "level").unwrap().index).unwrap().value;
    assert_eq!((level("unit-1"), level("unit-1b")), (Some(Value::Float64(0.0)), Some(Value::Float64(0.4))));
    let requests = running.requests("meter-line").await.unwrap();
    assert!(requests.iter().all(|request| request.devices == ["unit-1", "unit-1b"]), "{requests:?}");
    let read = requests.iter().flat_map(|request| &request.points).filter(|point| point.ends_with(".level"));
    assert_eq!(read.collect::<Vec<_>>(), ["unit-1.level", "unit-1b.level"]);
    let outcome = bench.gateway.commands().write("unit-1b", "set-point", Value::Float64(1.5)).await.unwrap();
    assert_eq!(outcome.unwrap().confirmed, Some(true));
    assert_eq!(bench.field.registers.lock().unwrap()[&(1, 8)], 15);
    let of_state = |gateway: &Gateway, state| {
        gateway.status().links[0].devices.iter().filter(|device| device.state == state).count()
    };
    bench.field.dead.lock().unwrap().push(1);
    bench.until("both are silent", |gateway| of_state(gateway, DeviceState::Silent) == 2).await;
    assert_eq!(bench.gateway.status().points_good, 0);
    bench.field.dead.lock().unwrap().clear();
    bench.until("both are back", |gateway| gateway.status().points_good == 10).await;
    assert_eq!(of_state(&bench.gateway, DeviceState::Up), 2);
    let counts = running.statistics("meter-line").unwrap();
    assert!(counts.devices.iter().all(|device| device.counts.requests > 0), "{counts:?}");
    bench.gateway.stop().await;
}

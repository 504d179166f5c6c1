//! What is described of the points of an outstation, and what an outstation is told beside them.

use crate::dnp3::{Dnp3Field, Gateway, MASTER, Machine, address, all_is_safe, until};
use crate::suite::{Field, WallClock};
use interlex_core::description::{Description, Files, read};
use interlex_core::{DeviceState, FieldEvent, Quality, Reason, SampleKind, Value};
use interlex_dnp3::{
    DoubleBit, EventClass, Flags, MeasuredValue, Number, Operation, Outstation, OutstationConfig, OutstationHost,
    Point, PointKind, PointUpdate, TripClose,
};
use interlex_field::{DeviceAct, Memories, PointWrite, Relinquish, Via, WriteOutcome, act, write};
use std::sync::{Arc, Mutex};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

const LIST: &str = "name,address,control,trip-index,feedback,pulse,pulses,class,device-deadband,variation,enumeration,access,rate\n\
                    breaker,double-bit:0,,,,,,1,,,0=between;1=open;2=closed;3=faulty,,fast\n\
                    operate,binary-output:0,trip-close,1,breaker,150,,,,,,read-write,fast\n\
                    horn,binary-output:2,pulse,,,200,3,,,,,read-write,fast\n\
                    voltage,analog:0,,,,,,2,1.5,1,,,fast\n\
                    current,analog:1,,,,,,2,,,,,fast\n";

fn description(field: &Dnp3Field) -> Description {
    let (host, port) = (field.line().ip(), field.line().port());
    let main = format!(
        "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"feeder\"\nprotocol = \"dnp3-tcp\"\n\
         host = \"{host}\"\nport = {port}\ntimeout = \"1s\"\n[[device]]\nname = \"one\"\nlink = \"feeder\"\naddress = 10\n\
         points = \"p.csv\"\nevent-period = \"300ms\"\n"
    );
    read(&Files::from([("gateway.toml".to_owned(), main), ("p.csv".to_owned(), LIST.to_owned())])).unwrap()
}

async fn field() -> Dnp3Field {
    let field = Dnp3Field::start().await;
    field.host.with(address("one"), |outstation, _, _| {
        outstation.put(PointKind::DoubleBit, 0, Point::new(DoubleBit::On.into(), None));
        for index in 0..3 {
            outstation.put(PointKind::BinaryOutput, index, Point::new(MeasuredValue::State(false), None));
        }
        outstation.put(PointKind::FrozenCounter, 0, Point::new(Number::Uint32(0).into(), None));
        for index in 0..2 {
            outstation.put(PointKind::Analog, index, Point::new(Number::Float32(411.5).into(), None));
        }
    });
    field
}

/// A gateway that runs, and how to ask something of it.
struct Running {
    description: Description,
    via: Via,
    _gateway: tokio_util::sync::DropGuard,
}

async fn run(field: &Dnp3Field) -> Running {
    let description = description(field);
    let Gateway { link, events, _stop, .. } = Gateway::start(&description);
    tokio::spawn(all_is_safe(events));
    until("it is up", || link.status().devices[0].state == DeviceState::Up).await;
    let via = Via { links: vec![link], memories: Memories::default(), clock: Arc::new(WallClock) };
    Running { description, via, _gateway: _stop }
}

impl Running {
    async fn write(&self, name: &str, value: bool) -> WriteOutcome {
        let (link, device) = (self.description.links[0].clone(), self.description.devices[0].clone());
        let point = device.points.iter().find(|point| point.settings.name.as_str() == name).unwrap();
        let point = interlex_core::description::Point::clone(point);
        write(
            &PointWrite { link, device, point, value: Value::Bool(value), relinquishes: Relinquish::No, index: None },
            &self.via,
        )
        .await
        .unwrap()
    }
}

/// The outstation is told of which class its points are, and by how much they have to move; and is read in the variation that was asked.
#[tokio::test(flavor = "multi_thread")]
async fn an_outstation_is_told_classes_and_deadbands_again_after_each_restart() {
    let field = field().await;
    let running = run(&field).await;
    let told = |kind, index| {
        let of = |point: &Point| (point.class, point.deadband);
        field.host.with(address("one"), |outstation, _, _| outstation.point(kind, index).map(of)).flatten().unwrap()
    };
    let are_told = || {
        let all = [told(PointKind::DoubleBit, 0), told(PointKind::Analog, 0), told(PointKind::Analog, 1)];
        all == [(Some(EventClass::First), 0.0), (Some(EventClass::Second), 1.5), (Some(EventClass::Second), 0.0)]
    };
    assert!(are_told());
    let frames = running.via.links[0].frames(&interlex_field::FrameFilter::default());
    let read = frames.iter().find(|frame| frame.text.contains("g60v1 all, g30v1 0")).expect("an integrity poll");
    assert!(read.sent, "{read:?}");
    assert!(frames.iter().any(|frame| !frame.sent && frame.text.contains("g30v1 0")), "it is told so");
    field.host.with(address("one"), |outstation, _, _| {
        outstation.put(PointKind::DoubleBit, 0, Point::new(DoubleBit::On.into(), None));
        outstation.restart();
    });
    until("it is told again", are_told).await;
}

/// Two coils with an index each, and the contacts that show what they did.
#[tokio::test(flavor = "multi_thread")]
async fn a_breaker_is_confirmed_by_what_it_shows() {
    let field = field().await;
    let running = run(&field).await;
    let controls = || field.host.with(address("one"), |_, machine, _| std::mem::take(&mut machine.controls)).unwrap();
    let host = Arc::clone(&field.host);
    tokio::spawn(async move {
        // It moves when it is told, a while after.
        loop {
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
            host.with(address("one"), |outstation, machine, now| {
                let (flags, time) = (Flags::ONLINE, now.wall);
                let value = machine.controls.last().map(|(_, control)| match control.trip_close {
                    TripClose::Trip => DoubleBit::Off,
                    _ => DoubleBit::On,
                });
                if let Some(value) = value {
                    outstation.update(PointKind::DoubleBit, 0, PointUpdate { value: value.into(), flags, time });
                }
            });
        }
    });
    let tripped = running.write("operate", false).await;
    assert_eq!((tripped.confirmed, tripped.value), (Some(true), Some(Value::Text("open".into()))), "{}", tripped.words);
    let (index, control) = controls()[0];
    assert_eq!((index, control.trip_close, control.on_time), (1, TripClose::Trip, 150));
    let closed = running.write("operate", true).await;
    assert_eq!((closed.confirmed, closed.value), (Some(true), Some(Value::Text("closed".into()))), "{}", closed.words);
    assert_eq!((controls()[0].0, controls().len()), (0, 0));
    let horn = running.write("horn", true).await;
    assert_eq!(horn.confirmed, None, "nothing shows what it did: {}", horn.words);
    let (index, control) = controls()[0];
    assert_eq!((index, control.operation, control.count, control.on_time), (2, Operation::PulseOn, 3, 200));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_outstation_is_asked_and_told_beside_its_points() {
    let field = field().await;
    let running = run(&field).await;
    let (link, device) = (&running.description.links[0], &running.description.devices[0]);
    let said =
        async |what| act(link, device, what, &running.via).await.map(|act| act.said).map_err(|error| error.to_string());
    assert_eq!(said(DeviceAct::LinkStatus).await.unwrap(), "its link layer answers");
    assert!(said(DeviceAct::ReadEverything).await.unwrap().starts_with("it told 10 points and "));
    assert_eq!(said(DeviceAct::WarmRestart).await.unwrap(), "it does so, and is there again in 250 ms");
    let restarts = field.host.with(address("one"), |_, machine, _| machine.restarts.clone()).unwrap();
    assert_eq!(restarts, [false]);
    assert_eq!(said(DeviceAct::FreezeCounters).await.unwrap(), "it has done so");
    let frozen =
        || field.host.with(address("one"), |of, _, _| of.point(PointKind::FrozenCounter, 0).is_some()).unwrap();
    assert!(frozen());
    field.silence("one", true);
    let none = said(DeviceAct::LinkStatus).await.unwrap_err();
    assert!(none.contains("did not answer"), "{none}");
}

/// Changes that it had no room for: every point shows that something is missing, and what is there comes all the same.
#[tokio::test(flavor = "multi_thread")]
async fn a_full_buffer_leaves_a_gap_in_every_point() {
    let field = field().await;
    let description = description(&field);
    let Gateway { link, mut events, points, _stop, .. } = Gateway::start(&description);
    let gaps: Arc<Mutex<Vec<_>>> = Arc::default();
    let into = Arc::clone(&gaps);
    tokio::spawn(async move {
        while let Some(event) = events.recv().await {
            match event {
                FieldEvent::Keep(receipt) => receipt.stored(),
                FieldEvent::Samples(samples) => {
                    let gaps = samples.iter().filter(|sample| sample.quality == Quality::Bad(Reason::Overflow));
                    into.lock().unwrap().extend(gaps.map(|sample| (sample.point, sample.kind)));
                }
                _ => {}
            }
        }
    });
    until("it is up", || link.status().devices[0].state == DeviceState::Up).await;
    field.cut();
    field.host.with(address("one"), |outstation, _, now| {
        for count in 0..10_010_u32 {
            let value = if count % 2 == 0 { DoubleBit::Off } else { DoubleBit::On };
            outstation.update(
                PointKind::DoubleBit,
                0,
                PointUpdate { value: value.into(), flags: Flags::ONLINE, time: now.wall },
            );
        }
    });
    field.mend().await;
    let all = || points.of_slot(0).iter().all(|info| gaps.lock().unwrap().contains(&(info.index, SampleKind::Past)));
    until("every point has a gap", all).await;
    let backlog = || field.host.with(address("one"), |outstation, _, _| outstation.backlog(MASTER)).flatten();
    until("what was kept is told", || backlog().is_some_and(|waiting| waiting < 5)).await;
    assert_eq!(gaps.lock().unwrap().len(), points.of_slot(0).len(), "once each");
}

/// Nothing changes, and nobody is asked for a long time: what was told once holds.
#[tokio::test(flavor = "multi_thread")]
async fn points_of_a_quiet_outstation_do_not_become_stale() {
    let listener = TcpListener::bind((interlex_sidecar::own_address(), 0)).await.unwrap();
    let at = listener.local_addr().unwrap();
    let mut outstation = Outstation::new(OutstationConfig::default(), [MASTER]);
    outstation.put(PointKind::Binary, 0, Point::new(MeasuredValue::State(true), Some(EventClass::First)));
    let stop = CancellationToken::new();
    let host = OutstationHost::new([(address("one"), outstation, Machine::default())]);
    tokio::spawn(host.serve(listener, stop.clone()));
    let _guard = stop.drop_guard();
    let main = format!(
        "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"feeder\"\nprotocol = \"dnp3-tcp\"\n\
         host = \"{}\"\nport = {}\nkeep-alive = \"1m\"\nstale-periods = 3\n[[device]]\nname = \"one\"\nlink = \"feeder\"\n\
         address = 10\npoints = \"p.csv\"\nevent-period = \"1m\"\n",
        at.ip(),
        at.port()
    );
    let list = "name,address,rate\nlocal,binary:0,fast\n";
    let files = Files::from([("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list.to_owned())]);
    let Gateway { link, events, points, latest, _stop } = Gateway::start(&read(&files).unwrap());
    tokio::spawn(all_is_safe(events));
    until("it is up", || link.status().devices[0].state == DeviceState::Up).await;
    let reading = || latest.read(points.find("one", "local").unwrap().index).unwrap();
    let first = reading().gateway_time.as_millis();
    until("it was said to hold for longer than a value lasts", || {
        let now = reading();
        assert_eq!(now.quality, Quality::Good);
        now.gateway_time.as_millis() > first + 4000
    })
    .await;
}

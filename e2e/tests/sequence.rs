//! Events of an outstation, while everything on their way to the broker ends without a word.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_dnp3::{
    CommandStatus, EventClass, Flags, LinkAddress, MeasuredValue, Number, Object, Outstation, OutstationConfig,
    OutstationHost, Point, PointKind, PointUpdate, Process,
};
use interlex_e2e::{Host, Rig, wait_for};
use interlex_sidecar::own_address;
use serde_json::Value;
use std::collections::HashSet;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

const MASTER: LinkAddress = LinkAddress(1);
const RELAY: LinkAddress = LinkAddress(10);
/// Three events are of one millisecond.
const FIRST: i64 = 1_700_000_000_000;

/// Nothing can be commanded.
struct Counts;

impl Process for Counts {
    fn select(&mut self, _: PointKind, _: u32, _: &Object) -> CommandStatus {
        CommandStatus::NOT_SUPPORTED
    }

    fn operate(&mut self, _: PointKind, _: u32, _: &Object) -> CommandStatus {
        CommandStatus::NOT_SUPPORTED
    }

    fn set_time(&mut self, _: u64) {}

    fn restart(&mut self, _: bool) -> Option<u16> {
        None
    }

    fn is_answered(&mut self) -> bool {
        true
    }
}

/// An outstation that counts, with an event for each step.
async fn relay(stop: &CancellationToken) -> (Arc<OutstationHost<Counts>>, std::net::SocketAddr) {
    let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
    let address = listener.local_addr().unwrap();
    let mut outstation = Outstation::new(OutstationConfig::default(), [MASTER]);
    let count = |number: u32| MeasuredValue::Number(Number::Uint32(number));
    outstation.put(PointKind::Counter, 0, Point::new(count(0), Some(EventClass::First)));
    // Nobody describes this one.
    outstation.put(PointKind::Binary, 7, Point::new(MeasuredValue::State(false), Some(EventClass::Second)));
    let host = OutstationHost::new([(RELAY, outstation, Counts)]);
    tokio::spawn(Arc::clone(&host).serve(listener, stop.clone()));
    (host, address)
}

fn at(count: u32) -> i64 {
    FIRST + i64::from(count / 3)
}

fn happen(host: &OutstationHost<Counts>, count: u32) {
    host.with(RELAY, |outstation, _, _| {
        let time = u64::try_from(at(count)).unwrap();
        let value = Number::Uint32(count).into();
        outstation.update(PointKind::Counter, 0, PointUpdate { value, flags: Flags::ONLINE, time });
        let value = MeasuredValue::State(count % 2 == 1);
        if count % 10 < 2 {
            outstation.update(PointKind::Binary, 7, PointUpdate { value, flags: Flags::ONLINE, time });
        }
    });
}

/// The whole list, the last one first.
async fn events(rig: &Rig, filter: &str) -> Vec<Value> {
    let (mut all, mut behind) = (Vec::<Value>::new(), String::new());
    loop {
        let path = format!("/api/v1/gateways/alderfen-1/events?limit=300{filter}{behind}");
        let page = rig.get(&path).await.as_array().unwrap().clone();
        let Some(last) = page.last() else { return all };
        behind = format!("&behind_at={}&behind_id={}", last["at"], last["id"]);
        all.extend(page);
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_again_and_again_no_event_is_lost_and_the_list_has_each_once() {
    let mut rig = Rig::start().await;
    let stop = CancellationToken::new();
    let _guard = stop.clone().drop_guard();
    let (relay, address) = relay(&stop).await;
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = std::fs::read_to_string(&main).unwrap();
    let (before, after) = text.split_once("[[uplink]]").unwrap();
    let own = format!(
        "[[link]]\nname = \"feeder\"\nprotocol = \"dnp3-tcp\"\nhost = \"{}\"\nport = {}\ntimeout = \"1s\"\n\
         reconnect-limit = \"1s\"\n\n[[device]]\nname = \"relay\"\nlink = \"feeder\"\naddress = 10\nevent-period = \"1s\"\n\n",
        address.ip(),
        address.port()
    );
    std::fs::write(&main, format!("{before}{own}[[uplink]]{after}")).unwrap();
    let list = "name,address,unit,rate\noperations,counter:0,times,normal\n";
    std::fs::write(Path::new(&directory).join("points/relay.csv"), list).unwrap();
    let hosts = Host::listen(rig.broker.address()).await;
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "a relay"]).await;
    assert_eq!(applied.code, 0, "{applied:?}");
    hosts.hears("its birth", 0, |m| m.kind == "DBIRTH" && m.device.as_deref() == Some("relay")).await;

    let happened = Arc::new(AtomicU32::new(0));
    let happening = tokio::spawn(stop.clone().run_until_cancelled_owned({
        let (relay, happened) = (Arc::clone(&relay), Arc::clone(&happened));
        async move {
            loop {
                tokio::time::sleep(Duration::from_millis(3)).await;
                happen(&relay, happened.fetch_add(1, Ordering::SeqCst) + 1);
            }
        }
    }));
    for round in 0..8_u64 {
        if round == 4 {
            rig.broker.stop().await;
        }
        // No condition to wait for: the moment itself is what is tried.
        tokio::time::sleep(Duration::from_millis(400 + fastrand::u64(0..600))).await;
        rig.service.kill().await;
        if round == 5 {
            rig.broker.restart().await.unwrap();
        }
        rig.restart_service().await;
    }
    stop.cancel();
    happening.await.unwrap();
    let stop = CancellationToken::new();
    let _guard = stop.clone().drop_guard();
    let last = happened.load(Ordering::SeqCst);
    // The one of before may be on its way out.
    let listener = wait_for("the address is free", || async { TcpListener::bind(address).await.ok() }).await;
    tokio::spawn(Arc::clone(&relay).serve(listener, stop.clone()));
    wait_for("all are confirmed", || async {
        relay.with(RELAY, |outstation, _, _| outstation.backlog(MASTER)).flatten().filter(|waiting| *waiting == 0)
    })
    .await;

    let told = events(&rig, "&device=relay&point=operations").await;
    let counts: Vec<_> = told.iter().map(|event| event["state"].as_str().unwrap().to_owned()).collect();
    let expected: Vec<_> = (1..=last).rev().map(|count| format!("{count} times")).collect();
    assert_eq!(counts.len(), expected.len(), "of {last}: {:?}", counts.first());
    assert!(counts == expected, "each once, in its order");
    assert!(told.iter().zip((1..=last).rev()).all(|(event, count)| event["at"] == at(count)));
    assert!(told.iter().all(|event| event["time"] == "synchronized" && event["flags"] == "online"));
    let others = events(&rig, "&point=binary:7").await;
    let expected = usize::try_from(last / 10 + last.div_ceil(10)).unwrap();
    assert_eq!(others.len(), expected, "what nobody has described stands there, too");
    assert!(others[0]["point"].is_null());

    let heard = || {
        let all = hosts.all();
        let of_relay = all.iter().filter(|m| m.kind == "DDATA" && m.device.as_deref() == Some("relay"));
        let values = of_relay.flat_map(|m| &m.metrics).filter_map(|metric| metric.value);
        // Whole numbers, in words.
        values.map(|value| value.to_string()).collect::<HashSet<_>>()
    };
    wait_for("every one has arrived", || async {
        let heard = heard();
        (1..=last).all(|count| heard.contains(&count.to_string())).then_some(())
    })
    .await;

    // The client tells the same, as it happened, and saves it for a spreadsheet.
    let shown = rig
        .interlex(&["events", "--device", "relay", "--point", "operations", "--numbers", "--limit", "2", "-o", "csv"])
        .await;
    let lines: Vec<_> = shown.out.lines().collect();
    assert!(lines.len() == 3 && lines[2].contains(&format!(",operations,counter:0,{last} times,online")), "{shown:?}");
}

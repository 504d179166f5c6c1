//! A gateway in front of devices that behave as real ones do: late, silent, refusing, gone.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_core::description::{Files, read};
use interlex_core::{PointIndex, Quality, Reason, Value};
use interlex_gateway::{DeviceState, FrameFilter, Gateway, GatewayOptions, LinkState};
use interlex_modbus::{ExceptionCode, Framing, ReadData, Refusal, Request, Response, Units, serve, serve_framed};
use interlex_sidecar::own_address;
use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

/// Units whose registers hold their own address, with a log of what was asked and a word on how to behave.
#[derive(Debug, Default)]
struct Field {
    asked: Mutex<Vec<(u8, u16, u16)>>,
    silent: Mutex<Vec<u8>>,
    missing: Mutex<Vec<u16>>,
    /// Addresses that get no answer.
    mute: Mutex<Vec<u16>>,
    /// How many requests go unanswered before the next answer.
    drop_next: Mutex<u32>,
}

impl Units for Field {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(request) = request else { return Err(ExceptionCode::ILLEGAL_FUNCTION.into()) };
        self.asked.lock().unwrap().push((unit, request.address(), request.quantity()));
        let mut drop_next = self.drop_next.lock().unwrap();
        if *drop_next > 0 {
            *drop_next -= 1;
            return Err(Refusal::Silence);
        }
        let range = request.address()..request.address() + request.quantity();
        let has = |addresses: &Mutex<Vec<u16>>| addresses.lock().unwrap().iter().any(|address| range.contains(address));
        if self.silent.lock().unwrap().contains(&unit) || has(&self.mute) {
            return Err(Refusal::Silence);
        }
        if has(&self.missing) {
            return Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS));
        }
        Ok(Response::Data(ReadData::Registers(range.collect())))
    }
}

struct Bench {
    field: Arc<Field>,
    gateway: Gateway,
    address: SocketAddr,
    stop_field: CancellationToken,
}

impl Bench {
    async fn start(devices: &[u8], points: &str) -> Self {
        Self::framed(Framing::Tcp, devices, points).await
    }

    async fn framed(framing: Framing, devices: &[u8], points: &str) -> Self {
        let protocol = match framing {
            Framing::Tcp => "modbus-tcp",
            Framing::Rtu => "modbus-rtu-tcp",
            Framing::Ascii => "modbus-ascii-tcp",
        };
        let listener = TcpListener::bind((own_address(), 1502)).await.unwrap();
        let address = listener.local_addr().unwrap();
        let (host, port) = (address.ip(), address.port());
        let field = Arc::new(Field::default());
        let stop_field = CancellationToken::new();
        tokio::spawn(serve_framed(listener, framing, Arc::clone(&field) as Arc<dyn Units>, stop_field.clone()));
        let mut main = format!(
            "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"20ms\"\n[[link]]\nname = \"process-bus\"\nprotocol = \
             \"{protocol}\"\nhost = \"{host}\"\nport = {port}\ntimeout = \"60ms\"\nreconnect-limit = \"50ms\"\n"
        );
        for unit in devices {
            main.push_str(&format!(
                "[[device]]\nname = \"unit-{unit}\"\nlink = \"process-bus\"\nunit = {unit}\npoints = \"p.csv\"\n"
            ));
        }
        let points = format!("name,address,type,rate\n{points}");
        let files: Files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), points)].into();
        let gateway = Gateway::start(Arc::new(read(&files).unwrap()), GatewayOptions::default()).await;
        Self { field, gateway, address, stop_field }
    }

    /// Listens where the devices were. Whoever did before lets go a moment after it was told to.
    async fn listen_again(&self) -> TcpListener {
        let listening = async {
            loop {
                match TcpListener::bind(self.address).await {
                    Ok(listener) => break listener,
                    Err(_) => tokio::time::sleep(Duration::from_millis(5)).await,
                }
            }
        };
        tokio::time::timeout(Duration::from_secs(30), listening).await.unwrap()
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

    fn quality(&self, point: u32) -> Quality {
        self.gateway.running().latest().read(PointIndex(point)).unwrap().quality
    }

    fn device(&self, at: usize) -> DeviceState {
        self.gateway.status().links[0].devices[at].state
    }

    /// How often each unit was asked since the last call.
    fn asked(&self) -> HashMap<u8, usize> {
        let mut counts = HashMap::new();
        for (unit, ..) in self.field.asked.lock().unwrap().drain(..) {
            *counts.entry(unit).or_default() += 1;
        }
        counts
    }
}

const FOUR: &str =
    "a,holding:10,uint16,fast\nb,holding:11,uint16,fast\nc,holding:12,uint16,fast\nd,holding:13,uint16,fast\n";

#[tokio::test(flavor = "multi_thread")]
async fn neighbours_are_read_by_one_request_and_a_bad_address_spoils_only_its_own_point() {
    let bench = Bench::start(&[1], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 4).await;
    assert!(bench.field.asked.lock().unwrap().iter().all(|asked| *asked == (1, 10, 4)), "one request for four");
    let reading = bench.gateway.running().latest().read(PointIndex(2)).unwrap();
    assert_eq!((reading.value, reading.raw), (Some(Value::Uint(12)), Some(Value::Uint(12))));

    bench.field.missing.lock().unwrap().push(12);
    bench.until("the bad one stands alone", |gateway| gateway.status().points_good == 3).await;
    assert_eq!(bench.quality(2), Quality::Bad(Reason::Modbus(2)));
    assert_eq!(bench.device(0), DeviceState::Up);
    let status = bench.gateway.status();
    let error = status.links[0].devices[0].last_error.clone().unwrap();
    assert_eq!(error, "exception 02, illegal data address for read holding registers 12");

    bench.field.missing.lock().unwrap().clear();
    bench.until("it heals", |gateway| gateway.status().points_good == 4).await;
    bench.gateway.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn units_behind_a_serial_device_server_are_polled_as_well() {
    for framing in [Framing::Rtu, Framing::Ascii] {
        serial_over_tcp(framing).await;
    }
}

async fn serial_over_tcp(framing: Framing) {
    let bench = Bench::framed(framing, &[1, 2], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 8).await;
    let reading = bench.gateway.running().latest().read(PointIndex(6)).unwrap();
    assert_eq!(reading.value, Some(Value::Uint(12)));
    bench.field.missing.lock().unwrap().push(12);
    bench.until("a bad address spoils only its own points", |gateway| gateway.status().points_good == 6).await;
    bench.field.silent.lock().unwrap().push(2);
    bench.until("unit 2 is silent", |_| bench.device(1) == DeviceState::Silent).await;
    bench.field.silent.lock().unwrap().clear();
    bench.field.missing.lock().unwrap().clear();
    bench.until("it heals", |gateway| gateway.status().points_good == 8).await;
    bench.gateway.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_lost_answer_is_asked_for_again_and_harms_nothing() {
    let bench = Bench::start(&[1], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 4).await;
    *bench.field.drop_next.lock().unwrap() = 1;
    bench.until("the loss is counted", |gateway| gateway.status().links[0].timeouts == 1).await;
    let answers = bench.gateway.status().links[0].answers;
    bench.until("answers go on", |gateway| gateway.status().links[0].answers > answers + 3).await;
    assert_eq!(bench.device(0), DeviceState::Up);
    assert_eq!(bench.quality(0), Quality::Good);
    bench.gateway.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_silent_unit_is_probed_seldom_and_its_neighbours_keep_their_pace() {
    let bench = Bench::start(&[1, 2, 3], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 12).await;
    bench.field.silent.lock().unwrap().push(2);
    bench.until("unit 2 is silent", |_| bench.device(1) == DeviceState::Silent).await;
    assert_eq!((0..4).map(|n| bench.quality(4 + n)).collect::<Vec<_>>(), [Quality::Bad(Reason::Timeout); 4]);
    bench.asked();
    let answers = bench.gateway.status().links[0].answers;
    bench.until("a hundred answers", |gateway| gateway.status().links[0].answers >= answers + 100).await;
    let asked = bench.asked();
    assert!(asked.get(&2).copied().unwrap_or(0) <= 6, "{asked:?}");
    assert!(asked[&1] >= 40 && asked[&3] >= 40, "{asked:?}");

    bench.field.silent.lock().unwrap().clear();
    bench.until("unit 2 is back in full", |gateway| gateway.status().points_good == 12).await;
    assert_eq!(bench.device(1), DeviceState::Up);
    bench.gateway.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_connection_is_told_and_made_again() {
    let bench = Bench::start(&[1], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 4).await;
    bench.stop_field.cancel();
    bench.until("the link is down", |gateway| gateway.status().links[0].state == LinkState::Down).await;
    bench.until("all points say so", |_| bench.quality(3) == Quality::Bad(Reason::LinkDown)).await;
    assert_eq!(bench.device(0), DeviceState::Unreachable);
    let since = bench.gateway.status().links[0].since;
    bench
        .until("it goes on trying", |gateway| {
            let link = &gateway.status().links[0];
            link.since == since && link.last_error.as_deref().is_some_and(|error| error.starts_with("cannot connect"))
        })
        .await;
    let listener = bench.listen_again().await;
    let again = CancellationToken::new();
    tokio::spawn(serve(listener, Arc::clone(&bench.field) as Arc<dyn Units>, again.clone()));
    bench.until("all good again", |gateway| gateway.status().points_good == 4).await;
    assert!(bench.gateway.recent().of(PointIndex(0)).iter().any(|moment| moment.value.is_none()), "the gap is kept");
    bench.gateway.stop().await;
    again.cancel();
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_without_an_answer_spoils_only_its_own_point_and_the_plan_says_so() {
    let bench = Bench::start(&[1], &format!("{FOUR}e,input:0,uint16,fast\n")).await;
    bench.until("all good", |gateway| gateway.status().points_good == 5).await;
    bench.field.mute.lock().unwrap().push(12);
    bench.until("it stands alone", |gateway| gateway.status().points_good == 4).await;
    bench.until("its reason is told", |_| bench.quality(2) == Quality::Bad(Reason::Timeout)).await;
    assert_eq!(bench.device(0), DeviceState::Up);
    let running = bench.gateway.running();
    let requests = running.requests("process-bus").await.unwrap();
    let bad: Vec<_> = requests.iter().filter(|request| request.bad.is_some()).collect();
    assert_eq!(bad.len(), 1, "{requests:?}");
    assert_eq!((bad[0].reads.as_str(), &bad[0].points[..]), ("holding registers 12", &["c".to_owned()][..]));
    assert!(!bad[0].as_planned && bad[0].whole_again_in_ms.is_some());

    bench.field.mute.lock().unwrap().clear();
    assert!(running.relearn("process-bus", Some("unit-1".to_owned())).await);
    bench.until("it heals", |gateway| gateway.status().points_good == 5).await;
    // Its point may be well before the whole request was tried again.
    let whole = async {
        loop {
            let requests = running.requests("process-bus").await.unwrap();
            if requests.len() == 2 && requests.iter().all(|request| request.as_planned) {
                break;
            }
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(Duration::from_secs(20), whole).await.unwrap();
    let errors = FrameFilter { errors: true, device: Some("unit-1".to_owned()), ..FrameFilter::default() };
    let frames = running.frames("process-bus", &errors).unwrap();
    assert!(frames.iter().any(|frame| frame.text == "no answer within 60 ms"), "{frames:?}");
    bench.gateway.stop().await;
}

/// Sends nonsense to whoever connects.
async fn babble(listener: TcpListener, nonsense: &'static [u8]) {
    while let Ok((mut stream, _)) = listener.accept().await {
        // The client hangs up as soon as it has understood what it is talking to.
        let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, nonsense).await;
        let _ = tokio::io::AsyncReadExt::read(&mut stream, &mut [0; 64]).await;
        let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, nonsense).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn nonsense_on_the_line_takes_the_link_down_and_nothing_else() {
    let bench = Bench::start(&[1], FOUR).await;
    bench.until("all good", |gateway| gateway.status().points_good == 4).await;
    bench.stop_field.cancel();
    bench.until("the link is down", |gateway| gateway.status().links[0].state == LinkState::Down).await;
    let listener = bench.listen_again().await;
    let babbling = tokio::spawn(babble(listener, b"HTTP/1.1 400 Bad Request\r\n\r\n"));
    bench
        .until("it is seen through", |gateway| {
            gateway.status().links[0].last_error.as_deref().is_some_and(|error| error.contains("not Modbus"))
        })
        .await;
    babbling.abort();
    assert!(babbling.await.is_err());
    let listener = bench.listen_again().await;
    let again = CancellationToken::new();
    tokio::spawn(serve(listener, Arc::clone(&bench.field) as Arc<dyn Units>, again.clone()));
    bench.until("all good again", |gateway| gateway.status().points_good == 4).await;
    bench.gateway.stop().await;
    again.cancel();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_device_that_hangs_up_at_once_is_tried_more_and_more_seldom() {
    let listener = TcpListener::bind((own_address(), 1502)).await.unwrap();
    let address = listener.local_addr().unwrap();
    let files: Files = [
        (
            "gateway.toml".to_owned(),
            format!(
                "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"20ms\"\n[[link]]\nname = \"process-bus\"\nprotocol = \
                 \"modbus-tcp\"\nhost = \"{}\"\nport = {}\n[[device]]\nname = \"unit-1\"\nlink = \"process-bus\"\nunit = \
                 1\npoints = \"p.csv\"\n",
                address.ip(),
                address.port()
            ),
        ),
        ("p.csv".to_owned(), format!("name,address,type,rate\n{FOUR}")),
    ]
    .into();
    let gateway = Gateway::start(Arc::new(read(&files).unwrap()), GatewayOptions::default()).await;
    let mut times = Vec::new();
    for _ in 0..4 {
        drop(listener.accept().await.unwrap());
        times.push(tokio::time::Instant::now());
    }
    // Waits of a half, one and two seconds, each up to a quarter shorter.
    assert!(times[3] - times[0] >= Duration::from_millis(2600), "{times:?}");
    gateway.stop().await;
}

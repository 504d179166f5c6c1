//! BACnet: how many requests finding out what a device has takes, how fast many devices are polled, and how fast changes come.

use crate::report::{cpu_time, header, now, row};
use crate::watching::Watching;
use anyhow::Context;
use interlex_bacnet::{
    CovTerms, Device, DeviceConfig, DeviceHost, MaxApdu, Object, ObjectIdentifier, ObjectType, PropertyIdentifier,
    ReadAccess, ReadPropertyMultiple, Segmentation, SubscribeCov, Value,
};
use interlex_core::OfferEvent;
use interlex_core::description::{Description, read};
use interlex_field::{FrameFilter, FrameView, OfferRequest, Offering};
use interlex_sidecar::own_address;
use std::collections::{BTreeSet, HashMap};
use std::fmt::Write as _;
use std::net::{Ipv4Addr, SocketAddr, SocketAddrV4};
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::net::UdpSocket;
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::sync::mpsc;
use tokio::time::{sleep, timeout};
use tokio_util::sync::CancellationToken;

/// The first ones are polled; the last one is looked through, and tells its changes.
const DEVICES: u32 = 50;
const OBJECTS: u32 = 100;
const LARGE: u32 = DEVICES + 1;
const FOUND: u32 = 600;
const WATCHED: u32 = 200;
const CHANGES: u32 = 100_000;
const ROUNDS: u32 = 3;
const MEASURED: Duration = Duration::from_secs(3);
const PORT: u16 = 47_808;

// Services that are asked for.
const READ_PROPERTY_MULTIPLE: u8 = 14;
const SUBSCRIBE_COV: u8 = 5;
/// Where the invoke id of a request is.
const ID_ASKED: usize = 8;

fn object(instance: u32) -> anyhow::Result<ObjectIdentifier> {
    ObjectIdentifier::new(ObjectType::ANALOG_INPUT, instance).context("no such object")
}

fn device(instance: u32, objects: u32) -> anyhow::Result<Device> {
    let config = DeviceConfig {
        instance,
        name: format!("controller-{instance}"),
        vendor: 999,
        vendor_name: "Alderfen".to_owned(),
        model: "bench".to_owned(),
        max_apdu: MaxApdu::BACNET_IP,
        segmentation: Segmentation::Both,
        utc_offset: 0,
        password: None,
        broadcasts_i_am: false,
    };
    (0..objects).try_fold(Device::new(config), |device, number| {
        let value = Object::valued(object(number)?, &format!("temperature-{number}"), 20.5_f32)
            .with(PropertyIdentifier::DESCRIPTION, format!("Temperature {number} of the building").as_str())
            .with(PropertyIdentifier::UNITS, Value::Enumerated(62))
            .with(PropertyIdentifier::COV_INCREMENT, 0.5_f32);
        Ok(device.with(value))
    })
}

/// Is all the devices, at ports of one address that it prints. Tells as many changes as a line of its standard input says, and prints
/// another line when all are acknowledged. Ends with its input.
pub(crate) async fn devices() -> anyhow::Result<()> {
    let own = own_address();
    let mut hosts = Vec::new();
    for instance in 1..=LARGE {
        let objects = if instance == LARGE { FOUND } else { OBJECTS };
        let local = SocketAddrV4::new(own, port(instance)?);
        let host = DeviceHost::bind(local, own, [(None, device(instance, objects)?)])?;
        tokio::spawn(Arc::clone(&host).serve(CancellationToken::new()));
        hosts.push(host);
    }
    anstream::println!("{own}");
    let large = hosts.last().context("no host")?;
    let watched: Vec<_> = (0..WATCHED).map(object).collect::<Result<_, _>>()?;
    let mut input = BufReader::new(tokio::io::stdin()).lines();
    let mut value = 20.5_f32;
    while let Some(line) = input.next_line().await? {
        let mut left: usize = line.parse()?;
        loop {
            let is_over = large.with(LARGE, |device, _, _| {
                value += 1.0;
                let ready: Vec<_> = watched.iter().filter(|object| device.is_told(**object)).copied().collect();
                for object in ready.iter().take(left) {
                    if let Some(object) = device.object_mut(*object) {
                        object.set(PropertyIdentifier::PRESENT_VALUE, value);
                    }
                }
                left -= ready.len().min(left);
                left == 0 && ready.len() == watched.len()
            });
            if is_over == Some(true) {
                break;
            }
            sleep(Duration::from_millis(1)).await;
        }
        anstream::println!("acknowledged");
    }
    Ok(())
}

fn port(instance: u32) -> anyhow::Result<u16> {
    Ok(PORT + u16::try_from(instance)?)
}

/// The devices, in a process of their own.
struct Building {
    _child: Child,
    input: ChildStdin,
    output: Lines<BufReader<ChildStdout>>,
    address: Ipv4Addr,
}

impl Building {
    async fn start() -> anyhow::Result<Self> {
        let mut command = Command::new(std::env::current_exe()?);
        let piped = command.arg("bacnet-devices").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child = piped.spawn()?;
        let input = child.stdin.take().context("no input")?;
        let mut output = BufReader::new(child.stdout.take().context("no output")?).lines();
        let address = output.next_line().await?.context("the devices ended")?.parse()?;
        Ok(Self { _child: child, input, output, address })
    }

    fn at(&self, instance: u32) -> anyhow::Result<SocketAddrV4> {
        Ok(SocketAddrV4::new(self.address, port(instance)?))
    }

    /// A gateway for some of the devices, with as many points each.
    fn description(
        &self,
        instances: std::ops::RangeInclusive<u32>,
        points: u32,
        keys: &str,
    ) -> anyhow::Result<Description> {
        let interface = own_address();
        let mut main = format!(
            "[gateway]\nname = \"works\"\n[rates]\nshown = \"1ms\"\n[[link]]\nname = \"building\"\nprotocol = \"bacnet-ip\"\n\
             interface = \"{interface}\"\nbroadcast = \"{interface}\"\ntimeout = \"1s\"\n"
        );
        for instance in instances {
            let at = self.at(instance)?;
            // Writing into a string cannot fail.
            let _ = write!(
                main,
                "[[device]]\nname = \"controller-{instance}\"\nlink = \"building\"\ninstance = {instance}\nhost = \"{at}\"\n\
                 points = \"points.csv\"\n{keys}\n"
            );
        }
        let mut list = "name,address,rate\n".to_owned();
        for number in 0..points {
            let _ = writeln!(list, "value-{number},analog-input:{number},shown");
        }
        let files = [("gateway.toml".to_owned(), main), ("points.csv".to_owned(), list)].into();
        read(&files).map_err(|problems| anyhow::anyhow!("{problems:?}"))
    }

    /// How long it takes until so many changes are told and acknowledged.
    async fn seconds_of(&mut self, changes: u32) -> anyhow::Result<f64> {
        let start = now();
        self.input.write_all(format!("{changes}\n").as_bytes()).await?;
        self.output.next_line().await?.context("the devices ended")?;
        Ok(start.elapsed().as_secs_f64())
    }
}

/// A datagram with a confirmed request, whose answer may come in segments.
fn request(service: u8, data: &[u8]) -> anyhow::Result<Vec<u8>> {
    let length = u16::try_from(data.len() + 10)?.to_be_bytes();
    let [high, low] = length;
    Ok([&[0x81, 0x0A, high, low, 0x01, 0x04, 0x02, 0x75, 0, service], data].concat())
}

/// What a poll of so many objects asks for.
fn poll(objects: u32) -> anyhow::Result<Vec<u8>> {
    let properties = vec![PropertyIdentifier::PRESENT_VALUE.into(), PropertyIdentifier::STATUS_FLAGS.into()];
    let access = |number| Ok(ReadAccess { object: object(number)?, properties: properties.clone() });
    let wanted = (0..objects).map(access).collect::<anyhow::Result<_>>()?;
    let mut data = Vec::new();
    ReadPropertyMultiple(wanted).encode(&mut data);
    request(READ_PROPERTY_MULTIPLE, &data)
}

/// A loop that asks every device again as soon as it has answered, and looks at no more than who that was.
struct Bare {
    socket: UdpSocket,
    id: u8,
}

impl Bare {
    async fn bind() -> anyhow::Result<Self> {
        Ok(Self { socket: UdpSocket::bind((own_address(), 0)).await?, id: 0 })
    }

    async fn ask(&mut self, datagram: &mut [u8], to: SocketAddr) -> anyhow::Result<()> {
        self.id = self.id.wrapping_add(1);
        *datagram.get_mut(ID_ASKED).context("no request")? = self.id;
        self.socket.send_to(datagram, to).await?;
        Ok(())
    }

    /// Requests a second; each device gets one datagram after the other.
    async fn requests(
        &mut self,
        mut datagrams: Vec<Vec<u8>>,
        devices: &[SocketAddr],
        during: Duration,
    ) -> anyhow::Result<f64> {
        let mut answer = vec![0; 2048];
        let mut turns: HashMap<SocketAddr, usize> = devices.iter().map(|device| (*device, 0)).collect();
        let kinds = datagrams.len();
        let mut next = move |of: SocketAddr| {
            let turn = turns.get_mut(&of)?;
            *turn += 1;
            Some((*turn - 1) % kinds)
        };
        for to in devices {
            let at = next(*to).context("no device")?;
            self.ask(datagrams.get_mut(at).context("no request")?, *to).await?;
        }
        let (start, mut count) = (now(), 0_u32);
        while start.elapsed() < during {
            let (_, from) = timeout(Duration::from_secs(1), self.socket.recv_from(&mut answer)).await??;
            count += 1;
            let at = next(from).context("no device")?;
            self.ask(datagrams.get_mut(at).context("no request")?, from).await?;
        }
        Ok(f64::from(count) / start.elapsed().as_secs_f64())
    }
}

/// The different requests that a link sends, octet for octet but for their ids.
fn kinds_sent(frames: &[FrameView]) -> anyhow::Result<Vec<Vec<u8>>> {
    let mut kinds = BTreeSet::new();
    for frame in frames.iter().filter(|frame| frame.sent) {
        let octets = frame.hex.split(' ').map(|octet| u8::from_str_radix(octet, 16));
        let mut datagram = octets.collect::<Result<Vec<_>, _>>()?;
        if let Some(id) = datagram.get_mut(ID_ASKED) {
            *id = 0;
        }
        kinds.insert(datagram);
    }
    anyhow::ensure!(!kinds.is_empty(), "nothing was sent");
    Ok(kinds.into_iter().collect())
}

pub(crate) async fn poll_devices() -> anyhow::Result<()> {
    let building = Building::start().await?;
    let description = building.description(1..=DEVICES, OBJECTS, "only-asked = true")?;
    let peers: Vec<_> =
        (1..=DEVICES).map(|instance| building.at(instance).map(Into::into)).collect::<Result<_, _>>()?;
    let (mut ours, mut raw, mut cpu, mut kinds) = (0.0_f64, 0.0_f64, f64::INFINITY, 0);
    for _ in 0..ROUNDS {
        let watching = Watching::start(&description)?;
        watching.has_told((DEVICES * OBJECTS) as usize).await?;
        let (start, before, requests) = (now(), cpu_time()?, watching.link().statistics().counts.requests);
        sleep(MEASURED).await;
        let requests = u32::try_from(watching.link().statistics().counts.requests - requests)?;
        ours = ours.max(f64::from(requests) / start.elapsed().as_secs_f64());
        cpu = cpu.min((cpu_time()? - before).as_secs_f64() / f64::from(requests));
        let datagrams = kinds_sent(&watching.link().frames(&FrameFilter::default()))?;
        kinds = datagrams.len();
        watching.end().await?;
        raw = raw.max(Bare::bind().await?.requests(datagrams, &peers, MEASURED).await?);
    }
    header(&format!(
        "bacnet-poll: {DEVICES} devices of {OBJECTS} objects in {kinds} requests each, as fast as they answer; our devices"
    ));
    row("requests/s, beside a bare loop of the same", &format!("{ours:.0}"), &format!("{raw:.0}"), Some(ours / raw));
    row("processor time of the gateway, a request", &format!("{:.1} µs", cpu * 1e6), "-", None);
    Ok(())
}

pub(crate) async fn scan() -> anyhow::Result<()> {
    let building = Building::start().await?;
    let description = building.description(LARGE..=LARGE, 0, "")?;
    let (mut ours, mut raw, mut requests, mut octets) = (f64::INFINITY, f64::INFINITY, 0, 0);
    let large: [SocketAddr; 1] = [building.at(LARGE)?.into()];
    for _ in 0..ROUNDS {
        let watching = Watching::start(&description)?;
        let (link, device) = (description.links.first(), description.devices.first());
        let (link, device) = (link.context("no link")?.clone(), device.cloned());
        let before = watching.link().statistics();
        let (events, mut told) = mpsc::channel(64);
        let filled = serde_json::json!({});
        let request = OfferRequest { link, device, source: "objects".to_owned(), filled };
        let offering = Offering::new(&request, events).map_err(anyhow::Error::msg)?;
        let (start, via) = (now(), watching.via());
        tokio::spawn(async move { offering.carry_out(&via).await });
        let mut offers = 0;
        while let Some(event) = told.recv().await {
            match event {
                OfferEvent::Points { offers: found } => offers += found.len(),
                OfferEvent::Done { requests: asked } => requests = asked,
                OfferEvent::Failed { why } => anyhow::bail!(why),
                _ => {}
            }
        }
        ours = ours.min(start.elapsed().as_secs_f64());
        anyhow::ensure!(offers == FOUND as usize, "{offers} objects were found");
        let after = watching.link().statistics();
        octets = after.bytes_received - before.bytes_received;
        watching.end().await?;
        // As many requests, whose answers fill a datagram.
        let rate = Bare::bind().await?.requests(vec![poll(50)?], &large, Duration::from_secs(1)).await?;
        raw = raw.min(f64::from(requests) / rate);
    }
    header(&format!("bacnet-scan: what a device of {FOUND} objects has, with names, units and values; our device"));
    let least = octets.div_ceil(1476);
    #[expect(clippy::cast_precision_loss, reason = "few")]
    let share = least as f64 / f64::from(requests);
    row("requests, beside full datagrams of its answers", &requests.to_string(), &least.to_string(), Some(share));
    let millis = |seconds: f64| format!("{:.1} ms", seconds * 1000.0);
    row("time, beside as many bare requests", &millis(ours), &millis(raw), Some(raw / ours));
    Ok(())
}

/// Subscribes to the watched objects, or cancels that where there are no terms.
async fn subscribe(socket: &UdpSocket, device: SocketAddrV4, terms: Option<CovTerms>) -> anyhow::Result<()> {
    let mut answer = vec![0; 2048];
    for number in 0..WATCHED {
        let mut data = Vec::new();
        SubscribeCov { process: 7, object: object(number)?, terms, property: None }.encode(&mut data);
        let mut datagram = request(SUBSCRIBE_COV, &data)?;
        *datagram.get_mut(ID_ASKED).context("no request")? = u8::try_from(number % 256)?;
        socket.send_to(&datagram, device).await?;
        // Its values come, too.
        loop {
            let (_, from) = timeout(Duration::from_secs(1), socket.recv_from(&mut answer)).await??;
            match answer.get(6..) {
                Some([0x20, id, ..]) if u32::from(*id) == number % 256 => break,
                // A request, whatever it says of segments.
                Some([0x00..=0x0F, _, id, service, ..]) => {
                    socket.send_to(&[0x81, 0x0A, 0, 9, 1, 0, 0x20, *id, *service], from).await?;
                }
                _ => {}
            }
        }
    }
    Ok(())
}

/// Acknowledges what it is told, and looks at nothing of it.
async fn acknowledge(socket: &UdpSocket) -> anyhow::Result<()> {
    let mut told = vec![0; 2048];
    loop {
        let (length, from) = socket.recv_from(&mut told).await?;
        let apdu = told.get(6..length).unwrap_or_default();
        if let [0x00..=0x0F, _, id, service, ..] = apdu {
            socket.send_to(&[0x81, 0x0A, 0, 9, 1, 0, 0x20, *id, *service], from).await?;
        }
    }
}

pub(crate) async fn changes() -> anyhow::Result<()> {
    let mut building = Building::start().await?;
    let description = building.description(LARGE..=LARGE, WATCHED, "")?;
    let large = building.at(LARGE)?;
    let (mut ours, mut raw, mut cpu) = (f64::INFINITY, f64::INFINITY, Duration::ZERO);
    for _ in 0..ROUNDS {
        let watching = Watching::start(&description)?;
        watching.has_told(WATCHED as usize).await?;
        // Until all are subscribed to.
        building.seconds_of(0).await?;
        let (before, told) = (cpu_time()?, watching.told());
        ours = ours.min(building.seconds_of(CHANGES).await?);
        cpu += cpu_time()? - before;
        // None is lost.
        watching.has_told(usize::try_from(told)? + CHANGES as usize).await?;
        watching.end().await?;
        let socket = UdpSocket::bind((own_address(), 0)).await?;
        subscribe(&socket, large, Some(CovTerms { is_confirmed: true, lifetime: 600 })).await?;
        raw = raw.min(tokio::select! {
            seconds = building.seconds_of(CHANGES) => seconds?,
            failed = acknowledge(&socket) => return failed,
        });
        subscribe(&socket, large, None).await?;
    }
    header(&format!(
        "bacnet-cov: {CHANGES} confirmed changes of {WATCHED} objects, until all are acknowledged; our device"
    ));
    let rate = |seconds: f64| format!("{:.0}", f64::from(CHANGES) / seconds);
    row("notifications/s, beside a blind subscriber", &rate(ours), &rate(raw), Some(raw / ours));
    let micros = cpu.as_secs_f64() * 1e6 / f64::from(ROUNDS * CHANGES);
    row("processor time of the gateway, a notification", &format!("{micros:.2} µs"), "-", None);
    Ok(())
}

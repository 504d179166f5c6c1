//! DNP3: how fast events and all points of an outstation come to the gateway.

use crate::report::{cpu_time, header, now, row};
use crate::watching::Watching;
use anyhow::Context;
use interlex_core::description::{Description, read};
use interlex_dnp3::{
    Block, CommandStatus, EventClass, Flags, Frame, FunctionCode, LinkAddress, LinkFunction, MeasuredValue, Number,
    Object, Outstation, OutstationConfig, OutstationHost, Point, PointKind, PointUpdate, Process, Request, Sender,
    Splitter,
};
use std::fmt::Write as _;
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader, Lines};
use tokio::net::{TcpListener, TcpStream};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;

const POINTS: u32 = 10_000;
const EVENTS: u32 = 100_000;
const ROUNDS: u32 = 5;
const MASTER: LinkAddress = LinkAddress(1);
const OUTSTATION: LinkAddress = LinkAddress(10);
/// So many events wait in the outstation at most, which is less than it keeps.
const WAITING: usize = 5000;

// Bits of the control octet of a fragment.
const FINAL: u8 = 0x40;
const CONFIRM: u8 = 0x20;
const UNSOLICITED: u8 = 0x10;

struct Nothing;

impl Process for Nothing {
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
}

/// Is an outstation with as many analog inputs, and a counter. Prints its port; tells as many events of the counter as a line of its
/// standard input says, and prints another line when all are confirmed. Ends with its input.
pub(crate) async fn outstation() -> anyhow::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    anstream::println!("{}", listener.local_addr()?.port());
    let mut outstation = Outstation::new(OutstationConfig::default(), [MASTER]);
    for index in 0..POINTS {
        let value = MeasuredValue::Number(Number::Float32(20.5));
        outstation.put(PointKind::Analog, index, Point::new(value, Some(EventClass::Second)));
    }
    let counter = Point::new(MeasuredValue::Number(Number::Uint32(0)), Some(EventClass::First));
    outstation.put(PointKind::Counter, 0, counter);
    let host = OutstationHost::new([(OUTSTATION, outstation, Nothing)]);
    tokio::spawn(Arc::clone(&host).serve(listener, CancellationToken::new()));
    let (mut input, mut told) = (BufReader::new(tokio::io::stdin()).lines(), 0_u32);
    while let Some(line) = input.next_line().await? {
        let until = told + line.parse::<u32>()?;
        loop {
            let waiting = host.with(OUTSTATION, |outstation, _, now| {
                let waiting = outstation.backlog(MASTER)?;
                for _ in waiting..WAITING.min(waiting + (until - told) as usize) {
                    told += 1;
                    let value = Number::Uint32(told).into();
                    let update = PointUpdate { value, flags: Flags::ONLINE, time: now.wall };
                    outstation.update(PointKind::Counter, 0, update);
                }
                outstation.backlog(MASTER)
            });
            if told == until && waiting.flatten() == Some(0) {
                break;
            }
            sleep(Duration::from_micros(500)).await;
        }
        anstream::println!("confirmed");
    }
    Ok(())
}

/// The outstation, in a process of its own.
struct Field {
    _child: Child,
    input: ChildStdin,
    output: Lines<BufReader<ChildStdout>>,
    port: u16,
}

impl Field {
    async fn start() -> anyhow::Result<Self> {
        let mut command = Command::new(std::env::current_exe()?);
        let piped = command.arg("dnp3-outstation").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child = piped.spawn()?;
        let input = child.stdin.take().context("no input")?;
        let mut output = BufReader::new(child.stdout.take().context("no output")?).lines();
        let port = output.next_line().await?.context("the outstation ended")?.parse()?;
        Ok(Self { _child: child, input, output, port })
    }

    /// How long it takes until so many events are told and confirmed.
    async fn seconds_of_events(&mut self) -> anyhow::Result<f64> {
        let start = now();
        self.input.write_all(format!("{EVENTS}\n").as_bytes()).await?;
        self.output.next_line().await?.context("the outstation ended")?;
        Ok(start.elapsed().as_secs_f64())
    }
}

fn description(port: u16) -> anyhow::Result<Description> {
    let main = format!(
        "[gateway]\nname = \"works\"\n[rates]\nshown = \"1s\"\n[[link]]\nname = \"feeder\"\nprotocol = \"dnp3-tcp\"\nhost = \
         \"127.0.0.1\"\nport = {port}\n[[device]]\nname = \"bay\"\nlink = \"feeder\"\naddress = {OUTSTATION}\npoints = \"bay.csv\"\n"
    );
    let mut list = "name,address,rate\ncount,counter:0,shown\n".to_owned();
    for index in 0..POINTS {
        // Writing into a string cannot fail.
        let _ = writeln!(list, "value-{index},analog:{index},shown");
    }
    let files = [("gateway.toml".to_owned(), main), ("bay.csv".to_owned(), list)].into();
    read(&files).map_err(|problems| anyhow::anyhow!("{problems:?}"))
}

/// A master that looks at nothing but where frames and fragments end and what has to be confirmed.
struct Blind {
    stream: TcpStream,
    splitter: Splitter,
    octets: Vec<u8>,
    /// The control octet of the fragment that is coming.
    control: u8,
    sequence: u8,
}

impl Blind {
    async fn start(port: u16) -> anyhow::Result<Self> {
        let stream = TcpStream::connect(("127.0.0.1", port)).await?;
        stream.set_nodelay(true)?;
        Ok(Self { stream, splitter: Splitter::default(), octets: Vec::with_capacity(1 << 16), control: 0, sequence: 0 })
    }

    async fn send(&mut self, fragment: &[u8]) -> anyhow::Result<()> {
        let mut octets = Vec::new();
        for user_data in self.splitter.split(fragment) {
            let function = LinkFunction::UnconfirmedUserData;
            let (sender, destination, source) = (Sender::Master, OUTSTATION, MASTER);
            Frame { sender, function, destination, source, user_data }.encode(&mut octets);
        }
        Ok(self.stream.write_all(&octets).await?)
    }

    async fn ask(&mut self, function: FunctionCode, variations: &[u8]) -> anyhow::Result<()> {
        let blocks = variations.iter().map(|variation| Block::all(60, *variation)).collect();
        self.sequence = (self.sequence + 1) % 16;
        self.send(&Request::new(self.sequence, function, blocks).encode()?).await
    }

    /// Takes one fragment and confirms it where that is asked for; its control octet.
    async fn fragment(&mut self) -> anyhow::Result<u8> {
        const HEADER: usize = 10;
        loop {
            if let Some([_, _, length, _, _, _, _, _, _, _, transport, control, ..]) = self.octets.get(..) {
                let data = usize::from(*length) - 5;
                let frame = HEADER + data + data.div_ceil(16) * 2;
                if self.octets.len() >= frame {
                    let (transport, control) = (*transport, *control);
                    self.control = if transport & 0x40 != 0 { control } else { self.control };
                    self.octets.drain(..frame);
                    if transport & 0x80 != 0 {
                        if self.control & CONFIRM != 0 {
                            // The same numbers, and whether it was told unasked.
                            self.send(&[0xC0 | self.control & 0x1F, 0]).await?;
                        }
                        return Ok(self.control);
                    }
                    continue;
                }
            }
            anyhow::ensure!(self.stream.read_buf(&mut self.octets).await? > 0, "the outstation is gone");
        }
    }

    /// Asks for something, until all of that is told.
    async fn read(&mut self, function: FunctionCode, variations: &[u8]) -> anyhow::Result<()> {
        self.ask(function, variations).await?;
        while self.fragment().await? & (FINAL | UNSOLICITED) != FINAL {}
        Ok(())
    }

    async fn seconds_of_all(&mut self) -> anyhow::Result<f64> {
        let start = now();
        self.read(FunctionCode::READ, &[2, 3, 4, 1]).await?;
        Ok(start.elapsed().as_secs_f64())
    }
}

pub(crate) async fn integrity() -> anyhow::Result<()> {
    let field = Field::start().await?;
    let description = description(field.port)?;
    let (mut ours, mut raw) = (f64::INFINITY, f64::INFINITY);
    for _ in 0..ROUNDS {
        let start = now();
        let watching = Watching::start(&description)?;
        watching.has_told(POINTS as usize + 1).await?;
        ours = ours.min(start.elapsed().as_secs_f64());
        watching.end().await?;
        raw = raw.min(Blind::start(field.port).await?.seconds_of_all().await?);
    }
    header(&format!(
        "dnp3-integrity: {POINTS} analog inputs, from the start of the link until all were told; our outstation"
    ));
    let millis = |seconds: f64| format!("{:.1} ms", seconds * 1000.0);
    row("time, beside a blind master", &millis(ours), &millis(raw), Some(raw / ours));
    Ok(())
}

pub(crate) async fn events() -> anyhow::Result<()> {
    let mut field = Field::start().await?;
    let description = description(field.port)?;
    let (mut ours, mut raw, mut cpu) = (f64::INFINITY, f64::INFINITY, Duration::ZERO);
    for _ in 0..ROUNDS {
        let watching = Watching::start(&description)?;
        watching.has_told(POINTS as usize + 1).await?;
        let (before, told) = (cpu_time()?, watching.told());
        ours = ours.min(field.seconds_of_events().await?);
        cpu += cpu_time()? - before;
        watching.has_told(usize::try_from(told)? + EVENTS as usize).await?;
        watching.end().await?;
        let mut blind = Blind::start(field.port).await?;
        // Of a class that has none: the outstation counts what waits for whoever wants to be told anything.
        blind.read(FunctionCode::ENABLE_UNSOLICITED, &[4]).await?;
        let reading = tokio::spawn(async move { while blind.read(FunctionCode::READ, &[2, 3, 4]).await.is_ok() {} });
        raw = raw.min(field.seconds_of_events().await?);
        reading.abort();
    }
    header(&format!("dnp3-events: {EVENTS} events of a counter, until all are confirmed; our outstation"));
    let rate = |seconds: f64| format!("{:.0}", f64::from(EVENTS) / seconds);
    row("events/s, beside a blind master", &rate(ours), &rate(raw), Some(raw / ours));
    let micros = cpu.as_secs_f64() * 1e6 / f64::from(ROUNDS * EVENTS);
    row("processor time of the gateway, an event", &format!("{micros:.2} µs"), "-", None);
    Ok(())
}

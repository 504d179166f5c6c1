//! OPC UA: how fast values are read, what it costs to be told of them, and what it costs to keep it secret.

use crate::report::{best, cpu_time, header, now, rate, resident, row};
use crate::watching::Watching;
use aes::Aes256;
use anyhow::Context;
use cbc::cipher::block_padding::NoPadding;
use cbc::cipher::{BlockModeDecrypt, BlockModeEncrypt, KeyIvInit};
use hmac::{Hmac, KeyInit, Mac};
use interlex_core::description::{Description, read};
use interlex_opcua::{
    ClientChannelConfig, ClientSession, ClientSessionConfig, Connection, Credentials, DataValue, Host, HostConfig,
    MessageSecurityMode, Node, NodeId, NodeKind, OwnCertificate, Process, ReadRequest, ReadValueId, SecurityPolicy,
    Server, ServerDescription, ServerLimits, Sessions, Space, StatusCode, TransportLimits, User, UserIdentity,
    UserTokenType, Users, Variable, Variant, endpoints_of, ids,
};
use sha2::Sha256;
use std::fmt::Write as _;
use std::hint::black_box;
use std::process::Stdio;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::process::{Child, Command};
use tokio::task::JoinHandle;
use tokio::time::sleep;
use tokio_util::sync::CancellationToken;

const PATIENCE: Duration = Duration::from_secs(60);
/// Values of a request.
const VALUES: usize = 1000;
const REQUESTS: u32 = 500;
const ROUNDS: u32 = 5;
/// Items of a subscription, and how often each changes.
const ITEMS: usize = 5000;
const CHANGES: Duration = Duration::from_millis(500);
const MANY: usize = 100_000;
const SECURE: SecurityPolicy = SecurityPolicy::Basic256Sha256;

struct Nothing;

impl Process for Nothing {
    fn write(&mut self, _: &NodeId, _: &Variant, _: &User) -> StatusCode {
        StatusCode::GOOD
    }

    fn call(&mut self, _: &NodeId, _: &NodeId, _: &[Variant], _: &User) -> Result<Vec<Variant>, StatusCode> {
        Err(StatusCode::BAD_METHOD_INVALID)
    }
}

struct Everybody;

impl Users for Everybody {
    fn takes(&self, _: &User) -> bool {
        true
    }
}

fn node(number: usize) -> NodeId {
    NodeId::numeric(1, u32::try_from(number).unwrap_or(u32::MAX))
}

fn credentials(application_uri: &str) -> anyhow::Result<Credentials> {
    let application_uri = application_uri.to_owned();
    Ok(OwnCertificate {
        application_uri,
        application_name: "Bench".to_owned(),
        organization: "Alderfen".to_owned(),
        hosts: vec!["127.0.0.1".to_owned()],
        validity: (1_700_000_000, 4_000_000_000),
        bits: 2048,
    }
    .make()?)
}

/// Serves as many values as its standard input says, which change as often as that says, if at all; a bare loop beside it answers with
/// as many bytes as it is asked for. Prints both ports, and ends with its input.
pub(crate) async fn server() -> anyhow::Result<()> {
    let mut input = BufReader::new(tokio::io::stdin()).lines();
    let line = input.next_line().await?.context("nothing said")?;
    let (values, period) = line.split_once(' ').context("two numbers")?;
    let (values, period): (usize, u64) = (values.parse()?, period.parse()?);
    let (listener, bare) = (TcpListener::bind("127.0.0.1:0").await?, TcpListener::bind("127.0.0.1:0").await?);
    let (address, bare_port) = (listener.local_addr()?, bare.local_addr()?.port());
    let mut space = Space::standard();
    for number in 0..values {
        let variable = NodeKind::Variable(Box::new(Variable::new(0.0.into())));
        let variable = Node::new(node(number), 1, &format!("Value{number}"), variable);
        space.add_under(&ids::OBJECTS_FOLDER, &ids::HAS_COMPONENT, variable, &ids::BASE_DATA_VARIABLE_TYPE);
    }
    let description = ServerDescription {
        url: format!("opc.tcp://{address}"),
        application_uri: "urn:alderfen:bench".to_owned(),
        application_name: "Bench".to_owned(),
        own: Some(credentials("urn:alderfen:bench")?),
        security: vec![
            (SecurityPolicy::None, MessageSecurityMode::None),
            (SECURE, MessageSecurityMode::SignAndEncrypt),
        ],
        users: vec![(UserTokenType::Anonymous, None)],
        session_timeout: (Duration::from_secs(10), Duration::from_secs(3600)),
        most_sessions: 10,
    };
    let server = Server::new(Sessions::new(description), space, ServerLimits::default(), &[]);
    let config = HostConfig {
        limits: TransportLimits::default(),
        longest_token: Duration::from_secs(3600),
        timeout: PATIENCE,
        most_channels: 10,
        trust: Arc::new(|_| Ok(())),
    };
    let host = Host::new(server, Nothing, Everybody, config);
    tokio::spawn(Arc::clone(&host).serve(listener, CancellationToken::new()));
    tokio::spawn(async move {
        while let Ok((stream, _)) = bare.accept().await {
            // A client that is done breaks off.
            tokio::spawn(async move { drop(answer_bare(stream).await) });
        }
    });
    if period > 0 {
        tokio::spawn(async move {
            let mut ticks = tokio::time::interval(Duration::from_millis(period));
            for tick in 0_u32.. {
                ticks.tick().await;
                host.with(|server, _, (_, wall)| {
                    for number in 0..values {
                        let value = Some(f64::from(tick).into());
                        let value = DataValue { value, source_time: Some(wall), ..DataValue::default() };
                        server.set_value(&node(number), value, wall);
                    }
                });
            }
        });
    }
    anstream::println!("{} {bare_port}", address.port());
    while input.next_line().await?.is_some() {}
    Ok(())
}

/// Both lengths come first.
async fn answer_bare(mut stream: TcpStream) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    let (asked, answered) = (stream.read_u32().await?, stream.read_u32().await?);
    let (mut request, response) = (vec![0; asked as usize], vec![0; answered as usize]);
    loop {
        stream.read_exact(&mut request).await?;
        stream.write_all(&response).await?;
    }
}

struct Ports {
    _child: Child,
    server: u16,
    bare: u16,
}

async fn start_server(values: usize, period: Duration) -> anyhow::Result<Ports> {
    let mut command = Command::new(std::env::current_exe()?);
    let piped = command.arg("opcua-server").stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
    let mut child = piped.spawn()?;
    let input = child.stdin.as_mut().context("no input")?;
    input.write_all(format!("{values} {}\n", period.as_millis()).as_bytes()).await?;
    let mut lines = BufReader::new(child.stdout.take().context("no output")?).lines();
    let line = lines.next_line().await?.context("the server ended")?;
    let (server, bare) = line.split_once(' ').context("two ports")?;
    Ok(Ports { server: server.parse()?, bare: bare.parse()?, _child: child })
}

/// Stands between a client and its server; what the client sent last, and the way to the server, are had once the client has gone.
struct Between {
    port: u16,
    task: JoinHandle<std::io::Result<(TcpStream, Vec<u8>)>>,
}

impl Between {
    async fn start(server: u16) -> anyhow::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let port = listener.local_addr()?.port();
        let task = tokio::spawn(async move {
            loop {
                let (client, _) = listener.accept().await?;
                let server = TcpStream::connect(("127.0.0.1", server)).await?;
                server.set_nodelay(true)?;
                let (sent, server) = Self::carry(client, server).await?;
                // The first one only asked which ways there are.
                if sent.len() > VALUES {
                    return Ok((server, sent));
                }
            }
        });
        Ok(Self { port, task })
    }

    async fn carry(mut client: TcpStream, mut server: TcpStream) -> std::io::Result<(Vec<u8>, TcpStream)> {
        let (mut last, mut answers, mut requests) = (Vec::new(), vec![0; 1 << 16], vec![0; 1 << 16]);
        let mut is_answered = true;
        loop {
            tokio::select! {
                count = client.read(&mut requests) => {
                    let count = count?;
                    if count == 0 {
                        return Ok((last, server));
                    }
                    if std::mem::take(&mut is_answered) {
                        last.clear();
                    }
                    last.extend_from_slice(requests.get(..count).unwrap_or_default());
                    server.write_all(requests.get(..count).unwrap_or_default()).await?;
                }
                count = server.read(&mut answers) => {
                    let count = count?;
                    is_answered = true;
                    client.write_all(answers.get(..count).unwrap_or_default()).await?;
                }
            }
        }
    }
}

/// Requests of a client that looks at no answer: the same one, with the numbers that tell it from the one before.
struct Blind {
    server: TcpStream,
    request: Vec<u8>,
    answer: Vec<u8>,
}

impl Blind {
    async fn start(server: u16) -> anyhow::Result<Self> {
        let between = Between::start(server).await?;
        let mut reading = Reading::start(between.port, CLEAR).await?;
        reading.read().await?;
        let bytes = reading.bytes;
        drop(reading);
        let (server, request) = between.task.await??;
        anyhow::ensure!(request.len() as u64 == bytes.0, "another request than was measured");
        Ok(Self { server, request, answer: vec![0; usize::try_from(bytes.1)?] })
    }

    async fn rate(&mut self) -> anyhow::Result<f64> {
        let start = now();
        for _ in 0..REQUESTS {
            // The sequence number, and that of the request.
            for number in self.request.get_mut(16..24).unwrap_or_default().as_chunks_mut::<4>().0 {
                *number = u32::from_le_bytes(*number).wrapping_add(1).to_le_bytes();
            }
            self.server.write_all(&self.request).await?;
            self.server.read_exact(&mut self.answer).await?;
        }
        anyhow::ensure!(self.answer.starts_with(b"MSGF"), "no answer");
        Ok(rate(REQUESTS, start.elapsed()))
    }
}

/// A session, and its bytes for a request and for its answer.
struct Reading {
    connection: Connection,
    session: ClientSession,
    bytes: (u64, u64),
}

impl Reading {
    async fn start(port: u16, (policy, mode): (SecurityPolicy, MessageSecurityMode)) -> anyhow::Result<Self> {
        let url = format!("opc.tcp://127.0.0.1:{port}");
        let endpoints = endpoints_of(TcpStream::connect(("127.0.0.1", port)).await?, &url, PATIENCE).await?;
        let endpoint = endpoints.iter().find(|endpoint| endpoint.security_mode == mode).context("not offered")?.clone();
        let application_uri = "urn:alderfen:bench:client".to_owned();
        let mut session = ClientSession::new(ClientSessionConfig {
            channel: ClientChannelConfig {
                url,
                policy,
                mode,
                own: (mode != MessageSecurityMode::None).then(|| credentials(&application_uri)).transpose()?,
                server_certificate: endpoint.server_certificate.as_bytes().to_vec(),
                limits: TransportLimits::default(),
                token_lifetime: Duration::from_secs(3600),
                timeout: PATIENCE,
                trace: false,
            },
            application_uri,
            application_name: "Bench".to_owned(),
            session_name: "bench".to_owned(),
            user: UserIdentity::Anonymous,
            endpoint,
            discovered: Some(endpoints),
            session_timeout: Duration::from_secs(300),
            request_timeout: PATIENCE,
        });
        let stream = TcpStream::connect(("127.0.0.1", port)).await?;
        let mut connection = Connection::new(stream, &mut session);
        connection.entered(&mut session).await?;
        let mut reading = Self { connection, session, bytes: (0, 0) };
        let before = reading.connection.bytes();
        reading.read().await?;
        let after = reading.connection.bytes();
        reading.bytes = (after.0 - before.0, after.1 - before.1);
        Ok(reading)
    }

    async fn read(&mut self) -> anyhow::Result<()> {
        let wanted = |number| ReadValueId { node_id: node(number), attribute_id: 13, ..ReadValueId::default() };
        let request = ReadRequest { nodes_to_read: (0..VALUES).map(wanted).collect(), ..ReadRequest::default() };
        black_box(self.connection.ask(&mut self.session, request, PATIENCE).await?);
        Ok(())
    }

    async fn rate(&mut self) -> anyhow::Result<f64> {
        let start = now();
        for _ in 0..REQUESTS {
            self.read().await?;
        }
        Ok(rate(REQUESTS, start.elapsed()))
    }
}

async fn bare_rate(port: u16, (asked, answered): (u64, u64)) -> anyhow::Result<f64> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await?;
    stream.set_nodelay(true)?;
    stream.write_u32(u32::try_from(asked)?).await?;
    stream.write_u32(u32::try_from(answered)?).await?;
    let (request, mut response) = (vec![0; usize::try_from(asked)?], vec![0; usize::try_from(answered)?]);
    let start = now();
    for _ in 0..REQUESTS {
        stream.write_all(&request).await?;
        stream.read_exact(&mut response).await?;
    }
    Ok(rate(REQUESTS, start.elapsed()))
}

const CLEAR: (SecurityPolicy, MessageSecurityMode) = (SecurityPolicy::None, MessageSecurityMode::None);

pub(crate) async fn read_values() -> anyhow::Result<()> {
    let ports = start_server(VALUES, Duration::ZERO).await?;
    let mut reading = Reading::start(ports.server, CLEAR).await?;
    let mut blind = Blind::start(ports.server).await?;
    let (mut best_ours, mut best_blind, mut best_raw, mut cpu) = (0.0_f64, 0.0_f64, 0.0_f64, Duration::ZERO);
    for _ in 0..ROUNDS {
        let before = cpu_time()?;
        best_ours = best_ours.max(reading.rate().await?);
        cpu += cpu_time()? - before;
        best_blind = best_blind.max(blind.rate().await?);
        best_raw = best_raw.max(bare_rate(ports.bare, reading.bytes).await?);
    }
    header(&format!("opcua-read: {VALUES} values a request, one outstanding, our client and our server"));
    row(
        "requests/s, beside a blind client of our server",
        &format!("{best_ours:.0}"),
        &format!("{best_blind:.0}"),
        Some(best_ours / best_blind),
    );
    row(
        "requests/s, beside as many bytes, nobody looking",
        &format!("{best_ours:.0}"),
        &format!("{best_raw:.0}"),
        Some(best_ours / best_raw),
    );
    let (sent, received) = reading.bytes;
    row("bytes of a request, and of its answer", &format!("{sent}, {received}"), "-", None);
    let nanos = cpu.as_secs_f64() * 1e9 / f64::from(ROUNDS * REQUESTS);
    row("processor time of the client, a request", &format!("{:.0} µs", nanos / 1000.0), "-", None);
    Ok(())
}

pub(crate) async fn secure() -> anyhow::Result<()> {
    let ports = start_server(VALUES, Duration::ZERO).await?;
    let mut clear = Reading::start(ports.server, CLEAR).await?;
    let mut secret = Reading::start(ports.server, (SECURE, MessageSecurityMode::SignAndEncrypt)).await?;
    let (mut best_secret, mut best_clear) = (0.0_f64, 0.0_f64);
    for _ in 0..ROUNDS {
        best_secret = best_secret.max(secret.rate().await?);
        best_clear = best_clear.max(clear.rate().await?);
    }
    // What both sides encrypt, sign, check and decrypt, one behind the other, since the other side waits.
    let bytes = usize::try_from(secret.bytes.0 + secret.bytes.1)?;
    let (cipher, _) = best(|| 1.0 / seconds_of_cipher(bytes), || 0.0);
    let limit = 1.0 / (1.0 / best_clear + 1.0 / cipher);
    header(&format!("opcua-secure: {VALUES} values a request, signed and encrypted, {SECURE}"));
    row(
        "requests/s, beside in the clear",
        &format!("{best_secret:.0}"),
        &format!("{best_clear:.0}"),
        Some(best_secret / best_clear),
    );
    row(
        "requests/s, beside those and the cipher",
        &format!("{best_secret:.0}"),
        &format!("{limit:.0}"),
        Some(best_secret / limit),
    );
    Ok(())
}

/// How long bytes take to be encrypted, signed, checked and decrypted.
fn seconds_of_cipher(bytes: usize) -> f64 {
    const TIMES: u32 = 200;
    let (key, iv, bytes) = ([7; 32], [9; 16], bytes / 16 * 16);
    let mut text = vec![1; bytes];
    let signed = |text: &[u8]| {
        let mac = Hmac::<Sha256>::new_from_slice(&key).map(|mac| mac.chain_update(text).finalize().into_bytes());
        black_box(mac.is_ok())
    };
    let start = now();
    for _ in 0..TIMES {
        signed(&text);
        let encrypted =
            cbc::Encryptor::<Aes256>::new(&key.into(), &iv.into()).encrypt_padded::<NoPadding>(&mut text, bytes);
        black_box(encrypted.is_ok());
        let decrypted = cbc::Decryptor::<Aes256>::new(&key.into(), &iv.into()).decrypt_padded::<NoPadding>(&mut text);
        black_box(decrypted.is_ok());
        signed(&text);
    }
    start.elapsed().as_secs_f64() / f64::from(TIMES)
}

fn description(port: u16, items: usize, rate: &str) -> anyhow::Result<Description> {
    let main = format!(
        "[gateway]\nname = \"works\"\n[rates]\nshown = \"{rate}\"\n[[link]]\nname = \"plc\"\nprotocol = \"opcua\"\nurl = \
         \"opc.tcp://127.0.0.1:{port}\"\nsecurity = \"none\"\n[[device]]\nname = \"values\"\nlink = \"plc\"\npoints = \"values.csv\"\n"
    );
    let mut list = "name,address,type,rate\n".to_owned();
    for number in 0..items {
        // Writing into a string cannot fail.
        let _ = writeln!(list, "value-{number},ns=1;i={number},float64,shown");
    }
    let files = [("gateway.toml".to_owned(), main), ("values.csv".to_owned(), list)].into();
    read(&files).map_err(|problems| anyhow::anyhow!("{problems:?}"))
}

pub(crate) async fn subscribe() -> anyhow::Result<()> {
    const MEASURED: Duration = Duration::from_secs(20);
    let ports = start_server(ITEMS, CHANGES).await?;
    let watching = Watching::start(&description(ports.server, ITEMS, "500ms")?)?;
    watching.has_told(4 * ITEMS).await?;
    let (cpu, before, started) = (cpu_time()?, watching.told(), now());
    sleep(MEASURED).await;
    let (took, cpu) = (started.elapsed().as_secs_f64(), (cpu_time()? - cpu).as_secs_f64());
    let changes = watching.told() - before;
    watching.end().await?;
    drop(ports);
    header(&format!("opcua-subscribe: {ITEMS} items in one subscription, each changing every {CHANGES:?}"));
    #[expect(clippy::cast_precision_loss, reason = "far below 2^53")]
    let (changes, made) = (changes as f64, ITEMS as f64 * took / CHANGES.as_secs_f64());
    row("changes/s", &format!("{:.0}", changes / took), &format!("{:.0}", made / took), Some(changes / made));
    row("processor time a change", &format!("{:.2} µs", cpu * 1e6 / changes), "-", None);
    row("share of one core", &format!("{:.1} %", cpu / took * 100.0), "-", None);

    let ports = start_server(MANY, Duration::ZERO).await?;
    let description = description(ports.server, MANY, "1s")?;
    let (before, started) = (resident()?, now());
    let watching = Watching::start(&description)?;
    watching.has_told(MANY).await?;
    let (took, memory) = (started.elapsed(), resident()?.saturating_sub(before));
    anstream::println!("{MANY} items on one link");
    row("until all were told", &format!("{:.1} s", took.as_secs_f64()), "-", None);
    row("memory an item, without the description", &format!("{} B", memory / u64::try_from(MANY)?), "-", None);
    watching.end().await
}

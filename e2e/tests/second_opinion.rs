//! What goes over the wires, as tshark reads it: client and server of ours may agree on a mistake, tshark does not.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_e2e::{Relay, Rig, wait_for};
use interlex_modbus::{
    ClientConfig, Connection, DiagnosticRequest, ExceptionCode, Framing, IdentifyAccess, IdentifyRequest, ReadData,
    ReadRequest, ReadWriteRequest, Refusal, Request, Response, Table, Units, WriteRequest, Written,
};
use interlex_sidecar::own_address;
use std::fs;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio_util::sync::CancellationToken;

#[tokio::test(flavor = "multi_thread")]
async fn tshark_reads_our_modbus_and_our_mqtt_as_we_mean_them() {
    let mut rig = Rig::bare().await;
    rig.set_up().await;
    let (field, broker) = (Relay::start(rig.plant()).await, Relay::start(rig.broker.address()).await);
    let directory = rig.description().await;
    let main = Path::new(&directory).join("gateway.toml");
    let text = fs::read_to_string(&main).unwrap();
    let link = |address: SocketAddr| format!("host = \"{}\"\nport = {}\n", address.ip(), address.port());
    let text = text.replace(&link(rig.plant()), &link(field.address()));
    // The first uplink only: a relay carries one connection.
    fs::write(&main, text.replacen(&rig.broker.address().to_string(), &broker.address().to_string(), 1)).unwrap();
    let applied = rig.interlex(&["config", "apply", &directory, "--activate", "--note", "through relays"]).await;
    assert_eq!(applied.code, 0, "{}", applied.err);
    rig.until("all points are good", |status| status["gateways"][0]["points_good"] == 36).await;
    wait_for("traffic", || async { (field.pieces() > 200 && broker.pieces() > 60).then_some(()) }).await;

    let scratch = tempfile::tempdir().unwrap();
    let fields = ["mbtcp.unit_id", "modbus.func_code", "modbus.reference_num", "modbus.word_cnt"];
    let requests = field.tshark(scratch.path(), 502, "tcp.dstport == 502 && modbus", &fields).await;
    assert!(requests.len() > 50, "{}", requests.len());
    // Unit, function, address, quantity: what the point lists make of a digester and of the analyser.
    for wanted in ["1 4 0 1", "1 4 2 2", "2 3 100 2", "3 4 0 5", "3 4 8 3", "3 4 30 2"] {
        assert!(requests.iter().any(|request| request == wanted), "{wanted} in {requests:?}");
    }
    let strange = field.tshark(scratch.path(), 502, "_ws.malformed || modbus.exception_code", &["frame.number"]).await;
    assert_eq!(strange, Vec::<String>::new());

    let fields = [
        "mqtt.conflag.willflag",
        "mqtt.conflag.qos",
        "mqtt.conflag.retain",
        "mqtt.conflag.cleansess",
        "mqtt.willtopic",
    ];
    let connects = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 1", &fields).await;
    assert_eq!(connects, ["1 1 0 1 spBv1.0/alderfen/NDEATH/works-1"]);
    let order = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 8 || mqtt.msgtype == 3", &["mqtt.topic"]).await;
    assert_eq!(
        order[0], "spBv1.0/alderfen/NCMD/works-1,spBv1.0/alderfen/DCMD/works-1/+",
        "subscribed before anything is published"
    );
    assert!(order[1].starts_with("spBv1.0/alderfen/NBIRTH/works-1"), "{order:?}");
    let published = broker.tshark(scratch.path(), 1883, "mqtt.msgtype == 3", &["mqtt.qos", "mqtt.retain"]).await;
    let flags: Vec<_> = published.iter().flat_map(|line| line.split([',', ' '])).collect();
    assert!(flags.len() > 20 && flags.iter().all(|flag| *flag == "0"), "QoS 0 and not retained: {flags:?}");
    let broken = broker.tshark(scratch.path(), 1883, "_ws.malformed", &["frame.number"]).await;
    assert_eq!(broken, Vec::<String>::new());
}

/// Each register holds its own address; there are none from 1000 on.
struct Plain;

impl Units for Plain {
    fn answer(&self, _: u8, request: &Request) -> Result<Response, Refusal> {
        let read = match request {
            Request::Read(read) => *read,
            Request::ReadWrite(both) => both.read(),
            Request::Write(_) => return Ok(Response::Written),
            Request::Identify(request) => return Ok(Response::Identification(request.pick(0x81, &[(0, "Alderfen")])?)),
            Request::Diagnostic(request) => return Ok(Response::Diagnostic(request.data)),
        };
        let range = read.address()..read.address() + read.quantity();
        match (range.end >= 1000, read.table().is_bits()) {
            (true, _) => Err(Refusal::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS)),
            (_, true) => Ok(Response::Data(ReadData::Bits(range.map(|address| address % 2 == 1).collect()))),
            (_, false) => Ok(Response::Data(ReadData::Registers(range.collect()))),
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn tshark_reads_our_rtu_frames_as_we_mean_them() {
    let listener = tokio::net::TcpListener::bind((own_address(), 0)).await.unwrap();
    let address = listener.local_addr().unwrap();
    let server = interlex_modbus::serve_framed(listener, Framing::Rtu, Arc::new(Plain), CancellationToken::new());
    tokio::spawn(server);
    let line = Relay::start(address).await;
    let mut config = ClientConfig::default();
    config.framing = Framing::Rtu;
    let (host, port) = (line.address().ip().to_string(), line.address().port());
    let mut client = Connection::tcp(&host, port, Duration::from_secs(5), config).await.unwrap();
    let mut read = async |unit, table, address, quantity| {
        client.call(unit, ReadRequest::new(table, address, quantity).unwrap()).await
    };
    assert!(read(1, Table::HoldingRegister, 107, 3).await.is_ok());
    assert!(read(17, Table::InputRegister, 8, 1).await.is_ok());
    assert!(read(2, Table::Coil, 19, 11).await.is_ok());
    assert!(read(1, Table::HoldingRegister, 2000, 1).await.is_err());
    let write = |address, written| Request::from(WriteRequest::new(address, written).unwrap());
    for request in [
        write(172, Written::Coil(true)),
        write(1, Written::Register(3)),
        write(19, Written::Coils(vec![true; 10])),
        write(5, Written::Registers(vec![1, 2, 3])),
        write(4, Written::Mask { and: 0xF2, or: 0x25 }),
        Request::ReadWrite(ReadWriteRequest::new(14, vec![255; 3], 3, 6).unwrap()),
        Request::Identify(IdentifyRequest { access: IdentifyAccess::Basic, object: 0 }),
        Request::Diagnostic(DiagnosticRequest::echo(0xA537)),
    ] {
        client.call(9, request).await.unwrap();
    }
    wait_for("all has passed", || async { (line.pieces() >= 24).then_some(()) }).await;
    let scratch = tempfile::tempdir().unwrap();
    let fields = ["mbrtu.unit_id", "modbus.func_code", "modbus.reference_num", "modbus.word_cnt", "modbus.bit_cnt"];
    let requests = line.tshark(scratch.path(), 4001, "tcp.dstport == 4001 && modbus", &fields).await;
    let requests: Vec<_> = requests.iter().map(|request| request.trim().replace("  ", " ")).collect();
    assert_eq!(requests[..4], ["1 3 107 3", "17 4 8 1", "2 1 19 11", "1 3 2000 1"]);
    let functions: Vec<_> = requests[4..].iter().map(|request| request.split(' ').nth(1).unwrap()).collect();
    assert_eq!(functions, ["5", "6", "15", "16", "22", "23", "43", "8"]);
    let answers = line.tshark(scratch.path(), 4001, "tcp.srcport == 4001 && modbus", &["modbus.exception_code"]).await;
    let codes: Vec<_> = answers.iter().map(|code| code.trim()).collect();
    assert_eq!((codes.len(), codes.iter().filter(|code| !code.is_empty()).collect::<Vec<_>>()), (12, vec![&"2"]));
    let wrong = line.tshark(scratch.path(), 4001, "_ws.malformed || mbrtu.crc16.status == 0", &["frame.number"]).await;
    assert_eq!(wrong, Vec::<String>::new(), "every check is right");
}

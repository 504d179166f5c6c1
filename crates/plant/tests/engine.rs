//! The controller of the engine answers clients, and lets nobody operate it who may not.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use interlex_opcua::{
    CallMethodRequest, CallRequest, ClientChannelConfig, ClientSession, ClientSessionConfig, Connection, DataValue,
    EndpointDescription, MessageSecurityMode, NodeId, OwnCertificate, ReadRequest, ReadValueId, Response, Scalar,
    SecurityPolicy, StatusCode, TransportLimits, UserIdentity, Variant, WriteRequest, WriteValue, endpoints_of,
};
use interlex_plant::{EngineConfig, Plant, PlantConfig};
use std::net::{Ipv4Addr, SocketAddr};
use std::time::Duration;
use tokio::net::TcpStream;
use tokio_util::sync::CancellationToken;

const PATIENCE: Duration = Duration::from_secs(30);

struct Operator {
    connection: Connection,
    session: ClientSession,
}

impl Operator {
    async fn enter(address: SocketAddr, user: UserIdentity) -> Self {
        let (url, policy, mode) =
            (format!("opc.tcp://{address}"), SecurityPolicy::Basic256Sha256, MessageSecurityMode::SignAndEncrypt);
        let endpoints = endpoints_of(TcpStream::connect(address).await.unwrap(), &url, PATIENCE).await.unwrap();
        let is_wanted = |endpoint: &&EndpointDescription| {
            endpoint.security_mode == mode && endpoint.security_policy_uri == Some(policy.uri())
        };
        let endpoint = endpoints.iter().find(is_wanted).unwrap().clone();
        let own = OwnCertificate {
            application_uri: "urn:alderfen:gateway".to_owned(),
            application_name: "Gateway".to_owned(),
            organization: "Alderfen".to_owned(),
            hosts: vec!["localhost".to_owned()],
            validity: (1_700_000_000, 2_000_000_000),
            bits: 2048,
        };
        let mut session = ClientSession::new(ClientSessionConfig {
            channel: ClientChannelConfig {
                url,
                policy,
                mode,
                own: Some(own.make().unwrap()),
                server_certificate: endpoint.server_certificate.as_bytes().to_vec(),
                limits: TransportLimits::default(),
                token_lifetime: Duration::from_secs(3600),
                timeout: PATIENCE,
                trace: false,
            },
            application_uri: own.application_uri,
            application_name: own.application_name,
            session_name: "test".to_owned(),
            user,
            endpoint,
            discovered: Some(endpoints),
            session_timeout: Duration::from_secs(60),
            request_timeout: PATIENCE,
        });
        let mut connection = Connection::new(TcpStream::connect(address).await.unwrap(), &mut session);
        assert!(connection.entered(&mut session).await.unwrap());
        Self { connection, session }
    }

    async fn ask(&mut self, request: impl Into<interlex_opcua::Request>) -> Response {
        self.connection.ask(&mut self.session, request, PATIENCE).await.unwrap()
    }

    async fn read(&mut self, name: &str) -> DataValue {
        let wanted = ReadValueId { node_id: id(name), attribute_id: 13, ..ReadValueId::default() };
        let Response::Read(mut read) =
            self.ask(ReadRequest { nodes_to_read: vec![wanted], ..ReadRequest::default() }).await
        else {
            panic!()
        };
        read.results.remove(0)
    }

    async fn set_power(&mut self, power: f32) -> StatusCode {
        let value = DataValue { value: Some(power.into()), ..DataValue::default() };
        let write = WriteValue { node_id: id("PowerSetPoint"), attribute_id: 13, index_range: None, value };
        let Response::Write(written) =
            self.ask(WriteRequest { nodes_to_write: vec![write], ..WriteRequest::default() }).await
        else {
            panic!()
        };
        written.results[0]
    }

    async fn call(&mut self, name: &str) -> StatusCode {
        let call = CallMethodRequest {
            object_id: NodeId::text(2, "Engine"),
            method_id: id(name),
            ..CallMethodRequest::default()
        };
        let Response::Call(called) =
            self.ask(CallRequest { methods_to_call: vec![call], ..CallRequest::default() }).await
        else {
            panic!()
        };
        called.results[0].status_code
    }
}

fn id(name: &str) -> NodeId {
    NodeId::text(2, format!("Engine.{name}"))
}

#[tokio::test(flavor = "multi_thread")]
async fn an_operator_sets_its_power_and_stops_it_and_others_only_look() {
    let directory = tempfile::tempdir().unwrap();
    let (any, stop) = (SocketAddr::from((Ipv4Addr::LOCALHOST, 0)), CancellationToken::new());
    let engine = EngineConfig { address: any, directory: directory.path().to_owned(), many: 10, calls: None };
    let config = PlantConfig {
        modbus: any,
        control: any,
        serial_path: None,
        engine: Some(engine),
        grid: None,
        heating: None,
        seed: 1,
    };
    let plant = Plant::start(config.clone(), stop.clone()).await.unwrap();
    let address = plant.engine().unwrap();
    let made = std::fs::read(directory.path().join("engine-certificate.der")).unwrap();

    let mut visitor = Operator::enter(address, UserIdentity::Anonymous).await;
    let speed = visitor.read("Speed").await;
    assert!(matches!(speed.value, Some(Variant::Scalar(Scalar::Double(speed))) if speed > 1400.0), "{speed:?}");
    assert!(speed.source_time.is_some());
    assert_eq!(visitor.set_power(400.0).await, StatusCode::BAD_USER_ACCESS_DENIED);
    assert_eq!(visitor.call("Stop").await, StatusCode::BAD_USER_ACCESS_DENIED);

    let user = UserIdentity::Password {
        user: "operator".to_owned(),
        password: "alderfen works 1".to_owned(),
        allow_clear: false,
    };
    let mut operator = Operator::enter(address, user).await;
    assert_eq!(operator.set_power(400.0).await, StatusCode::GOOD);
    assert_eq!(operator.set_power(4000.0).await, StatusCode::BAD_OUT_OF_RANGE);
    assert_eq!(operator.read("PowerSetPoint").await.value, Some(400_f32.into()));
    assert_eq!(operator.call("Start").await, StatusCode::BAD_INVALID_STATE, "it runs");
    assert_eq!(operator.call("Stop").await, StatusCode::GOOD);
    stop.cancel();
    plant.ended().await;

    // It is who it was.
    let stop = CancellationToken::new();
    let plant = Plant::start(config, stop.clone()).await.unwrap();
    assert_eq!(std::fs::read(directory.path().join("engine-certificate.der")).unwrap(), made);
    stop.cancel();
    plant.ended().await;
}

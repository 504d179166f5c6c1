//! The controller of an engine as a server, and a client of it, without a network between.
#![allow(dead_code, reason = "not every test needs all of it")]

use interlex_opcua::*;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

#[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
pub(crate) fn start() -> Instant {
    Instant::now()
}

pub(crate) struct Everybody;

impl Users for Everybody {
    fn takes(&self, _: &User) -> bool {
        true
    }
}

/// The controller of an engine: it refuses a speed above 1800, and can be started.
#[derive(Default)]
pub(crate) struct Controller {
    pub(crate) starts: Vec<Variant>,
}

impl Process for Controller {
    fn write(&mut self, _: &NodeId, value: &Variant, _: &User) -> StatusCode {
        let is_too_fast = matches!(value, Variant::Scalar(Scalar::Double(speed)) if *speed > 1800.0);
        if is_too_fast { StatusCode::BAD_OUT_OF_RANGE } else { StatusCode::GOOD }
    }

    fn call(&mut self, _: &NodeId, _: &NodeId, arguments: &[Variant], _: &User) -> Result<Vec<Variant>, StatusCode> {
        self.starts.extend_from_slice(arguments);
        Ok(vec![Variant::from(true)])
    }
}

pub(crate) const CHANNEL: ChannelInfo<'_> =
    ChannelInfo { id: 7, policy: SecurityPolicy::None, mode: MessageSecurityMode::None, certificate: &[] };

pub(crate) fn wall(millis: u64) -> DateTime {
    DateTime::from_unix_millis(1_800_000_000_000 + i64::try_from(millis).unwrap())
}

pub(crate) fn id(name: &str) -> NodeId {
    NodeId::text(2, name)
}

pub(crate) fn good(value: impl Into<Variant>, millis: u64) -> DataValue {
    DataValue { value: Some(value.into()), source_time: Some(wall(millis)), ..DataValue::default() }
}

/// An engine with a speed that is written, limits of it, a power with its history, temperatures, and a method; beside what every
/// server has.
pub(crate) fn with_engine(mut space: Space) -> Space {
    let variable = |name: &str, variable| Node::new(id(name), 2, name, NodeKind::Variable(Box::new(variable)));
    let mut put =
        |parent: &NodeId, reference: &NodeId, node: Node, kind: &NodeId| space.add_under(parent, reference, node, kind);
    put(
        &ids::OBJECTS_FOLDER,
        &ids::ORGANIZES,
        Node::new(id("Engine"), 2, "Engine", NodeKind::Object),
        &ids::FOLDER_TYPE,
    );
    let writable = Access::READ | Access::WRITE;
    let speed = Variable { access: writable, ..Variable::new(1500.0.into()) };
    put(&id("Engine"), &ids::HAS_COMPONENT, variable("Speed", speed), &ids::ANALOG_ITEM_TYPE);
    let range = Range { low: 0.0, high: 2000.0 }.to_object();
    let range = Variable::new(Variant::Scalar(Scalar::ExtensionObject(range.into())));
    let range = Node::new(id("Speed.EURange"), 0, "EURange", NodeKind::Variable(Box::new(range)));
    put(&id("Speed"), &ids::HAS_PROPERTY, range, &ids::PROPERTY_TYPE);
    let power = Variable {
        access: Access::READ | Access::HISTORY,
        history: Some(History::new(100_000)),
        ..Variable::new(0.0.into())
    };
    put(&id("Engine"), &ids::HAS_COMPONENT, variable("Power", power), &ids::BASE_DATA_VARIABLE_TYPE);
    let temperatures =
        Variable { access: writable, ..Variable::new(Variant::Array(Array::Float(vec![410.0, 412.5, 409.0]))) };
    put(&id("Engine"), &ids::HAS_COMPONENT, variable("Temperatures", temperatures), &ids::BASE_DATA_VARIABLE_TYPE);
    let name = Variable { access: Access(0), ..Variable::new(Variant::Scalar(Scalar::String(None))) };
    put(&id("Engine"), &ids::HAS_COMPONENT, variable("Secret", name), &ids::BASE_DATA_VARIABLE_TYPE);
    let start = Node::new(id("Start"), 2, "Start", NodeKind::Method { is_executable: true });
    put(&id("Engine"), &ids::HAS_COMPONENT, start, &NodeId::NULL);
    let argument = Argument {
        name: Some("Power".to_owned()),
        data_type: NodeId::numeric(0, 11),
        value_rank: -1,
        ..Argument::default()
    };
    let inputs = Variable::new(Variant::Array(Array::ExtensionObject(vec![argument.to_object()])));
    let inputs = Node::new(id("Start.In"), 0, "InputArguments", NodeKind::Variable(Box::new(inputs)));
    put(&id("Start"), &ids::HAS_PROPERTY, inputs, &ids::PROPERTY_TYPE);
    space
}

/// A server and one client with a session.
pub(crate) struct Bench {
    pub(crate) server: Server,
    pub(crate) controller: Controller,
    pub(crate) token: NodeId,
    pub(crate) channel: ChannelInfo<'static>,
    pub(crate) origin: Instant,
    pub(crate) millis: u64,
    pub(crate) asked: u32,
}

impl Bench {
    pub(crate) fn new(limits: ServerLimits) -> Self {
        static STANDARD: LazyLock<Space> = LazyLock::new(Space::standard);
        Self::of(STANDARD.clone(), limits)
    }

    /// With the nodes of the engine alone.
    pub(crate) fn small(limits: ServerLimits) -> Self {
        Self::of(Space::default(), limits)
    }

    fn of(space: Space, limits: ServerLimits) -> Self {
        let description = ServerDescription {
            url: "opc.tcp://engine.alderfen:4840".to_owned(),
            application_uri: "urn:alderfen:chp".to_owned(),
            application_name: "Engine".to_owned(),
            own: None,
            security: vec![(SecurityPolicy::None, MessageSecurityMode::None)],
            users: vec![(UserTokenType::Anonymous, None)],
            session_timeout: (Duration::from_secs(10), Duration::from_secs(3600)),
            most_sessions: 3,
        };
        let server = Server::new(Sessions::new(description), with_engine(space), limits, &["urn:alderfen:chp:types"]);
        let mut bench = Self {
            server,
            controller: Controller::default(),
            token: NodeId::NULL,
            channel: CHANNEL,
            origin: start(),
            millis: 0,
            asked: 0,
        };
        bench.token = bench.session(CHANNEL);
        bench
    }

    pub(crate) fn session(&mut self, channel: ChannelInfo<'static>) -> NodeId {
        self.channel = channel;
        let create = CreateSessionRequest { requested_session_timeout: 3_600_000.0, ..CreateSessionRequest::default() };
        let Response::CreateSession(created) = self.ask_over(channel, create.into()) else { panic!() };
        self.token = created.authentication_token;
        let Response::ActivateSession(_) = self.ask_over(channel, ActivateSessionRequest::default().into()) else {
            panic!()
        };
        self.token.clone()
    }

    pub(crate) fn now(&self) -> Now {
        (self.origin + Duration::from_millis(self.millis), wall(self.millis))
    }

    pub(crate) fn send(&mut self, channel: ChannelInfo<'_>, mut request: Request) -> Option<Response> {
        request.header_mut().authentication_token = self.token.clone();
        self.asked += 1;
        let (now, behind) = (self.now(), (&Everybody as &dyn Users, &mut self.controller as &mut dyn Process));
        self.server.handle(now, channel, (self.asked, &request), behind).map(|answer| answer.response)
    }

    pub(crate) fn ask_over(&mut self, channel: ChannelInfo<'_>, request: Request) -> Response {
        self.send(channel, request).unwrap()
    }

    pub(crate) fn ask(&mut self, request: impl Into<Request>) -> Response {
        self.ask_over(self.channel, request.into())
    }

    pub(crate) fn fails(&mut self, request: impl Into<Request>) -> StatusCode {
        match self.ask(request) {
            Response::Fault(fault) => fault.response_header.service_result,
            other => panic!("{other:?}"),
        }
    }

    pub(crate) fn browse(&mut self, browse: BrowseDescription, most: u32) -> BrowseResult {
        let request = BrowseRequest {
            nodes_to_browse: vec![BrowseDescription { result_mask: 63, ..browse }],
            requested_max_references_per_node: most,
            ..BrowseRequest::default()
        };
        let Response::Browse(mut response) = self.ask(request) else { panic!() };
        response.results.remove(0)
    }

    pub(crate) fn read(&mut self, node: &NodeId, attribute: u32, range: &str) -> DataValue {
        let wanted = ReadValueId {
            node_id: node.clone(),
            attribute_id: attribute,
            index_range: Some(range.to_owned()),
            ..ReadValueId::default()
        };
        let times = TimestampsToReturn::Both;
        let Response::Read(mut response) = self.ask(ReadRequest {
            nodes_to_read: vec![wanted],
            timestamps_to_return: times,
            ..ReadRequest::default()
        }) else {
            panic!()
        };
        response.results.remove(0)
    }

    pub(crate) fn write(&mut self, node: &str, range: &str, value: DataValue) -> StatusCode {
        let write = WriteValue { node_id: id(node), attribute_id: 13, index_range: Some(range.to_owned()), value };
        let Response::Write(response) =
            self.ask(WriteRequest { nodes_to_write: vec![write], ..WriteRequest::default() })
        else {
            panic!()
        };
        response.results[0]
    }

    pub(crate) fn call(&mut self, method: &str, arguments: Vec<Variant>) -> CallMethodResult {
        let call = CallMethodRequest { object_id: id("Engine"), method_id: id(method), input_arguments: arguments };
        let Response::Call(mut response) =
            self.ask(CallRequest { methods_to_call: vec![call], ..CallRequest::default() })
        else {
            panic!()
        };
        response.results.remove(0)
    }

    pub(crate) fn subscribe(&mut self, wanted: CreateSubscriptionRequest) -> CreateSubscriptionResponse {
        let request = CreateSubscriptionRequest { publishing_enabled: true, ..wanted };
        let Response::CreateSubscription(response) = self.ask(request) else { panic!() };
        response
    }

    pub(crate) fn watch(
        &mut self,
        subscription: u32,
        node: &str,
        parameters: MonitoringParameters,
    ) -> MonitoredItemCreateResult {
        let item_to_monitor = ReadValueId { node_id: id(node), attribute_id: 13, ..ReadValueId::default() };
        let item = MonitoredItemCreateRequest {
            item_to_monitor,
            monitoring_mode: MonitoringMode::Reporting,
            requested_parameters: parameters,
        };
        let request = CreateMonitoredItemsRequest {
            subscription_id: subscription,
            timestamps_to_return: TimestampsToReturn::Both,
            items_to_create: vec![item],
            ..CreateMonitoredItemsRequest::default()
        };
        let Response::CreateMonitoredItems(mut response) = self.ask(request) else { panic!() };
        response.results.remove(0)
    }

    /// A publish request that is answered later.
    pub(crate) fn publish(&mut self, acknowledged: &[(u32, u32)]) {
        let acknowledgement = |(subscription_id, sequence_number): &(u32, u32)| SubscriptionAcknowledgement {
            subscription_id: *subscription_id,
            sequence_number: *sequence_number,
        };
        let subscription_acknowledgements = acknowledged.iter().map(acknowledgement).collect();
        let request = PublishRequest { subscription_acknowledgements, ..PublishRequest::default() };
        assert_eq!(self.send(self.channel, request.into()), None);
    }

    /// Lets time pass, step by step as the server asks for it.
    pub(crate) fn pass(&mut self, millis: u64) -> Vec<Response> {
        let end = self.millis + millis;
        while let Some(due) = self.server.poll_timeout() {
            let due = u64::try_from((due - self.origin).as_millis()).unwrap();
            if due > end {
                break;
            }
            assert!(due >= self.millis, "what is asked for lies ahead");
            self.millis = due;
            let now = self.now();
            self.server.handle_timeout(now);
        }
        self.millis = end;
        self.answers()
    }

    pub(crate) fn answers(&mut self) -> Vec<Response> {
        self.server.take_answers().into_iter().map(|answer| answer.response).collect()
    }

    pub(crate) fn set(&mut self, node: &str, value: impl Into<Variant>) {
        let (value, wall) = (good(value, self.millis), wall(self.millis));
        self.server.set_value(&id(node), value, wall);
    }
}

/// The values in publish responses with the client's numbers, and whether more waited.
pub(crate) fn told(responses: &[Response]) -> Vec<(u32, f64, bool)> {
    let publishes = responses.iter().map(|response| match response {
        Response::Publish(publish) => publish,
        other => panic!("{other:?}"),
    });
    let notifications = publishes.flat_map(|publish| &publish.notification_message.notification_data);
    let items =
        notifications.flat_map(|data| DataChangeNotification::from_object(data).unwrap().unwrap().monitored_items);
    items
        .map(|item| match item.value.value {
            Some(Variant::Scalar(Scalar::Double(number))) => {
                (item.client_handle, number, item.value.status().has_overflowed())
            }
            other => panic!("{other:?}"),
        })
        .collect()
}

pub(crate) fn parameters(client_handle: u32, queue_size: u32) -> MonitoringParameters {
    MonitoringParameters { client_handle, queue_size, discard_oldest: true, ..MonitoringParameters::default() }
}

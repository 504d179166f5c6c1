//! A server with a session, and requests of anybody who has it.
#![no_main]

use interlex_opcua::{
    Access, ActivateSessionRequest, ChannelInfo, CreateSessionRequest, DateTime, History, Limits, MessageSecurityMode,
    Node, NodeId, NodeKind, Process, Request, Response, SecurityPolicy, Server, ServerDescription, ServerLimits,
    Sessions, Space, StatusCode, User, UserTokenType, Users, Variable, Variant, ids,
};
use libfuzzer_sys::fuzz_target;
use std::time::{Duration, Instant};

struct Anything;

impl Users for Anything {
    fn takes(&self, _: &User) -> bool {
        true
    }
}

impl Process for Anything {
    fn write(&mut self, _: &NodeId, _: &Variant, _: &User) -> StatusCode {
        StatusCode::GOOD
    }

    fn call(&mut self, _: &NodeId, _: &NodeId, _: &[Variant], _: &User) -> Result<Vec<Variant>, StatusCode> {
        Ok(Vec::new())
    }
}

fn server() -> Server {
    let mut space = Space::default();
    for (id, kind) in [(84, NodeKind::Object), (85, NodeKind::Object)] {
        space.add(Node::new(NodeId::numeric(0, id), 0, "Folder", kind));
    }
    for number in 1..20 {
        let access = Access::READ | Access::WRITE | Access::HISTORY;
        let variable = Variable { access, history: Some(History::new(10)), ..Variable::new(f64::from(number).into()) };
        let node = Node::new(NodeId::numeric(1, number), 1, "Value", NodeKind::Variable(Box::new(variable)));
        space.add_under(&ids::OBJECTS_FOLDER, &ids::ORGANIZES, node, &ids::BASE_DATA_VARIABLE_TYPE);
    }
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
    let limits = ServerLimits { items: 100, queue: 10, ..ServerLimits::default() };
    Server::new(Sessions::new(description), space, limits, &[])
}

fuzz_target!(|data: &[u8]| {
    let (mut server, mut now, mut asked) = (server(), Instant::now(), 0);
    let channel = ChannelInfo { id: 1, policy: SecurityPolicy::None, mode: MessageSecurityMode::None, certificate: &[] };
    let mut ask = |server: &mut Server, now, mut request: Request, token: &NodeId| {
        request.header_mut().authentication_token = token.clone();
        asked += 1;
        let behind = (&Anything as &dyn Users, &mut Anything as &mut dyn Process);
        server.handle((now, DateTime(133_536_836_967_890_000)), channel, (asked, &request), behind)
    };
    let created = ask(&mut server, now, CreateSessionRequest::default().into(), &NodeId::NULL);
    let Some(Response::CreateSession(created)) = created.map(|answer| answer.response) else { panic!() };
    let token = created.authentication_token;
    ask(&mut server, now, ActivateSessionRequest::default().into(), &token);
    let mut rest = data;
    // Each request comes with its length, and the time that passes behind it.
    while let [length, passes, more @ ..] = rest {
        let (request, behind) = more.split_at(usize::from(*length).min(more.len()));
        rest = behind;
        if let Ok(request) = Request::from_bytes(request, Limits::default()) {
            if let Some(answer) = ask(&mut server, now, request, &token) {
                _ = answer.response.to_bytes();
            }
        }
        now += Duration::from_millis(u64::from(*passes) * 20);
        server.handle_timeout((now, DateTime(133_536_836_967_890_000)));
        for answer in server.take_answers() {
            _ = answer.response.to_bytes();
        }
        assert!(server.poll_timeout().is_none_or(|due| due > now), "what is due was done");
    }
});

//! Both sides of a channel, and what somebody between them sends; and certificates of anybody.
#![no_main]

use interlex_opcua::{
    ClientChannel, ClientChannelConfig, DateTime, Expected, MessageSecurityMode, SecurityPolicy, ServerChannel,
    ServerChannelConfig, ServerChannelEvent, TransportLimits, TrustList, certificate_faults,
};
use libfuzzer_sys::fuzz_target;
use std::time::{Duration, Instant};

fuzz_target!(|data: &[u8]| {
    let [kind, piece, before, rest @ ..] = data else { return };
    if kind % 4 == 0 {
        let expected = Expected {
            now: 1_798_761_600,
            host: Some("engine.alderfen"),
            application_uri: Some("urn:alderfen:chp"),
            policy: SecurityPolicy::Basic256Sha256,
            is_server: true,
        };
        let given = [rest.to_vec()];
        let trust = TrustList { trusted: &given, issuers: &[], revocations: &given };
        _ = certificate_faults(rest, &trust, &expected);
        return;
    }
    let (now, limits) = (Instant::now(), TransportLimits::default());
    let (policy, mode) = (SecurityPolicy::None, MessageSecurityMode::None);
    let timeout = Duration::from_secs(5);
    let mut client = ClientChannel::new(
        ClientChannelConfig {
            url: "opc.tcp://engine.alderfen:4840".to_owned(),
            policy,
            mode,
            own: None,
            server_certificate: Vec::new(),
            limits,
            token_lifetime: Duration::from_secs(60),
            timeout,
            trace: false,
        },
        now,
    );
    let mut server = ServerChannel::new(
        ServerChannelConfig {
            channel: 5,
            own: None,
            security: vec![(policy, mode)],
            limits,
            longest_token: Duration::from_secs(60),
            timeout,
        },
        now,
    );
    // So many exchanges go right before.
    for _ in 0..before % 4 {
        let (mut there, mut back) = (Vec::new(), Vec::new());
        _ = client.poll_transmit(&mut there);
        server.handle_input(now, DateTime::NONE, &there);
        while let Some(event) = server.poll_event() {
            if matches!(event, ServerChannelEvent::Opening { .. }) {
                server.accept(now, DateTime::NONE);
            }
        }
        _ = server.poll_transmit(&mut back);
        client.handle_input(now, &back);
    }
    for bytes in rest.chunks(usize::from(*piece).max(1)) {
        client.handle_input(now, bytes);
        server.handle_input(now, DateTime::NONE, bytes);
        let mut out = Vec::new();
        _ = server.poll_transmit(&mut out);
        assert!(out.len() <= 1000 * (bytes.len() + 10), "answers are in proportion to what is asked");
        while server.poll_event().is_some() {}
        while client.poll_event().is_some() {}
    }
});

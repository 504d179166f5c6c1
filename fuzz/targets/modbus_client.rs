//! A device that sends anything, in any pieces, at any time: every request is done exactly once, and nothing grows without end.
#![no_main]

use interlex_modbus::{Client, ClientConfig, Event, Framing, ReadRequest, Table};
use libfuzzer_sys::fuzz_target;
use std::collections::HashSet;
use std::time::{Duration, Instant};

fuzz_target!(|data: &[u8]| {
    let [framing, rest @ ..] = data else { return };
    let framing = [Framing::Tcp, Framing::Rtu, Framing::Ascii][usize::from(*framing) % 3];
    let mut config = ClientConfig::default();
    (config.framing, config.in_flight, config.trace) = (framing, 4, true);
    let (mut client, mut now) = (Client::new(config), Instant::now());
    let (mut open, mut out) = (HashSet::new(), Vec::new());
    let mut rest = rest;
    while let [action, more @ ..] = rest {
        rest = more;
        match action % 4 {
            0 => {
                let request = ReadRequest::new(Table::HoldingRegister, u16::from(*action), 1 + u16::from(action % 9));
                if let Ok(id) = client.request(action % 3, request.unwrap()) {
                    assert!(open.insert(id), "a number is given once");
                }
            }
            1 => {
                now += Duration::from_millis(u64::from(*action) * 20);
                client.handle_timeout(now);
            }
            _ => {
                let length = usize::from(action / 4).min(rest.len());
                let (piece, after) = rest.split_at(length);
                client.handle_input(now, piece);
                rest = after;
            }
        }
        out.clear();
        while client.poll_transmit(now, &mut out) {}
        while let Some(event) = client.poll_event() {
            match event {
                Event::Done(id, ..) => assert!(open.remove(&id), "it is done once"),
                Event::Broken(_) => {
                    client.reset();
                    while let Some(event) = client.poll_event() {
                        if let Event::Done(id, ..) = event {
                            assert!(open.remove(&id), "it is done once");
                        }
                    }
                    open.clear();
                }
            }
        }
        while client.poll_frame().is_some() {}
        assert!(open.len() <= client.capacity(), "no more are under way than may be");
    }
});

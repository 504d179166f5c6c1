//! An outstation that says anything, at any time.
#![no_main]

use interlex_dnp3::{Block, Command, CommandId, Master, MasterConfig, MasterEvent, Now, ToldId, Variation};
use interlex_dnp3::{ControlRelayOutputBlock, Object, Operation};
use libfuzzer_sys::fuzz_target;
use std::time::{Duration, Instant};

fuzz_target!(|data: &[u8]| {
    let begun = Instant::now();
    let mut passed = Duration::ZERO;
    let mut master = Master::new(MasterConfig::default());
    master.connected();
    let (mut told, mut sequence): (Option<ToldId>, u8) = (None, 0);
    let mut given = 0;
    let mut answered = 0;
    let mut rest = data;
    while let Some((step, after)) = rest.split_first() {
        rest = after;
        let now = Now { instant: begun + passed, wall: 1_795_000_000_000 };
        match step & 7 {
            0 => passed += Duration::from_secs(u64::from(step >> 3)),
            1 => master.handle_timeout(now),
            2 => {
                let control = ControlRelayOutputBlock { operation: Operation::LatchOn, count: 1, ..Default::default() };
                let block = Block::indexed(Variation::new(12, 1), [(u32::from(step >> 3), Object::Control(control))]);
                given += 1;
                let command = if step & 8 == 0 { Command::SelectOperate(block) } else { Command::DirectOperate(block) };
                master.command(CommandId(given), command);
            }
            3 => {
                if let Some(id) = told.take() {
                    master.settled(now, id);
                }
            }
            // An answer with the number that is waited for.
            4 | 5 => {
                let count = usize::from(step >> 3).min(rest.len());
                let (octets, after) = rest.split_at(count);
                rest = after;
                let head = if step & 7 == 4 { [0xC0 | sequence, 0x81] } else { [0xF0 | sequence, 0x82] };
                master.handle_fragment(now, &[&head[..], octets].concat());
            }
            6 => {
                let count = usize::from(step >> 3).min(rest.len());
                let (octets, after) = rest.split_at(count);
                rest = after;
                master.handle_fragment(now, octets);
            }
            _ if step & 8 == 0 => master.disconnected(),
            _ => master.connected(),
        }
        // One after the other, and no end of them would be a fault.
        let mut sent = 0;
        while let Some(fragment) = master.poll_transmit(now) {
            sequence = fragment[0] & 0xF;
            sent += 1;
            assert!(sent < 40, "it does not stop sending");
        }
        while let Some(event) = master.poll_event() {
            match event {
                MasterEvent::Told(of) => told = of.id.or(told),
                MasterEvent::Answered(..) => answered += 1,
                _ => {}
            }
        }
        _ = master.poll_timeout();
    }
    master.disconnected();
    while let Some(event) = master.poll_event() {
        answered += u64::from(matches!(event, MasterEvent::Answered(..)));
    }
    assert_eq!(answered, given, "each command is answered once");
});

//! A master that says anything, at any time.
#![no_main]

use interlex_dnp3::{
    CommandStatus, EventClass, LinkAddress, Now, Number, Object, Outstation, OutstationConfig, Point, PointKind,
    PointUpdate, Process, Response,
};
use libfuzzer_sys::fuzz_target;
use std::time::{Duration, Instant};

struct Plant;

impl Process for Plant {
    fn select(&mut self, _: PointKind, _: u32, _: &Object) -> CommandStatus {
        CommandStatus::SUCCESS
    }

    fn operate(&mut self, _: PointKind, _: u32, _: &Object) -> CommandStatus {
        CommandStatus::SUCCESS
    }

    fn set_time(&mut self, _: u64) {}

    fn restart(&mut self, _: bool) -> Option<u16> {
        None
    }
}

fuzz_target!(|data: &[u8]| {
    let begun = Instant::now();
    let mut passed = Duration::ZERO;
    let config = OutstationConfig { most_octets: 300, most_events: 20, ..OutstationConfig::default() };
    let mut outstation = Outstation::new(config, [LinkAddress(1)]);
    for index in 0..60 {
        outstation.put(PointKind::Analog, index, Point::new(Number::Int32(0).into(), Some(EventClass::Second)));
        outstation.put(PointKind::Binary, index, Point::new(false.into(), Some(EventClass::First)));
    }
    let mut rest = data;
    while let Some((step, after)) = rest.split_first() {
        rest = after;
        let now = Now { instant: begun + passed, wall: 1_795_000_000_000 };
        match step & 3 {
            0 => {
                passed += Duration::from_secs(u64::from(step >> 2));
                outstation.handle_timeout(now, &mut Plant);
            }
            1 => {
                let update = PointUpdate {
                    value: Number::Int32((*step).into()).into(),
                    flags: interlex_dnp3::Flags::ONLINE,
                    time: 7,
                };
                outstation.update(PointKind::Analog, u32::from(step >> 2), update);
            }
            _ => {
                let count = usize::from(step >> 2).min(rest.len());
                let (octets, after) = rest.split_at(count);
                rest = after;
                outstation.handle_fragment(now, LinkAddress(1), step & 3 == 3, octets, &mut Plant);
            }
        }
        let mut sent = 0;
        while let Some((_, fragment)) = outstation.poll_transmit(now) {
            assert!(fragment.len() <= 300, "{} octets", fragment.len());
            assert!(Response::decode(&fragment).is_ok(), "{fragment:02x?}");
            sent += 1;
            assert!(sent < 40, "it does not stop sending");
        }
        _ = outstation.poll_timeout();
    }
});

use super::*;
use interlex_modbus::ReadData;
use std::collections::BTreeSet;

/// Answers as a unit does that has these addresses only, and gives the ranges that were told with the number of requests.
fn looked_for(scan: Scan, exists: impl Fn(u8, u16) -> bool, room: usize) -> (Vec<ScanEvent>, u32) {
    let (sender, mut receiver) = mpsc::channel(room);
    let mut scanning = Scanning::new(scan, Duration::from_millis(1), sender);
    let (mut now, mut told, mut requests) = (tokio::time::Instant::now().into_std(), Vec::new(), 0);
    loop {
        match scanning.next(now) {
            Step::Send { unit, request, .. } => {
                requests += 1;
                let Request::Read(read) = request else { panic!("{request:?}") };
                let all =
                    (read.address()..=read.address() + (read.quantity() - 1)).all(|address| exists(unit, address));
                let refused = ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_ADDRESS);
                let data = Response::Data(ReadData::Registers(vec![0; read.quantity().into()]));
                let outcome = if all { Ok(data) } else { Err(RequestError::Response(refused)) };
                scanning.answered(Reply { outcome, took: Duration::from_millis(2), frames: Vec::new() }, now);
            }
            Step::Wait(until) => {
                assert!(until > now, "it waits for something");
                now = until;
            }
            Step::Done(_) => {
                while let Ok(event) = receiver.try_recv() {
                    told.push(event);
                }
                return (told, requests);
            }
        }
        // Whoever listens takes one at a time.
        told.extend(receiver.try_recv());
    }
}

#[test]
fn a_scan_finds_exactly_the_addresses_that_exist_however_slowly_it_is_listened_to() {
    let mut rng = fastrand::Rng::with_seed(11);
    for round in 0..200 {
        let (first, length) = (rng.u16(0..65_000), rng.u16(1..500));
        let last = first + length;
        let mut addresses = BTreeSet::new();
        for _ in 0..rng.u8(0..6) {
            let from = rng.u16(first..=last);
            addresses.extend(from..=(from + rng.u16(0..120)).min(last));
        }
        let scan = Scan::Addresses { unit: 3, table: ModbusTable::Holding, range: first..=last };
        let (told, _) = looked_for(scan, |_, address| addresses.contains(&address), 1 + usize::from(rng.u8(0..4)));
        let ranges = told.iter().filter_map(|event| match event {
            ScanEvent::Range { first, last } => Some(*first..=*last),
            _ => None,
        });
        let ranges: Vec<_> = ranges.collect();
        let found: Vec<u16> = ranges.iter().cloned().flatten().collect();
        assert_eq!(found, addresses.iter().copied().collect::<Vec<_>>(), "round {round}");
        assert!(ranges.windows(2).all(|pair| pair[0].end() + 1 < *pair[1].start()), "neighbours are told as one");
        let progress = told.iter().rev().find_map(|event| match event {
            ScanEvent::Progress { done, total } => Some((*done, *total)),
            _ => None,
        });
        assert_eq!(progress, Some((u32::from(length) + 1, u32::from(length) + 1)), "all of it is settled");
        assert!(matches!(told.last(), Some(ScanEvent::Done { .. })));
    }
}

#[test]
fn a_whole_table_that_exists_is_read_in_blocks_up_to_its_last_address() {
    let scan = Scan::Addresses { unit: 1, table: ModbusTable::Holding, range: 0..=65_535 };
    let (told, requests) = looked_for(scan, |_, _| true, 4096);
    assert!(told.contains(&ScanEvent::Range { first: 0, last: 65_535 }));
    assert_eq!(requests, 65_536_u32.div_ceil(125));
}

#[test]
fn units_are_told_with_what_they_said() {
    let (told, requests) = looked_for(Scan::Units(250..=255), |unit, _| unit == 252, 1);
    let units: Vec<_> = told.iter().filter(|event| matches!(event, ScanEvent::Unit { .. })).collect();
    assert_eq!((units.len(), requests), (6, 6), "a refusal is an answer");
    assert!(units.contains(&&ScanEvent::Unit { unit: 252, said: "0000".to_owned() }), "{units:?}");
}

#[test]
fn whoever_does_not_listen_any_more_ends_it() {
    let (sender, receiver) = mpsc::channel(1);
    let mut scanning = Scanning::new(Scan::Units(1..=247), Duration::ZERO, sender);
    let now = tokio::time::Instant::now().into_std();
    assert!(matches!(scanning.next(now), Step::Send { unit: 1, .. }));
    drop(receiver);
    let outcome = Err(RequestError::Timeout(Duration::from_secs(1)));
    scanning.answered(Reply { outcome, took: Duration::ZERO, frames: Vec::new() }, now);
    assert!(matches!(scanning.next(now), Step::Done(_)));
}

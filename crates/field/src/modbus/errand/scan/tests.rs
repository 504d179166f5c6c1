use super::*;
use std::collections::BTreeSet;

/// Answers as a unit does that has these addresses only, and gives what was told with the number of requests.
fn looked_for(scan: Scan, exists: impl Fn(u8, u16) -> bool, room: usize) -> (Vec<OfferEvent>, u32) {
    looked_for_on(scan, exists, |_| false, room)
}

/// The same on a line that loses the answers to some requests, by their number.
fn looked_for_on(
    scan: Scan,
    exists: impl Fn(u8, u16) -> bool,
    loses: impl Fn(u32) -> bool,
    room: usize,
) -> (Vec<OfferEvent>, u32) {
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
                // Each register holds its own address.
                let registers = (0..read.quantity()).map(|at| read.address() + at).collect();
                let data = Response::Data(ReadData::Registers(registers));
                let outcome = match all {
                    _ if loses(requests) => Err(RequestError::Timeout(Duration::from_secs(1))),
                    true => Ok(data),
                    false => Err(RequestError::Response(refused)),
                };
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

fn offers(event: &OfferEvent) -> Vec<Offer> {
    match event {
        OfferEvent::Points { offers } => offers.clone(),
        _ => Vec::new(),
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
        let (middle, base) = (first + length / 2, rng.u16(0..=first));
        let stretches = vec![(first, middle), (middle + 1, last)];
        let at_once = rng.u16(1..=125);
        let scan = Scan::Addresses { unit: 3, base, table: ModbusTable::Holding, stretches, at_once };
        let (told, _) = looked_for(scan, |_, address| addresses.contains(&address), 1 + usize::from(rng.u8(0..4)));
        let offers: Vec<_> = told.iter().flat_map(offers).collect();
        let found: Vec<_> = offers.iter().map(|offer| offer.value.as_u64().unwrap()).collect();
        assert_eq!(found, addresses.iter().map(|address| (*address).into()).collect::<Vec<u64>>(), "round {round}");
        for (offer, address) in offers.iter().zip(&addresses) {
            let listed = address - base;
            assert_eq!(offer.point["address"], format!("holding:{listed}"), "as lists of the device have it");
            assert_eq!(offer.path, ["holding".to_owned(), listed.to_string()]);
        }
        let progress = told.iter().rev().find_map(|event| match event {
            OfferEvent::Progress { done, total } => Some((*done, *total)),
            _ => None,
        });
        assert_eq!(progress, Some((u32::from(length) + 1, u32::from(length) + 1)), "all of it is settled");
        assert!(matches!(told.last(), Some(OfferEvent::Done { .. })));
    }
}

#[test]
fn a_lost_answer_is_no_missing_address() {
    for lost in 1..=30 {
        let stretches = vec![(0, 9)];
        let scan = Scan::Addresses { unit: 3, base: 0, table: ModbusTable::Input, stretches, at_once: 125 };
        let (told, _) = looked_for_on(scan, |_, address| address != 4, |request| request == lost, 4096);
        let found: Vec<_> = told.iter().flat_map(offers).filter_map(|offer| offer.value.as_u64()).collect();
        assert_eq!(found, [0, 1, 2, 3, 5, 6, 7, 8, 9], "the answer to request {lost} is lost");
    }
}

#[test]
fn a_whole_table_that_exists_is_read_in_blocks_up_to_its_last_address() {
    let stretches = vec![(0, 65_535)];
    let scan = Scan::Addresses { unit: 1, base: 0, table: ModbusTable::Holding, stretches, at_once: 125 };
    let (told, requests) = looked_for(scan, |_, _| true, 4096);
    let found: Vec<_> = told.iter().flat_map(offers).collect();
    assert_eq!((found.len(), found.last().map(|offer| offer.note.as_str())), (65_536, Some("0xFFFF")));
    assert_eq!(requests, 65_536_u32.div_ceil(125));
}

#[test]
fn units_are_told_with_what_they_said() {
    let (told, requests) = looked_for(Scan::Units(250..=255), |unit, _| unit == 252, 1);
    let units: Vec<_> = told.iter().filter(|event| matches!(event, OfferEvent::Device { .. })).collect();
    assert_eq!((units.len(), requests), (6, 6), "a refusal is an answer");
    let device = Map::from_iter([("unit".to_owned(), json!(252))]);
    assert!(units.contains(&&OfferEvent::Device { device, said: "0000".to_owned() }), "{units:?}");
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

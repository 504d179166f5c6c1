use super::*;
use proptest::prelude::*;

/// A device with the common model, a three-phase inverter and a model that nobody knows.
fn device(base: u16) -> Vec<(u16, u16)> {
    let mut registers = vec![MARKER[0], MARKER[1], 1, 66];
    let mut text = b"Alderfen".to_vec();
    text.resize(132, 0);
    registers.extend(text.as_chunks::<2>().0.iter().map(|pair| u16::from_be_bytes(*pair)));
    registers.extend([103, 50]);
    let mut inverter = [0xFFFF_u16; 50];
    // A and its factor, W and its factor, Wh and its factor, the state.
    (inverter[0], inverter[4], inverter[12], inverter[13]) = (1234, 0xFFFE, 5678, 1);
    (inverter[22], inverter[23], inverter[24], inverter[36]) = (1, 2, 0x8000, 4);
    inverter[31] = 0x8000;
    registers.extend(inverter);
    registers.extend([64_001, 130]);
    registers.extend([7; 130]);
    registers.extend([END, 0]);
    (base..=u16::MAX).zip(registers).collect()
}

fn walk(registers: &[(u16, u16)]) -> (Option<SunSpecDevice>, usize) {
    let (mut walk, mut requests) = (SunSpecWalk::new(), 0);
    while let Some(request) = walk.next_request() {
        requests += 1;
        let range = request.address()..request.address() + request.quantity();
        let read = |address| registers.iter().find(|(at, _)| *at == address).map(|(_, value)| *value);
        let came = range.map(read).collect::<Option<Vec<_>>>();
        walk.answer(came.as_deref());
    }
    (walk.found(), requests)
}

#[test]
fn the_chain_is_walked_and_points_come_with_address_unit_and_factor() {
    for base in BASES {
        let found = walk(&device(base)).0.unwrap();
        assert_eq!(found.base, base);
        let ids: Vec<_> = found.models.iter().map(|model| (model.id, model.length)).collect();
        assert_eq!(ids, [(1, 66), (103, 50), (64_001, 130)]);
        assert_eq!((found.models[2].title, found.models[2].points.len()), (None, 0));
        let point = |name: &str| found.models[1].points.iter().find(|point| point.name == name);
        let power = point("W").unwrap();
        assert_eq!((power.address, power.unit, power.scale_factor), (base + 70 + 2 + 12, "W", 1));
        assert_eq!(point("A").unwrap().scale_factor, -2);
        assert_eq!(point("WH").unwrap().scale_factor, 0, "a factor that is not implemented is none");
        assert!(point("St").unwrap().words.contains("4=mppt"));
        assert!(point("AphA").is_none() && point("TmpCab").is_none() && point("A_SF").is_none());
        assert_eq!(found.models[0].points[0].size, 16);
    }
}

#[test]
fn a_device_without_the_marker_costs_three_reads() {
    assert_eq!(walk(&[]), (None, 3));
    assert_eq!(walk(&[(40_000, 1), (40_001, 2), (0, 3), (1, 4)]), (None, 3));
}

proptest! {
    #[test]
    fn any_registers_end_the_walk(filler in prop::collection::vec(any::<u16>(), 1..40), length in 0_u16..300) {
        let (mut walk, mut requests) = (SunSpecWalk::new(), 0);
        walk.answer(Some(&MARKER));
        walk.answer(Some(&[filler[0], length]));
        while let Some(request) = walk.next_request() {
            requests += 1;
            let registers: Vec<_> = filler.iter().cycle().copied().take(request.quantity().into()).collect();
            walk.answer(Some(&registers));
        }
        prop_assert!(requests < 100_000);
        prop_assert!(walk.found().unwrap().models.len() <= MOST_MODELS);
    }
}

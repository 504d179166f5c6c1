use super::*;
use crate::buffer::block::bytes::{put_signed, put_text};
use interlex_core::Reason;
use interlex_core::description::{Files, read};
use interlex_store::JournalPoint;
use proptest::prelude::*;

fn points(rows: &str) -> PointTable {
    let main = "[gateway]\nname = \"g\"\n[rates]\nr = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\n\
                name = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
    let list = format!("name,address,type,rate\n{rows}");
    let files: Files = [("gateway.toml".to_owned(), main.to_owned()), ("p.csv".to_owned(), list)].into();
    PointTable::new(&read(&files).unwrap(), &PointTable::default())
}

/// As the database would number the points, with others between them.
fn numbers(points: &PointTable) -> PointNumbers {
    let mut numbers = PointNumbers::default();
    for (place, info) in (0..).zip(points.all()) {
        let (device, point) = (info.device().to_string(), info.name().to_owned());
        let data_type = info.value_type().unwrap().to_string();
        numbers.add(JournalPoint { number: 70 + place * 3, device, point, data_type });
    }
    numbers
}

const ROWS: &str = "a,holding:0,int64,r\nb,holding:10,uint64,r\nc,holding:20,float64,r\nd,holding:30,float32,r\ne,coil:0,,r\nf,holding:40,string(20),r\n";

const QUALITIES: [Quality; 7] = [
    Quality::Good,
    Quality::Uncertain(Reason::OutOfRange),
    Quality::Bad(Reason::Modbus(2)),
    Quality::Bad(Reason::Timeout),
    Quality::Uncertain(Reason::OpcUa(0x4090_0000)),
    Quality::Bad(Reason::Dnp3 { flags: 0x85, group: 30 }),
    Quality::Bad(Reason::Bacnet { flags: 3, reliability: 12 }),
];

fn values() -> impl Strategy<Value = (u32, Option<Value>)> {
    prop_oneof![
        any::<i64>().prop_map(|n| (0, Some(Value::Int(n)))),
        (-50_i64..50).prop_map(|n| (0, Some(Value::Int(n)))),
        any::<u64>().prop_map(|n| (1, Some(Value::Uint(n)))),
        (0_u64..300).prop_map(|n| (1, Some(Value::Uint(n)))),
        any::<f64>().prop_filter("has a number", |n| !n.is_nan()).prop_map(|n| (2, Some(Value::Float64(n)))),
        (-40_000_i32..40_000, 0..4_i32).prop_map(|(n, k)| (2, Some(Value::Float64(f64::from(n) / 10_f64.powi(k))))),
        Just((2, Some(Value::Float64(-0.0)))),
        (-1e30_f32..1e30).prop_map(|n| (3, Some(Value::Float32(n)))),
        any::<bool>().prop_map(|bit| (4, Some(Value::Bool(bit)))),
        "\\PC{0,20}".prop_map(|text| (5, Some(Value::Text(text.into())))),
        (0_u32..6).prop_map(|point| (point, None)),
    ]
}

fn samples() -> impl Strategy<Value = Vec<Sample>> {
    let kinds = prop_oneof![Just(SampleKind::Current), Just(SampleKind::Event), Just(SampleKind::Past)];
    let kinds = (kinds, (0_u8..4).prop_map(TimeQuality::of_number));
    let one = (values(), any::<i32>(), -5000_i64..5000, 0..QUALITIES.len(), kinds);
    let one = one.prop_map(|((point, value), at, before, quality, (kind, time_quality))| Sample {
        point: PointIndex(point),
        value,
        quality: QUALITIES[quality],
        source_time: Timestamp::from_millis(1_700_000_000_000 + i64::from(at) - before),
        gateway_time: Timestamp::from_millis(1_700_000_000_000 + i64::from(at)),
        time_quality,
        kind,
    });
    prop::collection::vec(one, 0..60)
}

/// What blocks of before were written as, for samples of point `d/c`.
fn named(values: &[(i64, f64, u32)]) -> Vec<u8> {
    let mut block = vec![NAMED];
    put(1, &mut block);
    put_text("d", &mut block);
    put_text("c", &mut block);
    put(values.len() as u64, &mut block);
    let mut before = 0;
    for (at, value, quality) in values {
        put(0, &mut block);
        put_signed(at - before, &mut block);
        put_signed(5, &mut block);
        put((*quality).into(), &mut block);
        block.push(6);
        block.extend_from_slice(&value.to_le_bytes());
        before = *at;
    }
    block
}

proptest! {
    #[test]
    fn samples_come_out_of_a_block_as_they_went_in(samples in samples()) {
        let points = points(ROWS);
        let numbers = numbers(&points);
        let block = encode(&samples, &points, &numbers);
        prop_assert_eq!(decode(&block, &points, &numbers), Ok(samples.into_iter().map(Ok).collect()));
    }

    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        let points = points(ROWS);
        let numbers = numbers(&points);
        let _ = decode(&bytes, &points, &numbers);
        for version in [NAMED, NUMBERED] {
            let mut versioned = vec![version];
            versioned.extend(&bytes);
            let _ = decode(&versioned, &points, &numbers);
        }
    }

    #[test]
    fn a_block_that_is_cut_is_damaged(samples in samples(), cut in any::<prop::sample::Index>()) {
        let points = points(ROWS);
        let numbers = numbers(&points);
        let block = encode(&samples, &points, &numbers);
        let cut = &block[..1 + cut.index(block.len() - 1)];
        prop_assert!(cut.len() == block.len() || decode(cut, &points, &numbers) == Err(BlockError::Damaged));
    }
}

#[test]
fn numbers_and_not_indices_say_which_point_it_is() {
    let before = points(ROWS);
    let numbers = numbers(&before);
    let sample = |n: i64| Sample {
        point: PointIndex(2),
        value: Some(Value::Float64(50.0)),
        quality: Quality::Good,
        source_time: Timestamp::from_millis(1_700_000_000_000 + n * 500),
        gateway_time: Timestamp::from_millis(1_700_000_000_000 + n * 500),
        time_quality: TimeQuality::Unsaid,
        kind: SampleKind::Current,
    };
    let samples: Vec<_> = (0..1000).map(sample).collect();
    let block = encode(&samples, &before, &numbers);
    assert!(block.len() < 6 * 1000, "{}", block.len());
    let came = Timestamp::from_millis(1_700_000_000_000);
    let moved = points("c,holding:20,float64,r\na,holding:0,int64,r\n");
    assert_eq!(decode(&block, &moved, &numbers).unwrap()[0].as_ref().unwrap().point, PointIndex(0));
    for changed in ["c,holding:20,int16,r\n", "a,holding:0,int64,r\n"] {
        assert_eq!(decode(&block, &points(changed), &numbers).unwrap()[0], Err(Unknown { came }), "{changed}");
    }
    let of_another = decode(&block, &before, &PointNumbers::default()).unwrap();
    assert_eq!(of_another[0], Err(Unknown { came }), "a number that nobody gave");
    assert_eq!(decode(&[9], &before, &numbers), Err(BlockError::Version(9)));
}

#[test]
fn blocks_of_before_are_still_read() {
    let points = points(ROWS);
    let block = named(&[(1000, 1.5, 0), (2000, 2.5, 1 << 16 | 5 << 8), (2500, 0.0, 2 << 16 | 3 << 8 | 11)]);
    let read: Vec<_> =
        decode(&block, &points, &PointNumbers::default()).unwrap().into_iter().map(Result::unwrap).collect();
    let told: Vec<_> = read
        .iter()
        .map(|sample| {
            (sample.value.clone().unwrap().to_string(), sample.quality.to_string(), sample.source_time.as_millis())
        })
        .collect();
    let expected =
        [("1.5", "good", 995), ("2.5", "uncertain: out of range", 1995), ("0", "bad: device exception 11", 2495)];
    assert_eq!(told, expected.map(|(value, quality, at)| (value.to_owned(), quality.to_owned(), at)));
    assert_eq!(read[0].point, PointIndex(2));
}

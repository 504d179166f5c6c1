//! Planning the requests for many points: how long it takes, and whether it could be done with fewer.

use crate::report::{best, header, now, row};
use interlex_core::description::{Description, Device, Files, planned, read};
use std::collections::BTreeMap;
use std::fmt::Write as _;

const DEVICES: usize = 100;
const POINTS: usize = 500;
const MAX_GAP: u16 = 8;

/// Devices whose points stand in runs with gaps of all sizes, as point lists of meters do.
fn files() -> Files {
    let mut rng = fastrand::Rng::with_seed(7);
    let mut main =
        "[gateway]\nname = \"works\"\n[rates]\nfast = \"500ms\"\nslow = \"10s\"\n[[link]]\nname = \"bus\"\nprotocol = \
                    \"modbus-tcp\"\nhost = \"127.0.0.1\"\n"
            .to_owned();
    let mut files = Files::new();
    for device in 0..DEVICES {
        // Writing into a string cannot fail.
        let _ = write!(
            main,
            "[[device]]\nname = \"unit-{device}\"\nlink = \"bus\"\nunit = {device}\nmax-gap = {MAX_GAP}\n"
        );
        let (mut list, mut address) = ("name,address,type,rate\n".to_owned(), 0);
        for point in 0..POINTS {
            let (data_type, registers) =
                rng.choice([("uint16", 1), ("float32", 2), ("int64", 4)]).unwrap_or(("uint16", 1));
            let rate = if rng.u8(0..4) == 0 { "slow" } else { "fast" };
            let _ = writeln!(list, "p{point},holding:{address},{data_type},{rate}");
            address += registers + if rng.u8(0..10) == 0 { rng.u16(0..40) } else { 0 };
        }
        files.insert(format!("points/unit-{device}.csv"), list);
    }
    files.insert("gateway.toml".to_owned(), main);
    files
}

/// No plan can do with fewer: what is further apart than a gap may be has requests of its own, and each run takes as many
/// as its length in the largest requests.
fn least(description: &Description, device: &Device) -> usize {
    let Some(settings) = device.protocol.modbus() else { return 0 };
    let mut groups: BTreeMap<_, Vec<(u16, u16)>> = BTreeMap::new();
    for point in &*device.points {
        let Some((address, _)) = point.modbus() else { continue };
        if let Some(extent) = address.extent(point.settings.data_type) {
            groups.entry((description.rates.get(&point.settings.rate), address.table)).or_default().push(extent);
        }
    }
    let of_group = |mut extents: Vec<(u16, u16)>| {
        extents.sort_unstable();
        let (mut requests, mut run) = (0, None::<(u16, u16)>);
        let count = |(first, last): (u16, u16)| usize::from((last - first + 1).div_ceil(settings.max_registers));
        for (first, last) in extents {
            run = match run {
                Some((start, end)) if first <= end.saturating_add(1 + settings.max_gap) => Some((start, end.max(last))),
                Some(over) => {
                    requests += count(over);
                    Some((first, last))
                }
                None => Some((first, last)),
            };
        }
        requests + run.map_or(0, count)
    };
    groups.into_values().map(of_group).sum()
}

pub(crate) fn run() -> anyhow::Result<()> {
    let description = read(&files()).map_err(|problems| anyhow::anyhow!("{problems:?}"))?;
    let (mut requests, mut bound) = (0, 0);
    for device in &description.devices {
        requests += planned(&description.rates, &[device]).len();
        bound += least(&description, device);
    }
    let mut addresses: Vec<_> = description
        .devices
        .iter()
        .flat_map(|device| device.points.iter())
        .filter_map(|point| point.modbus())
        .map(|(address, _)| (address.number.wrapping_mul(40_503), address))
        .collect();
    let per_second = |took: std::time::Duration| 1.0 / took.as_secs_f64();
    let ours = || {
        let start = now();
        let planned: usize =
            description.devices.iter().map(|device| planned(&description.rates, &[device]).len()).sum();
        assert_eq!(planned, requests, "a plan is always the same");
        per_second(start.elapsed())
    };
    let raw = || {
        addresses.sort_unstable_by_key(|(shuffled, _)| *shuffled);
        let start = now();
        addresses.sort_unstable_by_key(|(_, address)| *address);
        per_second(start.elapsed())
    };
    let (ours, raw) = best(ours, raw);
    header(&format!(
        "planner: {} points of {DEVICES} devices, gaps up to {MAX_GAP}; raw: their addresses sorted once",
        DEVICES * POINTS
    ));
    let millis = |per_second: f64| format!("{:.2} ms", 1000.0 / per_second);
    row("time for all", &millis(ours), &millis(raw), Some(ours / raw));
    row("requests; raw: no plan can do with fewer", &requests.to_string(), &bound.to_string(), None);
    Ok(())
}

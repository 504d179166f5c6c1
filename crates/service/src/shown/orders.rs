use crate::shown::filter::{PointFilter, point_of};
use interlex_core::PointIndex;
use interlex_gateway::{Gateway, PointInfo, Running};
use serde::Deserialize;
use std::cmp::Ordering;
use std::sync::{Arc, Weak};
use std::time::Duration;
use tokio::time::Instant;

/// By what points are sorted.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum PointOrder {
    /// As they are described.
    #[default]
    Listed,
    /// By their device.
    Device,
    /// By their name.
    Name,
    /// By their value; what is no number comes first.
    Value,
    /// Bad, uncertain, good.
    Quality,
    /// Those read last come first.
    Age,
}

/// The number of a gateway, and a point of it.
type Row = (u16, PointIndex);
type Rows = Arc<[Row]>;
type Gateways = [(Arc<Running>, Arc<Gateway>)];

/// Orders that were asked for lately. Whoever scrolls asks for the same again and again.
#[derive(Debug, Default)]
pub(crate) struct Orders {
    known: Vec<Known>,
    counts: Option<Counts>,
}

#[derive(Debug)]
struct Known {
    filter: PointFilter,
    sort: (PointOrder, bool),
    of: Vec<Weak<Running>>,
    rows: Rows,
    used: Instant,
    /// Until when it holds, where what it goes by moves.
    until: Option<Instant>,
}

#[derive(Debug, Clone)]
pub(crate) struct Counts {
    of: Vec<Weak<Running>>,
    until: Instant,
    pub(crate) all: usize,
    pub(crate) not_good: usize,
}

/// So many orders are remembered: of a million points, each takes 8 MB.
const MOST_KNOWN: usize = 8;
/// How long an order by what moves holds, and how much longer than it takes to make.
const HOLDS: Duration = Duration::from_secs(1);
const REST: u32 = 20;

impl Orders {
    /// The rows that a filter admits, in this order.
    pub(crate) fn of(&mut self, gateways: &Gateways, filter: &PointFilter, sort: (PointOrder, bool)) -> Rows {
        self.known.retain(|known| is_of(&known.of, gateways) && known.until.is_none_or(|until| until > Instant::now()));
        if let Some(at) = self.known.iter().position(|known| known.sort == sort && known.filter == *filter) {
            // The one asked for last is the last to go.
            let mut known = self.known.remove(at);
            known.used = Instant::now();
            let rows = Arc::clone(&known.rows);
            self.known.push(known);
            return rows;
        }
        let begun = Instant::now();
        let moves =
            filter.quality.is_some() || matches!(sort.0, PointOrder::Value | PointOrder::Quality | PointOrder::Age);
        let rows = if moves {
            // Texts do not move: that part is looked for once.
            let listed = self.of(gateways, &filter.without_quality(), (PointOrder::Listed, false));
            sorted(listed.iter().copied().filter(|row| has_quality(gateways, filter, *row)).collect(), gateways, sort)
        } else {
            sorted(admitted(gateways, filter), gateways, sort)
        };
        let until = moves.then(|| Instant::now() + HOLDS.max(begun.elapsed() * REST));
        if self.known.len() == MOST_KNOWN {
            self.known.remove(0);
        }
        let of = gateways.iter().map(|(running, _)| Arc::downgrade(running)).collect();
        self.known.push(Known {
            filter: filter.clone(),
            sort,
            of,
            rows: Arc::clone(&rows),
            used: Instant::now(),
            until,
        });
        rows
    }

    /// Lets go of what nobody has asked for in this time.
    pub(crate) fn let_go(&mut self, span: Duration) {
        self.known.retain(|known| known.used.elapsed() < span);
    }

    /// How many points there are, and how many of them are not good.
    pub(crate) fn counts(&mut self, gateways: &Gateways) -> Counts {
        let known = self.counts.take().filter(|known| is_of(&known.of, gateways) && known.until > Instant::now());
        let counts = known.unwrap_or_else(|| {
            let begun = Instant::now();
            let (mut all, mut not_good) = (0, 0);
            for (running, _) in gateways {
                let points = running.points().all();
                let is_good = |info: &&PointInfo| {
                    running.latest().quality(info.index).is_some_and(|known| known.class() == "good")
                };
                all += points.len();
                not_good += points.len() - points.iter().filter(is_good).count();
            }
            let of = gateways.iter().map(|(running, _)| Arc::downgrade(running)).collect();
            Counts { of, until: Instant::now() + HOLDS.max(begun.elapsed() * REST), all, not_good }
        });
        self.counts = Some(counts.clone());
        counts
    }
}

fn is_of(known: &[Weak<Running>], gateways: &Gateways) -> bool {
    known.len() == gateways.len()
        && known.iter().zip(gateways).all(|(known, (running, _))| known.as_ptr() == Arc::as_ptr(running))
}

/// The row of a point, by its name.
pub(crate) fn row_of(gateways: &Gateways, id: &str) -> Option<Row> {
    let of_gateway =
        |(of, (running, _)): (u16, &(Arc<Running>, Arc<Gateway>))| point_of(running, id).map(|info| (of, info.index));
    (0..).zip(gateways).find_map(of_gateway)
}

/// All that the filter admits, but for the quality, as they are described.
fn admitted(gateways: &Gateways, filter: &PointFilter) -> Vec<Row> {
    let filter = filter.ready();
    let of_gateway = |(of, (running, _)): (u16, &(Arc<Running>, Arc<Gateway>))| {
        let admitted = running.points().all().iter().filter(|info| filter.admits(running, info));
        admitted.map(|info| (of, info.index)).collect::<Vec<_>>()
    };
    (0..).zip(gateways).flat_map(of_gateway).collect()
}

fn has_quality(gateways: &Gateways, filter: &PointFilter, (of, index): Row) -> bool {
    let quality = gateways.get(usize::from(of)).and_then(|(running, _)| running.latest().quality(index));
    quality.is_some_and(|quality| filter.has_quality(quality.class()))
}

/// What a row is sorted by: made once for each, since a value may move while it is compared.
enum Key<'a> {
    Text(&'a str),
    Number(f64),
}

impl Key<'_> {
    fn compare(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Text(one), Self::Text(other)) => one.cmp(other),
            (Self::Number(one), Self::Number(other)) => one.total_cmp(other),
            (Self::Text(_), Self::Number(_)) => Ordering::Less,
            (Self::Number(_), Self::Text(_)) => Ordering::Greater,
        }
    }
}

/// Equals stay in the order of the description, so that rows do not jump between them.
fn sorted(rows: Vec<Row>, gateways: &Gateways, (by, descending): (PointOrder, bool)) -> Rows {
    if by == PointOrder::Listed {
        return if descending { rows.into_iter().rev().collect() } else { rows.into() };
    }
    let keyed = rows.into_iter().filter_map(|(of, index)| {
        let (running, _) = gateways.get(usize::from(of))?;
        Some((key(running, running.points().get(index)?, by), (of, index)))
    });
    let mut keyed: Vec<(Key<'_>, Row)> = keyed.collect();
    keyed.sort_by(|(one, _), (other, _)| if descending { other.compare(one) } else { one.compare(other) });
    keyed.into_iter().map(|(_, row)| row).collect()
}

fn key<'a>(running: &'a Running, info: &'a PointInfo, by: PointOrder) -> Key<'a> {
    let latest = running.latest();
    match by {
        PointOrder::Listed | PointOrder::Device => Key::Text(info.device()),
        PointOrder::Name => Key::Text(info.name()),
        PointOrder::Quality => Key::Number(match latest.quality(info.index).map_or("bad", |quality| quality.class()) {
            "good" => 2.0,
            "uncertain" => 1.0,
            _ => 0.0,
        }),
        PointOrder::Value => {
            let value = latest.read(info.index).and_then(|reading| reading.value);
            Key::Number(value.and_then(|value| value.as_f64()).unwrap_or(f64::NEG_INFINITY))
        }
        PointOrder::Age => {
            #[expect(clippy::cast_precision_loss, reason = "milliseconds fit for a very long time")]
            let age = latest.read(info.index).map_or(f64::INFINITY, |reading| -(reading.value_time.as_millis() as f64));
            Key::Number(age)
        }
    }
}

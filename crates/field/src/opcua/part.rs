use super::facts::{ServerFacts, value_of};
use super::locate::{Locator, NoNode};
use super::mapping::{Reader, own};
use super::structures::StructureFinder;
use crate::link::PlannedDevice;
use interlex_core::description::{Device, Name, OpcUaDevice, Point, PointSettings, Span, Watching};
use interlex_core::{DataType, PointIndex};
use interlex_opcua::{
    DataChangeFilter, DataChangeTrigger, DataTypes, NodeId, ReadValueId, Request, RequestError, Response,
};
use std::collections::BTreeMap;
use std::time::{Duration, Instant};

/// A device of the link: a server, or a part of it.
#[derive(Debug)]
pub(super) struct Part {
    /// Names it as long as it is described the same.
    pub(super) id: u32,
    /// Its place on the link.
    pub(super) place: usize,
    planned: PlannedDevice,
    pub(super) items: Vec<Item>,
    pub(super) stage: Stage,
    pub(super) is_up: bool,
    pub(super) is_silent: bool,
    /// When it is up at the latest, since it began to be watched.
    pub(super) grace: Option<Instant>,
}

/// A point of it.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Item {
    pub(super) index: PointIndex,
    pub(super) reader: Reader,
    pub(super) period: Duration,
    pub(super) watch: Watching,
    pub(super) filter: Option<DataChangeFilter>,
    element: Option<String>,
    pub(super) node: Option<NodeId>,
    /// The type that it is known to have, where it is described as auto.
    pub(super) found: DataType,
    /// It is shown as bad since the link is down, or nothing was told of it yet.
    pub(super) is_away: bool,
    /// It was told of, or it is known why not.
    pub(super) is_settled: bool,
}

#[derive(Debug)]
pub(super) enum Stage {
    /// Its nodes are still to be found, not before then.
    Absent(Option<Instant>),
    /// They are being found.
    Locating(Locator),
    /// What its structures are made of is being found.
    Structures(StructureFinder),
    Watched,
}

/// What comes of a step towards watching it.
pub(super) enum Progress {
    Ask(Box<Request>),
    Wait,
    /// Its nodes are known.
    Ready,
}

/// What of a device tells it from others.
fn own_device(device: &Device) -> OpcUaDevice {
    device.protocol.opcua().cloned().unwrap_or_default()
}

impl Part {
    pub(super) fn new(id: u32, place: usize, planned: &PlannedDevice, rates: &BTreeMap<Name, Span>) -> Self {
        let points = planned.points.iter().zip(&planned.device.points);
        let items = points.map(|(index, point)| Item::new(*index, point, rates)).collect();
        let planned = planned.clone();
        let (stage, is_up, is_silent) = (Stage::Absent(None), false, false);
        Self { id, place, planned, items, stage, is_up, is_silent, grace: None }
    }

    /// Whether another description of it watches the same in the same way.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        let described =
            |item: &Item| Item { node: None, found: DataType::Auto, is_away: true, is_settled: false, ..item.clone() };
        let name = |part: &Self| part.planned.device.settings.name.clone();
        let shapes =
            |part: &Self| part.planned.device.points.iter().map(|point| point.address.clone()).collect::<Vec<_>>();
        name(self) == name(other)
            && own_device(&self.planned.device) == own_device(&other.planned.device)
            && self.items.iter().map(described).eq(other.items.iter().map(described))
            && shapes(self) == shapes(other)
    }

    pub(super) fn name(&self) -> &str {
        self.planned.device.settings.name.as_str()
    }

    /// The point of an item, as it is described.
    pub(super) fn point(&self, item: usize) -> Option<&PointSettings> {
        self.planned.device.points.get(item).map(|point| &point.settings)
    }

    /// Goes on towards watching it.
    pub(super) fn progress(&mut self, facts: &ServerFacts, now: Instant) -> Progress {
        if matches!(self.stage, Stage::Absent(after) if after.is_none_or(|after| now >= after)) {
            let start = own_device(&self.planned.device).start;
            let addresses =
                self.planned.device.points.iter().filter_map(|point| point.opcua().map(|(address, _)| address));
            let at_once = facts.most.translate;
            self.stage = Stage::Locating(Locator::new(start.as_ref(), addresses, &facts.namespaces, at_once));
        }
        if let Stage::Locating(locator) = &mut self.stage {
            if let Some(request) = locator.next() {
                return Progress::Ask(Box::new(request));
            }
            if !locator.is_done() {
                return Progress::Wait;
            }
        }
        if let Stage::Structures(finder) = &mut self.stage {
            if let Some(request) = finder.next(facts.most.read) {
                return Progress::Ask(Box::new(request));
            }
            return if finder.is_done() { Progress::Ready } else { Progress::Wait };
        }
        match &self.stage {
            Stage::Locating(_) => Progress::Ready,
            _ => Progress::Wait,
        }
    }

    /// The nodes are found: notes them, and tells which points have none.
    pub(super) fn located(&mut self) -> Vec<(usize, NoNode)> {
        let Stage::Locating(locator) = std::mem::replace(&mut self.stage, Stage::Watched) else { return Vec::new() };
        let mut missing = Vec::new();
        for ((place, item), found) in self.items.iter_mut().enumerate().zip(locator.found()) {
            match found {
                Ok(node) => item.node = Some(node),
                Err(no_node) => missing.push((place, no_node)),
            }
        }
        let structures = self.items.iter().filter(|item| item.reader.needs_structure());
        let structures: Vec<_> = structures.filter_map(|item| item.node.clone()).collect();
        if !structures.is_empty() {
            self.stage = Stage::Structures(StructureFinder::new(structures));
        }
        missing
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>, types: &mut DataTypes) {
        match &mut self.stage {
            Stage::Locating(locator) => locator.answered(answer),
            Stage::Structures(finder) => finder.answered(answer, types),
            Stage::Absent(_) | Stage::Watched => {}
        }
    }

    /// Nothing is watched of it any more: it begins anew.
    pub(super) fn begin_anew(&mut self, after: Option<Instant>) {
        self.stage = Stage::Absent(after);
        for item in &mut self.items {
            (item.node, item.is_settled) = (None, false);
        }
    }
}

impl Item {
    fn new(index: PointIndex, point: &Point, rates: &BTreeMap<Name, Span>) -> Self {
        // The checks let no point pass whose rate is unknown.
        let period = rates.get(&point.settings.rate).copied().unwrap_or(Span::from_millis(1000));
        let own = own(point);
        Self {
            index,
            reader: Reader::new(point),
            period: period.into(),
            watch: own.watch,
            filter: filter(&point.settings),
            element: own.element.map(|element| element.to_string()),
            node: None,
            found: DataType::Auto,
            is_away: true,
            is_settled: false,
        }
    }

    /// What is asked of the server, once its node is known.
    pub(super) fn what(&self) -> Option<ReadValueId> {
        Some(ReadValueId { index_range: self.element.clone(), ..value_of(self.node.clone()?) })
    }
}

/// Lets the server tell only changes that matter: the deadband as one of raw values.
fn filter(settings: &PointSettings) -> Option<DataChangeFilter> {
    let factor = match settings.span {
        Some(span) if !settings.root => (span.high - span.low) / (span.raw_high - span.raw_low),
        Some(_) => return None,
        None => settings.scale,
    };
    let raw = settings.deadband() / factor.abs();
    let is_wanted = raw.is_finite() && raw > 0.0 && settings.enumeration.is_none();
    is_wanted.then_some(DataChangeFilter {
        trigger: DataChangeTrigger::StatusValue,
        deadband_type: ABSOLUTE,
        deadband_value: raw,
    })
}

/// Source: OPC 10000-4, section 7.22.2.
const ABSOLUTE: u32 = 1;

impl Part {
    /// Whether all is known of its structures.
    pub(super) fn is_structured(&self) -> bool {
        match &self.stage {
            Stage::Structures(finder) => finder.is_done(),
            _ => true,
        }
    }

    /// Whether the server is to watch an item.
    pub(super) fn is_subscribed(&self, item: usize) -> bool {
        self.items.get(item).is_some_and(|item| item.watch == Watching::Subscribe)
    }

    /// What is to be read of it again and again, by period.
    pub(super) fn polled(&self) -> BTreeMap<Duration, Vec<(usize, ReadValueId)>> {
        let mut periods: BTreeMap<_, Vec<_>> = BTreeMap::new();
        for (place, item) in self.items.iter().enumerate().filter(|(_, item)| item.watch == Watching::Poll) {
            if let Some(what) = item.what() {
                periods.entry(item.period).or_default().push((place, what));
            }
        }
        periods
    }

    /// The connection is gone.
    pub(super) fn lost(&mut self) {
        (self.is_up, self.is_silent, self.grace) = (false, false, None);
        self.items.iter_mut().for_each(|item| item.is_away = true);
    }
}

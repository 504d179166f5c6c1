use super::facts::{ServerFacts, attribute_of};
use super::locate::{Locator, NoNode};
use super::mapping::{Reader, own};
use super::nodes::NodeFinder;
use crate::link::PlannedDevice;
use interlex_core::description::{Device, Name, OpcUaDevice, Point, PointSettings, Span, Watching};
use interlex_core::{DataType, PointIndex, Semantics};
use interlex_opcua::{
    DataChangeFilter, DataChangeTrigger, DataTypes, Namespaces, NodeId, ReadValueId, Request, RequestError, Response,
};
use std::collections::{BTreeMap, BTreeSet};
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
    /// Whether some of it is watched already.
    is_watched: bool,
    /// When nodes that were not there are looked for again.
    pub(super) look_again: Option<Instant>,
    /// Items that the server did not know, and that are tried now and then.
    pub(super) refused: Vec<usize>,
    /// Nodes that say something else of their values than they were known to.
    changed: BTreeSet<NodeId>,
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
    /// Whether the server has a history of it.
    pub(super) has_history: bool,
    /// Whether unit, range and the like are taken from its node.
    leaves_something: bool,
    /// What that says; none while nothing is known, or nothing wanted.
    pub(super) semantics: Option<Semantics>,
    /// The type that it is known to have, where it is described as auto.
    pub(super) found: DataType,
    /// So often that has turned into another one.
    pub(super) turns: u8,
    /// It is shown as bad since the link is down, or nothing was told of it yet.
    pub(super) is_away: bool,
    /// It was told of, or it is known why not.
    pub(super) is_settled: bool,
}

#[derive(Debug)]
pub(super) enum Stage {
    /// Its nodes are still to be found, not before then.
    Absent(Option<Instant>),
    /// Those of some items are being found.
    Locating(Locator, Vec<usize>),
    /// What the structures of some items are made of is being found.
    Structures(NodeFinder, Vec<usize>),
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
        let points = planned.points.iter().zip(&*planned.device.points);
        let items = points.map(|(index, point)| Item::new(*index, point, rates)).collect();
        let planned = planned.clone();
        let (stage, is_up, is_silent) = (Stage::Absent(None), false, false);
        let (is_watched, look_again, refused, changed) = (false, None, Vec::new(), BTreeSet::new());
        let grace = None;
        Self { id, place, planned, items, stage, is_up, is_silent, grace, is_watched, look_again, refused, changed }
    }

    /// Whether another description of it watches the same in the same way.
    pub(super) fn is_same(&self, other: &Self) -> bool {
        let described = |item: &Item| Item {
            node: None,
            has_history: false,
            semantics: None,
            found: DataType::Auto,
            turns: 0,
            is_away: true,
            is_settled: false,
            ..item.clone()
        };
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
            self.look_for((0..self.items.len()).collect(), facts);
        }
        if matches!(self.stage, Stage::Watched) && self.look_again.is_some_and(|at| now >= at) {
            let missing = (0..).zip(&self.items).filter(|(_, item)| item.node.is_none()).map(|(place, _)| place);
            self.look_for(missing.collect(), facts);
        }
        if matches!(self.stage, Stage::Watched) && !self.changed.is_empty() {
            let finder = NodeFinder::new([], [], std::mem::take(&mut self.changed));
            self.stage = Stage::Structures(finder, Vec::new());
        }
        if let Stage::Locating(locator, _) = &mut self.stage {
            if let Some(request) = locator.next() {
                return Progress::Ask(Box::new(request));
            }
            if !locator.is_done() {
                return Progress::Wait;
            }
        }
        if let Stage::Structures(finder, _) = &mut self.stage {
            if let Some(request) = finder.next(facts.most) {
                return Progress::Ask(Box::new(request));
            }
            return if finder.is_done() { Progress::Ready } else { Progress::Wait };
        }
        match &self.stage {
            Stage::Locating(..) => Progress::Ready,
            _ => Progress::Wait,
        }
    }

    fn look_for(&mut self, places: Vec<usize>, facts: &ServerFacts) {
        let start = own_device(&self.planned.device).start;
        let points = places.iter().filter_map(|place| self.planned.device.points.get(*place));
        let addresses = points.filter_map(|point| point.opcua().map(|(address, _)| address));
        let locator = Locator::new(start.as_ref(), addresses, &facts.namespaces, facts.most.translate);
        (self.stage, self.look_again) = (Stage::Locating(locator, places), None);
    }

    /// The nodes of some items are found: notes them, and tells which have none.
    pub(super) fn located(&mut self) -> Vec<(usize, NoNode)> {
        let (locator, places) = match std::mem::replace(&mut self.stage, Stage::Watched) {
            Stage::Locating(locator, places) => (locator, places),
            other => {
                self.stage = other;
                return Vec::new();
            }
        };
        let (mut missing, mut there) = (Vec::new(), Vec::new());
        for (place, found) in places.into_iter().zip(locator.found()) {
            let Some(item) = self.items.get_mut(place) else { continue };
            match found {
                Ok(node) => {
                    item.node = Some(node);
                    there.push(place);
                }
                Err(no_node) => missing.push((place, no_node)),
            }
        }
        let items = || there.iter().filter_map(|place| self.items.get(*place));
        let structures = items().filter(|item| item.reader.needs_structure()).filter_map(|item| item.node.clone());
        let described: BTreeSet<_> =
            items().filter(|item| item.leaves_something).filter_map(|item| item.node.clone()).collect();
        let finder = NodeFinder::new(structures, items().filter_map(|item| item.node.clone()), described);
        self.stage = Stage::Structures(finder, there);
        missing
    }

    pub(super) fn answered(&mut self, answer: Result<Response, RequestError>, types: &mut DataTypes) {
        match &mut self.stage {
            Stage::Locating(locator, _) => locator.answered(answer),
            Stage::Structures(finder, _) => finder.answered(answer, types),
            Stage::Absent(_) | Stage::Watched => {}
        }
    }

    /// What was being found is asked for in the next session. What is watched of it already stays so.
    pub(super) fn interrupted(&mut self, now: Instant) {
        if !self.is_watched {
            return self.begin_anew(None);
        }
        match std::mem::replace(&mut self.stage, Stage::Watched) {
            Stage::Watched | Stage::Absent(_) => return,
            Stage::Structures(_, places) => {
                for place in places {
                    self.items.get_mut(place).into_iter().for_each(|item| item.node = None);
                }
            }
            Stage::Locating(..) => {}
        }
        self.look_again = self.items.iter().any(|item| item.node.is_none()).then_some(now);
        let described = self.items.iter().filter(|item| item.leaves_something);
        self.changed.extend(described.filter_map(|item| item.node.clone()));
    }

    /// Nothing is watched of it any more: it begins anew.
    pub(super) fn begin_anew(&mut self, after: Option<Instant>) {
        (self.stage, self.is_watched) = (Stage::Absent(after), false);
        (self.look_again, self.refused) = (None, Vec::new());
        for item in &mut self.items {
            (item.node, item.is_settled) = (None, false);
        }
    }
}

impl Item {
    pub(super) fn new(index: PointIndex, point: &Point, rates: &BTreeMap<Name, Span>) -> Self {
        // The checks let no point pass whose rate is unknown.
        let period = rates.get(&point.settings.rate).copied().unwrap_or(Span::from_millis(1000));
        let own = own(point);
        Self {
            index,
            reader: Reader::new(point),
            period: period.into(),
            // Of methods only values tell changes.
            watch: if own.arguments.is_some() { Watching::Poll } else { own.watch },
            filter: filter(&point.settings),
            element: own.element.map(|element| element.to_string()),
            node: None,
            has_history: false,
            leaves_something: !own.auto.is_empty(),
            semantics: None,
            found: DataType::Auto,
            turns: 0,
            is_away: true,
            is_settled: false,
        }
    }

    /// What it is remembered by, whatever place its namespace has at the server.
    pub(super) fn key(&self, namespaces: &Namespaces) -> Option<String> {
        let node = namespaces.text(self.node.as_ref()?);
        Some(self.element.as_ref().map_or_else(|| node.clone(), |element| format!("{node}[{element}]")))
    }

    /// What is asked of the server, once its node is known.
    pub(super) fn what(&self) -> Option<ReadValueId> {
        let what = attribute_of(self.node.clone()?, self.reader.attribute());
        Some(ReadValueId { index_range: self.element.clone(), ..what })
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
    /// All is known of some items, which are to be watched now; none while something is still being found.
    pub(super) fn ready(&mut self) -> Option<Vec<usize>> {
        let Stage::Structures(finder, places) = self.stage.take_if_done()? else { return None };
        self.is_watched = true;
        for item in &mut self.items {
            if let Some(told) = item.node.as_ref().and_then(|node| finder.semantics.told(node)) {
                item.semantics = Some(told.clone());
            }
        }
        for place in &places {
            if let Some(item) = self.items.get_mut(*place) {
                item.has_history = item.node.as_ref().is_some_and(|node| finder.historic.contains(node));
            }
        }
        Some(places)
    }

    /// What its nodes say of points that leave something to them.
    pub(super) fn semantics(&self) -> Vec<(PointIndex, Semantics)> {
        self.items.iter().filter_map(|item| Some((item.index, item.semantics.clone()?))).collect()
    }

    /// A node says something else of its values from now on: it is asked again.
    pub(super) fn ask_again(&mut self, item: usize) {
        if let Some(item) = self.items.get(item).filter(|item| item.leaves_something) {
            self.changed.extend(item.node.clone());
        }
    }

    /// Another description of it, which is watched in the same way.
    pub(super) fn redescribe(&mut self, place: usize, planned: &PlannedDevice) -> bool {
        self.place = place;
        let is_other = self.planned.device != planned.device;
        if is_other {
            self.planned = planned.clone();
            // What was told of points that mean something else now is forgotten: it is told again.
            self.items.iter_mut().for_each(|item| (item.found, item.is_away) = (DataType::Auto, true));
        }
        is_other
    }

    /// Whether the server is to watch an item.
    pub(super) fn is_subscribed(&self, item: usize) -> bool {
        self.items.get(item).is_some_and(|item| item.watch == Watching::Subscribe)
    }

    /// What is to be read of it again and again, by period.
    pub(super) fn polled(&self, places: &[usize]) -> BTreeMap<Duration, Vec<(usize, ReadValueId)>> {
        let mut periods: BTreeMap<_, Vec<_>> = BTreeMap::new();
        for place in places {
            let item = self.items.get(*place).filter(|item| item.watch == Watching::Poll);
            if let Some((item, what)) = item.and_then(|item| Some((item, item.what()?))) {
                periods.entry(item.period).or_default().push((*place, what));
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

impl Stage {
    /// Takes what was found, when all is.
    fn take_if_done(&mut self) -> Option<Self> {
        let is_done = matches!(self, Self::Structures(finder, _) if finder.is_done());
        is_done.then(|| std::mem::replace(self, Self::Watched))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::link::LinkPlan;
    use interlex_core::PointTable;
    use interlex_core::description::{Files, read};

    #[test]
    fn what_was_being_found_when_the_session_ended_is_asked_for_again_and_what_is_watched_stays() {
        let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"plc\"\nprotocol = \"opcua\"\nurl = \
                    \"opc.tcp://127.0.0.1:4840\"\nsecurity = \"none\"\n[[device]]\nname = \"d\"\nlink = \"plc\"\n\
                    points = \"d.csv\"\n";
        let list = "name,address,type,rate\none,/1:one,uint16,fast\ntwo,/1:two,uint16,fast\n";
        let files = Files::from([("gateway.toml".to_owned(), main.to_owned()), ("d.csv".to_owned(), list.to_owned())]);
        let description = read(&files).unwrap();
        let points = PointTable::new(&description, &PointTable::default());
        let plan = LinkPlan::new(&description, &description.links[0], &points);
        let mut part = Part::new(1, 0, &plan.devices[0], &plan.rates);
        let (facts, now) = (ServerFacts::default(), now());
        let paths = |part: &mut Part| match part.progress(&facts, now) {
            Progress::Ask(request) => match *request {
                Request::TranslateBrowsePathsToNodeIds(request) => request.browse_paths.len(),
                other => panic!("{other:?}"),
            },
            Progress::Wait | Progress::Ready => 0,
        };
        assert_eq!((paths(&mut part), paths(&mut part)), (2, 0), "it waits for the answer");
        part.interrupted(now);
        assert_eq!(paths(&mut part), 2);
        // One is watched, the other was not there, and is looked for again.
        let node = NodeId::numeric(1, 5);
        (part.stage, part.is_watched, part.look_again) = (Stage::Watched, true, Some(now));
        part.items[0].node = Some(node.clone());
        assert_eq!(paths(&mut part), 1);
        part.interrupted(now);
        assert_eq!((part.items[0].node.clone(), paths(&mut part)), (Some(node), 1));
        part.begin_anew(None);
        assert_eq!(paths(&mut part), 2);
    }

    #[expect(clippy::disallowed_methods, reason = "a test starts its time somewhere")]
    fn now() -> Instant {
        Instant::now()
    }
}

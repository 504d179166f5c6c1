//! What a server tells, as samples of points.

use super::driver::{NOT_WATCHED, OpcUaDriver};
use super::part::{Item, Stage};
use crate::link::{DeviceEvent, Outcome, Outcomes, RequestView};
use interlex_core::{ArrayType, DataType, PointIndex, PointTable, RawSample, Reason, SampleKind, Timestamp, iso_time};
use interlex_opcua::{
    BackfillEvent, DataTypes, DataValue, DateTime, FollowEvent, ItemPlace, RequestError, Response, StatusCode,
    WatchEvent,
};
use std::time::{Duration, Instant};

/// What the server does not watch since it is not there is read so often: it may come.
const SELDOM: Duration = Duration::from_secs(30);
/// Silent so often in a row, a device is lost.
const SILENCES: u8 = 2;

/// Source: OPC 10000-4, section 7.38: SemanticsChanged.
const SEMANTICS_CHANGED: u32 = 1 << 14;

impl OpcUaDriver {
    /// Carries on what came of following.
    pub(super) fn listen(&mut self, out: &mut Outcomes) {
        while let Some(event) = self.follower.poll_event() {
            match event {
                FollowEvent::Live(event) => self.live(event, out),
                FollowEvent::Again(group, values) => {
                    let items = values.into_iter().map(|(item, _)| item).collect();
                    self.revive(group, items, out);
                }
                FollowEvent::History(event) => self.history(event, out),
            }
        }
    }

    fn live(&mut self, event: WatchEvent, out: &mut Outcomes) {
        match event {
            WatchEvent::Created { group, interval, subscription } => {
                if let Some(Some(group)) = self.groups.get_mut(group) {
                    (group.is_made, group.is_ready, group.interval) = (true, false, interval);
                    group.subscription = Some(subscription);
                    group.is_first.iter_mut().for_each(|is_first| *is_first = true);
                }
            }
            WatchEvent::Agreed { .. } => {}
            WatchEvent::Refused((group, item), status) => self.not_watched(group, &[item], status, out),
            WatchEvent::GroupRefused(group, error) => self.group_refused(group, &error, out),
            WatchEvent::Ready(number) => {
                if let Some(Some(group)) = self.groups.get_mut(number) {
                    group.is_ready = true;
                    let part = group.part;
                    self.settle(part, out);
                }
            }
            WatchEvent::Values { group, subscription, number, values } => {
                self.values(group, values, out);
                self.told.push((subscription, number));
                self.heard(group, out);
            }
            WatchEvent::Alive(group) => self.heard(group, out),
            WatchEvent::Gap(group) => {
                tracing::debug!(group, "values may be missing");
            }
            WatchEvent::Silent(number) => self.silent(number, out),
        }
    }

    /// Something came from a group: what is known of it holds.
    fn heard(&mut self, number: usize, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get_mut(number) else { return };
        let (was_heard, part) = (group.is_heard, group.part);
        group.hear();
        if !was_heard && !group.is_made {
            // It went on while we were away: what did not change is what it was.
            group.is_ready = true;
            let all = (0..group.items.len()).collect();
            self.revive(number, all, out);
        }
        self.settle(part, out);
    }

    /// What is known of a device is told again: its points may mean something else.
    pub(super) fn tell_again(&mut self, id: u32, out: &mut Outcomes) {
        if let Some(part) = self.part(id) {
            let (place, semantics) = (part.place, part.semantics());
            out.device(place, DeviceEvent::Semantics(semantics));
        }
        for number in 0..self.groups.len() {
            let group = self.groups.get(number).and_then(Option::as_ref);
            if let Some(group) = group.filter(|group| group.part == id && group.is_heard) {
                let all = (0..group.items.len()).collect();
                self.revive(number, all, out);
            }
        }
    }

    /// Values that were told before still hold: they are told again where they were taken for lost.
    fn revive(&mut self, number: usize, items: Vec<usize>, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get_mut(number) else { return };
        let places: Vec<_> = items.into_iter().filter_map(|item| Some((item, *group.items.get(item)?))).collect();
        places.iter().filter_map(|(item, _)| group.is_first.get_mut(*item).map(|first| *first = false)).for_each(drop);
        let id = group.part;
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        let (mut samples, mut types) = (Vec::new(), Vec::new());
        for (item, place) in places {
            let Some(known) = part.items.get_mut(place).filter(|known| known.is_away) else { continue };
            if let Some(value) = self.follower.last((number, item)) {
                let (sample, found) = sample(known, value, SampleKind::Current, &self.types);
                types.extend(found);
                samples.push(sample);
                (known.is_away, known.is_settled) = (false, true);
            }
        }
        tell(part.place, types, samples, out);
    }

    fn values(&mut self, number: usize, values: Vec<(usize, DataValue)>, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get_mut(number) else { return };
        let id = group.part;
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        let (mut samples, mut types, mut changed) = (Vec::with_capacity(values.len()), Vec::new(), Vec::new());
        for (item, value) in values {
            let Some(place) = group.items.get(item).copied() else { continue };
            let Some(known) = part.items.get_mut(place) else { continue };
            if value.status().0 & SEMANTICS_CHANGED != 0 {
                changed.push(place);
            }
            let is_first = group.is_first.get_mut(item).is_some_and(std::mem::take);
            let kind = if is_first { SampleKind::Current } else { SampleKind::Event };
            let (sample, found) = sample(known, &value, kind, &self.types);
            types.extend(found);
            samples.push(sample);
            (known.is_away, known.is_settled) = (false, true);
        }
        changed.into_iter().for_each(|item| part.ask_again(item));
        tell(part.place, types, samples, out);
    }

    fn history(&mut self, event: BackfillEvent, out: &mut Outcomes) {
        let item_of = |this: &Self, (number, item): ItemPlace| {
            let group = this.groups.get(number)?.as_ref()?;
            Some((group.part, *group.items.get(item)?))
        };
        match event {
            BackfillEvent::Values(place, values) => {
                let Some((id, place)) = item_of(self, place) else { return };
                let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
                let Some(item) = part.items.get(place) else { return };
                let samples =
                    values.iter().map(|value| sample(&mut item.clone(), value, SampleKind::Past, &self.types).0);
                let samples: Vec<_> = samples.collect();
                out.batch(|batch| batch.extend(samples));
            }
            BackfillEvent::Filled(_) => {}
            BackfillEvent::Missing(place, status, (from, to)) => {
                let Some((id, place)) = item_of(self, place) else { return };
                let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
                let name = part.point(place).map(|settings| settings.name.to_string()).unwrap_or_default();
                let text = |time: DateTime| time.unix_millis().map(iso_time).unwrap_or_default();
                let why = format!(
                    "values of {name} from {} to {} may be missing: the server has no history of them ({status})",
                    text(from),
                    text(to)
                );
                // Whoever reads the values later finds the gap among them.
                let lost = from.unix_millis().zip(part.items.get(place)).map(|(from, item)| RawSample {
                    source_time: Some(Timestamp::from_millis(from + 1)),
                    kind: SampleKind::Past,
                    ..RawSample::failed(item.index, Reason::OpcUa(StatusCode::BAD_DATA_LOST.0))
                });
                out.device(part.place, DeviceEvent::Error(why));
                out.batch(|batch| batch.extend(lost));
            }
        }
    }

    /// A point has no value, and why.
    pub(super) fn fail(&mut self, id: u32, item: usize, reason: Reason, why: &str, out: &mut Outcomes) {
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        let name = part.point(item).map(|settings| settings.name.to_string()).unwrap_or_default();
        let Some(known) = part.items.get_mut(item) else { return };
        (known.is_away, known.is_settled) = (false, true);
        let index = known.index;
        out.batch(|batch| batch.push(RawSample::failed(index, reason)));
        out.device(part.place, DeviceEvent::Error(format!("{name}: {why}")));
    }

    /// Items that the server does not watch are read: as often as they should be watched, or seldom, where they are not there.
    fn not_watched(&mut self, number: usize, items: &[usize], status: StatusCode, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get(number) else { return };
        let id = group.part;
        let places: Vec<_> = items.iter().filter_map(|item| group.items.get(*item).copied()).collect();
        let is_there = NOT_WATCHED.contains(&status.code());
        for place in places {
            if !is_there {
                self.fail(id, place, Reason::OpcUa(status.code().0), &status.to_string(), out);
            }
            let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
            let Some(item) = part.items.get(place) else { continue };
            let period = if is_there { item.period } else { item.period.max(SELDOM) };
            if let Some(what) = item.what() {
                self.poller.add(id, period, vec![(place, what)], now());
            }
            if !is_there && let Some(part) = self.parts.iter_mut().find(|part| part.id == id) {
                part.refused.push(place);
            }
        }
    }

    fn group_refused(&mut self, number: usize, error: &RequestError, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get(number) else { return };
        let (id, all) = (group.part, (0..group.items.len()).collect::<Vec<_>>());
        if let RequestError::Fault(status) = error
            && NOT_WATCHED.contains(&status.code())
        {
            self.not_watched(number, &all, *status, out);
            self.follower.remove(number);
            self.groups.get_mut(number).into_iter().for_each(|group| *group = None);
        }
        let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
        out.device(part.place, DeviceEvent::Error(format!("the server does not watch its points: {error}")));
        self.show_requests(id, out);
    }

    fn silent(&mut self, number: usize, out: &mut Outcomes) {
        let Some(Some(group)) = self.groups.get_mut(number) else { return };
        group.silences = group.silences.saturating_add(1);
        let (id, is_lost) = (group.part, group.silences >= SILENCES);
        // What is asked for anew may tell more; the probe shows whether the server is there at all.
        self.follower.renew(number);
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        let why = "the server tells nothing of it, not even that nothing changed";
        if is_lost && !part.is_silent {
            (part.is_silent, part.is_up) = (true, false);
            part.items.iter_mut().for_each(|item| item.is_away = true);
            out.device(part.place, DeviceEvent::Silent(Reason::Timeout, why.to_owned()));
        } else {
            out.device(part.place, DeviceEvent::Error(why.to_owned()));
        }
    }

    /// Tells that a device is up, once something is known of all its points.
    pub(super) fn settle(&mut self, id: u32, out: &mut Outcomes) {
        let now = now();
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        if part.is_up || !matches!(part.stage, Stage::Watched) {
            return;
        }
        let mut groups = self.groups.iter().flatten().filter(|group| group.part == id);
        if !groups.all(|group| group.is_ready && group.silences == 0) {
            return;
        }
        let is_late = part.grace.is_some_and(|grace| now >= grace);
        let mut open = (0..).zip(&part.items).filter(|(_, item)| !item.is_settled || item.is_away);
        let first = open.next().and_then(|(place, _)| part.point(place)).map(|settings| settings.name.to_string());
        let others = open.count();
        if first.is_some() && !is_late {
            return;
        }
        if let Some(first) = first {
            let others = if others > 0 { format!(" and {others} more") } else { String::new() };
            out.device(part.place, DeviceEvent::Error(format!("the server tells nothing of {first}{others}")));
        }
        (part.is_up, part.is_silent, part.grace) = (true, false, None);
        out.device(part.place, DeviceEvent::Up);
    }

    /// What is known of points still holds, as long as their groups live and the server works.
    pub(super) fn confirm(&mut self, now: Instant, out: &mut Outcomes) {
        for group in self.groups.iter_mut().flatten() {
            if !group.is_to_be_confirmed(now) || !self.is_running {
                continue;
            }
            let Some(part) = self.parts.iter().find(|part| part.id == group.part) else { continue };
            let items = group.items.iter().filter_map(|place| part.items.get(*place));
            let points: Vec<_> = items.filter(|item| !item.is_away).map(|item| item.index).collect();
            out.push(Outcome::Confirmed(points));
        }
    }

    /// A round of reading was answered.
    pub(super) fn polled(
        &mut self,
        number: u32,
        outcome: Result<Response, RequestError>,
        late: Duration,
        out: &mut Outcomes,
    ) {
        let Some(read) = self.poller.answered(number, outcome) else { return };
        let (id, values) = match read {
            Ok(read) => read,
            Err((id, status)) => {
                let Some(part) = self.parts.iter().find(|part| part.id == id) else { return };
                out.device(part.place, DeviceEvent::Error(format!("its points are not read: {status}")));
                return;
            }
        };
        let Some(part) = self.parts.iter_mut().find(|part| part.id == id) else { return };
        let (mut samples, mut types) = (Vec::with_capacity(values.len()), Vec::new());
        let (mut period, mut come) = (None, Vec::new());
        for (place, value) in values {
            let Some(item) = part.items.get_mut(place) else { continue };
            if !value.status().is_bad() && part.refused.contains(&place) {
                come.push(place);
            }
            let (sample, found) = sample(item, &value, SampleKind::Current, &self.types);
            types.extend(found);
            samples.push(sample);
            (item.is_away, item.is_settled) = (false, true);
            period = Some(item.period);
        }
        tell(part.place, types, samples, out);
        out.push(Outcome::Polled { period: period.unwrap_or_default(), interval: None, lateness: late });
        self.come(id, &come);
        self.settle(id, out);
    }

    /// What was not there is there now: its groups are watched anew, with it.
    fn come(&mut self, id: u32, places: &[usize]) {
        if places.is_empty() {
            return;
        }
        if let Some(part) = self.parts.iter_mut().find(|part| part.id == id) {
            part.refused.retain(|place| !places.contains(place));
        }
        self.poller.forget(id, places);
        for (number, group) in self.groups.iter().enumerate() {
            if group
                .as_ref()
                .is_some_and(|group| group.part == id && places.iter().any(|place| group.items.contains(place)))
            {
                self.follower.renew(number);
            }
        }
    }

    /// What the server is asked again and again, and what it watches, in words.
    pub(super) fn views(&self, points: &PointTable) -> Vec<RequestView> {
        let milliseconds = |span: Duration| u64::try_from(span.as_millis()).unwrap_or(u64::MAX);
        let view = |id: u32, reads: String, period: Duration, items: &[usize], bad: Option<String>| {
            let part = self.parts.iter().find(|part| part.id == id)?;
            let indices = items.iter().filter_map(|place| part.items.get(*place)).map(|item| item.index);
            let names = indices.filter_map(|index| points.get(index)).map(|info| info.name().to_owned());
            Some(RequestView {
                devices: vec![part.name().to_owned()],
                reads,
                period_ms: milliseconds(period),
                points: names.collect(),
                as_planned: true,
                bad,
                whole_again_in_ms: None,
            })
        };
        let watched = self.groups.iter().flatten().filter_map(|group| {
            let reads = format!("subscription of {} nodes", group.items.len());
            let bad = (group.silences > 0).then(|| "it tells nothing".to_owned());
            view(group.part, reads, group.interval, &group.items, bad)
        });
        let read = self.poller.views().filter_map(|(id, period, items)| {
            view(id, format!("reading of {} nodes", items.len()), period, &items, None)
        });
        watched.chain(read).collect()
    }
}

/// A node whose values were of other types so often has text from then on: brokers are told of each type that a point takes.
const TURNS: u8 = 3;

/// What a point is that was of a type, and is told as another: of matrices whose lengths change, a list.
fn list_of(before: DataType, found: DataType) -> DataType {
    match (before, found) {
        (DataType::Array(before), DataType::Array(found)) if before != found && before.element == found.element => {
            DataType::Array(ArrayType::list(found.element))
        }
        _ => found,
    }
}

/// A value as a sample of its point, and the type that the point has from now on, where that is another one.
fn sample(
    item: &mut Item,
    value: &DataValue,
    kind: SampleKind,
    types: &DataTypes,
) -> (RawSample, Option<(PointIndex, DataType)>) {
    let mut read = item.reader.read(value, types);
    if item.turns >= TURNS {
        read = read.into_text();
    }
    let found = read.data_type.map(|found| list_of(item.found, found));
    let found = found.filter(|found| *found != item.found).map(|found| {
        if item.found != DataType::Auto {
            item.turns = item.turns.saturating_add(1);
        }
        item.found = found;
        (item.index, found)
    });
    let sample = RawSample {
        value: read.value,
        quality: read.quality,
        source_time: read.time,
        kind,
        ..RawSample::failed(item.index, Reason::NeverRead)
    };
    (sample, found)
}

/// Tells types before the values that have them.
fn tell(place: usize, types: Vec<(PointIndex, DataType)>, samples: Vec<RawSample>, out: &mut Outcomes) {
    if !types.is_empty() {
        out.device(place, DeviceEvent::Types(types));
    }
    if !samples.is_empty() {
        out.batch(|batch| batch.extend(samples));
    }
}

fn now() -> Instant {
    tokio::time::Instant::now().into_std()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::opcua::mapping::tests::point;
    use interlex_opcua::Variant;
    use std::collections::BTreeMap;

    #[test]
    fn a_matrix_whose_lengths_change_is_a_list() {
        let type_of = |text: &str| text.parse::<DataType>().unwrap();
        for (before, found, is) in [
            ("auto", "int32[2,3]", "int32[2,3]"),
            ("int32[2,3]", "int32[2,3]", "int32[2,3]"),
            ("int32[2,3]", "int32[3,3]", "int32[]"),
            ("int32[]", "int32[3,3]", "int32[]"),
            ("int32[]", "float64[3,3]", "float64[3,3]"),
        ] {
            assert_eq!(list_of(type_of(before), type_of(found)), type_of(is), "{before} {found}");
        }
    }

    #[test]
    fn a_node_that_keeps_changing_its_type_is_text_in_the_end() {
        let (mut item, types) = (Item::new(PointIndex(0), &point(",,"), &BTreeMap::new()), DataTypes::default());
        let mut told = |value: Variant| {
            let value = DataValue { value: Some(value), ..DataValue::default() };
            let (sample, found) = sample(&mut item, &value, SampleKind::Current, &types);
            (sample.value.unwrap().to_string(), found.map(|(_, data_type)| data_type.to_string()))
        };
        let found = |value: &str, data_type: &str| (value.to_owned(), Some(data_type.to_owned()));
        for _ in 0..2 {
            assert_eq!(told(1.5.into()), found("1.5", "float64"));
            assert_eq!(told(true.into()), found("true", "bool"));
        }
        assert_eq!(told(2.5.into()), found("2.5", "string(250)"));
        assert_eq!(told(true.into()), ("true".to_owned(), None));
    }
}

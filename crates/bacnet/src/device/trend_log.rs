use crate::apdu::Error;
use crate::primitive::{Content, DateTime, ObjectIdentifier, PropertyIdentifier};
use crate::service::{LogDatum, LogRecord, Range, ReadRange, ReadRangeAck};
use std::collections::VecDeque;
use std::time::Duration;

/// Records of what a property was, each with its number: the so manieth ever written.
///
/// Source: ASHRAE 135-2016, clause 12.25.
#[derive(Debug, Clone)]
pub struct TrendLog {
    /// Whose present value is logged.
    pub source: ObjectIdentifier,
    /// How often.
    pub interval: Duration,
    records: VecDeque<LogRecord>,
    most: usize,
    /// The number of the last one; 0 of none yet.
    total: u32,
}

/// So many octets stand around the records of an answer.
const AROUND: usize = 40;

impl TrendLog {
    /// An empty one that keeps so many records.
    #[must_use]
    pub const fn new(source: ObjectIdentifier, interval: Duration, most: usize) -> Self {
        Self { source, interval, records: VecDeque::new(), most, total: 0 }
    }

    /// Adds a record; the oldest one goes where there is no room.
    pub fn push(&mut self, record: LogRecord) {
        if self.records.len() >= self.most {
            self.records.pop_front();
        }
        self.records.push_back(record);
        // Behind the last number comes 1.
        self.total = if self.total == u32::MAX { 1 } else { self.total + 1 };
    }

    /// Removes all records, and notes that.
    pub fn purge(&mut self, at: DateTime) {
        self.records.clear();
        self.total = 0;
        let datum = LogDatum::Status { is_disabled: false, is_purged: true, is_interrupted: false };
        self.push(LogRecord { at, datum, status_flags: None });
    }

    /// Numbers go on from there.
    pub const fn count_from(&mut self, total: u32) {
        self.total = total;
    }

    /// The records, oldest first.
    pub fn records(&self) -> impl Iterator<Item = &LogRecord> {
        self.records.iter()
    }

    /// How many records there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.records.len()
    }

    /// The number of the last one.
    #[must_use]
    pub const fn total(&self) -> u32 {
        self.total
    }

    /// How many records it keeps.
    #[must_use]
    pub const fn most(&self) -> usize {
        self.most
    }

    /// The number of a record, by its place.
    fn sequence(&self, at: usize) -> u32 {
        let back = u32::try_from(self.records.len() - 1 - at).unwrap_or_default();
        // 0 is no number.
        if back < self.total { self.total - back } else { u32::MAX - (back - self.total) }
    }

    /// Some records, as many as there is room for.
    ///
    /// # Errors
    /// [`Error`], where there are none so.
    pub fn read(&self, asked: &ReadRange, room: usize) -> Result<ReadRangeAck, Error> {
        if asked.reference.property != PropertyIdentifier::LOG_BUFFER {
            return Err(Error::NOT_AN_ARRAY);
        }
        let all = self.records.len();
        let place = |number: u32| (0..all).find(|at| self.sequence(*at) == number);
        let span = |first: usize, count: i16| {
            let many = usize::from(count.unsigned_abs());
            if count > 0 { (first, (first + many).min(all)) } else { ((first + 1).saturating_sub(many), first + 1) }
        };
        let (from, to) = match asked.range {
            None => (0, all),
            Some(Range::Position(first, count)) => {
                match usize::try_from(first).ok().filter(|first| (1..=all).contains(first)) {
                    Some(first) => span(first - 1, count),
                    None => (0, 0),
                }
            }
            Some(Range::Sequence(number, count)) => place(number).map_or((0, 0), |first| span(first, count)),
            Some(Range::Time(moment, count)) => {
                let moment = moment.local_millis().ok_or(Error::VALUE_OUT_OF_RANGE)?;
                let at = |record: &LogRecord| record.at.local_millis().unwrap_or_default();
                if count > 0 {
                    let first = self.records.iter().position(|record| at(record) > moment);
                    first.map_or((0, 0), |first| span(first, count))
                } else {
                    let last = self.records.iter().rposition(|record| at(record) < moment);
                    last.map_or((0, 0), |last| span(last, count))
                }
            }
        };
        // What does not fit is left out at the far end: behind what was asked for, or before it.
        let is_back =
            matches!(asked.range, Some(Range::Position(_, ..0) | Range::Sequence(_, ..0) | Range::Time(_, ..0)));
        let mut sizes = 0;
        let mut fits = |at: usize| {
            let mut octets = Vec::new();
            if let Some(record) = self.records.get(at) {
                record.encode(&mut octets);
            }
            sizes += octets.len();
            sizes + AROUND <= room
        };
        let (from, to, has_more) = if is_back {
            let first = (from..to).rev().take_while(|at| fits(*at)).last().unwrap_or(to);
            (first, to, first > from)
        } else {
            let end = (from..to).take_while(|at| fits(*at)).last().map_or(from, |last| last + 1);
            (from, end, end < to)
        };
        let mut octets = Vec::new();
        self.records.range(from..to).for_each(|record| record.encode(&mut octets));
        let is_numbered = matches!(asked.range, Some(Range::Sequence(..) | Range::Time(..)));
        Ok(ReadRangeAck {
            object: asked.object,
            reference: asked.reference,
            has_first: from == 0 && to > 0,
            has_last: to == all && to > from,
            has_more,
            count: u32::try_from(to - from).unwrap_or_default(),
            items: Content::checked(&octets),
            first_sequence: (is_numbered && to > from).then(|| self.sequence(from)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::primitive::{ObjectType, Value};

    fn log(records: u32, most: usize) -> TrendLog {
        let source = ObjectIdentifier::new(ObjectType::ANALOG_INPUT, 1).unwrap();
        let mut log = TrendLog::new(source, Duration::from_secs(60), most);
        log.count_from(u32::MAX - 2);
        for number in 0..records {
            let at = DateTime::of_local_millis(1_709_251_200_000 + i64::from(number) * 60_000).unwrap();
            log.push(LogRecord { at, datum: LogDatum::Value(Value::Unsigned(number.into())), status_flags: None });
        }
        log
    }

    #[test]
    fn records_are_found_by_place_number_and_time_and_one_follows_the_last_number() {
        let log = log(6, 100);
        let object = ObjectIdentifier::new(ObjectType::TREND_LOG, 1).unwrap();
        let read = |range, room| {
            let reference = PropertyIdentifier::LOG_BUFFER.into();
            let ack = log.read(&ReadRange { object, reference, range: Some(range) }, room).unwrap();
            let values: Vec<String> = LogRecord::decode_all(&ack.items)
                .unwrap()
                .into_iter()
                .map(|record| if let LogDatum::Value(value) = record.datum { value.to_string() } else { String::new() })
                .collect();
            (values.join(" "), ack.first_sequence, (ack.has_first, ack.has_last, ack.has_more))
        };
        assert_eq!((0..6).map(|at| log.sequence(at)).collect::<Vec<_>>(), [u32::MAX - 1, u32::MAX, 1, 2, 3, 4]);
        assert_eq!(read(Range::Position(2, 3), 1400), ("1 2 3".to_owned(), None, (false, false, false)));
        assert_eq!(read(Range::Sequence(u32::MAX, 3), 1400).0, "1 2 3");
        assert_eq!(read(Range::Sequence(4, -2), 1400), ("4 5".to_owned(), Some(3), (false, true, false)));
        assert_eq!(read(Range::Sequence(77, 2), 1400), (String::new(), None, (false, false, false)));
        let moment = DateTime::of_local_millis(1_709_251_200_000 + 90_000).unwrap();
        assert_eq!(read(Range::Time(moment, 10), 1400), ("2 3 4 5".to_owned(), Some(1), (false, true, false)));
        assert_eq!(read(Range::Time(moment, -10), 1400).0, "0 1");
        // 18 octets a record.
        assert_eq!(read(Range::Position(1, 6), AROUND + 40), ("0 1".to_owned(), None, (true, false, true)));
        assert_eq!(read(Range::Sequence(4, -6), AROUND + 40).0, "4 5", "what lies before the end is nearest");
        assert_eq!(tests::log(6, 4).sequence(0), 1, "the oldest ones went");
    }
}

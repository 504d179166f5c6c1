//! What is done once with an outstation: values read and written, and what it has.

use super::frames::{Dnp3Frames, peer};
use super::mapping::{described, kind, quality, value};
use crate::error::TrialError;
use crate::link::{
    Answer, CommandId, DeviceAct, FrameFilter, FrameLog, FrameRing, FrameView, IdentityObject, PointWrite, Said,
    TrialAct, TrialIdentity, TrialRead, TrialReading, WriteError, WriteOutcome, milliseconds,
};
use interlex_core::description::{Dnp3ControlForm, Dnp3ControlMode, Dnp3Kind, Point};
use interlex_core::{DataType, Offer, OfferEvent, OutcomeWord, Quality, Value, iso_time, raw_to_write};
use interlex_dnp3::{
    Block, Command, CommandAnswer, CommandStatus, ControlRelayOutputBlock, FunctionCode, LinkAddress, Measurement,
    Number, Object, Operation, TripClose, Variation,
};
use serde_json::{Map, json};
use std::time::Duration;
use tokio::time::Instant;

/// What is to be done.
pub(super) enum Errand {
    Read(Box<TrialRead>),
    /// With the raw value that is written.
    Write(Box<PointWrite>, Value),
    Identify,
    Offers,
    Act(DeviceAct),
}

/// What is under way.
pub(super) struct UnderWay {
    pub(super) id: CommandId,
    /// Its number with the master.
    pub(super) number: interlex_dnp3::CommandId,
    pub(super) address: LinkAddress,
    pub(super) errand: Errand,
    pub(super) sent: Instant,
    /// The newest frame when it was given.
    pub(super) after: u64,
    pub(super) told: Vec<Measurement>,
    pub(super) others: Vec<Block>,
    /// What was taken, while the point is read back.
    pub(super) taken: Option<Box<WriteOutcome>>,
}

/// What comes of an answer.
pub(super) enum Next {
    Done(Answer),
    /// The output is read back, now or a moment later.
    Ask(UnderWay, Command),
    Later(UnderWay, Duration),
}

impl Errand {
    /// A write, with what is sent for it.
    pub(super) fn write(write: PointWrite) -> Result<(Self, Command), WriteError> {
        let raw = raw_to_write(&write.point, &write.value)?;
        let command = command(&write, &raw)?;
        Ok((Self::Write(Box::new(write), raw), command))
    }

    /// A read, with what is asked for it.
    pub(super) fn read(read: TrialRead) -> Result<(Self, Command), TrialError> {
        let Some((address, _)) = read.point.dnp3() else {
            return Err(TrialError::Request("the link speaks DNP3, and the address does not".to_owned()));
        };
        let variation = Variation::new(kind(address.kind).group(), 0);
        let block = Block::range(variation, address.index.into(), address.index.into());
        Ok((Self::Read(Box::new(read)), Command::Read(vec![block])))
    }

    /// What its master is told for an act; none for what the link layer alone answers.
    pub(super) fn act(act: DeviceAct) -> (Self, Option<Command>) {
        let counters = || vec![Block::all(20, 0)];
        let command = match act {
            DeviceAct::LinkStatus => None,
            DeviceAct::ReadEverything => {
                Some(Command::Read([2, 3, 4, 1].map(|variation| Block::all(60, variation)).to_vec()))
            }
            DeviceAct::FreezeCounters => Some(Command::Act(FunctionCode::IMMEDIATE_FREEZE, counters())),
            DeviceAct::FreezeAndClearCounters => Some(Command::Act(FunctionCode::FREEZE_CLEAR, counters())),
            DeviceAct::WarmRestart => Some(Command::Act(FunctionCode::WARM_RESTART, Vec::new())),
            DeviceAct::ColdRestart => Some(Command::Act(FunctionCode::COLD_RESTART, Vec::new())),
        };
        (Self::Act(act), command)
    }

    pub(super) fn identify() -> (Self, Command) {
        (Self::Identify, Command::Read(vec![Block::all(0, 254)]))
    }

    pub(super) fn offers() -> (Self, Command) {
        (Self::Offers, Command::Read(vec![Block::all(60, 1)]))
    }

    /// What it is answered with when nothing was done.
    pub(super) fn refused(&self, error: TrialError) -> Answer {
        match self {
            Self::Read(_) => Answer::Read(Err(error)),
            Self::Write(..) => Answer::Written(Err(error.into())),
            Self::Identify | Self::Offers | Self::Act(_) => Answer::Found(Err(error)),
        }
    }
}

/// What is sent to an output.
fn command(write: &PointWrite, raw: &Value) -> Result<Command, WriteError> {
    let refused = |why: String| WriteError::Value(why);
    let Some((address, own)) = write.point.dnp3() else {
        return Err(refused("the link speaks DNP3, and the address does not".to_owned()));
    };
    let (variation, object) = match (address.kind, raw) {
        (Dnp3Kind::BinaryOutput, Value::Bool(state)) => {
            let (operation, trip_close) = match (own.control, state) {
                (Dnp3ControlForm::Latch, true) => (Operation::LatchOn, TripClose::Nul),
                (Dnp3ControlForm::Latch, false) => (Operation::LatchOff, TripClose::Nul),
                (Dnp3ControlForm::Pulse, true) => (Operation::PulseOn, TripClose::Nul),
                (Dnp3ControlForm::Pulse, false) => {
                    return Err(refused("a pulse is sent by true, and false does nothing".to_owned()));
                }
                (Dnp3ControlForm::TripClose, true) => (Operation::PulseOn, TripClose::Close),
                (Dnp3ControlForm::TripClose, false) => (Operation::PulseOn, TripClose::Trip),
            };
            let is_pulse = own.control != Dnp3ControlForm::Latch;
            let (count, on_time, off_time) = if is_pulse { (own.pulses, own.pulse, own.pause) } else { (1, 0, 0) };
            let block = ControlRelayOutputBlock {
                operation,
                trip_close,
                count,
                on_time,
                off_time,
                ..ControlRelayOutputBlock::default()
            };
            (Variation::new(12, 1), Object::Control(block))
        }
        (Dnp3Kind::AnalogOutput, raw) => {
            let (variation, number) = setting(raw, write.point.settings.data_type)
                .ok_or_else(|| refused(format!("{raw} has no form for an analog output")))?;
            (Variation::new(41, variation), Object::Setting { number, status: CommandStatus::SUCCESS })
        }
        _ => return Err(refused(format!("{address} cannot be commanded"))),
    };
    // A breaker may have another output for tripping.
    let trips = *raw == Value::Bool(false);
    let index = own.trip_index.filter(|_| trips).unwrap_or(address.index);
    let block = Block::indexed(variation, [(index.into(), object)]);
    Ok(match own.operate {
        Dnp3ControlMode::Select => Command::SelectOperate(block),
        Dnp3ControlMode::Direct => Command::DirectOperate(block),
    })
}

/// A value as the setting of an analog output: in the type that is described, else as single precision, which most devices take.
#[expect(clippy::cast_possible_truncation, reason = "the nearest single-precision number is meant")]
fn setting(raw: &Value, described: DataType) -> Option<(u8, Number)> {
    let whole = match raw {
        Value::Int(number) => Some(*number),
        Value::Uint(number) => i64::try_from(*number).ok(),
        _ => None,
    };
    Some(match described {
        DataType::Int16 | DataType::Int8 | DataType::Uint8 => (2, Number::Int16(whole?.try_into().ok()?)),
        DataType::Float64 => (4, Number::Float64(raw.as_f64()?)),
        DataType::Auto | DataType::Float32 => {
            (3, Number::Float32(Some(raw.as_f64()? as f32).filter(|number| number.is_finite())?))
        }
        _ => (1, Number::Int32(whole?.try_into().ok()?)),
    })
}

impl UnderWay {
    /// The answer of the outstation has come, or it is known that none does.
    pub(super) fn answered(mut self, answer: &CommandAnswer, ring: &FrameRing<Dnp3Frames>, target: &str) -> Next {
        if let Some(mut taken) = self.taken.take() {
            self.read_back(&mut taken);
            // What it says of its state follows what it does.
            let (within, again) = self.follows();
            let may_follow = taken.confirmed == Some(false) && self.sent.elapsed() < within;
            if may_follow && matches!(answer, CommandAnswer::Accepted(_)) {
                self.taken = Some(taken);
                return Next::Later(self, again);
            }
            return Next::Done(self.written(*taken));
        }
        let frames = self.frames(ring);
        if let (Errand::Write(write, raw), CommandAnswer::Accepted(_)) = (&self.errand, answer) {
            let accepted = accepted(write, raw, self.sent.elapsed(), frames);
            let Some(block) = read_back(write) else {
                return Next::Done(Answer::Written(Ok(accepted.told(&write.value))));
            };
            self.told.clear();
            self.taken = Some(Box::new(accepted));
            return Next::Ask(self, Command::Read(vec![block]));
        }
        Next::Done(self.done(answer, frames, target))
    }

    fn frames(&self, ring: &FrameRing<Dnp3Frames>) -> Vec<FrameView> {
        let peer = peer(self.address.0);
        let filter = FrameFilter { after: Some(self.after), ..FrameFilter::default() };
        ring.view(&filter).into_iter().filter(|frame| frame.peer.as_ref() == Some(&peer)).collect()
    }

    /// The same is read back once more.
    pub(super) fn again(mut self) -> Option<(Self, Command)> {
        self.told.clear();
        let Errand::Write(write, _) = &self.errand else { return None };
        let block = read_back(write)?;
        Some((self, Command::Read(vec![block])))
    }

    /// How long what shows its outcome may take to follow, and when it is looked at again.
    fn follows(&self) -> (Duration, Duration) {
        match &self.errand {
            Errand::Write(write, _) if feedback(write).is_some() => (FEEDBACK, LOOKS),
            _ => (FOLLOWS, LOOKS_SOON),
        }
    }

    /// What became of it so far.
    pub(super) fn given_up(mut self, error: TrialError) -> Answer {
        match self.taken.take() {
            Some(taken) => self.written(*taken),
            None => self.errand.refused(error),
        }
    }

    fn written(&self, outcome: WriteOutcome) -> Answer {
        let asked = match &self.errand {
            Errand::Write(write, _) => write.value.clone(),
            _ => outcome.written.clone(),
        };
        Answer::Written(Ok(outcome.told(&asked)))
    }

    /// The output was taken; what it says now makes that certain, or not.
    fn read_back(&self, outcome: &mut WriteOutcome) {
        let Errand::Write(write, written) = &self.errand else { return };
        let feedback = feedback(write);
        let point = feedback.unwrap_or(&write.point);
        let is_meant = |told: &&Measurement| {
            point.dnp3().is_some_and(|(address, _)| {
                (told.kind, told.index) == (kind(address.kind), address.index.into()) && !told.is_event
            })
        };
        match self.told.iter().rev().find(is_meant).and_then(|told| value(&told.value, point.raw_type())) {
            Some(raw) => {
                let is_double = point.dnp3().is_some_and(|(address, _)| address.kind == Dnp3Kind::DoubleBit);
                let is_same = match (written, raw.as_f64(), written.as_f64()) {
                    // Of two contacts, one is closed where it is off, and the other one where it is on.
                    (Value::Bool(state), Some(now), _) if is_double => now == if *state { 2.0 } else { 1.0 },
                    (_, Some(now), Some(then)) => {
                        (now - then).abs() <= (then.abs() * 1e-6).max(feedback.map_or(0.0, |of| of.settings.deadband))
                    }
                    _ => raw == *written,
                };
                outcome.confirmed = Some(is_same);
                outcome.value = Some(point.shaping.apply(&raw));
                (outcome.raw, outcome.answer) = (Some(raw), None);
            }
            None => outcome.read_back_error = Some("the outstation does not say its state".into()),
        }
    }

    fn done(self, answer: &CommandAnswer, frames: Vec<FrameView>, target: &str) -> Answer {
        let peer = peer(self.address.0);
        let took = self.sent.elapsed();
        let refused = |why: String| TrialError::Device { peer: peer.clone(), why, frames: frames.clone() };
        match (&self.errand, answer) {
            // That is read back first.
            (Errand::Write(write, raw), CommandAnswer::Accepted(_)) => {
                Answer::Written(Ok(accepted(write, raw, took, frames)))
            }
            (Errand::Write(..), CommandAnswer::Refused(why)) => Answer::Written(Err(refused(why.to_string()).into())),
            (Errand::Write(..), CommandAnswer::Unknown(why)) => {
                Answer::Written(Err(WriteError::Unknown { why: format!("{peer}: {why}"), frames }))
            }
            (Errand::Act(_), CommandAnswer::Refused(why)) => Answer::Found(Err(refused(why.to_string()))),
            (Errand::Act(act), CommandAnswer::Accepted(delay)) => {
                let events = self.told.iter().filter(|told| told.is_event).count();
                let said = match (act, delay) {
                    (DeviceAct::LinkStatus, _) => "its link layer answers".to_owned(),
                    (DeviceAct::ReadEverything, _) => {
                        format!("it told {} points and {events} events", self.told.len() - events)
                    }
                    (_, Some(delay)) => format!("it does so, and is there again in {delay} ms"),
                    _ => "it has done so".to_owned(),
                };
                Answer::Found(Ok(Box::new(TrialAct { said, answer_ms: milliseconds(took), frames })))
            }
            (errand, CommandAnswer::Unknown(why)) => errand.refused(refused(why.to_string())),
            (errand, CommandAnswer::Refused(interlex_dnp3::Refusal::NotSent)) => {
                errand.refused(TrialError::Lost { target: target.to_owned(), why: "it was given up".to_owned() })
            }
            (Errand::Read(read), answer) => match reading(read, &self.told, took, frames.clone()) {
                Some(reading) => Answer::Read(Ok(reading)),
                None => {
                    let why = match answer {
                        CommandAnswer::Refused(why) => why.to_string(),
                        _ => "it has no such point".to_owned(),
                    };
                    Answer::Read(Err(refused(why)))
                }
            },
            (Errand::Identify, answer) => {
                let objects = attributes(&self.others);
                match answer {
                    CommandAnswer::Refused(why) if objects.is_empty() => {
                        Answer::Found(Err(refused(format!("it says nothing of itself: {why}"))))
                    }
                    _ => Answer::Found(Ok(Box::new(TrialIdentity { conformity: None, objects, frames }))),
                }
            }
            (Errand::Offers, CommandAnswer::Refused(why)) if self.told.is_empty() => {
                Answer::Found(Err(refused(why.to_string())))
            }
            (Errand::Offers, _) => {
                let offers = self.told.iter().map(offer).collect();
                Answer::Found(Ok(Box::new(vec![OfferEvent::Points { offers }, OfferEvent::Done { requests: 1 }])))
            }
        }
    }
}

/// So long the state of an output may take to follow its command, and so long what it moves.
const FOLLOWS: Duration = Duration::from_secs(1);
const FEEDBACK: Duration = Duration::from_secs(5);
/// They are read again after this.
const LOOKS_SOON: Duration = Duration::from_millis(50);
const LOOKS: Duration = Duration::from_millis(200);

/// The point that shows what a command comes to, where there is one.
fn feedback(write: &PointWrite) -> Option<&Point> {
    let (_, own) = write.point.dnp3()?;
    let name = own.feedback.as_deref()?;
    write.device.points.iter().map(AsRef::as_ref).find(|point| point.settings.name.as_str() == name)
}

/// What says what a command came to: outputs that stay as they are set say it themselves.
fn read_back(write: &PointWrite) -> Option<Block> {
    if let Some((address, _)) = feedback(write).and_then(Point::dnp3) {
        let variation = Variation::new(kind(address.kind).group(), 0);
        return Some(Block::range(variation, address.index.into(), address.index.into()));
    }
    let (address, own) = write.point.dnp3()?;
    let stays = address.kind == Dnp3Kind::AnalogOutput || own.control == Dnp3ControlForm::Latch;
    let variation = Variation::new(kind(address.kind).group(), 0);
    stays.then(|| Block::range(variation, address.index.into(), address.index.into()))
}

fn accepted(write: &PointWrite, raw: &Value, took: Duration, frames: Vec<FrameView>) -> WriteOutcome {
    let point = &write.point;
    WriteOutcome {
        outcome: OutcomeWord::Accepted,
        words: String::new(),
        address: point.address.to_string(),
        written: raw.clone(),
        taken: point.shaping.apply(raw),
        raw: None,
        value: None,
        unit: point.settings.unit.clone(),
        confirmed: None,
        read_back_error: None,
        answer: Some("the outstation says success".into()),
        answer_ms: milliseconds(took),
        shared_connection: false,
        frames,
    }
}

fn reading(read: &TrialRead, told: &[Measurement], took: Duration, frames: Vec<FrameView>) -> Option<TrialReading> {
    let point = &read.point;
    let (address, _) = point.dnp3()?;
    let is_meant = |told: &&Measurement| (told.kind, told.index) == (kind(address.kind), address.index.into());
    let told = told.iter().rev().find(is_meant)?;
    let raw = value(&told.value, point.raw_type());
    let mut said = Vec::new();
    match quality(told) {
        Quality::Good => said.push(Said::new("flags", "online")),
        other => said.extend(other.reason().map(|reason| Said::new("flags", super::words(reason)))),
    }
    if let Some(time) = told.time.and_then(|time| i64::try_from(time.millis).ok()) {
        said.push(Said::new("time", iso_time(time)));
    }
    Some(TrialReading {
        address: point.address.to_string(),
        registers: Vec::new(),
        value: raw.as_ref().map(|raw| point.shaping.apply(raw)),
        raw,
        unit: point.settings.unit.clone(),
        answer_ms: milliseconds(took),
        shared_connection: false,
        frames,
        alternatives: Vec::new(),
        said,
    })
}

/// What an outstation says of itself.
///
/// Source: IEEE 1815-2012, annex A.1 (group 0).
fn attributes(blocks: &[Block]) -> Vec<IdentityObject> {
    let entries = blocks.iter().flat_map(|block| block.entries.iter().map(|entry| (block.variation.variation, entry)));
    let told = entries.filter_map(|(id, entry)| match &entry.object {
        Object::Attribute { code, octets } => Some((id, attribute(*code, octets))),
        _ => None,
    });
    let named = |(id, value): (u8, String)| {
        let name = NAMES.iter().find(|(known, _)| *known == id);
        IdentityObject {
            id,
            name: name.map_or_else(|| format!("attribute {id}"), |(_, name)| (*name).to_owned()),
            value,
        }
    };
    told.map(named).collect()
}

const NAMES: [(u8, &str); 16] = [
    (196, "Configuration ID"),
    (197, "Configuration version"),
    (205, "Secondary operator name"),
    (206, "Primary operator name"),
    (207, "System name"),
    (209, "Owner"),
    (211, "Identification code"),
    (212, "Master address"),
    (242, "Software version"),
    (243, "Hardware version"),
    (245, "Location"),
    (246, "ID code"),
    (247, "Device name"),
    (248, "Serial number"),
    (250, "Product name and model"),
    (252, "Manufacturer"),
];

/// Texts, numbers with and without sign, and what else there is, in hexadecimal digits.
fn attribute(code: u8, octets: &[u8]) -> String {
    const TEXT: u8 = 1;
    const UNSIGNED: u8 = 2;
    let number = octets
        .iter()
        .rev()
        .try_fold(0_u64, |number, octet| number.checked_mul(256).map(|number| number | u64::from(*octet)));
    match (code, number) {
        (TEXT, _) => String::from_utf8_lossy(octets).trim_end_matches('\0').to_owned(),
        (UNSIGNED, Some(number)) => number.to_string(),
        _ => octets.iter().map(|octet| format!("{octet:02x}")).collect(),
    }
}

fn offer(told: &Measurement) -> Offer {
    let kind = described(told.kind);
    let mut point = Map::from_iter([("address".to_owned(), json!(format!("{}:{}", kind.word(), told.index)))]);
    if kind.is_output() {
        point.insert("access".to_owned(), json!("read-write"));
    }
    if kind == Dnp3Kind::DoubleBit {
        point.insert("enumeration".to_owned(), json!("0=between;1=off;2=on;3=both"));
    }
    let quality = quality(told);
    let words = quality.reason().map(super::words);
    Offer {
        path: vec![format!("{}-{}", kind.word(), told.index)],
        point,
        value: value(&told.value, kind.data_type()).map_or(serde_json::Value::Null, |value| json!(value)),
        quality: words.map(|words| format!("{}: {words}", quality.class())).unwrap_or_default(),
        note: String::new(),
    }
}

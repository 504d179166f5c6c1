use super::read_property::put_enclosed;
use super::reference::{number, optional_number, read_object};
use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::value::{boolean, character_string, object, put_object, put_unsigned};
use crate::primitive::{BitString, ObjectIdentifier, Tag, tag};
use std::fmt;

/// What an object that watches its value has found: an open code.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetEventState).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct EventState(pub u32);

impl fmt::Display for EventState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self.0 {
            0 => "normal",
            1 => "fault",
            2 => "off-normal",
            3 => "high-limit",
            4 => "low-limit",
            5 => "life-safety-alarm",
            state => return write!(f, "state {state}"),
        })
    }
}

/// Something happened at an object. What depends on the kind of event is passed over.
///
/// Source: ASHRAE 135-2016, clauses 13.8 and 13.9.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventNotification {
    /// By what the receiver knows it.
    pub process: u32,
    /// Who tells it.
    pub device: ObjectIdentifier,
    /// Where.
    pub object: ObjectIdentifier,
    /// The class, which says who is told.
    pub class: u32,
    /// How urgent, 0 the most.
    pub priority: u32,
    /// What is said of it.
    pub message: Option<String>,
    /// Whether it is alarm (0), event (1), or the acknowledgment of one (2).
    pub notify_type: u32,
    /// What was the case before, where that is told.
    pub from: Option<EventState>,
    /// What is the case now.
    pub to: EventState,
}

impl EventNotification {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let process = number(&mut reader, 0, "the process")?;
        let (device, object) = (read_object(&mut reader, 1)?, read_object(&mut reader, 2)?);
        reader.enclosed(3, "the moment")?;
        let class = number(&mut reader, 4, "the class")?;
        let priority = number(&mut reader, 5, "the priority")?;
        number(&mut reader, 6, "the kind of event")?;
        let at = reader.at();
        let message = reader.optional(7, "the message")?.map(character_string).transpose();
        let message = message.map_err(|fault| fault.at(at))?;
        let notify_type = number(&mut reader, 8, "the kind of notification")?;
        let at = reader.at();
        let acknowledged = reader.optional(9, "whether it is to be acknowledged")?;
        acknowledged
            .map(|content| boolean(content, "whether it is to be acknowledged"))
            .transpose()
            .map_err(|fault| fault.at(at))?;
        let from = optional_number(&mut reader, 10, "the state before")?.map(EventState);
        let to = EventState(number(&mut reader, 11, "the state")?);
        if !reader.is_empty() {
            reader.enclosed(12, "the values of the event")?;
        }
        reader.finish("the notification")?;
        Ok(Self { process, device, object, class, priority, message, notify_type, from, to })
    }
}

/// Asks what is not as it should be, from behind an object on.
///
/// Source: ASHRAE 135-2016, clause 13.12.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GetEventInformation {
    /// The last object that was told before.
    pub after: Option<ObjectIdentifier>,
}

impl GetEventInformation {
    /// Reads the octets of the service.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let at = reader.at();
        let after =
            reader.optional(0, "the last object")?.map(|content| object(content, "the last object")).transpose();
        let after = after.map_err(|fault| fault.at(at))?;
        reader.finish("GetEventInformation")?;
        Ok(Self { after })
    }

    /// Appends the octets of the service.
    pub fn encode(&self, out: &mut Vec<u8>) {
        if let Some(after) = self.after {
            put_object(out, 0, after);
        }
    }
}

/// What is not as it should be.
///
/// Source: ASHRAE 135-2016, clause 13.12.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct GetEventInformationAck {
    /// The objects with their states.
    pub summaries: Vec<EventSummary>,
    /// Whether there are more.
    pub has_more: bool,
}

/// What is the case at one object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EventSummary {
    /// The object.
    pub object: ObjectIdentifier,
    /// What is the case.
    pub state: EventState,
    /// Which of to-offnormal, to-fault and to-normal were seen.
    pub acknowledged: BitString,
}

impl GetEventInformationAck {
    /// Reads the octets of the answer.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(data: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(data);
        let mut list = Reader::new(reader.enclosed(0, "the list of events")?);
        let mut summaries = Vec::new();
        while !list.is_empty() {
            let object = read_object(&mut list, 0)?;
            let state = EventState(number(&mut list, 1, "the state")?);
            let at = list.at();
            let acknowledged = BitString::of_content(list.required(2, "what was acknowledged")?);
            let acknowledged = acknowledged.ok_or(Fault::Value("what was acknowledged").at(at))?;
            list.enclosed(3, "the moments")?;
            number(&mut list, 4, "the kind of notification")?;
            list.required(5, "which events are told")?;
            list.enclosed(6, "the priorities")?;
            summaries.push(EventSummary { object, state, acknowledged });
        }
        let at = reader.at();
        let has_more = boolean(reader.required(1, "whether there are more")?, "whether there are more");
        reader.finish("the answer to GetEventInformation")?;
        Ok(Self { summaries, has_more: has_more.map_err(|fault| fault.at(at))? })
    }

    /// Appends the octets of the answer: moments, kinds and priorities as nothing is known of them.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let mut list = Vec::new();
        for summary in &self.summaries {
            put_object(&mut list, 0, summary.object);
            put_unsigned(&mut list, 1, summary.state.0.into());
            let bits = &summary.acknowledged;
            tag::write(&mut list, Tag::Context(2), bits.octets().len() + 1);
            list.push(bits.unused());
            list.extend(bits.octets());
            // Three times a sequence number of 0.
            put_enclosed(&mut list, 3, &[0x19, 0, 0x19, 0, 0x19, 0]);
            put_unsigned(&mut list, 4, 0);
            tag::write(&mut list, Tag::Context(5), 2);
            list.extend([5, 0xE0]);
            put_enclosed(&mut list, 6, &[0x21, 0, 0x21, 0, 0x21, 0]);
        }
        put_enclosed(out, 0, &list);
        tag::write(out, Tag::Context(1), 1);
        out.push(u8::from(self.has_more));
    }
}

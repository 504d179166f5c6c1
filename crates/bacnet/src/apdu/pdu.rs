use super::limits::{MaxApdu, MaxSegments};
use super::reason::{AbortReason, RejectReason};
use super::service_choice::{ConfirmedService, UnconfirmedService};
use crate::codec::{DecodeError, Fault, Reader};

/// A message of the application layer: its header, and the octets of its service, or a segment of them.
///
/// Source: ASHRAE 135-2016, clause 20.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Apdu<'a> {
    /// Something is asked for, and an answer is owed.
    ConfirmedRequest {
        /// Its header.
        header: RequestHeader,
        /// What is asked for.
        service: ConfirmedService,
        /// The octets of the service.
        data: &'a [u8],
    },
    /// Something is told, and no answer is owed.
    UnconfirmedRequest {
        /// What is told.
        service: UnconfirmedService,
        /// The octets of the service.
        data: &'a [u8],
    },
    /// It was done.
    SimpleAck {
        /// Which request.
        invoke_id: u8,
        /// What was asked for.
        service: ConfirmedService,
    },
    /// It was done, and this came of it.
    ComplexAck {
        /// Which request.
        invoke_id: u8,
        /// Which part of the answer, where it comes in several.
        segment: Option<Segment>,
        /// What was asked for.
        service: ConfirmedService,
        /// The octets of the answer.
        data: &'a [u8],
    },
    /// Segments came.
    SegmentAck(SegmentAck),
    /// It was not done.
    Error {
        /// Which request.
        invoke_id: u8,
        /// What was asked for.
        service: ConfirmedService,
        /// The octets of the error.
        data: &'a [u8],
    },
    /// It was not understood.
    Reject {
        /// Which request.
        invoke_id: u8,
        /// Why.
        reason: RejectReason,
    },
    /// It was given up.
    Abort {
        /// Whether whoever was asked says so.
        by_server: bool,
        /// Which request.
        invoke_id: u8,
        /// Why.
        reason: AbortReason,
    },
}

/// What stands before a confirmed request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RequestHeader {
    /// Which part of the request, where it comes in several.
    pub segment: Option<Segment>,
    /// Whether the answer may come in segments.
    pub accepts_segments: bool,
    /// How many segments the answer may have.
    pub max_segments: MaxSegments,
    /// How large a message of the answer may be.
    pub max_apdu: MaxApdu,
    /// By what the answer is known.
    pub invoke_id: u8,
}

/// Which part of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Segment {
    /// Whether others follow.
    pub more_follows: bool,
    /// Its number, which begins at 0 and wraps at 256.
    pub sequence: u8,
    /// How many may be sent before they have to be acknowledged, 1 to 127.
    pub window: u8,
}

/// Says which segments came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SegmentAck {
    /// Whether one is missing.
    pub is_negative: bool,
    /// Whether whoever was asked says so.
    pub by_server: bool,
    /// Which request.
    pub invoke_id: u8,
    /// The last one that came in order.
    pub sequence: u8,
    /// How many may be sent before they have to be acknowledged, 1 to 127.
    pub window: u8,
}

fn window(reader: &mut Reader<'_>) -> Result<u8, DecodeError> {
    let at = reader.at();
    let window = reader.u8("the window size")?;
    if (1..=127).contains(&window) { Ok(window) } else { Err(Fault::Value("the window size").at(at)) }
}

impl Segment {
    fn read(reader: &mut Reader<'_>, more_follows: bool) -> Result<Self, DecodeError> {
        Ok(Self { more_follows, sequence: reader.u8("the sequence number")?, window: window(reader)? })
    }

    fn bits(segment: Option<&Self>) -> u8 {
        match segment {
            None => 0,
            Some(segment) if segment.more_follows => 0x0C,
            Some(_) => 0x08,
        }
    }

    fn put(segment: Option<&Self>, out: &mut Vec<u8>) {
        out.extend(segment.iter().flat_map(|segment| [segment.sequence, segment.window]));
    }
}

impl<'a> Apdu<'a> {
    /// Reads what is in an NPDU.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(octets: &'a [u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(octets);
        let first = reader.u8("the PDU type")?;
        let has = |bit| first & bit != 0;
        Ok(match first >> 4 {
            0 => {
                let limits = reader.u8("the size of answers")?;
                let invoke_id = reader.u8("the invoke id")?;
                let segment = has(0x08).then(|| Segment::read(&mut reader, has(0x04))).transpose()?;
                let header = RequestHeader {
                    segment,
                    accepts_segments: has(0x02),
                    max_segments: MaxSegments::of_code(limits >> 4),
                    max_apdu: MaxApdu::of_code(limits),
                    invoke_id,
                };
                let service = ConfirmedService(reader.u8("the service")?);
                Self::ConfirmedRequest { header, service, data: reader.rest() }
            }
            1 => {
                let service = UnconfirmedService(reader.u8("the service")?);
                Self::UnconfirmedRequest { service, data: reader.rest() }
            }
            2 => {
                let invoke_id = reader.u8("the invoke id")?;
                let service = ConfirmedService(reader.u8("the service")?);
                Self::SimpleAck { invoke_id, service }
            }
            3 => {
                let invoke_id = reader.u8("the invoke id")?;
                let segment = has(0x08).then(|| Segment::read(&mut reader, has(0x04))).transpose()?;
                let service = ConfirmedService(reader.u8("the service")?);
                Self::ComplexAck { invoke_id, segment, service, data: reader.rest() }
            }
            4 => Self::SegmentAck(SegmentAck {
                is_negative: has(0x02),
                by_server: has(0x01),
                invoke_id: reader.u8("the invoke id")?,
                sequence: reader.u8("the sequence number")?,
                window: window(&mut reader)?,
            }),
            5 => {
                let invoke_id = reader.u8("the invoke id")?;
                let service = ConfirmedService(reader.u8("the service")?);
                Self::Error { invoke_id, service, data: reader.rest() }
            }
            6 => {
                let invoke_id = reader.u8("the invoke id")?;
                Self::Reject { invoke_id, reason: RejectReason(reader.u8("a reason")?) }
            }
            7 => {
                let invoke_id = reader.u8("the invoke id")?;
                Self::Abort { by_server: has(0x01), invoke_id, reason: AbortReason(reader.u8("a reason")?) }
            }
            _ => return Err(Fault::Value("the PDU type").at(0)),
        })
    }

    /// Appends it.
    pub fn encode(&self, out: &mut Vec<u8>) {
        let bit = |is_set, bit| if is_set { bit } else { 0 };
        match self {
            Self::ConfirmedRequest { header, service, data } => {
                let segment = header.segment.as_ref();
                let limits = header.max_segments.code() << 4 | header.max_apdu.code();
                out.extend([Segment::bits(segment) | bit(header.accepts_segments, 0x02), limits, header.invoke_id]);
                Segment::put(segment, out);
                out.push(service.0);
                out.extend(*data);
            }
            Self::UnconfirmedRequest { service, data } => {
                out.extend([0x10, service.0]);
                out.extend(*data);
            }
            Self::SimpleAck { invoke_id, service } => out.extend([0x20, *invoke_id, service.0]),
            Self::ComplexAck { invoke_id, segment, service, data } => {
                out.extend([0x30 | Segment::bits(segment.as_ref()), *invoke_id]);
                Segment::put(segment.as_ref(), out);
                out.push(service.0);
                out.extend(*data);
            }
            Self::SegmentAck(ack) => out.extend([
                0x40 | bit(ack.is_negative, 0x02) | bit(ack.by_server, 0x01),
                ack.invoke_id,
                ack.sequence,
                ack.window,
            ]),
            Self::Error { invoke_id, service, data } => {
                out.extend([0x50, *invoke_id, service.0]);
                out.extend(*data);
            }
            Self::Reject { invoke_id, reason } => out.extend([0x60, *invoke_id, reason.0]),
            Self::Abort { by_server, invoke_id, reason } => {
                out.extend([0x70 | bit(*by_server, 0x01), *invoke_id, reason.0]);
            }
        }
    }
}

use crate::apdu::{Apdu, ConfirmedService, Error, UnconfirmedService};
use crate::codec::DecodeError;
use crate::network::{Bvll, Destination, NetworkMessage, Npdu, NpduContent, TableMessage};
use crate::primitive::Content;
use crate::service::{
    CovNotification, GetEventInformationAck, IAm, IHave, LogRecord, PropertyReference, ReadProperty, ReadPropertyAck,
    ReadPropertyMultiple, ReadPropertyMultipleAck, ReadRange, ReadRangeAck, SubscribeCov, TimeSynchronization, Wanted,
    WhoHas, WhoIs, WriteProperty, WritePropertyMultiple,
};
use std::fmt::Write;

/// A datagram in words, for people: what it is, and what it says.
#[must_use]
pub fn describe(datagram: &[u8]) -> String {
    said(datagram).unwrap_or_else(|error| format!("cannot be read: {error}"))
}

fn said(datagram: &[u8]) -> Result<String, DecodeError> {
    let (mut text, npdu) = match Bvll::decode(datagram)? {
        Bvll::Unicast(npdu) => (String::new(), npdu),
        Bvll::Broadcast(npdu) => ("to all: ".to_owned(), npdu),
        Bvll::DistributeBroadcast(npdu) => ("to be told all: ".to_owned(), npdu),
        Bvll::Forwarded { origin, npdu } => (format!("forwarded from {origin}: "), npdu),
        Bvll::Result(result) => return Ok(format!("result: {result}")),
        Bvll::RegisterForeignDevice { time_to_live } => {
            return Ok(format!("Register-Foreign-Device for {time_to_live} s"));
        }
        Bvll::Table(table) => return Ok(table_words(table)),
    };
    let npdu = Npdu::decode(npdu)?;
    match npdu.destination {
        Some(Destination::Global) => text += "to all networks: ",
        // Writing to a text cannot fail.
        Some(Destination::Network(network)) => text += &format!("to network {network}: "),
        Some(Destination::Station(to)) => text += &format!("to station {} of network {}: ", to.mac, to.network),
        None => {}
    }
    if let Some(from) = npdu.source {
        text += &format!("from station {} of network {}: ", from.mac, from.network);
    }
    text += &match npdu.content {
        NpduContent::Apdu(apdu) => apdu_words(&Apdu::decode(apdu)?)?,
        NpduContent::Message(message) => match message {
            NetworkMessage::WhoIsRouter(None) => "Who-Is-Router-To-Network".to_owned(),
            NetworkMessage::WhoIsRouter(Some(network)) => format!("Who-Is-Router-To-Network {network}"),
            NetworkMessage::IAmRouter(networks) => format!("I-Am-Router-To-Network {networks:?}"),
            NetworkMessage::Reject { reason, network } => {
                format!("Reject-Message-To-Network {network}, reason {reason}")
            }
            NetworkMessage::WhatIsNetworkNumber => "What-Is-Network-Number".to_owned(),
            NetworkMessage::NetworkNumberIs { network, .. } => format!("Network-Number-Is {network}"),
            NetworkMessage::Other(kind, _) => format!("network message {kind:#04x}"),
        },
    };
    Ok(text)
}

fn table_words(table: TableMessage) -> String {
    match table {
        TableMessage::WriteBroadcast => "Write-Broadcast-Distribution-Table".to_owned(),
        TableMessage::ReadBroadcast => "Read-Broadcast-Distribution-Table".to_owned(),
        TableMessage::ReadBroadcastAck(entries) => format!("broadcast distribution table, {entries} entries"),
        TableMessage::ReadForeign => "Read-Foreign-Device-Table".to_owned(),
        TableMessage::ReadForeignAck(entries) => format!("foreign device table, {entries} entries"),
        TableMessage::DeleteForeign => "Delete-Foreign-Device-Table-Entry".to_owned(),
        TableMessage::Secure => "Secure-BVLL".to_owned(),
    }
}

fn apdu_words(apdu: &Apdu<'_>) -> Result<String, DecodeError> {
    Ok(match apdu {
        Apdu::ConfirmedRequest { header, service, data } => match header.segment {
            Some(segment) => format!("{service}, segment {} of #{}", segment.sequence, header.invoke_id),
            None => format!("{service} #{}{}", header.invoke_id, request_words(*service, data)?),
        },
        Apdu::UnconfirmedRequest { service, data } => format!("{service}{}", told_words(*service, data)?),
        Apdu::SimpleAck { invoke_id, service } => format!("{service} #{invoke_id} done"),
        Apdu::ComplexAck { invoke_id, segment: Some(segment), service, .. } => {
            let last = if segment.more_follows { "" } else { ", the last one" };
            format!("{service} #{invoke_id} answered, segment {}{last}", segment.sequence)
        }
        Apdu::ComplexAck { invoke_id, segment: None, service, data } => {
            format!("{service} #{invoke_id} answered{}", answer_words(*service, data)?)
        }
        Apdu::SegmentAck(ack) => {
            let how = if ack.is_negative { "missing behind" } else { "up to" };
            format!("segments of #{}: {how} {}, window {}", ack.invoke_id, ack.sequence, ack.window)
        }
        Apdu::Error { invoke_id, service, data } => format!("{service} #{invoke_id} failed: {}", Error::decode(data)?),
        Apdu::Reject { invoke_id, reason } => format!("#{invoke_id} rejected: {reason}"),
        Apdu::Abort { invoke_id, reason, .. } => format!("#{invoke_id} aborted: {reason}"),
    })
}

/// The first few of several, and how many there are.
fn listed(items: impl Iterator<Item = String>) -> String {
    const SHOWN: usize = 6;
    let mut text = String::new();
    let mut count = 0;
    for item in items {
        if count < SHOWN {
            text += if count == 0 { ": " } else { ", " };
            text += &item;
        }
        count += 1;
    }
    if count > SHOWN {
        // Writing to a text cannot fail.
        let _ = write!(text, " and {} more", count - SHOWN);
    }
    text
}

fn put((reference, value): &(PropertyReference, Content)) -> String {
    format!("{reference} = {value}")
}

fn write_words(write: &WriteProperty) -> String {
    let priority = write.priority.map(|priority| format!(" at priority {priority}")).unwrap_or_default();
    format!("{} {} = {}{priority}", write.object, write.reference, write.value)
}

fn subscription_words(asked: &SubscribeCov) -> String {
    let property = asked.property.map(|(reference, _)| format!(" {reference}")).unwrap_or_default();
    let how = match asked.terms {
        None => "no more".to_owned(),
        Some(terms) => {
            format!("for {} s{}", terms.lifetime, if terms.is_confirmed { ", to be confirmed" } else { "" })
        }
    };
    format!(": {}{property} {how}, process {}", asked.object, asked.process)
}

fn request_words(service: ConfirmedService, data: &[u8]) -> Result<String, DecodeError> {
    Ok(match service {
        ConfirmedService::READ_PROPERTY => {
            let asked = ReadProperty::decode(data)?;
            format!(": {} {}", asked.object, asked.reference)
        }
        ConfirmedService::READ_PROPERTY_MULTIPLE => {
            let asked = ReadPropertyMultiple::decode(data)?;
            listed(asked.0.iter().map(|access| {
                let references: Vec<_> = access.properties.iter().map(ToString::to_string).collect();
                format!("{} {}", access.object, references.join(" "))
            }))
        }
        ConfirmedService::WRITE_PROPERTY => format!(": {}", write_words(&WriteProperty::decode(data)?)),
        ConfirmedService::WRITE_PROPERTY_MULTIPLE => {
            listed(WritePropertyMultiple::decode(data)?.0.iter().map(write_words))
        }
        ConfirmedService::SUBSCRIBE_COV => subscription_words(&SubscribeCov::decode(data)?),
        ConfirmedService::SUBSCRIBE_COV_PROPERTY => subscription_words(&SubscribeCov::decode_property(data)?),
        ConfirmedService::COV_NOTIFICATION => notification_words(data)?,
        ConfirmedService::READ_RANGE => {
            let asked = ReadRange::decode(data)?;
            format!(
                ": {} {} {}",
                asked.object,
                asked.reference,
                asked.range.map_or("all".to_owned(), |range| format!("{range:?}"))
            )
        }
        _ => String::new(),
    })
}

fn notification_words(data: &[u8]) -> Result<String, DecodeError> {
    let told = CovNotification::decode(data)?;
    Ok(format!(" of {} process {}: {}{}", told.device, told.process, told.object, listed(told.values.iter().map(put))))
}

fn told_words(service: UnconfirmedService, data: &[u8]) -> Result<String, DecodeError> {
    Ok(match service {
        UnconfirmedService::WHO_IS => match WhoIs::decode(data)?.range {
            None => String::new(),
            Some((low, high)) if low == high => format!(" {low}"),
            Some((low, high)) => format!(" {low} to {high}"),
        },
        UnconfirmedService::I_AM => {
            let told = IAm::decode(data)?;
            format!(": {}, takes {} octets, {}, maker {}", told.device, told.max_apdu, told.segmentation, told.vendor)
        }
        UnconfirmedService::WHO_HAS => match WhoHas::decode(data)?.wanted {
            Wanted::Object(wanted) => format!(" {wanted}"),
            Wanted::Name(name) => format!(" {name:?}"),
        },
        UnconfirmedService::I_HAVE => {
            let told = IHave::decode(data)?;
            format!(": {} has {} {:?}", told.device, told.object, told.name)
        }
        UnconfirmedService::COV_NOTIFICATION => notification_words(data)?,
        UnconfirmedService::TIME_SYNCHRONIZATION => format!(": {} local", TimeSynchronization::decode(data)?.0),
        UnconfirmedService::UTC_TIME_SYNCHRONIZATION => format!(": {} UTC", TimeSynchronization::decode(data)?.0),
        _ => String::new(),
    })
}

fn answer_words(service: ConfirmedService, data: &[u8]) -> Result<String, DecodeError> {
    Ok(match service {
        ConfirmedService::READ_PROPERTY => {
            let told = ReadPropertyAck::decode(data)?;
            format!(": {} {} = {}", told.object, told.reference, told.value)
        }
        ConfirmedService::READ_PROPERTY_MULTIPLE => {
            let told = ReadPropertyMultipleAck::decode(data)?;
            listed(told.0.iter().map(|result| {
                let outcomes = result.results.iter().map(|(reference, outcome)| match outcome {
                    Ok(value) => format!("{reference} = {value}"),
                    Err(error) => format!("{reference}: {error}"),
                });
                format!("{} {}", result.object, outcomes.collect::<Vec<_>>().join(" "))
            }))
        }
        ConfirmedService::READ_RANGE => {
            let told = ReadRangeAck::decode(data)?;
            let records = LogRecord::decode_all(&told.items)
                .map(|records| listed(records.iter().map(|record| format!("{} {:?}", record.at, record.datum))));
            let first = told.first_sequence.map(|first| format!(" from number {first}")).unwrap_or_default();
            format!(": {} records{first}{}", told.count, records.unwrap_or_default())
        }
        ConfirmedService::GET_EVENT_INFORMATION => {
            let told = GetEventInformationAck::decode(data)?;
            listed(told.summaries.iter().map(|summary| format!("{} {}", summary.object, summary.state)))
        }
        _ => String::new(),
    })
}

//! Messages in words.

use crate::codec::{Binary, Limits};
use crate::service::{
    BrowseResponse, CreateMonitoredItemsResponse, DataChangeNotification, HistoryData, NotificationMessage, Request,
    Response,
};
use crate::structure::Structure;
use crate::transport::{Acknowledge, ErrorMessage, Hello};
use crate::types::StatusCode;

/// Source: OPC 10000-6, section 7.1.2: the header of a frame; section 6.7.2: that of a message.
const FRAME: usize = 8;
const MESSAGE: usize = 24;

/// A frame without security in a line.
pub(super) fn frame(bytes: &[u8], is_sent: bool) -> String {
    let rest = |from: usize| bytes.get(from..).unwrap_or_default();
    match bytes {
        [b'H', b'E', b'L', ..] => Hello::from_bytes(rest(FRAME)).map_or_else(
            |_| "Hello that cannot be read".to_owned(),
            |hello| format!("Hello to {}", hello.endpoint_url.unwrap_or_default()),
        ),
        [b'A', b'C', b'K', ..] => Acknowledge::from_bytes(rest(FRAME)).map_or_else(
            |_| "Acknowledge that cannot be read".to_owned(),
            |told| format!("Acknowledge: frames of {} bytes", told.receive_buffer_size),
        ),
        [b'E', b'R', b'R', ..] => ErrorMessage::from_bytes(rest(FRAME)).map_or_else(
            |_| "Error that cannot be read".to_owned(),
            |told| format!("Error: {} {}", told.error, told.reason.unwrap_or_default()).trim_end().to_owned(),
        ),
        [b'O', b'P', b'N', ..] if is_sent => "OpenSecureChannel".to_owned(),
        [b'O', b'P', b'N', ..] => "OpenSecureChannel: open".to_owned(),
        [b'C', b'L', b'O', ..] => "CloseSecureChannel".to_owned(),
        _ if is_sent => match Request::from_bytes(rest(MESSAGE), Limits::default()) {
            Ok(asked) => {
                let about = request(&asked);
                named(asked.name(), "Request", asked.header().request_handle, &about)
            }
            Err(error) => error.to_string(),
        },
        _ => match Response::from_bytes(rest(MESSAGE), Limits::default()) {
            Ok(answer) => {
                let (header, about) = (answer.header(), response(&answer));
                let status = header.service_result;
                let about = if status.is_bad() { format!("{status}{about}") } else { about };
                named(answer.name(), "Response", header.request_handle, &about)
            }
            Err(error) => error.to_string(),
        },
    }
}

fn named(name: &str, kind: &str, handle: u32, about: &str) -> String {
    let service = name.strip_suffix(kind).unwrap_or(name);
    if about.is_empty() { format!("{service} {handle}") } else { format!("{service} {handle}: {about}") }
}

fn count(number: usize, what: &str) -> String {
    if number == 1 { format!("1 {what}") } else { format!("{number} {what}s") }
}

fn request(asked: &Request) -> String {
    match asked {
        Request::GetEndpoints(get) => get.endpoint_url.clone().unwrap_or_default(),
        Request::CreateSession(create) => format!("for {} ms", create.requested_session_timeout),
        Request::ActivateSession(_) | Request::CloseSession(_) => String::new(),
        Request::Browse(browse) => match &*browse.nodes_to_browse {
            [one] => one.node_id.to_string(),
            several => count(several.len(), "node"),
        },
        Request::BrowseNext(next) => count(next.continuation_points.len(), "place"),
        Request::TranslateBrowsePathsToNodeIds(paths) => count(paths.browse_paths.len(), "path"),
        Request::Read(read) => match &*read.nodes_to_read {
            [one] => format!("{} attribute {}", one.node_id, one.attribute_id),
            several => count(several.len(), "value"),
        },
        Request::HistoryRead(read) => match &*read.nodes_to_read {
            [one] => one.node_id.to_string(),
            several => count(several.len(), "node"),
        },
        Request::Write(write) => match &*write.nodes_to_write {
            [one] => one.node_id.to_string(),
            several => count(several.len(), "value"),
        },
        Request::Call(call) => match &*call.methods_to_call {
            [one] => one.method_id.to_string(),
            several => count(several.len(), "method"),
        },
        Request::CreateSubscription(create) => format!("every {} ms", create.requested_publishing_interval),
        Request::CreateMonitoredItems(create) => {
            format!("{} in subscription {}", count(create.items_to_create.len(), "item"), create.subscription_id)
        }
        Request::Publish(publish) => match publish.subscription_acknowledgements.len() {
            0 => String::new(),
            acknowledged => format!("{acknowledged} acknowledged"),
        },
        Request::Republish(again) => {
            format!("message {} of subscription {}", again.retransmit_sequence_number, again.subscription_id)
        }
        Request::TransferSubscriptions(transfer) => count(transfer.subscription_ids.len(), "subscription"),
        Request::DeleteSubscriptions(delete) => count(delete.subscription_ids.len(), "subscription"),
        _ => String::new(),
    }
}

/// How many, and how many of them are bad, and how.
fn results<'a>(what: &str, all: impl Iterator<Item = StatusCode> + Clone + 'a) -> String {
    let bad = all.clone().filter(|status| status.is_bad());
    match bad.clone().next() {
        Some(first) => format!("{}, {} bad, the first {first}", count(all.count(), what), bad.count()),
        None => count(all.count(), what),
    }
}

fn response(answer: &Response) -> String {
    match answer {
        Response::GetEndpoints(told) => count(told.endpoints.len(), "endpoint"),
        Response::CreateSession(created) => format!("for {} ms", created.revised_session_timeout),
        Response::Browse(BrowseResponse { results, .. }) => references(results.iter().map(|one| one.references.len())),
        Response::BrowseNext(next) => references(next.results.iter().map(|one| one.references.len())),
        Response::TranslateBrowsePathsToNodeIds(told) => {
            results("path", told.results.iter().map(|result| result.status_code))
        }
        Response::Read(read) => results("value", read.results.iter().map(crate::DataValue::status)),
        Response::HistoryRead(read) => {
            let values = read.results.iter().filter_map(|result| HistoryData::from_object(&result.history_data)?.ok());
            let values: usize = values.map(|data| data.data_values.len()).sum();
            format!(
                "{}, {}",
                results("node", read.results.iter().map(|result| result.status_code)),
                count(values, "value")
            )
        }
        Response::Write(written) => results("value", written.results.iter().copied()),
        Response::Call(called) => results("method", called.results.iter().map(|result| result.status_code)),
        Response::CreateSubscription(created) => {
            format!("subscription {} every {} ms", created.subscription_id, created.revised_publishing_interval)
        }
        Response::CreateMonitoredItems(CreateMonitoredItemsResponse { results: items, .. }) => {
            results("item", items.iter().map(|result| result.status_code))
        }
        Response::TransferSubscriptions(moved) => {
            results("subscription", moved.results.iter().map(|result| result.status_code))
        }
        Response::Publish(told) => {
            format!("subscription {}, {}", told.subscription_id, notification(&told.notification_message))
        }
        Response::Republish(told) => notification(&told.notification_message),
        _ => String::new(),
    }
}

fn references(counts: impl Iterator<Item = usize>) -> String {
    count(counts.sum(), "reference")
}

fn notification(message: &NotificationMessage) -> String {
    if message.notification_data.is_empty() {
        return format!("alive, message {} is next", message.sequence_number);
    }
    let data = message.notification_data.iter().filter_map(|data| DataChangeNotification::from_object(data)?.ok());
    let values: usize = data.map(|data| data.monitored_items.len()).sum();
    format!("message {}, {}", message.sequence_number, count(values, "value"))
}

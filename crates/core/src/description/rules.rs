//! What a schema cannot say: clashes, and what does not go together.

use super::problem::Fault;
use super::row::Row;
use super::{Access, BrokerUrl, DeviceProtocol, JsonUplink, Point, PointSettings, SecretText, Uplink, UplinkKind};
use crate::{CommandValue, DataType, MessageTemplates, Report, Shaping, TemplatePart, TwoEndedSpan};
use std::collections::HashMap;

/// Finds names that stand twice, also when they differ by case alone.
///
/// Source: Sparkplug 3.0.0, tck-id-topic-structure-namespace-unique-device-id, tck-id-case-sensitivity-sparkplug-ids.
pub(super) fn duplicates<'a>(names: impl Iterator<Item = &'a str>) -> Vec<(usize, Fault)> {
    let mut seen = HashMap::new();
    let mut faults = Vec::new();
    for (at, name) in names.enumerate().filter(|(_, name)| !name.is_empty()) {
        if let Some(before) = seen.insert(name.to_lowercase(), name) {
            let how = if before == name { "" } else { " but for its case" };
            faults.push((at, Fault::new("name", format!("name {name:?} is taken{how}"), "a name of its own")));
        }
    }
    faults
}

/// Checks one point by itself, and understands it as one of a device.
pub(super) fn point(settings: &PointSettings, row: &Row, device: &DeviceProtocol) -> (Option<Point>, Vec<Fault>) {
    let mut faults = Vec::new();
    let point = device.point(settings, row, &mut faults);
    shaping(settings, point.as_ref().map_or(settings.data_type, Point::raw_type), &mut faults);
    if let (Some(low), Some(high)) = (settings.low, settings.high)
        && low >= high
    {
        faults.push(Fault::new("low", format!("low {low} is not below high {high}"), "low < high"));
    } else if let (Some(low), Some(high)) = (settings.low, settings.high)
        && settings.deadband() >= high - low
    {
        let message = format!("a deadband of {} is never left between {low} and {high}", settings.deadband());
        faults.push(Fault::warning("deadband", message, "less than high - low"));
    }
    faults.extend(one_line("title", &settings.title));
    faults.extend(one_line("unit", &settings.unit));
    let has_range = point.as_ref().is_some_and(|point| point.auto().range);
    reporting(settings, has_range, &mut faults);
    lifetime(settings, &mut faults);
    (point, faults)
}

/// What is shown in tables and printed by clients has no control characters.
pub(super) fn one_line(key: &str, text: &str) -> Option<Fault> {
    let message = || format!("{key} is {text:?}");
    text.contains(char::is_control)
        .then(|| Fault::new(key, message(), "text without line ends and other control characters"))
}

/// When a value goes up.
fn reporting(settings: &PointSettings, has_range: bool, faults: &mut Vec<Fault>) {
    if settings.deadband_percent > 0.0 {
        if (settings.low.is_none() || settings.high.is_none()) && !has_range {
            let message = "a percentage is of the range, which is not given";
            faults.push(Fault::new("deadband-percent", message, "low and high, or a deadband in units"));
        }
        if settings.deadband > 0.0 {
            faults.push(Fault::new("deadband-percent", "there are two deadbands", "one of the two"));
        }
    }
    if settings.min_interval.is_some() && !matches!(settings.report, Report::Change | Report::ChangeOrEvery(_)) {
        let message = format!("changes do not go up with report {}", settings.report);
        faults.push(Fault::new("min-interval", message, "report change, or change+every SPAN"));
    }
}

/// What becomes of a commanded value that is not commanded anew.
fn lifetime(settings: &PointSettings, faults: &mut Vec<Fault>) {
    match (settings.lifetime, &settings.safe_value) {
        (None, None) => {}
        (Some(_), None) => {
            faults.push(Fault::new("safe-value", "there is a lifetime and no safe value", "what is written after it"));
        }
        (None, Some(_)) => {
            faults.push(Fault::new("lifetime", "there is a safe value and no lifetime", "how long a command holds"));
        }
        (Some(_), Some(_)) if settings.access == Access::Read => {
            faults.push(Fault::new("lifetime", "the point takes no commands", "access read-write"));
        }
        (Some(_), Some(_)) => {}
    }
}

/// What is written in the end has to be what may be written.
pub(super) fn safe_value(point: &Point) -> Option<Fault> {
    let text = point.settings.safe_value.as_deref().filter(|_| point.settings.access != Access::Read)?;
    // Objects with priorities can be given back.
    if text == CommandValue::RELINQUISH && point.can_be_relinquished() {
        return None;
    }
    let refusal = crate::check_command(point, &crate::value_from_words(point, text)).err()?;
    Some(Fault::new("safe-value", format!("safe-value is {text:?}: {refusal}"), "a value that may be written"))
}

/// Each way of shaping is for one kind of value, and goes together with no other.
fn shaping(settings: &PointSettings, raw_type: DataType, faults: &mut Vec<Fault>) {
    let data_type = settings.data_type;
    let is_bit = raw_type == DataType::Bool;
    let is_number = data_type.is_numeric() && !is_bit;
    let is_linear = Shaping::linear(settings.scale, settings.offset).is_none();
    if !data_type.is_numeric() {
        if !is_linear || settings.deadband > 0.0 || settings.low.is_some() || settings.high.is_some() {
            let message = format!("{data_type} has no scale, offset, deadband or limits");
            faults.push(Fault::new("type", message, "empty cells there, or a numeric type"));
        }
    } else if settings.scale == 0.0 {
        faults.push(Fault::new("scale", "a scale of 0 makes every value the same", "a number that is not 0"));
    }
    if settings.span.is_some() {
        if !is_number {
            faults.push(Fault::new("span", "a span is for numbers", "a numeric type"));
        }
        if !is_linear {
            faults.push(Fault::new("span", "a span stands in place of scale and offset", "one of the two"));
        }
    } else if settings.clamp || settings.root {
        let key = if settings.clamp { "clamp" } else { "root" };
        faults.push(Fault::new(key, format!("{key} needs the ends of a span"), TwoEndedSpan::FORM));
    }
    if settings.invert && !is_bit {
        faults.push(Fault::new("invert", "only a bit can be turned", "type bool, or an address of a bit"));
    }
    if settings.enumeration.is_some() {
        let is_whole = is_number && !data_type.is_float();
        if !is_whole || !is_linear || settings.span.is_some() {
            let expected = "a whole-number type without scale, offset or span";
            faults.push(Fault::new("enumeration", "words are for whole numbers as the device says them", expected));
        }
        if settings.deadband > 0.0 || settings.low.is_some() || settings.high.is_some() {
            faults.push(Fault::new("enumeration", "words have no deadband or limits", "empty cells there"));
        }
    }
}

/// What does not go together in the way to a broker.
pub(super) fn broker(uplink: &Uplink) -> Vec<Fault> {
    let (broker, mut faults) = (&uplink.broker, Vec::new());
    let is_tls = uplink.urls().any(|url| url.is_tls);
    if broker.password.is_some() && broker.user.is_none() {
        faults.push(Fault::new("user", "there is a password and no user", "the name to sign in with"));
    }
    let given = [
        ("ca", broker.ca.is_some()),
        ("certificate", broker.certificate.is_some()),
        ("key", broker.key.is_some()),
        ("server-name", broker.server_name.is_some()),
    ];
    for (key, _) in given.into_iter().filter(|(_, is_given)| *is_given && !is_tls) {
        faults.push(Fault::new(key, format!("{key} is of no use with mqtt://"), "a url with mqtts://"));
    }
    if broker.key.as_ref().is_some_and(|key| is_no_key(key.reveal())) {
        let expected = "a private key in PEM, from its BEGIN to its END, or file:/PATH";
        faults.push(Fault::new("key", "key is no text in the form that it needs", expected));
    }
    match (&broker.certificate, &broker.key) {
        (Some(_), None) => faults.push(Fault::new("key", "there is a certificate and no key", "its private key")),
        (None, Some(_)) => {
            faults.push(Fault::new("certificate", "there is a key and no certificate", "its certificate"));
        }
        _ => {}
    }
    if let UplinkKind::Json(own) = &uplink.kind {
        faults.extend(messages(uplink, own));
    }
    let is_open = |url: &BrokerUrl| !url.is_tls && !is_loopback(url.bare_host());
    if broker.password.is_some() && uplink.urls().any(is_open) {
        let message = "the password goes over the network for everyone to read";
        faults.push(Fault::warning("url", message, "mqtts://, where the broker offers it"));
    }
    faults
}

/// Whether a text cannot be a private key; what is stored elsewhere, or sealed, may be one.
pub(super) fn is_no_key(text: &str) -> bool {
    let text = text.trim();
    let is_elsewhere = text == SecretText::PLACEHOLDER || text.starts_with("file:") || text.starts_with("sealed:");
    !(is_elsewhere || text.starts_with("-----BEGIN ") && text.contains("PRIVATE KEY-----"))
}

/// What does not go together in messages made from templates.
fn messages(uplink: &Uplink, own: &JsonUplink) -> Vec<Fault> {
    let mut faults = Vec::new();
    if let Err(fault) = MessageTemplates::new(&own.topic, &own.payload) {
        let key = if fault.part == TemplatePart::Topic { "topic" } else { "payload" };
        let expected = "{{ name }} and {% for point in points %}, closed as they are opened";
        faults.push(Fault::new(key, format!("line {}: {}", fault.line, fault.message), expected));
    }
    if own.send == Report::Never {
        faults.push(Fault::new("send", "messages that are never sent", "change, every SPAN or change+every SPAN"));
    }
    if own.command_topic.is_some() && !uplink.broker.commands {
        let message = "commands are not taken";
        faults.push(Fault::new("command-topic", message, "commands = true, or no command-topic"));
    }
    if own.command_topic.is_none() && uplink.broker.commands {
        let message = "commands are taken, and come from nowhere";
        faults.push(Fault::new("commands", message, "a command-topic, or no commands"));
    }
    let levels = own.command_topic.as_deref().map_or(0, |topic| topic.split('/').count());
    let is_open = own.command_topic.as_deref().is_none_or(|topic| topic.ends_with('#'));
    let parts = [
        ("command-device", &own.command_device),
        ("command-point", &own.command_point),
        ("command-value", &own.command_value),
        ("command-id", &own.command_id),
    ];
    for (key, part) in parts.into_iter().filter(|_| !is_open) {
        let level = part.strip_prefix("topic:").and_then(|level| level.parse::<usize>().ok());
        if let Some(level) = level.filter(|level| *level >= levels) {
            let message = format!("{key} is topic:{level}, and the command-topic has {levels} levels, from topic:0 on");
            faults.push(Fault::new(key, message, "one of its levels"));
        }
    }
    if own.reply_topic.as_deref().is_some_and(|topic| topic.contains(['+', '#'])) {
        let message = "a reply goes to one topic";
        faults.push(Fault::new("reply-topic", message, "a topic without + and #"));
    }
    faults
}

fn is_loopback(host: &str) -> bool {
    let address = host.parse::<std::net::IpAddr>();
    host == "localhost" || address.is_ok_and(|address| address.is_loopback())
}

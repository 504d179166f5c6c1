//! Messages made from templates, and commands read from messages: for brokers that speak plain MQTT.

use crate::{CommandValue, DataType, Quality, Value};
use minijinja::value::ValueKind;
use minijinja::{Environment, UndefinedBehavior};
use serde::Serialize;
use serde_json::Value as Json;
use std::collections::BTreeMap;

/// The two templates of a message, ready to be filled in.
///
/// They follow the syntax of Jinja. What is not known in them is a mistake, and not empty text.
#[derive(Debug)]
pub struct MessageTemplates {
    environment: Environment<'static>,
}

/// What is wrong with a template.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, thiserror::Error)]
#[error("{} line {line}: {message}", part.word())]
pub struct TemplateFault {
    /// Which of the two it is in.
    pub part: TemplatePart,
    /// The line, from 1 on.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

/// One of the two templates.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum TemplatePart {
    /// Where the message goes.
    Topic,
    /// What it says.
    Payload,
}

/// A message, filled in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RenderedMessage {
    /// Where it goes.
    pub topic: String,
    /// What it says.
    pub payload: String,
}

/// What templates can use.
#[derive(Debug, Clone, Serialize)]
pub struct MessageContext {
    /// The gateway.
    pub gateway: NamedThing,
    /// The device, where a message is about one; else empty text.
    pub device: NamedThing,
    /// The label, where a message is about one; else empty.
    pub label: String,
    /// When the message is made, in milliseconds since 1970 UTC.
    pub now: i64,
    /// The same as ISO 8601 text.
    pub time: String,
    /// The points that the message is about, with what they are now.
    pub points: Vec<PointContext>,
    /// Their values by name; with the device before it, where a message is about several: `meter-1/power`.
    pub values: BTreeMap<String, Json>,
    /// What was reported since the message before, in order.
    pub samples: Vec<PointContext>,
}

/// Something with a name.
#[derive(Debug, Clone, Default, Serialize)]
pub struct NamedThing {
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
}

/// A point in a message.
#[derive(Debug, Clone, Serialize)]
pub struct PointContext {
    /// Its device.
    pub device: String,
    /// Its name.
    pub name: String,
    /// What people call it.
    pub title: String,
    /// Its value; null when it has none.
    pub value: Json,
    /// Its unit.
    pub unit: String,
    /// good, uncertain or bad.
    pub quality: &'static str,
    /// Why it is not good, or what is to be known of one that is; else empty.
    pub reason: String,
    /// When the value arose, in milliseconds since 1970 UTC.
    pub at: i64,
    /// The same as ISO 8601 text.
    pub time: String,
    /// Its labels.
    pub labels: Vec<String>,
}

/// So many steps a template may take, each of them some 64 bytes of data: enough for some ten thousand points. Who fills
/// templates of others in does so in a process of its own all the same: printing what holds itself many times costs no step.
const FUEL: u64 = 2_000_000;
/// MQTT 3.1.1, section 1.5.3: a text has a length of two bytes.
const LONGEST_TOPIC: usize = 65_535;

impl TemplatePart {
    const fn word(self) -> &'static str {
        match self {
            Self::Topic => "topic",
            Self::Payload => "payload",
        }
    }
}

impl MessageTemplates {
    /// Reads both templates.
    ///
    /// # Errors
    /// [`TemplateFault`] when one of them is no template.
    pub fn new(topic: &str, payload: &str) -> Result<Self, TemplateFault> {
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::Strict);
        environment.set_fuel(Some(FUEL));
        // As in JSON, whoever writes the braces.
        environment.set_formatter(|out, state, value| match value.kind() {
            ValueKind::None => Ok(out.write_str("null")?),
            ValueKind::Bool => Ok(out.write_str(if value.is_true() { "true" } else { "false" })?),
            _ => minijinja::escape_formatter(out, state, value),
        });
        for (part, text) in [(TemplatePart::Topic, topic), (TemplatePart::Payload, payload)] {
            let added = environment.add_template_owned(part.word(), text.to_owned());
            added.map_err(|error| fault(part, &error))?;
        }
        Ok(Self { environment })
    }

    /// Fills both in.
    ///
    /// # Errors
    /// [`TemplateFault`] when something in them is not known, or when the topic is none.
    pub fn render(&self, context: &MessageContext) -> Result<RenderedMessage, TemplateFault> {
        self.render_value(minijinja::Value::from(minijinja::value::Serde(context)))
    }

    /// The same, with a context that is JSON already.
    ///
    /// # Errors
    /// As [`MessageTemplates::render`].
    pub fn render_json(&self, context: &Json) -> Result<RenderedMessage, TemplateFault> {
        self.render_value(minijinja::Value::from(minijinja::value::Serde(context)))
    }

    fn render_value(&self, context: minijinja::Value) -> Result<RenderedMessage, TemplateFault> {
        let fill = |part: TemplatePart| {
            let template = self.environment.get_template(part.word());
            template.and_then(|template| template.render(context.clone())).map_err(|error| fault(part, &error))
        };
        let topic = fill(TemplatePart::Topic)?;
        if let Some(message) = topic_fault(&topic) {
            return Err(TemplateFault { part: TemplatePart::Topic, line: 1, message });
        }
        Ok(RenderedMessage { topic, payload: fill(TemplatePart::Payload)? })
    }
}

/// What keeps a text from being a topic to publish to.
///
/// Source: MQTT 3.1.1, section 4.7.
fn topic_fault(topic: &str) -> Option<String> {
    if topic.is_empty() {
        return Some("the topic is empty".to_owned());
    }
    if topic.contains(['+', '#', '\0', '\n']) {
        return Some(format!("{topic:?} has + or # or a line end in it, which no topic has"));
    }
    (topic.len() > LONGEST_TOPIC).then(|| format!("the topic has {} bytes, and may have {LONGEST_TOPIC}", topic.len()))
}

fn fault(part: TemplatePart, error: &minijinja::Error) -> TemplateFault {
    let kind = error.kind().to_string();
    let message = error.detail().map_or_else(|| kind.clone(), |detail| format!("{kind}: {detail}"));
    TemplateFault { part, line: error.line().unwrap_or(1), message }
}

/// A value of a type as JSON says it; what is not finite, and what is bad, is null.
#[must_use]
pub fn json_of(value: Option<&Value>, data_type: Option<DataType>, quality: Quality) -> Json {
    match value.filter(|_| !quality.is_bad()) {
        None => Json::Null,
        Some(Value::Bool(bit)) => (*bit).into(),
        Some(Value::Int(int)) => (*int).into(),
        Some(Value::Uint(uint)) => (*uint).into(),
        // Through its own text, so that 49.98 does not become 49.97999954223633.
        Some(Value::Float32(float)) => float.to_string().parse::<f64>().map_or(Json::Null, Json::from),
        Some(Value::Float64(float)) => (*float).into(),
        Some(Value::Text(text)) => {
            let list = matches!(data_type, Some(DataType::Array(_))).then(|| serde_json::from_str(text).ok());
            list.flatten().unwrap_or_else(|| text.as_ref().into())
        }
    }
}

/// A moment as ISO 8601 text, in UTC.
#[must_use]
pub fn iso_time(millis: i64) -> String {
    jiff::Timestamp::from_millisecond(millis).map_or_else(|_| millis.to_string(), |moment| format!("{moment:.3}"))
}

/// The milliseconds since 1970 of a text that [`iso_time`] could have made.
#[must_use]
pub fn milliseconds_of(text: &str) -> Option<i64> {
    text.parse().map(jiff::Timestamp::as_millisecond).ok().or_else(|| text.parse().ok())
}

/// Where in a message the parts of a command are: a JSON pointer such as `/device`, or `topic:2` for the third level of the
/// topic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommandMapping {
    /// The device.
    pub device: String,
    /// Its point.
    pub point: String,
    /// The value.
    pub value: String,
    /// What the reply repeats, so that its receiver knows what it is about.
    pub id: String,
}

/// A command as a message has it.
#[derive(Debug, Clone, PartialEq)]
pub struct MessageCommand {
    /// The device.
    pub device: String,
    /// Its point.
    pub point: String,
    /// The value; a null gives back what was commanded before.
    pub value: CommandValue,
    /// What the reply repeats; null when there is none.
    pub id: Json,
}

impl CommandMapping {
    /// What a file should say for one part, for messages.
    pub const FORM: &str = "a JSON pointer such as /device, or topic:2 for the third level of the topic";

    /// Whether a text says where a part is.
    #[must_use]
    pub fn is_part(text: &str) -> bool {
        match text.strip_prefix("topic:") {
            Some(level) => level.parse::<usize>().is_ok_and(|level| level < 100),
            None => text.starts_with('/') && text.len() > 1,
        }
    }

    /// Reads a command. Its id goes back with the reply, and is short.
    ///
    /// # Errors
    /// What is missing or wrong, with what could be read of the id.
    pub fn read(&self, topic: &str, payload: &[u8]) -> Result<MessageCommand, (Json, String)> {
        let payload: Json =
            serde_json::from_slice(payload).map_err(|error| (Json::Null, format!("no JSON: {error}")))?;
        let part = |place: &str| match place.strip_prefix("topic:") {
            Some(level) => {
                let level = level.parse().ok().and_then(|level| topic.split('/').nth(level));
                level.map(Json::from)
            }
            None => payload.pointer(place).cloned(),
        };
        let id = part(&self.id).unwrap_or(Json::Null);
        if id.to_string().len() > LONGEST_ID {
            return Err((Json::Null, format!("the id at {} is longer than {LONGEST_ID} characters", self.id)));
        }
        let text = |what: &str, place: &str| match part(place) {
            Some(Json::String(text)) => Ok(text),
            Some(other) => Err((id.clone(), format!("{what} at {place} is {other}; expected text"))),
            None => Err((id.clone(), format!("there is no {what} at {place}"))),
        };
        let (device, point) = (text("device", &self.device)?, text("point", &self.point)?);
        let value = match part(&self.value) {
            Some(Json::Null) => return Ok(MessageCommand { device, point, value: CommandValue::Relinquish, id }),
            Some(Json::Bool(bit)) => Value::Bool(bit),
            Some(Json::Number(number)) => {
                let whole = number.as_u64().map(Value::Uint).or_else(|| number.as_i64().map(Value::Int));
                whole.unwrap_or_else(|| Value::Float64(number.as_f64().unwrap_or(f64::NAN)))
            }
            Some(Json::String(text)) => Value::Text(text.into()),
            Some(other) => {
                let why = format!("value at {} is {other}; expected a number, true, false or text", self.value);
                return Err((id, why));
            }
            None => return Err((id, format!("there is no value at {}", self.value))),
        };
        Ok(MessageCommand { device, point, value: value.into(), id })
    }
}

/// An id longer than this is no id.
const LONGEST_ID: usize = 200;

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn context() -> MessageContext {
        let point = |name: &str, value: f64| PointContext {
            device: "meter-1".into(),
            name: name.into(),
            title: "Active \"power\"".into(),
            value: value.into(),
            unit: "kW".into(),
            quality: "good",
            reason: String::new(),
            at: 1_700_000_000_123,
            time: iso_time(1_700_000_000_123),
            labels: vec!["billing".into()],
        };
        MessageContext {
            gateway: NamedThing { name: "alderfen-1".into(), title: "Alderfen".into() },
            device: NamedThing { name: "meter-1".into(), title: String::new() },
            label: String::new(),
            now: 1_700_000_000_500,
            time: iso_time(1_700_000_000_500),
            points: vec![point("power", 12.5), point("energy", 77.0)],
            values: [("power".to_owned(), json!(12.5)), ("energy".to_owned(), json!(77.0))].into(),
            samples: vec![point("power", 12.5)],
        }
    }

    fn render(topic: &str, payload: &str) -> Result<(String, String), String> {
        let templates = MessageTemplates::new(topic, payload).map_err(|fault| fault.to_string())?;
        let rendered = templates.render(&context()).map_err(|fault| fault.to_string())?;
        Ok((rendered.topic, rendered.payload))
    }

    #[test]
    fn messages_are_filled_in_and_stay_json() {
        let (topic, payload) = render(
            "alderfen/{{ device.name }}/values",
            "{\"at\": {{ now }}, \"values\": {{ values | tojson }}, \"titles\": [{% for p in points %}{{ p.title | tojson }}{% if \
             not loop.last %}, {% endif %}{% endfor %}], \"time\": \"{{ points[0].time }}\"}",
        )
        .unwrap();
        assert_eq!(topic, "alderfen/meter-1/values");
        let expected = json!({
            "at": 1_700_000_000_500_i64,
            "values": { "power": 12.5, "energy": 77.0 },
            "titles": ["Active \"power\"", "Active \"power\""],
            "time": "2023-11-14T22:13:20.123Z",
        });
        assert_eq!(serde_json::from_str::<Json>(&payload).unwrap(), expected);
    }

    #[test]
    fn values_are_written_as_in_json_also_in_braces_of_ones_own() {
        let templates = MessageTemplates::new("t", "{\"v\": [{{ v }}, {{ none }}, {{ true }}, {{ 1.5 }}]}").unwrap();
        assert_eq!(templates.render_json(&json!({ "v": null })).unwrap().payload, "{\"v\": [null, null, true, 1.5]}");
        assert!(templates.render_json(&json!({})).is_err(), "what is not known stays a mistake");
    }

    #[test]
    fn faults_say_which_template_and_line() {
        for (topic, payload, said) in [
            ("t/{{ x", "", "topic line 1: syntax error"),
            ("t", "{\n{% for p in points %}\n", "payload line 2: syntax error"),
            ("t", "a\nb {{ colour }}", "payload line 2: undefined value"),
            ("t/{{ device.name }}/#", "", "topic line 1: \"t/meter-1/#\" has + or #"),
            ("{{ label }}", "", "topic line 1: the topic is empty"),
            (
                "t",
                "{% for a in range(99999) %}{% for b in range(99999) %}x{% endfor %}{% endfor %}",
                "payload line 1: engine ran out of fuel",
            ),
        ] {
            let fault = render(topic, payload).unwrap_err();
            assert!(fault.starts_with(said), "{fault:?} is not {said:?}");
        }
    }

    #[test]
    fn commands_are_found_in_topic_and_payload() {
        let mapping = |device: &str, value: &str| CommandMapping {
            device: device.into(),
            point: "/point".into(),
            value: value.into(),
            id: "/id".into(),
        };
        let read = |mapping: CommandMapping, payload: &str| mapping.read("alderfen/set/pump", payload.as_bytes());
        let command = read(mapping("topic:2", "/v/0"), r#"{"point": "speed", "v": [41.5], "id": 7}"#).unwrap();
        let wanted = MessageCommand {
            device: "pump".into(),
            point: "speed".into(),
            value: Value::Float64(41.5).into(),
            id: json!(7),
        };
        assert_eq!(command, wanted);
        for (payload, id, said) in [
            ("{", Json::Null, "no JSON"),
            (r#"{"id": "a", "value": 1}"#, json!("a"), "there is no point at /point"),
            (r#"{"point": 3, "value": 1}"#, Json::Null, "point at /point is 3; expected text"),
            (r#"{"point": "p"}"#, Json::Null, "there is no value at /value"),
            (&format!(r#"{{"id": "{}"}}"#, "x".repeat(200)), Json::Null, "the id at /id is longer than 200"),
            (r#"{"point": "p", "value": [1]}"#, Json::Null, "value at /value is [1]; expected a number"),
        ] {
            let (told, why) = read(mapping("topic:2", "/value"), payload).unwrap_err();
            assert!(told == id && why.starts_with(said), "{why}");
        }
        let given_back = read(mapping("topic:2", "/value"), r#"{"point": "p", "value": null}"#).unwrap();
        assert_eq!(given_back.value, CommandValue::Relinquish);
        assert!(["/a", "/a/0", "topic:0"].iter().all(|text| CommandMapping::is_part(text)));
        assert!(!["", "/", "a", "topic:", "topic:x"].iter().any(|text| CommandMapping::is_part(text)));
    }
}

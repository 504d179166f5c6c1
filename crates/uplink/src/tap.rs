use crate::mqtt::{Connection, Intake, MqttEvent};
use crate::sparkplug::{FIRST_OWN_ALIAS, data_type_of, own_names};
use interlex_core::description::{JsonUplink, Uplink, UplinkKind};
use interlex_core::{Clock, PointTable};
use interlex_sparkplug::proto::{Metric, Payload, metric, property_value};
use interlex_sparkplug::{
    DataType, MetricValue, NAMESPACE, Topic, array_elements, check_payload, decode_payload, decode_value,
};
use serde::Serialize;
use std::collections::HashMap;
use std::sync::Arc;

/// A live, decoded view of what arrives at a broker: a connection of its own that only listens.
pub struct Tap {
    connection: Connection,
    topics: Vec<String>,
    names: HashMap<(String, u64), Known>,
    own: (String, String),
    clock: Arc<dyn Clock>,
}

impl std::fmt::Debug for Tap {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Tap").field("topics", &self.topics).finish_non_exhaustive()
    }
}

/// What a birth said about an alias.
#[derive(Debug, Clone)]
struct Known {
    name: String,
    data_type: Option<DataType>,
    unit: Option<String>,
}

/// Why a tap ended.
#[derive(Debug, thiserror::Error)]
pub enum TapError {
    /// The broker is away.
    #[error("the broker does not answer: {0}")]
    Broker(String),
}

/// One message as it arrived.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TapMessage {
    /// When it arrived, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Its topic.
    pub topic: String,
    /// NBIRTH, DDATA, …; empty when the topic is none of Sparkplug B.
    #[serde(rename = "type")]
    pub message: String,
    /// Its seq, where it has one.
    pub seq: Option<u64>,
    /// When it was sent, in milliseconds since 1970 UTC.
    pub timestamp: Option<u64>,
    /// Size of the payload in bytes.
    pub bytes: usize,
    /// What is wrong with it.
    pub error: Option<String>,
    /// Its metrics, of a Sparkplug B message.
    pub metrics: Vec<TapMetric>,
    /// What it says, of any other message that is text; what is too long is cut.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Whether the broker had kept it.
    pub retained: bool,
}

/// One metric as it arrived.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TapMetric {
    /// Its name; for an alias without a birth seen, the alias.
    pub name: String,
    /// Its datatype, where known.
    pub data_type: Option<&'static str>,
    /// Its value as JSON; `null` when it has none.
    #[schema(value_type = serde_json::Value)]
    pub value: serde_json::Value,
    /// Its unit, where a birth told one.
    pub unit: Option<String>,
    /// When the value arose, in milliseconds since 1970 UTC.
    pub timestamp: Option<u64>,
    /// Whether it was kept during an outage.
    pub historical: bool,
    /// The property Quality, where it came along: 0, 192 or 500.
    pub quality: Option<u32>,
}

impl Tap {
    /// Starts to listen to everything in the group of an uplink, or to everything below the fixed part of its topic; with a
    /// `filter`, to that. `id` sets this listener apart from others.
    ///
    /// # Errors
    /// [`TapError::Broker`] when certificates or key of the uplink are of no use.
    pub async fn start(
        uplink: &Uplink,
        points: &PointTable,
        links: &[String],
        (id, filter): (&str, Option<&str>),
        clock: Arc<dyn Clock>,
    ) -> Result<Self, TapError> {
        let client_id = format!("tap-{}-{id}", uplink.settings.name);
        let filter = filter.map(|filter| vec![filter.to_owned()]);
        let node = match &uplink.kind {
            UplinkKind::Sparkplug(node) => node,
            UplinkKind::Json(own) => {
                let connection =
                    Connection::start(uplink, &client_id, None, Intake::ALL).await.map_err(TapError::Broker)?;
                let topics = filter.unwrap_or_else(|| topics_of(own));
                return Ok(Self {
                    connection,
                    topics,
                    names: HashMap::new(),
                    own: (String::new(), String::new()),
                    clock,
                });
            }
        };
        let connection = Connection::start(uplink, &client_id, None, Intake::ALL).await.map_err(TapError::Broker)?;
        // The births of this node went by before the tap was opened: its aliases are known from the description.
        let own = points.all().iter().map(|info| {
            let unit = info.point().settings.unit.clone();
            let unit = (!unit.is_empty()).then_some(unit);
            let known = Known { name: info.name().to_owned(), data_type: info.value_type().map(data_type_of), unit };
            ((format!("{}/{}", node.group, node.node), u64::from(info.index.0)), known)
        });
        let health = (FIRST_OWN_ALIAS..).zip(own_names(links)).map(|(alias, name)| {
            let known = Known { name, data_type: None, unit: None };
            ((format!("{}/{}", node.group, node.node), alias), known)
        });
        let own = own.chain(health);
        let topics =
            filter.unwrap_or_else(|| vec![format!("{NAMESPACE}/{}/#", node.group), format!("{NAMESPACE}/STATE/#")]);
        let own_node = (node.group.to_string(), node.node.to_string());
        Ok(Self { connection, topics, names: own.collect(), own: own_node, clock })
    }

    /// Waits for the next message.
    ///
    /// # Errors
    /// [`TapError::Broker`] when the connection cannot be made or is lost; the tap is of no more use then.
    pub async fn next(&mut self) -> Result<TapMessage, TapError> {
        loop {
            match self.connection.next().await {
                MqttEvent::ConnAck => self.connection.subscribe(&self.topics),
                MqttEvent::Publish { topic, payload, is_retained } => {
                    let message = self.decode(topic, &payload);
                    return Ok(TapMessage { retained: is_retained, ..message });
                }
                MqttEvent::SubAck | MqttEvent::UnsubAck | MqttEvent::PubAck => {}
                MqttEvent::Lost(error) => return Err(TapError::Broker(error)),
            }
        }
    }

    fn decode(&mut self, topic: String, bytes: &[u8]) -> TapMessage {
        let (decoded, parsed) = (decode_payload(bytes), topic.parse::<Topic>());
        let mut told = TapMessage {
            at: self.clock.now().as_millis(),
            topic,
            message: String::new(),
            seq: None,
            timestamp: None,
            bytes: bytes.len(),
            error: None,
            metrics: Vec::new(),
            text: None,
            retained: false,
        };
        // Sparkplug 3.0.0, section 5.6: a STATE is JSON.
        let is_sparkplug = told.topic.strip_prefix(NAMESPACE).is_some_and(|rest| !rest.starts_with("/STATE/"));
        if !is_sparkplug {
            match std::str::from_utf8(bytes) {
                Ok(text) => told.text = Some(text.chars().take(LONGEST_TEXT).collect()),
                Err(_) => told.error = Some("neither Sparkplug B nor text".to_owned()),
            }
            return told;
        }
        let (payload, topic) = match (decoded, parsed) {
            (Ok(payload), Ok(topic)) => (payload, topic),
            (Err(error), _) => {
                told.error = Some(error.to_string());
                return told;
            }
            (_, Err(error)) => {
                told.error = Some(error.to_string());
                return told;
            }
        };
        told.message = topic.message.word().to_owned();
        (told.seq, told.timestamp) = (payload.seq, payload.timestamp);
        told.error = check_payload(&payload).err().map(|error| error.to_string());
        self.learn(&topic, &payload);
        let node = format!("{}/{}", topic.group, topic.node);
        told.metrics = payload.metrics.iter().map(|metric| self.metric(&node, metric)).collect();
        told
    }

    /// Remembers the aliases of a birth.
    fn learn(&mut self, topic: &Topic, payload: &Payload) {
        let is_own = topic.group == self.own.0 && topic.node == self.own.1;
        // Other nodes may announce as many aliases as they like; what is remembered of them has an end.
        if !topic.message.is_birth() || (!is_own && self.names.len() > MOST_NAMES) || self.names.len() > 4 * MOST_NAMES
        {
            return;
        }
        let node = format!("{}/{}", topic.group, topic.node);
        for metric in &payload.metrics {
            if let (Some(alias), Some(name)) = (metric.alias, &metric.name) {
                let data_type = metric.datatype.and_then(DataType::from_code);
                let known = Known { name: name.clone(), data_type, unit: text_property(metric, "unit") };
                self.names.insert((node.clone(), alias), known);
            }
        }
    }

    fn metric(&self, node: &str, metric: &Metric) -> TapMetric {
        let known = metric.alias.and_then(|alias| self.names.get(&(node.to_owned(), alias)));
        let told = metric.datatype.and_then(DataType::from_code);
        let data_type = told.or_else(|| known.and_then(|known| known.data_type));
        let alias = || format!("alias {}", metric.alias.unwrap_or_default());
        TapMetric {
            name: metric.name.clone().or_else(|| known.map(|known| known.name.clone())).unwrap_or_else(alias),
            data_type: data_type.map(DataType::name),
            value: metric.value.as_ref().map_or(serde_json::Value::Null, |value| json(data_type, value)),
            unit: text_property(metric, "unit").or_else(|| known.and_then(|known| known.unit.clone())),
            timestamp: metric.timestamp,
            historical: metric.is_historical.unwrap_or(false),
            quality: quality(metric),
        }
    }
}

const MOST_NAMES: usize = 100_000;
/// Characters of a text that are shown.
const LONGEST_TEXT: usize = 20_000;

/// Where messages made from templates are: below what is fixed in the topic, and where commands and replies are.
fn topics_of(own: &JsonUplink) -> Vec<String> {
    let fixed = own.topic.split(['{', '+', '#']).next().unwrap_or_default();
    let below = match fixed.rsplit_once('/') {
        Some((before, _)) if fixed.len() < own.topic.len() => format!("{before}/#"),
        None if fixed.len() < own.topic.len() => "#".to_owned(),
        _ => own.topic.clone(),
    };
    [Some(below), own.command_topic.clone(), own.reply_topic.clone()].into_iter().flatten().collect()
}

fn property<'a>(metric: &'a Metric, key: &str) -> Option<&'a property_value::Value> {
    let properties = metric.properties.as_ref()?;
    let position = properties.keys.iter().position(|name| name == key)?;
    properties.values.get(position)?.value.as_ref()
}

fn text_property(metric: &Metric, key: &str) -> Option<String> {
    match property(metric, key)? {
        property_value::Value::StringValue(text) => Some(text.clone()),
        _ => None,
    }
}

fn quality(metric: &Metric) -> Option<u32> {
    match property(metric, "Quality")? {
        property_value::Value::IntValue(code) => Some(*code),
        _ => None,
    }
}

/// Longer ones are told by their length.
const SHOWN: usize = 1024;

fn json(data_type: Option<DataType>, value: &metric::Value) -> serde_json::Value {
    let scalar = data_type.and_then(|data_type| decode_value(data_type, value).ok());
    match (scalar, value) {
        (Some(MetricValue::Bool(bit)), _) => bit.into(),
        (None, metric::Value::BooleanValue(bit)) => (*bit).into(),
        (Some(MetricValue::Int(int)), _) => int.into(),
        (Some(MetricValue::Uint(uint)), _) => uint.into(),
        (Some(MetricValue::Float(float)), _) => float.into(),
        (Some(MetricValue::Double(float)), _) => float.into(),
        (Some(MetricValue::Text(text)), _) => text.into_owned().into(),
        (None, metric::Value::IntValue(bits)) => (*bits).into(),
        (None, metric::Value::LongValue(bits)) => (*bits).into(),
        (None, metric::Value::FloatValue(float)) => (*float).into(),
        (None, metric::Value::DoubleValue(float)) => (*float).into(),
        (None, metric::Value::StringValue(text)) => text.clone().into(),
        (None, metric::Value::BytesValue(bytes)) if data_type == Some(DataType::Bytes) && bytes.len() <= SHOWN => {
            bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>().into()
        }
        (None, metric::Value::BytesValue(bytes)) if bytes.len() <= SHOWN => {
            let elements = data_type.and_then(|data_type| array_elements(data_type, bytes));
            elements.map_or_else(|| format!("{} bytes", bytes.len()).into(), serde_json::Value::from)
        }
        (None, metric::Value::BytesValue(bytes)) => format!("{} bytes", bytes.len()).into(),
        (None, metric::Value::DatasetValue(dataset)) => format!("dataset of {} rows", dataset.rows.len()).into(),
        (None, metric::Value::TemplateValue(template)) => {
            format!("template of {} members", template.metrics.len()).into()
        }
    }
}

use crate::description::Span;
use crate::description::settings::is_false;
use crate::{CommandMapping, Report};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What messages made from templates have.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct JsonUplink {
    /// Where messages go: text with {{ device.name }} and the like in it.
    #[schemars(length(min = 1))]
    pub topic: String,
    /// What one message is about.
    #[serde(default)]
    pub message_per: MessagePer,
    /// What messages say: text with {{ values | tojson }} and the like in it.
    #[serde(default = "default_payload")]
    #[schemars(extend("x-lines" = true, "x-wide" = true))]
    pub payload: String,
    /// When a message goes: on change of one of its points, at a period, or both.
    #[serde(default)]
    pub send: Report,
    /// How long changes are gathered for one message.
    #[serde(default = "default_gather")]
    #[schemars(extend("x-advanced" = true))]
    pub gather: Span,
    /// MQTT quality of service.
    #[serde(default = "default_qos")]
    #[schemars(range(min = 0, max = 2))]
    pub qos: u8,
    /// Whether the broker keeps the last message of each topic.
    #[serde(default, skip_serializing_if = "is_false")]
    #[schemars(extend("default" = false))]
    pub retain: bool,
    /// Where commands come from, with + and # for any level; they need commands = true.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub command_topic: Option<String>,
    /// Where it is told what became of commands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(length(min = 1))]
    pub reply_topic: Option<String>,
    /// Where a command has its device: a JSON pointer, or topic:2 for the third level of the topic.
    #[serde(default = "default_command_device")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_device: String,
    /// Where a command has its point.
    #[serde(default = "default_command_point")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_point: String,
    /// Where a command has its value.
    #[serde(default = "default_command_value")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_value: String,
    /// Where a command has what the reply repeats.
    #[serde(default = "default_command_id")]
    #[schemars(extend("format" = "command-part", "x-advanced" = true))]
    pub command_id: String,
}

/// What one message is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum MessagePer {
    /// All points of the gateway.
    Gateway,
    /// The points of a device.
    #[default]
    Device,
    /// The points with a label.
    Label,
    /// One point.
    Point,
}

impl JsonUplink {
    /// Where commands have their parts.
    #[must_use]
    pub fn mapping(&self) -> CommandMapping {
        CommandMapping {
            device: self.command_device.clone(),
            point: self.command_point.clone(),
            value: self.command_value.clone(),
            id: self.command_id.clone(),
        }
    }
}

fn default_payload() -> String {
    "{\"time\": {{ time | tojson }}, \"values\": {{ values | tojson }}}".to_owned()
}

fn default_gather() -> Span {
    Span::from_millis(200)
}

const fn default_qos() -> u8 {
    1
}

fn default_command_device() -> String {
    "/device".to_owned()
}

fn default_command_point() -> String {
    "/point".to_owned()
}

fn default_command_value() -> String {
    "/value".to_owned()
}

fn default_command_id() -> String {
    "/id".to_owned()
}

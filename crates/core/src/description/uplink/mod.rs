//! Uplinks: brokers, what is said to them, and what is kept for them.

mod broker_url;
mod journal;
mod json;
mod settings;
mod sparkplug;

pub use broker_url::{BrokerUrl, BrokerUrls, ParseBrokerUrlError};
pub use journal::{JournalSettings, WhenFull};
pub use json::{JsonUplink, MessagePer};
pub use settings::{BrokerSettings, MqttVersion, Uplink, UplinkKind, UplinkSettings};
pub use sparkplug::SparkplugUplink;

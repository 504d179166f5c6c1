//! Sparkplug B: what goes up as metrics of a node and its devices.

mod alias;
mod births;
mod commands;
mod data;
mod health;
mod host;
mod metric;
mod node;
mod waiting;

pub(crate) use alias::FIRST_OWN_ALIAS;
pub(crate) use health::own_names;
pub(crate) use metric::data_type_of;
pub(crate) use node::SparkplugNode;

use super::event::EdgeNodeEvent;
use super::machine::{EdgeNode, REBIRTH, State};
use crate::device::{Device, Snapshots};
use crate::proto::{Metric, metric};
use crate::{DataType, MessageType, Topic, check_payload, decode_command, decode_within};

/// What a command may take in memory.
const HEAVIEST_COMMAND: usize = 1 << 20;
/// More metrics in one command are taken for a mistake: each is answered by a message of its own.
const MOST_COMMANDS: usize = 500;

impl EdgeNode {
    /// Takes in a message of a subscribed topic. Commands may name their metrics.
    pub fn handle_message(&mut self, topic: &str, payload: &[u8], snapshots: &dyn Snapshots) {
        let refused = |why: String| EdgeNodeEvent::CommandRefused { device: None, why: format!("{topic}: {why}") };
        let to = topic.parse::<Topic>().ok().filter(|to| to.group == self.group && to.node == self.node);
        let addressed = to.filter(|to| matches!(to.message, MessageType::NCmd | MessageType::DCmd));
        let Some(to) = addressed else {
            self.events.push_back(refused("not a command to this node".to_owned()));
            return;
        };
        let payload = match decode_within(payload, HEAVIEST_COMMAND) {
            Ok(payload) => payload,
            Err(error) => {
                self.events.push_back(refused(error.to_string()));
                return;
            }
        };
        if let Err(error) = check_payload(&payload) {
            self.events.push_back(refused(error.to_string()));
            return;
        }
        if payload.metrics.len() > MOST_COMMANDS {
            let why = format!("{} metrics in one command; {MOST_COMMANDS} are taken", payload.metrics.len());
            self.events.push_back(refused(why));
            return;
        }
        if let Some(id) = to.device {
            let events: Vec<_> =
                payload.metrics.iter().map(|metric| self.device_command(&id, metric, snapshots)).collect();
            let known = |device: &Option<Device>| device.as_ref().is_some_and(|device| device.id == id);
            let device = self.devices.iter().position(known);
            let refused = |why: String| EdgeNodeEvent::CommandRefused { device, why: format!("{topic}: {why}") };
            let event = |outcome: Result<EdgeNodeEvent, String>| outcome.unwrap_or_else(refused);
            self.events.extend(events.into_iter().map(event));
            return;
        }
        for command in &payload.metrics {
            match (command.name.as_deref(), &command.value) {
                (Some(REBIRTH), Some(metric::Value::BooleanValue(true))) => {
                    // tck-id-operational-behavior-data-commands-rebirth-action-1: no data until the births are out.
                    if self.state == State::Born {
                        if self.is_host_doubtful() {
                            self.trust_host();
                            self.events.push_back(EdgeNodeEvent::HostConfirmed);
                        }
                        self.birth_due();
                    }
                }
                (Some(REBIRTH), _) => self.events.push_back(refused("Rebirth takes the Boolean true".to_owned())),
                (name, _) => {
                    let alias = || {
                        command
                            .alias
                            .map_or_else(|| "a metric without a name".to_owned(), |alias| format!("alias {alias}"))
                    };
                    let name = name.map_or_else(alias, |name| format!("{name:?}"));
                    self.events.push_back(refused(format!("{name} is no command of this node")));
                }
            }
        }
    }

    /// What one metric of a DCMD asks for, by name or by alias.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-payloads-alias-data-cmd-requirement.
    fn device_command(&self, id: &str, command: &Metric, snapshots: &dyn Snapshots) -> Result<EdgeNodeEvent, String> {
        let known = |device: &Option<Device>| device.as_ref().is_some_and(|device| device.id == id);
        let device = self.devices.iter().position(known).ok_or_else(|| format!("there is no device {id:?}"))?;
        let metrics = || self.device(device).into_iter().flat_map(Device::metrics).enumerate();
        let (found, name) = match (command.alias, command.name.as_deref()) {
            (Some(alias), _) => (metrics().find(|(_, metric)| metric.alias == alias), format!("alias {alias}")),
            (None, name) => {
                let name = name.unwrap_or_default();
                (metrics().find(|(_, metric)| snapshots.name(metric.alias) == name), format!("{name:?}"))
            }
        };
        let (metric, spec) = found.ok_or_else(|| format!("device {id:?} has no metric {name}"))?;
        let name = || snapshots.name(spec.alias);
        if !spec.is_writable {
            return Err(format!("metric {:?} takes no commands", name()));
        }
        if command.value.is_none() && command.is_null == Some(true) {
            return Ok(EdgeNodeEvent::Command { device, metric, value: None });
        }
        let value = command.value.as_ref().ok_or_else(|| format!("metric {:?} is told no value", name()))?;
        let named = command.datatype.and_then(DataType::from_code);
        let value =
            decode_command(spec.data_type, named, value).map_err(|error| format!("metric {:?}: {error}", name()))?;
        Ok(EdgeNodeEvent::Command { device, metric, value: Some(value.into_owned()) })
    }
}

use super::messages::JsonMessages;
use super::outbound::Outbound;
use crate::command::{Asker, BrokerCommand, CommandResult};
use crate::session::Base;
use interlex_core::{OutcomeWord, beginning};
use serde_json::json;
use tokio::time::Instant;

/// Results that wait for the broker.
const MOST_REPLIES: usize = 1000;

impl JsonMessages {
    /// Takes a command, and hands it on to the field.
    pub(super) fn command(&mut self, base: &Base<Outbound>, topic: &str, payload: &[u8], is_retained: bool) {
        let command = match self.own.mapping().read(topic, payload) {
            // It would be carried out again at every connection.
            Ok(command) if is_retained => Err((command.id, "retained commands are not taken".to_owned())),
            Ok(command) => {
                let known = self.inventory.points.find(&command.device, &command.point);
                let why = match known {
                    None => Some(format!("there is no point {}/{}", command.device, command.point)),
                    Some(info) if !info.takes_commands() => Some(format!("{} takes no commands", info.name())),
                    Some(_) => None,
                };
                why.map_or_else(|| Ok(command.clone()), |why| Err((command.id.clone(), why)))
            }
            Err(wrong) => Err(wrong),
        };
        match command {
            Ok(command) => {
                let (uplink, answer) = (base.name().to_owned(), Some((Asker::Id(command.id), base.results.0.clone())));
                let (device, point, value) = (command.device, command.point, command.value);
                base.commands.send(BrokerCommand { uplink, device, point, value, at: Instant::now(), answer });
            }
            Err((id, why)) => {
                let why = beginning(&why);
                base.commands.refused(base.name(), &format!("{topic}: {why}"));
                tracing::warn!(uplink = base.name(), topic = beginning(topic), why, "command refused");
                self.reply(&id, OutcomeWord::Refused, &why);
            }
        }
    }

    pub(super) fn tell_result(&mut self, result: &CommandResult) {
        if let Asker::Id(id) = &result.asker {
            self.reply(id, result.outcome.word(), &result.words);
        }
    }

    /// Tells what became of a command, when it is known where; of too many the oldest are not told.
    fn reply(&mut self, id: &serde_json::Value, result: OutcomeWord, reason: &str) {
        if self.own.reply_topic.is_none() {
            return;
        }
        if self.replies.len() >= MOST_REPLIES {
            self.replies.pop_front();
        }
        self.replies.push_back(json!({ "id": id, "result": result, "reason": reason }).to_string());
    }
}

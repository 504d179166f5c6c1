use interlex_core::{CommandOutcome, CommandValue, beginning};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use tokio::sync::mpsc;
use tokio::time::Instant;

/// What somebody at a broker wants of a point.
#[derive(Debug)]
pub struct BrokerCommand {
    /// The uplink that it came by.
    pub uplink: String,
    /// The device.
    pub device: String,
    /// The point.
    pub point: String,
    /// The engineering value that is wanted, or that what was commanded is given back.
    pub value: CommandValue,
    /// When it came.
    pub at: Instant,
    /// Where to tell what became of it, and who asked there.
    pub answer: Option<(Asker, mpsc::Sender<CommandResult>)>,
}

impl BrokerCommand {
    /// Tells where it came from what became of it. Whoever does not take that in time finds it in the audit trail.
    pub fn answer(&self, outcome: CommandOutcome, words: String) {
        if let Some((asker, answer)) = &self.answer {
            let _ = answer.try_send(CommandResult { asker: asker.clone(), outcome, words });
        }
    }

    /// It is not carried out. Gives the words that were told.
    pub fn refuse(&self, why: String) -> String {
        let outcome = CommandOutcome::Refused(why);
        let words = beginning(&format!("{}/{} = {}: {outcome}", self.device, self.point, self.value));
        self.answer(outcome, words.clone());
        words
    }
}

/// Whom the result of a command is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asker {
    /// Whoever looks at the results of a device, by its slot.
    Device(usize),
    /// Whoever gave this id with the command.
    Id(serde_json::Value),
}

/// What became of a command.
#[derive(Debug)]
pub struct CommandResult {
    /// Who asked.
    pub asker: Asker,
    /// What became of it.
    pub outcome: CommandOutcome,
    /// The point, the value and the outcome.
    pub words: String,
}

/// What uplinks hand over.
#[derive(Debug)]
pub enum FromBroker {
    /// Something to carry out.
    Command(BrokerCommand),
    /// Something that could not be understood or may not be.
    Refused {
        /// The uplink that it came by.
        uplink: String,
        /// What was wrong with it.
        why: String,
    },
}

/// The way of commands from the uplinks to whoever carries them out.
#[derive(Debug, Clone)]
pub struct BrokerCommands {
    sender: mpsc::Sender<FromBroker>,
    /// How many found a queue full since that was last told.
    dropped: Arc<AtomicU64>,
}

/// Few commands come at a time; more than these wait for a device that does not answer, and are refused.
pub const COMMAND_QUEUE: usize = 64;

impl BrokerCommands {
    /// A way, and its other end.
    #[must_use]
    pub fn channel() -> (Self, mpsc::Receiver<FromBroker>) {
        let (sender, receiver) = mpsc::channel(COMMAND_QUEUE);
        (Self { sender, dropped: Arc::default() }, receiver)
    }

    /// Hands a command over.
    pub(crate) fn send(&self, command: BrokerCommand) {
        self.hand_over(FromBroker::Command(command));
    }

    /// A command that could not be understood is told to those who look at the audit trail.
    pub(crate) fn refused(&self, uplink: &str, why: &str) {
        let why = beginning(&format!("refused: {why}"));
        self.hand_over(FromBroker::Refused { uplink: uplink.to_owned(), why });
    }

    /// What finds the queue full is counted, and the count is told with the next one that is carried out.
    fn hand_over(&self, from_broker: FromBroker) {
        if let Err(error) = self.sender.try_send(from_broker) {
            self.dropped.fetch_add(1, Ordering::Relaxed);
            tracing::error!("a command was dropped: too many wait");
            if let FromBroker::Command(command) = error.into_inner() {
                command.refuse(format!("{COMMAND_QUEUE} others wait"));
            }
        }
    }

    /// The counter of those that found a queue full.
    #[must_use]
    pub fn dropped(&self) -> Arc<AtomicU64> {
        Arc::clone(&self.dropped)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_finds_the_queue_full_is_counted() {
        let (commands, mut receiver) = BrokerCommands::channel();
        for _ in 0..COMMAND_QUEUE + 3 {
            commands.refused("cloud", "no such metric");
        }
        assert_eq!(commands.dropped.load(Ordering::Relaxed), 3);
        assert!(receiver.try_recv().is_ok());
        commands.refused("cloud", "no such metric");
        assert_eq!(commands.dropped.load(Ordering::Relaxed), 3, "there is room again");
    }
}

use crate::clock::wall_clock;
use crate::gateway::Running;
use arc_swap::ArcSwap;
use interlex_core::{CommandOutcome, Value};
use interlex_store::{AuditEntry, AuditTrail};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::Instant;

/// What a host application wants of a point.
#[derive(Debug)]
pub(crate) struct HostCommand {
    pub(crate) uplink: String,
    pub(crate) device: String,
    pub(crate) point: String,
    pub(crate) value: Value,
    /// When it came.
    pub(crate) at: Instant,
    /// Where to tell what became of it, and who asked there.
    pub(crate) answer: Option<(Asker, mpsc::Sender<CommandResult>)>,
}

/// A command that has waited so long for those before it is not what its host wants any more.
const PATIENCE: Duration = Duration::from_secs(30);

impl HostCommand {
    /// Tells where it came from what became of it. Whoever does not take that in time finds it in the audit trail.
    fn answer(&self, outcome: CommandOutcome, words: String) {
        if let Some((asker, answer)) = &self.answer {
            let _ = answer.try_send(CommandResult { asker: asker.clone(), outcome, words });
        }
    }

    /// It is not carried out.
    fn refuse(&self, why: String) -> String {
        let outcome = CommandOutcome::Refused(why);
        let words = beginning(&format!("{}/{} = {}: {outcome}", self.device, self.point, self.value));
        self.answer(outcome, words.clone());
        words
    }
}

/// Whom the result of a command is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Asker {
    /// Whoever looks at the results of a device, by its place in the node.
    Device(usize),
    /// Whoever gave this id with the command.
    Id(serde_json::Value),
}

/// What became of a command.
#[derive(Debug)]
pub(crate) struct CommandResult {
    pub(crate) asker: Asker,
    pub(crate) outcome: CommandOutcome,
    /// The point, the value and the outcome.
    pub(crate) words: String,
}

#[derive(Debug)]
enum Told {
    Command(HostCommand),
    Refused { uplink: String, why: String },
}

/// The way of commands from the uplinks to the field. Those of a device are carried out one after the other, in the order in
/// which they came; a device that does not answer holds up nobody else's.
#[derive(Debug, Clone)]
pub(crate) struct HostCommands {
    sender: mpsc::Sender<Told>,
    /// How many found a queue full since that was last told.
    dropped: Arc<AtomicU64>,
}

/// Hosts send few commands at a time; more than these wait for a device that does not answer, and are refused.
const QUEUE: usize = 64;

/// Who carries out the commands of one device.
#[derive(Clone)]
struct Lane {
    running: Arc<ArcSwap<Running>>,
    trail: Option<AuditTrail>,
    /// Whether nothing is carried out while the audit trail does not take entries.
    is_audit_required: bool,
    dropped: Arc<AtomicU64>,
}

impl HostCommands {
    /// Starts to carry commands out on whatever runs; it ends with the last sender.
    pub(crate) fn start(running: Arc<ArcSwap<Running>>, trail: Option<AuditTrail>, is_audit_required: bool) -> Self {
        let (commands, mut receiver) = Self::channel();
        let lane = Lane { running, trail, is_audit_required, dropped: Arc::clone(&commands.dropped) };
        tokio::spawn(async move {
            let mut lanes: HashMap<String, mpsc::Sender<HostCommand>> = HashMap::new();
            while let Some(told) = receiver.recv().await {
                let command = match told {
                    Told::Command(command) => command,
                    Told::Refused { uplink, why } => {
                        lane.audit(&uplink, &why).await;
                        continue;
                    }
                };
                let own = lanes.entry(command.device.clone()).or_insert_with(|| {
                    let (sender, receiver) = mpsc::channel(QUEUE);
                    tokio::spawn(lane.clone().run(receiver));
                    sender
                });
                if let Err(error) = own.try_send(command) {
                    lane.dropped.fetch_add(1, Ordering::Relaxed);
                    tracing::error!("a command was dropped: too many wait for its device");
                    error.into_inner().refuse(format!("{QUEUE} others wait"));
                }
            }
        });
        commands
    }

    fn channel() -> (Self, mpsc::Receiver<Told>) {
        let (sender, receiver) = mpsc::channel(QUEUE);
        (Self { sender, dropped: Arc::default() }, receiver)
    }

    pub(crate) fn send(&self, command: HostCommand) {
        self.tell(Told::Command(command));
    }

    /// A command that could not be understood is told to those who look at the audit trail.
    pub(crate) fn refused(&self, uplink: &str, why: &str) {
        self.tell(Told::Refused { uplink: uplink.to_owned(), why: beginning(&format!("refused: {why}")) });
    }

    /// What finds the queue full is counted, and the count is told with the next one that is carried out.
    fn tell(&self, told: Told) {
        if let Err(error) = self.sender.try_send(told) {
            self.dropped.fetch_add(1, Ordering::Relaxed);
            tracing::error!("a command was dropped: too many wait");
            if let Told::Command(command) = error.into_inner() {
                command.refuse(format!("{QUEUE} others wait"));
            }
        }
    }
}

impl Lane {
    async fn run(self, mut commands: mpsc::Receiver<HostCommand>) {
        while let Some(command) = commands.recv().await {
            let words = if command.at.elapsed() > PATIENCE {
                command.refuse(format!("others took {} s before its turn", PATIENCE.as_secs()))
            } else if self.is_audit_required && !self.takes_entries().await {
                command.refuse("the audit trail is required, and its database is away".to_owned())
            } else {
                let (outcome, words) = carry_out(&self.running.load_full(), &command).await;
                command.answer(outcome, words.clone());
                words
            };
            self.audit(&command.uplink, &words).await;
            let dropped = self.dropped.swap(0, Ordering::Relaxed);
            if dropped > 0 {
                let detail = format!("refused: {dropped} commands came while {QUEUE} others waited");
                self.audit(&command.uplink, &detail).await;
            }
        }
    }

    async fn takes_entries(&self) -> bool {
        match &self.trail {
            Some(trail) => trail.flush().await.is_ok() && trail.is_there().await,
            None => true,
        }
    }

    async fn audit(&self, uplink: &str, detail: &str) {
        let Some(trail) = &self.trail else { return };
        let running = self.running.load_full();
        let source = format!("uplink {uplink}");
        let entry = AuditEntry {
            at: wall_clock().as_millis(),
            person: "(host)",
            source: &source,
            action: "command",
            gateway: running.description().gateway.name.as_str(),
            detail,
            ..AuditEntry::default()
        };
        if let Err(error) = trail.add(&entry).await {
            tracing::error!(%error, detail, "a command waits for the audit trail");
        }
    }
}

async fn carry_out(running: &Running, command: &HostCommand) -> (CommandOutcome, String) {
    let HostCommand { uplink, device, point, value, .. } = command;
    let what = beginning(&format!("{device}/{point} = {value}"));
    match running.write(device, point, value.clone()).await {
        None => {
            let outcome = CommandOutcome::Refused("there is no such point any more".to_owned());
            let words = format!("{what}: {outcome}");
            (outcome, words)
        }
        Some(Ok(written)) => {
            tracing::info!(uplink, device, point, value = beginning(&value.to_string()), outcome = %written.outcome, "command carried out");
            (written.outcome(), format!("{what}: {}", written.words))
        }
        Some(Err(error)) => {
            let outcome = error.outcome();
            tracing::warn!(uplink, device, point, value = beginning(&value.to_string()), %outcome, "command not carried out");
            let words = format!("{what}: {outcome}");
            (outcome, words)
        }
    }
}

/// So much of a text that a broker has sent is kept.
const LONGEST: usize = 500;

/// The beginning of a text.
pub(crate) fn beginning(text: &str) -> String {
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{} …", text.get(..end).unwrap_or_default()),
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_finds_the_queue_full_is_counted() {
        let (commands, mut receiver) = HostCommands::channel();
        for _ in 0..QUEUE + 3 {
            commands.refused("cloud", "no such metric");
        }
        assert_eq!(commands.dropped.load(Ordering::Relaxed), 3);
        assert!(receiver.try_recv().is_ok());
        commands.refused("cloud", "no such metric");
        assert_eq!(commands.dropped.load(Ordering::Relaxed), 3, "there is room again");
    }
}

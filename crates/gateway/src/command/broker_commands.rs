use super::Commands;
use interlex_busy::watched;
use interlex_core::{CommandOutcome, beginning};
use interlex_store::{AuditEntry, AuditTrail};
use interlex_uplink::{BrokerCommand, BrokerCommands, COMMAND_QUEUE, FromBroker};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;
use tokio::sync::mpsc;

/// A command that has waited so long for those before it is not what its host wants any more.
const PATIENCE: Duration = Duration::from_secs(30);

/// Who carries out the commands of one device.
#[derive(Clone)]
struct Lane {
    commands: Commands,
    trail: Option<AuditTrail>,
    /// Whether nothing is carried out while the audit trail does not take entries.
    is_audit_required: bool,
    dropped: Arc<AtomicU64>,
}

/// Carries out what comes from brokers, on whatever runs; it ends with the last sender. Those of a device are carried out one
/// after the other, in the order in which they came; a device that does not answer holds up nobody else's.
pub(crate) fn carry_out_broker_commands(
    (from, mut receiver): (&BrokerCommands, mpsc::Receiver<FromBroker>),
    commands: Commands,
    trail: Option<AuditTrail>,
    is_audit_required: bool,
) {
    let lane = Lane { commands, trail, is_audit_required, dropped: from.dropped() };
    tokio::spawn(watched("commands", "", async move {
        let mut lanes: HashMap<String, mpsc::Sender<BrokerCommand>> = HashMap::new();
        while let Some(from_broker) = receiver.recv().await {
            let command = match from_broker {
                FromBroker::Command(command) => command,
                FromBroker::Refused { uplink, why } => {
                    lane.audit(&uplink, &why).await;
                    continue;
                }
            };
            let own = lanes.entry(command.device.clone()).or_insert_with(|| {
                let (sender, receiver) = mpsc::channel(COMMAND_QUEUE);
                tokio::spawn(watched("commands", command.device.clone(), lane.clone().run(receiver)));
                sender
            });
            if let Err(error) = own.try_send(command) {
                lane.dropped.fetch_add(1, Ordering::Relaxed);
                tracing::error!("a command was dropped: too many wait for its device");
                error.into_inner().refuse(format!("{COMMAND_QUEUE} others wait"));
            }
        }
    }));
}

impl Lane {
    async fn run(self, mut commands: mpsc::Receiver<BrokerCommand>) {
        while let Some(command) = commands.recv().await {
            let words = if command.at.elapsed() > PATIENCE {
                command.refuse(format!("others took {} s before its turn", PATIENCE.as_secs()))
            } else if self.is_audit_required && !self.takes_entries().await {
                command.refuse("the audit trail is required, and its database is away".to_owned())
            } else {
                let (outcome, words) = self.carry_out(&command).await;
                command.answer(outcome, words.clone());
                words
            };
            self.audit(&command.uplink, &words).await;
            let dropped = self.dropped.swap(0, Ordering::Relaxed);
            if dropped > 0 {
                let detail = format!("refused: {dropped} commands came while {COMMAND_QUEUE} others waited");
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
        let running = self.commands.running();
        let source = format!("uplink {uplink}");
        let entry = AuditEntry {
            at: running.clock().now().as_millis(),
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

    async fn carry_out(&self, command: &BrokerCommand) -> (CommandOutcome, String) {
        let BrokerCommand { uplink, device, point, value, .. } = command;
        let what = beginning(&format!("{device}/{point} = {value}"));
        match self.commands.write(device, point, value.clone()).await {
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
}

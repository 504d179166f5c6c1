use super::machine::{EdgeNode, REBIRTH, State};
use crate::device::Snapshots;
use crate::proto::{Metric, metric};
use crate::{DataType, MessageType};

impl EdgeNode {
    /// Somebody on this side wants everything to be told anew: the births are due, as after a command of a host.
    pub fn ask_births(&mut self) {
        if self.state == State::Born {
            self.birth_due();
        }
    }

    /// Publishes NBIRTH and the DBIRTH of every device that is up. Does nothing unless births are due.
    pub fn birth(&mut self, now: u64, snapshots: &dyn Snapshots) {
        if self.state != State::BirthDue {
            return;
        }
        self.state = State::Born;
        // tck-id-topics-nbirth-seq-num: NBIRTH has seq 0, a rebirth too.
        self.seq = 0;
        // tck-id-operational-behavior-data-commands-rebirth-name-aliases: it has no alias.
        let rebirth = Metric {
            name: Some(REBIRTH.to_owned()),
            timestamp: Some(now),
            datatype: Some(DataType::Boolean.code()),
            value: Some(metric::Value::BooleanValue(false)),
            ..Metric::default()
        };
        let mut metrics = vec![self.bd_seq_metric(now), rebirth];
        metrics.extend(self.own.birth_metrics(snapshots));
        self.transmit(now, MessageType::NBirth, None, metrics);
        for device in 0..self.devices.len() {
            if self.device(device).is_some_and(|device| device.is_up) {
                self.device_birth(now, device, snapshots);
            }
        }
    }

    /// A device answers: its birth goes out at once, which is told by `true`, or with the node's.
    pub fn device_up(&mut self, now: u64, device: usize, snapshots: &dyn Snapshots) -> bool {
        let Some(state) = self.device_mut(device) else { return false };
        state.is_up = true;
        let is_due = !state.is_born && self.state == State::Born;
        if is_due {
            self.device_birth(now, device, snapshots);
        }
        is_due
    }

    /// A device is lost: its death goes out if it was born in this session.
    ///
    /// Source: Sparkplug 3.0.0, tck-id-operational-behavior-device-ddeath.
    pub fn device_down(&mut self, now: u64, device: usize) {
        let Some(state) = self.device_mut(device) else { return };
        state.is_up = false;
        if std::mem::take(&mut state.is_born) && self.state == State::Born {
            self.transmit(now, MessageType::DDeath, Some(device), Vec::new());
        }
    }
}

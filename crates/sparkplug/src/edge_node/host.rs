use super::event::EdgeNodeEvent;
use super::machine::{EdgeNode, State};
use crate::primary_host::{HostNews, HostState, PrimaryHost};

impl EdgeNode {
    /// Takes in what arrived on [`state_topic`](Self::state_topic).
    ///
    /// Source: Sparkplug 3.0.0, tck-id-message-flow-edge-node-birth-publish-phid-wait-online, -phid-offline.
    pub fn handle_state(&mut self, now: u64, payload: &[u8], is_retained: bool) {
        let Some(host) = &mut self.host else { return };
        let state = match serde_json::from_slice::<HostState>(payload) {
            Ok(state) => state,
            Err(error) => {
                let why = format!("STATE of host {}: {error}", host.id);
                self.events.push_back(EdgeNodeEvent::CommandRefused { device: None, why });
                return;
            }
        };
        match host.take_state(state, is_retained) {
            HostNews::Nothing => {}
            HostNews::Alive => self.events.push_back(EdgeNodeEvent::HostAlive),
            news @ (HostNews::Online | HostNews::Renewed) => {
                if news == HostNews::Renewed {
                    self.events.push_back(EdgeNodeEvent::HostRenewed);
                }
                if self.state == State::AwaitingHost {
                    self.birth_due();
                }
            }
            HostNews::Confirmed => {
                self.events.push_back(EdgeNodeEvent::HostConfirmed);
                if self.state == State::Born {
                    self.birth_due();
                }
            }
            HostNews::Offline => {
                self.events.clear();
                self.events.push_back(EdgeNodeEvent::HostOffline);
                if matches!(self.state, State::Born | State::BirthDue) {
                    self.disconnect(now);
                }
            }
        }
    }

    /// Whether what is published may reach nobody: see [`with_primary_host`](Self::with_primary_host). History is to wait
    /// then, and nothing counts as delivered.
    #[must_use]
    pub fn is_host_doubtful(&self) -> bool {
        self.state == State::Born && self.host.as_ref().is_some_and(|host| host.is_doubtful)
    }

    /// Whether the session waits for nothing but its primary host.
    #[must_use]
    pub fn is_awaiting_host(&self) -> bool {
        self.state == State::AwaitingHost
    }

    /// The host was waited for long enough: its old word has to do.
    pub fn trust_host(&mut self) {
        self.host.iter_mut().for_each(PrimaryHost::trust);
    }

    /// The time of the primary host's last STATE at the first broker; keep it over a sudden end.
    #[must_use]
    pub fn host_known(&self) -> Option<u64> {
        self.host.as_ref().and_then(PrimaryHost::known)
    }
}

use super::node::SparkplugNode;
use crate::session::{Base, GOODBYE};
use interlex_core::Sample;
use tokio::time::{Instant, timeout};

impl SparkplugNode {
    /// Ends the doubt about the primary host when it was waited for long enough.
    pub(super) fn settle_doubt(&mut self, base: &Base<Sample>) {
        if self.doubt.until.is_some_and(|until| Instant::now() >= until) {
            self.doubt.until = None;
            tracing::warn!(uplink = base.name(), "the primary host did not report back; its old STATE has to do");
            self.node.trust_host();
            base.status.update(|status, _| status.host_in_doubt = false);
        }
    }

    pub(super) fn keep_bd_seq(base: &Base<Sample>, bd_seq: u8) {
        base.status.update(|status, _| status.bd_seq = Some(bd_seq));
        let Some(store) = base.store.clone() else { return };
        let (gateway, uplink) = (base.gateway.clone(), base.name().to_owned());
        // Not waited for: while the database is away, connecting must not be.
        tokio::spawn(async move {
            if let Err(error) = store.set_bd_seq(&gateway, &uplink, bd_seq).await {
                tracing::warn!(uplink, %error, "bdSeq was not kept");
            }
        });
    }

    /// Lets the database know the time of the last STATE, where that is another one.
    pub(super) fn keep_host_known(&mut self, base: &Base<Sample>) {
        let known = self.node.host_known();
        if known == self.doubt.kept {
            return;
        }
        self.doubt.kept = known;
        let Some(store) = base.store.clone().filter(|_| self.own.primary_host.is_some()) else { return };
        let (gateway, uplink) = (base.gateway.clone(), base.name().to_owned());
        tokio::spawn(async move {
            if let Err(error) = store.set_host_known(&gateway, &uplink, known).await {
                tracing::warn!(uplink, %error, "the primary host's STATE was not kept");
            }
        });
    }

    /// After an orderly end, the next run may take the primary host at its word.
    pub(super) async fn forget_host(&self, base: &Base<Sample>) {
        let Some(store) = base.store.as_ref().filter(|_| self.own.primary_host.is_some()) else { return };
        let forgetting = store.set_host_known(&base.gateway, base.name(), None);
        if !matches!(timeout(GOODBYE, forgetting).await, Ok(Ok(()))) {
            tracing::warn!(uplink = base.name(), "the next run will doubt the primary host for a while");
        }
    }
}

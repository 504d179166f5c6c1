use crate::link::{COMMAND_QUEUE, LinkHandle, Surroundings};
use crate::modbus::{LinkTask, OwedByTarget};
use interlex_core::description::{Description, Link};
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// Starts a link with everything behind it; it ends with `stop`.
#[must_use]
pub fn start(
    description: &Description,
    link: &Link,
    around: &Surroundings,
    owed: &OwedByTarget,
    stop: CancellationToken,
) -> (LinkHandle, JoinHandle<()>) {
    let (sender, commands) = mpsc::channel(COMMAND_QUEUE);
    let task = LinkTask::new(description, link, around, (commands, owed.of(&link.protocol.target())));
    let handle = LinkHandle::new(link.settings.name.as_str(), task.shown.clone(), sender, Arc::clone(&around.clock));
    (handle, tokio::spawn(task.run(stop)))
}

use crate::error::TrialError;
use crate::link::{
    Answer, LinkHandle, LinkPlan, LinkTask, PointWrite, Surroundings, TrialRead, TrialReading, Via, Work, WriteError,
    WriteOutcome,
};
use crate::modbus::ModbusDriver;
use interlex_core::description::{Description, Link, LinkProtocol};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// Starts a link with everything behind it; it ends with `stop`.
#[must_use]
pub fn start(
    description: &Description,
    link: &Link,
    around: &Surroundings,
    stop: CancellationToken,
) -> (LinkHandle, JoinHandle<()>) {
    let plan = LinkPlan::new(description, link, &around.points);
    match &link.protocol {
        LinkProtocol::Modbus(_) => {
            let (task, handle) = LinkTask::<ModbusDriver>::new(plan, around);
            (handle, tokio::spawn(task.run(stop)))
        }
    }
}

async fn carry_out(via: &Via, link: &Link, work: Work) -> (Answer, bool) {
    match &link.protocol {
        LinkProtocol::Modbus(_) => via.carry_out::<ModbusDriver>(link, work).await,
    }
}

/// Reads a point once, now. When a running link leads to the same place, it goes over that, ahead of its polls.
///
/// # Errors
/// [`TrialError`]
pub async fn read(read: &TrialRead, via: &Via) -> Result<TrialReading, TrialError> {
    match carry_out(via, &read.link, Work::Read(Box::new(read.clone()))).await {
        (Answer::Read(reading), shared_connection) => {
            reading.map(|reading| TrialReading { shared_connection, ..reading })
        }
        _ => Err(TrialError::Request("the link answered something else".to_owned())),
    }
}

/// Checks, writes, and reads back. When a running link leads to the same place, it goes over that, ahead of its polls.
///
/// # Errors
/// [`WriteError`]
pub async fn write(write: &PointWrite, via: &Via) -> Result<WriteOutcome, WriteError> {
    // What is refused anyway needs no connection.
    interlex_core::raw_to_write(&write.point, &write.value)?;
    match carry_out(via, &write.link, Work::Write(Box::new(write.clone()))).await {
        (Answer::Written(outcome), shared_connection) => {
            outcome.map(|outcome| WriteOutcome { shared_connection, ..outcome })
        }
        _ => Err(WriteError::Value("the link answered something else".to_owned())),
    }
}

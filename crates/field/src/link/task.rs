use super::command::{Command, CommandId, LINK_COMMANDS, LinkCommand};
use super::driver::{DriverContext, FieldDriver, Full, Lost};
use super::floor::Floor;
use super::handle::{LinkHandle, LinkShown, Surroundings};
use super::outcomes::Outcomes;
use super::plan::{LinkPlan, PlannedDevice};
use super::settler::settler;
use super::statistics::Statistics;
use super::told::Ticket;
use interlex_core::{Backoff, DeviceStatus, LinkStatus, Shared};
use parking_lot::Mutex;
use std::pin::pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::time::{Instant, sleep_until, timeout};
use tokio_util::sync::CancellationToken;

/// The shortest wait before connecting again.
const FIRST_RECONNECT: Duration = Duration::from_millis(500);

/// How long the end of a link waits for what it told to become safe.
const SETTLES: Duration = Duration::from_secs(3);

/// One link, whatever it speaks: connects with growing waits, lets the driver do what is due, carries on what it tells, and hands
/// it the commands.
pub(crate) struct LinkTask<D: FieldDriver> {
    driver: D,
    floor: Floor,
    commands: mpsc::Receiver<LinkCommand>,
    settled: mpsc::Receiver<(Ticket, bool)>,
    last_id: u64,
    out: Outcomes,
}

impl<D: FieldDriver> LinkTask<D> {
    /// Prepares a link with everything behind it.
    pub(crate) fn new(plan: LinkPlan, around: &Surroundings) -> (Self, LinkHandle) {
        let (sender, commands) = mpsc::channel(LINK_COMMANDS);
        let clock = Arc::clone(&around.clock);
        let now = (Instant::now().into_std(), clock.now());
        let status = |planned: &PlannedDevice| {
            let settings = &planned.device.settings;
            DeviceStatus::new(settings.name.as_str(), &settings.title, (planned.points.len(), 0), now.1)
        };
        let statuses: Vec<_> = plan.devices.iter().map(status).collect();
        let names: Vec<_> = statuses.iter().map(|status| status.name.clone()).collect();
        let status = LinkStatus::new(plan.link.settings.name.as_str(), &plan.link.protocol, statuses, now.1);
        let context = DriverContext { clock: Arc::clone(&clock), memories: around.memories.clone() };
        let driver = D::new(plan.clone(), context);
        let shown = LinkShown {
            status: Arc::new(Shared::new(status)),
            statistics: Arc::new(Mutex::new(Statistics::new(names.into_iter(), driver.line(), D::words, now))),
            frames: driver.frames(),
        };
        let handle = LinkHandle::new(&plan.link, shown.clone(), sender, clock);
        let (told, settled) = settler(around.memories.keeper().cloned());
        let floor = Floor::new(plan, shown, around, told);
        (Self { driver, floor, commands, settled, last_id: 0, out: Outcomes::default() }, handle)
    }

    /// Runs until `stop` is cancelled; what is being told to listeners then is told to the end, and what has to be safe is waited
    /// for.
    pub(crate) async fn run(mut self, stop: CancellationToken) {
        self.work(&stop).await;
        let Self { floor, mut settled, .. } = self;
        drop(floor);
        let settling = async { while settled.recv().await.is_some() {} };
        // What takes longer is told again by the device.
        _ = timeout(SETTLES, settling).await;
    }

    async fn work(&mut self, stop: &CancellationToken) {
        let limit = Duration::from(self.floor.link().protocol.reconnect_limit());
        let mut backoff = Backoff::new(FIRST_RECONNECT, limit, fastrand::Rng::new());
        let mut error = "it is not connected yet".to_owned();
        self.driver.begin(&mut self.out);
        self.floor.carry_on(&mut self.out).await;
        while !stop.is_cancelled() {
            let Some(connected) = self.connect(&error, stop).await else { return };
            error = match connected {
                Ok(session) => match self.run_session(session, stop).await {
                    Some(error) => {
                        // What comes up and breaks at once is tried as seldom as what does not come up.
                        if std::mem::take(&mut self.out.is_alive) {
                            backoff.reset();
                        }
                        error
                    }
                    None => return,
                },
                Err(Lost(why)) => format!("cannot connect: {why}"),
            };
            self.floor.lost(&error).await;
            self.wait(&error, Instant::now() + backoff.wait(), stop).await;
        }
    }

    /// Connects; `None` when the link is stopped meanwhile.
    async fn connect(&mut self, error: &str, stop: &CancellationToken) -> Option<Result<D::Session, Lost>> {
        let mut connecting = pin!(self.driver.connect());
        loop {
            tokio::select! {
                connected = &mut connecting => return Some(connected),
                Some(command) = self.commands.recv() => self.take_unconnected(command, error).await,
                () = stop.cancelled() => return None,
            }
        }
    }

    /// Waits, and tells everyone who wants something meanwhile why it cannot be.
    async fn wait(&mut self, error: &str, until: Instant, stop: &CancellationToken) {
        loop {
            tokio::select! {
                Some(command) = self.commands.recv() => self.take_unconnected(command, error).await,
                () = sleep_until(until) => return,
                () = stop.cancelled() => return,
            }
        }
    }

    async fn take_unconnected(&mut self, command: LinkCommand, error: &str) {
        match command {
            // Whoever asked may have gone.
            LinkCommand::Do { action, answer, .. } => {
                let why = format!("the link is down: {error}");
                _ = answer.send(action.kind().refused(&self.floor.link().protocol.target(), &why));
            }
            other => self.look(other).await,
        }
    }

    /// Lets the driver work until the session breaks, and says why; `None` when the link is stopped.
    async fn run_session(&mut self, mut session: D::Session, stop: &CancellationToken) -> Option<String> {
        self.driver.connected(&mut session);
        self.floor.connected();
        let ended = loop {
            let deadline = self.floor.deadline();
            let has_room = self.floor.pending() < LINK_COMMANDS;
            let ended = tokio::select! {
                ended = self.driver.next(&mut session, &mut self.out) => ended.err().map(|Lost(why)| Some(why)),
                Some(command) = self.commands.recv(), if has_room => {
                    self.take(command, &mut session).await;
                    None
                }
                Some((ticket, is_safe)) = self.settled.recv() => {
                    self.driver.settled(ticket, is_safe);
                    None
                }
                () = until(deadline) => None,
                () = stop.cancelled() => Some(None),
            };
            for (id, why) in self.floor.unwanted() {
                self.driver.cancel(id, why, &mut self.out);
            }
            self.floor.handle_deadline().await;
            self.floor.carry_on(&mut self.out).await;
            if let Some(ended) = ended {
                break ended;
            }
        };
        let why = ended
            .as_deref()
            .map_or_else(|| "the link was stopped".to_owned(), |why| format!("the link went down: {why}"));
        self.driver.lost(session, &why, &mut self.out);
        self.floor.carry_on(&mut self.out).await;
        ended
    }

    async fn take(&mut self, command: LinkCommand, session: &mut D::Session) {
        match command {
            LinkCommand::Do { action, deadline, answer } => {
                self.last_id += 1;
                let (id, kind) = (CommandId(self.last_id), action.kind());
                let command = Command { id, action };
                match self.driver.submit(session, command, &mut self.out) {
                    Ok(()) => self.floor.expect(id, deadline, answer),
                    // Whoever asked may have gone.
                    Err(Full) => {
                        let target = self.floor.link().protocol.target();
                        _ = answer.send(kind.refused(&target, "the device has too much to do; try again"));
                    }
                }
            }
            other => self.look(other).await,
        }
    }

    /// Carries out what needs no session.
    async fn look(&mut self, command: LinkCommand) {
        match command {
            // Whoever asked may have gone.
            LinkCommand::Requests(points, answer) => _ = answer.send(self.driver.activity(&points)),
            LinkCommand::Relearn(device) => match device {
                Some(device) => {
                    if let Some(place) = self.floor.place(&device) {
                        self.driver.relearn(Some(place));
                    }
                }
                None => self.driver.relearn(None),
            },
            LinkCommand::Points(points) => self.floor.stay(points),
            LinkCommand::Leave(leaving, done) => {
                self.floor.leave(&leaving);
                _ = done.send(());
            }
            LinkCommand::Change(change, done) => {
                let (plan, points, latest) = *change;
                self.driver.change(plan.clone(), &mut self.out);
                self.floor.change(plan, points, latest);
                self.floor.carry_on(&mut self.out).await;
                _ = done.send(());
            }
            LinkCommand::Do { .. } => {}
        }
    }
}

async fn until(at: Option<std::time::Instant>) {
    match at {
        Some(at) => sleep_until(at.into()).await,
        None => std::future::pending().await,
    }
}

#[cfg(test)]
mod tests;

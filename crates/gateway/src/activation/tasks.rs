use super::outcome::Activation;
use crate::aside;
use crate::running::RunningUplink;
use interlex_core::description::{Description, PartFate, Uplink};
use interlex_core::{Clock, DeviceState, FieldEvent, Inventory, LinkStatus, PointIndex, PointTable, Shared};
use interlex_field::{LinkHandle, Listeners, Surroundings};
use interlex_store::Store;
use interlex_uplink::{BrokerCommands, EVENT_QUEUE, LinkHealth, REQUEST_QUEUE, UplinkStart, initial_status};
use std::collections::HashSet;
use std::sync::Arc;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

/// What links and uplinks are connected by, from one description to the next.
#[derive(Debug)]
pub(crate) struct Parts {
    pub(crate) store: Option<Store>,
    pub(crate) clock: Arc<dyn Clock>,
    pub(crate) listeners: Listeners,
    pub(crate) commands: BrokerCommands,
    pub(crate) link_health: LinkHealth,
}

/// The tasks of everything that runs, for whoever changes something.
#[derive(Debug, Default)]
pub(crate) struct Tasks {
    links: Vec<LinkTasks>,
    uplinks: Vec<UplinkTasks>,
}

#[derive(Debug)]
struct LinkTasks {
    name: String,
    running: LinkHandle,
    task: Stoppable,
}

#[derive(Debug)]
struct UplinkTasks {
    uplink: Uplink,
    running: RunningUplink,
    sender: mpsc::Sender<FieldEvent>,
    task: Stoppable,
}

/// A task with what ends it.
#[derive(Debug)]
struct Stoppable {
    stop: CancellationToken,
    handle: JoinHandle<()>,
}

impl Stoppable {
    async fn stop(self) {
        self.stop.cancel();
        if let Err(error) = self.handle.await {
            tracing::error!(%error, "a task of the gateway failed");
        }
    }
}

impl Tasks {
    pub(crate) fn links(&self) -> Vec<LinkHandle> {
        self.links.iter().map(|link| link.running.clone()).collect()
    }

    pub(crate) fn uplinks(&self) -> Vec<RunningUplink> {
        self.uplinks.iter().map(|uplink| uplink.running.clone()).collect()
    }

    /// Stops the links that are gone or differ.
    pub(crate) async fn stop_links(&mut self, before: &Description, after: &Description, activation: &mut Activation) {
        let (mut kept, mut ended) = (Vec::new(), Vec::new());
        for link in self.links.drain(..) {
            let is_described = after.links.iter().any(|other| other.settings.name.as_str() == link.name);
            if is_described && before.runs_the_same(after, &link.name) {
                activation.links.push((link.name.clone(), PartFate::Untouched));
                show_titles(link.running.shared_status(), after);
                kept.push(link);
            } else if is_described && before.connects_the_same(after, &link.name) {
                activation.links.push((link.name.clone(), PartFate::Changed));
                kept.push(link);
            } else {
                let fate = if is_described { PartFate::Restarted } else { PartFate::Stopped };
                activation.links.push((link.name, fate));
                ended.push(link.task);
            }
        }
        ended.iter().for_each(|task| task.stop.cancel());
        for task in ended {
            task.stop().await;
        }
        self.links = kept;
    }

    /// Links that go on with other devices or points tell nothing more of those that leave them. Gives the points that mean
    /// something else from now on, and that no running link writes to.
    pub(crate) async fn part_with(
        &self,
        (before, after): (&Description, &Description),
        (points_before, points): (&PointTable, &PointTable),
        activation: &Activation,
    ) -> Vec<PointIndex> {
        let mut redefined: HashSet<PointIndex> = points.redefined(points_before).collect();
        let changed = activation.links.iter().filter(|(_, fate)| *fate == PartFate::Changed);
        for (name, _) in changed {
            let Some(link) = self.links.iter().find(|link| link.name == *name) else { continue };
            let of = |description: &Description, points: &PointTable| -> HashSet<PointIndex> {
                let slots = description.behind(name).filter_map(|device| points.slot(device.settings.name.as_str()));
                slots.flat_map(|slot| points.of_slot(slot).iter().map(|info| info.index)).collect()
            };
            let (mine, stay) = (of(before, points_before), of(after, points));
            let own: Vec<_> = mine.iter().copied().filter(|point| redefined.remove(point)).collect();
            let gone = mine.iter().copied().filter(|point| !stay.contains(point));
            link.running.leave(gone.chain(own.iter().copied()).collect(), own).await;
        }
        redefined.into_iter().collect()
    }

    pub(crate) async fn start_links(
        &mut self,
        description: &Description,
        around: &Surroundings,
        activation: &mut Activation,
    ) {
        let mut kept: Vec<_> = std::mem::take(&mut self.links);
        for link in &description.links {
            let name = link.settings.name.as_str();
            let running = kept.iter().position(|running| running.name == name).map(|at| kept.swap_remove(at));
            let is_changed = activation.links.iter().any(|(known, fate)| known == name && *fate == PartFate::Changed);
            match &running {
                Some(running) if is_changed => running.running.change(description, link, around).await,
                Some(running) => running.running.stay(Arc::clone(&around.points)),
                None => {}
            }
            let running = running.unwrap_or_else(|| {
                let stop = CancellationToken::new();
                let start = || interlex_field::start(description, link, around, stop.clone());
                let (running, handle) = aside(start);
                LinkTasks { name: name.to_owned(), running, task: Stoppable { stop, handle } }
            });
            if !activation.links.iter().any(|(known, _)| known == name) {
                activation.links.push((name.to_owned(), PartFate::Started));
            }
            self.links.push(running);
        }
    }

    /// Tells uplinks that stay what the points are now; stops and starts the others.
    pub(crate) async fn change_uplinks(
        &mut self,
        parts: &Parts,
        (description, inventory): (&Description, &Inventory),
        activation: &mut Activation,
    ) {
        let mut before = std::mem::take(&mut self.uplinks);
        let mut starting = Vec::new();
        for wanted in &description.uplinks {
            let at = before.iter().position(|running| running.uplink.settings.name == wanted.settings.name);
            let known = at.map(|at| before.swap_remove(at));
            let name = wanted.settings.name.to_string();
            match known {
                Some(same) if same.uplink == *wanted => {
                    activation.uplinks.push((name, PartFate::Untouched));
                    let told = FieldEvent::Revised(inventory.clone());
                    // An error means that the uplink has ended, at shutdown.
                    let _ = same.sender.send(told).await;
                    self.uplinks.push(same);
                }
                other => {
                    let fate = if other.is_some() { PartFate::Restarted } else { PartFate::Started };
                    activation.uplinks.push((name, fate));
                    starting.push((wanted.clone(), other, mpsc::channel(EVENT_QUEUE)));
                }
            }
        }
        // From here on links tell the new ones, too, whose queues hold it until they run: nothing falls between.
        let senders = self.uplinks.iter().map(|uplink| uplink.sender.clone());
        parts.listeners.set(senders.chain(starting.iter().map(|(.., (sender, _))| sender.clone())).collect());
        for gone in before {
            activation.uplinks.push((gone.uplink.settings.name.to_string(), PartFate::Stopped));
            gone.task.stop().await;
        }
        for (uplink, old, (sender, receiver)) in starting {
            if let Some(old) = old {
                // It keeps what is unproven in the journal, where the new one finds it.
                old.task.stop().await;
            }
            let status = Arc::new(Shared::new(initial_status(&uplink, parts.clock.now()).await));
            let (requests, asked) = mpsc::channel(REQUEST_QUEUE);
            let start = UplinkStart {
                gateway: description.gateway.name.to_string(),
                title: description.gateway.title.clone(),
                uplink: uplink.clone(),
                inventory: inventory.clone(),
                status: Arc::clone(&status),
                clock: Arc::clone(&parts.clock),
                links: parts.link_health.clone(),
                words: interlex_field::reason_words,
                store: parts.store.clone(),
                commands: parts.commands.clone(),
                requests: asked,
            };
            let stop = CancellationToken::new();
            let handle = interlex_uplink::start(start, receiver, stop.clone()).await;
            tell_devices_up(&self.links, &inventory.points, &sender).await;
            let (running, task) = (RunningUplink { status, requests }, Stoppable { stop, handle });
            self.uplinks.push(UplinkTasks { uplink, running, sender, task });
        }
        let place = |running: &UplinkTasks| {
            description.uplinks.iter().position(|uplink| uplink.settings.name == running.uplink.settings.name)
        };
        self.uplinks.sort_by_key(place);
    }

    /// Stops in order: links first, then uplinks, which send what is left, publish their deaths and keep the rest.
    pub(crate) async fn stop(self) {
        let Self { links, uplinks } = self;
        links.iter().for_each(|link| link.task.stop.cancel());
        for link in links {
            link.task.stop().await;
        }
        uplinks.iter().for_each(|uplink| uplink.task.stop.cancel());
        for uplink in uplinks {
            uplink.task.stop().await;
        }
    }
}

/// A title changes nothing on the line, and shows all the same.
fn show_titles(status: &Shared<LinkStatus>, description: &Description) {
    status.update(|status, _| {
        for shown in &mut status.devices {
            let device = description.devices.iter().find(|device| device.settings.name.as_str() == shown.name);
            shown.title = device.map(|device| device.settings.title.clone()).unwrap_or_default();
        }
    });
}

/// Tells a new uplink which devices of the links that went on are up. The state is read and told in one step, so
/// that what a link tells meanwhile comes after it.
async fn tell_devices_up(links: &[LinkTasks], points: &PointTable, uplink: &mpsc::Sender<FieldEvent>) {
    for link in links {
        let count = link.running.status().devices.len();
        for at in 0..count {
            let Ok(permit) = uplink.reserve().await else { return };
            link.running.shared_status().update(|status, _| {
                let up = status.devices.get(at).filter(|device| device.state == DeviceState::Up);
                if let Some(slot) = up.and_then(|device| points.slot(&device.name)) {
                    permit.send(FieldEvent::DeviceUp(slot));
                }
            });
        }
    }
}

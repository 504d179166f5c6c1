//! What a gateway tells of itself: the metrics of its Sparkplug node.

use super::alias::FIRST_OWN_ALIAS;
use interlex_core::{BufferState, LinkState, LinkStatus, Timestamp};
use interlex_sparkplug::{DataType, MetricSpec, MetricValue};
use std::time::Duration;
use sysinfo::{Disks, System};

/// One thing that the gateway tells of itself.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct HealthMetric {
    pub(crate) name: String,
    pub(crate) unit: &'static str,
    data_type: DataType,
    pub(crate) value: MetricValue<'static>,
}

/// The names of what is told, in the order of their aliases, for links of these names.
pub(crate) fn own_names(links: &[String]) -> Vec<String> {
    let nothing = |name: &String| (name.clone(), false, 0);
    let metrics = metrics(&Machine::default(), links.iter().map(nothing), &BufferState::default(), Timestamp::MIN);
    metrics.into_iter().map(|metric| metric.name).collect()
}

/// Looks at the machine again and again.
#[derive(Debug)]
pub(crate) struct Health {
    /// `None` on systems that cannot be looked at.
    machine: Option<(System, Disks)>,
    started: Timestamp,
}

impl Health {
    pub(crate) fn new(now: Timestamp) -> Self {
        let machine = System::new().and_then(|system| Ok((system, Disks::new_with_refreshed_list()?)));
        Self { machine: machine.ok(), started: now }
    }

    /// How things are. The first share of the processor is that since the machine runs.
    pub(crate) fn look(
        &mut self,
        names: &[String],
        links: &[LinkStatus],
        buffer: &BufferState,
        now: Timestamp,
    ) -> Vec<HealthMetric> {
        let uptime = now.since(self.started);
        let mut machine = Machine { uptime, ..Machine::default() };
        if let Some((system, disks)) = &mut self.machine {
            system.refresh_cpu_usage();
            system.refresh_memory();
            disks.refresh(true);
            let free = disks.iter().filter(|disk| disk.mount_point() == "/").map(sysinfo::Disk::available_space);
            machine.cpu = rounded(f64::from(system.global_cpu_usage()));
            machine.memory = percent(system.used_memory(), system.total_memory());
            machine.disk_free = gigabytes(free.max().unwrap_or(0));
        }
        let links = names.iter().map(|name| {
            let link = links.iter().find(|link| link.name == *name);
            let is_up = link.is_some_and(|link| link.state == LinkState::Up);
            (name.clone(), is_up, link.map_or(0, |link| link.lateness_ms))
        });
        metrics(&machine, links, buffer, now)
    }
}

#[derive(Debug, Default)]
struct Machine {
    cpu: f64,
    memory: f64,
    disk_free: f64,
    uptime: Duration,
}

fn metrics(
    machine: &Machine,
    links: impl Iterator<Item = (String, bool, u64)>,
    buffer: &BufferState,
    now: Timestamp,
) -> Vec<HealthMetric> {
    let oldest = buffer.oldest_at.map_or(Duration::ZERO, |at| now.since(Timestamp::from_millis(at)));
    let mut metrics = vec![
        double("health/cpu", "%", machine.cpu),
        double("health/memory", "%", machine.memory),
        double("health/disk-free", "GB", machine.disk_free),
        whole("health/uptime", "s", machine.uptime.as_secs()),
        whole("journal/waiting", "", buffer.waiting),
        whole("journal/oldest-age", "s", oldest.as_secs()),
        whole("journal/lost", "", buffer.lost),
    ];
    for (name, is_up, lateness) in links {
        let value = MetricValue::Bool(is_up);
        let up = format!("link/{name}/up");
        metrics.push(HealthMetric { name: up, unit: "", data_type: DataType::Boolean, value });
        metrics.push(whole(&format!("link/{name}/lateness"), "ms", lateness));
    }
    metrics
}

/// What the birth of the node announces.
pub(crate) fn specs(metrics: &[HealthMetric]) -> Vec<MetricSpec> {
    let spec =
        |(alias, metric): (u64, &HealthMetric)| MetricSpec { alias, data_type: metric.data_type, is_writable: false };
    (FIRST_OWN_ALIAS..).zip(metrics).map(spec).collect()
}

fn double(name: &str, unit: &'static str, value: f64) -> HealthMetric {
    HealthMetric { name: name.to_owned(), unit, data_type: DataType::Double, value: MetricValue::Double(value) }
}

fn whole(name: &str, unit: &'static str, value: u64) -> HealthMetric {
    HealthMetric { name: name.to_owned(), unit, data_type: DataType::UInt64, value: MetricValue::Uint(value) }
}

fn rounded(value: f64) -> f64 {
    (value * 10.0).round() / 10.0
}

#[expect(clippy::cast_precision_loss, reason = "shown with one decimal")]
fn percent(part: u64, of: u64) -> f64 {
    if of == 0 { 0.0 } else { rounded(part as f64 / of as f64 * 100.0) }
}

#[expect(clippy::cast_precision_loss, reason = "shown with one decimal")]
fn gigabytes(bytes: u64) -> f64 {
    rounded(bytes as f64 / 1e9)
}

//! Messages from points and templates.

use super::fill::Filler;
use super::groups::{Group, groups};
use crate::start::ReasonWords;
use interlex_core::description::{GatewaySettings, JsonUplink, Selection};
use interlex_core::{
    Clock, Inventory, MessageContext, NamedThing, PointContext, PointInfo, Quality, Reason, Sample, Timestamp, Value,
    iso_time, json_of,
};
use serde::Serialize;
use std::collections::BTreeMap;
use tokio::sync::Semaphore;
use tokio::time::Instant;

/// A message that was made, or that could not be.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct SentMessage {
    /// When, in milliseconds since 1970 UTC.
    pub at: i64,
    /// Where it goes.
    pub topic: String,
    /// What it says.
    pub payload: String,
    /// Why it could not be made: which template, and its line.
    pub error: Option<String>,
    /// Whether what it says is JSON.
    pub is_json: bool,
}

/// What messages are made with.
#[derive(Debug)]
pub(super) struct Rendering {
    pub(super) words: ReasonWords,
    pub(super) gateway: String,
    pub(super) title: String,
    pub(super) filler: Filler,
}

impl Rendering {
    /// The message of a group, as things are now.
    pub(super) async fn render(
        &mut self,
        group: &Group,
        samples: &[Sample],
        inventory: &Inventory,
        now: Timestamp,
    ) -> SentMessage {
        let context = self.context(group, samples, inventory, now);
        let rendered = self.filler.fill(&context).await;
        let at = now.as_millis();
        match rendered {
            Ok(message) => {
                let is_json = serde_json::from_str::<serde::de::IgnoredAny>(&message.payload).is_ok();
                SentMessage { at, topic: message.topic, payload: message.payload, error: None, is_json }
            }
            Err(error) => {
                SentMessage { at, topic: String::new(), payload: String::new(), error: Some(error), is_json: false }
            }
        }
    }

    fn context_of(&self, info: &PointInfo, value: Option<&Value>, quality: Quality, at: Timestamp) -> PointContext {
        let point = info.point();
        PointContext {
            device: info.device().to_string(),
            name: info.name().to_owned(),
            title: point.settings.title.to_string(),
            value: json_of(value, info.value_type(), quality),
            unit: point.settings.unit.clone(),
            quality: quality.class(),
            reason: quality.reason().map(|reason| (self.words)(reason)).unwrap_or_default(),
            at: at.as_millis(),
            time: iso_time(at.as_millis()),
            labels: info.settings().labels().map(str::to_owned).collect(),
        }
    }

    fn context(&self, group: &Group, samples: &[Sample], inventory: &Inventory, now: Timestamp) -> MessageContext {
        let points = group.points.iter().filter_map(|point| {
            let info = inventory.points.get(*point)?;
            let reading = inventory.latest.read(*point).filter(|reading| reading.version > 0);
            Some(match reading {
                Some(reading) => self.context_of(info, reading.value.as_ref(), reading.quality, reading.source_time),
                None => self.context_of(info, None, Quality::Bad(Reason::NeverRead), now),
            })
        });
        let points: Vec<_> = points.collect();
        let samples = samples.iter().filter_map(|sample| {
            let info = inventory.points.get(sample.point)?;
            Some(self.context_of(info, sample.value.as_ref(), sample.quality, sample.source_time))
        });
        let key = |point: &PointContext| match group.device {
            Some(_) => point.name.clone(),
            None => format!("{}/{}", point.device, point.name),
        };
        let values: BTreeMap<_, _> = points.iter().map(|point| (key(point), point.value.clone())).collect();
        let title = |device: &String| inventory.titles.get(device.as_str()).cloned().unwrap_or_default();
        let device = group.device.as_ref().map(|name| NamedThing { name: name.clone(), title: title(name) });
        MessageContext {
            gateway: NamedThing { name: self.gateway.clone(), title: self.title.clone() },
            device: device.unwrap_or_default(),
            label: group.label.clone(),
            now: now.as_millis(),
            time: iso_time(now.as_millis()),
            values,
            samples: samples.collect(),
            points,
        }
    }
}

/// So many messages a preview shows.
const PREVIEW: usize = 20;

/// So many previews are made at a time: each is a process.
static PREVIEWS: Semaphore = Semaphore::const_new(1);

/// What an uplink would send now, with the values of the running points: nothing is sent.
pub async fn preview(
    gateway: &GatewaySettings,
    inventory: &Inventory,
    (own, selection): (&JsonUplink, Option<&Selection>),
    (clock, words): (&dyn Clock, ReasonWords),
) -> Vec<SentMessage> {
    // It is never closed.
    let _turn = PREVIEWS.acquire().await;
    let mut rendering = Rendering {
        words,
        gateway: gateway.name.to_string(),
        title: gateway.title.clone(),
        filler: Filler::new(&own.topic, &own.payload),
    };
    let groups = groups(&inventory.points, own.message_per, selection, own.send, Instant::now());
    let mut messages = Vec::new();
    for group in groups.iter().take(PREVIEW) {
        messages.push(rendering.render(group, &[], inventory, clock.now()).await);
    }
    messages
}

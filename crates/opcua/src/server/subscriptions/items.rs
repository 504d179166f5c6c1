use super::item::Item;
use super::{Asker, Subscriptions};
use crate::server::limits::ServerLimits;
use crate::service::{
    CreateMonitoredItemsRequest, ModifyMonitoredItemsRequest, MonitoredItemCreateRequest, MonitoredItemCreateResult,
    MonitoredItemModifyRequest, MonitoredItemModifyResult, MonitoringMode, SetMonitoringModeRequest,
    TimestampsToReturn,
};
use crate::space::Space;
use crate::types::{NodeId, StatusCode};
use std::cmp::Reverse;
use std::time::{Duration, Instant};

impl Subscriptions {
    pub(in crate::server) fn create_items(
        &mut self,
        (space, limits): (&Space, &ServerLimits),
        asker: Asker<'_>,
        request: &CreateMonitoredItemsRequest,
    ) -> Result<Vec<MonitoredItemCreateResult>, StatusCode> {
        let id = request.subscription_id;
        self.own(asker.session, id)?.asked();
        let create = |wanted| {
            let created = self.create_item((space, limits), asker, id, request.timestamps_to_return, wanted);
            created.unwrap_or_else(|status_code| MonitoredItemCreateResult {
                status_code,
                ..MonitoredItemCreateResult::default()
            })
        };
        Ok(request.items_to_create.iter().map(create).collect())
    }

    fn create_item(
        &mut self,
        (space, limits): (&Space, &ServerLimits),
        asker: Asker<'_>,
        id: u32,
        times: TimestampsToReturn,
        wanted: &MonitoredItemCreateRequest,
    ) -> Result<MonitoredItemCreateResult, StatusCode> {
        let subscription = self.own(asker.session, id)?;
        if limits.items != 0 && subscription.items.len() >= limits.items {
            return Err(StatusCode::BAD_TOO_MANY_MONITORED_ITEMS);
        }
        // What can never be read is not watched; what cannot be read now may be one day.
        let watched = &wanted.item_to_monitor;
        let status = space.read(watched, TimestampsToReturn::Neither, asker.wall).status();
        let is_final = [
            StatusCode::BAD_NODE_ID_UNKNOWN,
            StatusCode::BAD_ATTRIBUTE_ID_INVALID,
            StatusCode::BAD_INDEX_RANGE_INVALID,
            StatusCode::BAD_DATA_ENCODING_INVALID,
            StatusCode::BAD_DATA_ENCODING_UNSUPPORTED,
            StatusCode::BAD_NOT_READABLE,
        ];
        if is_final.contains(&status) {
            return Err(status);
        }
        let interval = subscription.interval;
        let mut item = Item::new(space, limits, watched.clone(), &wanted.requested_parameters, interval)?;
        item.times = times;
        item.set_mode(wanted.monitoring_mode);
        subscription.last_item += 1;
        let number = subscription.last_item;
        let result = MonitoredItemCreateResult {
            status_code: StatusCode::GOOD,
            monitored_item_id: number,
            revised_sampling_interval: item.sampling.as_secs_f64() * 1000.0,
            revised_queue_size: u32::try_from(item.queue_size).unwrap_or(u32::MAX),
            ..MonitoredItemCreateResult::default()
        };
        if item.sample(space, asker.wall) {
            subscription.ready.push_back(number);
        }
        let (node, sampling) = (watched.node_id.clone(), item.sampling);
        subscription.items.insert(number, item);
        self.watch(id, number, node, sampling, asker.now);
        Ok(result)
    }

    pub(in crate::server) fn modify_items(
        &mut self,
        (space, limits): (&Space, &ServerLimits),
        asker: Asker<'_>,
        request: &ModifyMonitoredItemsRequest,
    ) -> Result<Vec<MonitoredItemModifyResult>, StatusCode> {
        let id = request.subscription_id;
        self.own(asker.session, id)?.asked();
        let modify = |wanted| {
            let modified = self.modify_item((space, limits), asker, id, request.timestamps_to_return, wanted);
            modified.unwrap_or_else(|status_code| MonitoredItemModifyResult {
                status_code,
                ..MonitoredItemModifyResult::default()
            })
        };
        Ok(request.items_to_modify.iter().map(modify).collect())
    }

    fn modify_item(
        &mut self,
        (space, limits): (&Space, &ServerLimits),
        asker: Asker<'_>,
        id: u32,
        times: TimestampsToReturn,
        wanted: &MonitoredItemModifyRequest,
    ) -> Result<MonitoredItemModifyResult, StatusCode> {
        let number = wanted.monitored_item_id;
        let subscription = self.own(asker.session, id)?;
        let interval = subscription.interval;
        let item = subscription.items.get_mut(&number).ok_or(StatusCode::BAD_MONITORED_ITEM_ID_INVALID)?;
        item.set(space, limits, &wanted.requested_parameters, interval)?;
        item.times = times;
        let (node, sampling) = (item.watched.node_id.clone(), item.sampling);
        let result = MonitoredItemModifyResult {
            status_code: StatusCode::GOOD,
            revised_sampling_interval: sampling.as_secs_f64() * 1000.0,
            revised_queue_size: u32::try_from(item.queue_size).unwrap_or(u32::MAX),
            ..MonitoredItemModifyResult::default()
        };
        self.unwatch(id, number, &node);
        self.watch(id, number, node, sampling, asker.now);
        Ok(result)
    }

    pub(in crate::server) fn set_modes(
        &mut self,
        space: &Space,
        asker: Asker<'_>,
        request: &SetMonitoringModeRequest,
    ) -> Result<Vec<StatusCode>, StatusCode> {
        let subscription = self.own(asker.session, request.subscription_id)?;
        subscription.asked();
        let set = |number| {
            let Some(item) = subscription.items.get_mut(number) else {
                return StatusCode::BAD_MONITORED_ITEM_ID_INVALID;
            };
            let was_asleep = item.mode == MonitoringMode::Disabled;
            item.set_mode(request.monitoring_mode);
            if was_asleep {
                item.sample(space, asker.wall);
            }
            StatusCode::GOOD
        };
        let results = request.monitored_item_ids.iter().map(set).collect();
        subscription.settle();
        Ok(results)
    }

    pub(in crate::server) fn delete_items(
        &mut self,
        asker: Asker<'_>,
        id: u32,
        numbers: &[u32],
    ) -> Result<Vec<StatusCode>, StatusCode> {
        let subscription = self.own(asker.session, id)?;
        subscription.asked();
        let deleted: Vec<_> = numbers.iter().map(|number| (*number, subscription.items.remove(number))).collect();
        subscription.settle();
        let mut results = Vec::with_capacity(deleted.len());
        for (number, item) in deleted {
            results.push(match item {
                Some(item) => {
                    self.unwatch(id, number, &item.watched.node_id);
                    StatusCode::GOOD
                }
                None => StatusCode::BAD_MONITORED_ITEM_ID_INVALID,
            });
        }
        Ok(results)
    }

    /// From now on an item is looked at, or told of every change.
    fn watch(&mut self, id: u32, number: u32, node: NodeId, sampling: Duration, now: Instant) {
        let item = self.all.get_mut(&id).and_then(|subscription| subscription.items.get_mut(&number));
        let Some(item) = item else { return };
        if sampling.is_zero() {
            item.due = None;
            self.watchers.entry(node).or_default().insert((id, number));
        } else {
            let due = now + item.sampling;
            item.due = Some(due);
            self.looks.push(Reverse((due, id, number)));
            self.forget_looks();
        }
    }

    /// Drops looks that are passed over, where these are most: items may be changed without end.
    fn forget_looks(&mut self) {
        let items: usize = self.all.values().map(|subscription| subscription.items.len()).sum();
        if self.looks.len() > 2 * items + 1000 {
            let all = &self.all;
            self.looks.retain(|Reverse((due, id, number))| {
                let item = all.get(id).and_then(|subscription| subscription.items.get(number));
                item.is_some_and(|item| item.due == Some(*due))
            });
        }
    }

    pub(super) fn unwatch(&mut self, id: u32, number: u32, node: &NodeId) {
        if let Some(watchers) = self.watchers.get_mut(node) {
            watchers.remove(&(id, number));
            if watchers.is_empty() {
                self.watchers.remove(node);
            }
        }
        let item = self.all.get_mut(&id).and_then(|subscription| subscription.items.get_mut(&number));
        item.into_iter().for_each(|item| item.due = None);
    }
}

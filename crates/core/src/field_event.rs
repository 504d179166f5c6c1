use crate::{Inventory, Receipt, Sample};
use std::sync::Arc;

/// What the field side tells those that listen to it, in its order.
#[derive(Debug, Clone)]
pub enum FieldEvent {
    /// Samples worth reporting, of one link, in time order.
    Samples(Arc<[Sample]>),
    /// When all before this is safe, a device is told so, which forgets it then.
    Keep(Receipt),
    /// A device answers; by its slot.
    DeviceUp(usize),
    /// A device is lost.
    DeviceDown(usize),
    /// Points of a device, by its slot, are of other types than before, or their types are known now: what is told of them
    /// from here on is of those.
    Retyped(usize),
    /// A new revision runs: these are its points from now on.
    Revised(Inventory),
}

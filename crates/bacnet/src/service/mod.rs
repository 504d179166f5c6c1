//! What services mean, one file a service.

mod cov_notification;
mod device_communication_control;
mod event;
mod log_record;
mod moment;
mod read_property;
mod read_property_multiple;
mod read_range;
mod reference;
mod subscribe_cov;
mod time_synchronization;
mod who_has;
mod who_is;
mod write_property;

pub use cov_notification::CovNotification;
pub use device_communication_control::{CommunicationMode, DeviceCommunicationControl};
pub use event::{EventNotification, EventState, EventSummary, GetEventInformation, GetEventInformationAck};
pub use log_record::{LogDatum, LogRecord};
pub use read_property::{ReadProperty, ReadPropertyAck};
pub use read_property_multiple::{
    EachResult, PropertyResult, ReadAccess, ReadPropertyMultiple, ReadPropertyMultipleAck, ReadResult,
};
pub use read_range::{Range, ReadRange, ReadRangeAck};
pub use reference::PropertyReference;
pub use subscribe_cov::{CovTerms, SubscribeCov};
pub use time_synchronization::TimeSynchronization;
pub use who_has::{IHave, Wanted, WhoHas};
pub use who_is::{IAm, WhoIs};
pub use write_property::{Priority, WriteProperty, WritePropertyMultiple};

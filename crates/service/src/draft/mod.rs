//! Descriptions that are being edited, and how they come to run.

pub(crate) mod activation;
pub(crate) mod drafts;
pub(crate) mod opened;
pub(crate) mod presence;
pub(crate) mod stored;
pub(crate) mod uploads;
pub(crate) mod vault;

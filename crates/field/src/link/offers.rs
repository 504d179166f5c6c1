use interlex_core::description::{Device, Link};
use serde::Serialize;
use serde_json::Value;

/// One way in which devices tell what they have.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OfferSource {
    /// The word that asks for it.
    pub word: &'static str,
    /// What it tells, for people.
    pub title: &'static str,
    /// Whether it asks one device, and not the link as a whole.
    pub of_device: bool,
    /// The JSON Schema of what it wants to know first.
    pub form: Value,
}

/// What is to be found out.
#[derive(Debug, Clone)]
pub struct OfferRequest {
    /// The link.
    pub link: Link,
    /// The device, where one is asked.
    pub device: Option<Device>,
    /// The word of the source.
    pub source: String,
    /// What its form was filled in with.
    pub filled: Value,
}

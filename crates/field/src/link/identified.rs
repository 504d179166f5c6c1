use super::frames::FrameView;
use serde::Serialize;

/// What a device says about itself.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialIdentity {
    /// How much a Modbus device can say: 01 basic, 02 regular, 03 extended, and 80 (hexadecimal) more when single objects can
    /// be asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub conformity: Option<u8>,
    /// What it said.
    pub objects: Vec<IdentityObject>,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
}

/// One thing that a device says about itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct IdentityObject {
    /// The object id of the standard, where it has numbers for them; else its place.
    pub id: u8,
    /// What the standard calls it; the id for those that each maker chooses.
    pub name: String,
    /// The text.
    pub value: String,
}

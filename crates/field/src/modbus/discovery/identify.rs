use crate::error::TrialError;
use crate::link::FrameView;
use crate::modbus::one_off::{OneOff, Via};
use interlex_core::description::Link;
use interlex_modbus::{ExceptionCode, IdentifyAccess, IdentifyRequest, Request, RequestError, Response, ResponseError};
use serde::Serialize;

/// What a device says about itself.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct TrialIdentity {
    /// How much the device can say: 01 basic, 02 regular, 03 extended, and 80 (hexadecimal) more when single objects can
    /// be asked for.
    pub conformity: u8,
    /// What it said.
    pub objects: Vec<IdentityObject>,
    /// The frames sent and received.
    pub frames: Vec<FrameView>,
}

/// One thing that a device says about itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub struct IdentityObject {
    /// The object id of the standard.
    pub id: u8,
    /// What the standard calls it; the id for those that each maker chooses.
    pub name: String,
    /// The text.
    pub value: String,
}

/// What the standard calls the first objects.
///
/// Source: MODBUS Application Protocol V1.1b3, section 6.21.
const NAMES: [&str; 7] =
    ["VendorName", "ProductCode", "MajorMinorRevision", "VendorUrl", "ProductName", "ModelName", "UserApplicationName"];

/// Asks a unit who it is (function 43/14): all that it can say.
///
/// # Errors
/// [`TrialError`], also when the device does not know the function.
pub async fn identify(link: &Link, unit: u8, via: &Via) -> Result<TrialIdentity, TrialError> {
    let mut line = OneOff::open(link, via).await?;
    let mut identity = TrialIdentity { conformity: 0, objects: Vec::new(), frames: Vec::new() };
    let mut access = IdentifyAccess::Extended;
    let mut object = 0;
    loop {
        let request = Request::Identify(IdentifyRequest { access, object });
        let answer = line.exchange(unit, request, None).await?;
        identity.frames.extend(answer.frames);
        match answer.outcome {
            Ok(Response::Identification(part)) => {
                identity.conformity = part.conformity;
                identity.objects.extend(
                    part.objects.into_iter().map(|(id, value)| IdentityObject {
                        id,
                        name: NAMES
                            .get(usize::from(id))
                            .map_or_else(|| format!("object {id:02X}"), |name| (*name).to_owned()),
                        value: String::from_utf8_lossy(&value).into_owned(),
                    }),
                );
                match part.next {
                    Some(next) => object = next,
                    None => return Ok(identity),
                }
            }
            // Some devices refuse what they should answer with as much as they have.
            Err(RequestError::Response(ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_VALUE)))
                if access == IdentifyAccess::Extended && object == 0 =>
            {
                access = IdentifyAccess::Basic;
            }
            Ok(_) => return Err(TrialError::Request("the device answered something else".to_owned())),
            Err(error) => {
                return Err(TrialError::Device { unit, why: error.to_string(), frames: identity.frames });
            }
        }
    }
}

use super::{End, Errand, Reply, Step, device_error, something_else};
use crate::error::TrialError;
use crate::link::{Answer, IdentityObject, TrialIdentity};
use interlex_modbus::{ExceptionCode, IdentifyAccess, IdentifyRequest, Request, RequestError, Response, ResponseError};
use std::time::Instant;

/// What the standard calls the first objects.
///
/// Source: MODBUS Application Protocol V1.1b3, section 6.21.
const NAMES: [&str; 7] =
    ["VendorName", "ProductCode", "MajorMinorRevision", "VendorUrl", "ProductName", "ModelName", "UserApplicationName"];

/// Asks a unit who it is (function 43/14), object by object: all that it can say.
pub(in crate::modbus) struct Identify {
    unit: u8,
    access: IdentifyAccess,
    object: u8,
    identity: TrialIdentity,
    end: Option<Result<(), TrialError>>,
}

impl Identify {
    pub(in crate::modbus) const fn new(unit: u8) -> Self {
        let identity = TrialIdentity { conformity: None, objects: Vec::new(), frames: Vec::new() };
        Self { unit, access: IdentifyAccess::Extended, object: 0, identity, end: None }
    }
}

impl Errand for Identify {
    fn unit(&self) -> u8 {
        self.unit
    }

    fn next(&mut self, _: Instant) -> Step {
        match self.end.take() {
            Some(Ok(())) => Step::Done(Answer::Found(Ok(Box::new(self.identity.clone())))),
            Some(Err(error)) => Step::Done(Answer::Found(Err(error))),
            None => {
                let request = Request::Identify(IdentifyRequest { access: self.access, object: self.object });
                Step::Send { unit: self.unit, request, written: None }
            }
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        self.identity.frames.extend(reply.frames);
        match reply.outcome {
            Ok(Response::Identification(part)) => {
                self.identity.conformity = Some(part.conformity);
                let object = |(id, value): (u8, Vec<u8>)| IdentityObject {
                    id,
                    name: NAMES
                        .get(usize::from(id))
                        .map_or_else(|| format!("object {id:02X}"), |name| (*name).to_owned()),
                    value: String::from_utf8_lossy(&value).into_owned(),
                };
                self.identity.objects.extend(part.objects.into_iter().map(object));
                // Objects ascend: a device that goes back would go on without end.
                match part.next.filter(|next| *next > self.object) {
                    Some(next) => self.object = next,
                    None => self.end = Some(Ok(())),
                }
            }
            // Some devices refuse what they should answer with as much as they have.
            Err(RequestError::Response(ResponseError::Exception(ExceptionCode::ILLEGAL_DATA_VALUE)))
                if self.access == IdentifyAccess::Extended && self.object == 0 =>
            {
                self.access = IdentifyAccess::Basic;
            }
            Ok(_) => self.end = Some(Err(something_else())),
            Err(error) => self.end = Some(Err(device_error(self.unit, &error, self.identity.frames.clone()))),
        }
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Found(Err(end.error()))
    }
}

#[cfg(test)]
mod tests;

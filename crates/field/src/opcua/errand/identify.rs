use super::{End, Errand, Reply, Step, something_else};
use crate::error::TrialError;
use crate::link::{Answer, FrameView, IdentityObject, TrialIdentity};
use crate::opcua::facts::{ServerFacts, read, value_of};
use interlex_core::iso_time;
use interlex_opcua::{NodeId, Response, Scalar, ServerStatusDataType, Structure, Variant};
use std::time::Instant;

/// Asks a server who it is.
pub(in crate::opcua) struct Identify {
    device: String,
    answer: Option<Result<TrialIdentity, TrialError>>,
}

/// Source: OPC 10000-6, annex A.3.
const SERVER_STATUS: u32 = 2256;
const SERVER_ARRAY: u32 = 2254;

impl Identify {
    pub(in crate::opcua) const fn new(device: String) -> Self {
        Self { device, answer: None }
    }
}

fn identity(told: &interlex_opcua::ReadResponse, frames: Vec<FrameView>) -> Result<TrialIdentity, TrialError> {
    let value = |place: usize| told.results.get(place).and_then(|result| result.value.as_ref());
    let Some(Variant::Scalar(Scalar::ExtensionObject(object))) = value(0) else { return Err(something_else()) };
    let Some(Ok(status)) = ServerStatusDataType::from_object(object) else { return Err(something_else()) };
    let uri = match value(1) {
        Some(Variant::Array(interlex_opcua::Array::String(uris))) => uris.first().cloned().flatten(),
        _ => None,
    };
    let build = status.build_info;
    let told = [
        ("Manufacturer", build.manufacturer_name),
        ("Product", build.product_name),
        ("Version", build.software_version),
        ("Build", build.build_number),
        ("Product URI", build.product_uri),
        ("Server URI", uri),
        ("State", Some(format!("{:?}", status.state))),
        ("Started", status.start_time.unix_millis().map(iso_time)),
        ("Time there", status.current_time.unix_millis().map(iso_time)),
    ];
    let told = told.into_iter().filter_map(|(name, value)| Some((name, value.filter(|value| !value.is_empty())?)));
    let objects = (0..).zip(told).map(|(id, (name, value))| IdentityObject { id, name: name.to_owned(), value });
    Ok(TrialIdentity { objects: objects.collect(), frames, conformity: None })
}

impl Errand for Identify {
    fn device(&self) -> &str {
        &self.device
    }

    fn next(&mut self, _: &ServerFacts, _: Instant) -> Step {
        match self.answer.take() {
            Some(answer) => Step::Done(Box::new(Answer::Found(answer.map(|identity| Box::new(identity) as _)))),
            None => Step::Ask(Box::new(read(
                [SERVER_STATUS, SERVER_ARRAY].map(|id| value_of(NodeId::numeric(0, id))).into(),
            ))),
        }
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        self.answer = Some(match reply.outcome {
            Ok(Response::Read(told)) => identity(&told, reply.frames),
            Ok(_) => Err(something_else()),
            Err(error) => Err(super::server_error(&error, reply.frames)),
        });
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        Answer::Found(Err(end.error()))
    }
}

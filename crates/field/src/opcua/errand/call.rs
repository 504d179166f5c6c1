use super::{End, Errand, Reply, Step, server_error, something_else};
use crate::link::{Answer, FrameView, PointWrite, WriteError, WriteOutcome};
use crate::opcua::facts::{ServerFacts, read, value_of};
use crate::opcua::locate::{Locator, NoNode};
use crate::opcua::mapping::{built_in, own, value, variant};
use interlex_core::description::OpcUaAddress;
use interlex_core::{OutcomeWord, Value, check_command};
use interlex_opcua::{
    Argument, Array, BrowseDescription, BrowseDirection, BrowseRequest, CallMethodRequest, CallMethodResult,
    CallRequest, NodeClass, NodeId, ReferenceDescription, RequestError, Response, Structure, Variant, ids,
};
use std::time::Instant;

/// Calls a method with the arguments that its point has, once.
pub(in crate::opcua) struct CallErrand {
    write: PointWrite,
    given: Vec<Value>,
    phase: Phase,
    frames: Vec<FrameView>,
}

enum Phase {
    /// Nothing is known yet.
    New,
    /// The method is looked for, and the object whose it is.
    Locating(Locator),
    /// What is around it is asked for: its object, where only the method is known, and the description of its arguments.
    Around {
        method: NodeId,
        object: Option<NodeId>,
    },
    /// The arguments that it takes are asked for.
    Arguments {
        method: NodeId,
        object: NodeId,
        described: NodeId,
    },
    Call(Box<CallMethodRequest>, Vec<Argument>),
    Done(Option<Result<WriteOutcome, WriteError>>),
}

/// The method, and the object whose it is where its path tells that.
fn addresses(address: &OpcUaAddress) -> Vec<OpcUaAddress> {
    std::iter::once(address.clone()).chain(address.parent()).collect()
}

fn refused(why: impl Into<String>) -> WriteError {
    WriteError::Value(why.into())
}

impl CallErrand {
    /// Checks whether it may be called at all.
    pub(in crate::opcua) fn new(write: PointWrite) -> Result<Self, WriteError> {
        check_command(&write.point, &write.value)?;
        if write.point.shaping.unapply(&write.value, write.point.raw_type()) != Ok(Value::Bool(true)) {
            return Err(refused("only true calls a method"));
        }
        let given = own(&write.point).arguments.map(|arguments| arguments.values().collect()).unwrap_or_default();
        Ok(Self { write, given, phase: Phase::New, frames: Vec::new() })
    }

    fn locator(&self, facts: &ServerFacts) -> Option<Locator> {
        let start = self.write.device.protocol.opcua().and_then(|own| own.start.as_ref());
        let (address, _) = self.write.point.opcua()?;
        Some(Locator::new(start, addresses(address).iter(), &facts.namespaces, 2))
    }

    fn located(&self, locator: Locator) -> Result<Phase, WriteError> {
        let absent = |no_node: &NoNode| WriteError::from(server_error(&no_node.why, Vec::new()));
        let start = locator.start().cloned().map_err(absent)?;
        let found: Result<Vec<_>, _> = locator.found().into_iter().collect();
        let mut found = found.as_deref().map_err(absent)?.iter().cloned();
        let method = found.next().unwrap_or_default();
        // A path of one step begins at the object.
        let is_path = self.write.point.opcua().is_some_and(|(address, _)| address.is_path());
        Ok(Phase::Around { method, object: found.next().or(is_path.then_some(start)) })
    }

    /// Who has the method, and where its arguments are described.
    fn around(
        &self,
        method: NodeId,
        object: Option<NodeId>,
        references: &[ReferenceDescription],
    ) -> Result<Phase, WriteError> {
        let local = |reference: &ReferenceDescription| reference.node_id.local();
        let is_object = |reference: &&ReferenceDescription| {
            !reference.is_forward && reference.node_class == NodeClass::Object && local(reference).is_some()
        };
        let objects: Vec<_> = references.iter().filter(is_object).filter_map(local).collect();
        let object = match (object, &objects[..]) {
            (Some(object), _) => object,
            (None, [object]) => object.clone(),
            (None, []) => return Err(refused("no object has this method: is the node a method?")),
            (None, _) => {
                let why = "several objects have this method: its address has to be a path, which tells whose it is";
                return Err(refused(why));
            }
        };
        let is_description = |reference: &&ReferenceDescription| {
            reference.is_forward && reference.browse_name.name.as_deref() == Some("InputArguments")
        };
        match references.iter().find(is_description).and_then(local) {
            Some(described) => Ok(Phase::Arguments { method, object, described }),
            None => self.call(method, object, Vec::new()),
        }
    }

    /// The call, with each argument as the type that the method takes.
    fn call(&self, method_id: NodeId, object_id: NodeId, described: Vec<Argument>) -> Result<Phase, WriteError> {
        if described.len() != self.given.len() {
            let names: Vec<_> = described.iter().map(argument_name).collect();
            let takes = if names.is_empty() { "no arguments".to_owned() } else { names.join(", ") };
            return Err(refused(format!("the method takes {takes}; arguments has {}", self.given.len())));
        }
        let converted = described.iter().zip(&self.given).map(|(argument, given)| {
            if argument.value_rank >= 0 {
                return Err(refused(format!(
                    "{} is an array, and such arguments cannot be given",
                    argument_name(argument)
                )));
            }
            // Types of others than the standard are enumerations, or not known here.
            let number = built_in(&argument.data_type).unwrap_or(INT32);
            let wrong = || refused(format!("{given} does not fit {}", argument_name(argument)));
            variant(given, number).ok_or_else(wrong)
        });
        let input_arguments = converted.collect::<Result<_, _>>()?;
        Ok(Phase::Call(Box::new(CallMethodRequest { object_id, method_id, input_arguments }), described))
    }

    /// Only a server that refuses has certainly not done it.
    fn called(&mut self, reply: Reply, described: &[Argument]) -> Result<WriteOutcome, WriteError> {
        let frames = || reply.frames.clone();
        let result = match &reply.outcome {
            Ok(Response::Call(told)) => told.results.first().ok_or_else(something_else)?,
            Err(RequestError::Fault(status)) => return Err(server_error(status, frames()).into()),
            Err(RequestError::NotSent(error)) => return Err(refused(error.to_string())),
            Ok(_) => return Err(something_else().into()),
            Err(error) => return Err(WriteError::Unknown { why: format!("server: {error}"), frames: frames() }),
        };
        if result.status_code.is_bad() {
            return Err(server_error(&failure(result, described), frames()).into());
        }
        let point = &self.write.point;
        let outcome = WriteOutcome {
            outcome: OutcomeWord::Accepted,
            words: String::new(),
            address: point.address.to_string(),
            written: Value::Bool(true),
            taken: self.write.value.clone(),
            raw: None,
            value: None,
            unit: String::new(),
            confirmed: None,
            read_back_error: None,
            answer: Some(success(result).into()),
            answer_ms: reply.milliseconds(),
            shared_connection: false,
            frames: std::mem::take(&mut self.frames),
        };
        Ok(outcome.told(&self.write.value))
    }

    fn take(&mut self, reply: Reply) -> Result<Phase, WriteError> {
        match (std::mem::replace(&mut self.phase, Phase::Done(None)), &reply.outcome) {
            (Phase::Locating(mut locator), outcome) => {
                locator.answered(outcome.clone());
                Ok(Phase::Locating(locator))
            }
            (Phase::Around { method, object }, Ok(Response::Browse(told))) => {
                let result = told.results.first().ok_or_else(something_else)?;
                if result.status_code.is_bad() {
                    return Err(server_error(&result.status_code, reply.frames.clone()).into());
                }
                self.around(method, object, &result.references)
            }
            (Phase::Arguments { method, object, .. }, Ok(Response::Read(told))) => {
                let told = told.results.first().ok_or_else(something_else)?;
                let Some(Variant::Array(Array::ExtensionObject(objects))) = &told.value else {
                    let why = format!("the arguments of the method are not told: {}", told.status());
                    return Err(server_error(&why, reply.frames.clone()).into());
                };
                let described: Option<Vec<_>> =
                    objects.iter().map(|object| Argument::from_object(object)?.ok()).collect();
                self.call(method, object, described.ok_or_else(something_else)?)
            }
            (Phase::Call(_, described), _) => {
                let told = self.called(reply, &described);
                Ok(Phase::Done(Some(told)))
            }
            (done @ Phase::Done(_), _) => Ok(done),
            (_, Ok(_)) => Err(something_else().into()),
            (_, Err(error)) => Err(server_error(error, reply.frames.clone()).into()),
        }
    }
}

/// Source: OPC 10000-4, section 5.8.2.2.
const ALL_FIELDS: u32 = 63;
/// Source: OPC 10000-6, section 5.1.2.
const INT32: u8 = 6;

fn argument_name(argument: &Argument) -> String {
    let name = argument.name.as_deref().unwrap_or("an argument without a name");
    match argument.description.text.as_deref().filter(|text| !text.is_empty()) {
        Some(text) => format!("{name} ({text})"),
        None => name.to_owned(),
    }
}

fn failure(result: &CallMethodResult, described: &[Argument]) -> String {
    let wrong = result.input_argument_results.iter().zip(described).filter(|(status, _)| status.is_bad());
    let wrong = wrong.map(|(status, argument)| format!("; {}: {status}", argument_name(argument)));
    std::iter::once(result.status_code.to_string()).chain(wrong).collect()
}

fn success(result: &CallMethodResult) -> String {
    let given = result.output_arguments.iter().map(|given| match value(given) {
        Some((value, _)) => value.to_string(),
        None => "something without a form".to_owned(),
    });
    let given = given.collect::<Vec<_>>().join(", ");
    let gave = if given.is_empty() { String::new() } else { format!(", and gave {given}") };
    match result.status_code.is_uncertain() {
        true => format!("the method was called: {}{gave}", result.status_code),
        false => format!("the method was called{gave}"),
    }
}

impl Errand for CallErrand {
    fn device(&self) -> &str {
        self.write.device.settings.name.as_str()
    }

    fn writes(&self) -> bool {
        true
    }

    fn next(&mut self, facts: &ServerFacts, _: Instant) -> Step {
        if matches!(self.phase, Phase::New) {
            self.phase = match self.locator(facts) {
                Some(locator) => Phase::Locating(locator),
                None => Phase::Done(Some(Err(refused("the address is of another protocol")))),
            };
        }
        if let Phase::Locating(locator) = &mut self.phase {
            if let Some(request) = locator.next() {
                return Step::Ask(Box::new(request));
            }
            if let Phase::Locating(locator) = std::mem::replace(&mut self.phase, Phase::Done(None)) {
                self.phase = self.located(locator).unwrap_or_else(|error| Phase::Done(Some(Err(error))));
            }
        }
        let request = match &mut self.phase {
            Phase::New | Phase::Locating(_) => {
                return Step::Done(Box::new(Answer::Written(Err(something_else().into()))));
            }
            Phase::Around { method, .. } => {
                let around = BrowseDescription {
                    node_id: method.clone(),
                    browse_direction: BrowseDirection::Both,
                    reference_type_id: ids::HIERARCHICAL_REFERENCES,
                    include_subtypes: true,
                    result_mask: ALL_FIELDS,
                    ..BrowseDescription::default()
                };
                BrowseRequest { nodes_to_browse: vec![around], ..BrowseRequest::default() }.into()
            }
            Phase::Arguments { described, .. } => read(vec![value_of(described.clone())]),
            Phase::Call(wanted, _) => {
                CallRequest { methods_to_call: vec![CallMethodRequest::clone(wanted)], ..CallRequest::default() }.into()
            }
            Phase::Done(outcome) => {
                let gone = || Err(refused("it was told before"));
                return Step::Done(Box::new(Answer::Written(outcome.take().unwrap_or_else(gone))));
            }
        };
        Step::Ask(Box::new(request))
    }

    fn answered(&mut self, reply: Reply, _: Instant) {
        self.frames.extend(reply.frames.iter().cloned());
        self.phase = self.take(reply).unwrap_or_else(|error| Phase::Done(Some(Err(error))));
    }

    fn given_up(&mut self, end: &End<'_>) -> Answer {
        let error = end.error();
        Answer::Written(match std::mem::replace(&mut self.phase, Phase::Done(None)) {
            Phase::Call(..) if end.is_sent => Err(WriteError::Unknown { why: error.to_string(), frames: Vec::new() }),
            Phase::Done(told) => told.unwrap_or_else(|| Err(error.into())),
            // Looking changes nothing, and what was not sent neither.
            _ => Err(error.into()),
        })
    }
}

use super::{Access, NodeKind, Space, Variable, data_type, range};
use crate::address::NumericRange;
use crate::service::{ReadValueId, TimestampsToReturn, WriteValue};
use crate::types::{Array, Body, DataValue, DateTime, NodeId, Scalar, StatusCode, Variant};

/// What can be asked of a node.
///
/// Source: OPC 10000-6, annex A.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u32)]
#[expect(missing_docs, reason = "the names are those of the standard")]
pub enum AttributeId {
    NodeId = 1,
    NodeClass = 2,
    BrowseName = 3,
    DisplayName = 4,
    Description = 5,
    WriteMask = 6,
    UserWriteMask = 7,
    IsAbstract = 8,
    Symmetric = 9,
    InverseName = 10,
    ContainsNoLoops = 11,
    EventNotifier = 12,
    Value = 13,
    DataType = 14,
    ValueRank = 15,
    ArrayDimensions = 16,
    AccessLevel = 17,
    UserAccessLevel = 18,
    MinimumSamplingInterval = 19,
    Historizing = 20,
    Executable = 21,
    UserExecutable = 22,
    DataTypeDefinition = 23,
}

impl AttributeId {
    /// All of them.
    pub const ALL: [Self; 23] = [
        Self::NodeId,
        Self::NodeClass,
        Self::BrowseName,
        Self::DisplayName,
        Self::Description,
        Self::WriteMask,
        Self::UserWriteMask,
        Self::IsAbstract,
        Self::Symmetric,
        Self::InverseName,
        Self::ContainsNoLoops,
        Self::EventNotifier,
        Self::Value,
        Self::DataType,
        Self::ValueRank,
        Self::ArrayDimensions,
        Self::AccessLevel,
        Self::UserAccessLevel,
        Self::MinimumSamplingInterval,
        Self::Historizing,
        Self::Executable,
        Self::UserExecutable,
        Self::DataTypeDefinition,
    ];

    /// The attribute of a number.
    #[must_use]
    pub fn from_number(number: u32) -> Option<Self> {
        Self::ALL.into_iter().find(|attribute| *attribute as u32 == number)
    }
}

/// In what a structure can be asked for.
///
/// Source: OPC 10000-6, section 5.2.
const BINARY: &str = "Default Binary";

impl Space {
    /// Reads an attribute, with the times that are wanted.
    ///
    /// Source: OPC 10000-4, section 5.11.2.
    #[must_use]
    pub fn read(&self, wanted: &ReadValueId, times: TimestampsToReturn, now: DateTime) -> DataValue {
        let bad = |status| DataValue { status: Some(status), server_time: Some(now), ..DataValue::default() };
        timed(self.attribute(wanted, now).unwrap_or_else(bad), times)
    }

    fn attribute(&self, wanted: &ReadValueId, now: DateTime) -> Result<DataValue, StatusCode> {
        let node = &self.known(&wanted.node_id)?.node;
        let attribute = AttributeId::from_number(wanted.attribute_id).ok_or(StatusCode::BAD_ATTRIBUTE_ID_INVALID)?;
        let encoding = wanted.data_encoding.name.as_deref().filter(|name| !name.is_empty());
        if encoding.is_some() && attribute != AttributeId::Value {
            return Err(StatusCode::BAD_DATA_ENCODING_INVALID);
        }
        let range = range_of(wanted.index_range.as_deref())?;
        let mut value = match (&node.kind, attribute) {
            (NodeKind::Variable(variable), AttributeId::Value) => {
                if !variable.access.has(Access::READ) {
                    return Err(StatusCode::BAD_NOT_READABLE);
                }
                if encoding.is_some_and(|encoding| encoding != BINARY) {
                    let is_structure = is_structure(variable.value.value.as_ref());
                    let unsupported = StatusCode::BAD_DATA_ENCODING_UNSUPPORTED;
                    return Err(if is_structure { unsupported } else { StatusCode::BAD_DATA_ENCODING_INVALID });
                }
                // Where nothing comes from a device, the server has it now.
                DataValue { server_time: Some(now), ..variable.value.clone() }
            }
            _ => {
                let value = self.plain_attribute(&wanted.node_id, attribute)?;
                DataValue { value: Some(value), server_time: Some(now), ..DataValue::default() }
            }
        };
        if let Some(range) = range {
            let whole = value.value.as_ref().ok_or(StatusCode::BAD_INDEX_RANGE_NO_DATA)?;
            value.value = Some(range::part(whole, &range)?);
        }
        Ok(value)
    }

    /// All but the value of a variable.
    fn plain_attribute(&self, id: &NodeId, attribute: AttributeId) -> Result<Variant, StatusCode> {
        let node = &self.known(id)?.node;
        let of_class = match (attribute, &node.kind) {
            (AttributeId::NodeId, _) => Some(Variant::Scalar(Scalar::NodeId(node.id.clone()))),
            (AttributeId::NodeClass, kind) => Some(Variant::from(kind.class() as i32)),
            (AttributeId::BrowseName, _) => Some(Variant::Scalar(Scalar::QualifiedName(node.browse_name.clone()))),
            (AttributeId::DisplayName, _) => {
                Some(Variant::Scalar(Scalar::LocalizedText(node.display_name.clone().into())))
            }
            (AttributeId::Description, _) => {
                Some(Variant::Scalar(Scalar::LocalizedText(node.description.clone().into())))
            }
            // No attribute but values is written.
            (AttributeId::WriteMask | AttributeId::UserWriteMask, _) => Some(Variant::from(0_u32)),
            (
                AttributeId::IsAbstract,
                NodeKind::ObjectType { is_abstract }
                | NodeKind::VariableType { is_abstract, .. }
                | NodeKind::ReferenceType { is_abstract, .. }
                | NodeKind::DataType { is_abstract, .. },
            ) => Some(Variant::from(*is_abstract)),
            (AttributeId::Symmetric, NodeKind::ReferenceType { is_symmetric, .. }) => {
                Some(Variant::from(*is_symmetric))
            }
            (AttributeId::InverseName, NodeKind::ReferenceType { inverse_name, is_symmetric: false, .. }) => {
                Some(Variant::Scalar(Scalar::LocalizedText(inverse_name.clone().into())))
            }
            (AttributeId::EventNotifier, NodeKind::Object) => Some(Variant::from(0_u8)),
            (AttributeId::DataType, NodeKind::VariableType { data_type, .. }) => {
                Some(Variant::Scalar(Scalar::NodeId(data_type.clone())))
            }
            (AttributeId::ValueRank, NodeKind::VariableType { value_rank, .. }) => Some(Variant::from(*value_rank)),
            (AttributeId::Executable | AttributeId::UserExecutable, NodeKind::Method { is_executable }) => {
                Some(Variant::from(*is_executable))
            }
            (AttributeId::DataTypeDefinition, NodeKind::DataType { definition: Some(definition), .. }) => {
                Some(Variant::Scalar(Scalar::ExtensionObject(definition.clone().into())))
            }
            (_, NodeKind::Variable(variable)) => of_variable(variable, attribute),
            _ => None,
        };
        of_class.ok_or(StatusCode::BAD_ATTRIBUTE_ID_INVALID)
    }

    /// What would be written: the whole value that the variable is to have.
    ///
    /// Source: OPC 10000-4, section 5.11.4.
    ///
    /// # Errors
    /// Why it may not be written.
    pub fn to_write(&self, wanted: &WriteValue) -> Result<Variant, StatusCode> {
        let node = &self.known(&wanted.node_id)?.node;
        let attribute = AttributeId::from_number(wanted.attribute_id).ok_or(StatusCode::BAD_ATTRIBUTE_ID_INVALID)?;
        if attribute != AttributeId::Value {
            self.plain_attribute(&wanted.node_id, attribute)?;
            return Err(StatusCode::BAD_NOT_WRITABLE);
        }
        let NodeKind::Variable(variable) = &node.kind else { return Err(StatusCode::BAD_ATTRIBUTE_ID_INVALID) };
        if !variable.access.has(Access::WRITE) {
            return Err(StatusCode::BAD_NOT_WRITABLE);
        }
        let DataValue { value: Some(value), status, source_time, server_time, .. } = &wanted.value else {
            return Err(StatusCode::BAD_TYPE_MISMATCH);
        };
        let is_plain = status.is_none_or(|status| status == StatusCode::GOOD);
        if !is_plain || source_time.is_some() || server_time.is_some() {
            return Err(StatusCode::BAD_WRITE_NOT_SUPPORTED);
        }
        let value = match range_of(wanted.index_range.as_deref())? {
            Some(range) => {
                let whole = variable.value.value.as_ref().ok_or(StatusCode::BAD_INDEX_RANGE_NO_DATA)?;
                range::replaced(whole, &range, value)?
            }
            None => value.clone(),
        };
        let value = self.of_type(value, &variable.data_type).ok_or(StatusCode::BAD_TYPE_MISMATCH)?;
        if data_type::fits(&value, variable.value_rank, &variable.array_dimensions) {
            Ok(value)
        } else {
            Err(StatusCode::BAD_TYPE_MISMATCH)
        }
    }
}

fn of_variable(variable: &Variable, attribute: AttributeId) -> Option<Variant> {
    Some(match attribute {
        AttributeId::DataType => Variant::Scalar(Scalar::NodeId(variable.data_type.clone())),
        AttributeId::ValueRank => Variant::from(variable.value_rank),
        AttributeId::ArrayDimensions => Variant::Array(Array::UInt32(variable.array_dimensions.clone())),
        AttributeId::AccessLevel | AttributeId::UserAccessLevel => Variant::from(variable.access.0),
        AttributeId::MinimumSamplingInterval => Variant::from(variable.minimum_sampling_interval),
        AttributeId::Historizing => Variant::from(variable.history.is_some()),
        _ => return None,
    })
}

fn is_structure(value: Option<&Variant>) -> bool {
    let is_binary = |object: &crate::types::ExtensionObject| matches!(object.body, Body::Binary(_));
    match value {
        Some(Variant::Scalar(Scalar::ExtensionObject(object))) => is_binary(object),
        Some(Variant::Array(Array::ExtensionObject(_)) | Variant::Matrix(Array::ExtensionObject(_), _)) => true,
        _ => false,
    }
}

pub(super) fn range_of(text: Option<&str>) -> Result<Option<NumericRange>, StatusCode> {
    let text = text.filter(|text| !text.is_empty());
    text.map(|text| text.parse().map_err(|_| StatusCode::BAD_INDEX_RANGE_INVALID)).transpose()
}

/// A value with the times that are wanted, and no others.
pub(crate) fn timed(value: DataValue, times: TimestampsToReturn) -> DataValue {
    let (source, server) = match times {
        TimestampsToReturn::Source => (true, false),
        TimestampsToReturn::Server => (false, true),
        TimestampsToReturn::Both => (true, true),
        TimestampsToReturn::Neither | TimestampsToReturn::Invalid => (false, false),
    };
    DataValue {
        source_time: value.source_time.filter(|_| source),
        source_picoseconds: value.source_picoseconds.filter(|_| source),
        server_time: value.server_time.filter(|_| server),
        server_picoseconds: value.server_picoseconds.filter(|_| server),
        ..value
    }
}

//! The Sparkplug B payload schema, annotated by hand.
//!
//! Source: Sparkplug 3.0.0, section 6.4 (payload components) with its Protocol Buffers schema (proto2: every
//! scalar has presence, repeated scalars are not packed).
#![allow(missing_docs, reason = "the field names are those of the specification's schema")]

#[derive(Clone, PartialEq, prost::Message)]
pub struct Payload {
    /// When the message was sent, in milliseconds since 1970 UTC.
    #[prost(uint64, optional, tag = "1")]
    pub timestamp: Option<u64>,
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    /// 0 to 255, over all messages of the node.
    #[prost(uint64, optional, tag = "3")]
    pub seq: Option<u64>,
    #[prost(string, optional, tag = "4")]
    pub uuid: Option<String>,
    #[prost(bytes = "vec", optional, tag = "5")]
    pub body: Option<Vec<u8>>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct Metric {
    #[prost(string, optional, tag = "1")]
    pub name: Option<String>,
    #[prost(uint64, optional, tag = "2")]
    pub alias: Option<u64>,
    /// When the value arose, in milliseconds since 1970 UTC.
    #[prost(uint64, optional, tag = "3")]
    pub timestamp: Option<u64>,
    #[prost(uint32, optional, tag = "4")]
    pub datatype: Option<u32>,
    #[prost(bool, optional, tag = "5")]
    pub is_historical: Option<bool>,
    #[prost(bool, optional, tag = "6")]
    pub is_transient: Option<bool>,
    #[prost(bool, optional, tag = "7")]
    pub is_null: Option<bool>,
    #[prost(message, optional, boxed, tag = "8")]
    pub metadata: Option<Box<MetaData>>,
    #[prost(message, optional, tag = "9")]
    pub properties: Option<PropertySet>,
    #[prost(oneof = "metric::Value", tags = "10, 11, 12, 13, 14, 15, 16, 17, 18")]
    pub value: Option<metric::Value>,
}

pub mod metric {
    //! The value of a metric.

    #[derive(Clone, PartialEq, prost::Oneof)]
    pub enum Value {
        #[prost(uint32, tag = "10")]
        IntValue(u32),
        #[prost(uint64, tag = "11")]
        LongValue(u64),
        #[prost(float, tag = "12")]
        FloatValue(f32),
        #[prost(double, tag = "13")]
        DoubleValue(f64),
        #[prost(bool, tag = "14")]
        BooleanValue(bool),
        #[prost(string, tag = "15")]
        StringValue(String),
        #[prost(bytes, tag = "16")]
        BytesValue(Vec<u8>),
        #[prost(message, tag = "17")]
        DatasetValue(super::DataSet),
        #[prost(message, tag = "18")]
        TemplateValue(super::Template),
    }
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct MetaData {
    #[prost(bool, optional, tag = "1")]
    pub is_multi_part: Option<bool>,
    #[prost(string, optional, tag = "2")]
    pub content_type: Option<String>,
    #[prost(uint64, optional, tag = "3")]
    pub size: Option<u64>,
    #[prost(uint64, optional, tag = "4")]
    pub seq: Option<u64>,
    #[prost(string, optional, tag = "5")]
    pub file_name: Option<String>,
    #[prost(string, optional, tag = "6")]
    pub file_type: Option<String>,
    #[prost(string, optional, tag = "7")]
    pub md5: Option<String>,
    #[prost(string, optional, tag = "8")]
    pub description: Option<String>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct PropertySet {
    #[prost(string, repeated, tag = "1")]
    pub keys: Vec<String>,
    #[prost(message, repeated, tag = "2")]
    pub values: Vec<PropertyValue>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct PropertySetList {
    #[prost(message, repeated, tag = "1")]
    pub propertyset: Vec<PropertySet>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct PropertyValue {
    #[prost(uint32, optional, tag = "1")]
    pub r#type: Option<u32>,
    #[prost(bool, optional, tag = "2")]
    pub is_null: Option<bool>,
    #[prost(oneof = "property_value::Value", tags = "3, 4, 5, 6, 7, 8, 9, 10")]
    pub value: Option<property_value::Value>,
}

pub mod property_value {
    //! The value of a property.

    #[derive(Clone, PartialEq, prost::Oneof)]
    pub enum Value {
        #[prost(uint32, tag = "3")]
        IntValue(u32),
        #[prost(uint64, tag = "4")]
        LongValue(u64),
        #[prost(float, tag = "5")]
        FloatValue(f32),
        #[prost(double, tag = "6")]
        DoubleValue(f64),
        #[prost(bool, tag = "7")]
        BooleanValue(bool),
        #[prost(string, tag = "8")]
        StringValue(String),
        #[prost(message, tag = "9")]
        PropertysetValue(super::PropertySet),
        #[prost(message, tag = "10")]
        PropertysetsValue(super::PropertySetList),
    }
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct DataSet {
    #[prost(uint64, optional, tag = "1")]
    pub num_of_columns: Option<u64>,
    #[prost(string, repeated, tag = "2")]
    pub columns: Vec<String>,
    #[prost(uint32, repeated, packed = "false", tag = "3")]
    pub types: Vec<u32>,
    #[prost(message, repeated, tag = "4")]
    pub rows: Vec<Row>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct Row {
    #[prost(message, repeated, tag = "1")]
    pub elements: Vec<DataSetValue>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct DataSetValue {
    #[prost(oneof = "scalar::Value", tags = "1, 2, 3, 4, 5, 6")]
    pub value: Option<scalar::Value>,
}

pub mod scalar {
    //! The value of an element of a dataset.

    #[derive(Clone, PartialEq, prost::Oneof)]
    pub enum Value {
        #[prost(uint32, tag = "1")]
        IntValue(u32),
        #[prost(uint64, tag = "2")]
        LongValue(u64),
        #[prost(float, tag = "3")]
        FloatValue(f32),
        #[prost(double, tag = "4")]
        DoubleValue(f64),
        #[prost(bool, tag = "5")]
        BooleanValue(bool),
        #[prost(string, tag = "6")]
        StringValue(String),
    }
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct Template {
    #[prost(string, optional, tag = "1")]
    pub version: Option<String>,
    #[prost(message, repeated, tag = "2")]
    pub metrics: Vec<Metric>,
    #[prost(message, repeated, tag = "3")]
    pub parameters: Vec<Parameter>,
    #[prost(string, optional, tag = "4")]
    pub template_ref: Option<String>,
    #[prost(bool, optional, tag = "5")]
    pub is_definition: Option<bool>,
}

#[derive(Clone, PartialEq, prost::Message)]
pub struct Parameter {
    #[prost(string, optional, tag = "1")]
    pub name: Option<String>,
    #[prost(uint32, optional, tag = "2")]
    pub r#type: Option<u32>,
    #[prost(oneof = "parameter::Value", tags = "3, 4, 5, 6, 7, 8")]
    pub value: Option<parameter::Value>,
}

pub mod parameter {
    //! The value of a template parameter.

    #[derive(Clone, PartialEq, prost::Oneof)]
    pub enum Value {
        #[prost(uint32, tag = "3")]
        IntValue(u32),
        #[prost(uint64, tag = "4")]
        LongValue(u64),
        #[prost(float, tag = "5")]
        FloatValue(f32),
        #[prost(double, tag = "6")]
        DoubleValue(f64),
        #[prost(bool, tag = "7")]
        BooleanValue(bool),
        #[prost(string, tag = "8")]
        StringValue(String),
    }
}

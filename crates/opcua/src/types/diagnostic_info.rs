use super::StatusCode;
use crate::codec::{Binary, DecodeError, Reader};

/// What a server tells of a failure. Numbers are places in the string table of the response.
///
/// Source: OPC 10000-4, section 7.12; OPC 10000-6, section 5.2.2.12.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DiagnosticInfo {
    /// The symbol that names it.
    pub symbolic_id: Option<i32>,
    /// The namespace of the symbol.
    pub namespace_uri: Option<i32>,
    /// The language of the text.
    pub locale: Option<i32>,
    /// The text.
    pub localized_text: Option<i32>,
    /// More of it, for specialists.
    pub additional_info: Option<String>,
    /// What another system said.
    pub inner_status: Option<StatusCode>,
    /// What that system tells of it.
    pub inner: Option<Box<Self>>,
}

const SYMBOLIC_ID: u8 = 0x01;
const NAMESPACE: u8 = 0x02;
const LOCALIZED_TEXT: u8 = 0x04;
const LOCALE: u8 = 0x08;
const ADDITIONAL_INFO: u8 = 0x10;
const INNER_STATUS: u8 = 0x20;
const INNER: u8 = 0x40;

impl Binary for DiagnosticInfo {
    fn encode(&self, out: &mut Vec<u8>) {
        let numbers = [
            (self.symbolic_id, SYMBOLIC_ID),
            (self.namespace_uri, NAMESPACE),
            (self.locale, LOCALE),
            (self.localized_text, LOCALIZED_TEXT),
        ];
        let flag = |is_there: bool, bit| if is_there { bit } else { 0 };
        let flags = numbers.iter().fold(0, |flags, (number, bit)| flags | flag(number.is_some(), *bit));
        out.push(
            flags
                | flag(self.additional_info.is_some(), ADDITIONAL_INFO)
                | flag(self.inner_status.is_some(), INNER_STATUS)
                | flag(self.inner.is_some(), INNER),
        );
        numbers.iter().filter_map(|(number, _)| *number).for_each(|number| number.encode(out));
        if self.additional_info.is_some() {
            self.additional_info.encode(out);
        }
        if let Some(status) = self.inner_status {
            status.encode(out);
        }
        if let Some(inner) = &self.inner {
            inner.encode(out);
        }
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let flags = u8::decode(from)?;
        let has = |flag| flags & flag != 0;
        let number = |flag, from: &mut Reader<'_>| has(flag).then(|| i32::decode(from)).transpose();
        Ok(Self {
            symbolic_id: number(SYMBOLIC_ID, from)?,
            namespace_uri: number(NAMESPACE, from)?,
            locale: number(LOCALE, from)?,
            localized_text: number(LOCALIZED_TEXT, from)?,
            additional_info: if has(ADDITIONAL_INFO) { Option::decode(from)? } else { None },
            inner_status: has(INNER_STATUS).then(|| StatusCode::decode(from)).transpose()?,
            inner: has(INNER).then(|| from.deeper(Self::decode).map(Box::new)).transpose()?,
        })
    }
}

use crate::codec::{Binary, DecodeError, Reader};

/// A name in a namespace, as browsing shows it.
///
/// Source: OPC 10000-6, section 5.2.2.13.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct QualifiedName {
    /// The place of the namespace in the server's list.
    pub namespace: u16,
    /// The name in it.
    pub name: Option<String>,
}

impl Binary for QualifiedName {
    fn encode(&self, out: &mut Vec<u8>) {
        self.namespace.encode(out);
        self.name.encode(out);
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        Ok(Self { namespace: u16::decode(from)?, name: Option::decode(from)? })
    }
}

/// A text for people, and the language that it is in.
///
/// Source: OPC 10000-6, section 5.2.2.14.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct LocalizedText {
    /// The language, as `de-DE`.
    pub locale: Option<String>,
    /// The text.
    pub text: Option<String>,
}

const HAS_LOCALE: u8 = 1;
const HAS_TEXT: u8 = 2;

impl Binary for LocalizedText {
    fn encode(&self, out: &mut Vec<u8>) {
        let flag = |text: &Option<String>, bit| if text.is_some() { bit } else { 0 };
        out.push(flag(&self.locale, HAS_LOCALE) | flag(&self.text, HAS_TEXT));
        for text in [&self.locale, &self.text].into_iter().filter(|text| text.is_some()) {
            text.encode(out);
        }
    }

    fn decode(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let flags = u8::decode(from)?;
        let mut text = |bit| if flags & bit == 0 { Ok(None) } else { Option::decode(from) };
        Ok(Self { locale: text(HAS_LOCALE)?, text: text(HAS_TEXT)? })
    }
}

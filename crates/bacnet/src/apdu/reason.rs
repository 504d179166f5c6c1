use crate::codec::{DecodeError, Fault, Reader};
use crate::primitive::{Tag, Value};
use interlex_bacnet_names::{ABORT_REASONS, ERROR_CLASSES, ERROR_CODES, Names, REJECT_REASONS};
use std::fmt;

/// Why something was not done: a class and a code, both open.
///
/// Source: ASHRAE 135-2016, clause 18.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Error {
    /// What it is about.
    pub class: u32,
    /// What it is.
    pub code: u32,
}

macro_rules! errors {
    ($($(#[$doc:meta])* $name:ident = $class:literal, $code:literal;)*) => {
        impl Error {
            $($(#[$doc])* pub const $name: Self = Self { class: $class, code: $code };)*
        }
    };
}

errors! {
    /// There is no such object.
    UNKNOWN_OBJECT = 1, 31;
    /// There is no such property.
    UNKNOWN_PROPERTY = 2, 32;
    /// There is no such element.
    INVALID_ARRAY_INDEX = 2, 42;
    /// It has no elements.
    NOT_AN_ARRAY = 2, 50;
    /// It cannot be read.
    READ_ACCESS_DENIED = 2, 27;
    /// It cannot be written.
    WRITE_ACCESS_DENIED = 2, 40;
    /// The value is of another type.
    INVALID_DATA_TYPE = 2, 9;
    /// The value is not allowed.
    VALUE_OUT_OF_RANGE = 2, 37;
    /// Changes of it are not told.
    NOT_COV_PROPERTY = 2, 44;
    /// Changes of it are not told, since there are too many others.
    NO_SPACE_FOR_SUBSCRIPTION = 3, 18;
    /// Changes of it are not told.
    COV_SUBSCRIPTION_FAILED = 5, 43;
    /// There is no such subscription.
    UNKNOWN_SUBSCRIPTION = 5, 79;
    /// It is not done for those who do not know the password.
    PASSWORD_FAILURE = 4, 26;
    /// It is not done here.
    SERVICE_REQUEST_DENIED = 5, 29;
}

impl Error {
    /// The code alone, in the standard's words.
    #[must_use]
    pub fn code_name(self) -> Option<&'static str> {
        ERROR_CODES.of(self.code)
    }

    pub(crate) fn read(reader: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let mut number = |what| match Value::read(reader)? {
            Value::Enumerated(number) => Ok(number),
            _ => Err(reader.error(Fault::Value(what))),
        };
        Ok(Self { class: number("an error class")?, code: number("an error code")? })
    }

    /// Reads the octets of an error: as they are, or within a tag, as some services have them.
    ///
    /// # Errors
    /// [`DecodeError`]
    pub fn decode(octets: &[u8]) -> Result<Self, DecodeError> {
        let mut reader = Reader::new(octets);
        // Services that change several things say which one failed behind the error.
        if reader.next_tag() == Some(Tag::Opening(0)) {
            return Self::read(&mut Reader::new(reader.enclosed(0, "an error")?));
        }
        let error = Self::read(&mut reader)?;
        reader.finish("an error")?;
        Ok(error)
    }

    /// Appends the octets of the error.
    pub fn encode(self, out: &mut Vec<u8>) {
        Value::Enumerated(self.class).encode(out);
        Value::Enumerated(self.code).encode(out);
    }
}

/// `unknown-object (object)`
impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match ERROR_CODES.of(self.code) {
            Some(code) => f.write_str(code)?,
            None => write!(f, "error code {}", self.code)?,
        }
        match ERROR_CLASSES.of(self.class) {
            Some(class) => write!(f, " ({class})"),
            None => write!(f, " (class {})", self.class),
        }
    }
}

/// Why a request was not understood: an open code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RejectReason(pub u8);

impl RejectReason {
    /// It was too much.
    pub const BUFFER_OVERFLOW: Self = Self(1);
    /// A parameter has another type.
    pub const INVALID_PARAMETER_DATA_TYPE: Self = Self(3);
    /// A tag is not allowed there.
    pub const INVALID_TAG: Self = Self(4);
    /// A parameter is missing.
    pub const MISSING_REQUIRED_PARAMETER: Self = Self(5);
    /// A parameter is not allowed.
    pub const PARAMETER_OUT_OF_RANGE: Self = Self(6);
    /// There are too many.
    pub const TOO_MANY_ARGUMENTS: Self = Self(7);
    /// There is no such service.
    pub const UNRECOGNIZED_SERVICE: Self = Self(9);
}

/// Why something was given up: an open code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct AbortReason(pub u8);

impl AbortReason {
    /// It was too much.
    pub const BUFFER_OVERFLOW: Self = Self(1);
    /// It does not belong here now.
    pub const INVALID_APDU_IN_THIS_STATE: Self = Self(2);
    /// It would have to come in segments.
    pub const SEGMENTATION_NOT_SUPPORTED: Self = Self(4);
    /// There is no room.
    pub const OUT_OF_RESOURCES: Self = Self(9);
    /// It took too long.
    pub const TSM_TIMEOUT: Self = Self(10);
    /// It is longer than may be.
    pub const APDU_TOO_LONG: Self = Self(11);
    /// The window of segments is not allowed.
    pub const WINDOW_SIZE_OUT_OF_RANGE: Self = Self(7);
}

fn named(f: &mut fmt::Formatter<'_>, names: Names, number: u8) -> fmt::Result {
    match names.of(number.into()) {
        Some(name) => f.write_str(name),
        None => write!(f, "reason {number}"),
    }
}

impl fmt::Display for RejectReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        named(f, REJECT_REASONS, self.0)
    }
}

impl fmt::Display for AbortReason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        named(f, ABORT_REASONS, self.0)
    }
}

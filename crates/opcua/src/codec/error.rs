use std::fmt;

/// Bytes that are not what they should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}{fault}, at byte {at}", Within(*.field))]
pub struct DecodeError {
    /// The field of a structure in which it is, where it is in one.
    pub field: Option<&'static str>,
    /// How many bytes lie before it.
    pub at: usize,
    /// What is wrong.
    pub fault: Fault,
}

impl DecodeError {
    /// The same, in a field of a structure; the innermost one is kept.
    #[must_use]
    pub fn within(self, field: &'static str) -> Self {
        Self { field: self.field.or(Some(field)), ..self }
    }
}

/// What is wrong with bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Fault {
    /// They end too early.
    #[error("{missing} more bytes are needed than there are")]
    Cut {
        /// How many are missing.
        missing: usize,
    },
    /// Something follows where the end should be.
    #[error("{0} bytes are left over")]
    LeftOver(usize),
    /// A length below -1, which alone means null.
    #[error("a length of {0}")]
    Length(i32),
    /// A string is longer, or an array larger, than is taken.
    #[error("a length of {length}, where {most} is the most")]
    TooLong {
        /// What it says.
        length: usize,
        /// What is taken.
        most: usize,
    },
    /// All of it together would take too much memory.
    #[error("it would take more than {0} bytes of memory")]
    TooLarge(usize),
    /// Values stand in each other deeper than is taken.
    #[error("values stand in each other more than {0} deep")]
    TooDeep(u16),
    /// A string that is not UTF-8.
    #[error("the text is not UTF-8")]
    Text,
    /// A byte that tells what follows is none of those that there are.
    #[error("{byte:#04x} is no {what}")]
    Unknown {
        /// What it should be.
        what: &'static str,
        /// What it is.
        byte: u8,
    },
    /// The dimensions of a matrix do not make up the number of its elements.
    #[error("the dimensions do not give the number of elements")]
    Dimensions,
    /// A value that is none of an enumeration.
    #[error("{value} is no {what}")]
    Enumeration {
        /// The enumeration.
        what: &'static str,
        /// What stands there.
        value: i32,
    },
}

struct Within(Option<&'static str>);

impl fmt::Display for Within {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.map_or(Ok(()), |field| write!(f, "{field}: "))
    }
}

use crate::message::milliseconds_of;
use std::fmt;
use std::str::FromStr;

/// Several values of one type, carried as their text: a list in JSON, without breaks between the rows of a matrix.
///
/// `float64[]` is a list of any length, `int32[2,3]` a matrix of two rows of three.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct ArrayType {
    /// What each of them is.
    pub element: ElementType,
    /// The lengths of the dimensions of a matrix, outermost first; all 0 for a list, and those that are not there.
    dimensions: [u16; MOST_DIMENSIONS],
}

/// Matrices of more dimensions are told as lists.
const MOST_DIMENSIONS: usize = 3;

macro_rules! element_types {
    ($($(#[$meta:meta])* $name:ident = $word:literal),+ $(,)?) => {
        /// What an element of an array is.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum ElementType {
            $($(#[$meta])* $name),+
        }

        impl ElementType {
            /// Its word: `int32`.
            #[must_use]
            pub const fn word(self) -> &'static str {
                match self {
                    $(Self::$name => $word),+
                }
            }

            fn of_word(word: &str) -> Option<Self> {
                match word {
                    $($word => Some(Self::$name),)+
                    _ => None,
                }
            }
        }
    };
}

element_types! {
    /// true and false
    Bool = "bool",
    /// Signed, 8 bits.
    Int8 = "int8",
    /// Unsigned, 8 bits.
    Uint8 = "uint8",
    /// Signed, 16 bits.
    Int16 = "int16",
    /// Unsigned, 16 bits.
    Uint16 = "uint16",
    /// Signed, 32 bits.
    Int32 = "int32",
    /// Unsigned, 32 bits.
    Uint32 = "uint32",
    /// Signed, 64 bits.
    Int64 = "int64",
    /// Unsigned, 64 bits.
    Uint64 = "uint64",
    /// IEEE 754 single precision.
    Float32 = "float32",
    /// IEEE 754 double precision.
    Float64 = "float64",
    /// Text.
    String = "string",
    /// A moment, as ISO 8601 text.
    DateTime = "datetime",
}

impl ArrayType {
    /// A list.
    #[must_use]
    pub const fn list(element: ElementType) -> Self {
        Self { element, dimensions: [0; MOST_DIMENSIONS] }
    }

    /// A matrix; one of more dimensions than three, or with longer ones than 65535, is a list.
    #[must_use]
    pub fn matrix(element: ElementType, lengths: &[u32]) -> Self {
        let mut dimensions = [0; MOST_DIMENSIONS];
        let fits = lengths.len() > 1 && lengths.len() <= MOST_DIMENSIONS;
        for (dimension, length) in dimensions.iter_mut().zip(lengths) {
            match u16::try_from(*length) {
                Ok(length) if length > 0 && fits => *dimension = length,
                _ => return Self::list(element),
            }
        }
        Self { element, dimensions }
    }

    /// The lengths of the dimensions of a matrix; none of a list.
    pub fn dimensions(&self) -> impl Iterator<Item = u16> {
        self.dimensions.into_iter().filter(|length| *length > 0)
    }

    /// Whether a text is the list of its elements.
    #[must_use]
    pub fn takes(&self, text: &str) -> bool {
        let Ok(elements) = serde_json::from_str::<Vec<serde_json::Value>>(text) else { return false };
        elements.iter().all(|element| match self.element {
            ElementType::Bool => element.is_boolean(),
            ElementType::String => element.is_string() || element.is_null(),
            ElementType::DateTime => {
                element.is_null() || element.as_str().is_some_and(|text| milliseconds_of(text).is_some())
            }
            ElementType::Float32 | ElementType::Float64 => element.is_number() || element.is_null(),
            _ => element.is_i64() || element.is_u64(),
        })
    }
}

impl FromStr for ArrayType {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let (word, lengths) = text.strip_suffix(']').and_then(|text| text.split_once('[')).ok_or(())?;
        let element = ElementType::of_word(word).ok_or(())?;
        if lengths.is_empty() {
            return Ok(Self::list(element));
        }
        let lengths: Vec<u32> = lengths.split(',').map(str::parse).collect::<Result<_, _>>().map_err(drop)?;
        let matrix = Self::matrix(element, &lengths);
        if matrix.dimensions().count() == lengths.len() { Ok(matrix) } else { Err(()) }
    }
}

impl fmt::Display for ArrayType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let lengths: Vec<_> = self.dimensions().map(|length| length.to_string()).collect();
        write!(f, "{}[{}]", self.element.word(), lengths.join(","))
    }
}

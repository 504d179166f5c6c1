use std::fmt;

macro_rules! data_types {
    ($($name:ident = $code:literal),+ $(,)?) => {
        /// The datatypes of metrics and properties with their codes.
        ///
        /// Source: Sparkplug 3.0.0, section 6.4.16.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        #[allow(missing_docs, reason = "the names are those of the specification")]
        pub enum DataType {
            $($name = $code),+
        }

        impl DataType {
            /// The datatype of a code; `None` for codes that are not defined.
            #[must_use]
            pub const fn from_code(code: u32) -> Option<Self> {
                match code {
                    $($code => Some(Self::$name),)+
                    _ => None,
                }
            }

            /// The name in the specification.
            #[must_use]
            pub const fn name(self) -> &'static str {
                match self {
                    $(Self::$name => stringify!($name)),+
                }
            }
        }
    };
}

data_types! {
    Int8 = 1, Int16 = 2, Int32 = 3, Int64 = 4, UInt8 = 5, UInt16 = 6, UInt32 = 7, UInt64 = 8, Float = 9, Double = 10,
    Boolean = 11, String = 12, DateTime = 13, Text = 14, UUID = 15, DataSet = 16, Bytes = 17, File = 18, Template = 19,
    PropertySet = 20, PropertySetList = 21, Int8Array = 22, Int16Array = 23, Int32Array = 24, Int64Array = 25,
    UInt8Array = 26, UInt16Array = 27, UInt32Array = 28, UInt64Array = 29, FloatArray = 30, DoubleArray = 31,
    BooleanArray = 32, StringArray = 33, DateTimeArray = 34,
}

impl DataType {
    /// The code on the wire.
    #[must_use]
    pub const fn code(self) -> u32 {
        self as u32
    }

    /// Least and greatest value of an integer type; `None` for the others.
    #[must_use]
    pub const fn integer_range(self) -> Option<(i128, i128)> {
        Some(match self {
            Self::Int8 => (i8::MIN as i128, i8::MAX as i128),
            Self::Int16 => (i16::MIN as i128, i16::MAX as i128),
            Self::Int32 => (i32::MIN as i128, i32::MAX as i128),
            Self::Int64 => (i64::MIN as i128, i64::MAX as i128),
            Self::UInt8 => (0, u8::MAX as i128),
            Self::UInt16 => (0, u16::MAX as i128),
            Self::UInt32 => (0, u32::MAX as i128),
            Self::UInt64 | Self::DateTime => (0, u64::MAX as i128),
            _ => return None,
        })
    }

    /// The size of one element of an array with elements of one size.
    pub(crate) const fn element_bytes(self) -> Option<usize> {
        Some(match self {
            Self::Int8Array | Self::UInt8Array => 1,
            Self::Int16Array | Self::UInt16Array => 2,
            Self::Int32Array | Self::UInt32Array | Self::FloatArray => 4,
            Self::Int64Array | Self::UInt64Array | Self::DoubleArray | Self::DateTimeArray => 8,
            _ => return None,
        })
    }
}

impl fmt::Display for DataType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

use super::object::UnknownName;
use interlex_bacnet_names::PROPERTIES;
use std::fmt;
use std::str::FromStr;

/// A property of an object, by its number; those from 512 on are the maker's.
///
/// Source: ASHRAE 135-2016, clause 21 (BACnetPropertyIdentifier).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PropertyIdentifier(pub u32);

macro_rules! properties {
    ($($(#[$doc:meta])* $name:ident = $number:literal;)*) => {
        impl PropertyIdentifier {
            $($(#[$doc])* pub const $name: Self = Self($number);)*
        }
    };
}

properties! {
    /// The word for the state that is on.
    ACTIVE_TEXT = 4;
    /// All properties of an object.
    ALL = 8;
    /// How long an answer may take, in milliseconds.
    APDU_TIMEOUT = 11;
    /// The version of the program of the maker.
    APPLICATION_SOFTWARE_VERSION = 12;
    /// How many records there are.
    RECORD_COUNT = 141;
    /// By how much a value has to move to be told.
    COV_INCREMENT = 22;
    /// Which others may be written too.
    DESCRIPTION = 28;
    /// Where nobody commands anything.
    RELINQUISH_DEFAULT = 104;
    /// Whether a log is written.
    LOG_ENABLE = 133;
    /// What a log logs.
    LOG_DEVICE_OBJECT_PROPERTY = 132;
    /// Records of a log.
    LOG_BUFFER = 131;
    /// How many records were ever written.
    TOTAL_RECORD_COUNT = 145;
    /// The word for the state that is off.
    INACTIVE_TEXT = 46;
    /// How many records there may be.
    BUFFER_SIZE = 126;
    /// The local date.
    LOCAL_DATE = 56;
    /// The local time.
    LOCAL_TIME = 57;
    /// The highest present value.
    MAX_PRES_VALUE = 65;
    /// How large a message may be.
    MAX_APDU_LENGTH_ACCEPTED = 62;
    /// The lowest present value.
    MIN_PRES_VALUE = 69;
    /// What the device is called by its maker.
    MODEL_NAME = 70;
    /// How many states there are.
    NUMBER_OF_STATES = 74;
    /// The objects of a device.
    OBJECT_LIST = 76;
    /// The name of an object, unique in its device.
    OBJECT_NAME = 77;
    /// What an object is.
    OBJECT_TYPE = 79;
    /// What an object is called by the protocol.
    OBJECT_IDENTIFIER = 75;
    /// Whether an object is cut off from what it stands for.
    OUT_OF_SERVICE = 81;
    /// The value.
    PRESENT_VALUE = 85;
    /// What holds a commanded value at which priority.
    PRIORITY_ARRAY = 87;
    /// Which revision of the standard is followed.
    PROTOCOL_REVISION = 139;
    /// Which services are answered.
    PROTOCOL_SERVICES_SUPPORTED = 97;
    /// Which types of objects there are.
    PROTOCOL_OBJECT_TYPES_SUPPORTED = 96;
    /// Which version of the standard is followed.
    PROTOCOL_VERSION = 98;
    /// Why a value is not to be trusted.
    RELIABILITY = 103;
    /// Whether messages may come in segments.
    SEGMENTATION_SUPPORTED = 107;
    /// The words for the states.
    STATE_TEXT = 110;
    /// In-alarm, fault, overridden, out-of-service.
    STATUS_FLAGS = 111;
    /// Whether the device works.
    SYSTEM_STATUS = 112;
    /// The unit of the value.
    UNITS = 117;
    /// Minutes from local standard time to UTC: positive in the west.
    UTC_OFFSET = 119;
    /// The number of the maker.
    VENDOR_IDENTIFIER = 120;
    /// The name of the maker.
    VENDOR_NAME = 121;
    /// Whether summer time is in force.
    DAYLIGHT_SAVINGS_STATUS = 24;
    /// The version of the program.
    FIRMWARE_REVISION = 44;
    /// A number that changes with the object list or its properties.
    DATABASE_REVISION = 155;
    /// How many segments are taken.
    MAX_SEGMENTS_ACCEPTED = 167;
    /// How often a message is sent again.
    NUMBER_OF_APDU_RETRIES = 73;
    /// How long a segment may take, in milliseconds.
    APDU_SEGMENT_TIMEOUT = 10;
    /// Who is bound where.
    DEVICE_ADDRESS_BINDING = 30;
    /// Which event is the case.
    EVENT_STATE = 36;
    /// Where the device is.
    LOCATION = 58;
    /// Who subscribed to what.
    ACTIVE_COV_SUBSCRIPTIONS = 152;
    /// Where values are too low.
    LOW_LIMIT = 59;
    /// Where values are too high.
    HIGH_LIMIT = 45;
    /// Whether on is off.
    POLARITY = 84;
}

/// `present-value`; the number where the standard has no name.
impl fmt::Display for PropertyIdentifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match PROPERTIES.of(self.0) {
            Some(name) => f.write_str(name),
            None => write!(f, "{}", self.0),
        }
    }
}

impl FromStr for PropertyIdentifier {
    type Err = UnknownName;

    fn from_str(text: &str) -> Result<Self, UnknownName> {
        // 22 bits, as the standard says.
        PROPERTIES.number(text).filter(|number| *number <= 0x003F_FFFF).map(Self).ok_or(UnknownName)
    }
}

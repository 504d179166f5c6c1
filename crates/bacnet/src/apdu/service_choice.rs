use std::fmt;

macro_rules! services {
    ($(#[$doc:meta])* $type:ident { $($(#[$each:meta])* $name:ident = $number:literal, $word:literal;)* }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $type(pub u8);

        impl $type {
            $($(#[$each])* pub const $name: Self = Self($number);)*
        }

        /// The standard's name; the number where it has none.
        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                match self.0 {
                    $($number => f.write_str($word),)*
                    number => write!(f, "service {number}"),
                }
            }
        }
    };
}

services! {
    /// What is asked for, where an answer is owed: an open code.
    ///
    /// Source: ASHRAE 135-2016, clause 21 (BACnetConfirmedServiceChoice).
    ConfirmedService {
        /// An alarm was seen.
        ACKNOWLEDGE_ALARM = 0, "AcknowledgeAlarm";
        /// A value changed.
        COV_NOTIFICATION = 1, "ConfirmedCOVNotification";
        /// Something happened.
        EVENT_NOTIFICATION = 2, "ConfirmedEventNotification";
        /// Changes of an object are wanted.
        SUBSCRIBE_COV = 5, "SubscribeCOV";
        /// A property is read.
        READ_PROPERTY = 12, "ReadProperty";
        /// Several properties are read.
        READ_PROPERTY_MULTIPLE = 14, "ReadPropertyMultiple";
        /// A property is written.
        WRITE_PROPERTY = 15, "WriteProperty";
        /// Several properties are written.
        WRITE_PROPERTY_MULTIPLE = 16, "WritePropertyMultiple";
        /// A device is to be quiet, or to speak again.
        DEVICE_COMMUNICATION_CONTROL = 17, "DeviceCommunicationControl";
        /// A device is to start anew.
        REINITIALIZE_DEVICE = 20, "ReinitializeDevice";
        /// Records of a list are read.
        READ_RANGE = 26, "ReadRange";
        /// Changes of a property are wanted.
        SUBSCRIBE_COV_PROPERTY = 28, "SubscribeCOVProperty";
        /// What is not as it should be is asked for.
        GET_EVENT_INFORMATION = 29, "GetEventInformation";
    }
}

services! {
    /// What is told, where no answer is owed: an open code.
    ///
    /// Source: ASHRAE 135-2016, clause 21 (BACnetUnconfirmedServiceChoice).
    UnconfirmedService {
        /// A device says who it is.
        I_AM = 0, "I-Am";
        /// A device says that it has an object.
        I_HAVE = 1, "I-Have";
        /// A value changed.
        COV_NOTIFICATION = 2, "UnconfirmedCOVNotification";
        /// Something happened.
        EVENT_NOTIFICATION = 3, "UnconfirmedEventNotification";
        /// What time it is, locally.
        TIME_SYNCHRONIZATION = 6, "TimeSynchronization";
        /// Who has an object is asked.
        WHO_HAS = 7, "Who-Has";
        /// Who is there is asked.
        WHO_IS = 8, "Who-Is";
        /// What time it is, everywhere.
        UTC_TIME_SYNCHRONIZATION = 9, "UTCTimeSynchronization";
    }
}

use std::fmt;

/// What names a station on a link, or several at once.
///
/// Source: IEEE 1815-2012, section 9.2.4.1.3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct LinkAddress(pub u16);

impl LinkAddress {
    /// The largest address of a single station.
    pub const LARGEST: Self = Self(0xFFEF);
    /// Whoever is there alone.
    pub const SELF: Self = Self(0xFFFC);
    /// All stations, each of which may ask for a confirm of the application.
    pub const ALL_CONFIRM_OPTIONAL: Self = Self(0xFFFD);
    /// All stations, each of which asks for a confirm of the application.
    pub const ALL_CONFIRM: Self = Self(0xFFFE);
    /// All stations, none of which asks for a confirm of the application.
    pub const ALL: Self = Self(0xFFFF);

    /// Whether it is that of a single station.
    #[must_use]
    pub const fn is_station(self) -> bool {
        self.0 <= Self::LARGEST.0
    }

    /// Whether it means all stations: none of them answers.
    #[must_use]
    pub const fn is_broadcast(self) -> bool {
        self.0 >= Self::ALL_CONFIRM_OPTIONAL.0
    }
}

impl fmt::Display for LinkAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Self::SELF => f.write_str("self"),
            all if all.is_broadcast() => f.write_str("all"),
            Self(station) => write!(f, "{station}"),
        }
    }
}

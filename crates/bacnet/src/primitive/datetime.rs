use std::fmt;

/// Any of what may stand there.
pub const ANY: u8 = 255;

/// A date, of which each part may be left open.
///
/// Source: ASHRAE 135-2016, clause 20.2.12.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Date {
    /// Years since 1900; 255 for any.
    pub year: u8,
    /// 1 to 12; 13 for the odd ones, 14 for the even ones, 255 for any.
    pub month: u8,
    /// 1 to 31; 32 for the last, 33 for odd ones, 34 for even ones, 255 for any.
    pub day: u8,
    /// 1 for Monday to 7 for Sunday; 255 for any.
    pub weekday: u8,
}

/// A time of the day, of which each part may be left open.
///
/// Source: ASHRAE 135-2016, clause 20.2.13.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Time {
    /// 0 to 23; 255 for any.
    pub hour: u8,
    /// 0 to 59; 255 for any.
    pub minute: u8,
    /// 0 to 59; 255 for any.
    pub second: u8,
    /// 0 to 99; 255 for any.
    pub hundredths: u8,
}

/// A date and a time together, as a device tells them: in its local time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct DateTime {
    /// The date.
    pub date: Date,
    /// The time.
    pub time: Time,
}

/// Days from 0000-03-01 of the proleptic Gregorian calendar to 1970-01-01.
const DAYS_TO_1970: i64 = 719_468;

/// Days since 1970-01-01 of a date of the Gregorian calendar.
fn days(year: i64, month: i64, day: i64) -> i64 {
    // Years begin in March: the leap day is the last one.
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year.rem_euclid(400);
    let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - DAYS_TO_1970
}

impl Date {
    /// Nothing of it is told.
    pub const ANY: Self = Self { year: ANY, month: ANY, day: ANY, weekday: ANY };

    /// The year, where it is told.
    #[must_use]
    pub fn full_year(self) -> Option<u16> {
        (self.year != ANY).then(|| u16::from(self.year) + 1900)
    }

    /// Days since 1970-01-01; none where a part is left open, or there is no such day.
    #[must_use]
    pub fn days_since_1970(self) -> Option<i64> {
        let (year, month, day) = (i64::from(self.full_year()?), i64::from(self.month), i64::from(self.day));
        let next = if month == 12 { days(year + 1, 1, 1) } else { days(year, month + 1, 1) };
        let is_there = (1..=12).contains(&month) && day >= 1 && days(year, month, day) < next;
        is_there.then(|| days(year, month, day))
    }

    /// The date so many days after 1970-01-01; none before 1900 and after 2154.
    #[must_use]
    pub fn of_days(since_1970: i64) -> Option<Self> {
        let shifted = since_1970.checked_add(DAYS_TO_1970)?;
        let (era, of_era) = (shifted.div_euclid(146_097), shifted.rem_euclid(146_097));
        let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
        let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
        let shifted_month = (5 * of_year + 2) / 153;
        let day = of_year - (153 * shifted_month + 2) / 5 + 1;
        let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
        let year = year_of_era + era * 400 + i64::from(month <= 2);
        Some(Self {
            year: u8::try_from(year - 1900).ok().filter(|year| *year != ANY)?,
            month: u8::try_from(month).ok()?,
            day: u8::try_from(day).ok()?,
            // 1970-01-01 was a Thursday.
            weekday: u8::try_from((since_1970 + 3).rem_euclid(7) + 1).ok()?,
        })
    }

    /// The four octets that go over the wire.
    #[must_use]
    pub const fn octets(self) -> [u8; 4] {
        [self.year, self.month, self.day, self.weekday]
    }

    /// From the four octets that go over the wire.
    #[must_use]
    pub const fn from_octets([year, month, day, weekday]: [u8; 4]) -> Self {
        Self { year, month, day, weekday }
    }
}

impl Time {
    /// Nothing of it is told.
    pub const ANY: Self = Self { hour: ANY, minute: ANY, second: ANY, hundredths: ANY };

    /// Milliseconds since midnight; none where a part but the last is left open, or there is no such time.
    #[must_use]
    pub fn millis(self) -> Option<i64> {
        let hundredths = if self.hundredths == ANY { 0 } else { self.hundredths };
        let is_there = self.hour < 24 && self.minute < 60 && self.second < 60 && hundredths < 100;
        let seconds = (i64::from(self.hour) * 60 + i64::from(self.minute)) * 60 + i64::from(self.second);
        is_there.then(|| seconds * 1000 + i64::from(hundredths) * 10)
    }

    /// The time so many milliseconds after midnight.
    #[must_use]
    pub fn of_millis(millis: i64) -> Option<Self> {
        let seconds = millis / 1000;
        Some(Self {
            hour: u8::try_from(seconds / 3600).ok().filter(|hour| *hour < 24)?,
            minute: u8::try_from(seconds / 60 % 60).ok()?,
            second: u8::try_from(seconds % 60).ok()?,
            hundredths: u8::try_from(millis % 1000 / 10).ok()?,
        })
    }

    /// The four octets that go over the wire.
    #[must_use]
    pub const fn octets(self) -> [u8; 4] {
        [self.hour, self.minute, self.second, self.hundredths]
    }

    /// From the four octets that go over the wire.
    #[must_use]
    pub const fn from_octets([hour, minute, second, hundredths]: [u8; 4]) -> Self {
        Self { hour, minute, second, hundredths }
    }
}

const DAY_MILLIS: i64 = 86_400_000;

impl DateTime {
    /// Milliseconds since 1970 of the clock on the device's wall: UTC only where that is set to it.
    #[must_use]
    pub fn local_millis(self) -> Option<i64> {
        Some(self.date.days_since_1970()? * DAY_MILLIS + self.time.millis()?)
    }

    /// What the clock shows at such a moment.
    #[must_use]
    pub fn of_local_millis(millis: i64) -> Option<Self> {
        let date = Date::of_days(millis.div_euclid(DAY_MILLIS))?;
        Some(Self { date, time: Time::of_millis(millis.rem_euclid(DAY_MILLIS))? })
    }
}

fn part(f: &mut fmt::Formatter<'_>, value: u8, separator: &str) -> fmt::Result {
    if value == ANY { write!(f, "{separator}*") } else { write!(f, "{separator}{value:02}") }
}

/// `2024-02-29`; stars for what is left open.
impl fmt::Display for Date {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.full_year() {
            Some(year) => write!(f, "{year}")?,
            None => f.write_str("*")?,
        }
        match self.month {
            13 => f.write_str("-odd")?,
            14 => f.write_str("-even")?,
            month => part(f, month, "-")?,
        }
        match self.day {
            32 => f.write_str("-last"),
            33 => f.write_str("-odd"),
            34 => f.write_str("-even"),
            day => part(f, day, "-"),
        }
    }
}

/// `12:34:56.78`; stars for what is left open.
impl fmt::Display for Time {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        part(f, self.hour, "")?;
        part(f, self.minute, ":")?;
        part(f, self.second, ":")?;
        part(f, self.hundredths, ".")
    }
}

impl fmt::Display for DateTime {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.date, self.time)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_of_the_calendar_are_counted() {
        let date = |text: [u8; 4]| Date::from_octets(text);
        assert_eq!(date([124, 2, 29, 4]).days_since_1970(), Some(19_782));
        assert_eq!(Date::of_days(19_782), Some(date([124, 2, 29, 4])), "a Thursday");
        assert_eq!(date([123, 2, 29, 255]).days_since_1970(), None, "no leap year");
        assert_eq!(date([124, 13, 1, 255]).days_since_1970(), None, "odd months are no month");
        for day in -25_567..67_570 {
            let there = Date::of_days(day).and_then(Date::days_since_1970);
            assert_eq!(there, Some(day), "{day}");
        }
        let at = DateTime { date: date([124, 3, 1, 5]), time: Time::from_octets([0, 1, 0, 255]) };
        assert_eq!(at.local_millis(), Some(1_709_251_260_000));
        assert_eq!(
            DateTime::of_local_millis(1_709_251_260_000).map(|at| at.to_string()).as_deref(),
            Some("2024-03-01 00:01:00.00")
        );
    }
}

//! The names that the BACnet standard gives to numbers: of object types, properties, errors, and the like. Whoever writes addresses
//! of objects as text needs them, whether it speaks the protocol or not.
//!
//! Source: ASHRAE 135-2016 with its addenda, clause 21.
//!
//! ```
//! use interlex_bacnet_names::{OBJECT_TYPES, PROPERTIES};
//!
//! assert_eq!(OBJECT_TYPES.of(0), Some("analog-input"));
//! assert_eq!(PROPERTIES.number("present-value"), Some(85));
//! assert_eq!(PROPERTIES.number("5000"), Some(5000), "what a maker added has no name");
//! ```

mod tables;

pub use tables::{ABORT_REASONS, ERROR_CLASSES, ERROR_CODES, OBJECT_TYPES, PROPERTIES, REJECT_REASONS, RELIABILITIES};

/// Numbers with their names, in the order of the numbers.
#[derive(Debug, Clone, Copy)]
pub struct Names(&'static [(u32, &'static str)]);

impl Names {
    /// The name of a number, where it has one.
    #[must_use]
    pub fn of(self, number: u32) -> Option<&'static str> {
        let at = self.0.binary_search_by_key(&number, |(number, _)| *number).ok()?;
        self.0.get(at).map(|(_, name)| *name)
    }

    /// The number of a name, or a number in digits.
    #[must_use]
    pub fn number(self, text: &str) -> Option<u32> {
        let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        if is_number {
            return text.parse().ok();
        }
        self.0.iter().find(|(_, name)| *name == text).map(|(number, _)| *number)
    }

    /// All of them.
    pub fn iter(self) -> impl Iterator<Item = (u32, &'static str)> {
        self.0.iter().copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_stand_in_the_order_of_their_numbers_and_no_name_twice() {
        for names in
            [ABORT_REASONS, ERROR_CLASSES, ERROR_CODES, OBJECT_TYPES, PROPERTIES, REJECT_REASONS, RELIABILITIES]
        {
            assert!(names.0.is_sorted_by(|(one, _), (other, _)| one < other));
            assert!(names.iter().all(|(number, name)| names.number(name) == Some(number)), "{names:?}");
        }
    }
}

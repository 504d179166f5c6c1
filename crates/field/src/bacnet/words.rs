use super::mapping::{FAULT, IN_ALARM, OUT_OF_SERVICE, OVERRIDDEN};
use interlex_bacnet::{Error, reliability};
use interlex_core::Reason;

/// A reason in the words of the standard: `fault, open-loop`.
pub(crate) fn of(reason: Reason) -> String {
    match reason {
        Reason::Bacnet { flags, reliability: number } => {
            let named = [
                (IN_ALARM, "in alarm"),
                (FAULT, "fault"),
                (OVERRIDDEN, "overridden"),
                (OUT_OF_SERVICE, "out of service"),
            ];
            let mut words: Vec<_> =
                named.into_iter().filter(|(flag, _)| flags & flag != 0).map(|(_, word)| word.to_owned()).collect();
            if number != 0 {
                let word = reliability(number.into());
                words.push(word.map_or_else(|| format!("reliability {number}"), str::to_owned));
            }
            words.join(", ")
        }
        Reason::BacnetError { class, code } => Error { class: class.into(), code: code.into() }.to_string(),
        other => other.to_string(),
    }
}

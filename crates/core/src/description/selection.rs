//! Which points an uplink takes.

use super::PointSettings;
use std::fmt;
use std::str::FromStr;

/// Which points an uplink takes, such as `device:meter-* unit:kW,kWh label:billing`.
///
/// Words of each kind that stands there must hold; with commas, one of several. `*` stands for any text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Selection(Vec<Criterion>);

#[derive(Debug, Clone, PartialEq, Eq)]
struct Criterion {
    kind: Kind,
    patterns: Vec<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Device,
    Name,
    Unit,
    Label,
}

/// A text that is no [`Selection`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no selection of points")]
pub struct ParseSelectionError(String);

impl Kind {
    const ALL: [(&'static str, Self); 4] =
        [("device", Self::Device), ("name", Self::Name), ("unit", Self::Unit), ("label", Self::Label)];

    fn word(self) -> &'static str {
        Self::ALL.iter().find(|(_, kind)| *kind == self).map_or("", |(word, _)| word)
    }
}

impl Selection {
    /// What a file should say, for messages.
    pub const FORM: &str =
        "words such as device:meter-* unit:kW,kWh label:billing name:power*, with spaces between them";

    /// Whether it takes a point of a device.
    #[must_use]
    pub fn takes(&self, device: &str, point: &PointSettings) -> bool {
        self.0.iter().all(|criterion| {
            criterion.patterns.iter().any(|pattern| match criterion.kind {
                Kind::Device => fits(pattern, device),
                Kind::Name => fits(pattern, point.name.as_str()),
                Kind::Unit => fits(pattern, &point.unit),
                Kind::Label => point.labels().any(|label| fits(pattern, label)),
            })
        })
    }
}

/// Whether a text fits a pattern in which `*` stands for any text.
#[must_use]
pub fn fits(pattern: &str, text: &str) -> bool {
    let Some((head, tail)) = pattern.split_once('*') else { return pattern == text };
    let Some(rest) = text.strip_prefix(head) else { return false };
    let starts = rest.char_indices().map(|(at, _)| at).chain([rest.len()]);
    starts.into_iter().any(|at| rest.get(at..).is_some_and(|rest| fits(tail, rest)))
}

impl FromStr for Selection {
    type Err = ParseSelectionError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let criterion = |word: &str| {
            let (kind, patterns) = word.split_once(':')?;
            let (_, kind) = Kind::ALL.into_iter().find(|(known, _)| *known == kind)?;
            let patterns: Vec<_> = patterns.split(',').map(str::to_owned).collect();
            // A handful of stars is plenty, and every one more multiplies the work.
            let is_pattern = |text: &String| !text.is_empty() && text.matches('*').count() <= 4;
            patterns.iter().all(is_pattern).then_some(Criterion { kind, patterns })
        };
        let criteria: Option<Vec<_>> = text.split_whitespace().map(criterion).collect();
        let found = criteria.filter(|criteria| !criteria.is_empty());
        found.map(Self).ok_or_else(|| ParseSelectionError(text.to_owned()))
    }
}

impl fmt::Display for Selection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let word = |criterion: &Criterion| format!("{}:{}", criterion.kind.word(), criterion.patterns.join(","));
        f.write_str(&self.0.iter().map(word).collect::<Vec<_>>().join(" "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::description::Row;

    fn takes(selection: &str, device: &str) -> bool {
        let point = serde_json::json!({
            "name": "power/active", "address": "input:0", "unit": "kW", "rate": "fast", "labels": "billing; energy",
        });
        let point = Row::of(&point).and_then(|row| PointSettings::of_row(&row)).unwrap();
        selection.parse::<Selection>().unwrap().takes(device, &point)
    }

    #[test]
    fn points_are_chosen_by_device_name_unit_and_label() {
        for yes in
            ["device:meter-1", "device:*", "device:m*-1", "name:power/*", "unit:kW,kWh label:energy", "label:bill*"]
        {
            assert!(takes(yes, "meter-1"), "{yes}");
        }
        for no in ["device:meter", "name:power", "unit:kWh", "label:heat", "device:meter-1 unit:V", "device:m*-2"] {
            assert!(!takes(no, "meter-1"), "{no}");
        }
        for text in ["device:meter-*", "unit:kW,kWh label:billing"] {
            assert_eq!(text.parse::<Selection>().unwrap().to_string(), text);
        }
        for wrong in ["", "meter", "device:", "colour:red", "unit:kW,", "name:*a*b*c*d*e*"] {
            assert!(wrong.parse::<Selection>().is_err(), "{wrong}");
        }
    }
}

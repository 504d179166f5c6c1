//! Offers: what a device, a file or a model says that there is, in one form, to be chosen from and put into a draft.

use crate::description::{Cell, Row};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::HashMap;

/// One point that is offered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Offer {
    /// Where it stands in what offers it, from the outermost part to its own name: names are made of it.
    pub path: Vec<String>,
    /// What is known of it, by the columns of a point list: address, type, unit, low, high, access, title, enumeration …
    #[schema(value_type = std::collections::BTreeMap<String, Value>)]
    pub point: Map<String, Value>,
    /// Its raw value now; `null` where it was not read.
    #[serde(default, skip_serializing_if = "Value::is_null")]
    pub value: Value,
    /// The quality of that value, where it is not good.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub quality: String,
    /// What else is to be known.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// What comes while something tells what it has, in this order but for the progress.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum OfferEvent {
    /// How far it has come.
    Progress {
        /// So many steps are done.
        done: u32,
        /// Of so many.
        total: u32,
    },
    /// A device answers.
    Device {
        /// The keys of a device that reach it.
        #[schema(value_type = std::collections::BTreeMap<String, Value>)]
        device: Map<String, Value>,
        /// What it said.
        said: String,
    },
    /// What a link leads to can be reached in this way.
    Way {
        /// The keys of the link that take it.
        #[schema(value_type = std::collections::BTreeMap<String, Value>)]
        link: Map<String, Value>,
        /// What is to be known before.
        said: String,
    },
    /// Something about all that is offered.
    Note {
        /// What it is.
        text: String,
    },
    /// Points.
    Points {
        /// Some of them, in the order of the device.
        offers: Vec<Offer>,
    },
    /// It is over.
    Done {
        /// How many requests it took.
        requests: u32,
    },
    /// It cannot go on.
    Failed {
        /// Why.
        why: String,
    },
}

/// How names are made of paths.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize, utoipa::ToSchema)]
pub struct NameRule {
    /// How many of the last parts of the path stand in the name; 0 for all.
    #[serde(default)]
    pub parts: u8,
    /// How they are spelled.
    #[serde(default)]
    pub case: NameCase,
    /// What stands before each name.
    #[serde(default)]
    pub prefix: String,
}

/// How the parts of a name are spelled.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NameCase {
    /// As they are offered.
    #[default]
    AsIs,
    /// In small letters.
    Lower,
    /// In small letters, with `-` between words: `ActivePower` is `active-power`.
    Kebab,
}

impl NameRule {
    /// The name of what stands at a path: its parts with `/` between them, without what names cannot have.
    #[must_use]
    pub fn name(&self, path: &[String]) -> String {
        let wanted = if self.parts == 0 { path.len() } else { usize::from(self.parts) };
        let last = path.get(path.len().saturating_sub(wanted)..).unwrap_or(path);
        let parts: Vec<_> = last.iter().map(|part| self.part(part)).filter(|part| !part.is_empty()).collect();
        format!("{}{}", self.prefix, parts.join("/"))
    }

    fn part(&self, part: &str) -> String {
        match self.case {
            NameCase::AsIs => plain(part),
            NameCase::Lower => plain(part).to_lowercase(),
            NameCase::Kebab => kebab(part),
        }
    }
}

/// `+`, `#`, `/` and control characters mean something else in topics.
fn plain(part: &str) -> String {
    let allowed = |c: char| if matches!(c, '+' | '#' | '/') || c.is_control() { '-' } else { c };
    part.trim().chars().map(allowed).collect()
}

fn kebab(part: &str) -> String {
    let mut words = String::new();
    let letters: Vec<char> = part.chars().collect();
    for (at, letter) in letters.iter().enumerate() {
        let neighbour = |at: Option<usize>| at.and_then(|at| letters.get(at)).copied().unwrap_or('-');
        let (before, after) = (neighbour(at.checked_sub(1)), neighbour(Some(at + 1)));
        // A word begins where a capital follows a small letter, and with the last of several capitals.
        let begins = letter.is_uppercase()
            && (before.is_lowercase() || before.is_numeric() || (before.is_uppercase() && after.is_lowercase()));
        if !letter.is_alphanumeric() || begins {
            words.push('-');
        }
        words.extend(letter.is_alphanumeric().then_some(letter).into_iter().flat_map(|letter| letter.to_lowercase()));
    }
    let words: Vec<_> = words.split('-').filter(|word| !word.is_empty()).collect();
    words.join("-")
}

impl Offer {
    /// What it becomes in a point list, under a name by a rule, and with a rate where it has none.
    #[must_use]
    pub fn row(&self, rule: &NameRule, rate: &str) -> Row {
        let name = rule.name(&self.path);
        let said = self.point.iter().map(|(key, value)| (key.as_str(), Cell::of(value)));
        std::iter::once(("rate", Cell::Text(rate))).chain(said).chain([("name", Cell::Text(&name))]).collect()
    }
}

/// The rows of a point list as offers.
pub fn offers_of(rows: &[Row]) -> impl Iterator<Item = Offer> {
    rows.iter().map(|row| {
        let mut point = row.to_map();
        point.remove("name");
        Offer {
            path: row.name().split('/').map(str::to_owned).collect(),
            point,
            value: Value::Null,
            quality: String::new(),
            note: String::new(),
        }
    })
}

/// What another device says otherwise of a point that was chosen from one like it.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct OfferDifference {
    /// Its address.
    pub address: String,
    /// Where it stands in what was chosen from.
    pub path: Vec<String>,
    /// The column that differs; none where the other device does not have it at all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<&'static str>,
    /// What was chosen says this.
    #[schema(value_type = Value)]
    pub here: Value,
    /// The other one says this.
    #[schema(value_type = Value)]
    pub there: Value,
}

/// What matters when one device is described as another one: names and titles differ among siblings.
const ALIKE: [&str; 6] = ["type", "unit", "low", "high", "access", "enumeration"];

/// What another device says otherwise of what was chosen, by the addresses.
#[must_use]
pub fn differences(chosen: &[Offer], there: &[Offer]) -> Vec<OfferDifference> {
    let address = |offer: &Offer| offer.point.get("address").and_then(Value::as_str).unwrap_or_default().to_owned();
    let known: HashMap<_, _> = there.iter().map(|offer| (address(offer), offer)).collect();
    let of = |offer: &Offer| {
        let differs = |column, here: &Value, there: &Value| {
            let (here, there) = (here.clone(), there.clone());
            OfferDifference { address: address(offer), path: offer.path.clone(), column, here, there }
        };
        let Some(other) = known.get(&address(offer)) else { return vec![differs(None, &Value::Null, &Value::Null)] };
        let columns = ALIKE.into_iter().filter_map(|column| {
            let value = |offer: &Offer| offer.point.get(column).cloned().unwrap_or_default();
            let (here, there) = (value(offer), value(other));
            (here != there).then(|| differs(Some(column), &here, &there))
        });
        columns.collect()
    };
    chosen.iter().flat_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(path: &[&str], parts: u8, case: NameCase, prefix: &str) -> String {
        let path: Vec<_> = path.iter().map(|part| (*part).to_owned()).collect();
        NameRule { parts, case, prefix: prefix.to_owned() }.name(&path)
    }

    #[test]
    fn siblings_are_told_apart_by_what_matters() {
        let offer = |address: &str, unit: &str, title: &str| {
            let point = serde_json::json!({ "address": address, "unit": unit, "title": title });
            let point = point.as_object().cloned().unwrap();
            Offer {
                path: vec![title.to_owned()],
                point,
                value: Value::Null,
                quality: String::new(),
                note: String::new(),
            }
        };
        let chosen =
            [offer("analog-input:1", "°C", "flow 1"), offer("analog-input:2", "kW", "power 1"), offer("x", "", "")];
        let there = [offer("analog-input:2", "MW", "power 2"), offer("analog-input:1", "°C", "flow 2")];
        let told = differences(&chosen, &there);
        let told: Vec<_> = told.iter().map(|one| (one.address.as_str(), one.column, one.there.as_str())).collect();
        assert_eq!(told, [("analog-input:2", Some("unit"), Some("MW")), ("x", None, None)]);
    }

    #[test]
    fn names_are_made_of_paths_by_a_rule() {
        let path = ["Engine", "Oil +", "PressureBar"];
        assert_eq!(name(&path, 0, NameCase::AsIs, ""), "Engine/Oil -/PressureBar");
        assert_eq!(name(&path, 2, NameCase::Lower, "chp/"), "chp/oil -/pressurebar");
        assert_eq!(name(&path, 1, NameCase::Kebab, ""), "pressure-bar");
        assert_eq!(name(&path, 9, NameCase::Kebab, ""), "engine/oil/pressure-bar", "more parts than there are");
        for (part, kebab) in [
            ("HTTPServer2Port", "http-server2-port"),
            ("W_Tot", "w-tot"),
            ("  a#b  ", "a-b"),
            ("ÖlDruck", "öl-druck"),
            ("PhVphA", "ph-vph-a"),
        ] {
            assert_eq!(name(&[part], 0, NameCase::Kebab, ""), kebab);
        }
        assert_eq!(name(&["", "x"], 0, NameCase::Kebab, ""), "x", "empty parts are passed over");
    }
}

use serde_json::{Map, Value};
use std::collections::BTreeSet;

/// Two changes of one object, laid on each other.
#[derive(Debug, Clone, PartialEq)]
pub struct Merged {
    /// What only one side has changed is as that side has it; what both have changed is as mine.
    pub content: Map<String, Value>,
    /// The keys that both have changed, each to something else.
    pub clashes: Vec<String>,
}

/// Lays my change of an object on theirs: both began with `base`.
#[must_use]
pub fn merge(base: &Map<String, Value>, mine: &Map<String, Value>, theirs: &Map<String, Value>) -> Merged {
    let keys: BTreeSet<_> = base.keys().chain(mine.keys()).chain(theirs.keys()).collect();
    let mut merged = Merged { content: Map::new(), clashes: Vec::new() };
    for key in keys {
        let (before, mine, theirs) = (base.get(key), mine.get(key), theirs.get(key));
        let kept = if mine == before { theirs } else { mine };
        if mine != before && theirs != before && mine != theirs {
            merged.clashes.push(key.clone());
        }
        merged.content.extend(kept.map(|value| (key.clone(), value.clone())));
    }
    merged
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn merged(base: &Value, mine: &Value, theirs: &Value) -> (Value, Vec<String>) {
        let object = |value: &Value| value.as_object().unwrap().clone();
        let Merged { content, clashes } = merge(&object(base), &object(mine), &object(theirs));
        (Value::Object(content), clashes)
    }

    #[test]
    fn what_only_one_side_changed_stands_and_what_both_did_is_asked() {
        let base = json!({ "name": "flow", "unit": "m³/h", "scale": 0.1, "title": "Flow", "rate": "fast" });
        let mine = json!({ "name": "flow", "unit": "l/s", "scale": 0.1, "title": "Gas flow", "low": 1 });
        let theirs =
            json!({ "name": "flow", "unit": "m³/h", "scale": 0.01, "title": "Raw gas", "rate": "fast", "low": 1 });
        let wanted = json!({ "name": "flow", "unit": "l/s", "scale": 0.01, "title": "Gas flow", "low": 1 });
        assert_eq!(merged(&base, &mine, &theirs), (wanted, vec!["title".to_owned()]), "taken away is a change, too");
        assert_eq!(merged(&base, &base, &theirs), (theirs.clone(), vec![]));
        assert_eq!(merged(&base, &mine, &base), (mine, vec![]));
        // One takes away what the other changes.
        let without = json!({ "name": "flow" });
        let (_, clashes) = merged(&base, &without, &theirs);
        assert_eq!(clashes, ["scale", "title"]);
    }
}

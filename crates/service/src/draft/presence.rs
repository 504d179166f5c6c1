use interlex_core::Timestamp;
use parking_lot::Mutex;
use serde::Serialize;
use std::collections::HashMap;
use std::time::Duration;

/// Who has what open right now, for the others to see. In memory only: it is over when the console is closed.
#[derive(Debug, Default)]
pub(crate) struct Presence {
    seen: Mutex<HashMap<(String, String), (Editor, Timestamp)>>,
}

/// Somebody who looks at a draft.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, utoipa::ToSchema)]
pub(crate) struct Editor {
    /// The name.
    pub(crate) person: String,
    /// What is open there, in words; empty when nothing is being edited.
    pub(crate) place: String,
}

/// A console that has said nothing for so long is closed. It speaks up every few seconds.
const GONE: Duration = Duration::from_secs(15);
/// More tabs than a plant has people with screens.
const MOST: usize = 1000;

impl Presence {
    /// Notes what is open in a tab, and gives what is open in all others of the same gateway.
    pub(crate) fn announce(&self, gateway: &str, tab: &str, editor: Editor, now: Timestamp) -> Vec<Editor> {
        let mut seen = self.seen.lock();
        seen.retain(|_, (_, at)| now.since(*at) < GONE);
        let own = (gateway.to_owned(), tab.to_owned());
        if seen.len() < MOST || seen.contains_key(&own) {
            seen.insert(own, (editor, now));
        }
        let others = seen.iter().filter(|((of, other), _)| of == gateway && other != tab);
        let mut others: Vec<_> = others.map(|(_, (editor, _))| editor.clone()).collect();
        others.sort_by(|a, b| (&a.person, &a.place).cmp(&(&b.person, &b.place)));
        others.dedup();
        others
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tabs_see_each_other_until_they_fall_silent() {
        let presence = Presence::default();
        let at = Timestamp::from_millis;
        let note = |tab: &str, person: &str, place: &str, now| {
            let editor = Editor { person: person.to_owned(), place: place.to_owned() };
            let others = presence.announce("alderfen-1", tab, editor, at(now));
            others.into_iter().map(|editor| format!("{} {}", editor.person, editor.place)).collect::<Vec<_>>()
        };
        assert!(note("1", "ada", "link bus", 0).is_empty());
        assert_eq!(note("2", "bob", "", 5000), ["ada link bus"]);
        assert_eq!(note("1", "ada", "device pump", 10_000), ["bob "]);
        assert_eq!(note("2", "bob", "", 24_000), ["ada device pump"]);
        assert!(note("2", "bob", "", 26_000).is_empty());
        assert!(
            presence
                .announce("heat", "3", Editor { person: "eve".into(), place: String::new() }, at(26_000))
                .is_empty()
        );
    }
}

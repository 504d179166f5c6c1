use interlex_core::Reason;
use interlex_dnp3::{Flags, PointKind};

/// A reason in the words of the standard: `comm lost`; `offline` where the flag that says the contrary is not set.
pub(crate) fn of(reason: Reason) -> String {
    match reason {
        Reason::Dnp3 { flags, group } => {
            let flags = Flags(flags);
            let kind = super::mapping::kind_of_group(group).unwrap_or(PointKind::Binary);
            let offline = (!flags.has(Flags::ONLINE)).then_some("offline");
            let told = flags.words(kind).filter(|word| *word != "online");
            let words: Vec<_> = offline.into_iter().chain(told).collect();
            if words.is_empty() { "both contacts are closed".to_owned() } else { words.join(", ") }
        }
        other => other.to_string(),
    }
}

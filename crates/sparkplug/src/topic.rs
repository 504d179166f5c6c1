use std::fmt;
use std::str::FromStr;

/// The first level of every Sparkplug B topic.
pub const NAMESPACE: &str = "spBv1.0";

/// What a message is.
///
/// Source: Sparkplug 3.0.0, section 4.1.3.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MessageType {
    /// The node is there, with all its metrics.
    NBirth,
    /// Node metrics changed.
    NData,
    /// The node is gone.
    NDeath,
    /// A command to the node.
    NCmd,
    /// A device is there, with all its metrics.
    DBirth,
    /// Device metrics changed.
    DData,
    /// A device is gone.
    DDeath,
    /// A command to a device.
    DCmd,
}

impl MessageType {
    /// The word in the topic.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::NBirth => "NBIRTH",
            Self::NData => "NDATA",
            Self::NDeath => "NDEATH",
            Self::NCmd => "NCMD",
            Self::DBirth => "DBIRTH",
            Self::DData => "DDATA",
            Self::DDeath => "DDEATH",
            Self::DCmd => "DCMD",
        }
    }

    /// Whether its topic names a device.
    #[must_use]
    pub const fn is_of_device(self) -> bool {
        matches!(self, Self::DBirth | Self::DData | Self::DDeath | Self::DCmd)
    }

    /// Whether it announces metrics.
    #[must_use]
    pub const fn is_birth(self) -> bool {
        matches!(self, Self::NBirth | Self::DBirth)
    }

    fn from_word(word: &str) -> Option<Self> {
        const ALL: [MessageType; 8] = [
            MessageType::NBirth,
            MessageType::NData,
            MessageType::NDeath,
            MessageType::NCmd,
            MessageType::DBirth,
            MessageType::DData,
            MessageType::DDeath,
            MessageType::DCmd,
        ];
        ALL.into_iter().find(|message| message.word() == word)
    }
}

/// `spBv1.0/GROUP/TYPE/NODE` or `spBv1.0/GROUP/TYPE/NODE/DEVICE`.
///
/// ```
/// use interlex_sparkplug::{MessageType, ParseTopicError, Topic};
///
/// let topic: Topic = "spBv1.0/alderfen/DDATA/works-1/gas-analyser".parse()?;
/// assert_eq!((topic.message, topic.device.as_deref()), (MessageType::DData, Some("gas-analyser")));
/// assert_eq!(topic.to_string(), "spBv1.0/alderfen/DDATA/works-1/gas-analyser");
/// // Only messages of devices name one.
/// assert!("spBv1.0/alderfen/NDATA/works-1/gas-analyser".parse::<Topic>().is_err());
/// # Ok::<(), ParseTopicError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Topic {
    /// Group id.
    pub group: String,
    /// Message type.
    pub message: MessageType,
    /// Edge node id.
    pub node: String,
    /// Device id, for the messages of devices.
    pub device: Option<String>,
}

/// A topic that is none of Sparkplug B.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is no Sparkplug B topic")]
pub struct ParseTopicError(String);

/// Whether a text can be a group, node or device id: not empty, without `+`, `#` and `/`.
///
/// Source: Sparkplug 3.0.0, tck-id-topic-structure-namespace-valid-group-id, -edge-node-id, -device-id.
#[must_use]
pub fn is_valid_id(id: &str) -> bool {
    !id.is_empty() && !id.contains(['+', '#', '/', '\0'])
}

impl FromStr for Topic {
    type Err = ParseTopicError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let read = || {
            let mut levels = text.split('/');
            if levels.next()? != NAMESPACE {
                return None;
            }
            let group = levels.next()?.to_owned();
            let message = MessageType::from_word(levels.next()?)?;
            let node = levels.next()?.to_owned();
            let device = levels.next().map(str::to_owned);
            let ids_are_valid =
                [Some(&group), Some(&node), device.as_ref()].into_iter().flatten().all(|id| is_valid_id(id));
            let is_whole = levels.next().is_none() && device.is_some() == message.is_of_device();
            (ids_are_valid && is_whole).then_some(Self { group, message, node, device })
        };
        read().ok_or_else(|| ParseTopicError(text.to_owned()))
    }
}

impl fmt::Display for Topic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{NAMESPACE}/{}/{}/{}", self.group, self.message.word(), self.node)?;
        match &self.device {
            Some(device) => write!(f, "/{device}"),
            None => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn topics_read_back_from_their_own_text_and_others_are_refused() {
        for text in ["spBv1.0/g/NBIRTH/n", "spBv1.0/g/DCMD/n/d", "spBv1.0/Ä b/NDEATH/n.1"] {
            assert_eq!(text.parse::<Topic>().unwrap().to_string(), text);
        }
        for text in [
            "",
            "spbv1.0/g/NBIRTH/n",
            "spBv1.0/g/NBIRTH/n/d",
            "spBv1.0/g/DBIRTH/n",
            "spBv1.0/g/DBIRTH/n/d/x",
            "spBv1.0//NBIRTH/n",
            "spBv1.0/g/nbirth/n",
            "spBv1.0/g/STATE/n",
            "spBv1.0/g/DDATA/n/",
            "spBv1.0/STATE/host",
        ] {
            assert!(text.parse::<Topic>().is_err(), "{text}");
        }
    }
}

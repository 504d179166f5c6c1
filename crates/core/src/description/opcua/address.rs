use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// Where a value lives in a server: the standard's text of a `NodeId`, or a browse path from the start node of the device.
///
/// `ns=2;s=Engine.Speed`, `nsu=urn:alderfen:chp;i=1042`, `/2:Engine/2:Speed`. It is kept as it is written.
///
/// Source: OPC 10000-6, section 5.1.12 (NodeId); OPC 10000-4, annex A.2 (browse paths).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct OpcUaAddress(Arc<str>);

/// A text that is no [`OpcUaAddress`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{text:?} is no address of a node: {why}")]
pub struct ParseOpcUaAddressError {
    text: String,
    /// What is wrong with it.
    pub why: &'static str,
}

/// What means something in browse paths, unless a `&` stands before it.
const RESERVED: [char; 8] = ['/', '.', '<', '>', ':', '#', '!', '&'];

impl OpcUaAddress {
    /// What a file should say, for messages.
    pub const FORM: &str = "a node as ns=2;s=NAME, nsu=URI;i=NUMBER (also g=GUID, b=BASE64), or a browse path from the start node \
                            as /2:Engine/2:Speed";

    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it is a browse path, and not a node by itself.
    #[must_use]
    pub fn is_path(&self) -> bool {
        self.0.starts_with(['/', '.', '<'])
    }

    /// The node before the last step of a browse path: an object has its methods there. None of a path of one step, which begins
    /// where the device does, and of a node by itself.
    #[must_use]
    pub fn parent(&self) -> Option<Self> {
        let is_marked = |at: usize| {
            let before = self.0.get(..at).unwrap_or_default();
            before.bytes().rev().take_while(|byte| *byte == b'&').count() % 2 == 1
        };
        let begins = |(at, letter): &(usize, char)| matches!(letter, '/' | '.' | '<') && !is_marked(*at);
        let (last, _) = self.0.char_indices().rfind(begins).filter(|_| self.is_path())?;
        self.0.get(..last).filter(|before| !before.is_empty()).map(|before| Self(before.into()))
    }
}

impl FromStr for OpcUaAddress {
    type Err = ParseOpcUaAddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let trimmed = text.trim();
        let address = Self(trimmed.into());
        let checked = if address.is_path() { path(trimmed) } else { node(trimmed) };
        checked.map(|()| address).map_err(|why| ParseOpcUaAddressError { text: text.to_owned(), why })
    }
}

fn digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}

fn index(text: &str) -> Result<(), &'static str> {
    let is_index = digits(text) && text.parse::<u16>().is_ok();
    is_index.then_some(()).ok_or("a namespace is a number up to 65535")
}

fn node(text: &str) -> Result<(), &'static str> {
    let rest = if let Some(rest) = text.strip_prefix("ns=") {
        let (namespace, rest) = rest.split_once(';').ok_or("a semicolon must follow the namespace")?;
        index(namespace)?;
        rest
    } else if let Some(rest) = text.strip_prefix("nsu=") {
        // Semicolons in a URI are written as %3B.
        let (uri, rest) = rest.split_once(';').ok_or("a semicolon must follow the URI")?;
        if uri.is_empty() {
            return Err("the URI of the namespace is missing");
        }
        rest
    } else {
        text
    };
    let (kind, value) = rest.split_once('=').ok_or("it begins with i=, s=, g=, b=, ns=, nsu=, or as a path with /")?;
    let is_right = match kind {
        "i" => digits(value) && value.parse::<u32>().is_ok(),
        "s" => true,
        "g" => guid(value),
        "b" => base64(value),
        _ => return Err("it begins with i=, s=, g=, b=, ns=, nsu=, or as a path with /"),
    };
    is_right.then_some(()).ok_or(match kind {
        "i" => "i= needs a number up to 4294967295",
        "g" => "g= needs a GUID, as 09087e75-8e5e-499b-954f-f2a9603db28a",
        _ => "b= needs base64",
    })
}

fn guid(text: &str) -> bool {
    let lengths = [8, 4, 4, 4, 12];
    let parts: Vec<_> = text.split('-').collect();
    parts.len() == lengths.len()
        && parts
            .iter()
            .zip(lengths)
            .all(|(part, length)| part.len() == length && part.bytes().all(|byte| byte.is_ascii_hexdigit()))
}

fn base64(text: &str) -> bool {
    let unpadded = text.trim_end_matches('=');
    let is_letter = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'+' || byte == b'/';
    // Bits of the last letter that mean nothing are zero.
    let alphabet = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    let last = unpadded.bytes().last().and_then(|last| alphabet.iter().position(|letter| *letter == last)).unwrap_or(0);
    let (unused, padding) = match unpadded.len() % 4 {
        0 => (0, 0),
        2 => (0b1111, 2),
        3 => (0b11, 1),
        _ => return false,
    };
    unpadded.bytes().all(is_letter) && last & unused == 0 && text.len() - unpadded.len() == padding
}

/// A path, read from left to right.
struct Path<'a> {
    rest: std::iter::Peekable<std::str::Chars<'a>>,
}

impl Path<'_> {
    fn eat(&mut self, wanted: char) -> bool {
        self.rest.next_if_eq(&wanted).is_some()
    }

    /// Everything up to the next character that means something.
    fn plain(&mut self) -> Result<String, &'static str> {
        let mut text = String::new();
        while let Some(letter) = self.rest.next_if(|letter| *letter == '&' || !RESERVED.contains(letter)) {
            text.push(if letter == '&' { self.rest.next().ok_or("something must follow &")? } else { letter });
        }
        Ok(text)
    }

    /// Whether there is a name.
    fn name(&mut self) -> Result<bool, &'static str> {
        let first = self.plain()?;
        if let Some((uri, name)) = first.strip_prefix("nsu=").and_then(|rest| rest.split_once(';')) {
            let is_whole = !uri.is_empty() && !name.is_empty();
            return is_whole.then_some(true).ok_or("nsu= needs a URI, a semicolon, and a name");
        }
        if !self.eat(':') {
            return Ok(!first.is_empty());
        }
        index(&first)?;
        if self.plain()?.is_empty() { Err("a name must follow the namespace") } else { Ok(true) }
    }

    fn reference(&mut self) -> Result<(), &'static str> {
        if self.eat('/') || self.eat('.') {
            return Ok(());
        }
        if !self.eat('<') {
            return Err("a step begins with / or . or <");
        }
        // In either order, as some write them.
        let only = self.eat('#');
        let _ = self.eat('!') && !only && self.eat('#');
        if !self.name()? {
            return Err("the type of the reference is missing");
        }
        self.eat('>').then_some(()).ok_or("a reference ends with >")
    }
}

fn path(text: &str) -> Result<(), &'static str> {
    let mut path = Path { rest: text.chars().peekable() };
    let mut is_named = true;
    while path.rest.peek().is_some() {
        path.reference()?;
        is_named = path.name()?;
        if !is_named && path.rest.peek().is_some() {
            return Err("only the last name may be left out");
        }
    }
    // A value has a name of its own.
    is_named.then_some(()).ok_or("the name of the value is missing")
}

impl fmt::Display for OpcUaAddress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

use crate::types::Namespace;
use std::fmt;
use std::str::FromStr;

/// The way from a node to another, as text: `/2:Engine/2:Cylinder1.2:ExhaustTemperature`.
///
/// Before each name stands what leads there: `/` any reference of the hierarchy, `.` a part or a property, `<2:Feeds>` a
/// reference of that type; with `#` only that type itself, with `!` against its direction. In names, `/ . < > : # ! &` are
/// written with a `&` before them. A namespace is told by its place in the server's list, or as `nsu=URI;`.
///
/// Source: OPC 10000-4, annex A.2.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct PathText(pub Vec<PathStep>);

/// A step of a way.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct PathStep {
    /// What leads there.
    pub reference: PathReference,
    /// The name of the node; `None`, for the last one only, is any.
    pub target: Option<PathName>,
}

/// What leads from a node to another.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum PathReference {
    /// Any reference of the hierarchy: `/`.
    Hierarchical,
    /// A part or a property: `.`.
    Aggregates,
    /// A reference of some type.
    Named {
        /// The type.
        name: PathName,
        /// Those that are more special, too.
        include_subtypes: bool,
        /// Against its direction.
        is_inverse: bool,
    },
}

/// A name in a namespace.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct PathName {
    /// The namespace.
    pub namespace: Namespace,
    /// The name.
    pub name: String,
}

/// A text that is no way.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{text:?} is no browse path: {why}, at character {at}; it is written like /2:Engine/2:Cylinder1.2:ExhaustTemperature"
)]
pub struct ParsePathError {
    text: String,
    /// Which character, counted from 1.
    at: usize,
    why: &'static str,
}

const RESERVED: [char; 8] = ['/', '.', '<', '>', ':', '#', '!', '&'];

struct Parser {
    /// Each character, and whether it was escaped.
    rest: std::iter::Peekable<std::vec::IntoIter<(usize, char, bool)>>,
    end: usize,
}

type Fault = (usize, &'static str);

impl Parser {
    fn new(text: &str) -> Result<Self, Fault> {
        let (mut characters, mut rest) = (text.chars().zip(1..), Vec::new());
        while let Some((character, at)) = characters.next() {
            if character == '&' {
                let (escaped, _) = characters.next().ok_or((at, "something must follow &"))?;
                rest.push((at, escaped, true));
            } else {
                rest.push((at, character, false));
            }
        }
        let end = text.chars().count() + 1;
        Ok(Self { rest: rest.into_iter().peekable(), end })
    }

    /// A character that means something.
    fn eat(&mut self, wanted: char) -> bool {
        self.rest.next_if(|(_, character, is_escaped)| *character == wanted && !is_escaped).is_some()
    }

    fn at(&mut self) -> usize {
        self.rest.peek().map_or(self.end, |(at, ..)| *at)
    }

    /// Everything up to the next character that means something.
    fn plain(&mut self) -> String {
        let mut text = String::new();
        let is_plain = |(_, character, is_escaped): &(usize, char, bool)| *is_escaped || !RESERVED.contains(character);
        while let Some((_, character, _)) = self.rest.next_if(is_plain) {
            text.push(character);
        }
        text
    }

    fn name(&mut self) -> Result<Option<PathName>, Fault> {
        let (at, first) = (self.at(), self.plain());
        if let Some((uri, name)) = first.strip_prefix("nsu=").and_then(|rest| rest.split_once(';')) {
            if uri.is_empty() || name.is_empty() {
                return Err((at, "nsu= needs a URI, a semicolon, and a name"));
            }
            return Ok(Some(PathName { namespace: Namespace::Uri(uri.to_owned()), name: name.to_owned() }));
        }
        if !self.eat(':') {
            let plain = |name| PathName { namespace: Namespace::Index(0), name };
            return Ok(Some(first).filter(|name| !name.is_empty()).map(plain));
        }
        let is_number = !first.is_empty() && first.bytes().all(|byte| byte.is_ascii_digit());
        let index = first.parse().ok().filter(|_| is_number).ok_or((at, "a namespace is a number up to 65535"))?;
        let (at, name) = (self.at(), self.plain());
        if name.is_empty() {
            return Err((at, "a name must follow the namespace"));
        }
        Ok(Some(PathName { namespace: Namespace::Index(index), name }))
    }

    fn reference(&mut self) -> Result<PathReference, Fault> {
        if self.eat('/') {
            return Ok(PathReference::Hierarchical);
        }
        if self.eat('.') {
            return Ok(PathReference::Aggregates);
        }
        if !self.eat('<') {
            return Err((self.at(), "a step begins with / or . or <"));
        }
        // In either order, as some write them.
        let (only, inverse) = (self.eat('#'), self.eat('!'));
        let only = only || self.eat('#');
        let at = self.at();
        let name = self.name()?.ok_or((at, "the type of the reference is missing"))?;
        if !self.eat('>') {
            return Err((self.at(), "a reference ends with >"));
        }
        Ok(PathReference::Named { name, include_subtypes: !only, is_inverse: inverse })
    }
}

impl FromStr for PathText {
    type Err = ParsePathError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let parse = || -> Result<Self, Fault> {
            let (mut parser, mut steps) = (Parser::new(text)?, Vec::new());
            if parser.rest.peek().is_none() {
                return Err((1, "it is empty"));
            }
            while parser.rest.peek().is_some() {
                let reference = parser.reference()?;
                let (at, target) = (parser.at(), parser.name()?);
                if target.is_none() && parser.rest.peek().is_some() {
                    return Err((at, "only the last name may be left out"));
                }
                steps.push(PathStep { reference, target });
            }
            Ok(Self(steps))
        };
        parse().map_err(|(at, why)| ParsePathError { text: text.to_owned(), at, why })
    }
}

struct Escaped<'a>(&'a str);

impl fmt::Display for Escaped<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.chars().try_for_each(|character| {
            let escape = if RESERVED.contains(&character) { "&" } else { "" };
            write!(f, "{escape}{character}")
        })
    }
}

impl fmt::Display for PathName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.namespace {
            Namespace::Index(0) => {}
            Namespace::Index(index) => write!(f, "{index}:")?,
            Namespace::Uri(uri) => write!(f, "nsu={};", Escaped(uri))?,
        }
        write!(f, "{}", Escaped(&self.name))
    }
}

impl fmt::Display for PathText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for PathStep { reference, target } in &self.0 {
            match reference {
                PathReference::Hierarchical => f.write_str("/")?,
                PathReference::Aggregates => f.write_str(".")?,
                PathReference::Named { name, include_subtypes, is_inverse } => {
                    let flag = |is_set, flag| if is_set { flag } else { "" };
                    write!(f, "<{}{}{name}>", flag(!include_subtypes, "#"), flag(*is_inverse, "!"))?;
                }
            }
            if let Some(target) = target {
                write!(f, "{target}")?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_examples_of_the_standard_are_read_and_written() {
        for text in [
            "/2:Block&.Output",
            "/3:Truck.0:NodeVersion",
            "<1:ConnectedTo>1:Boiler/1:HeatSensor",
            "<1:ConnectedTo>1:Boiler/",
            "<0:HasChild>2:Wheel",
            "<!HasChild>Truck",
            "<0:HasChild>",
            "<#!2:Feeds>nsu=urn&:alderfen&:chp;Engine",
        ] {
            let path: PathText = text.parse().unwrap_or_else(|error| panic!("{error}"));
            // The first namespace need not be told.
            assert_eq!(path.to_string(), text.replace("0:", ""), "{text}");
        }
        let path: PathText = "/2:Block&.Output.2:a&:b".parse().unwrap();
        let name = |name: &str| Some(PathName { namespace: Namespace::Index(2), name: name.to_owned() });
        assert_eq!(path.0[0], PathStep { reference: PathReference::Hierarchical, target: name("Block.Output") });
        assert_eq!(path.0[1], PathStep { reference: PathReference::Aggregates, target: name("a:b") });
        let path: PathText = "<#!2:Feeds>".parse().unwrap();
        let feeds = PathName { namespace: Namespace::Index(2), name: "Feeds".to_owned() };
        let reference = PathReference::Named { name: feeds, include_subtypes: false, is_inverse: true };
        assert_eq!(path.0, [PathStep { reference, target: None }]);
    }

    #[test]
    fn what_is_no_path_says_where() {
        for (text, at, why) in [
            ("", 1, "it is empty"),
            ("Engine", 1, "a step begins with / or . or <"),
            ("/2:Engine//3:x", 11, "only the last name may be left out"),
            ("/x:Engine", 2, "a namespace is a number up to 65535"),
            ("/70000:Engine", 2, "a namespace is a number up to 65535"),
            ("/2:", 4, "a name must follow the namespace"),
            ("<2:Feeds/2:x", 9, "a reference ends with >"),
            ("<>2:x", 2, "the type of the reference is missing"),
            ("/2:Engine&", 10, "something must follow &"),
            ("/nsu=;x", 2, "nsu= needs a URI, a semicolon, and a name"),
        ] {
            let error = text.parse::<PathText>().unwrap_err();
            assert_eq!((error.at, error.why), (at, why), "{text}");
        }
    }
}

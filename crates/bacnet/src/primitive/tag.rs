use crate::codec::{DecodeError, Fault, MOST_NESTED, Reader};

/// What stands before a value, or around several.
///
/// Source: ASHRAE 135-2016, clause 20.2.1.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tag {
    /// Says the type of the value.
    Application(u8),
    /// Says which parameter the value is.
    Context(u8),
    /// Begins what belongs together.
    Opening(u8),
    /// Ends it.
    Closing(u8),
}

/// A tag with what it says of the length: the value itself with an application Boolean.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct TagHeader {
    pub(crate) tag: Tag,
    pub(crate) length: u32,
}

/// The application tag of Boolean, whose value stands in the place of its length.
pub(crate) const BOOLEAN: u8 = 1;

impl TagHeader {
    pub(crate) fn read(from: &mut Reader<'_>) -> Result<Self, DecodeError> {
        let at = from.at();
        let first = from.u8("a tag")?;
        let number = if first >> 4 == 0x0F { from.u8("a tag number")? } else { first >> 4 };
        let is_context = first & 0x08 != 0;
        match (is_context, first & 0x07) {
            (true, 6) => return Ok(Self { tag: Tag::Opening(number), length: 0 }),
            (true, 7) => return Ok(Self { tag: Tag::Closing(number), length: 0 }),
            (false, 6 | 7) => return Err(Fault::Value("a tag").at(at)),
            _ => {}
        }
        let tag = if is_context { Tag::Context(number) } else { Tag::Application(number) };
        if !is_context && number > 12 {
            return Err(Fault::ApplicationTag(number).at(at));
        }
        let length = match first & 0x07 {
            5 => match from.u8("a length")? {
                254 => from.u16("a length")?.into(),
                255 => from.u32("a length")?,
                length => length.into(),
            },
            length => length.into(),
        };
        Ok(Self { tag, length })
    }

    /// How many octets of content follow.
    pub(crate) fn content(self, from: &Reader<'_>) -> Result<usize, DecodeError> {
        match self.tag {
            Tag::Opening(_) | Tag::Closing(_) => Ok(0),
            Tag::Application(BOOLEAN) if self.length > 1 => Err(from.error(Fault::Value("a Boolean"))),
            Tag::Application(BOOLEAN) => Ok(0),
            Tag::Application(_) | Tag::Context(_) => {
                usize::try_from(self.length).map_err(|_| from.error(Fault::Cut("a value")))
            }
        }
    }
}

/// Appends a tag.
pub(crate) fn write(out: &mut Vec<u8>, tag: Tag, length: usize) {
    let (number, low) = match tag {
        Tag::Application(number) => (number, 0),
        Tag::Context(number) => (number, 0x08),
        Tag::Opening(number) => (number, 0x0E),
        Tag::Closing(number) => (number, 0x0F),
    };
    let is_value = matches!(tag, Tag::Application(_) | Tag::Context(_));
    let short = u8::try_from(length).ok().filter(|length| *length < 5);
    let low = low | if is_value { short.unwrap_or(5) } else { 0 };
    match number {
        0..=14 => out.push(number << 4 | low),
        _ => out.extend([0xF0 | low, number]),
    }
    if !is_value || short.is_some() {
        return;
    }
    match (u8::try_from(length), u16::try_from(length)) {
        (Ok(length @ ..254), _) => out.push(length),
        (_, Ok(length)) => {
            out.push(254);
            out.extend(length.to_be_bytes());
        }
        _ => {
            out.push(255);
            out.extend(u32::try_from(length).unwrap_or(u32::MAX).to_be_bytes());
        }
    }
}

/// Parameters of a service, by their context tags.
impl<'a> Reader<'a> {
    /// The tag that comes next.
    pub(crate) fn next_tag(&self) -> Option<Tag> {
        TagHeader::read(&mut self.clone()).ok().map(|header| header.tag)
    }

    /// The content of a parameter that may be left out.
    pub(crate) fn optional(&mut self, number: u8, what: &'static str) -> Result<Option<&'a [u8]>, DecodeError> {
        if self.is_empty() {
            return Ok(None);
        }
        let mut ahead = self.clone();
        let header = TagHeader::read(&mut ahead)?;
        if header.tag != Tag::Context(number) {
            return Ok(None);
        }
        let content = ahead.take(header.content(&ahead)?, what)?;
        *self = ahead;
        Ok(Some(content))
    }

    /// The content of a parameter that has to be there.
    pub(crate) fn required(&mut self, number: u8, what: &'static str) -> Result<&'a [u8], DecodeError> {
        self.optional(number, what)?.ok_or_else(|| self.error(Fault::Missing(what)))
    }

    /// Whether a tag comes next, which is passed over then.
    pub(crate) fn eat(&mut self, tag: Tag) -> Result<bool, DecodeError> {
        if self.is_empty() {
            return Ok(false);
        }
        let mut ahead = self.clone();
        let is_it = TagHeader::read(&mut ahead)?.tag == tag;
        if is_it {
            *self = ahead;
        }
        Ok(is_it)
    }

    /// A tag has to come next.
    pub(crate) fn expect(&mut self, tag: Tag, what: &'static str) -> Result<(), DecodeError> {
        if self.eat(tag)? { Ok(()) } else { Err(self.error(Fault::Missing(what))) }
    }

    /// Whatever stands between an opening tag and its closing tag, well formed.
    pub(crate) fn enclosed(&mut self, number: u8, what: &'static str) -> Result<&'a [u8], DecodeError> {
        self.expect(Tag::Opening(number), what)?;
        let from = self.at();
        let to = self.skip_until(Some(number))?;
        Ok(self.between(from, to))
    }

    /// Passes over well-formed elements: up to the closing tag of what was opened before, or to the end. Tells where they end.
    pub(crate) fn skip_until(&mut self, closing: Option<u8>) -> Result<usize, DecodeError> {
        let mut open = [0_u8; MOST_NESTED];
        let mut depth = 0;
        loop {
            let at = self.at();
            if self.is_empty() {
                return match (closing, depth) {
                    (None, 0) => Ok(at),
                    _ => Err(self.error(Fault::Unpaired(closing.unwrap_or_default()))),
                };
            }
            let header = TagHeader::read(self)?;
            match header.tag {
                Tag::Opening(number) => {
                    *open.get_mut(depth).ok_or_else(|| Fault::Deep.at(at))? = number;
                    depth += 1;
                }
                Tag::Closing(number) if depth == 0 => {
                    return if closing == Some(number) { Ok(at) } else { Err(Fault::Unpaired(number).at(at)) };
                }
                Tag::Closing(number) => {
                    depth -= 1;
                    if open.get(depth) != Some(&number) {
                        return Err(Fault::Unpaired(number).at(at));
                    }
                }
                Tag::Application(_) | Tag::Context(_) => {
                    let length = header.content(self)?;
                    self.take(length, "a value")?;
                }
            }
        }
    }
}

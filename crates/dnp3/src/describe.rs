use crate::application::{Block, Control, Request, Response, ResponseHeader, Selection};
use crate::link::{Frame, FrameReader, Sender};
use std::fmt::Write as _;

/// What a frame says, in one line for people: link, transport, and as much of the application as stands in it.
///
/// ```
/// let frame = [0x05, 0x64, 0x0B, 0xC4, 0x0A, 0x00, 0x01, 0x00, 0xAC, 0xD1, 0xC0, 0xC0, 0x01, 0x3C, 0x02, 0x06, 0x54, 0xE0];
/// assert_eq!(interlex_dnp3::describe(&frame), "read, number 0: g60v2 all");
/// ```
#[must_use]
pub fn describe(octets: &[u8]) -> String {
    let mut reader = FrameReader::default();
    reader.push(octets);
    match reader.next_frame() {
        Some(Ok(frame)) => describe_frame(&frame),
        Some(Err(error)) => error.to_string(),
        None => "no whole frame".to_owned(),
    }
}

const FINAL: u8 = 0x80;
const FIRST: u8 = 0x40;

fn describe_frame(frame: &Frame) -> String {
    let Some((header, part)) = frame.user_data.split_first() else { return frame.function.to_string() };
    let (number, is_first, is_final) = (header & 0x3F, header & FIRST != 0, header & FINAL != 0);
    if !is_first {
        let end = if is_final { ", the last one" } else { "" };
        return format!("segment {number}{end}, {} octets", part.len());
    }
    let mut text = match frame.sender {
        Sender::Master => request(part, is_final),
        Sender::Outstation => response(part, is_final),
    };
    if !is_final {
        text.push_str("; more segments follow");
    }
    text
}

fn request(octets: &[u8], is_whole: bool) -> String {
    match Request::decode(octets) {
        Ok(Request { control, function, blocks }) => said(function.to_string(), control, &blocks),
        Err(error) if is_whole => format!("a request that cannot be read: {error}"),
        Err(_) => "a request".to_owned(),
    }
}

fn response(octets: &[u8], is_whole: bool) -> String {
    let (ResponseHeader { control, indications }, _) = match ResponseHeader::decode(octets) {
        Ok(header) => header,
        Err(error) => return format!("a response that cannot be read: {error}"),
    };
    let word = if control.is_unsolicited { "told unasked" } else { "response" };
    let mut text = match Response::decode(octets) {
        Ok(response) => said(word.to_owned(), control, &response.blocks),
        Err(error) if is_whole => format!("{}; it cannot be read: {error}", said(word.to_owned(), control, &[])),
        Err(_) => said(word.to_owned(), control, &[]),
    };
    if indications.0 != 0 {
        // Writing into a string cannot fail.
        let _ = write!(text, " [{indications}]");
    }
    text
}

fn said(what: String, control: Control, blocks: &[Block]) -> String {
    let mut text = format!("{what}, number {}", control.sequence);
    if !control.is_first {
        text.push_str(", going on");
    }
    if !control.is_final {
        text.push_str(", to be gone on with");
    }
    if control.wants_confirm {
        text.push_str(", to be confirmed");
    }
    for (at, block) in blocks.iter().enumerate() {
        text.push_str(if at == 0 { ": " } else { ", " });
        let _ = match block.selection {
            Selection::All => write!(text, "{} all", block.variation),
            Selection::Range { start, stop } if start == stop => write!(text, "{} {start}", block.variation),
            Selection::Range { start, stop } => write!(text, "{} {start}..{stop}", block.variation),
            Selection::Count(count) => {
                let indices: Vec<_> = block.entries.iter().filter_map(|entry| entry.index).take(4).collect();
                match indices.as_slice() {
                    [] => write!(text, "{} {count} objects", block.variation),
                    [index] => write!(text, "{} of {index}", block.variation),
                    some => {
                        let some: Vec<_> = some.iter().map(u32::to_string).collect();
                        let more = if block.entries.len() > some.len() { " …" } else { "" };
                        write!(text, "{} of {}{more}", block.variation, some.join(" "))
                    }
                }
            }
        };
    }
    text
}

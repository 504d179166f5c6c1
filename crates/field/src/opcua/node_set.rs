//! What a file of nodes describes, as offers: a server that nobody reaches tells it, so that it is told as by the one in the plant.
//!
//! Source: OPC 10000-6, annex F.

use super::errand::{Browse, BrowseWanted, Errand, Reply, Step};
use super::facts::ServerFacts;
use interlex_opcua::{
    DateTime, Namespaces, NodeId, Process, RequestError, Server, ServerDescription, ServerLimits, Sessions, Space,
    StatusCode, User, Variant,
};
use std::thread;
use std::time::Duration;

/// A file has no more bytes.
pub(super) const LARGEST: usize = 4 << 20;
/// The first two namespaces of every server; those of a file follow.
const STANDARD: &str = "http://opcfoundation.org/UA/";
const OWN: &str = "urn:nowhere:interlex:file";

/// Nobody acts on a file.
struct Nothing;

impl Process for Nothing {
    fn write(&mut self, _: &NodeId, _: &Variant, _: &User) -> StatusCode {
        StatusCode::BAD_NOT_WRITABLE
    }

    fn call(&mut self, _: &NodeId, _: &NodeId, _: &[Variant], _: &User) -> Result<Vec<Variant>, StatusCode> {
        Err(StatusCode::BAD_NOT_EXECUTABLE)
    }
}

/// Tells what a file describes; it takes a while, and a thread of its own.
pub(super) fn tell(xml: &str, wanted: BrowseWanted) -> Result<(), String> {
    let (mut space, mut namespaces) = (Space::standard(), [STANDARD, OWN].map(str::to_owned).to_vec());
    space.add_node_set(xml, &mut namespaces).map_err(|error| format!("the file: {error}"))?;
    let description = ServerDescription {
        url: String::new(),
        application_uri: OWN.to_owned(),
        application_name: "File".to_owned(),
        own: None,
        security: Vec::new(),
        users: Vec::new(),
        session_timeout: (Duration::ZERO, Duration::ZERO),
        most_sessions: 0,
    };
    let of_file: Vec<_> = namespaces.iter().skip(2).map(String::as_str).collect();
    let limits = ServerLimits { references_per_node: 0, ..ServerLimits::default() };
    let mut server = Server::new(Sessions::new(description), space, limits, &of_file);
    let facts = ServerFacts { namespaces: Namespaces::new(namespaces.clone()), ..ServerFacts::default() };
    let events = wanted.events.clone();
    let mut browse = Browse::new(wanted);
    loop {
        let now = tokio::time::Instant::now().into_std();
        match browse.next(&facts, now) {
            Step::Ask(request) => {
                let answer = server.answer((now, DateTime::NONE), &request, &mut Nothing);
                let reply =
                    Reply { outcome: answer.map_err(RequestError::Fault), took: Duration::ZERO, frames: Vec::new() };
                browse.answered(reply, now);
            }
            // Whoever listens takes what was told a moment later.
            Step::Wait(until) => thread::sleep(until.saturating_duration_since(now)),
            Step::Done(_) => break,
        }
        if events.is_closed() {
            break;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use interlex_core::OfferEvent;
    use tokio::sync::mpsc;

    fn wanted(events: mpsc::Sender<OfferEvent>) -> BrowseWanted {
        BrowseWanted {
            device: "chp".to_owned(),
            start: None,
            below: None,
            levels: u32::MAX,
            text: String::new(),
            by_path: false,
            most: 1000,
            standard: false,
            methods: false,
            events,
        }
    }

    #[test]
    fn a_file_offers_what_its_server_would() {
        let (events, mut told) = mpsc::channel(1000);
        let wanted = BrowseWanted { methods: true, ..wanted(events) };
        tell(include_str!("../../../opcua/tests/vectors/engine.xml"), wanted).unwrap();
        let (mut offers, mut is_done) = (Vec::new(), false);
        while let Ok(event) = told.try_recv() {
            match event {
                OfferEvent::Points { offers: some } => offers.extend(some),
                OfferEvent::Done { .. } => is_done = true,
                OfferEvent::Failed { why } => panic!("{why}"),
                _ => {}
            }
        }
        assert!(is_done);
        let speed = offers.iter().find(|offer| offer.path.join("/") == "Engine/Speed").unwrap();
        let said = |key: &str| speed.point.get(key).cloned().unwrap_or_default();
        assert_eq!(said("address"), "nsu=urn:alderfen:chp;s=Engine.Speed");
        assert_eq!((said("low"), said("high")), (0.0.into(), 1800.0.into()));
        assert_eq!((said("title"), speed.value.clone()), ("Speed of the engine".into(), 1500.5.into()));
    }

    #[test]
    fn one_level_shows_what_is_there_and_where_there_is_more() {
        let told_of = |below: Option<&str>, levels| {
            let (events, mut told) = mpsc::channel(1000);
            let below = below.map(|below| below.parse().unwrap());
            let wanted = BrowseWanted { below, levels, by_path: true, ..wanted(events) };
            tell(include_str!("../../../opcua/tests/vectors/engine.xml"), wanted).unwrap();
            let mut said = Vec::new();
            while let Ok(event) = told.try_recv() {
                match event {
                    OfferEvent::Points { offers } => {
                        said.extend(offers.iter().map(|offer| offer.point["address"].to_string()));
                    }
                    OfferEvent::Note { text } => said.push(text),
                    OfferEvent::Failed { why } => said.push(why),
                    _ => {}
                }
            }
            said
        };
        assert_eq!(told_of(None, 1), ["Engine: more below /nsu=urn&:alderfen&:chp;Engine"]);
        let speed = "\"/nsu=urn&:alderfen&:chp;Engine/nsu=urn&:alderfen&:chp;Speed\"";
        assert_eq!(told_of(Some("/nsu=urn&:alderfen&:chp;Engine"), 1), [speed]);
        assert_eq!(told_of(Some("/2:None"), 1), ["the path leads nowhere: BadNoMatch"]);
    }

    #[test]
    fn what_is_no_file_of_nodes_is_said() {
        let wanted = || wanted(mpsc::channel(1).0);
        assert_eq!(tell("<a/>", wanted()), Err("the file: it is no node set: its root is a, and not UANodeSet".into()));
        assert!(tell("", wanted()).unwrap_err().starts_with("the file: it is no XML"));
    }
}

//! A second opinion: what another program makes of our octets.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use etherparse::PacketBuilder;
use interlex_dnp3::{Frame, LinkAddress, LinkFunction, Request, Response, Sender, Splitter};
use pcap_file::DataLink;
use pcap_file::pcap::{PcapHeader, PcapPacket, PcapWriter};
use std::process::Command;
use std::time::Duration;

/// The port that is registered for DNP3.
const PORT: u16 = 20_000;

/// A fragment on its way, as a TCP segment.
fn recording(fragments: &[(Sender, Vec<u8>)]) -> Vec<u8> {
    let header = PcapHeader { datalink: DataLink::RAW, ..PcapHeader::default() };
    let mut writer = PcapWriter::with_header(Vec::new(), header).unwrap();
    for (place, (sender, fragment)) in (1_u16..).zip(fragments) {
        let is_master = *sender == Sender::Master;
        let (destination, source) = if is_master { (10, 1) } else { (1, 10) };
        let mut octets = Vec::new();
        for user_data in Splitter::default().split(fragment) {
            let frame = Frame {
                sender: *sender,
                function: LinkFunction::UnconfirmedUserData,
                destination: LinkAddress(destination),
                source: LinkAddress(source),
                user_data,
            };
            frame.encode(&mut octets);
        }
        // A connection each: nothing is put together across them.
        let (ends, ports) = if is_master { ([1, 2], (30_000 + place, PORT)) } else { ([2, 1], (PORT, 30_000 + place)) };
        let builder = PacketBuilder::ipv4([192, 0, 2, ends[0]], [192, 0, 2, ends[1]], 64)
            .tcp(ports.0, ports.1, 1, 65_535)
            .ack(1)
            .psh();
        let mut packet = Vec::new();
        builder.write(&mut packet, &octets).unwrap();
        let length = u32::try_from(packet.len()).unwrap();
        writer.write_packet(&PcapPacket::new(Duration::from_millis(place.into()), length, &packet)).unwrap();
    }
    writer.into_writer()
}

#[test]
fn a_dissector_reads_every_fragment_that_we_write() {
    let vectors = include_str!("vectors/dnp3.jsonl").lines();
    let vectors = vectors.map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let (mut fragments, mut told) = (Vec::new(), Vec::new());
    for vector in vectors.filter(|vector| vector["framing"] == "app" && vector["expect"].is_null()) {
        let octets = hex::decode(vector["hex"].as_str().unwrap()).unwrap();
        let (sender, octets) = if vector["direction"] == "request" {
            (Sender::Master, Request::decode(&octets).unwrap().encode().unwrap())
        } else {
            (Sender::Outstation, Response::decode(&octets).unwrap().encode().unwrap())
        };
        fragments.push((sender, octets));
        let objects = vector["meaning"]["objects"].as_array().unwrap().iter();
        let number = |object: &serde_json::Value, key: &str| object[key].as_u64().unwrap();
        // It knows strings of octets by their group alone.
        let variation = |group, variation| if group == 110 || group == 111 { 0 } else { variation };
        let of_object = |object| {
            let (group, told) = (number(object, "group"), number(object, "variation"));
            (group << 8 | variation(group, told)).to_string()
        };
        let objects: Vec<_> = objects.map(of_object).collect();
        // It does not look into assignments of classes, and knows no g4v3 and no g51v2.
        let is_beyond_it = ["assign-class", "g4v3-events", "after-unsynchronised-cto"];
        if is_beyond_it.iter().any(|name| vector["name"].as_str().unwrap().contains(name)) {
            fragments.pop();
            continue;
        }
        let function = vector["meaning"]["function_code"].as_u64().unwrap();
        told.push((vector["name"].as_str().unwrap().to_owned(), function.to_string(), objects.join(",")));
    }
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("dnp3.pcap");
    std::fs::write(&path, recording(&fragments)).unwrap();
    let fields = ["dnp3.al.func", "dnp3.al.obj", "_ws.malformed", "dnp.hdr.CRC.status", "dnp.data_chunk.CRC.status"];
    let fields = fields.iter().flat_map(|field| ["-e", field]);
    let out = Command::new("tshark").arg("-r").arg(&path).args(["-T", "fields"]).args(fields).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let lines = String::from_utf8(out.stdout).unwrap();
    let rows: Vec<Vec<_>> = lines.lines().map(|line| line.split('\t').collect()).collect();
    assert_eq!(rows.len(), told.len());
    let mut wrong = Vec::new();
    for (row, (name, function, objects)) in rows.iter().zip(&told) {
        let read = |text: &str| u32::from_str_radix(text.trim_start_matches("0x"), 16).unwrap_or(0).to_string();
        let seen: Vec<_> = row[1].split(',').filter(|text| !text.is_empty()).map(read).collect();
        if row[0] != *function || seen.join(",") != *objects || !row[2].is_empty() {
            wrong.push(format!("{name}: {row:?}, and {function} {objects}"));
        }
    }
    let checks = rows.iter().flat_map(|row| row[3..].iter()).flat_map(|checks| checks.split(','));
    assert!(checks.clone().count() > 1000 && checks.clone().all(|check| check == "1"), "{}", checks.count());
    assert!(wrong.is_empty(), "{}\n{}", wrong.len(), wrong.join("\n"));
}

//! A second opinion: what another program makes of our bytes.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

use etherparse::PacketBuilder;
use interlex_opcua::{
    Array, Binary, ChunkType, DataValue, Guid, Limits, MessageType, ReadResponse, Request, Response, Scalar,
    SequenceHeader, Variant, encode_frame,
};
use pcap_file::DataLink;
use pcap_file::pcap::{PcapHeader, PcapPacket, PcapWriter};
use std::process::Command;
use std::time::Duration;

const PORT: u16 = 4840;

/// Each frame as a TCP segment: those of the client, and those of the server.
fn recording(frames: &[(bool, Vec<u8>)]) -> Vec<u8> {
    let header = PcapHeader { datalink: DataLink::RAW, ..PcapHeader::default() };
    let mut writer = PcapWriter::with_header(Vec::new(), header).unwrap();
    let mut sequence = [1_u32, 1];
    for (place, (is_request, bytes)) in (1_u32..).zip(frames) {
        let own = usize::from(!is_request);
        let ([from, to], ports) = if *is_request { ([1, 2], (50_000, PORT)) } else { ([2, 1], (PORT, 50_000)) };
        let builder = PacketBuilder::ipv4([192, 0, 2, from], [192, 0, 2, to], 64)
            .tcp(ports.0, ports.1, sequence[own], 65_535)
            .ack(sequence[1 - own])
            .psh();
        let mut packet = Vec::new();
        builder.write(&mut packet, bytes).unwrap();
        sequence[own] += u32::try_from(bytes.len()).unwrap();
        let length = u32::try_from(packet.len()).unwrap();
        writer.write_packet(&PcapPacket::new(Duration::from_millis(place.into()), length, &packet)).unwrap();
    }
    writer.into_writer()
}

/// What the dissector says: of each frame the type of its service, and whatever it cannot read.
fn dissected(frames: &[(bool, Vec<u8>)]) -> Vec<(String, String)> {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("opcua.pcap");
    std::fs::write(&path, recording(frames)).unwrap();
    let fields =
        ["-T", "fields", "-e", "opcua.servicenodeid.numeric", "-e", "_ws.malformed", "-e", "_ws.expert.message"];
    let out = Command::new("tshark").arg("-r").arg(&path).args(fields).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let lines = String::from_utf8(out.stdout).unwrap();
    let row = |line: &str| {
        let (number, wrong) = line.split_once('\t').unwrap();
        (number.to_owned(), wrong.trim().to_owned())
    };
    lines.lines().map(row).collect()
}

fn message(number: u32, body: &[u8]) -> Vec<u8> {
    let sequence = SequenceHeader { sequence_number: number, request_id: number };
    let body = [&5_u32.to_bytes(), &13_u32.to_bytes(), &sequence.to_bytes(), body].concat();
    let mut frame = Vec::new();
    encode_frame(MessageType::Message, ChunkType::Final, &body, &mut frame);
    frame
}

#[test]
fn a_dissector_reads_every_service_that_we_write() {
    let vectors = include_str!("vectors/opcua.jsonl").lines();
    let vectors = vectors.map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let (mut frames, mut told) = (Vec::new(), Vec::new());
    for (number, vector) in
        (1..).zip(vectors.filter(|vector| vector["layer"] == "message" && vector["expect"].is_null()))
    {
        let bytes = hex::decode(vector["hex"].as_str().unwrap()).unwrap();
        // A message in one frame over an open channel.
        if &bytes[..4] != b"MSGF" {
            continue;
        }
        let is_request = vector["direction"] == "request";
        let body = if is_request {
            Request::from_bytes(&bytes[24..], Limits::default()).unwrap().to_bytes()
        } else {
            Response::from_bytes(&bytes[24..], Limits::default()).unwrap().to_bytes()
        };
        frames.push((is_request, message(number, &body)));
        told.push(vector["meaning"]["TypeId"].as_str().unwrap().replace("i=", ""));
    }
    let dissected = dissected(&frames);
    assert_eq!(dissected.len(), told.len());
    for ((number, wrong), told) in dissected.iter().zip(&told) {
        assert_eq!((number, wrong.as_str()), (told, ""), "{told}");
    }
    assert!(told.len() > 40, "{}", told.len());
}

#[test]
fn a_dissector_reads_every_type_of_value_that_we_write() {
    let vectors = include_str!("vectors/opcua.jsonl").lines();
    let vectors = vectors.map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
    let variants = vectors.filter(|vector| vector["meaning"]["Type"] == "Variant" && vector["expect"].is_null());
    let variants =
        variants.map(|vector| Variant::from_bytes(&hex::decode(vector["hex"].as_str().unwrap()).unwrap()).unwrap());
    let mut variants: Vec<_> = variants.collect();
    variants.push(Variant::Array(Array::Guid(vec![Guid([7; 16]); 2])));
    variants.push(Variant::Matrix(Array::Boolean(vec![true, false]), vec![2, 1]));
    variants.push(Variant::Scalar(Scalar::Int64(i64::MIN)));
    let told = |value: Variant| DataValue { value: Some(value), ..DataValue::default() };
    let results = variants.into_iter().map(told).collect();
    let answer = ReadResponse { results, ..ReadResponse::default() };
    assert!(answer.results.len() > 40, "{}", answer.results.len());
    let dissected = dissected(&[(false, message(1, &Response::from(answer).to_bytes()))]);
    assert_eq!(dissected, [("634".to_owned(), String::new())]);
}

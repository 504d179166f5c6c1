//! Something that listens where the broker should, and is none or a bad one.

use crate::rig::{Host, Rig, UP, database, level};
use interlex_core::UplinkState;
use std::net::SocketAddr;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// Makes an answer of what came.
type Answer = fn(&[u8]) -> Vec<u8>;

/// What it answers to the packets that come, one after the other; then it says nothing more, or hangs up.
struct Script {
    answers: Vec<Answer>,
    hangs_up: bool,
}

fn accepted(_: &[u8]) -> Vec<u8> {
    vec![0x20, 2, 0, 0]
}

/// MQTT 3.1.1, 3.9.3: every subscription has failed.
fn unsubscribed(subscribe: &[u8]) -> Vec<u8> {
    let filters = subscribe.iter().filter(|byte| **byte == b'C').count();
    let mut packet = vec![0x90, u8::try_from(2 + filters).unwrap(), subscribe[0], subscribe[1]];
    packet.extend(std::iter::repeat_n(0x80, filters));
    packet
}

/// Reads one packet, and gives what follows its fixed header (2.2).
async fn packet(stream: &mut TcpStream) -> std::io::Result<Vec<u8>> {
    stream.read_u8().await?;
    let mut length = 0;
    for place in 0..4 {
        let byte = stream.read_u8().await?;
        length |= usize::from(byte & 0x7F) << (7 * place);
        if byte & 0x80 == 0 {
            break;
        }
    }
    let mut body = vec![0; length];
    stream.read_exact(&mut body).await?;
    Ok(body)
}

async fn listen(at: SocketAddr, script: Script) -> std::io::Result<()> {
    let listener = TcpListener::bind(at).await?;
    loop {
        let (mut stream, _) = listener.accept().await?;
        for answer in &script.answers {
            let Ok(packet) = packet(&mut stream).await else { break };
            // It may have hung up.
            _ = stream.write_all(&answer(&packet)).await;
        }
        if !script.hangs_up {
            _ = stream.read_to_end(&mut Vec::new()).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_broker_is_told_as_what_it_does_and_costs_nothing() {
    let (_directory, mut database, store) = database().await;
    let mut rig = Rig::new("level,holding:0,uint16", Some(store.clone())).await;
    rig.broker.stop().await;
    let address = rig.broker.address();
    let mut value = 0;
    let cases: [(Vec<Answer>, bool, &str); 8] = [
        (vec![], true, "the broker ended the connection"),
        (vec![|_| vec![0x20, 2, 0, 5]], false, "the broker does not let this client in"),
        (vec![|_| b"HTTP/1.1 400 Bad Request\r\n\r\n".to_vec()], true, "is no MQTT, or breaks off"),
        (vec![|_| vec![0x20, 2, 0]], true, "is no MQTT, or breaks off"),
        (vec![accepted], true, "the broker ended the connection"),
        (vec![accepted, unsubscribed], false, "the broker does not let this client subscribe"),
        // A message of 256 MB that begins.
        (vec![accepted, |_| vec![0x30, 0xFF, 0xFF, 0xFF, 0x7F, 0, 1, b'a']], false, "larger than is taken here"),
        (vec![accepted, |_| vec![0x30, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF]], false, "is no MQTT, or breaks off"),
    ];
    for (answers, hangs_up, said) in cases {
        let listening = tokio::spawn(listen(address, Script { answers, hangs_up }));
        let run = rig.run().await;
        value += 1;
        run.tell([level(&rig, value)]).await;
        run.until(said, |status| status.last_error.as_deref().is_some_and(|told| told.contains(said))).await;
        listening.abort();
        assert!(listening.await.unwrap_err().is_cancelled(), "nothing stopped it");
        run.end().await;
    }
    // What was told meanwhile waits for a real one.
    rig.broker.restart().await.unwrap();
    let host = Host::start(rig.broker.address()).await;
    let run = rig.run().await;
    run.until("all wait", |status| status.state == UplinkState::Online && status.buffer.waiting == value).await;
    run.events.send(UP).await.unwrap();
    let told = host.until(&format!("level=Uint({value}) @{value} historical")).await;
    let told: Vec<_> = told[1..].iter().filter_map(|line| line.strip_prefix("DDATA tank ")).collect();
    let wanted: Vec<_> = (1..=value).map(|value| format!("level=Uint({value}) @{value} historical")).collect();
    assert_eq!(told.join(" "), wanted.join(" "), "in their order, in one message or several");
    run.end().await;
    rig.broker.stop().await;
    store.close().await;
    database.stop().await;
}

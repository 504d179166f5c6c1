use crate::report::{header, now, rate, row};
use anyhow::Context;
use interlex_modbus::{ClientConfig, Connection, ReadRequest, Table};
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

const REQUEST: usize = 12;
const RESPONSE: usize = 9 + 250;
const REQUESTS: u32 = 40_000;
const ROUNDS: u32 = 5;

/// A server that does nothing but answer with the right number of bytes, so that both sides wait for the same.
async fn answer(listener: TcpListener) {
    while let Ok((stream, _)) = listener.accept().await {
        // A client that is done breaks off.
        tokio::spawn(async move { drop(answer_one(stream).await) });
    }
}

async fn answer_one(mut stream: TcpStream) -> std::io::Result<()> {
    stream.set_nodelay(true)?;
    let (mut request, mut response) = ([0; REQUEST], [0; RESPONSE]);
    loop {
        stream.read_exact(&mut request).await?;
        let [transaction_high, transaction_low, _, _, _, _, unit, function, ..] = request;
        let head = [transaction_high, transaction_low, 0, 0, 0, 253, unit, function, 250];
        for (byte, value) in response.iter_mut().zip(head) {
            *byte = value;
        }
        stream.write_all(&response).await?;
    }
}

async fn ours(port: u16, depth: u8) -> anyhow::Result<f64> {
    let mut config = ClientConfig::default();
    config.in_flight = depth.into();
    let mut client = Connection::tcp("127.0.0.1", port, Duration::from_secs(5), config).await?;
    let request = ReadRequest::new(Table::HoldingRegister, 0, 125)?;
    let start = now();
    for _ in 0..depth {
        client.submit(1, request)?;
    }
    for _ in 0..REQUESTS {
        client.next().await?.outcome?;
        client.submit(1, request)?;
    }
    Ok(rate(REQUESTS, start.elapsed()))
}

async fn raw(port: u16, depth: u8) -> anyhow::Result<f64> {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await?;
    stream.set_nodelay(true)?;
    let (request, mut response) = ([0; REQUEST], [0; RESPONSE]);
    let start = now();
    for _ in 0..depth {
        stream.write_all(&request).await?;
    }
    for _ in 0..REQUESTS {
        stream.read_exact(&mut response).await?;
        stream.write_all(&request).await?;
    }
    Ok(rate(REQUESTS, start.elapsed()))
}

pub(crate) async fn run() -> anyhow::Result<()> {
    let listener = TcpListener::bind("127.0.0.1:0").await.context("listening")?;
    let port = listener.local_addr()?.port();
    tokio::spawn(answer(listener));
    header("modbus-poll: one connection, 125 registers a request");
    for depth in [1, 8] {
        let (mut best_ours, mut best_raw) = (0.0_f64, 0.0_f64);
        for _ in 0..ROUNDS {
            best_ours = best_ours.max(ours(port, depth).await?);
            best_raw = best_raw.max(raw(port, depth).await?);
        }
        let what = format!("requests/s, {depth} outstanding");
        row(&what, &format!("{best_ours:.0}"), &format!("{best_raw:.0}"), Some(best_ours / best_raw));
    }
    Ok(())
}

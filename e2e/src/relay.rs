use interlex_sidecar::own_address;
use std::io::Write;
use std::net::SocketAddr;
use std::path::Path;
use std::sync::{Arc, Mutex};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::process::Command;

/// Carries the first connection on to where it was meant to go, and writes down what passes.
pub struct Relay {
    address: SocketAddr,
    passed: Passed,
}

/// What passed, in order.
type Passed = Arc<Mutex<Vec<(Way, Vec<u8>)>>>;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    To,
    From,
}

impl Relay {
    pub async fn start(target: SocketAddr) -> Self {
        let listener = TcpListener::bind((own_address(), 0)).await.unwrap();
        let address = listener.local_addr().unwrap();
        let passed = Arc::new(Mutex::new(Vec::new()));
        let notes = Arc::clone(&passed);
        tokio::spawn(async move {
            let (client, _) = listener.accept().await.unwrap();
            let server = TcpStream::connect(target).await.unwrap();
            let ((from_client, to_client), (from_server, to_server)) = (client.into_split(), server.into_split());
            tokio::spawn(carry(from_client, to_server, Way::To, Arc::clone(&notes)));
            carry(from_server, to_client, Way::From, notes).await;
        });
        Self { address, passed }
    }

    pub fn address(&self) -> SocketAddr {
        self.address
    }

    pub fn pieces(&self) -> usize {
        self.passed.lock().unwrap().len()
    }

    /// Has tshark decode what passed as traffic of the protocol's own port; gives the chosen fields, a line a packet.
    pub async fn tshark(&self, directory: &Path, port: u16, filter: &str, fields: &[&str]) -> Vec<String> {
        let (dump, capture) = (directory.join(format!("{port}.txt")), directory.join(format!("{port}.pcap")));
        let mut file = std::fs::File::create(&dump).unwrap();
        for (way, bytes) in self.passed.lock().unwrap().iter() {
            let hex: String = bytes.iter().map(|byte| format!(" {byte:02x}")).collect();
            writeln!(file, "{}\n000000{hex}\n", if *way == Way::To { "I" } else { "O" }).unwrap();
        }
        let ports = format!("40000,{port}");
        let (dump, capture) = (dump.display().to_string(), capture.display().to_string());
        tool("text2pcap", &["-q", "-D", "-T", &ports, &dump, &capture]).await;
        // Port 4001 is that of serial device servers: RTU frames over TCP.
        let mut arguments = vec!["-r", &capture, "-d", "tcp.port==4001,mbrtu", "-Y", filter, "-T", "fields"];
        arguments.extend(["-E", "separator=/s"]);
        arguments.extend(fields.iter().flat_map(|field| ["-e", field]));
        tool("tshark", &arguments).await.lines().map(str::to_owned).collect()
    }
}

async fn tool(name: &str, arguments: &[&str]) -> String {
    let done = Command::new(name).args(arguments).output().await.unwrap();
    assert!(done.status.success(), "{name}: {}", String::from_utf8_lossy(&done.stderr));
    String::from_utf8(done.stdout).unwrap()
}

async fn carry(mut from: OwnedReadHalf, mut to: OwnedWriteHalf, way: Way, notes: Passed) {
    let mut bytes = vec![0; 1 << 16];
    while let Ok(length) = from.read(&mut bytes).await {
        if length == 0 || to.write_all(&bytes[..length]).await.is_err() {
            return;
        }
        notes.lock().unwrap().push((way, bytes[..length].to_vec()));
    }
}

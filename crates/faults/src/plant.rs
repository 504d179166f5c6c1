use interlex_modbus::{ReadData, Refusal, Request, Response, Units, serve};
use interlex_sidecar::own_address;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use tokio::net::TcpListener;
use tokio_util::sync::{CancellationToken, DropGuard};

/// Modbus TCP units whose registers say how often they were read: every poll brings a new value, none may be missing.
///
/// Two registers each, from 0 on, are a `uint32`, the same in all of them.
#[derive(Debug)]
pub struct CountingPlant {
    address: SocketAddr,
    reads: Arc<Reads>,
    _stop: DropGuard,
}

#[derive(Debug)]
struct Reads([AtomicU32; 256]);

impl Units for Reads {
    fn answer(&self, unit: u8, request: &Request) -> Result<Response, Refusal> {
        let Request::Read(read) = request else { return Err(Refusal::Silence) };
        let Some(count) = self.0.get(usize::from(unit)) else { return Err(Refusal::Silence) };
        let count = count.fetch_add(1, Ordering::SeqCst);
        let [a, b, c, d] = count.to_be_bytes();
        let words = [u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d])];
        let registers = words.into_iter().cycle().take(usize::from(read.quantity())).collect();
        Ok(Response::Data(ReadData::Registers(registers)))
    }
}

impl CountingPlant {
    /// Starts it on a free port of loopback.
    ///
    /// # Errors
    /// When there is none.
    pub async fn start() -> std::io::Result<Self> {
        let listener = TcpListener::bind((own_address(), 0)).await?;
        let address = listener.local_addr()?;
        let (stop, reads) = (CancellationToken::new(), Arc::new(Reads([const { AtomicU32::new(0) }; 256])));
        tokio::spawn(serve(listener, Arc::clone(&reads) as Arc<dyn Units>, stop.clone()));
        Ok(Self { address, reads, _stop: stop.drop_guard() })
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// How often a unit was read: the values `0..reads` were handed out.
    #[must_use]
    pub fn reads(&self, unit: u8) -> u32 {
        self.reads.0.get(usize::from(unit)).map_or(0, |count| count.load(Ordering::SeqCst))
    }
}

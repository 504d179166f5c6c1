//! A line to devices that can be cut, or on which somebody talks without end.

use std::net::SocketAddr;
use std::sync::Mutex;
use std::time::Duration;
use tokio::io::{AsyncWriteExt, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::{CancellationToken, DropGuard};

pub(crate) struct Line {
    pub(crate) address: SocketAddr,
    /// Where the devices are.
    behind: SocketAddr,
    /// What is said without end.
    talk: &'static [u8],
    open: Mutex<Option<DropGuard>>,
}

impl Line {
    pub(crate) fn new(behind: SocketAddr, talk: &'static [u8]) -> Self {
        Self { address: interlex_sidecar::own_socket().unwrap(), behind, talk, open: Mutex::default() }
    }

    pub(crate) fn cut(&self) {
        *self.open.lock().unwrap() = None;
    }

    /// Leads to the devices; or to somebody who talks without end.
    pub(crate) async fn connect(&self, is_flooding: bool) {
        self.cut();
        let stop = CancellationToken::new();
        let listener = loop {
            // The one before is closed a moment after it was told to.
            match TcpListener::bind(self.address).await {
                Ok(listener) => break listener,
                Err(_) => tokio::time::sleep(Duration::from_millis(5)).await,
            }
        };
        *self.open.lock().unwrap() = Some(stop.clone().drop_guard());
        let (behind, talk) = (self.behind, self.talk);
        tokio::spawn(stop.clone().run_until_cancelled_owned(async move {
            while let Ok((mut client, _)) = listener.accept().await {
                let talk = async move {
                    if is_flooding {
                        // Until the client hangs up.
                        while client.write_all(&talk.repeat(1000)).await.is_ok() {}
                        return;
                    }
                    let Ok(mut server) = TcpStream::connect(behind).await else { return };
                    // Either side may hang up.
                    let _ = copy_bidirectional(&mut client, &mut server).await;
                };
                tokio::spawn(stop.clone().run_until_cancelled_owned(talk));
            }
        }));
    }
}

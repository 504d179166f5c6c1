use crate::port::becomes_free;
use crate::{Process, SidecarError, find, io_error, not_up};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::net::TcpStream;
use tokio::time::{Instant, sleep};

/// A private Mosquitto on an address of loopback, open to everyone on this machine and to nobody else.
#[derive(Debug)]
pub struct Broker {
    directory: PathBuf,
    address: SocketAddr,
    settings: String,
    process: Process,
}

const UP_WITHIN: Duration = Duration::from_secs(20);

impl Broker {
    /// Starts it with its configuration and log in `directory`.
    ///
    /// # Errors
    /// [`SidecarError`], which says what to do.
    pub async fn start(directory: &Path, address: SocketAddr) -> Result<Self, SidecarError> {
        Self::start_with(directory, address, "").await
    }

    /// The same with more lines in its configuration, such as those for TLS.
    ///
    /// # Errors
    /// As [`Broker::start`].
    pub async fn start_with(directory: &Path, address: SocketAddr, settings: &str) -> Result<Self, SidecarError> {
        let program = find("mosquitto", "mosquitto")?;
        if !becomes_free(address).await {
            return Err(SidecarError::Taken { address, what: "broker" });
        }
        std::fs::create_dir_all(directory).map_err(io_error(format!("making {}", directory.display())))?;
        let configuration = directory.join("mosquitto.conf");
        // Unlimited queues for subscribers: the tests count messages. TCP_NODELAY keeps acknowledgements prompt.
        // A change of user would make the kernel forget to end it together with its parent.
        let (user, ip, port) = (crate::user(), address.ip(), address.port());
        let text = format!(
            "user {user}\nlistener {port} {ip}\nallow_anonymous true\npersistence false\nset_tcp_nodelay true\n\
             max_queued_messages 0\nmax_inflight_messages 0\nlog_dest stderr\n{settings}"
        );
        std::fs::write(&configuration, text).map_err(io_error(format!("writing {}", configuration.display())))?;
        let log = directory.join("mosquitto.log");
        let arguments = ["-c".to_owned(), configuration.display().to_string()];
        let process = Process::start(&program, &arguments, &log).await?;
        let broker = Self { directory: directory.to_owned(), address, settings: settings.to_owned(), process };
        let deadline = Instant::now() + UP_WITHIN;
        while TcpStream::connect(address).await.is_err() {
            if !broker.process.is_running() || Instant::now() > deadline {
                return Err(not_up("mosquitto", log));
            }
            sleep(Duration::from_millis(20)).await;
        }
        Ok(broker)
    }

    /// Where it listens.
    #[must_use]
    pub const fn address(&self) -> SocketAddr {
        self.address
    }

    /// Stops it.
    pub async fn stop(&mut self) {
        self.process.stop(Duration::from_secs(5)).await;
    }

    /// Kills it without asking, as a power cut does.
    pub async fn kill(&mut self) {
        self.process.kill().await;
    }

    /// Stops it from doing anything, or lets it go on.
    pub fn freeze(&self, is_frozen: bool) {
        self.process.freeze(is_frozen);
    }

    /// Starts it again after [`Broker::stop`] or [`Broker::kill`], at the same address.
    ///
    /// # Errors
    /// As [`Broker::start`].
    pub async fn restart(&mut self) -> Result<(), SidecarError> {
        *self = Self::start_with(&self.directory.clone(), self.address, &self.settings.clone()).await?;
        Ok(())
    }
}

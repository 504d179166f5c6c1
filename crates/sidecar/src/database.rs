use crate::port::becomes_free;
use crate::{Process, SidecarError, find, io_error, not_up, user};
use std::fs::{self, File};
use std::net::SocketAddr;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tokio::io::AsyncReadExt;
use tokio::net::TcpStream;
use tokio::time::{Instant, sleep, timeout};

/// A private MariaDB on an address of loopback with a password of its own, made at the first start and kept in its directory.
#[derive(Debug)]
pub struct Database {
    directory: PathBuf,
    address: SocketAddr,
    password: String,
    process: Process,
}

/// Recovery after a power cut may replay a log of 8 MB on a slow disk, beside a build that keeps the disk busy.
const UP_WITHIN: Duration = Duration::from_secs(120);

impl Database {
    /// Starts it with its data in `directory`, which is made when it is not there.
    ///
    /// # Errors
    /// [`SidecarError`], which says what to do.
    pub async fn start(directory: &Path, address: SocketAddr) -> Result<Self, SidecarError> {
        let program = find("mariadbd", "mariadb-server")?;
        if !becomes_free(address).await {
            return Err(SidecarError::Taken { address, what: "database" });
        }
        fs::create_dir_all(directory).map_err(io_error(format!("making {}", directory.display())))?;
        let directory = fs::canonicalize(directory).map_err(io_error(format!("finding {}", directory.display())))?;
        let password = password(&directory.join("password"))?;
        let data = directory.join("data");
        let arguments = arguments(&directory, &data, address, &password)?;
        let log = directory.join("mariadb.log");
        let mut attempts = if data.is_dir() { 1 } else { INSTALL_ATTEMPTS };
        loop {
            if !data.is_dir() {
                install(&directory, &data).await?;
            }
            let process = Process::start(&program, &arguments, &log).await?;
            let (directory, password) = (directory.clone(), password.clone());
            let mut database = Self { directory, address, password, process };
            attempts -= 1;
            match database.comes_up(&log).await {
                // A new installation in which nobody gets an account lacks tables; nothing is lost with it.
                Err(_) if attempts > 0 => {
                    database.stop().await;
                    fs::remove_dir_all(&data).map_err(io_error("removing an installation that lacks tables"))?;
                }
                outcome => return outcome.map(|()| database),
            }
        }
    }

    async fn comes_up(&self, log: &Path) -> Result<(), SidecarError> {
        let deadline = Instant::now() + UP_WITHIN;
        loop {
            match self.greeting().await {
                Some(Ok(())) => return Ok(()),
                Some(Err(refusal)) => return Err(not_up("mariadbd", log.to_owned()).with(&refusal)),
                None if !self.process.is_running() || Instant::now() > deadline => {
                    return Err(not_up("mariadbd", log.to_owned()));
                }
                None => sleep(Duration::from_millis(20)).await,
            }
        }
    }

    /// The URL of one of its databases, password included.
    #[must_use]
    pub fn url(&self, database: &str) -> String {
        format!("mysql://interlex:{}@{}/{database}", self.password, self.address)
    }

    /// Stops it in order.
    pub async fn stop(&mut self) {
        self.process.stop(Duration::from_secs(20)).await;
    }

    /// Kills it, as a power cut does.
    pub async fn kill(&mut self) {
        self.process.kill().await;
    }

    /// Holds it, as a machine does that swaps, or lets it go on.
    pub fn freeze(&self, is_frozen: bool) {
        self.process.freeze(is_frozen);
    }

    /// Starts it again after [`Database::stop`] or [`Database::kill`], at the same address.
    ///
    /// # Errors
    /// As [`Database::start`].
    pub async fn restart(&mut self) -> Result<(), SidecarError> {
        *self = Self::start(&self.directory.clone(), self.address).await?;
        Ok(())
    }

    /// What it says first on a connection: a greeting, or why it takes none. `None` while it says nothing.
    ///
    /// Source: MySQL client/server protocol, Protocol::Handshake (its version is 10) and ERR_Packet (it starts with 0xFF).
    async fn greeting(&self) -> Option<Result<(), String>> {
        let mut stream = TcpStream::connect(self.address).await.ok()?;
        let mut said = vec![0; 256];
        let read = timeout(Duration::from_secs(1), stream.read(&mut said)).await.ok()?.ok()?;
        match said.get(4)? {
            _ if read < 5 => None,
            10 => Some(Ok(())),
            _ => Some(Err(String::from_utf8_lossy(said.get(7..read).unwrap_or_default()).into_owned())),
        }
    }
}

/// How often an installation is tried: under load, Debian's script stops half way now and then.
const INSTALL_ATTEMPTS: u32 = 3;

async fn install(directory: &Path, data: &Path) -> Result<(), SidecarError> {
    let program = find("mariadb-install-db", "mariadb-server")?;
    let log = directory.join("install.log");
    // Half an installation must not be taken for a whole one: it gets its name when it is done.
    let unfinished = directory.join("data.unfinished");
    let arguments = [
        "--no-defaults".to_owned(),
        format!("--datadir={}", unfinished.display()),
        "--auth-root-authentication-method=normal".to_owned(),
        "--skip-test-db".to_owned(),
        format!("--user={}", user()),
    ];
    // Several at a time leave tables out, and say nothing of it.
    let _alone = alone().await?;
    for _ in 0..INSTALL_ATTEMPTS {
        if unfinished.exists() {
            fs::remove_dir_all(&unfinished).map_err(io_error("removing an unfinished installation"))?;
        }
        Process::start(&program, &arguments, &log).await?.ended().await;
        // One of the last tables that it makes.
        if unfinished.join("mysql").join("roles_mapping.MAD").is_file() {
            return fs::rename(&unfinished, data).map_err(io_error("naming the new installation"));
        }
    }
    Err(not_up("mariadb-install-db", log))
}

/// Waits until no other process of this machine installs a database. The lock ends with the file that is given back.
async fn alone() -> Result<File, SidecarError> {
    let path = std::env::temp_dir().join(format!("interlex-install-{}.lock", user()));
    let file = File::create(&path).map_err(io_error(format!("making {}", path.display())))?;
    let locking = tokio::task::spawn_blocking(move || file.lock().map(|()| file));
    let locked = locking.await.map_err(|error| io_error("waiting")(std::io::Error::other(error)))?;
    locked.map_err(io_error(format!("locking {}", path.display())))
}

fn arguments(directory: &Path, data: &Path, address: SocketAddr, password: &str) -> Result<Vec<String>, SidecarError> {
    let accounts = directory.join("accounts.sql");
    // Root is locked behind the same password; --skip-name-resolve makes the address the literal one. Whoever calls an
    // address of loopback calls from 127.0.0.1.
    let sql = format!(
        "CREATE DATABASE IF NOT EXISTS interlex;\n\
         CREATE OR REPLACE USER 'interlex'@'127.0.0.1' IDENTIFIED BY '{password}';\n\
         GRANT ALL PRIVILEGES ON *.* TO 'interlex'@'127.0.0.1';\n\
         ALTER USER 'root'@'localhost' IDENTIFIED BY '{password}';\n"
    );
    write_private(&accounts, &sql)?;
    // A socket path has to be under 107 bytes, which the data directory may not be.
    let socket = std::env::temp_dir().join(format!("interlex-{}-{}.sock", std::process::id(), address));
    Ok([
        "--no-defaults",
        &format!("--user={}", user()),
        &format!("--datadir={}", data.display()),
        &format!("--socket={}", socket.display()),
        &format!("--pid-file={}", directory.join("mariadb.pid").display()),
        &format!("--init-file={}", accounts.display()),
        &format!("--bind-address={}", address.ip()),
        &format!("--port={}", address.port()),
        "--skip-name-resolve",
        "--skip-log-bin",
        "--performance-schema=OFF",
        "--innodb-flush-log-at-trx-commit=1",
        "--innodb-buffer-pool-size=32M",
        "--innodb-log-file-size=8M",
        "--max-allowed-packet=64M",
        "--character-set-server=utf8mb4",
        "--collation-server=utf8mb4_bin",
    ]
    .map(str::to_owned)
    .to_vec())
}

/// Reads the password, or makes one.
fn password(path: &Path) -> Result<String, SidecarError> {
    if let Ok(password) = fs::read_to_string(path) {
        return Ok(password.trim().to_owned());
    }
    let mut bytes = [0; 16];
    getrandom::fill(&mut bytes).map_err(|error| io_error("making a password")(std::io::Error::other(error)))?;
    let password = hex::encode(bytes);
    write_private(path, &password)?;
    Ok(password)
}

fn write_private(path: &Path, text: &str) -> Result<(), SidecarError> {
    let doing = || format!("writing {}", path.display());
    fs::write(path, text).map_err(io_error(doing()))?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o600)).map_err(io_error(doing()))
}

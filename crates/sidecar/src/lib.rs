//! Private MariaDB and Mosquitto instances on loopback, for the demo and the tests.
//!
//! Each runs from a directory of its own, listens on one address, and ends with the process that started it, even
//! when that one is killed. Production names any MariaDB and any broker by URL and needs none of this.

mod broker;
mod database;
mod port;
mod process;

pub use broker::Broker;
pub use database::Database;
pub use port::{is_free, own_address, own_socket};
pub use process::Process;

use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;

/// Why a private server did not come up.
#[derive(Debug, thiserror::Error)]
pub enum SidecarError {
    /// The program is not installed.
    #[error("{program} is not installed; on Debian: apt-get install {package}")]
    Missing {
        /// The program that was looked for.
        program: &'static str,
        /// The Debian package that has it.
        package: &'static str,
    },
    /// Another program listens on the port.
    #[error("{address} for the {what} is taken")]
    Taken {
        /// Where it was to listen.
        address: SocketAddr,
        /// What it was for.
        what: &'static str,
    },
    /// The program ended or did not answer in time; its log says why.
    #[error("{program} did not come up; {log} ends with:\n{last}", log = log.display())]
    NotUp {
        /// The program.
        program: &'static str,
        /// Where it wrote to.
        log: PathBuf,
        /// The last lines it wrote.
        last: String,
    },
    /// A file or a process could not be handled.
    #[error("{doing}")]
    Io {
        /// What was being done.
        doing: String,
        /// What the system said.
        source: io::Error,
    },
}

fn io_error(doing: impl Into<String>) -> impl FnOnce(io::Error) -> SidecarError {
    let doing = doing.into();
    move |source| SidecarError::Io { doing, source }
}

fn not_up(program: &'static str, log: PathBuf) -> SidecarError {
    let text = std::fs::read_to_string(&log).unwrap_or_default();
    let errors: Vec<_> = text.lines().filter(|line| line.contains("ERROR")).collect();
    let lines = if errors.is_empty() { text.lines().collect() } else { errors };
    let last = lines.iter().skip(lines.len().saturating_sub(5)).copied().collect::<Vec<_>>().join("\n");
    SidecarError::NotUp { program, log, last }
}

impl SidecarError {
    /// What the program said beside its log.
    fn with(mut self, said: &str) -> Self {
        if let Self::NotUp { last, .. } = &mut self {
            *last = format!("{last}\n{said}");
        }
        self
    }
}

/// The name of the user that runs this program.
fn user() -> String {
    nix::unistd::User::from_uid(nix::unistd::Uid::effective())
        .ok()
        .flatten()
        .map_or_else(|| "root".to_owned(), |user| user.name)
}

/// Finds a program in PATH or where Debian keeps servers.
fn find(program: &'static str, package: &'static str) -> Result<PathBuf, SidecarError> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let directories = std::env::split_paths(&path).chain(["/usr/sbin".into(), "/usr/local/sbin".into()]);
    let mut candidates = directories.map(|directory| directory.join(program));
    candidates.find(|candidate| candidate.is_file()).ok_or(SidecarError::Missing { program, package })
}

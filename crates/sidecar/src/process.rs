use crate::{SidecarError, io_error};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::fs::OpenOptions;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use tokio::sync::{oneshot, watch};

/// A child process in a process group of its own, so that Ctrl-C at the terminal reaches only its parent, which then
/// stops it in the right order. The kernel ends it when the parent dies.
#[derive(Debug)]
pub struct Process {
    pid: Pid,
    is_running: watch::Receiver<bool>,
}

impl Process {
    /// Starts `program` with its output appended to `log`.
    ///
    /// # Errors
    /// When the log cannot be opened or the program not be started.
    pub async fn start(program: &Path, arguments: &[String], log: &Path) -> Result<Self, SidecarError> {
        let open = || OpenOptions::new().create(true).append(true).open(log);
        let output = open().map_err(io_error(format!("opening {}", log.display())))?;
        let errors = output.try_clone().map_err(io_error("duplicating a file"))?;
        // setpriv, of Debian's essential util-linux, asks the kernel to end the program when its parent thread ends.
        let mut command = Command::new("setpriv");
        command.arg("--pdeathsig").arg("TERM").arg("--").arg(program).args(arguments);
        command.stdin(Stdio::null()).stdout(output).stderr(errors).process_group(0);
        let (started_sender, started) = oneshot::channel();
        let (running_sender, is_running) = watch::channel(true);
        // "Parent" is the thread that started it: this one lives as long as the child.
        std::thread::spawn(move || {
            let mut child = match command.spawn() {
                Ok(child) => child,
                Err(error) => {
                    // The receiver waits below; if its task was dropped, nobody wants to know.
                    let _ = started_sender.send(Err(error));
                    return;
                }
            };
            // As above.
            let _ = started_sender.send(Ok(child.id()));
            // How it ended does not matter, only that it did.
            let _ = child.wait();
            running_sender.send_replace(false);
        });
        let doing = format!("starting {}", program.display());
        let outcome = started.await.unwrap_or_else(|_| Err(std::io::ErrorKind::Other.into()));
        let pid = outcome.map_err(io_error(doing))?;
        Ok(Self { pid: Pid::from_raw(i32::try_from(pid).unwrap_or(i32::MAX)), is_running })
    }

    /// Whether it has not ended.
    #[must_use]
    pub fn is_running(&self) -> bool {
        *self.is_running.borrow()
    }

    /// Its process id.
    #[must_use]
    pub fn pid(&self) -> i32 {
        self.pid.as_raw()
    }

    /// Asks it to end, waits for `grace`, then kills it.
    pub async fn stop(&mut self, grace: Duration) {
        self.signal(Signal::SIGTERM);
        if tokio::time::timeout(grace, self.ended()).await.is_err() {
            self.kill().await;
        }
    }

    /// Kills it without asking, as a power cut does.
    pub async fn kill(&mut self) {
        self.signal(Signal::SIGKILL);
        self.ended().await;
    }

    /// Stops it from doing anything, or lets it go on.
    pub fn freeze(&self, is_frozen: bool) {
        self.signal(if is_frozen { Signal::SIGSTOP } else { Signal::SIGCONT });
    }

    /// Waits until it has ended.
    pub async fn ended(&mut self) {
        // An error means that the watching thread is gone, and with it the child.
        let _ = self.is_running.wait_for(|is_running| !is_running).await;
    }

    fn signal(&self, signal: Signal) {
        if self.is_running() {
            // It may have ended by itself since; then there is nothing left to do.
            let _ = kill(self.pid, signal);
        }
    }
}

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::{Arc, Mutex};
use tokio::io::{AsyncBufReadExt, AsyncRead, BufReader};
use tokio::process::{Child, Command};

/// A running `interlex`, with everything it says.
pub struct Program {
    child: Child,
    said: Arc<Mutex<String>>,
}

/// What a finished `interlex` said.
#[derive(Debug)]
pub struct Output {
    pub code: i32,
    pub out: String,
    pub err: String,
}

/// The binary under test: the one named by the environment, or the one beside this program.
fn binary() -> PathBuf {
    if let Some(path) = std::env::var_os("INTERLEX_BIN") {
        return path.into();
    }
    let own = std::env::current_exe().unwrap();
    let beside = own.ancestors().skip(1).take(2).map(|directory| directory.join("interlex"));
    beside.into_iter().find(|path| path.is_file()).expect("build it first: cargo build --bin interlex")
}

fn command(arguments: &[&str], home: &Path) -> Command {
    let mut command = Command::new(binary());
    command.args(arguments).env("XDG_CONFIG_HOME", home).env_remove("INTERLEX_URL").env_remove("INTERLEX_TOKEN");
    command.kill_on_drop(true).stdin(Stdio::null());
    command
}

/// Runs `interlex` to its end.
pub async fn run(arguments: &[&str], home: &Path, input: &str) -> Output {
    let mut command = command(arguments, home);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut stdin = child.stdin.take().unwrap();
    // A command that reads no input closes it.
    let _ = tokio::io::AsyncWriteExt::write_all(&mut stdin, input.as_bytes()).await;
    drop(stdin);
    let done = child.wait_with_output().await.unwrap();
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    Output { code: done.status.code().unwrap_or(-1), out: text(&done.stdout), err: text(&done.stderr) }
}

impl Program {
    pub fn start(arguments: &[&str], home: &Path) -> Self {
        let mut command = command(arguments, home);
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        let said = Arc::new(Mutex::new(String::new()));
        listen(child.stdout.take().unwrap(), &said);
        listen(child.stderr.take().unwrap(), &said);
        Self { child, said }
    }

    pub fn said(&self) -> String {
        self.said.lock().unwrap().clone()
    }

    /// Waits until it has said something.
    pub async fn says(&self, what: &str) {
        let seen = crate::wait_for(what, || async { self.said().contains(what).then_some(()) });
        seen.await;
    }

    /// Sends Ctrl-C and waits for its end; gives the exit code.
    pub async fn interrupt(&mut self) -> i32 {
        self.signal(Signal::SIGINT);
        self.child.wait().await.unwrap().code().unwrap_or(-1)
    }

    pub async fn kill(&mut self) {
        self.child.kill().await.unwrap();
    }

    pub fn freeze(&self, is_frozen: bool) {
        self.signal(if is_frozen { Signal::SIGSTOP } else { Signal::SIGCONT });
    }

    pub fn pid(&self) -> u32 {
        self.child.id().expect("it runs")
    }

    fn signal(&self, signal: Signal) {
        let pid = i32::try_from(self.pid()).unwrap();
        kill(Pid::from_raw(pid), signal).unwrap();
    }
}

fn listen(stream: impl AsyncRead + Unpin + Send + 'static, said: &Arc<Mutex<String>>) {
    let said = Arc::clone(said);
    tokio::spawn(async move {
        let mut lines = BufReader::new(stream).lines();
        while let Ok(Some(line)) = lines.next_line().await {
            let mut said = said.lock().unwrap();
            said.push_str(&line);
            said.push('\n');
        }
    });
}

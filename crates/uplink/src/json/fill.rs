//! Templates are filled in by a process of their own: it may take so much time and memory, and is stopped when it takes more.

use interlex_core::{MessageContext, MessageTemplates, RenderedMessage};
use serde::{Deserialize, Serialize};
use std::ffi::OsString;
use std::io::{self, BufRead, Read, Write};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::OnceLock;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::process::{Child, ChildStdin, ChildStdout, Command};
use tokio::time::{Instant, timeout};

/// The program that fills templates in, with its arguments: this very one, in its other role.
static FILLER: OnceLock<(PathBuf, OsString)> = OnceLock::new();

/// So much of a processor one message may take, beside reading what it is made of.
const TIME: Duration = Duration::from_millis(200);
/// What reading that takes at the most: a megabyte in some tens of milliseconds.
const READING_PER_MEGABYTE: Duration = Duration::from_millis(100);
/// On a machine that has much else to do, it may take so many times as long.
const BUSY: u32 = 20;
/// A process that starts has to be found on the disk first.
const START: Duration = Duration::from_secs(2);
/// What the process may have of memory.
const MEMORY: u64 = 24 << 20;
/// A context takes so many times its text while it is used.
const CONTEXT_FACTOR: u64 = 30;
/// What a message may have, with its topic.
const OUTPUT: u64 = 4 << 20;
/// For so long a template that had to be stopped is not tried again.
const PAUSE: Duration = Duration::from_secs(10);

/// Says which program fills templates in, with the one argument that tells it to: it calls [`fill_templates_in`] then.
/// Without this, as in a library, they are filled in by the process itself, within the limits that the engine has.
pub fn fill_templates_with(program: PathBuf, argument: OsString) {
    // The first one holds: it is set once, at the start.
    let _ = FILLER.set((program, argument));
}

/// What is sent first: the two templates.
#[derive(Serialize, Deserialize)]
struct Job {
    topic: String,
    payload: String,
}

/// What comes back for each context, and first for the templates.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Reply {
    Ready,
    Filled { topic: String, payload: String },
    Fault(String),
}

/// The other role of the program: reads two templates, then contexts, a line each, and answers each with a line.
/// `limit_memory` limits what this process may have in bytes: more ends it, and whoever asked says so.
///
/// # Errors
/// When a pipe breaks: whoever asked has gone.
pub fn fill_templates_in(
    input: impl Read,
    mut output: impl Write,
    limit_memory: impl Fn(u64) -> io::Result<()>,
) -> io::Result<()> {
    limit_memory(MEMORY)?;
    let mut lines = io::BufReader::new(input).lines();
    let mut answer = |reply: &Reply| {
        serde_json::to_writer(&mut output, reply)?;
        output.write_all(b"\n")?;
        output.flush()
    };
    let Some(job) = lines.next() else { return Ok(()) };
    let Job { topic, payload } = serde_json::from_str(&job?)?;
    let templates = match MessageTemplates::new(&topic, &payload) {
        Ok(templates) => templates,
        Err(fault) => return answer(&Reply::Fault(fault.to_string())),
    };
    answer(&Reply::Ready)?;
    for line in lines {
        let line = line?;
        // What is known of the points is not what the templates make of it.
        limit_memory(MEMORY + CONTEXT_FACTOR * u64::try_from(line.len()).unwrap_or(u64::MAX))?;
        let context: serde_json::Value = serde_json::from_str(&line)?;
        drop(line);
        answer(&match templates.render_json(&context) {
            Ok(RenderedMessage { topic, payload }) => Reply::Filled { topic, payload },
            Err(fault) => Reply::Fault(fault.to_string()),
        })?;
    }
    Ok(())
}

/// Two templates, and whoever fills them in.
#[derive(Debug)]
pub(super) struct Filler {
    topic: String,
    payload: String,
    way: Way,
    /// Why they are left alone, and until when.
    stopped: Option<(String, Instant)>,
}

#[derive(Debug)]
enum Way {
    /// In this process.
    Here(Result<MessageTemplates, String>),
    /// In a process of its own, once it is needed.
    Process(Option<Process>),
}

#[derive(Debug)]
struct Process {
    /// Killed when it is dropped.
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
}

/// The process had to be stopped, or ended.
struct Stopped(String);

impl Filler {
    pub(super) fn new(topic: &str, payload: &str) -> Self {
        let way = match FILLER.get() {
            Some(_) => Way::Process(None),
            None => Way::Here(MessageTemplates::new(topic, payload).map_err(|fault| fault.to_string())),
        };
        Self { topic: topic.to_owned(), payload: payload.to_owned(), way, stopped: None }
    }

    /// Fills both templates in.
    pub(super) async fn fill(&mut self, context: &MessageContext) -> Result<RenderedMessage, String> {
        let process = match &mut self.way {
            Way::Here(templates) => {
                let templates = templates.as_ref().map_err(Clone::clone)?;
                return templates.render(context).map_err(|fault| fault.to_string());
            }
            Way::Process(process) => process,
        };
        if let Some((why, until)) = &self.stopped {
            if Instant::now() < *until {
                return Err(why.clone());
            }
            self.stopped = None;
        }
        let line = serde_json::to_vec(context).map_err(|error| error.to_string())?;
        let outcome = async {
            let running = match process.take() {
                Some(running) => running,
                None => match Process::start(&self.topic, &self.payload).await? {
                    Ok(started) => started,
                    Err(fault) => return Ok(Err(fault)),
                },
            };
            let running = process.insert(running);
            running.fill(line).await
        };
        match outcome.await {
            Ok(filled) => filled,
            Err(Stopped(why)) => {
                *process = None;
                self.stopped = Some((why.clone(), Instant::now() + PAUSE));
                Err(why)
            }
        }
    }
}

impl Process {
    /// Starts it, and gives it the templates; the inner error is what is wrong with those.
    async fn start(topic: &str, payload: &str) -> Result<Result<Self, String>, Stopped> {
        let failed = |error: io::Error| Stopped(format!("templates cannot be filled in: {error}"));
        let (program, argument) = FILLER.get().ok_or_else(|| failed(io::ErrorKind::NotFound.into()))?;
        let mut command = Command::new(program);
        command.arg(argument).env_clear().stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.kill_on_drop(true).spawn().map_err(failed)?;
        let pipes = child.stdin.take().zip(child.stdout.take());
        let (input, output) = pipes.ok_or_else(|| failed(io::ErrorKind::BrokenPipe.into()))?;
        let mut process = Self { child, input, output: BufReader::new(output) };
        let job = Job { topic: topic.to_owned(), payload: payload.to_owned() };
        let line = serde_json::to_vec(&job).map_err(|error| Stopped(error.to_string()))?;
        match process.ask(line, START).await? {
            Reply::Fault(fault) => Ok(Err(fault)),
            Reply::Ready | Reply::Filled { .. } => Ok(Ok(process)),
        }
    }

    async fn fill(&mut self, line: Vec<u8>) -> Result<Result<RenderedMessage, String>, Stopped> {
        let megabytes = u32::try_from(line.len() >> 20).unwrap_or(u32::MAX);
        match self.ask(line, TIME + READING_PER_MEGABYTE * megabytes).await? {
            Reply::Filled { topic, payload } => Ok(Ok(RenderedMessage { topic, payload })),
            Reply::Fault(fault) => Ok(Err(fault)),
            Reply::Ready => Err(Stopped("templates are filled in by another version".to_owned())),
        }
    }

    async fn ask(&mut self, mut line: Vec<u8>, within: Duration) -> Result<Reply, Stopped> {
        line.push(b'\n');
        let mut answer = Vec::new();
        let Self { child, input, output } = self;
        let asking = async {
            input.write_all(&line).await?;
            output.take(OUTPUT).read_until(b'\n', &mut answer).await
        };
        tokio::pin!(asking);
        let (begun, used_before) = (Instant::now(), used_by(child));
        let asked = loop {
            match timeout(within, &mut asking).await {
                Ok(asked) => break asked,
                // One that could not run has not taken too long.
                Err(_) if begun.elapsed() < BUSY * within && is_short_of(used_before, used_by(child), within) => {}
                Err(_) => {
                    let most = TIME.as_millis();
                    return Err(Stopped(format!("the templates take longer than {most} ms, and were stopped")));
                }
            }
        };
        match asked {
            Err(_) | Ok(0) => {
                Err(Stopped(format!("the templates take more than {} MB of memory, and were stopped", MEMORY >> 20)))
            }
            Ok(_) if answer.last() != Some(&b'\n') => {
                Err(Stopped(format!("the message has more than {} MB, and was stopped", OUTPUT >> 20)))
            }
            Ok(_) => serde_json::from_slice(&answer).map_err(|error| Stopped(error.to_string())),
        }
    }
}

/// Whether something has used less of a processor than it may. What cannot be told is taken for too much.
fn is_short_of(before: Option<Duration>, now: Option<Duration>, most: Duration) -> bool {
    before.zip(now).is_some_and(|(before, now)| now.saturating_sub(before) < most)
}

/// How much of a processor a process has used, in steps of 10 ms.
///
/// Source: proc(5), /proc/pid/stat, fields 14 and 15; its clock ticks are hundredths of a second on Linux.
fn used_by(child: &Child) -> Option<Duration> {
    let text = std::fs::read_to_string(format!("/proc/{}/stat", child.id()?)).ok()?;
    // The name of the program is in parentheses, and may have anything in it.
    let mut fields = text.rsplit_once(')')?.1.split_whitespace().skip(11);
    let ticks: u64 = fields.next()?.parse::<u64>().ok()? + fields.next()?.parse::<u64>().ok()?;
    Some(Duration::from_millis(10 * ticks))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_process_is_stopped_for_what_it_uses_and_not_for_what_it_waits() {
        let started = |script: &str| {
            let mut command = Command::new("sh");
            command.args(["-c", script]).stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
            let mut child = command.spawn().unwrap();
            let (input, output) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
            Process { child, input, output }
        };
        let most = Duration::from_millis(100);
        let mut waiting = started("read line; sleep 0.5; echo '\"ready\"'; read line");
        assert!(matches!(waiting.ask(b"{}".to_vec(), most).await, Ok(Reply::Ready)));
        let mut busy = started("read line; while :; do :; done");
        let Err(Stopped(why)) = busy.ask(b"{}".to_vec(), most).await else { panic!("it never answers") };
        assert!(why.contains("take longer than"), "{why}");
        let mut stuck = started("read line; read line");
        assert!(stuck.ask(b"{}".to_vec(), Duration::from_millis(5)).await.is_err(), "not for ever either");
    }

    #[test]
    fn the_other_role_answers_each_context_with_a_message_or_with_what_is_wrong() {
        let told = |payload: &str| {
            let job = serde_json::json!({ "topic": "works/{{ device }}", "payload": payload });
            let lines = format!("{job}\n{{\"device\": \"a\", \"value\": 1.5}}\n{{\"device\": \"b\"}}\n");
            let mut output = Vec::new();
            fill_templates_in(lines.as_bytes(), &mut output, |_| Ok(())).unwrap();
            String::from_utf8(output).unwrap()
        };
        let filled = told("{{ value }}");
        let lines: Vec<_> = filled.lines().collect();
        assert_eq!(lines[..2], ["\"ready\"", "{\"filled\":{\"topic\":\"works/a\",\"payload\":\"1.5\"}}"]);
        assert!(lines[2].starts_with("{\"fault\":\"payload line 1: undefined value"), "{filled}");
        assert!(told("{{ value").starts_with("{\"fault\":\"payload line 1: "));
    }
}

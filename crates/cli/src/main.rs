//! The one binary of Interlex: the service, the demo, the simulated plant, and the client.

mod args;
mod certificate;
mod client;
mod demo;
mod exit;
mod log;
mod options;
mod output;
mod plant;
mod serve;
mod table;

use args::{Arguments, Command};
use cap::Cap;
use clap::{CommandFactory, Parser};
use exit::{ExitReason, report};
use std::io::Write;
use std::process::ExitCode;
use tikv_jemallocator::Jemalloc;

/// Gives memory back that a large request took, within a second or two (`.cargo/config.toml`). Whoever fills in templates has
/// a limit, and ends when that does not do.
#[global_allocator]
static ALLOCATOR: Cap<Jemalloc> = Cap::new(Jemalloc, usize::MAX);

/// The argument that makes this program fill in templates for another of its kind: no command for people.
const FILL_IN: &str = "--fill-in-templates";

fn main() -> ExitCode {
    if std::env::args_os().nth(1).is_some_and(|first| first == FILL_IN) {
        let (input, output) = (std::io::stdin().lock(), std::io::stdout().lock());
        // An error means that nobody listens any more.
        let filled = interlex_gateway::fill_templates_in(input, output, limit_memory);
        return if filled.is_ok() { ExitCode::SUCCESS } else { ExitReason::Failure.into() };
    }
    // This very program, also when another version has taken its place on the disk meanwhile.
    interlex_gateway::fill_templates_with("/proc/self/exe".into(), FILL_IN.into());
    match tokio::runtime::Runtime::new() {
        Ok(runtime) => runtime.block_on(start()),
        Err(error) => report(&error.into()),
    }
}

fn limit_memory(bytes: u64) -> std::io::Result<()> {
    let bytes = usize::try_from(bytes).unwrap_or(usize::MAX);
    ALLOCATOR.set_limit(bytes).map_err(|()| std::io::Error::from(std::io::ErrorKind::OutOfMemory))
}

async fn start() -> ExitCode {
    let arguments = Arguments::parse();
    // One provider, chosen here, so that no library has to guess.
    if rustls::crypto::ring::default_provider().install_default().is_err() {
        anstream::eprintln!("a cryptography provider was installed twice");
        return ExitReason::Failure.into();
    }
    match run(arguments).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => report(&error),
    }
}

async fn run(arguments: Arguments) -> anyhow::Result<()> {
    match arguments.command {
        Command::Serve(arguments) => serve::run(arguments).await,
        Command::Demo(arguments) => demo::run(arguments).await,
        Command::Plant(arguments) => plant::run(arguments).await,
        Command::SignIn(arguments) => client::sign_in::run(arguments).await,
        Command::Status(arguments) => client::status::run(arguments).await,
        Command::Points(arguments) => client::points::run(arguments).await,
        Command::Watch(arguments) => client::watch::run(arguments).await,
        Command::Buffer(arguments) => client::buffer::run(arguments).await,
        Command::Tap(arguments) => client::tap::run(arguments).await,
        Command::Messages(arguments) => client::messages::run(arguments).await,
        Command::Certificate(arguments) => certificate::run(arguments).await,
        Command::Config(arguments) => client::config::run(arguments).await,
        Command::Trial(arguments) => client::trial::run(arguments).await,
        Command::Offers(arguments) => client::offers::run(arguments).await,
        Command::Write(arguments) => client::write::run(arguments).await,
        Command::Frames(arguments) => client::frames::run(arguments).await,
        Command::Link(arguments) => client::link::run(arguments).await,
        Command::Models(arguments) => client::models::run(arguments).await,
        Command::Draft(arguments) => client::draft::run(arguments).await,
        Command::Revisions(arguments) => client::revisions::run(arguments).await,
        Command::Gateways(arguments) => client::gateways::run(arguments).await,
        Command::People(arguments) => client::people::run(arguments).await,
        Command::Tokens(arguments) => client::people::tokens(arguments).await,
        Command::Events(arguments) => client::events::run(arguments).await,
        Command::Audit(arguments) => client::audit::run(arguments).await,
        Command::LoopCheck(arguments) => client::loop_check::run(arguments).await,
        Command::Outages(arguments) => client::outages::run(arguments).await,
        Command::Completions { shell } => {
            let mut script = Vec::new();
            clap_complete::generate(shell, &mut Arguments::command(), "interlex", &mut script);
            Ok(anstream::stdout().write_all(&script)?)
        }
        Command::Openapi => output::print_json(&interlex_service::openapi()),
    }
}

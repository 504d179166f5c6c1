//! The command line: which commands there are. What each takes stands beside it.

use crate::certificate::CertificateArguments;
use crate::client::audit::AuditArguments;
use crate::client::buffer::BufferArguments;
use crate::client::config::ConfigArguments;
use crate::client::draft::DraftArguments;
use crate::client::events::EventsArguments;
use crate::client::frames::FramesArguments;
use crate::client::gateways::GatewaysArguments;
use crate::client::link::LinkArguments;
use crate::client::loop_check::LoopCheckArguments;
use crate::client::messages::MessagesArguments;
use crate::client::models::ModelsArguments;
use crate::client::offers::OffersArguments;
use crate::client::outages::OutagesArguments;
use crate::client::people::{PeopleArguments, TokensArguments};
use crate::client::points::PointsArguments;
use crate::client::revisions::RevisionsArguments;
use crate::client::sign_in::SignInArguments;
use crate::client::status::StatusArguments;
use crate::client::tap::TapArguments;
use crate::client::trial::TrialArguments;
use crate::client::watch::WatchArguments;
use crate::client::write::WriteArguments;
use crate::demo::DemoArguments;
use crate::exit::EXIT_CODES;
use crate::plant::PlantArguments;
use crate::serve::ServeArguments;
use clap::{Parser, Subcommand};
use clap_complete::Shell;

/// From the registers of field devices to named telemetry at a broker.
#[derive(Debug, Parser)]
#[command(name = "interlex", version, after_help = EXIT_CODES, propagate_version = true)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Run the service: gateways, API and console.
    Serve(ServeArguments),
    /// Run everything for a look around: private database and broker, simulated plant, and the service.
    Demo(DemoArguments),
    /// Run the simulated plant alone, or show its register map, or switch its faults.
    Plant(PlantArguments),
    /// Sign in to a service; the other client commands use it from then on.
    SignIn(SignInArguments),
    /// Show what gateways, links, devices and uplinks are doing, since when, and why.
    Status(StatusArguments),
    /// List points with their newest values.
    Points(PointsArguments),
    /// Watch points live.
    Watch(WatchArguments),
    /// Show what waits for each broker, since when, and what a crash would cost.
    Buffer(BufferArguments),
    /// Show what arrives at the broker, decoded.
    Tap(TapArguments),
    /// Show the last messages that an uplink made from templates.
    Messages(MessagesArguments),
    /// Certificates: a key and a request for a broker's authority, and our own for OPC UA servers.
    Certificate(CertificateArguments),
    /// Check, compare, apply and export descriptions as files.
    Config(ConfigArguments),
    /// Ask a device once, now, without touching draft or revision.
    Trial(TrialArguments),
    /// See what devices, links and models offer, choose points from it, and put them into the draft.
    Offers(OffersArguments),
    /// Write a value to a point of the running description, and read it back.
    Write(WriteArguments),
    /// Show what devices told of changes, with their own times, and follow what comes.
    Events(EventsArguments),
    /// Show the frames of a link, decoded, or save them for another program.
    Frames(FramesArguments),
    /// Show what a link and its devices counted, and the requests that they are sent.
    Link(LinkArguments),
    /// List the device models that ship with the service, or print one as CSV.
    Models(ModelsArguments),
    /// Look at the draft of a gateway, change points by a list, activate it, or throw it away.
    Draft(DraftArguments),
    /// List, compare, export and activate again what once was activated.
    Revisions(RevisionsArguments),
    /// List, add and remove gateways.
    Gateways(GatewaysArguments),
    /// See to the people who can sign in.
    People(PeopleArguments),
    /// List and remove tokens of clients.
    Tokens(TokensArguments),
    /// Compare points with what their devices show, one by one, and hand over the sheet.
    LoopCheck(LoopCheckArguments),
    /// Show what did not work, from when to when, and what became of the values meanwhile.
    Outages(OutagesArguments),
    /// Show who did what, when and from where.
    Audit(AuditArguments),
    /// Print shell completions.
    Completions {
        /// The shell.
        shell: Shell,
    },
    /// Print the OpenAPI document of the service.
    #[command(hide = true)]
    Openapi,
}

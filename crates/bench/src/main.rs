//! Whole-path measurements. Each prints our figure beside the raw limit of the same machine, taken in the same run:
//! the ratio says what Interlex costs, whatever the machine.

mod bacnet;
mod buffer;
mod config;
mod dnp3;
mod hostile;
mod journal_size;
mod latency;
mod modbus_fleet;
mod modbus_poll;
mod opcua;
mod outage;
mod pipeline;
mod planner;
mod report;
mod scale;
mod settling;
mod sparkplug_encode;
mod watching;

use clap::{Parser, ValueEnum};
use stats_alloc::{INSTRUMENTED_SYSTEM, StatsAlloc};
use std::alloc::System;

/// Counts allocations, for the scenarios that must not make any.
#[global_allocator]
static ALLOCATOR: &StatsAlloc<System> = &INSTRUMENTED_SYSTEM;

#[derive(Debug, Parser)]
struct Arguments {
    /// What to measure
    #[arg(value_enum)]
    scenario: Scenario,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Scenario {
    /// One connection, reads of 125 registers, 1 and 8 outstanding, against a bare loop of the same sizes and depth
    ModbusPoll,
    /// 100 devices of 500 registers every second in one gateway: CPU, lateness of polls, memory per point
    ModbusFleet,
    /// The devices of modbus-fleet, in a process of their own
    #[value(hide = true)]
    FleetDevices,
    /// 20,000 requests every ten seconds on one link, beside as many on fifty
    Requests,
    /// Requests for 50,000 points: how long to plan, and how many against the least possible
    Planner,
    /// Samples through shaping, quality, change detection and latest table, 100,000 points on one core
    Pipeline,
    /// Metrics through the edge node into payloads, and bytes per metric
    SparkplugEncode,
    /// Samples a second into the journal while the broker is away, beside what the database takes of the same bytes
    BufferWrite,
    /// Samples a second out of the journal when the broker is back, beside the live ones, and how late these are
    BufferDrain,
    /// Bytes that a sample takes in the journal, of a plant of 50,000 points, beside the six that it may
    JournalSize,
    /// What it costs to keep what a broker has read for a primary host that may have gone, beside doing without
    Settling,
    /// Minutes of cut and frozen lines, frozen and killed brokers and databases: what is lost, late or repeated
    Outage,
    /// Check, difference and activation of a draft of 50,000 points, beside its bytes parsed and written once
    Config,
    /// Attacks on the running program (built before: cargo build --release): how long others wait, and what memory it costs
    Hostile,
    /// OPC UA: 1000 values a request, against a bare loop of the same bytes
    OpcuaRead,
    /// OPC UA: changes through one subscription of 5000 items and what each costs; 100,000 items on one link
    OpcuaSubscribe,
    /// OPC UA: signed and encrypted beside in the clear, and beside the cipher alone
    OpcuaSecure,
    /// The server of those, in a process of its own
    #[value(hide = true)]
    OpcuaServer,
    /// DNP3: events until all are confirmed, beside a master that only asks and confirms
    Dnp3Events,
    /// DNP3: all of 10,000 points, beside a master that only reads
    Dnp3Integrity,
    /// The outstation of those, in a process of its own
    #[value(hide = true)]
    Dnp3Outstation,
    /// BACnet: requests and time to find out what a device of 600 objects has
    BacnetScan,
    /// BACnet: 50 devices of 100 objects, beside a bare loop of the same requests
    BacnetPoll,
    /// BACnet: changes until all are acknowledged, beside a subscriber that only acknowledges
    BacnetCov,
    /// The devices of those, in a process of their own
    #[value(hide = true)]
    BacnetDevices,
    /// From 1000 points to a million: checks, edits, activations, restarts, memory, polls while people look (the running
    /// program, built before: cargo build --release)
    Scale,
    /// From a changed register to the decoded value at a subscriber of the broker
    Latency,
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    match Arguments::parse().scenario {
        Scenario::ModbusPoll => modbus_poll::run().await,
        Scenario::ModbusFleet => modbus_fleet::run().await,
        Scenario::FleetDevices => modbus_fleet::devices().await,
        Scenario::Requests => modbus_fleet::requests().await,
        Scenario::Planner => planner::run(),
        Scenario::Pipeline => pipeline::run(),
        Scenario::SparkplugEncode => sparkplug_encode::run(),
        Scenario::BufferWrite => buffer::write().await,
        Scenario::BufferDrain => buffer::drain().await,
        Scenario::JournalSize => journal_size::run().await,
        Scenario::Settling => settling::run().await,
        Scenario::Outage => outage::run().await,
        Scenario::OpcuaRead => opcua::read_values().await,
        Scenario::OpcuaSubscribe => opcua::subscribe().await,
        Scenario::OpcuaSecure => opcua::secure().await,
        Scenario::OpcuaServer => opcua::server().await,
        Scenario::Dnp3Events => dnp3::events().await,
        Scenario::Dnp3Integrity => dnp3::integrity().await,
        Scenario::Dnp3Outstation => dnp3::outstation().await,
        Scenario::BacnetScan => bacnet::scan().await,
        Scenario::BacnetPoll => bacnet::poll_devices().await,
        Scenario::BacnetCov => bacnet::changes().await,
        Scenario::BacnetDevices => bacnet::devices().await,
        Scenario::Config => config::run().await,
        Scenario::Hostile => hostile::run().await,
        Scenario::Scale => scale::run().await,
        Scenario::Latency => latency::run().await,
    }
}

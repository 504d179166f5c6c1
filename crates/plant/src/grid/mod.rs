//! The grid connection of the works and its feeder controller, a DNP3 outstation.

mod model;

use interlex_dnp3::{
    CommandStatus, DoubleBit, EventClass, Flags, LinkAddress, MeasuredValue, Now, Number, Object, Operation,
    Outstation, OutstationConfig, OutstationHost, Point, PointKind, PointUpdate, Process, TripClose,
};
use model::{Breaker, Grid};
use serde::Deserialize;
use std::sync::Arc;

/// The address of the feeder controller, and that of the master that it knows.
pub(crate) const OUTSTATION: LinkAddress = LinkAddress(10);
const MASTER: LinkAddress = LinkAddress(1);

/// What stands behind the outstation.
#[derive(Debug)]
pub(crate) struct Feeder {
    grid: Grid,
    /// How far its own clock is from ours, in milliseconds; nothing while it was not set.
    ahead: i64,
    now: u64,
}

/// What can go wrong with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum GridFault {
    /// It answers nothing.
    Silent,
    /// It restarts, once.
    Restart,
    /// The protection opens the breaker, once.
    Trip,
    /// Somebody operates it by hand.
    Local,
    /// Its clock is an hour behind.
    ClockBack,
}

const HOUR: i64 = 3_600_000;

impl Feeder {
    fn operated(&mut self, kind: PointKind, index: u32, command: &Object, is_done: bool) -> CommandStatus {
        if self.grid.is_local {
            return CommandStatus::LOCAL;
        }
        match (kind, index, command) {
            (PointKind::BinaryOutput, 0, Object::Control(control)) => {
                let closes = match (control.trip_close, control.operation) {
                    (TripClose::Close, _) | (TripClose::Nul, Operation::LatchOn) => true,
                    (TripClose::Trip, _) | (TripClose::Nul, Operation::LatchOff) => false,
                    _ => return CommandStatus::NOT_SUPPORTED,
                };
                let may = self.grid.breaker == if closes { Breaker::Open } else { Breaker::Closed };
                if is_done && may {
                    if closes {
                        self.grid.close()
                    } else {
                        self.grid.open()
                    };
                }
                if may { CommandStatus::SUCCESS } else { CommandStatus::ALREADY_COMPLETE }
            }
            (PointKind::AnalogOutput, 0, Object::Setting { number, .. }) => {
                #[expect(clippy::cast_possible_truncation, reason = "what is beyond is refused")]
                let tap = number.as_f64().round() as i32;
                let may = (1..=9).contains(&tap);
                if is_done && may {
                    self.grid.set_tap(tap);
                }
                if may { CommandStatus::SUCCESS } else { CommandStatus::OUT_OF_RANGE }
            }
            _ => CommandStatus::NOT_SUPPORTED,
        }
    }
}

impl Process for Feeder {
    fn select(&mut self, kind: PointKind, index: u32, command: &Object) -> CommandStatus {
        self.operated(kind, index, command, false)
    }

    fn operate(&mut self, kind: PointKind, index: u32, command: &Object) -> CommandStatus {
        self.operated(kind, index, command, true)
    }

    fn set_time(&mut self, wall: u64) {
        self.ahead = i64::try_from(wall).unwrap_or_default() - i64::try_from(self.now).unwrap_or_default();
    }

    fn restart(&mut self, _: bool) -> Option<u16> {
        Some(500)
    }
}

/// A point: what it is, its index, its value, where its changes are told, and by how much it has to move.
type Row = (PointKind, u32, fn(&Grid) -> MeasuredValue, Option<EventClass>, f64);

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "the model stays far within the types")]
const POINTS: [Row; 14] = [
    (PointKind::DoubleBit, 0, |grid| breaker(grid.breaker).into(), Some(EventClass::First), 0.0),
    (PointKind::Binary, 0, |grid| grid.is_tripped.into(), Some(EventClass::First), 0.0),
    (PointKind::Binary, 1, |grid| grid.is_local.into(), Some(EventClass::First), 0.0),
    (PointKind::Analog, 0, |grid| Number::Float32(grid.voltages[0] as f32).into(), Some(EventClass::Second), 1.0),
    (PointKind::Analog, 1, |grid| Number::Float32(grid.voltages[1] as f32).into(), Some(EventClass::Second), 1.0),
    (PointKind::Analog, 2, |grid| Number::Float32(grid.voltages[2] as f32).into(), Some(EventClass::Second), 1.0),
    (PointKind::Analog, 3, |grid| Number::Float32(grid.export as f32).into(), Some(EventClass::Second), 2.0),
    (PointKind::Analog, 4, |grid| Number::Float32(grid.frequency as f32).into(), Some(EventClass::Third), 0.02),
    (PointKind::Analog, 5, |grid| Number::Int16(grid.tap).into(), Some(EventClass::Second), 0.0),
    (PointKind::Counter, 0, |grid| Number::Uint32(grid.exported as u32).into(), Some(EventClass::Third), 0.0),
    (PointKind::Counter, 1, |grid| Number::Uint32(grid.imported as u32).into(), Some(EventClass::Third), 0.0),
    (PointKind::BinaryOutput, 0, |grid| grid.is_connected().into(), Some(EventClass::First), 0.0),
    (PointKind::AnalogOutput, 0, |grid| Number::Int16(grid.tap).into(), Some(EventClass::Second), 0.0),
    (PointKind::Octets, 0, |_| MeasuredValue::Octets(b"Alderfen feeder 1".to_vec()), None, 0.0),
];

const fn breaker(breaker: Breaker) -> DoubleBit {
    match breaker {
        Breaker::Open => DoubleBit::Off,
        Breaker::Closed => DoubleBit::On,
        Breaker::Opening | Breaker::Closing => DoubleBit::Intermediate,
    }
}

/// What it says of itself, by the numbers of group 0.
const ATTRIBUTES: [(u8, &str); 5] =
    [(242, "3.2"), (245, "Alderfen biogas works"), (247, "Feeder 1"), (248, "AF-0107"), (250, "Feeder controller")];

/// The feeder controller of the works.
pub(crate) fn controller(seed: u64) -> Arc<OutstationHost<Feeder>> {
    let feeder = Feeder { grid: Grid::new(seed), ahead: 0, now: 0 };
    let mut outstation = Outstation::new(OutstationConfig::default(), [MASTER]);
    for (attribute, text) in ATTRIBUTES {
        outstation.describe(attribute, text);
    }
    for (kind, index, value, class, deadband) in POINTS {
        let mut point = Point::new(value(&feeder.grid), class);
        point.deadband = deadband;
        outstation.put(kind, index, point);
    }
    for index in 0..2 {
        let point = Point::new(Number::Uint32(0).into(), Some(EventClass::Third));
        outstation.put(PointKind::FrozenCounter, index, point);
    }
    OutstationHost::new([(OUTSTATION, outstation, feeder)])
}

/// Moves it on by `dt` seconds, while the engine gives so many kW; tells whether the engine is on the grid.
pub(crate) fn step(host: &OutstationHost<Feeder>, dt: f64, generated: f64) -> bool {
    let stepped = host.with(OUTSTATION, |outstation, feeder, now| {
        feeder.grid.step(dt, generated);
        feeder.now = now.wall;
        tell(outstation, feeder, now);
        feeder.grid.is_connected()
    });
    stepped.unwrap_or(true)
}

fn tell(outstation: &mut Outstation, feeder: &Feeder, now: Now) {
    let time = now.wall.saturating_add_signed(feeder.ahead);
    for (kind, index, value, ..) in POINTS {
        let value = value(&feeder.grid);
        if outstation.point(kind, index).is_none_or(|point| point.value != value) {
            outstation.update(kind, index, PointUpdate { value, flags: Flags::ONLINE, time });
        }
    }
}

/// Switches a fault of it.
pub(crate) fn switch(host: &OutstationHost<Feeder>, fault: GridFault, is_on: bool) {
    if fault == GridFault::Silent {
        return host.silence(OUTSTATION, is_on);
    }
    host.with(OUTSTATION, |outstation, feeder, _| match fault {
        GridFault::Restart if is_on => outstation.restart(),
        GridFault::Trip if is_on => feeder.grid.trip(),
        GridFault::Local => feeder.grid.is_local = is_on,
        GridFault::ClockBack => feeder.ahead = if is_on { -HOUR } else { 0 },
        GridFault::Silent | GridFault::Restart | GridFault::Trip => {}
    });
}

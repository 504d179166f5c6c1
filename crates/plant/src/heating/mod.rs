//! The heat network and the boiler house of the works: two BACnet devices, of which the second one is behind the router that the first
//! one's host is.

mod model;

use interlex_bacnet::{
    BindError, Device, DeviceConfig, DeviceHost, MacAddress, MaxApdu, Object, ObjectIdentifier, ObjectType,
    PropertyIdentifier, Segmentation, Station, TrendLog, Value,
};
use model::{Heating, Wanted};
use parking_lot::Mutex;
use serde::Deserialize;
use std::net::SocketAddrV4;
use std::sync::Arc;
use std::time::Duration;

/// The instances of the two devices.
const NETWORK: u32 = 4001;
const BOILER: u32 = 4002;
/// Where the boiler house is: behind the host, on a network of its own.
const BOILER_NETWORK: u16 = 5;
const BOILER_STATION: [u8; 1] = [0x0C];

/// The two devices, and what moves them.
#[derive(Debug, Clone)]
pub(crate) struct Controllers {
    pub(crate) host: Arc<DeviceHost>,
    heating: Arc<Mutex<Heating>>,
}

/// What can go wrong with them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum HeatingFault {
    /// It answers nothing.
    Silent,
    /// The sensor of the flow temperature is torn off.
    Sensor,
    /// It restarts, once, and knows nobody who subscribed.
    Restart,
    /// It tells no changes any more.
    NoChanges,
    /// Somebody holds the set point of the flow temperature at a higher priority.
    Local,
}

fn object(object_type: u16, instance: u32) -> ObjectIdentifier {
    // All of these are within ten and twenty-two bits.
    let object_type = ObjectType::new(object_type).unwrap_or(ObjectType::ANALOG_INPUT);
    ObjectIdentifier::new(object_type, instance).unwrap_or(ObjectIdentifier::from_bits(0))
}

const CELSIUS: u32 = 62;
const PERCENT: u32 = 98;
const KILOWATTS: u32 = 48;
const KILOPASCALS: u32 = 54;
const KILOWATT_HOURS: u32 = 19;
const MILLIBARS: u32 = 134;
const HOURS: u32 = 71;

/// A number with its unit, and by how much it has to move to be told.
fn analog(object_type: u16, instance: u32, name: &str, title: &str, (unit, increment): (u32, f32)) -> Object {
    Object::valued(object(object_type, instance), name, 0.0_f32)
        .with(PropertyIdentifier::DESCRIPTION, title)
        .with(PropertyIdentifier::UNITS, Value::Enumerated(unit))
        .with(PropertyIdentifier::COV_INCREMENT, increment)
}

/// A state with its two words.
fn binary(object_type: u16, instance: u32, name: &str, title: &str, (off, on): (&str, &str)) -> Object {
    Object::valued(object(object_type, instance), name, Value::Enumerated(0))
        .with(PropertyIdentifier::DESCRIPTION, title)
        .with(PropertyIdentifier::INACTIVE_TEXT, off)
        .with(PropertyIdentifier::ACTIVE_TEXT, on)
}

fn limits(object: Object, low: f32, high: f32) -> Object {
    object.with(PropertyIdentifier::MIN_PRES_VALUE, low).with(PropertyIdentifier::MAX_PRES_VALUE, high)
}

fn config(instance: u32, name: &str, model: &str) -> DeviceConfig {
    DeviceConfig {
        instance,
        name: name.to_owned(),
        vendor: 999,
        vendor_name: "Alderfen".to_owned(),
        model: model.to_owned(),
        max_apdu: if instance == NETWORK { MaxApdu::BACNET_IP } else { MaxApdu::MS_TP },
        segmentation: if instance == NETWORK { Segmentation::Both } else { Segmentation::None },
        utc_offset: 0,
        password: None,
        broadcasts_i_am: false,
    }
}

fn heat_network() -> Device {
    let history = TrendLog::new(object(0, 1), Duration::from_secs(5), 1000);
    Device::new(config(NETWORK, "heat-network", "substation controller"))
        .with(analog(0, 1, "flow-temperature", "Flow temperature of the heat network", (CELSIUS, 0.1)))
        .with(analog(0, 2, "return-temperature", "Return temperature of the heat network", (CELSIUS, 0.1)))
        .with(analog(0, 3, "outside-temperature", "Outside temperature", (CELSIUS, 0.1)))
        .with(analog(0, 4, "differential-pressure", "Pressure that the pumps make", (KILOPASCALS, 0.2)))
        .with(analog(0, 5, "heat-power", "Heat power to the network", (KILOWATTS, 1.0)))
        .with(analog(0, 6, "heat-energy", "Heat delivered to the network", (KILOWATT_HOURS, 1.0)))
        .with(limits(analog(1, 1, "mixing-valve", "Mixing valve, by hand", (PERCENT, 0.5)), 0.0, 100.0))
        .with(
            limits(analog(2, 1, "flow-set-point", "Wanted flow temperature", (CELSIUS, 0.1)), 40.0, 90.0)
                .commandable(Value::Real(72.0)),
        )
        .with(binary(4, 1, "pump-1", "Pump 1", ("stopped", "runs")).commandable(Value::Enumerated(1)))
        .with(binary(4, 2, "pump-2", "Pump 2", ("stopped", "runs")))
        .with(binary(3, 1, "leak", "Leak detector of the pit", ("dry", "wet")))
        .with(
            Object::valued(object(19, 1), "mode", 2_u32)
                .with(PropertyIdentifier::DESCRIPTION, "Mode of the substation")
                .with(PropertyIdentifier::NUMBER_OF_STATES, 3_u32)
                .with_array(PropertyIdentifier::STATE_TEXT, ["off", "automatic", "by hand"].map(Value::from))
                .commandable(Value::Unsigned(2)),
        )
        .with(
            Object::new(object(20, 1), "flow-temperature-history")
                .with(PropertyIdentifier::LOG_ENABLE, true)
                .with_content(PropertyIdentifier::LOG_DEVICE_OBJECT_PROPERTY, logged(object(0, 1)))
                .with_log(history),
        )
}

/// What a log logs, as it says so.
fn logged(source: ObjectIdentifier) -> interlex_bacnet::Content {
    interlex_bacnet::Content::reference(source, PropertyIdentifier::PRESENT_VALUE)
}

fn boiler_house() -> Device {
    Device::new(config(BOILER, "boiler-house", "boiler controller"))
        .with(analog(0, 1, "boiler-temperature", "Temperature of the boiler", (CELSIUS, 0.2)))
        .with(analog(0, 2, "gas-pressure", "Gas pressure before the burner", (MILLIBARS, 0.5)))
        .with(analog(0, 3, "burner-hours", "Hours that the burner ran", (HOURS, 0.01)))
        .with(binary(3, 1, "burner", "The burner", ("off", "burns")))
        .with(binary(3, 2, "burner-fault", "Fault of the burner", ("none", "locked out")))
        .with(
            binary(4, 1, "burner-release", "Release of the burner", ("locked", "released"))
                .commandable(Value::Enumerated(1)),
        )
        .with(
            limits(analog(2, 1, "boiler-set-point", "Wanted temperature of the boiler", (CELSIUS, 0.1)), 60.0, 95.0)
                .commandable(Value::Real(82.0)),
        )
}

/// The controllers of the heating.
pub(crate) fn controllers(address: SocketAddrV4, seed: u64) -> Result<Controllers, BindError> {
    let station = MacAddress::new(&BOILER_STATION).map(|mac| Station { network: BOILER_NETWORK, mac });
    // Nobody else is to hear of them: who wants to registers with the host.
    let host = DeviceHost::bind(address, *address.ip(), [(None, heat_network()), (station, boiler_house())])?;
    host.manage_broadcasts();
    let controllers = Controllers { host, heating: Arc::new(Mutex::new(Heating::new(seed))) };
    controllers.step(0.1);
    Ok(controllers)
}

fn number(device: &Device, object: ObjectIdentifier) -> f64 {
    let value = device.object(object).and_then(|object| object.value(PropertyIdentifier::PRESENT_VALUE));
    value.and_then(|value| value.as_f64()).unwrap_or_default()
}

fn is_on(device: &Device, object: ObjectIdentifier) -> bool {
    number(device, object) > 0.5
}

#[expect(clippy::cast_possible_truncation, reason = "the model stays far within the type")]
fn set(device: &mut Device, object: ObjectIdentifier, number: f64) {
    if let Some(object) = device.object_mut(object) {
        object.set(PropertyIdentifier::PRESENT_VALUE, number as f32);
    }
}

fn set_state(device: &mut Device, object: ObjectIdentifier, state: bool) {
    if let Some(object) = device.object_mut(object) {
        object.set(PropertyIdentifier::PRESENT_VALUE, Value::Enumerated(state.into()));
    }
}

impl Controllers {
    /// Moves everything on by `dt` seconds.
    pub(crate) fn step(&self, dt: f64) {
        let mut heating = self.heating.lock();
        let wanted = self.wanted();
        heating.step(dt, &wanted);
        self.host.with(NETWORK, |device, _, _| {
            set(device, object(0, 1), heating.flow);
            set(device, object(0, 2), heating.back);
            set(device, object(0, 3), heating.outside);
            set(device, object(0, 4), heating.pressure);
            set(device, object(0, 5), heating.power);
            set(device, object(0, 6), heating.energy);
        });
        self.host.with(BOILER, |device, _, _| {
            set(device, object(0, 1), heating.boiler);
            set(device, object(0, 2), heating.gas);
            set(device, object(0, 3), heating.hours);
            set_state(device, object(3, 1), heating.burns);
        });
    }

    /// What is commanded at the devices.
    fn wanted(&self) -> Wanted {
        let of_network = self.host.with(NETWORK, |device, _, _| {
            let valve = object(1, 1);
            let by_hand = number(device, object(19, 1)) > 2.5;
            let pumps = [is_on(device, object(4, 1)), is_on(device, object(4, 2))];
            (number(device, object(2, 1)), pumps, by_hand.then(|| number(device, valve)))
        });
        let (flow, pumps, valve) = of_network.unwrap_or_default();
        let of_boiler = |device: &Device| (number(device, object(2, 1)), is_on(device, object(4, 1)));
        let (boiler, burner) = self.host.with(BOILER, |device, _, _| of_boiler(device)).unwrap_or_default();
        Wanted { flow, boiler, pumps, burner, valve }
    }

    /// Switches a fault of one of them, by its name; tells whether there is such a one.
    pub(crate) fn switch(&self, device: &str, fault: HeatingFault, is_on: bool) -> bool {
        let instance = match device {
            "heat-network" => NETWORK,
            "boiler-house" => BOILER,
            _ => return false,
        };
        let switched = self.host.with(instance, |device, node, _| match fault {
            HeatingFault::Silent => device.faults_mut().is_silent = is_on,
            HeatingFault::NoChanges => device.faults_mut().tells_nothing = is_on,
            HeatingFault::Restart => {
                if is_on {
                    device.restart(node);
                }
            }
            HeatingFault::Sensor => {
                if let Some(sensor) = device.object_mut(object(0, 1)) {
                    sensor.set_flag(1, is_on);
                    // Open loop, as the standard numbers it.
                    sensor.set(PropertyIdentifier::RELIABILITY, Value::Enumerated(if is_on { 4 } else { 0 }));
                }
            }
            HeatingFault::Local => {
                if let Some(set_point) = device.object_mut(object(2, 1)) {
                    set_point.command(5, is_on.then_some(Value::Real(65.0)));
                }
            }
        });
        switched.is_some()
    }
}

use fastrand::Rng;

/// The gas engine with its generator, moved by [`Engine::step`].
///
/// Sources of the numbers: common data sheets of biogas engines of half a megawatt, rounded.
#[derive(Debug, Clone)]
pub struct Engine {
    rng: Rng,
    /// What it is doing.
    pub state: EngineState,
    /// Seconds since it began to do that.
    since: f64,
    /// rpm
    pub speed: f64,
    /// kW
    pub active_power: f64,
    /// kW, as somebody wants it.
    pub power_set_point: f64,
    /// °C, of each cylinder.
    pub cylinder_temperatures: [f64; CYLINDERS],
    /// °C
    pub coolant_temperature: f64,
    /// bar
    pub oil_pressure: f64,
    /// h
    pub operating_hours: f64,
    /// kWh
    pub energy: f64,
    /// How often it was started.
    pub starts: u32,
    /// What it tripped for, a bit each: 0 overspeed, 1 oil pressure, 2 exhaust temperature, 3 emergency stop.
    pub trips: u16,
    /// Why it tripped last.
    pub last_trip: &'static str,
}

const CYLINDERS: usize = 6;
const RATED_SPEED: f64 = 1500.0;
/// kW
pub(crate) const RATED_POWER: f64 = 530.0;
const IDLE_POWER: f64 = 200.0;

/// What an engine is doing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(i32)]
pub enum EngineState {
    /// It stands.
    Off = 0,
    /// It is being started.
    Starting = 1,
    /// It runs on the grid.
    Running = 2,
    /// It is being stopped.
    Stopping = 3,
    /// It has tripped, and waits for somebody.
    Tripped = 4,
}

impl EngineState {
    /// The words for the states, in the order of their numbers.
    pub const WORDS: [&str; 5] = ["Off", "Starting", "Running", "Stopping", "Tripped"];
}

impl Engine {
    /// The engine in normal operation. The same seed gives the same future.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self {
            rng: Rng::with_seed(seed ^ 0x00C0_FFEE),
            state: EngineState::Running,
            since: 0.0,
            speed: RATED_SPEED,
            active_power: 498.0,
            power_set_point: 500.0,
            cylinder_temperatures: [452.0; CYLINDERS],
            coolant_temperature: 86.0,
            oil_pressure: 4.4,
            operating_hours: 41_286.0,
            energy: 18_904_330.0,
            starts: 1327,
            trips: 0,
            last_trip: "",
        }
    }

    /// Moves it on by `dt` seconds.
    pub fn step(&mut self, dt: f64) {
        self.since += dt;
        let noise = self.rng.f64() + self.rng.f64() - 1.0;
        let (speed, power) = match self.state {
            EngineState::Off | EngineState::Stopping | EngineState::Tripped => (0.0, 0.0),
            EngineState::Starting => (RATED_SPEED, 0.0),
            EngineState::Running => (RATED_SPEED, self.power_set_point),
        };
        let heat = self.active_power / RATED_POWER;
        self.speed += (speed - self.speed) * (dt / 4.0).min(1.0);
        if self.state == EngineState::Running {
            self.speed += 0.8 * noise;
        }
        self.active_power +=
            (power - self.active_power) * (dt / 6.0).min(1.0) + if power > 0.0 { 0.6 * noise } else { 0.0 };
        let turning = self.speed / RATED_SPEED;
        for (place, temperature) in (0_i32..).zip(&mut self.cylinder_temperatures) {
            let usual = 20.0 + turning * (300.0 + 140.0 * heat + 3.0 * f64::from(place % 3));
            *temperature += (usual - *temperature) * (dt / 40.0).min(1.0) + 0.2 * (self.rng.f64() - 0.5);
        }
        self.coolant_temperature += (40.0 + 46.0 * turning - self.coolant_temperature) * (dt / 300.0).min(1.0);
        self.oil_pressure += (4.4 * turning - self.oil_pressure) * (dt / 2.0).min(1.0);
        if self.state == EngineState::Running {
            self.operating_hours += dt / 3600.0;
            self.energy += self.active_power * dt / 3600.0;
        }
        match self.state {
            EngineState::Starting if self.since > 20.0 => self.be(EngineState::Running),
            EngineState::Stopping if self.speed < 5.0 => self.be(EngineState::Off),
            _ => {}
        }
    }

    /// The exhaust behind all cylinders, in °C.
    #[must_use]
    pub fn exhaust_temperature(&self) -> f64 {
        self.cylinder_temperatures.iter().sum::<f64>() / 6.0 + 18.0
    }

    fn be(&mut self, state: EngineState) {
        (self.state, self.since) = (state, 0.0);
    }

    /// Somebody starts it: one that stands.
    pub fn start(&mut self) -> bool {
        let may = self.state == EngineState::Off;
        if may {
            self.starts += 1;
            self.be(EngineState::Starting);
        }
        may
    }

    /// Somebody stops it.
    pub fn stop(&mut self) -> bool {
        let may = matches!(self.state, EngineState::Starting | EngineState::Running);
        if may {
            self.be(EngineState::Stopping);
        }
        may
    }

    /// Somebody acknowledges a trip.
    pub fn reset(&mut self) -> bool {
        let may = self.state == EngineState::Tripped;
        if may {
            self.trips = 0;
            self.be(EngineState::Off);
        }
        may
    }

    /// The emergency stop.
    pub fn trip(&mut self) {
        (self.trips, self.last_trip) = (0x8, "emergency stop");
        self.be(EngineState::Tripped);
    }

    /// The grid is gone: an engine that runs on it trips.
    pub(crate) fn lose_grid(&mut self) {
        if matches!(self.state, EngineState::Running | EngineState::Stopping) {
            (self.trips, self.last_trip) = (0x1, "overspeed, since the grid was lost");
            self.be(EngineState::Tripped);
        }
    }

    /// Somebody wants another power, in kW; less than the engine can go down to, or more than it has, is refused.
    pub fn set_power(&mut self, power: f64) -> bool {
        let may = (IDLE_POWER..=RATED_POWER).contains(&power);
        if may {
            self.power_set_point = power;
        }
        may
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(engine: &mut Engine, seconds: u32) {
        (0..seconds * 10).for_each(|_| engine.step(0.1));
    }

    #[test]
    fn it_starts_runs_stops_and_trips_as_engines_do() {
        let mut engine = Engine::new(1);
        run(&mut engine, 600);
        assert!(
            (490.0..510.0).contains(&engine.active_power) && (1490.0..1510.0).contains(&engine.speed),
            "{engine:?}"
        );
        assert!((420.0..500.0).contains(&engine.exhaust_temperature()), "{engine:?}");
        assert!(!engine.start() && !engine.set_power(900.0) && engine.set_power(300.0) && engine.stop());
        run(&mut engine, 60);
        assert_eq!(engine.state, EngineState::Off);
        assert!(engine.start());
        run(&mut engine, 90);
        assert_eq!((engine.state, engine.starts), (EngineState::Running, 1328));
        assert!((295.0..305.0).contains(&engine.active_power), "{engine:?}");
        engine.trip();
        run(&mut engine, 60);
        assert!(!engine.start() && engine.reset() && engine.start(), "a trip waits for somebody");
        assert!(engine.speed < 5.0 && engine.trips == 0 && engine.last_trip == "emergency stop");
    }
}

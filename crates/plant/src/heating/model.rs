use fastrand::Rng;

/// The heat network and the boiler house that feeds it, moved by [`Heating::step`].
#[derive(Debug, Clone)]
pub(crate) struct Heating {
    rng: Rng,
    /// °C that go out, and come back.
    pub(crate) flow: f64,
    pub(crate) back: f64,
    /// °C outside.
    pub(crate) outside: f64,
    /// % that the mixing valve is open.
    pub(crate) valve: f64,
    /// kW that go out.
    pub(crate) power: f64,
    /// kPa that the pumps make.
    pub(crate) pressure: f64,
    /// kWh since the meter was built in.
    pub(crate) energy: f64,
    /// °C of the boiler.
    pub(crate) boiler: f64,
    pub(crate) burns: bool,
    /// Hours that the burner ran.
    pub(crate) hours: f64,
    /// mbar of gas before the burner.
    pub(crate) gas: f64,
    seconds: f64,
}

/// What the controllers want of it.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Wanted {
    /// °C
    pub(crate) flow: f64,
    /// °C
    pub(crate) boiler: f64,
    pub(crate) pumps: [bool; 2],
    pub(crate) burner: bool,
    /// What the mixing valve is set to by hand, in %.
    pub(crate) valve: Option<f64>,
}

/// °C around its set point between which the burner is on and off.
const HYSTERESIS: f64 = 3.0;

impl Heating {
    pub(crate) fn new(seed: u64) -> Self {
        Self {
            rng: Rng::with_seed(seed ^ 0x4EA7),
            flow: 72.0,
            back: 51.0,
            outside: 4.0,
            valve: 55.0,
            power: 240.0,
            pressure: 46.0,
            energy: 1_204_330.0,
            boiler: 82.0,
            burns: true,
            hours: 8_412.0,
            gas: 22.0,
            seconds: 0.0,
        }
    }

    fn noise(&mut self, by: f64) -> f64 {
        (self.rng.f64() - 0.5) * by
    }

    pub(crate) fn step(&mut self, dt: f64, wanted: &Wanted) {
        // What lags behind another value comes nearer to it, the nearer the longer it takes.
        let lag = |now: f64, goal: f64, seconds: f64| now + (goal - now) * (dt / seconds).min(1.0);
        self.seconds += dt;
        self.outside = 4.0 + 3.0 * (self.seconds / 600.0).sin();
        let running = wanted.pumps.iter().filter(|is_on| **is_on).count();
        let circulation = match running {
            0 => 0.0,
            1 => 1.0,
            _ => 1.4,
        };
        self.pressure = lag(self.pressure, 46.0 * circulation, 3.0) + self.noise(0.05);
        let own_valve = self.valve + (wanted.flow - self.flow) * 0.8 * dt;
        self.valve = wanted.valve.map_or(own_valve, |set| lag(self.valve, set, 4.0)).clamp(0.0, 100.0);
        let mixed = self.back + (self.boiler - self.back) * self.valve / 60.0;
        let reached = if circulation > 0.0 { mixed.min(self.boiler - 1.0) } else { self.outside + 14.0 };
        self.flow = lag(self.flow, reached, if circulation > 0.0 { 6.0 } else { 240.0 }) + self.noise(0.02);
        let demand = (20.0 - self.outside).max(0.0) / 16.0;
        self.back = lag(self.back, self.flow - 21.0 * demand / circulation.max(0.3), 40.0);
        self.power = (self.flow - self.back).max(0.0) * 11.6 * circulation;
        self.energy += self.power * dt / 3600.0;
        if self.boiler > wanted.boiler + HYSTERESIS || !wanted.burner {
            self.burns = false;
        } else if self.boiler < wanted.boiler - HYSTERESIS {
            self.burns = true;
        }
        let fire = if self.burns { 520.0 } else { 0.0 };
        self.boiler = (self.boiler + (fire - self.power) / 900.0 * dt).clamp(15.0, 98.0);
        self.gas = lag(self.gas, if self.burns { 21.0 } else { 23.5 }, 2.0) + self.noise(0.03);
        self.hours += if self.burns { dt / 3600.0 } else { 0.0 };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_flow_follows_its_set_point_and_the_boiler_keeps_up() {
        let mut heating = Heating::new(1);
        let wanted = Wanted { flow: 72.0, boiler: 82.0, pumps: [true, false], burner: true, valve: None };
        let run = |heating: &mut Heating, wanted: &Wanted, seconds: u32| {
            (0..seconds * 10).for_each(|_| heating.step(0.1, wanted));
        };
        run(&mut heating, &wanted, 300);
        assert!((heating.flow - 72.0).abs() < 3.0, "{}", heating.flow);
        run(&mut heating, &Wanted { flow: 60.0, ..wanted }, 120);
        assert!((heating.flow - 60.0).abs() < 3.0, "{}", heating.flow);
        assert!((75.0..90.0).contains(&heating.boiler), "{}", heating.boiler);
        run(&mut heating, &Wanted { burner: false, ..wanted }, 900);
        assert!(heating.boiler < 72.0 && !heating.burns, "{}", heating.boiler);
    }
}

use fastrand::Rng;

/// The state of the works, moved by [`Works::step`].
///
/// Sources of the numbers: common textbook ranges of mesophilic biogas plants, rounded.
#[derive(Debug, Clone)]
pub struct Works {
    rng: Rng,
    /// Seconds since the model started.
    pub seconds: f64,
    /// The two digesters.
    pub digesters: [Digester; 2],
    /// The gas analyser behind both.
    pub analyser: Analyser,
    /// Heat meters: of the heat network, and of the heating of the digesters.
    pub heat: [HeatMeter; 2],
    /// The gas meter behind the holder.
    pub gas_meter: GasMeter,
    /// How much louder than usual the analyser's sensors are; 1 is usual.
    pub noise: f64,
}

/// A heat meter in a water circuit.
#[derive(Debug, Clone)]
pub struct HeatMeter {
    /// °C
    pub flow_temperature: f64,
    /// °C
    pub return_temperature: f64,
    /// m³/h
    pub flow: f64,
    /// kW
    pub power: f64,
    /// kWh since commissioning
    pub energy: f64,
    usual: (f64, f64, f64),
}

/// The gas meter.
#[derive(Debug, Clone)]
pub struct GasMeter {
    /// m³/h
    pub flow: f64,
    /// m³ since commissioning
    pub volume: f64,
    /// mbar above ambient
    pub pressure: f64,
    /// °C
    pub temperature: f64,
}

/// One digester: a heated, stirred tank that turns feed into gas.
#[derive(Debug, Clone)]
pub struct Digester {
    /// °C
    pub temperature: f64,
    /// °C
    pub temperature_set_point: f64,
    /// pH
    pub ph: f64,
    /// Percent of the tank.
    pub level: f64,
    /// m³/h
    pub gas_flow: f64,
    /// mbar above ambient
    pub gas_pressure: f64,
    /// kg/h
    pub feed_rate: f64,
    /// kg since commissioning
    pub feed_total: f64,
    /// h
    pub mixer_hours: f64,
    /// rpm
    pub mixer_speed: f64,
    /// Whether the mixer runs.
    pub is_mixing: bool,
    /// What somebody wants of the mixer, and for how many seconds its own cycle still stands back.
    hand: Option<(bool, f64)>,
    /// Dry matter that has settled because nothing stirred it, 0 to 1.
    settled: f64,
    phase: f64,
}

/// The gas analyser.
#[derive(Debug, Clone)]
pub struct Analyser {
    /// % by volume
    pub ch4: f64,
    /// % by volume
    pub co2: f64,
    /// ppm
    pub h2s: f64,
    /// % by volume
    pub o2: f64,
    /// °C
    pub cooler_temperature: f64,
    /// l/h
    pub sample_flow: f64,
    /// 0 digester 1, 1 digester 2, 2 gas holder
    pub sample_point: u16,
    /// h
    pub operating_hours: f64,
    /// Whether it is being purged with air.
    pub is_purging: bool,
    /// For how many seconds it still is.
    purge_left: f64,
}

/// The mixers run 15 minutes, then rest 15: short enough to be seen in a demo when scaled by [`PACE`].
const MIXING_CYCLE: f64 = 1800.0;
/// How much faster than life the slow parts of the works run, so that five minutes show something.
const PACE: f64 = 20.0;

impl Works {
    /// The works in normal operation. The same seed gives the same future.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        let digester = |temperature, feed_total, phase| Digester {
            temperature,
            temperature_set_point: 41.0,
            ph: 7.52,
            level: 78.0,
            gas_flow: 210.0,
            gas_pressure: 3.2,
            feed_rate: 1450.0,
            feed_total,
            mixer_hours: 18_204.0,
            mixer_speed: 0.0,
            is_mixing: true,
            hand: None,
            settled: 0.1,
            phase,
        };
        Self {
            rng: Rng::with_seed(seed),
            seconds: 0.0,
            digesters: [digester(40.6, 71_402_300.0, 0.0), digester(41.3, 68_915_750.0, 0.45)],
            analyser: Analyser {
                ch4: 54.3,
                co2: 43.1,
                h2s: 85.0,
                o2: 0.22,
                cooler_temperature: 4.8,
                sample_flow: 62.0,
                sample_point: 0,
                operating_hours: 9120.0,
                is_purging: false,
                purge_left: 0.0,
            },
            heat: [HeatMeter::new((84.0, 62.0, 38.0), 4_812_300.0), HeatMeter::new((70.0, 55.0, 12.5), 1_204_550.0)],
            gas_meter: GasMeter { flow: 405.0, volume: 7_318_204.0, pressure: 21.0, temperature: 18.0 },
            noise: 1.0,
        }
    }

    /// Moves the works on by `dt` seconds.
    pub fn step(&mut self, dt: f64) {
        self.seconds += dt;
        let seconds = self.seconds;
        for digester in &mut self.digesters {
            digester.step(seconds, dt, &mut self.rng);
        }
        let gas = self.digesters.iter().map(|digester| digester.gas_flow).sum::<f64>() / 420.0;
        self.analyser.step(seconds, dt, gas, self.noise, &mut self.rng);
        for meter in &mut self.heat {
            meter.step(seconds, dt, &mut self.rng);
        }
        let meter = &mut self.gas_meter;
        approach(&mut meter.flow, gas * 405.0, 30.0, dt);
        meter.volume += meter.flow * dt * PACE / 3600.0;
        meter.pressure += (21.0 - meter.pressure) * dt / 20.0 + 0.1 * noise(&mut self.rng);
        meter.temperature += (18.0 - meter.temperature) * dt / 200.0 + 0.02 * noise(&mut self.rng);
    }
}

impl HeatMeter {
    fn new(usual: (f64, f64, f64), energy: f64) -> Self {
        let (flow_temperature, return_temperature, flow) = usual;
        Self { flow_temperature, return_temperature, flow, power: 0.0, energy, usual }
    }

    fn step(&mut self, seconds: f64, dt: f64, rng: &mut Rng) {
        let (flow_temperature, return_temperature, flow) = self.usual;
        // The buildings behind take more and less over the day.
        let demand = 1.0 + 0.15 * (seconds * PACE / 43_200.0 * std::f64::consts::TAU).sin();
        approach(&mut self.flow_temperature, flow_temperature, 60.0, dt);
        approach(&mut self.return_temperature, return_temperature - 4.0 * (demand - 1.0), 60.0, dt);
        approach(&mut self.flow, flow * demand, 30.0, dt);
        self.flow_temperature += 0.03 * noise(rng);
        self.return_temperature += 0.03 * noise(rng);
        // 1.163 kWh warm a cubic metre of water by one kelvin.
        self.power = 1.163 * self.flow * (self.flow_temperature - self.return_temperature);
        self.energy += self.power * dt * PACE / 3600.0;
    }
}

impl Digester {
    /// Somebody switches the mixer: its own cycle stands back for five minutes.
    pub(crate) fn switch_mixer(&mut self, is_on: bool) {
        (self.is_mixing, self.hand) = (is_on, Some((is_on, 300.0)));
    }
}

impl Analyser {
    /// Somebody starts purging, which ends by itself after two minutes, or ends it.
    pub(crate) fn purge(&mut self, is_on: bool) {
        (self.is_purging, self.purge_left) = (is_on, if is_on { 120.0 } else { 0.0 });
    }
}

/// Moves `value` towards `target` with a time constant in seconds.
fn approach(value: &mut f64, target: f64, constant: f64, dt: f64) {
    *value += (target - *value) * (dt / constant).min(1.0);
}

/// A number between -1 and 1, denser in the middle.
fn noise(rng: &mut Rng) -> f64 {
    rng.f64() + rng.f64() - 1.0
}

impl Digester {
    fn step(&mut self, seconds: f64, dt: f64, rng: &mut Rng) {
        let slow = dt * PACE;
        let cycle = (seconds * PACE / MIXING_CYCLE + self.phase).fract();
        self.hand = self.hand.map(|(is_on, left)| (is_on, left - dt)).filter(|(_, left)| *left > 0.0);
        self.is_mixing = self.hand.map_or(cycle < 0.5, |(is_on, _)| is_on);
        approach(&mut self.mixer_speed, if self.is_mixing { 38.0 } else { 0.0 }, 3.0, dt);
        approach(&mut self.settled, if self.is_mixing { 0.0 } else { 1.0 }, 1500.0, slow);
        let hours = slow / 3600.0;
        if self.is_mixing {
            self.mixer_hours += hours;
        }
        // Feeding is a batch every hour and a half; cold feed cools the tank.
        let feeding = (seconds * PACE / 5400.0 + self.phase).fract() < 0.2;
        approach(&mut self.feed_rate, if feeding { 6200.0 } else { 0.0 }, 8.0, dt);
        self.feed_total += self.feed_rate * hours;
        self.level += (self.feed_rate - 1240.0) * hours / 9000.0 + (78.0 - self.level) * slow / 20_000.0;
        let heating = (self.temperature_set_point - self.temperature) * 1.2;
        self.temperature += (heating - self.feed_rate / 7000.0) * hours + 0.004 * noise(rng);
        let target_ph = 7.55 - self.feed_rate / 60_000.0;
        approach(&mut self.ph, target_ph, 4000.0, slow);
        // What has settled gives its gas when it is stirred up.
        let warm = 1.0 + (self.temperature - 41.0) * 0.04;
        let stirred = if self.is_mixing { 1.0 + 0.5 * self.settled } else { 0.86 };
        approach(&mut self.gas_flow, 212.0 * warm * stirred, 240.0, slow);
        self.gas_flow += 0.35 * noise(rng);
        approach(&mut self.gas_pressure, self.gas_flow / 64.0, 60.0, slow);
    }
}

impl Analyser {
    fn step(&mut self, seconds: f64, dt: f64, gas: f64, loudness: f64, rng: &mut Rng) {
        let slow = dt * PACE;
        self.operating_hours += slow / 3600.0;
        self.purge_left = (self.purge_left - dt).max(0.0);
        self.is_purging = self.purge_left > 0.0;
        let third = (seconds / 120.0).fract();
        self.sample_point = [1.0 / 3.0, 2.0 / 3.0].iter().map(|end| u16::from(third >= *end)).sum();
        let ch4 = 54.6 - 3.0 * (gas - 1.0);
        approach(&mut self.ch4, if self.is_purging { 0.0 } else { ch4 }, 300.0, slow);
        self.ch4 = (self.ch4 + 0.01 * loudness * noise(rng)).clamp(0.0, 100.0);
        approach(&mut self.o2, if self.is_purging { 20.9 } else { 0.2 }, 400.0, slow);
        self.o2 = (self.o2 + 0.002 * loudness * noise(rng)).clamp(0.0, 25.0);
        self.co2 = (97.6 - self.ch4 - self.o2).clamp(0.0, 100.0);
        self.h2s = (self.h2s + (86.0 * gas - self.h2s) * slow / 900.0 + 0.6 * loudness * noise(rng)).clamp(0.0, 5000.0);
        self.cooler_temperature += (4.9 - self.cooler_temperature) * slow / 500.0 + 0.03 * noise(rng);
        self.sample_flow += (62.0 - self.sample_flow) * dt / 20.0 + 0.15 * noise(rng);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_day_and_all_stays_physical() {
        let (mut one, mut two, mut other) = (Works::new(7), Works::new(7), Works::new(8));
        for _ in 0..200_000 {
            for works in [&mut one, &mut two, &mut other] {
                works.step(0.2);
            }
            for digester in &one.digesters {
                assert!((36.0..46.0).contains(&digester.temperature), "{digester:?}");
                assert!((0.0..100.0).contains(&digester.level), "{digester:?}");
                assert!((6.5..8.2).contains(&digester.ph), "{digester:?}");
                assert!((100.0..400.0).contains(&digester.gas_flow), "{digester:?}");
            }
            assert!((48.0..60.0).contains(&one.analyser.ch4), "{:?}", one.analyser);
            assert!(one.analyser.ch4 + one.analyser.co2 + one.analyser.o2 < 100.0);
        }
        assert_eq!(format!("{one:?}"), format!("{two:?}"));
        assert_ne!(one.analyser.ch4, other.analyser.ch4);
    }
}

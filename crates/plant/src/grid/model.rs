use fastrand::Rng;

/// The grid connection with its breaker, moved by [`Grid::step`].
#[derive(Debug, Clone)]
pub(crate) struct Grid {
    rng: Rng,
    pub(crate) breaker: Breaker,
    /// Seconds until the breaker is where it goes.
    moving: f64,
    /// V between conductors, on the 400 V side.
    pub(crate) voltages: [f64; 3],
    /// kW that go out; below zero, what comes in.
    pub(crate) export: f64,
    /// Hz
    pub(crate) frequency: f64,
    /// The step of the transformer's tap changer.
    pub(crate) tap: i16,
    /// kWh
    pub(crate) exported: f64,
    /// kWh
    pub(crate) imported: f64,
    /// Somebody at the panel operates it: commands from afar are refused.
    pub(crate) is_local: bool,
    /// The protection opened the breaker.
    pub(crate) is_tripped: bool,
}

/// Where the breaker is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Breaker {
    Open,
    Closed,
    Opening,
    Closing,
}

/// Seconds that the breaker takes.
const TRAVEL: f64 = 0.3;
/// kW that the works use themselves.
const OWN_USE: f64 = 62.0;

impl Grid {
    pub(crate) fn new(seed: u64) -> Self {
        Self {
            rng: Rng::with_seed(seed ^ 0x6121D),
            breaker: Breaker::Closed,
            moving: 0.0,
            voltages: [402.0, 401.0, 403.0],
            export: 436.0,
            frequency: 50.0,
            tap: 4,
            exported: 15_210_480.0,
            imported: 83_120.0,
            is_local: false,
            is_tripped: false,
        }
    }

    /// Moves it on by `dt` seconds, while the engine gives so many kW.
    pub(crate) fn step(&mut self, dt: f64, generated: f64) {
        self.moving -= dt;
        if self.moving <= 0.0 {
            self.breaker = match self.breaker {
                Breaker::Opening => Breaker::Open,
                Breaker::Closing => Breaker::Closed,
                still => still,
            };
        }
        self.export = if self.is_connected() { generated - OWN_USE } else { 0.0 };
        self.frequency += (50.0 - self.frequency) * (dt / 10.0).min(1.0) + 0.004 * (self.rng.f64() - 0.5);
        for (place, voltage) in (0_i32..).zip(&mut self.voltages) {
            let usual = 390.0 + 2.5 * f64::from(self.tap) + self.export / 250.0 + f64::from(place);
            *voltage += (usual - *voltage) * (dt / 5.0).min(1.0) + 0.3 * (self.rng.f64() - 0.5);
        }
        let energy = self.export.abs() * dt / 3600.0;
        if self.export >= 0.0 {
            self.exported += energy;
        } else {
            self.imported += energy;
        }
    }

    /// Whether power can flow.
    pub(crate) fn is_connected(&self) -> bool {
        matches!(self.breaker, Breaker::Closed | Breaker::Opening)
    }

    /// Opens the breaker; false where it is open already.
    pub(crate) fn open(&mut self) -> bool {
        let may = self.breaker == Breaker::Closed;
        if may {
            (self.breaker, self.moving) = (Breaker::Opening, TRAVEL);
        }
        may
    }

    /// Closes the breaker; false where it is closed already.
    pub(crate) fn close(&mut self) -> bool {
        let may = self.breaker == Breaker::Open;
        if may {
            (self.breaker, self.moving, self.is_tripped) = (Breaker::Closing, TRAVEL, false);
        }
        may
    }

    /// Sets the tap changer; false where there is no such step.
    pub(crate) fn set_tap(&mut self, tap: i32) -> bool {
        match i16::try_from(tap).ok().filter(|tap| (1..=9).contains(tap)) {
            Some(tap) => {
                self.tap = tap;
                true
            }
            None => false,
        }
    }

    /// The protection opens the breaker.
    pub(crate) fn trip(&mut self) {
        self.is_tripped |= self.open();
    }
}

//! Both ends, the way between them, and time.

use interlex_dnp3::{
    CommandAnswer, CommandStatus, EventClass, Flags, FunctionCode, Indications, LinkAddress, Master, MasterConfig,
    MasterEvent, MeasuredValue, Measurement, Now, Number, Object, Outstation, OutstationConfig, Point, PointKind,
    PointUpdate, Process, Request, ResponseHeader,
};
use std::collections::VecDeque;
use std::time::{Duration, Instant};

const MASTER: LinkAddress = LinkAddress(1);
const BEGIN: u64 = 1_795_000_000_000;

/// What becomes of what is on its way.
pub(crate) struct Fate {
    state: u64,
    pub(crate) loss: f64,
    pub(crate) lose_answers: bool,
    pub(crate) doubles: bool,
    pub(crate) delay: Duration,
}

impl Fate {
    pub(crate) fn new(seed: u64, loss: f64) -> Self {
        let state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
        Self { state, loss, lose_answers: false, doubles: false, delay: Duration::from_millis(1) }
    }

    fn is_lost(&mut self) -> bool {
        self.state = self.state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.state >> 33) as f64) / f64::from(1_u32 << 31) < self.loss
    }
}

#[derive(Default)]
pub(crate) struct Plant {
    pub(crate) operated: Vec<u32>,
    pub(crate) is_local: bool,
    /// The time that it was told, and when that was.
    pub(crate) time: Option<u64>,
    pub(crate) set_at: Option<u64>,
    now: u64,
}

impl Process for Plant {
    fn select(&mut self, _: PointKind, index: u32, _: &Object) -> CommandStatus {
        match index {
            _ if self.is_local => CommandStatus::LOCAL,
            0..=6 => CommandStatus::SUCCESS,
            _ => CommandStatus::NOT_SUPPORTED,
        }
    }

    fn operate(&mut self, kind: PointKind, index: u32, command: &Object) -> CommandStatus {
        let status = self.select(kind, index, command);
        if status == CommandStatus::SUCCESS {
            self.operated.push(index);
        }
        status
    }

    fn set_time(&mut self, wall: u64) {
        (self.time, self.set_at) = (Some(wall), Some(self.now));
    }

    fn restart(&mut self, _: bool) -> Option<u16> {
        Some(1500)
    }
}

pub(crate) struct Rig {
    pub(crate) master: Master,
    pub(crate) outstation: Outstation,
    pub(crate) process: Plant,
    pub(crate) fate: Fate,
    pub(crate) told: Vec<Measurement>,
    pub(crate) happened: Vec<MasterEvent>,
    pub(crate) answers: Vec<CommandAnswer>,
    /// Whether what was told is made safe.
    pub(crate) settles: bool,
    looked: u8,
    asked: Vec<FunctionCode>,
    said: Indications,
    begun: Instant,
    passed: Duration,
    /// When it arrives, whether it is for the master, and what.
    way: VecDeque<(Duration, bool, Vec<u8>)>,
}

impl Rig {
    pub(crate) fn new(master: MasterConfig, outstation: OutstationConfig) -> Self {
        let mut outstation = Outstation::new(outstation, [MASTER]);
        for index in 0..4 {
            outstation.put(PointKind::Binary, index, Point::new(false.into(), None));
        }
        outstation.put(PointKind::Binary, 0, Point::new(false.into(), Some(EventClass::First)));
        outstation.put(PointKind::Analog, 0, Point::new(Number::Int32(0).into(), Some(EventClass::Second)));
        outstation.put(PointKind::Counter, 0, Point::new(Number::Uint32(0).into(), Some(EventClass::Third)));
        let mut master = Master::new(master);
        master.connected();
        #[expect(clippy::disallowed_methods, reason = "where time begins; it goes on by itself")]
        let begun = Instant::now();
        Self {
            master,
            outstation,
            process: Plant::default(),
            fate: Fate::new(0, 0.0),
            told: Vec::new(),
            happened: Vec::new(),
            answers: Vec::new(),
            settles: true,
            looked: 0,
            asked: Vec::new(),
            said: Indications::NONE,
            begun,
            passed: Duration::ZERO,
            way: VecDeque::new(),
        }
    }

    fn now(&self) -> Now {
        Now { instant: self.begun + self.passed, wall: self.wall() }
    }

    pub(crate) fn wall(&self) -> u64 {
        BEGIN + u64::try_from(self.passed.as_millis()).unwrap()
    }

    /// What the master asked for so far, confirms aside.
    pub(crate) fn asked(&self) -> &[FunctionCode] {
        &self.asked
    }

    /// What the outstation said of itself last, events aside.
    pub(crate) fn outstation_said(&self) -> Indications {
        self.said.since(Indications::EVENTS)
    }

    fn is_count(told: &Measurement) -> Option<u32> {
        match told.value {
            MeasuredValue::Number(Number::Uint32(count)) if told.kind == PointKind::Counter => Some(count),
            _ => None,
        }
    }

    pub(crate) fn counts(&self) -> Vec<u32> {
        self.told.iter().filter(|told| told.is_event).filter_map(Self::is_count).collect()
    }

    /// The count that was told last.
    pub(crate) fn state(&self) -> u32 {
        self.told.iter().filter_map(Self::is_count).next_back().unwrap()
    }

    pub(crate) fn states(&self) -> Vec<&Measurement> {
        self.told.iter().filter(|told| !told.is_event).collect()
    }

    pub(crate) fn events(&self) -> usize {
        self.told.iter().filter(|told| told.is_event).count()
    }

    /// How many classes have events that were not confirmed.
    pub(crate) fn waiting(&mut self) -> u32 {
        // The same again would be answered as it was.
        self.looked = (self.looked + 1) % 16;
        let request = Request::new(self.looked, FunctionCode::DELAY_MEASURE, Vec::new()).encode().unwrap();
        let now = self.now();
        self.outstation.handle_fragment(now, MASTER, false, &request, &mut self.process);
        let (_, answer) = self.outstation.poll_transmit(now).unwrap();
        let (header, _) = ResponseHeader::decode(&answer).unwrap();
        (header.indications.0 & Indications::EVENTS.0).count_ones()
    }

    fn update(&mut self, kind: PointKind, index: u32, value: MeasuredValue) {
        let time = self.wall();
        self.outstation.update(kind, index, PointUpdate { value, flags: Flags::ONLINE, time });
    }

    pub(crate) fn change(&mut self, state: bool) {
        self.update(PointKind::Binary, 0, state.into());
    }

    pub(crate) fn analog(&mut self, index: u32, value: i32) {
        self.update(PointKind::Analog, index, Number::Int32(value).into());
    }

    pub(crate) fn count(&mut self, count: u32) {
        self.update(PointKind::Counter, 0, Number::Uint32(count).into());
    }

    /// Takes what the master tells.
    pub(crate) fn take_events(&mut self) {
        while let Some(event) = self.master.poll_event() {
            match event {
                MasterEvent::Told(told) => {
                    self.told.extend(told.measurements);
                    if let Some(id) = told.id.filter(|_| self.settles) {
                        let now = self.now();
                        self.master.settled(now, id);
                    }
                }
                MasterEvent::Answered(_, answer) => self.answers.push(answer),
                MasterEvent::Heard { .. } => {}
                other => self.happened.push(other),
            }
        }
    }

    fn put_on_the_way(&mut self, for_master: bool, octets: Vec<u8>) {
        if self.fate.is_lost() || (for_master && self.fate.lose_answers) {
            return;
        }
        let at = self.passed + self.fate.delay;
        if self.fate.doubles {
            self.way.push_back((at, for_master, octets.clone()));
        }
        self.way.push_back((at, for_master, octets));
    }

    /// What the master has to send now is on its way.
    pub(crate) fn send_once(&mut self) {
        let now = self.now();
        while let Some(octets) = self.master.poll_transmit(now) {
            let function = Request::decode(&octets).unwrap().function;
            if function != FunctionCode::CONFIRM {
                self.asked.push(function);
            }
            self.put_on_the_way(false, octets);
        }
    }

    /// Lets so much time pass.
    pub(crate) fn run(&mut self, span: Duration) {
        let end = self.passed + span;
        for _ in 0..100_000 {
            self.process.now = self.wall();
            let now = self.now();
            self.master.handle_timeout(now);
            self.outstation.handle_timeout(now, &mut self.process);
            self.take_events();
            self.send_once();
            while let Some((_, octets)) = self.outstation.poll_transmit(now) {
                self.said = ResponseHeader::decode(&octets).unwrap().0.indications;
                self.put_on_the_way(true, octets);
            }
            let is_there = |at: &Duration| *at <= self.passed;
            if let Some((_, for_master, octets)) = self.way.pop_front_if(|(at, ..)| is_there(at)) {
                if for_master {
                    self.master.handle_fragment(now, &octets);
                } else {
                    self.outstation.handle_fragment(now, MASTER, false, &octets, &mut self.process);
                }
                continue;
            }
            let due = [self.master.poll_timeout(), self.outstation.poll_timeout()].into_iter().flatten();
            let due = due.map(|at| at.saturating_duration_since(self.begun));
            let next = due.chain(self.way.front().map(|(at, ..)| *at)).min();
            match next.filter(|at| *at <= end) {
                Some(at) => self.passed = at.max(self.passed),
                None => {
                    self.passed = end;
                    return;
                }
            }
        }
        panic!("they do not come to an end");
    }
}

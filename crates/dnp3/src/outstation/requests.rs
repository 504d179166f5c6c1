use super::config::{EventClass, Process};
use super::machine::Outstation;
use super::point::{PointUpdate, kind_of_group};
use super::reading::{Piece, Reading};
use crate::application::{Block, Control, FunctionCode, Indications, Request, Selection};
use crate::link::LinkAddress;
use crate::master::{Classes, Now};
use crate::measurement::MeasuredValue;
use crate::object::{CommandStatus, Number, Object, PointKind, Variation};

/// What is told, and what is wrong with what was asked for.
type Answer = (Vec<Piece>, Indications);

fn only(block: Block) -> Answer {
    (vec![Piece { block, events: Vec::new() }], Indications::NONE)
}

const NOTHING: Answer = (Vec::new(), Indications::NONE);

fn wrong(indications: Indications) -> Answer {
    (Vec::new(), indications)
}

impl Outstation {
    /// What is answered to a request; none where nobody answers.
    pub(super) fn answer(
        &mut self,
        now: Now,
        (master, is_broadcast): (LinkAddress, bool),
        request: &Request,
        octets: &[u8],
        process: &mut impl Process,
    ) -> Option<Answer> {
        if let Some(objection) = request.objection() {
            return Some(wrong(objection));
        }
        let sequence = request.control.sequence;
        let objects = octets.get(2..).unwrap_or_default();
        if !is_broadcast && !matches!(request.function, FunctionCode::SELECT | FunctionCode::OPERATE) {
            // Nothing may come between a select and its operate.
            self.sessions.get_mut(&master)?.selected = None;
        }
        Some(match request.function {
            FunctionCode::READ => {
                let session = self.sessions.get(&master)?;
                let mut reading = Reading::new(&self.points, &self.attributes, &session.buffer);
                request.blocks.iter().for_each(|block| reading.ask(block, now.wall));
                (reading.pieces, reading.indications)
            }
            FunctionCode::WRITE => self.write(now, master, &request.blocks, process),
            FunctionCode::SELECT => {
                let (blocks, is_good) =
                    controls(&request.blocks, |kind, index, command| process.select(kind, index, command));
                let until = now.instant + self.config.select_timeout;
                self.sessions.get_mut(&master)?.selected = is_good.then(|| (sequence, objects.to_vec(), until));
                blocks
            }
            FunctionCode::OPERATE => {
                let selected = self.sessions.get_mut(&master)?.selected.take();
                let status = match selected {
                    Some((number, known, until)) if Control::next(number) == sequence && known == objects => {
                        if now.instant > until { CommandStatus::TIMEOUT } else { CommandStatus::SUCCESS }
                    }
                    _ => CommandStatus::NO_SELECT,
                };
                let mut operate = |kind, index, command: &Object| match status {
                    CommandStatus::SUCCESS => process.operate(kind, index, command),
                    refused => refused,
                };
                controls(&request.blocks, &mut operate).0
            }
            FunctionCode::DIRECT_OPERATE | FunctionCode::DIRECT_OPERATE_NO_ACK => {
                let answer = controls(&request.blocks, |kind, index, command| process.operate(kind, index, command)).0;
                if request.function == FunctionCode::DIRECT_OPERATE_NO_ACK {
                    return None;
                }
                answer
            }
            FunctionCode::IMMEDIATE_FREEZE | FunctionCode::FREEZE_CLEAR => {
                self.freeze(now, &request.blocks, request.function == FunctionCode::FREEZE_CLEAR)
            }
            FunctionCode::IMMEDIATE_FREEZE_NO_ACK | FunctionCode::FREEZE_CLEAR_NO_ACK => {
                self.freeze(now, &request.blocks, request.function == FunctionCode::FREEZE_CLEAR_NO_ACK);
                return None;
            }
            FunctionCode::ASSIGN_CLASS => self.assign(&request.blocks),
            FunctionCode::ENABLE_UNSOLICITED => self.enable(master, &request.blocks, true)?,
            FunctionCode::DISABLE_UNSOLICITED => self.enable(master, &request.blocks, false)?,
            FunctionCode::DELAY_MEASURE => only(Block::plain(Variation::new(52, 2), [Object::Delay(0)])),
            FunctionCode::RECORD_CURRENT_TIME => {
                self.sessions.get_mut(&master)?.recorded = Some(now.instant);
                NOTHING
            }
            FunctionCode::COLD_RESTART | FunctionCode::WARM_RESTART => {
                match process.restart(request.function == FunctionCode::COLD_RESTART) {
                    Some(delay) => only(Block::plain(Variation::new(52, 2), [Object::Delay(delay.into())])),
                    None => wrong(Indications::NO_FUNCTION_CODE_SUPPORT),
                }
            }
            _ => wrong(Indications::NO_FUNCTION_CODE_SUPPORT),
        })
    }

    fn write(&mut self, now: Now, master: LinkAddress, blocks: &[Block], process: &mut impl Process) -> Answer {
        let mut indications = Indications::NONE;
        for block in blocks {
            for entry in &block.entries {
                let is_taken = match (block.variation, &entry.object, entry.index) {
                    (Variation { group: 80, .. }, Object::Bit(false), Some(7)) => {
                        self.own = self.own.since(Indications::DEVICE_RESTART);
                        true
                    }
                    (Variation { group: 50, variation: 1 }, Object::Time(time), _) => {
                        self.timed(*time, process);
                        true
                    }
                    (Variation { group: 50, variation: 3 }, Object::Time(time), _) => {
                        let recorded = self.sessions.get_mut(&master).and_then(|session| session.recorded.take());
                        let since = recorded.map(|then| now.instant.saturating_duration_since(then).as_millis());
                        since.and_then(|since| u64::try_from(since).ok()).is_some_and(|since| {
                            self.timed(time.saturating_add(since), process);
                            true
                        })
                    }
                    (Variation { group: 34, .. }, Object::Deadband(deadband), Some(index)) => {
                        let point = self.points.get_mut(&(PointKind::Analog, index));
                        point.map(|point| point.deadband = deadband.as_f64()).is_some()
                    }
                    _ => false,
                };
                if !is_taken {
                    indications = indications.with(Indications::PARAMETER_ERROR);
                }
            }
        }
        (Vec::new(), indications)
    }

    fn timed(&mut self, wall: u64, process: &mut impl Process) {
        self.own = self.own.since(Indications::NEED_TIME);
        process.set_time(wall);
    }

    /// Counters are kept as they are now.
    fn freeze(&mut self, now: Now, blocks: &[Block], clears: bool) -> Answer {
        let is_meant = |index: u32| {
            blocks.iter().any(|block| match block.selection {
                Selection::Range { start, stop } => (start..=stop).contains(&index),
                _ => true,
            })
        };
        if blocks.iter().any(|block| block.variation.group != 20) {
            return wrong(Indications::OBJECT_UNKNOWN);
        }
        let counters = self.points.range((PointKind::Counter, 0)..=(PointKind::Counter, u32::MAX));
        let counters: Vec<_> = counters
            .filter(|((_, index), _)| is_meant(*index))
            .map(|((_, index), point)| (*index, point.value.clone(), point.flags))
            .collect();
        for (index, value, flags) in counters {
            if clears {
                let value = MeasuredValue::Number(Number::Uint32(0));
                self.update(PointKind::Counter, index, PointUpdate { value, flags, time: now.wall });
            }
            self.update(PointKind::FrozenCounter, index, PointUpdate { value, flags, time: now.wall });
        }
        NOTHING
    }

    fn assign(&mut self, blocks: &[Block]) -> Answer {
        let (mut class, mut indications) = (None, Indications::NONE);
        for block in blocks {
            match (block.variation.group, block.variation.variation, kind_of_group(block.variation.group)) {
                (60, 1, _) => class = None,
                (60, 2, _) => class = Some(EventClass::First),
                (60, 3, _) => class = Some(EventClass::Second),
                (60, 4, _) => class = Some(EventClass::Third),
                (_, _, Some((kind, false))) => {
                    let range = match block.selection {
                        Selection::Range { start, stop } => start..=stop,
                        _ => 0..=u32::MAX,
                    };
                    let points = self.points.range_mut((kind, *range.start())..=(kind, *range.end()));
                    points.for_each(|(_, point)| point.class = class);
                }
                _ => indications = indications.with(Indications::OBJECT_UNKNOWN),
            }
        }
        (Vec::new(), indications)
    }

    fn enable(&mut self, master: LinkAddress, blocks: &[Block], is_enabled: bool) -> Option<Answer> {
        if !self.config.is_unsolicited {
            return Some(wrong(Indications::NO_FUNCTION_CODE_SUPPORT));
        }
        let named = |variation| blocks.iter().any(|block| block.variation == Variation::new(60, variation));
        let meant = Classes { first: named(2), second: named(3), third: named(4) };
        let session = self.sessions.get_mut(&master)?;
        let keep = |is_known: bool, is_meant: bool| if is_meant { is_enabled } else { is_known };
        let known = session.enabled;
        session.enabled = Classes {
            first: keep(known.first, meant.first),
            second: keep(known.second, meant.second),
            third: keep(known.third, meant.third),
        };
        if !is_enabled {
            // What was told unasked and not confirmed is told when it is asked for.
            session.unsolicited.take_if(|_| session.is_greeted);
        }
        Some(NOTHING)
    }
}

/// Commands with what is said to each, and whether nothing is said against any.
fn controls(blocks: &[Block], mut act: impl FnMut(PointKind, u32, &Object) -> CommandStatus) -> (Answer, bool) {
    let (mut is_good, mut told) = (true, Vec::new());
    for block in blocks {
        let mut block = block.clone();
        for entry in &mut block.entries {
            let index = entry.index.unwrap_or_default();
            let said = match &mut entry.object {
                Object::Control(control) => {
                    let command = Object::Control(*control);
                    control.status = act(PointKind::BinaryOutput, index, &command);
                    control.status
                }
                Object::Setting { number, status } => {
                    let command = Object::Setting { number: *number, status: CommandStatus::SUCCESS };
                    *status = act(PointKind::AnalogOutput, index, &command);
                    *status
                }
                _ => CommandStatus::NOT_SUPPORTED,
            };
            is_good &= said == CommandStatus::SUCCESS;
        }
        told.push(Piece { block, events: Vec::new() });
    }
    ((told, Indications::NONE), is_good)
}

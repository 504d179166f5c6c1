//! A master and an outstation that speak with each other, over a way that loses what it likes.
#![allow(clippy::unwrap_used, clippy::panic, clippy::indexing_slicing, reason = "tests")]

mod rig;
mod scripted;

use interlex_dnp3::{
    Assignments, Block, Classes, Command, CommandAnswer, CommandId, CommandStatus, ControlRelayOutputBlock, DoubleBit,
    Doubt, Flags, FunctionCode, Indications, MasterConfig, MasterEvent, MeasuredValue, Number, Object, Operation,
    OutstationConfig, Point, PointKind, PointUpdate, Refusal, TimeSync, Variation,
};
use rig::{Fate, Rig};
use std::time::Duration;

fn seconds(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

fn latch(operation: Operation) -> Object {
    Object::Control(ControlRelayOutputBlock { operation, count: 1, on_time: 100, ..Default::default() })
}

fn close(index: u32) -> Block {
    Block::indexed(Variation::new(12, 1), [(index, latch(Operation::LatchOn))])
}

#[test]
fn it_begins_in_the_order_of_the_standard_and_then_tells_events_unasked() {
    let assignments = Assignments {
        classes: vec![Block::all(60, 2), Block::all(1, 0)],
        deadbands: vec![Block::indexed(Variation::new(34, 1), [(0, Object::Deadband(Number::Uint16(5)))])],
    };
    let mut rig = Rig::new(MasterConfig { assignments, ..MasterConfig::default() }, OutstationConfig::default());
    rig.run(seconds(1));
    let functions = [
        FunctionCode::DISABLE_UNSOLICITED,
        FunctionCode::RECORD_CURRENT_TIME,
        FunctionCode::WRITE,
        FunctionCode::WRITE,
        FunctionCode::ASSIGN_CLASS,
        FunctionCode::WRITE,
        FunctionCode::READ,
        FunctionCode::ENABLE_UNSOLICITED,
    ];
    assert_eq!(rig.asked(), functions);
    assert!(rig.master.is_started() && rig.outstation_said().0 == 0, "restart and need of time are taken back");
    let (set, at) = (rig.process.time.unwrap(), rig.process.set_at.unwrap());
    assert!(set.abs_diff(at) <= 1, "and it has the time");
    assert_eq!(rig.states().len(), 6, "{:?}", rig.told);
    rig.change(true);
    rig.run(seconds(1));
    rig.analog(0, 3);
    rig.run(seconds(1));
    rig.analog(0, 9);
    rig.run(seconds(1));
    assert_eq!(rig.asked(), functions, "nobody asked");
    let events: Vec<_> = rig.told.iter().filter(|told| told.is_event).map(|told| told.value.clone()).collect();
    let analog = MeasuredValue::Number(Number::Int32(9));
    assert_eq!(events, [MeasuredValue::State(true), analog], "3 is within the deadband");
    assert_eq!(rig.waiting(), 0, "all is confirmed");
}

#[test]
fn what_is_told_comes_once_whatever_is_lost_on_the_way() {
    for seed in 0..60 {
        let config = MasterConfig {
            response_timeout: seconds(1),
            retry_period: seconds(2),
            event_polls: vec![(Classes::ALL, seconds(3))],
            unsolicited: if seed % 3 == 0 { Classes::NONE } else { Classes::ALL },
            ..MasterConfig::default()
        };
        let outstation = OutstationConfig { most_octets: 300, confirm_timeout: seconds(1), ..Default::default() };
        let mut rig = Rig::new(config, outstation);
        rig.fate = Fate::new(seed, 0.2);
        for count in 0..200_u32 {
            rig.count(count);
            rig.run(Duration::from_millis(u64::from(count % 7) * 40));
        }
        rig.fate.loss = 0.0;
        rig.run(seconds(20));
        let counts = rig.counts();
        // A confirm that was lost makes them come again, as they were: whoever takes them recognises them.
        let mut once = counts.clone();
        once.dedup();
        once.sort_unstable();
        once.dedup();
        assert_eq!(once, (1..200).collect::<Vec<_>>(), "seed {seed}: each of them");
        assert_eq!(rig.waiting(), 0, "seed {seed}: all is confirmed");
        assert_eq!(rig.state(), 199, "seed {seed}: the newest is told last");
    }
}

#[test]
fn what_is_not_safe_is_not_confirmed_and_comes_again() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    rig.run(seconds(1));
    rig.settles = false;
    rig.change(true);
    rig.run(seconds(3));
    assert_eq!((rig.events(), rig.waiting()), (1, 1), "it is told, and not confirmed");
    rig.settles = true;
    rig.run(seconds(10));
    assert_eq!((rig.events(), rig.waiting()), (2, 0), "it came again, and was confirmed then");
}

#[test]
fn a_restart_begins_anew_and_an_overflow_reads_all_again() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig { most_events: 5, ..Default::default() });
    rig.run(seconds(1));
    let before = rig.asked().len();
    rig.outstation.restart();
    rig.run(seconds(2));
    assert!(rig.happened.contains(&MasterEvent::Restarted));
    assert_eq!(rig.asked()[before..].iter().filter(|asked| **asked == FunctionCode::READ).count(), 1);
    assert_eq!(rig.outstation_said(), Indications::NONE);
    rig.fate.loss = 1.0;
    (0..20).for_each(|count| rig.count(count));
    rig.run(seconds(1));
    rig.fate.loss = 0.0;
    let before = rig.asked().len();
    rig.run(seconds(20));
    assert!(rig.happened.contains(&MasterEvent::Overflow), "{:?}", rig.happened);
    assert!(rig.asked()[before..].contains(&FunctionCode::READ), "all is read again");
    assert_eq!((rig.state(), rig.outstation_said()), (19, Indications::NONE));
}

#[test]
fn a_command_is_carried_out_once_and_told_as_what_it_was() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    rig.run(seconds(1));
    let said = |rig: &mut Rig, command| {
        rig.master.command(CommandId(7), command);
        rig.run(seconds(20));
        rig.answers.pop().unwrap()
    };
    assert_eq!(said(&mut rig, Command::SelectOperate(close(3))), CommandAnswer::Accepted(None));
    assert_eq!(rig.process.operated, [3]);
    let not_there = Command::DirectOperate(close(9));
    let refusal = Refusal::Status(CommandStatus::NOT_SUPPORTED);
    assert_eq!(said(&mut rig, not_there), CommandAnswer::Refused(refusal));
    let nothing = Object::Control(ControlRelayOutputBlock { operation: Operation::LatchOn, ..Default::default() });
    let nothing = Command::DirectOperate(Block::indexed(Variation::new(12, 1), [(3, nothing)]));
    assert_eq!(said(&mut rig, nothing), CommandAnswer::Refused(Refusal::Nothing));
    // The answer is lost: it was done, and nobody knows.
    rig.fate.lose_answers = true;
    assert_eq!(said(&mut rig, Command::DirectOperate(close(4))), CommandAnswer::Unknown(Doubt::Unanswered));
    assert_eq!(rig.process.operated, [3, 4], "once");
    // So was that to the select: it was not operated.
    assert_eq!(said(&mut rig, Command::SelectOperate(close(5))), CommandAnswer::Refused(Refusal::NoSelect));
    rig.fate.lose_answers = false;
    assert_eq!(rig.process.operated, [3, 4]);
    rig.process.is_local = true;
    let refusal = Refusal::Status(CommandStatus::LOCAL);
    assert_eq!(said(&mut rig, Command::SelectOperate(close(3))), CommandAnswer::Refused(refusal));
    rig.process.is_local = false;
    assert_eq!(
        said(&mut rig, Command::Act(FunctionCode::COLD_RESTART, Vec::new())),
        CommandAnswer::Accepted(Some(1500))
    );
    rig.master.command(CommandId(8), Command::DirectOperate(close(6)));
    rig.send_once();
    rig.master.disconnected();
    rig.take_events();
    assert_eq!(rig.answers.pop(), Some(CommandAnswer::Unknown(Doubt::Lost)));
}

#[test]
fn requests_that_come_again_are_answered_again_and_not_done_again() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    rig.run(seconds(1));
    rig.master.command(CommandId(1), Command::DirectOperate(close(3)));
    rig.fate.doubles = true;
    rig.run(seconds(2));
    assert_eq!(
        (rig.process.operated.as_slice(), rig.answers.pop()),
        ([3].as_slice(), Some(CommandAnswer::Accepted(None)))
    );
    rig.master.command(CommandId(2), Command::SelectOperate(close(4)));
    rig.run(seconds(2));
    assert_eq!(
        (rig.process.operated.as_slice(), rig.answers.pop()),
        ([3, 4].as_slice(), Some(CommandAnswer::Accepted(None)))
    );
}

#[test]
fn counters_are_frozen_and_told_as_they_were() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    rig.outstation.put(PointKind::FrozenCounter, 0, Point::new(Number::Uint32(0).into(), None));
    rig.run(seconds(1));
    rig.count(41);
    rig.master.command(CommandId(1), Command::Act(FunctionCode::IMMEDIATE_FREEZE, vec![Block::all(20, 0)]));
    rig.run(seconds(1));
    rig.count(42);
    assert_eq!(rig.answers.pop(), Some(CommandAnswer::Accepted(None)));
    rig.told.clear();
    rig.master.command(CommandId(2), Command::Read(vec![Block::all(21, 0)]));
    rig.run(seconds(1));
    let frozen: Vec<_> = rig.told.iter().filter(|told| told.kind == PointKind::FrozenCounter).collect();
    assert_eq!((frozen.len(), &frozen[0].value), (1, &MeasuredValue::Number(Number::Uint32(41))));
}

#[test]
fn a_clock_is_set_by_what_a_message_takes() {
    // In a network, a message is taken to be there at once.
    for (time_sync, error) in [(TimeSync::Lan, 200), (TimeSync::NonLan, 0)] {
        let mut rig = Rig::new(MasterConfig { time_sync, ..MasterConfig::default() }, OutstationConfig::default());
        rig.fate.delay = Duration::from_millis(200);
        rig.run(seconds(10));
        let (set, at) = (rig.process.time.unwrap(), rig.process.set_at.unwrap());
        assert_eq!(at - set, error, "{time_sync:?}");
    }
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    rig.master.set_clock(false);
    rig.run(seconds(10));
    assert_eq!(rig.process.time, None, "whoever does not know what time it is tells nobody");
    assert!(rig.master.is_started());
}

#[test]
fn states_and_qualities_come_as_they_are() {
    let mut rig = Rig::new(MasterConfig::default(), OutstationConfig::default());
    let mut breaker = Point::new(DoubleBit::On.into(), None);
    breaker.flags = Flags::ONLINE.with(Flags::LOCAL_FORCED);
    rig.outstation.put(PointKind::DoubleBit, 2, breaker);
    rig.outstation.put(PointKind::Octets, 5, Point::new(MeasuredValue::Octets(b"trip 81".to_vec()), None));
    rig.run(seconds(1));
    let of = |kind, index| rig.told.iter().find(|told| (told.kind, told.index) == (kind, index)).unwrap();
    assert_eq!(of(PointKind::DoubleBit, 2).value, MeasuredValue::DoubleBit(DoubleBit::On));
    let words: Vec<_> = of(PointKind::DoubleBit, 2).flags.unwrap().words(PointKind::DoubleBit).collect();
    assert_eq!(words, ["online", "local forced"]);
    assert_eq!(of(PointKind::Octets, 5).value, MeasuredValue::Octets(b"trip 81".to_vec()));
    let update = PointUpdate { value: Number::Float64(1e300).into(), flags: Flags::ONLINE, time: 5 };
    rig.outstation.put(PointKind::Analog, 1, Point::new(Number::Float64(0.5).into(), None));
    rig.outstation.update(PointKind::Analog, 1, update);
    rig.told.clear();
    let wanted = Block::range(Variation::new(30, 2), 1, 1);
    rig.master.command(CommandId(1), Command::Read(vec![wanted]));
    rig.run(seconds(1));
    let told = &rig.told[0];
    assert_eq!(told.value, MeasuredValue::Number(Number::Int16(i16::MAX)));
    assert!(told.flags.unwrap().has(Flags::OVER_RANGE), "more than can be told so");
}

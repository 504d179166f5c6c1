use super::*;
use crate::error::TrialError;
use crate::link::{
    Action, Answer, DeviceEvent, FrameLog, FrameRing, FrameText, FrameWords, Memories, Outcome, RequestView,
    TrialReading,
};
use crate::listeners::Listeners;
use interlex_core::description::{Description, Files, read};
use interlex_core::{
    Clock, DataType, FieldEvent, LatestTable, ManualClock, PointIndex, PointTable, Quality, RawSample, Reason,
    RecentValues, Timestamp, Value,
};
use std::collections::VecDeque;
use tokio::sync::{mpsc, oneshot};

/// A driver that tells what a test lets it tell.
struct Scripted {
    script: Arc<Mutex<Script>>,
    clock: Arc<dyn Clock>,
}

#[derive(Default)]
struct Script {
    /// What becomes of attempts to connect; at the end they succeed.
    connects: VecDeque<Result<(), Lost>>,
    steps: Option<mpsc::Receiver<Told>>,
    is_always_ready: bool,
    taken: Vec<CommandId>,
}

type Told = Result<Vec<Outcome>, Lost>;

thread_local! {
    /// The script of the next driver that is made on this thread.
    static NEXT: std::cell::RefCell<Arc<Mutex<Script>>> = std::cell::RefCell::default();
}

#[derive(Debug)]
struct NoWords;

impl FrameWords for NoWords {
    type Frame = Vec<u8>;

    fn at(&self, _: &Vec<u8>) -> std::time::Instant {
        Instant::now().into_std()
    }

    fn bytes<'a>(&self, frame: &'a Vec<u8>) -> &'a [u8] {
        frame
    }

    fn is_sent(&self, _: &Vec<u8>) -> bool {
        true
    }

    fn explain(&self, _: &Vec<u8>) -> FrameText {
        FrameText { peer: None, devices: Vec::new(), text: String::new(), request: None, answer_ms: None, error: false }
    }

    fn port(&self) -> u16 {
        1
    }
}

fn lost(why: &str) -> Answer {
    Answer::Read(Err(TrialError::Lost { target: "there".to_owned(), why: why.to_owned() }))
}

impl FieldDriver for Scripted {
    type Session = mpsc::Receiver<Told>;

    fn new(_: LinkPlan, context: DriverContext) -> Self {
        Self { script: NEXT.with_borrow(Arc::clone), clock: context.clock }
    }

    fn frames(&self) -> Arc<dyn FrameLog> {
        Arc::new(FrameRing::new(NoWords, 1, Arc::clone(&self.clock)))
    }

    fn line(&self) -> Option<(Duration, Duration)> {
        None
    }

    fn begin(&mut self, _: &mut Outcomes) {}

    fn connect(&mut self) -> impl Future<Output = Result<Self::Session, Lost>> + Send + 'static {
        let mut script = self.script.lock();
        let outcome = script.connects.pop_front().unwrap_or(Ok(()));
        let session = outcome.map(|()| script.steps.take().unwrap_or_else(|| mpsc::channel(64).1));
        async move { session }
    }

    fn connected(&mut self, _: &mut Self::Session) {}

    async fn next(&mut self, session: &mut Self::Session, out: &mut Outcomes) -> Result<(), Lost> {
        if self.script.lock().is_always_ready {
            // As a device would that has something to say without end.
            tokio::task::yield_now().await;
            if self.script.lock().is_always_ready {
                out.batch(|batch| batch.push(RawSample::read(PointIndex(0), Value::Uint(1))));
            }
            return Ok(());
        }
        match session.recv().await {
            Some(Ok(outcomes)) => outcomes.into_iter().for_each(|outcome| out.push(outcome)),
            Some(Err(lost)) => return Err(lost),
            None => std::future::pending().await,
        }
        Ok(())
    }

    fn submit(&mut self, _: &mut Self::Session, command: Command, out: &mut Outcomes) -> Result<(), Full> {
        self.script.lock().taken.push(command.id);
        if self.script.lock().is_always_ready {
            out.push(Outcome::Answered(command.id, lost("it is busy talking")));
        }
        Ok(())
    }

    fn cancel(&mut self, id: CommandId, why: &str, out: &mut Outcomes) {
        out.push(Outcome::Answered(id, lost(why)));
    }

    fn change(&mut self, _: LinkPlan, _: &mut Outcomes) {}

    fn lost(&mut self, _: Self::Session, why: &str, out: &mut Outcomes) {
        for id in self.script.lock().taken.drain(..) {
            out.push(Outcome::Answered(id, lost(why)));
        }
    }

    fn activity(&self, _: &PointTable) -> Vec<RequestView> {
        Vec::new()
    }

    fn relearn(&mut self, _: Option<usize>) {}
}

fn description() -> Description {
    described("")
}

fn described(more_points: &str) -> Description {
    let main = "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n\
                reconnect-limit = \"500ms\"\n[[device]]\nname = \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n";
    let list = format!("name,address,type,rate\na,holding:0,uint16,fast\n{more_points}");
    let files: Files = [("gateway.toml".to_owned(), main.to_owned()), ("p.csv".to_owned(), list)].into();
    read(&files).unwrap()
}

struct Rig {
    script: Arc<Mutex<Script>>,
    tell: mpsc::Sender<Told>,
    link: LinkHandle,
    latest: Arc<LatestTable>,
    events: mpsc::Receiver<FieldEvent>,
    clock: Arc<ManualClock>,
    stop: CancellationToken,
    description: Description,
    around: Surroundings,
}

impl Rig {
    fn start(set: impl FnOnce(&mut Script)) -> Self {
        Self::start_with(description(), set)
    }

    fn start_with(description: Description, set: impl FnOnce(&mut Script)) -> Self {
        let (tell, steps) = mpsc::channel(64);
        let mut script = Script { steps: Some(steps), ..Script::default() };
        set(&mut script);
        let script = Arc::new(Mutex::new(script));
        NEXT.set(Arc::clone(&script));
        let points = Arc::new(PointTable::new(&description, &PointTable::default()));
        let (latest, listeners) = (Arc::new(LatestTable::new(1)), Listeners::default());
        let (sender, events) = mpsc::channel(1000);
        listeners.set(vec![sender]);
        let clock = Arc::new(ManualClock::new(Timestamp::from_millis(1_800_000_000_000)));
        let (recent, memories) = (Arc::new(RecentValues::default()), Memories::default());
        let around = Surroundings {
            points,
            latest: Arc::clone(&latest),
            recent,
            listeners,
            memories,
            clock: Arc::clone(&clock) as _,
        };
        let plan = LinkPlan::new(&description, &description.links[0], &around.points);
        let (task, link) = LinkTask::<Scripted>::new(plan, &around);
        let stop = CancellationToken::new();
        tokio::spawn(task.run(stop.clone()));
        Self { script, tell, link, latest, events, clock, stop, description, around }
    }

    /// A command, and where its answer comes.
    async fn ask(&self, patience: Duration) -> oneshot::Receiver<Answer> {
        let (answer, answered) = oneshot::channel();
        let device = self.description.devices[0].clone();
        let point = interlex_core::description::Point::clone(&device.points[0]);
        let link = self.description.links[0].clone();
        let read = crate::link::TrialRead { link, device, point, neighbours: false, expected: None };
        let (action, deadline) = (Action::Read(Box::new(read)), Instant::now() + patience);
        self.link.commands().send(LinkCommand::Do { action, deadline, answer }).await.unwrap();
        answered
    }

    /// The device has one more point from now on.
    async fn add_point(&mut self) {
        self.description = described("b,holding:1,uint16,fast\n");
        let around = &mut self.around;
        around.points = Arc::new(PointTable::new(&self.description, &around.points));
        around.latest = Arc::new(around.latest.grown(2));
        self.link.change(&self.description, &self.description.links[0], around).await;
    }

    /// Of the point that was there first, and of the one that was added.
    fn qualities(&self) -> [String; 2] {
        [0, 1].map(|index| self.around.latest.read(PointIndex(index)).unwrap().quality.to_string())
    }

    fn quality(&self) -> String {
        self.latest.read(PointIndex(0)).unwrap().quality.to_string()
    }

    async fn until_taken(&self, count: usize) {
        while self.script.lock().taken.len() < count {
            tokio::task::yield_now().await;
        }
    }

    async fn until_up(&self) {
        while self.link.status().state != interlex_core::LinkState::Up {
            tokio::task::yield_now().await;
        }
    }
}

fn why(answer: Answer) -> String {
    let Answer::Read(reading) = answer else { panic!("{answer:?}") };
    let reading: Result<TrialReading, TrialError> = reading;
    reading.unwrap_err().to_string()
}

fn up() -> Outcome {
    Outcome::Device(0, DeviceEvent::Up)
}

#[tokio::test]
async fn a_command_that_is_late_or_that_nobody_waits_for_is_given_up_and_answered_once() {
    let rig = Rig::start(|_| {});
    rig.until_up().await;
    let answer = rig.ask(Duration::from_millis(30)).await.await.unwrap();
    assert_eq!(why(answer), "no answer from there: the link is busy");
    let gone = rig.ask(Duration::from_secs(15)).await;
    drop(gone);
    let answer = rig.ask(Duration::from_secs(15)).await;
    rig.until_taken(3).await;
    rig.tell.try_send(Ok(vec![up()])).unwrap();
    rig.stop.cancel();
    assert_eq!(why(answer.await.unwrap()), "no answer from there: the link was stopped");
}

#[tokio::test]
async fn while_nothing_is_connected_commands_are_refused_with_the_reason() {
    let rig = Rig::start(|script| script.connects.push_back(Err(Lost("nobody is there".to_owned()))));
    while rig.link.status().last_error.is_none() {
        tokio::task::yield_now().await;
    }
    let told = why(rig.ask(Duration::from_secs(15)).await.await.unwrap());
    assert_eq!(told, "cannot connect to h:502: the link is down: cannot connect: nobody is there");
    rig.until_up().await;
    let waiting = rig.ask(Duration::from_secs(15)).await;
    rig.until_taken(1).await;
    rig.tell.try_send(Err(Lost("the cable".to_owned()))).unwrap();
    assert_eq!(why(waiting.await.unwrap()), "no answer from there: the link went down: the cable");
}

#[tokio::test]
async fn a_device_that_talks_without_end_keeps_no_command_waiting() {
    let rig = Rig::start(|script| script.is_always_ready = true);
    rig.until_up().await;
    for _ in 0..20 {
        assert_eq!(
            why(rig.ask(Duration::from_secs(15)).await.await.unwrap()),
            "no answer from there: it is busy talking"
        );
    }
}

#[tokio::test]
async fn what_a_driver_tells_reaches_listeners_in_its_order() {
    let mut rig = Rig::start(|script| script.is_always_ready = true);
    rig.until_up().await;
    while !matches!(rig.events.recv().await, Some(FieldEvent::Samples(_))) {}
    rig.script.lock().is_always_ready = false;
    rig.tell
        .try_send(Ok(vec![up(), Outcome::Device(0, DeviceEvent::Silent(Reason::Timeout, "gone".to_owned())), up()]))
        .unwrap();
    let mut told = Vec::new();
    while told.len() < 4 {
        told.push(match rig.events.recv().await.unwrap() {
            FieldEvent::Samples(samples) => samples[0].quality.to_string(),
            FieldEvent::Keep(_) => "keep".to_owned(),
            FieldEvent::DeviceUp(slot) => format!("up {slot}"),
            FieldEvent::DeviceDown(slot) => format!("down {slot}"),
            FieldEvent::Retyped(slot) => format!("retyped {slot}"),
            FieldEvent::Revised(_) => "revised".to_owned(),
        });
        told.retain(|told| told != "good");
    }
    assert_eq!(told, ["up 0", "down 0", "bad: timeout", "up 0"]);
}

#[tokio::test]
async fn a_type_that_a_device_tells_comes_before_its_values_and_what_was_read_by_another_is_forgotten() {
    let mut description = description();
    let points = &mut Arc::get_mut(&mut description.devices[0].points).unwrap();
    Arc::make_mut(&mut points[0]).settings.data_type = DataType::Auto;
    let mut rig = Rig::start_with(description, |script| script.is_always_ready = true);
    rig.until_up().await;
    while rig.quality() != "good" {
        tokio::task::yield_now().await;
    }
    rig.script.lock().is_always_ready = false;
    let types = |data_type| Outcome::Device(0, DeviceEvent::Types(vec![(PointIndex(0), data_type)]));
    let mut told = async |outcomes| {
        rig.tell.try_send(Ok(outcomes)).unwrap();
        loop {
            match rig.events.recv().await.unwrap() {
                FieldEvent::Samples(_) => {}
                FieldEvent::Retyped(slot) => {
                    let up = rig.events.recv().await.unwrap();
                    assert!(matches!(up, FieldEvent::DeviceUp(0)), "{up:?}");
                    return Some(slot);
                }
                _ => return None,
            }
        }
    };
    assert_eq!(told(vec![types(DataType::Int32), up()]).await, Some(0));
    let reading = || rig.latest.read(PointIndex(0)).unwrap();
    assert_eq!((reading().value, reading().quality), (None, Quality::Bad(Reason::NeverRead)));
    assert_eq!(told(vec![types(DataType::Int32), up()]).await, None, "it is known already");
    let stored = reading();
    rig.latest.store(
        PointIndex(0),
        Some((&Value::Int(4), &Value::Int(4))),
        Quality::Good,
        stored.source_time,
        stored.gateway_time,
    );
    assert_eq!(told(vec![types(DataType::Float32), up()]).await, Some(0));
    assert_eq!((reading().value, reading().quality), (None, Quality::Bad(Reason::NeverRead)));
}

#[tokio::test]
async fn points_that_come_while_a_link_is_down_or_a_device_silent_are_bad_for_that_reason() {
    let nobody = || Err(Lost("nobody is there".to_owned()));
    let mut rig = Rig::start(|script| script.connects.extend(std::iter::repeat_with(nobody).take(1000)));
    while rig.link.status().last_error.is_none() {
        tokio::task::yield_now().await;
    }
    rig.add_point().await;
    assert_eq!(rig.qualities(), ["bad: link down", "bad: link down"]);
    rig.script.lock().connects.clear();
    rig.until_up().await;
    assert_eq!(rig.qualities(), ["bad: not read since the link came up", "bad: not read since the link came up"]);

    let mut rig = Rig::start(|_| {});
    rig.until_up().await;
    let silent = || vec![Outcome::Device(0, DeviceEvent::Silent(Reason::Timeout, "gone".to_owned()))];
    rig.tell.try_send(Ok(silent())).unwrap();
    while rig.quality() != "bad: timeout" {
        tokio::task::yield_now().await;
    }
    rig.add_point().await;
    assert_eq!(rig.qualities(), ["bad: timeout", "bad: never read"], "the driver has not asked yet");
    rig.tell.try_send(Ok(silent())).unwrap();
    while rig.qualities()[1] != "bad: timeout" {
        tokio::task::yield_now().await;
    }
}

#[tokio::test]
async fn what_a_source_confirms_is_fresh_again() {
    let rig = Rig::start(|script| script.is_always_ready = true);
    rig.until_up().await;
    while rig.quality() != "good" {
        tokio::task::yield_now().await;
    }
    rig.script.lock().is_always_ready = false;
    let reading = || rig.latest.read(PointIndex(0)).unwrap();
    let later = Timestamp::from_millis(1_800_000_009_000);
    rig.clock.set(later);
    rig.tell.try_send(Ok(vec![Outcome::Confirmed(vec![PointIndex(0)])])).unwrap();
    while reading().gateway_time != later {
        tokio::task::yield_now().await;
    }
    let (quality, value_time) = (reading().quality, reading().value_time);
    assert!(quality.is_good() && value_time < later, "{quality} at {value_time:?}");
}

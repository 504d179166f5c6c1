use super::item::Item;
use crate::server::User;
use crate::service::{DataChangeNotification, NotificationMessage, StatusChangeNotification};
use crate::structure::Structure;
use crate::types::{DateTime, DiagnosticInfo, StatusCode};
use std::collections::{BTreeMap, HashSet, VecDeque};
use std::time::{Duration, Instant};

/// A subscription with what it watches, and what it told.
///
/// Source: OPC 10000-4, section 5.14.1.
#[derive(Debug)]
pub(super) struct Subscription {
    /// The session; none once that has ended.
    pub(super) session: Option<u32>,
    pub(super) user: User,
    pub(super) interval: Duration,
    pub(super) lifetime_count: u32,
    pub(super) keep_alive_count: u32,
    pub(super) most_notifications: usize,
    pub(super) is_enabled: bool,
    pub(super) priority: u8,
    pub(super) items: BTreeMap<u32, Item>,
    pub(super) last_item: u32,
    /// The items that have something to tell, in the order in which they had.
    pub(super) ready: VecDeque<u32>,
    /// When the publishing interval ends.
    pub(super) due: Instant,
    /// Intervals without a message.
    silent: u32,
    /// Intervals without a publish request.
    waited: u32,
    has_told: bool,
    /// Something is to be told as soon as a publish request comes.
    pub(super) is_late: bool,
    /// The number of the next message.
    next: u32,
    /// What is not acknowledged, the oldest first.
    kept: VecDeque<NotificationMessage>,
    most_kept: usize,
}

/// What is to be done at the end of an interval.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Tick {
    /// Nothing.
    Idle,
    /// A publish request is to be answered.
    Tell,
    /// Nobody asked for so long that it ends.
    End,
}

impl Subscription {
    pub(super) const fn new(session: u32, user: User, now: Instant, most_kept: usize) -> Self {
        Self {
            session: Some(session),
            user,
            interval: Duration::ZERO,
            lifetime_count: 0,
            keep_alive_count: 0,
            most_notifications: 0,
            is_enabled: true,
            priority: 0,
            items: BTreeMap::new(),
            last_item: 0,
            ready: VecDeque::new(),
            due: now,
            silent: 0,
            waited: 0,
            has_told: false,
            is_late: false,
            next: 1,
            kept: VecDeque::new(),
            most_kept,
        }
    }

    /// The publishing interval ends.
    pub(super) fn tick(&mut self, now: Instant, is_asked: bool) -> Tick {
        self.due += self.interval;
        // Who was stopped for long does not make up for each interval.
        if self.due <= now {
            self.due = now + self.interval;
        }
        self.waited = if is_asked { 0 } else { self.waited + 1 };
        if self.waited >= self.lifetime_count {
            return Tick::End;
        }
        let has_news = self.is_enabled && !self.ready.is_empty();
        self.silent = if has_news { self.silent } else { self.silent.saturating_add(1) };
        // The first message tells that it is there.
        if has_news || self.silent >= self.keep_alive_count || !self.has_told {
            self.is_late = !is_asked;
            return if is_asked { Tick::Tell } else { Tick::Idle };
        }
        Tick::Idle
    }

    /// Somebody asked.
    pub(super) const fn asked(&mut self) {
        self.waited = 0;
    }

    /// The next message, and whether there is more at once.
    pub(super) fn message(&mut self, wall: DateTime) -> (NotificationMessage, bool) {
        let mut monitored_items = Vec::new();
        let most = if self.most_notifications == 0 { usize::MAX } else { self.most_notifications };
        while self.is_enabled
            && monitored_items.len() < most
            && let Some(id) = self.ready.pop_front()
        {
            let Some(item) = self.items.get_mut(&id) else { continue };
            while monitored_items.len() < most
                && item.is_ready()
                && let Some(told) = item.next()
            {
                monitored_items.push(told);
            }
            if item.is_ready() {
                self.ready.push_front(id);
            }
        }
        (self.silent, self.has_told, self.is_late) = (0, true, false);
        let mut message =
            NotificationMessage { sequence_number: self.next, publish_time: wall, notification_data: Vec::new() };
        if !monitored_items.is_empty() {
            let data = DataChangeNotification { monitored_items, diagnostic_infos: Vec::new() };
            message.notification_data.push(data.to_object());
            self.keep(message.clone());
        }
        let has_more = self.is_enabled && !self.ready.is_empty();
        (message, has_more)
    }

    /// The message that says what became of it.
    pub(super) fn farewell(&mut self, status: StatusCode, wall: DateTime) -> NotificationMessage {
        let told = StatusChangeNotification { status, diagnostic_info: DiagnosticInfo::default() };
        let notification_data = vec![told.to_object()];
        NotificationMessage { sequence_number: self.next, publish_time: wall, notification_data }
    }

    fn keep(&mut self, message: NotificationMessage) {
        // 0 is no number.
        self.next = self.next.checked_add(1).unwrap_or(1);
        self.kept.push_back(message);
        while self.kept.len() > self.most_kept {
            self.kept.pop_front();
        }
    }

    /// The client has a message.
    pub(super) fn acknowledge(&mut self, number: u32) -> StatusCode {
        let at = self.kept.iter().position(|message| message.sequence_number == number);
        match at.and_then(|at| self.kept.remove(at)) {
            Some(_) => StatusCode::GOOD,
            None => StatusCode::BAD_SEQUENCE_NUMBER_UNKNOWN,
        }
    }

    /// A message once more.
    pub(super) fn again(&self, number: u32) -> Option<&NotificationMessage> {
        self.kept.iter().find(|message| message.sequence_number == number)
    }

    /// The numbers of the messages that are kept.
    pub(super) fn available(&self) -> Vec<u32> {
        self.kept.iter().map(|message| message.sequence_number).collect()
    }

    /// Puts what has something to tell in line, after items were changed; what was in line keeps its place.
    pub(super) fn settle(&mut self) {
        let is_ready = |id: &u32| self.items.get(id).is_some_and(Item::is_ready);
        self.ready.retain(is_ready);
        let known: HashSet<_> = self.ready.iter().copied().collect();
        let new = self.items.iter().filter(|(id, item)| item.is_ready() && !known.contains(id));
        self.ready.extend(new.map(|(id, _)| *id));
    }
}

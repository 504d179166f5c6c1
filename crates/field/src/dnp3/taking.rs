//! What masters tell, carried on: values, events, who is there and who is not.

use super::driver::{Dnp3Driver, Settling, own};
use super::errand::Next;
use super::frames::Dnp3Frame;
use super::station::{Station, Taken};
use crate::link::{Counted, DeviceEvent, Outcome, Outcomes, TICKETS, Ticket, ToldEvent, ToldEvents, ToldState};
use interlex_core::description::Dnp3Link;
use interlex_core::{RawSample, Reason, SampleKind, TimeQuality};
use interlex_dnp3::{FunctionCode, Indications, LinkAddress, LinkEvent, MasterEvent, Told};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

/// So often points that do not change are said to be as they were: twice before any of them is stale.
pub(super) const CONFIRMED_EVERY: Duration = Duration::from_millis(500);

impl Dnp3Driver {
    /// Carries on what the masters have to tell.
    pub(super) fn take_events(&mut self, out: &mut Outcomes) {
        while let Some((address, event)) = self.link.poll_event() {
            match event {
                LinkEvent::Master(event) => self.take(address, event, out),
                LinkEvent::Status => self.status_told(Some(address), out),
                LinkEvent::Broken(error) => self.tell_error(address, error.to_string(), out),
                // Its master begins anew by itself.
                LinkEvent::Found(_) => self.station(address).into_iter().for_each(Station::begin_anew),
                LinkEvent::Forbidden(_) => {
                    let why = "somebody speaks for it whose certificate is not for it: certificate-name";
                    self.tell_error(address, why.to_owned(), out);
                }
            }
        }
        self.record_frames();
    }

    pub(super) fn record_frames(&mut self) {
        while let Some(frame) = self.link.poll_frame() {
            self.frames.record(Dnp3Frame::new(frame));
        }
    }

    pub(super) fn tell_error(&mut self, address: LinkAddress, why: String, out: &mut Outcomes) {
        if let Some(station) = self.station(address) {
            out.device(station.place, DeviceEvent::Error(format!("outstation {address}: {why}")));
        }
    }

    fn take(&mut self, address: LinkAddress, event: MasterEvent, out: &mut Outcomes) {
        match event {
            MasterEvent::Heard { took } => self.heard(address, took, out),
            MasterEvent::Started => self.started(address, out),
            MasterEvent::Told(told) => self.tell(address, told, out),
            MasterEvent::Unanswered(function) => self.unanswered(address, function, out),
            MasterEvent::Answered(number, answer) => {
                if let Some(at) = self.under_way.iter().position(|under_way| under_way.number == number) {
                    // The frames that belong to it are shown with it.
                    self.record_frames();
                    let under_way = self.under_way.remove(at);
                    let (id, target) = (under_way.id, self.plan.link.protocol.target());
                    match under_way.answered(&answer, &self.frames, &target) {
                        Next::Done(answer) => out.push(Outcome::Answered(id, answer)),
                        Next::Ask(under_way, command) => self.ask(under_way, command, out),
                        Next::Later(under_way, after) => self.later.push((Instant::now() + after, under_way)),
                    }
                }
            }
            MasterEvent::Restarted => self.tell_error(address, "it has restarted".to_owned(), out),
            MasterEvent::Overflow => self.overflown(address, out),
            MasterEvent::Unreadable(error) => {
                self.tell_error(address, format!("it said something that cannot be read: {error}"), out);
            }
            // Who tells nothing unasked has nothing to stop.
            MasterEvent::Refused { function: FunctionCode::DISABLE_UNSOLICITED, .. } => {}
            MasterEvent::Refused { function, indications } => {
                self.tell_error(address, format!("it does not {function}: {indications}"), out);
            }
            MasterEvent::Indications { raised, .. } => {
                let worth_telling =
                    Indications::DEVICE_TROUBLE.with(Indications::LOCAL_CONTROL).with(Indications::CONFIG_CORRUPT);
                let said = Indications(raised.0 & worth_telling.0);
                let is_lacking = self.station(address).is_some_and(|station| !station.sets_clock_anyway());
                if raised.has(Indications::NEED_TIME) && !self.has_clock && is_lacking {
                    let why = "it asks for the time, and nothing keeps the clock of this machine right";
                    self.tell_error(address, why.to_owned(), out);
                }
                if said != Indications::NONE {
                    self.tell_error(address, said.to_string(), out);
                }
            }
            MasterEvent::ClockSet(_) => {}
        }
    }

    /// It had no room for changes: what was lost is not known, and so every point has a gap.
    fn overflown(&mut self, address: LinkAddress, out: &mut Outcomes) {
        self.tell_error(address, "it lost events: its buffer was full, and there is a gap".to_owned(), out);
        let Some(station) = self.station(address) else { return };
        let (points, place, source) = (station.planned.points.clone(), station.place, Arc::clone(&station.source));
        out.batch(|samples| {
            let gap = |point| RawSample { kind: SampleKind::Past, ..RawSample::failed(point, Reason::Overflow) };
            samples.extend(points.iter().copied().map(gap));
        });
        let event = ToldEvent {
            point: None,
            place: ("event buffer", None),
            value: None,
            raw: ToldState::State("changes were lost: it was full"),
            flags: (0, |_, _| String::new()),
            at: None,
            time_quality: TimeQuality::Arrival,
            mark: 0,
        };
        out.push(Outcome::Told(ToldEvents { place, ticket: None, source, events: vec![event] }));
    }

    /// It said something: what is known of its points still holds.
    fn heard(&mut self, address: LinkAddress, took: Option<Duration>, out: &mut Outcomes) {
        (out.is_alive, self.is_heard) = (true, true);
        let Some(station) = self.station(address) else { return };
        if let Some(took) = took {
            out.push(Outcome::Done { devices: [station.place].into(), counted: Counted::Answer, took });
        }
        if std::mem::take(&mut station.is_silent) && station.is_up {
            out.device(station.place, DeviceEvent::Up);
        }
    }

    /// Who tells changes by itself, and does not fail to answer when it is asked, has points that are as they were.
    pub(super) fn confirm_points(&mut self, out: &mut Outcomes) {
        let now = Instant::now();
        for station in self.stations.iter_mut().filter(|station| station.is_fresh()) {
            if station.confirmed.is_none_or(|at| now.saturating_duration_since(at) >= CONFIRMED_EVERY) {
                station.confirmed = Some(now);
                out.push(Outcome::Confirmed(station.planned.points.to_vec()));
            }
        }
    }

    /// All that it has was told once: what was not is not there.
    fn started(&mut self, address: LinkAddress, out: &mut Outcomes) {
        let Some(station) = self.station(address) else { return };
        let (place, missing) = (station.place, station.missing());
        station.is_up = true;
        if !missing.is_empty() {
            out.batch(|samples| {
                samples.extend(missing.iter().map(|(point, _, reason)| RawSample::failed(*point, *reason)))
            });
            let first: Vec<_> = missing.iter().take(3).map(|(_, address, _)| address.as_str()).collect();
            let more = if missing.len() > first.len() {
                format!(" and {} more", missing.len() - first.len())
            } else {
                String::new()
            };
            let why = format!("outstation {address} has no {}{more}", first.join(", "));
            out.device(place, DeviceEvent::Error(why));
        }
        out.device(place, DeviceEvent::Up);
    }

    fn tell(&mut self, address: LinkAddress, told: Told, out: &mut Outcomes) {
        let Told { id, is_unsolicited, needs_time, measurements, others } = told;
        let has_events = measurements.iter().any(|told| told.is_event);
        let has_room = self.settling.len() < TICKETS;
        match self.stations.iter_mut().find(|station| station.address == address) {
            Some(station) if has_events && station.is_stored && !has_room => {
                // It is not confirmed, and comes again.
                let why = "changes wait at the outstation: the database does not take them";
                let why = format!("outstation {address}: {why}");
                return out.device(station.place, DeviceEvent::Error(why));
            }
            Some(station) => {
                let Taken { samples, events, remembered, news, repeated, untimed } =
                    station.take(&measurements, needs_time);
                if repeated + untimed > 0 {
                    out.push(Outcome::Events { place: station.place, repeated, untimed });
                }
                if !samples.is_empty() {
                    out.batch(|into| into.extend(samples));
                }
                let waits = station.is_stored && id.is_some();
                let ticket = (waits && news > 0).then(|| Ticket(self.last_ticket + 1));
                let again = self.settling.iter_mut().rfind(|settling| settling.address == address);
                match (ticket, again) {
                    (Some(ticket), _) => {
                        self.last_ticket = ticket.0;
                        let ids = id.into_iter().collect();
                        self.settling.push_back(Settling { ticket, address, ids, remembered });
                    }
                    // Told again before it was safe.
                    (None, Some(settling)) if waits && has_events => settling.ids.extend(id),
                    (None, _) => self.told.extend(id.map(|id| (address, id))),
                }
                if ticket.is_some() || !events.is_empty() {
                    let (place, source) = (station.place, Arc::clone(&station.source));
                    out.push(Outcome::Told(ToldEvents { place, ticket, source, events }));
                }
            }
            // Events of an outstation that is no device are somebody else's.
            None if has_events || is_unsolicited => {}
            None => self.told.extend(id.map(|id| (address, id))),
        }
        for under_way in self.under_way.iter_mut().filter(|under_way| under_way.address == address) {
            under_way.told.extend(measurements.iter().cloned());
            under_way.others.extend(others.iter().cloned());
        }
    }

    fn unanswered(&mut self, address: LinkAddress, function: FunctionCode, out: &mut Outcomes) {
        let waited = own(&self.plan).map(Dnp3Link::timeout);
        let Some(station) = self.station(address) else { return };
        let took = waited.map(Duration::from).unwrap_or_default();
        out.push(Outcome::Done { devices: [station.place].into(), counted: Counted::Timeout, took });
        station.is_silent = true;
        let within = waited.map(|waited| format!(" within {waited}")).unwrap_or_default();
        let why = format!("outstation {address}: no answer{within} to {function}");
        out.device(station.place, DeviceEvent::Silent(Reason::Timeout, why));
    }
}

//! What is done once with an outstation: given to its master, answered, and given up.

use super::discovery::Discovery;
use super::driver::{Dnp3Driver, own};
use super::errand::{Errand, Next, UnderWay};
use super::station::quiet;
use crate::error::TrialError;
use crate::link::{Action, Answer, Outcome, Outcomes};
use interlex_core::description::Device;
use interlex_dnp3::{CommandAnswer, Doubt, LinkAddress, Master};
use tokio::time::Instant;

impl Dnp3Driver {
    /// The address of the device that something is done with; one that is no device of the link is a guest from now on.
    pub(super) fn reach(&mut self, address: LinkAddress, own_address: LinkAddress) {
        let is_known = self.stations.iter().any(|station| station.address == address) || self.guests.contains(&address);
        if let Some(own) = own(&self.plan).filter(|_| !is_known) {
            self.link.add(address, own_address, Master::new(quiet(own)));
            self.guests.push(address);
            if let Some(way) = self.dialled {
                self.link.connect(way);
            }
        }
    }

    /// An outstation is not spoken with any more, or by another master: what that one told before is not the other one's to confirm.
    pub(super) fn part_with(&mut self, address: LinkAddress) {
        self.link.remove(address);
        self.told.retain(|(of, _)| *of != address);
        self.settling
            .iter_mut()
            .filter(|settling| settling.address == address)
            .for_each(|settling| settling.ids.clear());
    }

    /// Gives what is under way the next number, and its master what is to be done.
    pub(super) fn ask(&mut self, under_way: UnderWay, command: interlex_dnp3::Command, out: &mut Outcomes) {
        self.last_number += 1;
        let number = interlex_dnp3::CommandId(self.last_number);
        let address = under_way.address;
        let under_way = UnderWay { number, ..under_way };
        match self.link.master(address) {
            Some(master) => {
                master.command(number, command);
                self.under_way.push(under_way);
            }
            None => {
                let error = TrialError::Request("the device is no part of the link any more".to_owned());
                out.push(Outcome::Answered(under_way.id, under_way.given_up(error)));
            }
        }
    }

    /// Link layers that were asked for their status: whoever answers is there, and whoever does not in time is not.
    pub(super) fn status_told(&mut self, heard: Option<LinkAddress>, out: &mut Outcomes) {
        let now = Instant::now();
        let is_over = |(until, of): &(Instant, UnderWay)| heard == Some(of.address) || now >= *until;
        let (over, waiting) = std::mem::take(&mut self.asked_status).into_iter().partition(is_over);
        self.asked_status = waiting;
        let over: Vec<(Instant, UnderWay)> = over;
        for (_, under_way) in over {
            self.record_frames();
            let answer = match heard == Some(under_way.address) {
                true => CommandAnswer::Accepted(None),
                false => CommandAnswer::Unknown(Doubt::Unanswered),
            };
            let (id, target) = (under_way.id, self.plan.link.protocol.target());
            if let Next::Done(answer) = under_way.answered(&answer, &self.frames, &target) {
                out.push(Outcome::Answered(id, answer));
            }
        }
    }

    pub(super) fn down(&self) -> TrialError {
        TrialError::Connect { target: self.plan.link.protocol.target(), why: "the link went down".to_owned() }
    }

    /// Outputs whose state had not followed their commands are read again.
    pub(super) fn read_again(&mut self, out: &mut Outcomes) {
        let now = Instant::now();
        let (due, later) = std::mem::take(&mut self.later).into_iter().partition(|(at, _)| now >= *at);
        self.later = later;
        let due: Vec<(Instant, UnderWay)> = due;
        for (under_way, command) in due.into_iter().filter_map(|(_, under_way)| under_way.again()) {
            self.ask(under_way, command, out);
        }
    }

    pub(super) fn give_up(&mut self, out: &mut Outcomes) {
        self.take_events(out);
        // The masters answer all of them; should one not have, it was not sent.
        let later = std::mem::take(&mut self.later).into_iter().chain(std::mem::take(&mut self.asked_status));
        let later: Vec<_> = later.map(|(_, under_way)| under_way).collect();
        for under_way in std::mem::take(&mut self.under_way).into_iter().chain(later) {
            out.push(Outcome::Answered(under_way.id, under_way.given_up(self.down())));
        }
    }
}

/// An errand with its outstation, and what its master is told for it.
type Given = ((LinkAddress, LinkAddress), (Errand, Option<interlex_dnp3::Command>));

/// What is to be done for an action; an answer where it cannot be.
pub(super) fn wanted(action: Action) -> Result<Given, Box<Answer>> {
    let foreign = || TrialError::Request("the link speaks DNP3".to_owned());
    match action {
        Action::Read(read) => {
            let addresses = addresses(&read.device).ok_or_else(|| Answer::Read(Err(foreign())))?;
            let (errand, command) = Errand::read(*read).map_err(|error| Answer::Read(Err(error)))?;
            Ok((addresses, (errand, Some(command))))
        }
        Action::Write(write) => {
            let addresses = addresses(&write.device).ok_or_else(|| Answer::Written(Err(foreign().into())))?;
            let (errand, command) = Errand::write(*write).map_err(|error| Answer::Written(Err(error)))?;
            Ok((addresses, (errand, Some(command))))
        }
        Action::Discover(what) => match what.downcast::<Discovery>().map(|what| *what) {
            Ok(Discovery::Identify(address, own)) => {
                let (errand, command) = Errand::identify();
                Ok(((LinkAddress(address), LinkAddress(own)), (errand, Some(command))))
            }
            Ok(Discovery::Points(address, own)) => {
                let (errand, command) = Errand::offers();
                Ok(((LinkAddress(address), LinkAddress(own)), (errand, Some(command))))
            }
            // That needs no session.
            Ok(Discovery::Profile(_)) => Err(Answer::Found(Err(foreign())).into()),
            Ok(Discovery::Act(address, own, act)) => Ok(((LinkAddress(address), LinkAddress(own)), Errand::act(act))),
            Err(_) => Err(Answer::Found(Err(foreign())).into()),
        },
    }
}

fn addresses(device: &Device) -> Option<(LinkAddress, LinkAddress)> {
    let own = device.protocol.dnp3()?;
    Some((LinkAddress(own.address), LinkAddress(own.master_address)))
}

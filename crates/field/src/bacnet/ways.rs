use interlex_bacnet::{AbortReason, ConfirmedService, Failure, MaxApdu, RejectReason, Segmentation, Terms};
use std::time::Duration;

/// How a device can be asked: what it says of that, and what was found out where it is otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Ways {
    pub(super) timeout: Duration,
    pub(super) retries: u8,
    /// How large a message to it may be.
    pub(super) max_apdu: MaxApdu,
    pub(super) segmentation: Segmentation,
    /// Whether it reads several properties at a time.
    pub(super) reads_multiple: bool,
    /// How many octets an answer may have, as was found out: what is longer does not arrive.
    pub(super) limit: usize,
    /// How large it would be, as is described or said.
    largest: usize,
    /// Something long did not arrive, and something short did: it may have been lost by chance.
    is_suspected: bool,
}

/// Answers of fewer octets are never the reason why one is missing.
const LEAST: usize = 50;

impl Ways {
    /// Before anything is known: everybody takes so much.
    pub(super) fn new(timeout: Duration, retries: u8, largest: Option<u16>) -> Self {
        let most = largest.unwrap_or(MaxApdu::BACNET_IP.octets());
        Self {
            timeout,
            retries,
            max_apdu: MaxApdu::within(most.into()),
            segmentation: Segmentation::Both,
            reads_multiple: true,
            limit: usize::from(most),
            largest: usize::from(most),
            is_suspected: false,
        }
    }

    /// How a request goes there.
    pub(super) fn terms(&self) -> Terms {
        Terms {
            timeout: self.timeout,
            retries: self.retries,
            max_apdu: self.max_apdu,
            segmentation: self.segmentation,
            answer: MaxApdu::within(u32::try_from(self.limit).unwrap_or(u32::MAX)),
        }
    }

    /// How many octets an answer may have.
    pub(super) fn room(&self) -> usize {
        self.limit.min(usize::from(self.max_apdu.octets()))
    }

    /// An answer of so many octets did not arrive, and a short one does. Once is chance.
    pub(super) fn was_lost(&mut self, octets: usize) {
        if std::mem::replace(&mut self.is_suspected, true) {
            self.was_too_long(octets);
        }
    }

    /// Something long arrives.
    pub(super) const fn arrives(&mut self) {
        self.is_suspected = false;
    }

    /// Longer answers are tried again: the way there may be another one.
    pub(super) fn raise(&mut self) {
        self.limit = (self.limit * 2).min(self.largest);
        self.is_suspected = false;
    }

    /// Whether answers are kept shorter than they could be.
    pub(super) const fn is_lowered(&self) -> bool {
        self.limit < self.largest
    }

    /// An answer of so many octets was too long.
    pub(super) fn was_too_long(&mut self, octets: usize) {
        self.limit = (octets.min(self.room()) / 2).max(LEAST);
        self.is_suspected = false;
    }
}

/// What a failure says of how a device can be asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Meaning {
    /// The request, or its answer, is too long.
    TooLong,
    /// It does not know the service.
    UnknownService,
    /// It did not answer at all.
    Silent,
    /// Something else: about what was asked.
    Other,
}

pub(super) fn meaning(service: ConfirmedService, failure: &Failure) -> Meaning {
    match failure {
        Failure::Timeout => Meaning::Silent,
        Failure::Abort { reason, .. } => match *reason {
            AbortReason::BUFFER_OVERFLOW
            | AbortReason::SEGMENTATION_NOT_SUPPORTED
            | AbortReason::APDU_TOO_LONG
            | AbortReason::OUT_OF_RESOURCES => Meaning::TooLong,
            AbortReason::TSM_TIMEOUT => Meaning::Silent,
            _ => Meaning::Other,
        },
        Failure::Reject(RejectReason::UNRECOGNIZED_SERVICE) => Meaning::UnknownService,
        Failure::Reject(RejectReason::BUFFER_OVERFLOW | RejectReason::TOO_MANY_ARGUMENTS) => Meaning::TooLong,
        // Some say so that they do not know it.
        Failure::Error { error, .. }
            if service == ConfirmedService::READ_PROPERTY_MULTIPLE
                && *error == interlex_bacnet::Error::SERVICE_REQUEST_DENIED =>
        {
            Meaning::UnknownService
        }
        Failure::Reject(_) | Failure::Error { .. } | Failure::Unfitting => Meaning::Other,
    }
}

use super::error::ChannelError;
use crate::security::{DerivedKeys, SecurityPolicy, derive_keys};
use std::time::{Duration, Instant};

/// A token with the keys that it stands for.
#[derive(Debug, Clone)]
pub(super) struct Token {
    pub(super) id: u32,
    /// What is sent is secured with these.
    pub(super) own: DerivedKeys,
    /// What is received is secured with these.
    pub(super) other: DerivedKeys,
    pub(super) since: Instant,
    pub(super) lifetime: Duration,
}

impl Token {
    /// One whose keys are made of what both sides added.
    ///
    /// Source: OPC 10000-6, section 6.7.5: a side's keys are made with its own nonce as the seed.
    pub(super) fn new(
        policy: SecurityPolicy,
        (id, lifetime): (u32, Duration),
        (own_nonce, other_nonce): (&[u8], &[u8]),
        now: Instant,
    ) -> Self {
        let own = derive_keys(policy, other_nonce, own_nonce);
        let other = derive_keys(policy, own_nonce, other_nonce);
        Self { id, own, other, since: now, lifetime }
    }

    /// When a client renews it: after three quarters of its life.
    ///
    /// Source: OPC 10000-4, section 5.6.2.1.
    pub(super) fn renews_at(&self) -> Instant {
        self.since + self.lifetime.mul_f64(0.75)
    }

    /// Until when what was secured with it is taken: a quarter longer than it lives.
    ///
    /// Source: OPC 10000-6, section 6.7.1.
    pub(super) fn ends_at(&self) -> Instant {
        self.since + self.lifetime.mul_f64(1.25)
    }
}

/// The tokens of a channel: the newest, and the one before, with which frames may still be under way.
#[derive(Debug, Clone, Default)]
pub(super) struct Tokens {
    pub(super) current: Option<Token>,
    previous: Option<Token>,
    /// A token that the other side may begin to use.
    offered: Option<Token>,
}

impl Tokens {
    /// A new token is in use from now on; what comes with the one before is still taken.
    pub(super) fn begin(&mut self, token: Token) {
        self.previous = self.current.replace(token);
    }

    /// A server has given a new token: it uses it as soon as the client does.
    ///
    /// Source: OPC 10000-4, section 5.6.2.1.
    pub(super) fn offer(&mut self, token: Token) {
        if self.current.is_none() {
            self.current = Some(token);
        } else {
            self.offered = Some(token);
        }
    }

    /// The keys of a token that a frame came with.
    pub(super) fn of(&self, id: u32, now: Instant) -> Result<&Token, ChannelError> {
        let known = [&self.current, &self.offered, &self.previous].into_iter().flatten();
        let alive = known.filter(|token| now < token.ends_at());
        alive.into_iter().find(|token| token.id == id).ok_or(ChannelError::Token(id))
    }

    /// A frame with this token was what it should be.
    pub(super) fn used(&mut self, id: u32) {
        if self.offered.as_ref().is_some_and(|token| token.id == id) {
            self.previous = self.current.take();
            self.current = self.offered.take();
        } else if self.current.as_ref().is_some_and(|token| token.id == id) {
            // Frames come in order: none with the one before follows.
            self.previous = None;
        }
    }
}

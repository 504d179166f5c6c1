use interlex_core::{Gap, Timestamp};
use interlex_store::GapRecord;
use std::collections::VecDeque;
use std::time::Duration;

/// Gaps that are remembered for those who ask where samples are missing.
const GAPS: usize = 50;
/// Losses that are no further apart are one gap.
const ONE_GAP: Duration = Duration::from_secs(60);

pub(super) const NO_ROOM: &str = "no room";
pub(super) const NO_MEMORY: &str = "no room in memory";
pub(super) const TOO_OLD: &str = "waited too long";
pub(super) const GONE: &str = "points that are gone";
pub(super) const BY_HAND: &str = "thrown away by hand";
/// Why samples were never in a message.
pub(crate) const NO_MESSAGE: &str = "their template fails";
const REASONS: [&str; 6] = [NO_ROOM, NO_MEMORY, TOO_OLD, GONE, BY_HAND, NO_MESSAGE];

/// What an uplink has lost, and where.
#[derive(Debug)]
pub(super) struct Losses {
    uplink: String,
    /// Of this run.
    count: u64,
    /// Of earlier runs: by the gaps that are remembered, and as it was counted.
    before: u64,
    gaps: VecDeque<Gap>,
    /// Whether the database knows of all gaps.
    is_stored: bool,
    /// Where samples of points that are gone were counted by an earlier run.
    counted_before: Vec<(i64, i64)>,
}

impl Losses {
    pub(super) fn new(uplink: &str) -> Self {
        let (gaps, counted_before) = (VecDeque::new(), Vec::new());
        Self { uplink: uplink.to_owned(), count: 0, before: 0, gaps, is_stored: true, counted_before }
    }

    /// What an earlier run has lost.
    pub(super) fn restore(&mut self, gaps: Vec<GapRecord>) {
        let known = |why: &str| REASONS.into_iter().find(|known| *known == why).unwrap_or("of an earlier version");
        for GapRecord { from, to, count, why } in gaps {
            if why == GONE {
                self.counted_before.push((from, to));
            }
            self.before += count;
            self.gaps.push_back(Gap { from, to, count, why: known(&why) });
        }
    }

    /// So many were lost by earlier runs, those included whose gaps nobody remembers.
    pub(super) const fn was_lost_before(&mut self, count: u64) {
        if count > self.before {
            self.before = count;
        }
    }

    pub(super) fn add(&mut self, count: u64, from: Timestamp, to: Timestamp, why: &'static str) {
        if count == 0 {
            return;
        }
        self.count += count;
        self.is_stored = false;
        let (from, to) = (from.as_millis(), to.as_millis());
        let reach = i64::try_from(ONE_GAP.as_millis()).unwrap_or(i64::MAX);
        // Losses for several reasons may take turns.
        let newest = self.gaps.iter_mut().rev().take(REASONS.len());
        match newest.into_iter().find(|gap| gap.why == why && from <= gap.to + reach) {
            Some(gap) => {
                (gap.from, gap.to, gap.count) = (gap.from.min(from), gap.to.max(to), gap.count + count);
            }
            None => {
                tracing::error!(uplink = self.uplink, why, "samples are being lost");
                if self.gaps.len() == GAPS {
                    self.gaps.pop_front();
                }
                self.gaps.push_back(Gap { from, to, count, why });
            }
        }
    }

    /// A sample from the database is of a point that is gone; an earlier run may have counted it.
    pub(super) fn add_gone(&mut self, came: Timestamp) {
        let at = came.as_millis();
        if !self.counted_before.iter().any(|(from, to)| (*from..=*to).contains(&at)) {
            self.add(1, came, came, GONE);
        }
    }

    pub(super) const fn count(&self) -> u64 {
        self.before + self.count
    }

    pub(super) fn gaps(&self) -> Vec<Gap> {
        self.gaps.iter().cloned().collect()
    }

    /// What the database does not know yet.
    pub(super) fn unstored(&self) -> Option<Vec<GapRecord>> {
        let record = |gap: &Gap| GapRecord { from: gap.from, to: gap.to, count: gap.count, why: gap.why.to_owned() };
        (!self.is_stored).then(|| self.gaps.iter().map(record).collect())
    }

    pub(super) const fn stored(&mut self) {
        self.is_stored = true;
    }
}

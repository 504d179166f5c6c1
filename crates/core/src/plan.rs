//! Which requests read a device: the fewest that it allows.

use std::ops::RangeInclusive;

/// One request: neighbouring addresses that are read together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Block<T> {
    /// First and last address.
    pub range: RangeInclusive<u16>,
    /// What is read by it, in the order of their addresses: first address, last address, and whatever the caller
    /// needs to know it by.
    pub items: Vec<(u16, u16, T)>,
}

/// What a device allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlanLimits {
    /// The most addresses in one request.
    pub max_addresses: u16,
    /// How many unused addresses a request may cross.
    pub max_gap: u16,
}

/// Merges items of one table into the fewest requests that the limits allow.
///
/// An item longer than `max_addresses` becomes a request of its own, for the device to refuse. `is_hole` tells whether a
/// range touches addresses that no request may cross.
#[must_use]
pub fn plan<T>(mut items: Vec<(u16, u16, T)>, limits: PlanLimits, is_hole: impl Fn(u16, u16) -> bool) -> Vec<Block<T>> {
    items.sort_by_key(|(first, last, _)| (*first, *last));
    let mut blocks: Vec<Block<T>> = Vec::new();
    for (first, last, item) in items {
        let fitting = blocks.last_mut().filter(|block| {
            let end = (*block.range.end()).max(last);
            let is_near = u32::from(first) <= u32::from(*block.range.end()) + 1 + u32::from(limits.max_gap);
            let is_small = end - block.range.start() < limits.max_addresses;
            let (gap_first, gap_last) = (block.range.end().saturating_add(1), first.saturating_sub(1));
            is_near && is_small && !(gap_first <= gap_last && is_hole(gap_first, gap_last))
        });
        match fitting {
            Some(block) => {
                block.range = *block.range.start()..=(*block.range.end()).max(last);
                block.items.push((first, last, item));
            }
            None => blocks.push(Block { range: first..=last, items: vec![(first, last, item)] }),
        }
    }
    blocks
}

/// Cuts a block that a device refused into two, so that after some more refusals the bad items stand alone.
///
/// Items that share addresses may be read by both halves.
///
/// # Errors
/// The block itself when it has a single item: that is the bad one.
pub fn split<T>(mut block: Block<T>) -> Result<(Block<T>, Block<T>), Block<T>> {
    if block.items.len() < 2 {
        return Err(block);
    }
    let second = block.items.split_off(block.items.len() / 2);
    Ok((around(block.items), around(second)))
}

fn around<T>(items: Vec<(u16, u16, T)>) -> Block<T> {
    let first = items.iter().map(|(first, ..)| *first).min().unwrap_or(0);
    let last = items.iter().map(|(_, last, _)| *last).max().unwrap_or(first);
    Block { range: first..=last, items }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn ranges(blocks: &[Block<usize>]) -> Vec<(u16, u16)> {
        blocks.iter().map(|block| (*block.range.start(), *block.range.end())).collect()
    }

    #[test]
    fn neighbours_merge_gaps_and_sizes_separate() {
        let items = || vec![(10, 11, 0), (0, 0, 1), (1, 1, 2), (4, 5, 3), (100, 101, 4)];
        let planned =
            |max_addresses, max_gap| ranges(&plan(items(), PlanLimits { max_addresses, max_gap }, |_, _| false));
        assert_eq!(planned(125, 0), [(0, 1), (4, 5), (10, 11), (100, 101)]);
        assert_eq!(planned(125, 4), [(0, 11), (100, 101)]);
        assert_eq!(planned(6, 4), [(0, 5), (10, 11), (100, 101)]);
        assert_eq!(planned(1, 4), [(0, 0), (1, 1), (4, 5), (10, 11), (100, 101)], "too long stands alone");
        let limits = PlanLimits { max_addresses: 125, max_gap: 4 };
        assert_eq!(
            ranges(&plan(items(), limits, |first, last| first <= 3 && 3 <= last)),
            [(0, 1), (4, 11), (100, 101)]
        );
    }

    proptest! {
        #[test]
        fn plans_read_every_item_once_within_the_limits(
            starts in prop::collection::vec((0_u16..2000, 0_u16..4), 1..60), max_addresses in 4_u16..=125, max_gap in 0_u16..20,
        ) {
            let items: Vec<_> = starts.iter().enumerate().map(|(n, (first, more))| (*first, first + more, n)).collect();
            let blocks = plan(items.clone(), PlanLimits { max_addresses, max_gap }, |_, _| false);
            let mut seen: Vec<_> = blocks.iter().flat_map(|block| block.items.clone()).collect();
            seen.sort_by_key(|(.., n)| *n);
            prop_assert_eq!(seen, items);
            for block in &blocks {
                prop_assert!(block.range.end() - block.range.start() < max_addresses);
                prop_assert!(block.items.iter().all(|(first, last, _)| block.range.contains(first) && block.range.contains(last)));
            }
        }

        #[test]
        fn splitting_isolates_any_bad_item_in_few_steps(count in 2_usize..125, bad in 0_usize..125) {
            let bad = bad % count;
            let items = (0..count).map(|n| (u16::try_from(n).unwrap(), u16::try_from(n).unwrap(), n)).collect();
            let mut waiting = plan(items, PlanLimits { max_addresses: 125, max_gap: 0 }, |_, _| false);
            let (mut read, mut refusals) = (0, 0);
            while let Some(block) = waiting.pop() {
                if block.items.iter().all(|(.., n)| *n != bad) {
                    read += block.items.len();
                    continue;
                }
                refusals += 1;
                match split(block) {
                    Ok((one, two)) => waiting.extend([one, two]),
                    Err(alone) => prop_assert_eq!(alone.items[0].2, bad),
                }
            }
            prop_assert_eq!(read, count - 1, "every good item is read");
            prop_assert!(refusals <= 9, "{} refusals", refusals);
        }
    }
}

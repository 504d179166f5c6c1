//! A client that follows items, and whatever a server answers.
#![no_main]

use interlex_opcua::{
    BackfillConfig, FollowEvent, Follower, Limits, NodeId, ReadValueId, RequestError, Response, StatusCode, WatchConfig,
    WatchEvent, WatchedGroup, WatchedItem,
};
use libfuzzer_sys::fuzz_target;
use std::time::{Duration, Instant};

fuzz_target!(|data: &[u8]| {
    let second = Duration::from_secs(1);
    let watch = WatchConfig { lifetime: 60 * second, timeout: second, at_once: 2, pause: second };
    let backfill = BackfillConfig { values: 5, at_once: 2, timeout: second, pause: second, tries: 3 };
    let item = |number| WatchedItem {
        what: ReadValueId { node_id: NodeId::numeric(1, number), attribute_id: 13, ..ReadValueId::default() },
        sampling: second,
        queue_size: 10,
        filter: None,
    };
    let group = WatchedGroup { interval: second, keep_alive: second, items: (0..3).map(item).collect() };
    let mut follower = Follower::new((watch, backfill), vec![group.clone(), group], [], vec![7]);
    let mut now = Instant::now();
    follower.activated(now, true);
    let (mut waiting, mut rest) = (Vec::new(), data);
    while let [kind, passes, length, more @ ..] = rest {
        for _ in 0..50 {
            let Some((number, _, _)) = follower.poll_request(now) else { break };
            waiting.push(number);
        }
        assert!(waiting.len() < 1000, "no more is asked than can be answered");
        let (answer, behind) = more.split_at(usize::from(*length).min(more.len()));
        rest = behind;
        let number = waiting.pop().unwrap_or_default();
        let answer = match kind % 8 {
            0 => Err(RequestError::Timeout),
            1 => Err(RequestError::Fault(StatusCode(u32::from(*length) << 16 | 0x8000_0000))),
            2 => {
                follower.inactive();
                for number in waiting.drain(..) {
                    follower.handle_answer(now, number, Err(RequestError::Lost));
                }
                follower.activated(now, length % 2 == 0);
                Err(RequestError::Lost)
            }
            _ => Response::from_bytes(answer, Limits::default()).map_err(RequestError::from),
        };
        follower.handle_answer(now, number, answer);
        now += Duration::from_millis(u64::from(*passes) * 20);
        follower.handle_timeout(now);
        while let Some(event) = follower.poll_event() {
            if let FollowEvent::Live(WatchEvent::Values { subscription, number, .. }) = event {
                follower.taken(subscription, number);
            }
        }
    }
});

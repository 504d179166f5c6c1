//! What holds whatever happens, in whatever order.

use super::*;
use proptest::prelude::*;
use std::collections::HashSet;

/// What may happen to a node, in any order.
#[derive(Debug, Clone)]
enum Step {
    Connect,
    Subscribed,
    Lost,
    Birth,
    Up(usize),
    Down(usize),
    Data(usize),
    Rebirth,
    Disconnect,
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        2 => Just(Step::Connect),
        4 => Just(Step::Subscribed),
        1 => Just(Step::Lost),
        6 => Just(Step::Birth),
        4 => (0_usize..3).prop_map(Step::Up),
        2 => (0_usize..3).prop_map(Step::Down),
        9 => (0_usize..3).prop_map(Step::Data),
        2 => Just(Step::Rebirth),
        1 => Just(Step::Disconnect),
    ];
    prop::collection::vec(step, 1..400)
}

proptest! {
    #[test]
    fn whatever_happens_the_order_of_messages_keeps_the_rules(steps in steps()) {
        let mut node = node(None);
        let (mut next_seq, mut node_is_born, mut born) = (None, false, HashSet::new());
        for step in steps {
            match step {
                Step::Connect => {
                    node.connect(1);
                    (next_seq, node_is_born) = (None, false);
                }
                Step::Subscribed => node.handle_subscribed(),
                Step::Lost => {
                    node.handle_connection_lost();
                    (next_seq, node_is_born) = (None, false);
                }
                Step::Birth => node.birth(1, &Steady),
                Step::Up(device) => {
                    node.device_up(1, device, &Steady);
                }
                Step::Down(device) => node.device_down(1, device),
                Step::Data(device) => {
                    let datum = Datum { metric: 0, now: good(MetricValue::Uint(1)), standing: Standing::Current };
                    let _ = node.data(1, device, [datum]);
                }
                Step::Rebirth => node.handle_message(NCMD, &rebirth_command(metric::Value::BooleanValue(true)), &Steady),
                Step::Disconnect => node.disconnect(1),
            }
            for (topic, payload) in sent(&mut node) {
                prop_assert_eq!(check_payload(&payload), Ok(()));
                if topic.message == MessageType::NBirth {
                    prop_assert_eq!(payload.seq, Some(0));
                    (next_seq, node_is_born) = (Some(0), true);
                    born.clear();
                }
                if topic.message == MessageType::NDeath {
                    prop_assert_eq!(payload.seq, None);
                    node_is_born = false;
                    continue;
                }
                prop_assert!(node_is_born, "{} before NBIRTH", topic);
                prop_assert_eq!(payload.seq, next_seq);
                next_seq = next_seq.map(|seq| (seq + 1) % 256);
                match topic.message {
                    MessageType::DBirth => prop_assert!(born.insert(topic.device), "born twice"),
                    MessageType::DDeath => prop_assert!(born.remove(&topic.device), "a death without a birth"),
                    MessageType::DData => prop_assert!(born.contains(&topic.device), "data without a birth"),
                    _ => {}
                }
            }
        }
    }

    #[test]
    fn any_bytes_as_a_command_do_no_harm(payload in prop::collection::vec(any::<u8>(), 0..200)) {
        let mut node = node(None);
        born(&mut node);
        node.handle_message(NCMD, &payload, &Steady);
        if let Ok(decoded) = decode_payload(&payload) {
            let _ = check_payload(&decoded);
        }
    }
}

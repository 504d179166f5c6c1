//! A client and a device, and somebody between them who says anything, at any time.
#![no_main]

use interlex_bacnet::{
    ConfirmedService, Device, DeviceConfig, MaxApdu, Node, NodeConfig, Now, Object, ObjectIdentifier, ObjectType,
    ReadProperty, Segmentation, Terms, Via,
};
use libfuzzer_sys::fuzz_target;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::time::{Duration, Instant};

const OTHER: SocketAddrV4 = SocketAddrV4::new(Ipv4Addr::new(10, 0, 0, 2), 47_808);

fuzz_target!(|data: &[u8]| {
    let begun = Instant::now();
    let mut passed = Duration::ZERO;
    let config = NodeConfig { most_octets: 2000, ..NodeConfig::default() };
    let mut node = Node::new(config, fastrand::Rng::with_seed(1), begun);
    let mut device = Device::new(DeviceConfig {
        instance: 7,
        name: "boiler-house".to_owned(),
        vendor: 999,
        vendor_name: String::new(),
        model: String::new(),
        max_apdu: MaxApdu::LEAST,
        segmentation: Segmentation::Both,
        utc_offset: 0,
        password: None,
        broadcasts_i_am: true,
    });
    for instance in 1..40 {
        let object = ObjectIdentifier::new(ObjectType::ANALOG_OUTPUT, instance).unwrap();
        device = device.with(Object::valued(object, "valve", 1.5_f32));
    }
    let mut rest = data;
    while let Some((step, after)) = rest.split_first() {
        rest = after;
        let now = Now { instant: begun + passed, utc_millis: 1_795_000_000_000 };
        match step & 7 {
            0 => {
                passed += Duration::from_millis(u64::from(step >> 3) * 200);
                node.handle_timeout(now.instant);
                device.handle_timeout(now);
            }
            1 => {
                let mut asked = Vec::new();
                let object = ObjectIdentifier::from_bits(7);
                ReadProperty { object, reference: interlex_bacnet::PropertyIdentifier(85).into() }.encode(&mut asked);
                asked.resize(asked.len() + usize::from(step >> 3) * 100, 0);
                let terms = Terms { max_apdu: MaxApdu::within(206), ..Terms::default() };
                _ = node.request(now.instant, OTHER.into(), ConfirmedService::READ_PROPERTY, asked, terms);
            }
            kind => {
                let count = usize::from(step >> 3).min(rest.len());
                let (octets, after) = rest.split_at(count);
                rest = after;
                // Around the octets is what all have around them.
                let mut datagram = vec![0x81, 0x0A, 0, u8::try_from(count + 6).unwrap(), 1, 0];
                datagram.extend(octets);
                let via = if kind == 2 { Via::Broadcast } else { Via::Unicast };
                node.handle_input(now.instant, via, OTHER, if kind == 3 { octets } else { &datagram });
            }
        }
        while let Some(event) = node.poll_event() {
            device.handle(now, &mut node, event);
        }
        let mut sent = 0;
        while let Some((_, datagram)) = node.poll_transmit() {
            assert!(datagram.len() <= 1497, "{} octets", datagram.len());
            sent += 1;
            assert!(sent < 400, "it does not stop sending");
        }
        _ = (node.poll_timeout(), device.poll_timeout());
    }
});

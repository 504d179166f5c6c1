//! BACnet devices for the suite.

use crate::suite::{Field, Writes};
use interlex_bacnet::{
    Content, Device, DeviceConfig, DeviceHost, MaxApdu, Object, ObjectIdentifier, ObjectType, PropertyIdentifier,
    Segmentation, Value as Told,
};
use interlex_core::description::{Description, Files, read};
use std::collections::BTreeMap;
use std::net::{Ipv4Addr, SocketAddrV4};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tokio_util::sync::{CancellationToken, DropGuard};

pub(crate) const PORT: u16 = 47_808;
const GROWS: Duration = Duration::from_millis(5);

pub(crate) struct BacnetField {
    hosts: BTreeMap<&'static str, Arc<DeviceHost>>,
    own: Ipv4Addr,
    is_flooding: Arc<AtomicBool>,
    _stop: DropGuard,
}

pub(crate) fn object(object_type: u16, instance: u32) -> ObjectIdentifier {
    ObjectIdentifier::new(ObjectType::new(object_type).unwrap(), instance).unwrap()
}

pub(crate) fn config(instance: u32) -> DeviceConfig {
    DeviceConfig {
        instance,
        name: format!("boiler-house-{instance}"),
        vendor: 999,
        vendor_name: "Alderfen".to_owned(),
        model: "test".to_owned(),
        max_apdu: MaxApdu::BACNET_IP,
        segmentation: Segmentation::Both,
        utc_offset: -60,
        password: None,
        broadcasts_i_am: false,
    }
}

/// A number that only grows, and one that is written: both are whole.
fn count() -> ObjectIdentifier {
    object(48, 1)
}

fn set_point() -> ObjectIdentifier {
    object(48, 2)
}

fn instance(device: &str) -> u32 {
    if device == "one" { 4001 } else { 4002 }
}

fn device(name: &str) -> Device {
    Device::new(config(instance(name)))
        .with(Object::valued(count(), "count", 0_u32))
        .with(Object::valued(set_point(), "set-point", 7_u32).writable(PropertyIdentifier::PRESENT_VALUE))
        .with(Object::valued(object(0, 5), "more", 7.5_f32))
}

impl BacnetField {
    fn host(&self, device: &str) -> (&Arc<DeviceHost>, u32) {
        (&self.hosts[device], instance(device))
    }
}

/// A host of devices at an address of its own, whose broadcasts nobody else hears.
pub(crate) fn host(devices: Vec<Device>, stop: &CancellationToken) -> Arc<DeviceHost> {
    let address = SocketAddrV4::new(interlex_sidecar::own_address(), PORT);
    let devices = devices.into_iter().map(|device| (None, device));
    let host = DeviceHost::bind(address, *address.ip(), devices).unwrap();
    tokio::spawn(Arc::clone(&host).serve(stop.clone()));
    host
}

impl Field for BacnetField {
    const CONNECTS: bool = false;

    async fn start() -> Self {
        let stop = CancellationToken::new();
        let hosts = ["one", "two"].map(|name| (name, host(vec![device(name)], &stop)));
        let hosts = BTreeMap::from(hosts);
        let growing: Vec<_> = hosts.iter().map(|(name, host)| (instance(name), Arc::clone(host))).collect();
        tokio::spawn(stop.clone().run_until_cancelled_owned(async move {
            loop {
                tokio::time::sleep(GROWS).await;
                for (instance, host) in &growing {
                    host.with(*instance, |device, _, _| {
                        // Only what somebody has heard goes on.
                        if !device.is_told(count()) {
                            return;
                        }
                        let count = device.object_mut(count()).unwrap();
                        let before = count.value(PropertyIdentifier::PRESENT_VALUE).unwrap().as_unsigned().unwrap();
                        count.set(PropertyIdentifier::PRESENT_VALUE, before + 1);
                    });
                }
            }
        }));
        let own = interlex_sidecar::own_address();
        let is_flooding = Arc::new(AtomicBool::new(false));
        let talks = Arc::clone(&is_flooding);
        // Somebody at the address of neither.
        tokio::spawn(stop.clone().run_until_cancelled_owned(async move {
            let socket = tokio::net::UdpSocket::bind((interlex_sidecar::own_address(), 0)).await.unwrap();
            let nonsense: [&[u8]; 4] = [
                b"nonsense that nobody asked for",
                // Who says again and again that it is device 4001, changes of nobody, and an answer to nothing.
                &[0x81, 0x0A, 0, 21, 1, 0, 0x10, 0, 0xC4, 2, 0, 0x0F, 0xA1, 0x22, 5, 0xC4, 0x91, 0, 0x22, 3, 0xE7],
                &[0x81, 0x0A, 0, 9, 1, 0, 0x20, 1, 12],
                &[0x81, 0x0A, 0, 17, 1, 4, 2, 0x75, 1, 12, 0x0C, 0, 0, 0, 1, 0x19, 85],
            ];
            loop {
                if !talks.load(Ordering::Relaxed) {
                    tokio::time::sleep(Duration::from_millis(5)).await;
                    continue;
                }
                for octets in nonsense {
                    _ = socket.send_to(octets, (own, PORT)).await;
                }
                tokio::task::yield_now().await;
            }
        }));
        Self { hosts, own, is_flooding, _stop: stop.drop_guard() }
    }

    fn description(&self, devices: &[&str], with_more: &[&str]) -> Description {
        let own = self.own;
        let mut main = format!(
            "[gateway]\nname = \"g\"\n[rates]\nfast = \"1s\"\n[[link]]\nname = \"building\"\nprotocol = \"bacnet-ip\"\ninterface = \
             \"{own}\"\nbroadcast = \"{own}\"\ntimeout = \"300ms\"\n"
        );
        let mut files = Files::new();
        for device in devices {
            let (host, instance) = self.host(device);
            let host = *host.address().ip();
            main.push_str(&format!(
                "[[device]]\nname = \"{device}\"\nlink = \"building\"\ninstance = {instance}\nhost = \"{host}\"\n"
            ));
            let more = if with_more.contains(device) { "more,analog-input:5,,fast,read\n" } else { "" };
            let list = format!(
                "name,address,type,rate,access\ncount,positive-integer-value:1,,fast,read\n\
                 set-point,positive-integer-value:2,uint16,fast,read-write\n{more}"
            );
            files.insert(format!("points/{device}.csv"), list);
        }
        files.insert("gateway.toml".to_owned(), main);
        read(&files).unwrap()
    }

    fn told(&self, device: &str) -> u64 {
        let (host, instance) = self.host(device);
        let read = |device: &mut Device| device.object(count()).unwrap().value(PropertyIdentifier::PRESENT_VALUE);
        host.with(instance, |device, _, _| read(device)).unwrap().unwrap().as_unsigned().unwrap()
    }

    fn silence(&self, device: &str, is_silent: bool) {
        let (host, instance) = self.host(device);
        host.with(instance, |device, _, _| device.faults_mut().is_silent = is_silent);
    }

    fn takes_writes(&self, device: &str, how: Writes) {
        let (host, instance) = self.host(device);
        let how = match how {
            Writes::Takes => interlex_bacnet::Writes::Takes,
            Writes::Refuses => interlex_bacnet::Writes::Refuses,
            Writes::Ignores => interlex_bacnet::Writes::Ignores,
            Writes::Swallows => interlex_bacnet::Writes::Swallows,
        };
        host.with(instance, |device, _, _| device.faults_mut().writes = how);
    }

    fn written(&self, device: &str) -> Vec<u64> {
        let (host, instance) = self.host(device);
        let number = |content: &Content| content.one().and_then(|value: Told| value.as_unsigned()).unwrap();
        host.with(instance, |device, _, _| device.written().map(|(_, content)| number(content)).collect()).unwrap()
    }

    fn cut(&self) {
        self.hosts.values().for_each(|host| host.pull_cable(true));
    }

    async fn mend(&self) {
        self.hosts.values().for_each(|host| host.pull_cable(false));
    }

    async fn flood(&self, is_flooding: bool) {
        self.is_flooding.store(is_flooding, Ordering::Relaxed);
    }
}

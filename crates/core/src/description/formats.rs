//! The texts with a form of their own, by the name that schemas have for it.

use super::bacnet::{HostPort, ZoneName};
use super::opcua::{
    AcceptedFaults, ElementRange, Fingerprint, ListenAddress, MethodArguments, OpcUaAddress, ServerUrl,
};
use super::uplink::{BrokerUrl, BrokerUrls};
use super::{Holes, Selection, Span, names};
use crate::{AutoParts, CommandMapping, DataType, Enumeration, Report, TwoEndedSpan};

/// A form of a text.
#[derive(Debug)]
pub(super) struct Format {
    /// What schemas call it.
    pub(super) name: &'static str,
    /// Whether a text has it.
    pub(super) is_valid: fn(&str) -> bool,
    /// What to say when it has not.
    pub(super) expected: &'static str,
}

impl Format {
    const fn new(name: &'static str, is_valid: fn(&str) -> bool, expected: &'static str) -> Self {
        Self { name, is_valid, expected }
    }
}

/// The form of this name, where it is one of ours.
pub(super) fn find(name: &str) -> Option<&'static Format> {
    ALL.iter().find(|format| format.name == name)
}

pub(super) static ALL: [Format; 28] = [
    Format::new("name", names::is_name, names::NAME_FORM),
    Format::new("point-name", names::is_point_name, names::POINT_NAME_FORM),
    Format::new("span", |text| text.parse::<Span>().is_ok(), Span::FORM),
    Format::new("data-type", |text| text.parse::<DataType>().is_ok(), DATA_TYPE_FORM),
    Format::new("two-ended-span", |text| text.parse::<TwoEndedSpan>().is_ok(), TwoEndedSpan::FORM),
    Format::new("enumeration", |text| text.parse::<Enumeration>().is_ok(), Enumeration::FORM),
    Format::new("report", |text| text.parse::<Report>().is_ok(), REPORT_FORM),
    Format::new("list-path", is_list_path, "a path beside gateway.toml that ends in .csv, such as points/pump.csv"),
    Format::new("holes", |text| text.parse::<Holes>().is_ok(), Holes::FORM),
    Format::new(
        "device-path",
        |text| text.starts_with('/') && !text.contains('\0'),
        "the path of a serial port, such as /dev/ttyUSB0",
    ),
    Format::new("secret", |text| !text.is_empty(), "some text"),
    Format::new(
        "certificates",
        is_certificates,
        "certificates in PEM, from -----BEGIN CERTIFICATE----- to its END, or file:/PATH",
    ),
    Format::new("broker-url", |text| BrokerUrl::try_from(text.to_owned()).is_ok(), BrokerUrl::FORM),
    Format::new("broker-urls", |text| text.parse::<BrokerUrls>().is_ok(), BrokerUrls::FORM),
    Format::new("server-url", |text| ServerUrl::try_from(text.to_owned()).is_ok(), ServerUrl::FORM),
    Format::new("node-address", |text| text.parse::<OpcUaAddress>().is_ok(), OpcUaAddress::FORM),
    Format::new("array-element", |text| text.parse::<ElementRange>().is_ok(), ElementRange::FORM),
    Format::new("method-arguments", |text| text.parse::<MethodArguments>().is_ok(), MethodArguments::FORM),
    Format::new("fingerprint", |text| text.parse::<Fingerprint>().is_ok(), Fingerprint::FORM),
    Format::new("listen-address", |text| text.parse::<ListenAddress>().is_ok(), ListenAddress::FORM),
    Format::new("auto-parts", |text| text.parse::<AutoParts>().is_ok(), AutoParts::FORM),
    Format::new("accepted-faults", |text| text.parse::<AcceptedFaults>().is_ok(), AcceptedFaults::FORM),
    Format::new("authorities", has_certificates, "certificates in PEM, from -----BEGIN CERTIFICATE----- to its END"),
    Format::new("command-part", CommandMapping::is_part, CommandMapping::FORM),
    Format::new("host-port", |text| text.parse::<HostPort>().is_ok(), HostPort::FORM),
    Format::new("ipv4-address", |text| text.parse::<std::net::Ipv4Addr>().is_ok(), "an IP address such as 10.20.0.255"),
    Format::new("time-zone", |text| text.parse::<ZoneName>().is_ok(), ZoneName::FORM),
    Format::new("selection", |text| text.parse::<Selection>().is_ok(), Selection::FORM),
];

const DATA_TYPE_FORM: &str = "bool, int8, uint8, int16, uint16, int32, uint32, int64, uint64, bcd16, bcd32, bcd64, float16, \
                              float32, float64, \
                              string(N) or latin1(N) with N from 1 to 250; of nodes also datetime, uuid, bytes, int32[] and \
                              int32[2,3]";
const REPORT_FORM: &str = "change, every SPAN, change+every SPAN or never, with SPAN such as 10s";

fn is_certificates(text: &str) -> bool {
    if let Some(path) = text.trim().strip_prefix("file:") {
        return path.starts_with('/') && !path.contains(['\0', '\n']);
    }
    has_certificates(text)
}

fn has_certificates(text: &str) -> bool {
    let marks = |mark: &str| text.matches(mark).count();
    let begun = marks("-----BEGIN CERTIFICATE-----");
    begun > 0 && begun == marks("-----END CERTIFICATE-----")
}

/// Paths stay inside the directory of the description, on every system.
fn is_list_path(text: &str) -> bool {
    let is_part = |part: &str| !matches!(part, "" | "." | "..") && !part.contains(['\\', ':', '\0']);
    text.is_empty() || (text.len() <= 200 && text.ends_with(".csv") && text.split('/').all(is_part))
}

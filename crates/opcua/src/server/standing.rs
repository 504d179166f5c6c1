//! What a server tells of itself.
//!
//! Source: OPC 10000-5, sections 6.3 and 8.3.2.

use super::description::ServerDescription;
use super::limits::ServerLimits;
use crate::space::Space;
use crate::structure::{BuildInfo, ServerState, ServerStatusDataType, Structure};
use crate::types::{Array, DateTime, LocalizedText, Scalar, Variant};

/// The first namespace.
const STANDARD: &str = "http://opcfoundation.org/UA/";
const SERVER_ARRAY: u32 = 2254;
const NAMESPACE_ARRAY: u32 = 2255;
const SERVER_STATUS: u32 = 2256;
const START_TIME: u32 = 2257;
const CURRENT_TIME: u32 = 2258;
const STATE: u32 = 2259;
const BUILD_INFO: u32 = 2260;
const SERVICE_LEVEL: u32 = 2267;
const AUDITING: u32 = 2994;
const SECONDS_TILL_SHUTDOWN: u32 = 2992;
const SHUTDOWN_REASON: u32 = 2993;

/// What a server is doing.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub(super) struct Standing {
    started: Option<DateTime>,
    /// What was told last.
    told: Option<(DateTime, ServerState)>,
    pub(super) state: ServerState,
}

fn texts<'a>(texts: impl Iterator<Item = &'a str>) -> Variant {
    Variant::Array(Array::String(texts.map(|text| Some(text.to_owned())).collect()))
}

fn text(text: &str) -> Variant {
    Variant::Scalar(Scalar::String(Some(text.to_owned())))
}

/// Fills in what stays the same: namespaces, names and limits. Further namespaces follow the standard's and the server's own.
pub(super) fn fill_in<'a>(
    space: &mut Space,
    description: &'a ServerDescription,
    limits: &ServerLimits,
    namespaces: impl Iterator<Item = &'a str>,
) {
    let own = description.application_uri.as_str();
    space.set_standard(SERVER_ARRAY, texts(std::iter::once(own)));
    space.set_standard(NAMESPACE_ARRAY, texts([STANDARD, own].into_iter().chain(namespaces)));
    space.set_standard(SERVICE_LEVEL, 255_u8);
    space.set_standard(AUDITING, false);
    let build = build_info(description);
    let parts = [
        &build.product_uri,
        &build.manufacturer_name,
        &build.product_name,
        &build.software_version,
        &build.build_number,
    ];
    for (id, part) in [2262, 2263, 2261, 2264, 2265].into_iter().zip(parts) {
        space.set_standard(id, text(part.as_deref().unwrap_or_default()));
    }
    space.set_standard(2266, Variant::Scalar(Scalar::DateTime(build.build_date)));
    space.set_standard(BUILD_INFO, Variant::Scalar(Scalar::ExtensionObject(build.to_object().into())));
    space.set_standard(SECONDS_TILL_SHUTDOWN, 0_u32);
    space.set_standard(SHUTDOWN_REASON, Variant::Scalar(Scalar::LocalizedText(LocalizedText::default().into())));
    let number = |number: usize| u32::try_from(number).unwrap_or(u32::MAX);
    let counts = [
        (11705, limits.nodes_per_read),
        (11707, limits.nodes_per_write),
        (11709, limits.methods_per_call),
        (11710, limits.nodes_per_browse),
        (11711, limits.nodes_per_register),
        (11712, limits.paths_per_translate),
        (11714, limits.items_per_call),
        (12165, limits.nodes_per_history_read),
        (24095, description.most_sessions),
        (24096, limits.subscriptions),
        (24104, limits.items),
    ];
    counts.into_iter().for_each(|(id, count)| space.set_standard(id, number(count)));
    let points = u16::try_from(limits.continuation_points).unwrap_or(u16::MAX);
    [2735, 2737].into_iter().for_each(|id| space.set_standard(id, points));
    space.set_standard(2272, limits.sampling_interval.0.as_secs_f64() * 1000.0);
    space.set_standard(2269, texts(std::iter::once("http://opcfoundation.org/UA-Profile/Server/EmbeddedUA2017")));
    space.set_standard(2271, texts(std::iter::once("en")));
}

fn build_info(description: &ServerDescription) -> BuildInfo {
    let own = |text: &str| Some(text.to_owned());
    BuildInfo {
        product_uri: own(&description.application_uri),
        manufacturer_name: own("Interlex"),
        product_name: own(&description.application_name),
        software_version: own(env!("CARGO_PKG_VERSION")),
        build_number: own(env!("CARGO_PKG_VERSION")),
        build_date: DateTime::NONE,
    }
}

impl Standing {
    /// Fills in what changes: the time of day, and what the server is doing.
    pub(super) fn tell(&mut self, space: &mut Space, description: &ServerDescription, wall: DateTime) {
        // Many requests come in a moment.
        if self.told.replace((wall, self.state)) == Some((wall, self.state)) {
            return;
        }
        let start_time = *self.started.get_or_insert(wall);
        let status = ServerStatusDataType {
            start_time,
            current_time: wall,
            state: self.state,
            build_info: build_info(description),
            ..ServerStatusDataType::default()
        };
        space.set_standard(START_TIME, Variant::Scalar(Scalar::DateTime(start_time)));
        space.set_standard(CURRENT_TIME, Variant::Scalar(Scalar::DateTime(wall)));
        space.set_standard(STATE, self.state as i32);
        space.set_standard(SERVER_STATUS, Variant::Scalar(Scalar::ExtensionObject(status.to_object().into())));
    }
}

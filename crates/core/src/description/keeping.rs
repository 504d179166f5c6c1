use super::{Description, PointSettings, Uplink, UplinkKind};
use crate::Report;
use serde::Serialize;
use std::fmt;

/// For how long an uplink keeps what its broker does not take, when every poll tells something new.
#[derive(Debug, Clone, PartialEq, Serialize, utoipa::ToSchema)]
pub struct Keeping {
    /// The uplink.
    pub uplink: String,
    /// How many samples a second there are at the most.
    pub samples_per_second: f64,
    /// For how many seconds they are kept, all of them.
    pub seconds: f64,
    /// Whether it is the room (`keep-megabytes`) that ends first, and not the time (`keep-for`).
    pub room_ends_first: bool,
}

/// What a sample takes in the database, compressed with its neighbours, in bytes.
const BYTES: f64 = 6.0;

impl Description {
    /// For how long each Sparkplug uplink keeps what its broker does not take. How large messages from templates are is not known
    /// before they are made.
    #[must_use]
    pub fn keeping(&self) -> Vec<Keeping> {
        self.uplinks
            .iter()
            .filter(|uplink| matches!(uplink.kind, UplinkKind::Sparkplug(_)))
            .map(|uplink| self.keeping_of(uplink))
            .collect()
    }

    fn keeping_of(&self, uplink: &Uplink) -> Keeping {
        let select = uplink.broker.select.as_ref();
        let points = self.devices.iter().flat_map(|device| {
            let name = device.settings.name.as_str();
            device.points.iter().filter(move |point| select.is_none_or(|select| select.takes(name, &point.settings)))
        });
        let samples_per_second = points.map(|point| self.per_second(&point.settings)).sum::<f64>();
        let room = f64::from(uplink.journal.keep_megabytes) * f64::from(1_u32 << 20) / BYTES / samples_per_second;
        let time = seconds(uplink.journal.keep_for.as_millis());
        let uplink = uplink.settings.name.to_string();
        Keeping { uplink, samples_per_second, seconds: time.min(room), room_ends_first: room < time }
    }

    /// How often a point goes up at the most.
    fn per_second(&self, settings: &PointSettings) -> f64 {
        let polled = self.rates.get(&settings.rate).map_or(0.0, |period| 1.0 / seconds(period.as_millis()));
        let reported = match settings.report {
            Report::Never => return 0.0,
            Report::Every(span) => polled.min(1.0 / seconds(span.as_millis())),
            Report::Change | Report::ChangeOrEvery(_) => polled,
        };
        settings.min_interval.map_or(reported, |least| reported.min(1.0 / seconds(least.as_millis())))
    }
}

/// Never nothing: what divides by it stays finite.
#[expect(clippy::cast_precision_loss, reason = "milliseconds of any span fit")]
fn seconds(millis: u64) -> f64 {
    millis.max(1) as f64 / 1000.0
}

impl fmt::Display for Keeping {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { uplink, samples_per_second, .. } = self;
        let span = match self.seconds {
            0.0..120.0 => format!("{:.0} s", self.seconds),
            120.0..7200.0 => format!("{:.0} min", self.seconds / 60.0),
            7200.0..172_800.0 => format!("{:.0} h", self.seconds / 3600.0),
            _ => format!("{:.0} d", self.seconds / 86_400.0),
        };
        let why = if self.room_ends_first { "then its room ends (keep-megabytes)" } else { "as keep-for says" };
        write!(
            f,
            "uplink {uplink} keeps {span} without its broker, {why}, at {samples_per_second:.1} samples a second at the most"
        )
    }
}

#[cfg(test)]
mod tests {
    use crate::description::{Files, read};

    #[test]
    fn the_room_or_the_time_ends_first_and_what_does_not_go_up_takes_none() {
        let told = |rate: &str, more: &str| {
            let main = format!(
                "[gateway]\nname = \"g\"\n[rates]\nr = \"{rate}\"\n[[link]]\nname = \"l\"\nprotocol = \"modbus-tcp\"\nhost = \"h\"\n[[device]]\nname = \
                 \"d\"\nlink = \"l\"\nunit = 1\npoints = \"p.csv\"\n[[uplink]]\nname = \"cloud\"\nkind = \"sparkplug\"\nurl = \
                 \"mqtt://b\"\ngroup = \"a\"\nnode = \"b\"\n{more}"
            );
            let list = "name,address,type,rate,report,min-interval\na,holding:0,uint16,r,change,\nb,holding:1,uint16,r,every 1h,\n\
                        c,holding:2,uint16,r,never,\nd,holding:3,uint16,r,change,1h\n";
            let files: Files = [("gateway.toml".into(), main), ("p.csv".into(), list.into())].into();
            read(&files).unwrap().keeping()[0].to_string()
        };
        assert_eq!(
            told("100ms", ""),
            "uplink cloud keeps 7 d without its broker, as keep-for says, at 10.0 samples a second at the most"
        );
        assert_eq!(
            told("100ms", "keep-megabytes = 1\n"),
            "uplink cloud keeps 5 h without its broker, then its room ends (keep-megabytes), at 10.0 samples a second at the most"
        );
        assert!(told("100ms", "select = \"name:c\"\n").contains("7 d without its broker, as keep-for says, at 0.0"));
    }
}

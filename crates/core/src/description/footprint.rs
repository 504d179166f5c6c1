//! What of a description a running link depends on.

use super::{Description, Device, DeviceSettings, Link, LinkSettings, Point, PointSettings, PointTraits};
use std::sync::Arc;

impl Description {
    /// Whether a link asks for the same things in the same way here and there: then it goes on running while the
    /// rest changes. Titles and units are passed over, since they change nothing on the line.
    #[must_use]
    pub fn runs_the_same(&self, other: &Self, link: &str) -> bool {
        if !self.connects_the_same(other, link) {
            return false;
        }
        let (mut mine, mut theirs) = (self.behind(link), other.behind(link));
        loop {
            match (mine.next(), theirs.next()) {
                (None, None) => return true,
                (Some(mine), Some(theirs)) if same_device(self, mine, other, theirs) => {}
                _ => return false,
            }
        }
    }

    /// Whether a link is described the same way here and there, whatever is behind it: then its connection stays while devices
    /// change.
    #[must_use]
    pub fn connects_the_same(&self, other: &Self, link: &str) -> bool {
        let named =
            |description: &'_ Self| description.links.iter().find(|l| l.settings.name.as_str() == link).map(bare_link);
        named(self) == named(other)
    }

    /// The devices behind a link.
    pub fn behind(&self, link: &str) -> impl Iterator<Item = &Device> {
        self.devices.iter().filter(move |device| device.settings.link.as_str() == link)
    }
}

fn bare_link(link: &Link) -> Link {
    Link { settings: LinkSettings { title: String::new(), ..link.settings.clone() }, protocol: link.protocol.clone() }
}

fn same_device(mine: &Description, left: &Device, theirs: &Description, right: &Device) -> bool {
    let bare =
        |settings: &DeviceSettings| DeviceSettings { title: String::new(), points: String::new(), ..settings.clone() };
    bare(&left.settings) == bare(&right.settings)
        && left.protocol == right.protocol
        && same_points(mine, &left.points, theirs, &right.points)
}

fn same_points(mine: &Description, left: &Arc<[Arc<Point>]>, theirs: &Description, right: &Arc<[Arc<Point>]>) -> bool {
    // Those that descriptions share differ by what else these say of their rates only.
    let are_rates_same = mine.rates == theirs.rates;
    let is_same = |(left, right): (&Arc<Point>, &Arc<Point>)| {
        (are_rates_same && Arc::ptr_eq(left, right)) || same_point(mine, left, theirs, right)
    };
    (are_rates_same && Arc::ptr_eq(left, right)) || left.len() == right.len() && left.iter().zip(&**right).all(is_same)
}

fn same_point(mine: &Description, left: &Point, theirs: &Description, right: &Point) -> bool {
    let PointSettings { name, address: _, traits, title: _ } = &left.settings;
    let PointTraits {
        data_type,
        scale,
        offset,
        span,
        clamp,
        root,
        invert,
        enumeration,
        unit: _,
        rate,
        report,
        deadband,
        deadband_percent,
        min_interval,
        access,
        confirm,
        lifetime,
        safe_value,
        low,
        high,
        labels: _,
    } = &**traits;
    let other = &right.settings;
    left.address == right.address
        && left.protocol == right.protocol
        && *name == other.name
        && *data_type == other.data_type
        && (*scale, *offset, *deadband) == (other.scale, other.offset, other.deadband)
        && (*deadband_percent, *min_interval) == (other.deadband_percent, other.min_interval)
        && *confirm == other.confirm
        && (*lifetime, safe_value) == (other.lifetime, &other.safe_value)
        && (*span, enumeration) == (other.span, &other.enumeration)
        && (*clamp, *root, *invert) == (other.clamp, other.root, other.invert)
        && *report == other.report
        && *access == other.access
        && (*low, *high) == (other.low, other.high)
        && mine.rates.get(rate) == theirs.rates.get(&other.rate)
}

use crate::App;
use axum::extract::State;
use axum::http::header;
use axum::response::IntoResponse;
use interlex_gateway::{DeviceState, GatewayStatus, LinkState, UplinkState};
use std::fmt::Write as _;
use std::sync::Arc;

/// Counters and states in the text format of Prometheus, version 0.0.4. Open to everyone who reaches the service, as
/// scrapers expect; it holds no values of points.
#[utoipa::path(get, path = "/metrics", tag = "operate", responses((status = 200, body = String)))]
pub(crate) async fn metrics(State(app): State<Arc<App>>) -> impl IntoResponse {
    let database_up = app.database.read().up;
    let gateways: Vec<_> = app.running().iter().map(|gateway| gateway.status()).collect();
    let text = render(&gateways, database_up);
    ([(header::CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8")], text)
}

struct Page(String);

impl Page {
    fn family(&mut self, name: &str, kind: &str, help: &str) {
        // Writing into a string cannot fail.
        let _ = writeln!(self.0, "# HELP interlex_{name} {help}\n# TYPE interlex_{name} {kind}");
    }

    fn sample(&mut self, name: &str, labels: &[(&str, &str)], value: impl std::fmt::Display) {
        let escape = |text: &str| text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
        let labels: Vec<_> = labels.iter().map(|(key, text)| format!("{key}=\"{}\"", escape(text))).collect();
        let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
        // Writing into a string cannot fail.
        let _ = writeln!(self.0, "interlex_{name}{labels} {value}");
    }
}

fn render(gateways: &[GatewayStatus], database_up: bool) -> String {
    let mut page = Page(String::new());
    page.family("database_up", "gauge", "Whether the database answers.");
    page.sample("database_up", &[], u8::from(database_up));
    page.family("points", "gauge", "Points of the running revision.");
    gateways.iter().for_each(|g| page.sample("points", &[("gateway", &g.name)], g.points));
    page.family("points_good", "gauge", "Points whose quality is good.");
    gateways.iter().for_each(|g| page.sample("points_good", &[("gateway", &g.name)], g.points_good));
    page.family("worker_busy_seconds_max", "gauge", "The longest that a task kept a worker busy at a time.");
    for (task, busy) in interlex_busy::longest() {
        page.sample("worker_busy_seconds_max", &[("task", task)], format!("{:.6}", busy.as_secs_f64()));
    }
    links(&mut page, gateways);
    uplinks(&mut page, gateways);
    page.0
}

fn links(page: &mut Page, gateways: &[GatewayStatus]) {
    let all = || gateways.iter().flat_map(|g| g.links.iter().map(move |link| (g.name.as_str(), link)));
    page.family("link_up", "gauge", "Whether a link is connected.");
    for (gateway, link) in all() {
        let up = u8::from(link.state == LinkState::Up);
        page.sample("link_up", &[("gateway", gateway), ("link", &link.name)], up);
    }
    page.family("link_requests_total", "counter", "Requests to field devices by outcome.");
    for (gateway, link) in all() {
        let outcomes = [("answer", link.answers), ("timeout", link.timeouts), ("refusal", link.refusals)];
        for (outcome, count) in outcomes {
            let labels = [("gateway", gateway), ("link", link.name.as_str()), ("outcome", outcome)];
            page.sample("link_requests_total", &labels, count);
        }
    }
    page.family("link_lateness_seconds", "gauge", "By how much the latest poll missed its time.");
    for (gateway, link) in all() {
        let labels = [("gateway", gateway), ("link", link.name.as_str())];
        page.sample(
            "link_lateness_seconds",
            &labels,
            format!("{}.{:03}", link.lateness_ms / 1000, link.lateness_ms % 1000),
        );
    }
    page.family("device_up", "gauge", "Whether a device answers.");
    for (gateway, link) in all() {
        for device in &link.devices {
            let up = u8::from(device.state == DeviceState::Up);
            page.sample("device_up", &[("gateway", gateway), ("device", &device.name)], up);
        }
    }
}

fn uplinks(page: &mut Page, gateways: &[GatewayStatus]) {
    let all = || gateways.iter().flat_map(|g| g.uplinks.iter().map(move |uplink| (g.name.as_str(), uplink)));
    page.family("uplink_online", "gauge", "Whether births are out at the broker.");
    for (gateway, uplink) in all() {
        let online = u8::from(uplink.state == UplinkState::Online);
        page.sample("uplink_online", &[("gateway", gateway), ("uplink", &uplink.name)], online);
    }
    page.family("uplink_messages_total", "counter", "Messages published.");
    for (gateway, uplink) in all() {
        page.sample("uplink_messages_total", &[("gateway", gateway), ("uplink", &uplink.name)], uplink.messages);
    }
    page.family("uplink_samples_total", "counter", "Samples delivered or lost.");
    for (gateway, uplink) in all() {
        for (outcome, count) in [("delivered", uplink.samples_delivered), ("lost", uplink.buffer.lost)] {
            let labels = [("gateway", gateway), ("uplink", uplink.name.as_str()), ("outcome", outcome)];
            page.sample("uplink_samples_total", &labels, count);
        }
    }
    page.family("uplink_samples_waiting", "gauge", "Samples kept until the broker has proved to have read them.");
    for (gateway, uplink) in all() {
        let labels = [("gateway", gateway), ("uplink", uplink.name.as_str())];
        page.sample("uplink_samples_waiting", &labels, uplink.buffer.waiting);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_escaped_as_the_format_asks() {
        let mut page = Page(String::new());
        page.sample("x", &[("a", "q\"b\\c\nd")], 1);
        assert_eq!(page.0, "interlex_x{a=\"q\\\"b\\\\c\\nd\"} 1\n");
        assert!(render(&[], true).starts_with("# HELP interlex_database_up "));
    }
}

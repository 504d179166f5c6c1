use super::{Client, list, names, part, text, whole};
use crate::options::{GatewayTarget, Output};
use crate::output::{cell, count, date, plain, print_csv, print_json, say, span, table};
use clap::Args;
use comfy_table::Color;
use reqwest::Method;
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct LinkArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    /// A running link
    pub(crate) link: String,
    /// Only requests of this device
    #[arg(long)]
    pub(crate) device: Option<String>,
    /// Try anew what was learned about bad addresses: of the device, or of all
    #[arg(long)]
    pub(crate) relearn: bool,
    /// Count from nothing on again
    #[arg(long, conflicts_with = "relearn")]
    pub(crate) reset: bool,
}

pub(crate) async fn run(arguments: LinkArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}/links/{}", part(&gateway), part(&arguments.link));
    if arguments.relearn {
        let body = json!({ "device": arguments.device });
        client.do_it(Method::POST, &format!("{path}/relearn"), Some(&body)).await?;
        say!("What was learned is tried anew.")?;
        return Ok(());
    }
    if arguments.reset {
        client.do_it(Method::POST, &format!("{path}/statistics/reset"), None).await?;
        say!("It counts from nothing on again.")?;
        return Ok(());
    }
    let statistics = client.get(&format!("{path}/statistics"), &[]).await?;
    let requests = client.get(&format!("{path}/requests"), &[]).await?;
    let is_wanted = |request: &&Value| {
        arguments.device.as_deref().is_none_or(|name| list(request, "devices").iter().any(|known| known == name))
    };
    let requests: Vec<_> = requests.as_array().into_iter().flatten().filter(is_wanted).collect();
    match arguments.of.output {
        Output::Json => {
            let both = json!({ "statistics": statistics, "requests": requests });
            print_json(&both)?;
        }
        Output::Csv => print_csv(&REQUESTS, requests.iter().map(|request| request_cells(request)))?,
        Output::Table => {
            print_counts(&statistics)?;
            print_rates(&statistics)?;
            print_requests(&requests)?;
        }
    }
    Ok(())
}

fn milliseconds(value: Option<&Value>) -> String {
    let shown = |span: f64| if span >= 10.0 { format!("{span:.0} ms") } else { format!("{span} ms") };
    value.and_then(Value::as_f64).map(shown).unwrap_or_default()
}

fn print_counts(statistics: &Value) -> std::io::Result<()> {
    let number = |key| usize::try_from(whole(statistics, key)).unwrap_or_default();
    if let Some(load) = statistics.get("bus_load").and_then(Value::as_f64) {
        say!("The line is busy {:.1} % of the time.", load * 100.0)?;
    }
    say!("{} bytes sent, {} received.", number("bytes_sent"), number("bytes_received"))?;
    let strange = [
        ("late", "answer that came late", "answers that came late"),
        ("of_others", "answer of another device", "answers of other devices"),
        ("unmatched", "frame that answers nothing", "frames that answer nothing"),
        ("noise_bytes", "byte of noise", "bytes of noise"),
    ];
    let strange = strange.iter().filter(|(key, ..)| number(key) > 0).map(|(key, one, many)| {
        let word = if number(key) == 1 { one } else { many };
        format!("{} {word}", number(key))
    });
    let strange: Vec<_> = strange.collect();
    if !strange.is_empty() {
        say!("Dropped: {}.", strange.join(", "))?;
    }
    say!("\nSince {}:", date(whole(statistics, "since")))?;
    print_spans(statistics, None)?;
    say!("\nIn the last {}:", count(number("lately_minutes"), "minute"))?;
    print_spans(statistics, Some("lately"))
}

/// A row for the link, and one for every device: of all time, or of a part that `key` names.
fn print_spans(statistics: &Value, key: Option<&str>) -> std::io::Result<()> {
    let of_span = |counts: &'_ Value| key.map_or_else(|| counts.clone(), |key| counts[key].clone());
    let all = [("all devices", statistics)].into_iter();
    let devices = list(statistics, "devices").iter().map(|device| (text(device, "name"), device));
    let rows: Vec<_> = all.chain(devices).map(|(name, counts)| (name, of_span(counts))).collect();
    let mut shown = table(&["", "requests", "answers", "timeouts", "garbled", "broken", "50 %", "99 %", "longest"]);
    for (name, counts) in &rows {
        let times = counts.get("answer_times").unwrap_or(&Value::Null);
        let number = |key: &str| cell(whole(counts, key)).right();
        let time = |key: &str| cell(milliseconds(times.get(key))).right();
        shown.add_row([
            cell(name),
            number("requests"),
            number("answers"),
            number("timeouts"),
            number("garbled"),
            number("malformed"),
            time("p50_ms"),
            time("p99_ms"),
            time("max_ms"),
        ]);
    }
    shown.print()?;
    for (name, counts) in rows.iter().skip(1) {
        let (again, untimed) = (whole(counts, "repeated_events"), whole(counts, "untimed_events"));
        if again > 0 {
            say!("{name} told {again} events once more, which were known again")?;
        }
        if untimed > 0 {
            say!("{name} told {untimed} events without a time: such may have come twice")?;
        }
        for refusal in list(counts, "refusals") {
            say!("{name} refused {} times: {}", whole(refusal, "count"), text(refusal, "meaning"))?;
        }
    }
    Ok(())
}

fn print_rates(statistics: &Value) -> std::io::Result<()> {
    say!()?;
    let mut shown = table(&["every", "achieved", "polls", "over a period late"]);
    for rate in list(statistics, "rates") {
        let right = |text: String| cell(text).right();
        shown.add_row([
            right(format!("{} ms", whole(rate, "asked_ms"))),
            right(milliseconds(rate.get("achieved_ms"))),
            right(whole(rate, "polls").to_string()),
            right(whole(rate, "missed").to_string()),
        ]);
    }
    shown.print()
}

const REQUESTS: [&str; 5] = ["devices", "reads", "every ms", "points", "state"];

fn request_cells(request: &Value) -> Vec<String> {
    let points: Vec<_> = list(request, "points").iter().map(plain).collect();
    let texts = [names(request, "devices"), text(request, "reads").to_owned()];
    let period = whole(request, "period_ms").to_string();
    texts.into_iter().chain([period, points.join(" "), state(request)]).collect()
}

/// What is to be said of a request: nothing when it is as planned and works.
fn state(request: &Value) -> String {
    let again = request.get("whole_again_in_ms").and_then(Value::as_i64);
    let again = again.map(|left| format!(", whole again in {}", span(left))).unwrap_or_default();
    match (text(request, "bad"), request.get("as_planned").and_then(Value::as_bool)) {
        ("", Some(false)) => format!("a part{again}"),
        ("", _) => String::new(),
        (bad, _) => format!("{bad}{again}"),
    }
}

fn print_requests(requests: &[&Value]) -> std::io::Result<()> {
    say!()?;
    let mut shown = table(&["device", "reads", "every", "points", ""]);
    for request in requests {
        let points: Vec<_> = list(request, "points").iter().map(plain).collect();
        let points = match points.as_slice() {
            [one, two, three, rest @ ..] if rest.len() > 1 => format!("{one} {two} {three} and {} more", rest.len()),
            few => few.join(" "),
        };
        let state = cell(state(request));
        let is_bad = !text(request, "bad").is_empty();
        shown.add_row([
            cell(names(request, "devices")),
            cell(text(request, "reads")),
            cell(format!("{} ms", whole(request, "period_ms"))).right(),
            cell(points),
            if is_bad { state.fg(Color::Red) } else { state },
        ]);
    }
    shown.print()
}

use super::{Client, list, part, text};
use crate::args::{Output, TrialArguments, TrialCommand};
use crate::exit::{ExitReason, failed};
use crate::output::{plain, print_csv, print_table, table, with_unit};
use comfy_table::{Cell, CellAlignment};
use serde_json::{Value, json};

pub(crate) async fn run(arguments: TrialArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let TrialCommand::Read { device, address, data_type, order, scale, expect } = arguments.command;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let draft = client.get(&format!("{path}/draft"), &[]).await?;
    let device = object(&draft, "device", &device)?;
    let link = object(&draft, "link", text(device, "link"))?;
    let point = json!({ "address": address, "type": data_type, "order": order, "scale": scale });
    let request = json!({ "link": link, "device": device, "point": point, "neighbours": true, "expected": expect });
    let reading = client.post(&format!("{path}/trials"), &request).await?;
    match arguments.of.output {
        Output::Json => anstream::println!("{}", serde_json::to_string_pretty(&reading)?),
        Output::Csv => print_csv(&HEADER, list(&reading, "alternatives").iter().map(cells))?,
        Output::Table => print(&reading),
    }
    Ok(())
}

fn object<'a>(draft: &'a Value, class: &str, name: &str) -> anyhow::Result<&'a Value> {
    let of_class = || list(draft, "objects").iter().filter(|object| text(object, "class") == class);
    let found = of_class().find(|object| text(object, "name") == name).and_then(|object| object.get("content"));
    found.ok_or_else(|| {
        let names: Vec<_> = of_class().map(|object| text(object, "name")).collect();
        failed(ExitReason::Failure, format!("there is no {class} {name:?}; expected one of {}", names.join(", ")))
    })
}

const HEADER: [&str; 5] = ["address", "type", "order", "value", "scale"];

fn cells(alternative: &Value) -> Vec<String> {
    HEADER.map(|key| alternative.get(key).filter(|value| !value.is_null()).map(plain).unwrap_or_default()).into()
}

fn print(reading: &Value) {
    let value = with_unit(reading.get("value").unwrap_or(&Value::Null), text(reading, "unit"), None);
    let registers: Vec<_> = list(reading, "registers").iter().map(plain).collect();
    let took = reading.get("answer_ms").and_then(Value::as_f64).unwrap_or_default();
    anstream::println!("{} = {value}   registers {}   {took:.1} ms", text(reading, "address"), registers.join(" "));
    let alternatives = list(reading, "alternatives");
    if alternatives.is_empty() {
        return;
    }
    anstream::println!("\nRead otherwise, and one address off:");
    let mut shown = table(&["", "address", "type", "order", "value", "× scale"]);
    for alternative in alternatives {
        let scale = alternative.get("scale").and_then(Value::as_f64);
        let mark = if scale.is_some() { "near" } else { "" };
        let scale = scale.map(|scale| format!("× {scale}")).unwrap_or_default();
        let value = plain(alternative.get("value").unwrap_or(&Value::Null));
        shown.add_row([
            Cell::new(mark),
            Cell::new(text(alternative, "address")),
            Cell::new(text(alternative, "type")),
            Cell::new(text(alternative, "order")),
            Cell::new(value).set_alignment(CellAlignment::Right),
            Cell::new(scale),
        ]);
    }
    print_table(&shown);
}

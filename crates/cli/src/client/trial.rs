use super::{Client, frames, list, part, text, whole, write};
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output};
use crate::output::{cell, plain, print_csv, print_json, print_rows, say, span, table, with_unit};
use clap::{Args, Subcommand};
use interlex_core::description::Protocol;
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct TrialArguments {
    #[command(flatten)]
    pub(crate) of: GatewayTarget,
    #[command(subcommand)]
    pub(crate) command: TrialCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TrialCommand {
    /// Read one value, and show what its registers say under every plausible type and order
    Read {
        /// A device of the draft
        device: String,
        /// Where the value lives, such as input:4, 30005, or ns=2;s=Engine.Speed
        address: String,
        #[command(flatten)]
        how: HowArguments,
        /// What the device's own display shows: what comes near it is marked and stands first
        #[arg(long, allow_negative_numbers = true)]
        expect: Option<f64>,
    },
    /// Write one value, and read it back
    Write {
        /// A device of the draft
        device: String,
        /// Where the value lives, such as holding:4, coil:2, or ns=2;s=Engine.PowerSetPoint
        address: String,
        /// The engineering value: a number, true, false, or text
        #[arg(allow_negative_numbers = true)]
        value: String,
        #[command(flatten)]
        how: HowArguments,
    },
    /// Go the way to a broker step by step: which one fails, and why
    Broker {
        /// An uplink of the draft
        uplink: String,
        /// Publish, too: a death that hosts pass over, or an empty message to the topic of the first message
        #[arg(long)]
        publish: bool,
    },
    /// Tell how many values the report settings of a device's points would send, by what was read in the last minutes
    Reports {
        /// A device of the draft
        device: String,
    },
    /// Make the messages of an uplink from the values that are there now, without sending any
    Messages {
        /// An uplink of the draft, of kind json
        uplink: String,
    },
    /// Tell or ask an outstation of DNP3 something beside its points
    Act {
        /// A device of the draft
        device: String,
        /// What it is told or asked
        #[arg(value_parser = ["link-status", "read-everything", "freeze-counters", "freeze-and-clear-counters", "warm-restart", "cold-restart"])]
        act: String,
        /// The name of the device once more, to show that you mean it, where that changes something
        #[arg(long)]
        confirm: Option<String>,
    },
    /// Ask a device who it is (Modbus: function 43/14; OPC UA: its status)
    Identify {
        /// A device of the draft
        device: String,
    },
}

/// How a value is read or written.
#[derive(Debug, Args)]
pub(crate) struct HowArguments {
    /// How the device is said to represent it; left out, uint16, or bool for the address of a bit, or what the device says itself
    #[arg(long = "type")]
    data_type: Option<String>,
    /// In which order its bytes are said to stand in registers [default: ABCD]
    #[arg(long)]
    order: Option<String>,
    /// The field of a structure
    #[arg(long)]
    field: Option<String>,
    /// The element of an array, counted from 0
    #[arg(long)]
    element: Option<String>,
    /// What a method is given, a list in JSON such as [] or [350]; writing true calls it
    #[arg(long)]
    arguments: Option<String>,
    /// Engineering value = raw × scale
    #[arg(long, default_value_t = 1.0, allow_negative_numbers = true)]
    scale: f64,
}

impl HowArguments {
    /// A point at an address of a link with this protocol.
    fn point(&self, address: &str, protocol: &str) -> Value {
        let plain = Protocol::of_word(protocol).and_then(|protocol| protocol.plain_type(address));
        let data_type = self.data_type.clone().or_else(|| plain.map(|data_type| data_type.to_string()));
        let columns = [
            ("address", Some(Value::from(address))),
            ("scale", Some(Value::from(self.scale))),
            ("type", data_type.map(Value::from)),
            ("order", self.order.clone().map(Value::from)),
            ("field", self.field.clone().map(Value::from)),
            ("element", self.element.clone().map(Value::from)),
            ("arguments", self.arguments.clone().map(Value::from)),
        ];
        columns.into_iter().filter_map(|(key, value)| Some((key, value?))).collect()
    }
}

pub(crate) async fn run(arguments: TrialArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let draft = client.get(&format!("{path}/draft"), &[]).await?;
    let trial = Trial { client, path: format!("{path}/trials"), draft, output: arguments.of.output };
    match arguments.command {
        TrialCommand::Read { device, address, how, expect } => {
            let point = how.point(&address, trial.protocol(&device)?);
            trial.read(&device, &point, expect).await
        }
        TrialCommand::Write { device, address, value, how } => {
            let point = how.point(&address, trial.protocol(&device)?);
            trial.write(&device, &point, &Value::from(value)).await
        }
        TrialCommand::Broker { uplink, publish } => trial.broker(&uplink, publish).await,
        TrialCommand::Reports { device } => trial.reports(&device).await,
        TrialCommand::Messages { uplink } => trial.messages(&uplink).await,
        TrialCommand::Identify { device } => trial.identify(&device).await,
        TrialCommand::Act { device, act, confirm } => trial.act(&device, &act, confirm).await,
    }
}

struct Trial {
    client: Client,
    path: String,
    draft: Value,
    output: Output,
}

impl Trial {
    /// A device of the draft, and the link that it is behind.
    fn device(&self, name: &str) -> anyhow::Result<(&Value, &Value)> {
        let device = object(&self.draft, "device", name)?;
        Ok((object(&self.draft, "link", text(device, "link"))?, device))
    }

    /// The protocol of the link of a device.
    fn protocol(&self, device: &str) -> anyhow::Result<&str> {
        Ok(text(self.device(device)?.0, "protocol"))
    }

    async fn read(&self, device: &str, point: &Value, expect: Option<f64>) -> anyhow::Result<()> {
        let (link, device) = self.device(device)?;
        let request = json!({ "link": link, "device": device, "point": point, "neighbours": true, "expected": expect });
        let reading = self.client.post(&self.path, &request).await?;
        match self.output {
            Output::Json => print_json(&reading)?,
            Output::Csv => print_csv(&HEADER, list(&reading, "alternatives").iter().map(cells))?,
            Output::Table => print(&reading)?,
        }
        Ok(())
    }

    async fn write(&self, device: &str, point: &Value, value: &Value) -> anyhow::Result<()> {
        let (link, device) = self.device(device)?;
        let request = json!({ "link": link, "device": device, "point": point, "value": value });
        let outcome = self.client.post(&format!("{}/write", self.path), &request).await?;
        write::told(&outcome, self.output)
    }

    async fn broker(&self, name: &str, publish: bool) -> anyhow::Result<()> {
        let uplink = object(&self.draft, "uplink", name)?;
        let trial = self
            .client
            .post(&format!("{}/broker", self.path), &json!({ "uplink": uplink, "publish": publish }))
            .await?;
        let steps = list(&trial, "steps");
        let is_ok = |step: &Value| step.get("ok").and_then(Value::as_bool) == Some(true);
        let rows = steps.iter().map(|step| {
            let ms = step.get("ms").and_then(Value::as_f64).unwrap_or_default();
            let word = if is_ok(step) { "ok" } else { "failed" };
            vec![text(step, "step").to_owned(), word.to_owned(), text(step, "said").to_owned(), format!("{ms:.1} ms")]
        });
        print_rows(self.output, &["step", "", "what it said", "took"], rows.collect(), &trial, "")?;
        match steps.iter().all(is_ok) {
            true => Ok(()),
            false => Err(failed(ExitReason::Failure, "the broker cannot be used like this")),
        }
    }

    async fn reports(&self, device: &str) -> anyhow::Result<()> {
        let previews = self.client.post(&format!("{}/reports", self.path), &json!({ "device": device })).await?;
        let all = previews.as_array().map(Vec::as_slice).unwrap_or_default();
        let number = |preview: &Value, key: &str| preview.get(key).and_then(Value::as_f64).unwrap_or_default();
        let mut rows: Vec<_> = all
            .iter()
            .map(|preview| {
                let counts = ["read", "sent"].map(|key| whole(preview, key).to_string());
                let rates = ["sent_per_hour", "bytes_per_hour"].map(|key| format!("{:.0}", number(preview, key)));
                #[expect(clippy::cast_possible_truncation, reason = "at most some hours")]
                let over = span((number(preview, "seconds") * 1000.0) as i64);
                [text(preview, "point").to_owned(), over].into_iter().chain(counts).chain(rates).collect::<Vec<_>>()
            })
            .collect();
        let total = |key: &str| format!("{:.0}", all.iter().map(|preview| number(preview, key)).sum::<f64>());
        if self.output == Output::Table && !rows.is_empty() {
            let nothing = String::new;
            rows.push(vec![
                "all".to_owned(),
                nothing(),
                nothing(),
                nothing(),
                total("sent_per_hour"),
                total("bytes_per_hour"),
            ]);
        }
        let header = ["point", "over", "read", "would be sent", "values/h", "bytes/h"];
        print_rows(self.output, &header, rows, &previews, "Nothing is remembered of points of this device yet.")
    }

    async fn messages(&self, name: &str) -> anyhow::Result<()> {
        let uplink = object(&self.draft, "uplink", name)?;
        let messages = self.client.post(&format!("{}/messages", self.path), &json!({ "uplink": uplink })).await?;
        super::messages::told(&messages, self.output, "There are no points for a message.")
    }

    async fn act(&self, name: &str, act: &str, confirm: Option<String>) -> anyhow::Result<()> {
        let (link, device) = self.device(name)?;
        let wanted = json!({ "link": link, "device": device, "act": act, "confirm": confirm });
        let told = self.client.post(&format!("{}/act", self.path), &wanted).await?;
        if self.output == Output::Json {
            return print_json(&told);
        }
        let took = told.get("answer_ms").and_then(Value::as_f64).unwrap_or_default();
        say!("{name}: {}   {took:.1} ms", text(&told, "said"))?;
        Ok(frames::print(&told)?)
    }

    async fn identify(&self, device: &str) -> anyhow::Result<()> {
        let (link, device) = self.device(device)?;
        let identity =
            self.client.post(&format!("{}/identify", self.path), &json!({ "link": link, "device": device })).await?;
        let rows = list(&identity, "objects").iter().map(|object| {
            vec![
                format!("{:02X}", whole(object, "id")),
                text(object, "name").to_owned(),
                text(object, "value").to_owned(),
            ]
        });
        print_rows(self.output, &["id", "name", "value"], rows.collect(), &identity, "It says nothing about itself.")?;
        if self.output == Output::Table {
            frames::print(&identity)?;
        }
        Ok(())
    }
}

/// An object of a draft by its name.
pub(crate) fn object<'a>(draft: &'a Value, class: &str, name: &str) -> anyhow::Result<&'a Value> {
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

fn print(reading: &Value) -> std::io::Result<()> {
    let value = with_unit(reading.get("value").unwrap_or(&Value::Null), text(reading, "unit"), None);
    let registers: Vec<_> = list(reading, "registers").iter().map(plain).collect();
    let took = reading.get("answer_ms").and_then(Value::as_f64).unwrap_or_default();
    let registers = if registers.is_empty() { String::new() } else { format!("   registers {}", registers.join(" ")) };
    say!("{} = {value}{registers}   {took:.1} ms", text(reading, "address"))?;
    for said in list(reading, "said") {
        say!("  {:<16} {}", text(said, "what"), text(said, "value"))?;
    }
    frames::print(reading)?;
    let alternatives = list(reading, "alternatives");
    if alternatives.is_empty() {
        return Ok(());
    }
    say!("\nRead otherwise, and one address off:")?;
    let mut shown = table(&["", "address", "type", "order", "value", "× scale"]);
    for alternative in alternatives {
        let scale = alternative.get("scale").and_then(Value::as_f64);
        let mark = if scale.is_some() { "near" } else { "" };
        let scale = scale.map(|scale| format!("× {scale}")).unwrap_or_default();
        let value = plain(alternative.get("value").unwrap_or(&Value::Null));
        shown.add_row([
            cell(mark),
            cell(text(alternative, "address")),
            cell(text(alternative, "type")),
            cell(text(alternative, "order")),
            cell(value).right(),
            cell(scale),
        ]);
    }
    shown.print()
}

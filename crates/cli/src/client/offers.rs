use super::{Client, list, part, text, trial, whole};
use crate::client::problems::{mistakes, print_problems};
use crate::exit::{ExitReason, failed};
use crate::options::{GatewayTarget, Output};
use crate::output::{count, plain, print_json, print_json_line, print_rows, print_text, say};
use clap::{Args, ValueEnum};
use futures_util::StreamExt;
use indicatif::ProgressBar;
use interlex_core::description::{Problem, Protocol, fits, points_csv};
use interlex_core::{NameCase, NameRule, Offer};
use serde_json::{Map, Value, json};
use std::pin::pin;

#[derive(Debug, Args)]
pub(crate) struct OffersArguments {
    #[command(flatten)]
    of: GatewayTarget,
    /// Who tells it, such as units, nodes or model; left out, all are told with what they want to know
    source: Option<String>,
    /// A link of the draft that is asked
    #[arg(long, conflicts_with = "device")]
    link: Option<String>,
    /// A device of the draft that is asked
    #[arg(long)]
    device: Option<String>,
    /// What the source wants to know, such as first=10; file=@engine.xml is what a file has
    #[arg(long, value_name = "KEY=VALUE", value_parser = key_and_value)]
    with: Vec<(String, Value)>,
    /// Only those whose path or address fits, or the security of ways to reach a server, with * for any text; several times for
    /// several
    #[arg(long, value_name = "PATTERN")]
    pick: Vec<String>,
    /// So many of the last parts of the path stand in the name; 0 for all
    #[arg(long, default_value_t = 0)]
    parts: u8,
    /// How names are spelled
    #[arg(long, value_enum, default_value_t = Case::AsIs)]
    case: Case,
    /// What stands before each name
    #[arg(long, default_value = "")]
    prefix: String,
    /// The rate of points that bring none
    #[arg(long, default_value = "normal")]
    rate: String,
    /// Devices whose lists they go to, with * for any text [default: the one that is asked]
    #[arg(long, value_name = "DEVICE", value_delimiter = ',')]
    into: Vec<String>,
    /// Ask these devices too, and tell what each says otherwise of what is chosen
    #[arg(long, requires = "into")]
    compare: bool,
    /// Put them into the draft, all or nothing; of ways to reach a server, the first
    #[arg(long)]
    to_draft: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Case {
    AsIs,
    Lower,
    Kebab,
}

impl From<Case> for NameCase {
    fn from(case: Case) -> Self {
        match case {
            Case::AsIs => Self::AsIs,
            Case::Lower => Self::Lower,
            Case::Kebab => Self::Kebab,
        }
    }
}

fn key_and_value(text: &str) -> Result<(String, Value), String> {
    let (key, value) = text.split_once('=').ok_or_else(|| format!("{text:?} is no KEY=VALUE"))?;
    if let Some(path) = value.strip_prefix('@') {
        let content = super::text_file::read(path.as_ref()).map_err(|error| format!("{error:#}"))?;
        return Ok((key.to_owned(), content.into()));
    }
    // What is no number or switch is text.
    let value = serde_json::from_str(value).ok().filter(|value: &Value| value.is_number() || value.is_boolean());
    let words = || Value::from(text.split_once('=').map_or("", |(_, words)| words));
    Ok((key.to_owned(), value.unwrap_or_else(words)))
}

pub(crate) async fn run(arguments: OffersArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.of.target)?;
    let Some(source) = &arguments.source else { return sources(&client, arguments.of.output).await };
    let gateway = client.gateway(arguments.of.gateway.as_deref()).await?;
    let path = format!("/api/v1/gateways/{}", part(&gateway));
    let draft = client.get(&format!("{path}/draft"), &[]).await?;
    let device = arguments.device.as_deref().map(|name| trial::object(&draft, "device", name)).transpose()?;
    let link = arguments.link.as_deref().or(device.map(|device| text(device, "link")));
    let link = link.map(|name| trial::object(&draft, "link", name)).transpose()?;
    if link.is_none() && source != "model" {
        return Err(failed(ExitReason::Failure, "say who is asked: --device NAME or --link NAME"));
    }
    let with: Map<_, _> = arguments.with.iter().cloned().collect();
    let request = json!({ "source": source, "with": with, "link": link, "device": device });
    let asked = Asked { path, output: arguments.of.output, rule: rule(&arguments) };
    let (offers, ways) = asked.listen(&client, &request, &arguments.pick).await?;
    if !ways.is_empty() {
        return asked.go(&client, &ways, arguments.to_draft.then_some(link).flatten(), &draft).await;
    }
    let into: Vec<_> = match arguments.into.is_empty() {
        true => arguments.device.iter().cloned().collect(),
        false => meant(&draft, &arguments.into, link.map_or("", |link| text(link, "protocol")))?,
    };
    if arguments.compare {
        let others: Vec<_> = into.iter().filter(|name| Some(*name) != arguments.device.as_ref()).cloned().collect();
        let request = json!({ "source": source, "with": with, "devices": others, "offers": offers });
        asked.compare(&client, &request).await?;
    }
    if arguments.to_draft {
        let version = draft.get("version").cloned().unwrap_or_default();
        return asked.take(&client, &offers, &into, &arguments.rate, &version).await;
    }
    let protocol = link.and_then(|link| Protocol::of_word(text(link, "protocol")));
    asked.show(&offers, &arguments.rate, protocol)
}

fn rule(arguments: &OffersArguments) -> NameRule {
    NameRule { parts: arguments.parts, case: arguments.case.into(), prefix: arguments.prefix.clone() }
}

/// The devices of the draft that patterns mean, of those that speak the same protocol.
fn meant(draft: &Value, patterns: &[String], protocol: &str) -> anyhow::Result<Vec<String>> {
    let devices: Vec<_> = list(draft, "objects").iter().filter(|object| text(object, "class") == "device").collect();
    let is_alike = |device: &Value| {
        let link = device.get("content").map_or("", |content| text(content, "link"));
        trial::object(draft, "link", link).is_ok_and(|link| text(link, "protocol") == protocol)
    };
    let mut all: Vec<String> = Vec::new();
    for pattern in patterns {
        // Whoever is named is meant, whatever it speaks: the service says what does not fit.
        let is_it = |device: &&&Value| {
            let name = text(device, "name");
            name == pattern || (pattern.contains('*') && fits(pattern, name) && is_alike(device))
        };
        let found: Vec<_> = devices.iter().filter(is_it).map(|device| text(device, "name").to_owned()).collect();
        if found.is_empty() {
            let names: Vec<_> = devices.iter().take(12).map(|device| text(device, "name")).collect();
            let why = format!("no device of the draft is {pattern}; expected one of {}", names.join(", "));
            return Err(failed(ExitReason::Failure, why));
        }
        all.extend(found);
    }
    all.sort();
    all.dedup();
    Ok(all)
}

/// Which ways there are, and what each wants to know.
async fn sources(client: &Client, output: Output) -> anyhow::Result<()> {
    let forms = client.get("/api/v1/forms", &[]).await?;
    let mut rows: Vec<Vec<String>> = Vec::new();
    for kind in list(&forms, "links") {
        for source in list(kind, "sources") {
            let properties = source.get("form").and_then(|form| form.get("properties")).and_then(Value::as_object);
            let wants = properties.into_iter().flatten().map(|(key, property)| {
                let default = property.get("default").map(plain).unwrap_or_default();
                if default.is_empty() { key.clone() } else { format!("{key}={default}") }
            });
            let of = if source.get("of_device") == Some(&Value::Bool(true)) { "--device" } else { "--link" };
            let wants = wants.collect::<Vec<_>>().join(" ");
            let row = vec![text(source, "word").to_owned(), of.to_owned(), text(source, "title").to_owned(), wants];
            if !rows.contains(&row) {
                rows.push(row);
            }
        }
    }
    rows.push(["model", "", "A device model that ships", "name"].map(str::to_owned).into());
    print_rows(output, &["source", "of", "what it tells", "--with"], rows, &forms, "")
}

struct Asked {
    path: String,
    output: Output,
    rule: NameRule,
}

impl Asked {
    /// Takes in what is offered; tells what is not a point at once.
    async fn listen(
        &self,
        client: &Client,
        request: &Value,
        pick: &[String],
    ) -> anyhow::Result<(Vec<Offer>, Vec<Value>)> {
        let path = format!("{}/offers", self.path);
        let mut events = pin!(client.lines(&path, request).await?);
        let (bar, mut offers, mut offered, mut is_over) = (ProgressBar::new(1), Vec::new(), 0, false);
        let (mut ways, mut others) = (Vec::new(), Vec::new());
        let say = |line: String| match self.output {
            Output::Table => bar.suspend(|| say!("{line}")),
            Output::Json | Output::Csv => Ok(()),
        };
        while let Some(event) = events.next().await {
            let event = event?;
            if self.output == Output::Json && text(&event, "kind") != "progress" {
                print_json_line(&event)?;
            }
            match text(&event, "kind") {
                "progress" => {
                    bar.set_length(u64::try_from(whole(&event, "total")).unwrap_or_default());
                    bar.set_position(u64::try_from(whole(&event, "done")).unwrap_or_default());
                }
                "device" => {
                    let keys = event.get("device").and_then(Value::as_object).into_iter().flatten();
                    let keys: Vec<_> = keys.map(|(key, value)| format!("{key} {:>3}", plain(value))).collect();
                    say(format!("{}   {}", keys.join(" "), text(&event, "said")))?;
                }
                "way" => {
                    let link = event.get("link").cloned().unwrap_or_default();
                    let security = text(&link, "security");
                    if pick.is_empty() || pick.iter().any(|pattern| fits(pattern, security)) {
                        say(format!("{security}\n  {}", text(&event, "said").replace("; ", "\n  ")))?;
                        ways.push(link);
                    } else {
                        others.push(security.to_owned());
                    }
                }
                "note" => say(text(&event, "text").to_owned())?,
                "points" => {
                    let some: Vec<Offer> = serde_json::from_value(event.get("offers").cloned().unwrap_or_default())?;
                    offered += some.len();
                    offers.extend(some.into_iter().filter(|offer| is_picked(offer, pick)));
                }
                "failed" => return Err(failed(ExitReason::Failure, text(&event, "why").to_owned())),
                _ => {
                    is_over = true;
                    let requests = usize::try_from(whole(&event, "requests")).unwrap_or_default();
                    if requests > 0 {
                        say(format!("done, with {}", count(requests, "request")))?;
                    }
                }
            }
        }
        bar.finish_and_clear();
        match is_over {
            true if offers.is_empty() && offered > 0 => {
                let (offered, pick) = (count(offered, "point"), pick.join(" or "));
                let why = format!("of {offered} none fits {pick}; * stands for any text, as in holding:1*");
                Err(failed(ExitReason::Failure, why))
            }
            true if ways.is_empty() && !others.is_empty() => {
                let (pick, others) = (pick.join(" or "), others.join(", "));
                Err(failed(ExitReason::Failure, format!("none of the ways fits {pick}; there are {others}")))
            }
            true => Ok((offers, ways)),
            false => Err(failed(ExitReason::Unreachable, "the answer ended before its end")),
        }
    }

    /// Takes the first way: its keys become those of the link in the draft.
    async fn go(&self, client: &Client, ways: &[Value], link: Option<&Value>, draft: &Value) -> anyhow::Result<()> {
        let Some(link) = link else {
            if self.output == Output::Table {
                say!(
                    "\nThe first, or one chosen by --pick, goes into the draft with --to-draft: its certificate is trusted then."
                )?;
            }
            return Ok(());
        };
        let keys = ways.first().and_then(Value::as_object).cloned().unwrap_or_default();
        let name = text(link, "name");
        let known = list(draft, "objects")
            .iter()
            .find(|object| text(object, "class") == "link" && text(object, "name") == name);
        let mut content = link.as_object().cloned().unwrap_or_default();
        // What was accepted of another certificate is not accepted of this one.
        content.remove("accept");
        content.remove("server-certificate");
        content.extend(keys.clone());
        let object = json!({ "class": "link", "name": name });
        let edit =
            json!({ "object": object, "version": known.map(|known| text(known, "version")), "content": content });
        client.post(&format!("{}/draft/edits", self.path), &json!({ "edits": [edit] })).await?;
        if self.output == Output::Table {
            let told: Vec<_> = keys.iter().map(|(key, value)| format!("{key} = {}", plain(value))).collect();
            say!("\n{name} in the draft: {}", told.join(", "))?;
        }
        Ok(())
    }

    /// Tells what other devices say otherwise of what was chosen.
    async fn compare(&self, client: &Client, request: &Value) -> anyhow::Result<()> {
        let path = format!("{}/offers/compare", self.path);
        let mut siblings = pin!(client.lines(&path, request).await?);
        while let Some(sibling) = siblings.next().await {
            let sibling = sibling?;
            if self.output == Output::Json {
                print_json_line(&sibling)?;
                continue;
            }
            let device = text(&sibling, "device");
            let differences = list(&sibling, "differences");
            match sibling.get("failed").and_then(Value::as_str) {
                Some(why) => say!("{device}: {why}")?,
                None if differences.is_empty() => say!("{device}: the same")?,
                None => say!("{device}: {}", count(differences.len(), "difference"))?,
            }
            for one in differences {
                let (address, column) = (text(one, "address"), text(one, "column"));
                let told =
                    |key| one.get(key).filter(|value| !value.is_null()).map_or_else(|| "nothing".to_owned(), plain);
                match column {
                    "" => say!("  {address} is not there")?,
                    column => say!("  {address}: {column} is {}, not {}", told("there"), told("here"))?,
                }
            }
        }
        Ok(())
    }

    fn show(&self, offers: &[Offer], rate: &str, protocol: Option<Protocol>) -> anyhow::Result<()> {
        let of = |offer: &Offer, key: &str| offer.point.get(key).map(plain).unwrap_or_default();
        match self.output {
            Output::Json => Ok(()),
            Output::Csv => {
                let rows: Vec<_> = offers.iter().map(|offer| offer.row(&self.rule, rate)).collect();
                print_text(&points_csv(&rows, protocol))?;
                Ok(())
            }
            Output::Table if offers.is_empty() => Ok(()),
            Output::Table => {
                let rows = offers.iter().map(|offer| {
                    let value = if offer.value.is_null() { String::new() } else { plain(&offer.value) };
                    let columns = ["address", "type", "unit", "title"].map(|key| of(offer, key));
                    let [address, data_type, unit, title] = columns;
                    let name = self.rule.name(&offer.path);
                    vec![name, address, data_type, value, offer.quality.clone(), unit, title, offer.note.clone()]
                });
                let header = ["name", "address", "type", "raw now", "", "unit", "title", ""];
                print_rows(self.output, &header, rows.collect(), &Value::Null, "")?;
                say!("\n{}; into the draft with --to-draft", count(offers.len(), "point"))?;
                Ok(())
            }
        }
    }

    /// Puts them into the lists of devices.
    async fn take(
        &self,
        client: &Client,
        offers: &[Offer],
        into: &[String],
        rate: &str,
        version: &Value,
    ) -> anyhow::Result<()> {
        let request =
            json!({ "devices": into, "offers": offers, "names": self.rule, "rate": rate, "version": version });
        let taken = client.post(&format!("{}/draft/offers", self.path), &request).await?;
        if self.output == Output::Json {
            return print_json(&taken);
        }
        for list_taken in list(&taken, "lists") {
            let import = list_taken.get("import").unwrap_or(&Value::Null);
            let problems: Vec<Problem> = serde_json::from_value(import.get("problems").cloned().unwrap_or_default())?;
            print_problems(&problems, self.output)?;
            mistakes(&problems, false)?;
            let (added, changed) = (list(import, "added").len(), list(import, "changed").len());
            say!("{}: {added} added, {changed} changed, {} the same", text(list_taken, "list"), whole(import, "same"))?;
        }
        Ok(())
    }
}

fn is_picked(offer: &Offer, pick: &[String]) -> bool {
    let path = offer.path.join("/");
    let address = offer.point.get("address").and_then(Value::as_str).unwrap_or_default();
    pick.is_empty() || pick.iter().any(|pattern| fits(pattern, &path) || fits(pattern, address))
}

use super::draft::{differs, print_difference};
use super::problems::{mistakes, print_problems};
use super::{Client, activation, list, part, text, whole};
use crate::client::activation::WaitArguments;
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{count, print_json, safe, say};
use anyhow::Context;
use clap::{Args, Subcommand};
use interlex_core::description::{self, Draft, Files, MAIN_FILE, Problem, difference};
use serde::Serialize;
use serde_json::{Value, json};
use std::fs;
use std::io::IsTerminal;
use std::path::{Component, Path, PathBuf};

#[derive(Debug, Args)]
pub(crate) struct ConfigArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    #[command(subcommand)]
    pub(crate) command: ConfigCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ConfigCommand {
    /// Write a commented description to start from, and the schema that editors complete it by
    Init {
        /// The directory; it is made when it is not there
        directory: PathBuf,
        /// Name of the gateway
        #[arg(long, default_value = "alderfen-1")]
        name: String,
    },
    /// Check a directory without any service; tells every mistake with file, line and column
    Check {
        /// The directory with gateway.toml
        directory: PathBuf,
        /// Take warnings as mistakes
        #[arg(long)]
        strict: bool,
        /// Form of the output
        #[arg(long, short, value_enum, default_value = "table")]
        output: Output,
    },
    /// Show what a directory would change in the running gateway
    Diff {
        /// The directory with gateway.toml
        directory: PathBuf,
        /// Compare with the draft instead
        #[arg(long)]
        draft: bool,
        /// End with code 8 when something would change
        #[arg(long)]
        exit_code: bool,
        /// Form of the output
        #[arg(long, short, value_enum, default_value = "table")]
        output: Output,
    },
    /// Put a directory in the place of the draft of its gateway, and with --activate make it the running revision
    Apply {
        /// The directory with gateway.toml
        directory: PathBuf,
        /// Activate it
        #[arg(long, requires = "note")]
        activate: bool,
        /// Why, for those who look at the revisions later
        #[arg(long)]
        note: Option<String>,
        /// Only check and show what would change
        #[arg(long)]
        dry_run: bool,
        /// Write over a draft that somebody has edited and not activated
        #[arg(long)]
        replace: bool,
        #[command(flatten)]
        wait: WaitArguments,
        /// Form of the output
        #[arg(long, short, value_enum, default_value = "table")]
        output: Output,
    },
    /// Write the running description of a gateway into a directory
    Export {
        /// The directory; it is made when it is not there
        directory: PathBuf,
        /// The gateway; needed when there are several
        #[arg(long)]
        gateway: Option<String>,
        /// The draft instead
        #[arg(long, conflicts_with = "revision")]
        draft: bool,
        /// An earlier revision instead
        #[arg(long)]
        revision: Option<u32>,
        /// Bring files that are there up to date in place: comments and order stay
        #[arg(long, conflicts_with = "force")]
        update: bool,
        /// Write over files that are there
        #[arg(long)]
        force: bool,
    },
    /// Write the points of a BACnet device that runs as an EDE list, with the words for their states
    Ede {
        /// The device
        device: String,
        /// The directory; it is made when it is not there
        directory: PathBuf,
        /// The gateway; needed when there are several
        #[arg(long)]
        gateway: Option<String>,
        /// Write over files that are there
        #[arg(long)]
        force: bool,
    },
    /// Print the JSON Schema of gateway.toml
    Schema,
}

/// What `config init` writes.
const STARTER: &str = include_str!("starter/gateway.toml");
const STARTER_LIST: &str = include_str!("starter/meter.csv");
const STARTER_LIST_PATH: &str = "points/meter-1.csv";
const SCHEMA_PATH: &str = "gateway.schema.json";

pub(crate) async fn run(arguments: ConfigArguments) -> anyhow::Result<()> {
    let client = || Client::new(&arguments.target);
    match &arguments.command {
        ConfigCommand::Init { directory, name } => init(directory, name),
        ConfigCommand::Check { directory, strict, output } => check(directory, *strict, *output),
        ConfigCommand::Diff { directory, draft, exit_code, output } => {
            let told = compare(&client()?, &read_files(directory)?, *draft).await?;
            print_difference(&told, *output)?;
            differs(&told, *exit_code)
        }
        ConfigCommand::Apply { directory, activate, note, dry_run, replace, wait, output } => {
            let apply = Apply {
                client: client()?,
                files: read_files(directory)?,
                note: note.as_deref().filter(|_| *activate),
                may_replace: *replace,
                output: *output,
            };
            if *dry_run { apply.rehearse().await } else { apply.carry_out(wait).await }
        }
        ConfigCommand::Export { directory, gateway, draft, revision, update, force } => {
            let client = client()?;
            let gateway = client.gateway(gateway.as_deref()).await?;
            let path = match revision {
                Some(number) => format!("revisions/{number}"),
                None if *draft => "draft/files".to_owned(),
                None => "files".to_owned(),
            };
            let way = if *update {
                Way::Update
            } else if *force {
                Way::Overwrite
            } else {
                Way::OnlyNew
            };
            export(&client, directory, &gateway, &path, way).await
        }
        ConfigCommand::Ede { device, directory, gateway, force } => {
            let client = client()?;
            let gateway = client.gateway(gateway.as_deref()).await?;
            let mut files = Files::new();
            for (file, name) in [("points", "EDE"), ("states", "StateTexts")] {
                let path = format!("/api/v1/gateways/{}/devices/{}/ede/{file}", part(&gateway), part(device));
                files.insert(format!("{device}_{name}.csv"), String::from_utf8(client.file(&path).await?)?);
            }
            write_files(directory, &files, if *force { Way::Overwrite } else { Way::OnlyNew })?;
            say!("{device}_EDE.csv and {device}_StateTexts.csv are in {}.", directory.display())?;
            Ok(())
        }
        ConfigCommand::Schema => {
            print_json(&description::file_schema())?;
            Ok(())
        }
    }
}

fn init(directory: &Path, name: &str) -> anyhow::Result<()> {
    if let Err(expected) = description::name_form(name) {
        return Err(failed(ExitReason::Mistakes, format!("name is {name:?}; expected {expected}")));
    }
    let schema = serde_json::to_string_pretty(&description::file_schema())? + "\n";
    let files = [
        (MAIN_FILE.to_owned(), STARTER.replace("NAME", name)),
        (STARTER_LIST_PATH.to_owned(), STARTER_LIST.to_owned()),
        (SCHEMA_PATH.to_owned(), schema),
    ];
    write_files(directory, &files.into(), Way::OnlyNew)?;
    say!("A description to start from is in {}. Next:", directory.display())?;
    say!("  interlex config check {0}\n  interlex config apply {0} --activate --note TEXT", directory.display())?;
    Ok(())
}

fn check(directory: &Path, strict: bool, output: Output) -> anyhow::Result<()> {
    let checked = description::check_files(&read_files(directory)?);
    print_problems(&checked.problems, output)?;
    mistakes(&checked.problems, strict)?;
    if let (Output::Table, Some(found)) = (output, &checked.description) {
        let points: usize = found.devices.iter().map(|device| device.points.len()).sum();
        let (links, devices) = (count(found.links.len(), "link"), count(found.devices.len(), "device"));
        say!("No mistakes: {links}, {devices}, {}.", count(points, "point"))?;
    }
    Ok(())
}

/// What is larger goes in parts of this size, in bytes.
const LARGE: usize = 8 << 20;
const PART: usize = 4 << 20;

/// What files would change in what runs, or in the draft.
async fn compare(client: &Client, files: &Files, draft: bool) -> anyhow::Result<Value> {
    let mine = parsed(files)?.canonical();
    let gateway = known(client, mine.name()).await?;
    let path = if draft { "draft/files" } else { "files" };
    let is_there = gateway.as_ref().is_some_and(|gateway| draft || !gateway.get("active").is_none_or(Value::is_null));
    let theirs = if is_there {
        let answer = client.get(&format!("/api/v1/gateways/{}/{path}", part(mine.name())), &[]).await?;
        Some(parsed(&serde_json::from_value(answer.get("files").cloned().unwrap_or_default())?)?)
    } else {
        None
    };
    let told = difference(theirs.as_ref(), &mine);
    let mut value = serde_json::to_value(&told)?;
    if let Some(object) = value.as_object_mut() {
        object.insert("text".to_owned(), told.to_string().into());
    }
    Ok(value)
}

fn parsed(files: &Files) -> anyhow::Result<Draft> {
    description::parse(files).map_err(|problems| {
        let lines: Vec<_> = problems.iter().map(ToString::to_string).collect();
        failed(ExitReason::Mistakes, lines.join("\n"))
    })
}

/// A gateway as the service lists it, if it knows it.
async fn known(client: &Client, name: &str) -> anyhow::Result<Option<Value>> {
    let gateways = client.get("/api/v1/gateways", &[]).await?;
    Ok(gateways.as_array().into_iter().flatten().find(|gateway| text(gateway, "name") == name).cloned())
}

/// Files on their way to the draft of their gateway, and on to what runs.
struct Apply<'a> {
    client: Client,
    files: Files,
    /// Why; activated only with one.
    note: Option<&'a str>,
    may_replace: bool,
    output: Output,
}

impl Apply<'_> {
    /// Tells what would happen, and changes nothing.
    async fn rehearse(&self) -> anyhow::Result<()> {
        let result = self.client.post("/api/v1/check", &json!({ "files": self.files })).await?;
        let problems: Vec<Problem> = serde_json::from_value(json!(list(&result, "problems")))?;
        if self.output == Output::Json {
            let told =
                json!({ "problems": problems, "difference": compare(&self.client, &self.files, false).await.ok() });
            print_json(&told)?;
            return mistakes(&problems, false);
        }
        print_problems(&problems, self.output)?;
        mistakes(&problems, false)?;
        print_difference(&compare(&self.client, &self.files, false).await?, self.output)?;
        say!("\nNothing was changed: a dry run.")?;
        Ok(())
    }

    async fn carry_out(&self, wait: &WaitArguments) -> anyhow::Result<()> {
        let name = parsed(&self.files)?.name().to_owned();
        // A description with mistakes is refused before the draft is touched, with places in the files.
        let result = self.client.post("/api/v1/check", &json!({ "files": self.files })).await?;
        let problems: Vec<Problem> = serde_json::from_value(json!(list(&result, "problems")))?;
        if self.output != Output::Json {
            problems.iter().for_each(|problem| anstream::eprintln!("{}", safe(&problem.to_string())));
        }
        mistakes(&problems, false)?;
        let gateway = match known(&self.client, &name).await? {
            Some(gateway) => gateway,
            None => self.client.post("/api/v1/gateways", &json!({ "name": name })).await?,
        };
        let is_edited = gateway.get("edited").and_then(Value::as_bool).unwrap_or(false);
        if is_edited && !self.may_replace && self.would_lose_edits().await? {
            let who = text(&gateway, "changed_by");
            let message = format!(
                "the draft of {name} has edits of {who} that are not activated; look at them: interlex draft diff;                  --replace writes over them"
            );
            return Err(failed(ExitReason::Conflict, message));
        }
        let told = compare(&self.client, &self.files, false).await?;
        let is_same = list(&told, "objects").is_empty() && told.get("reordered") != Some(&Value::Bool(true));
        let replaced = self.replaced(&name, whole(&gateway, "version")).await?;
        let Some(note) = self.note else {
            return self.told_draft(&name, &replaced);
        };
        if let Some(revision) = gateway.get("active").and_then(Value::as_i64).filter(|_| is_same) {
            return match self.output {
                Output::Json => print_json(&json!({ "gateway": name, "revision": revision, "outcome": null })),
                Output::Table | Output::Csv => Ok(say!("{name} runs revision {revision} already: nothing changes.")?),
            };
        }
        let request = json!({ "version": whole(&replaced, "version"), "note": note });
        activation::activate(&self.client, &name, &request, wait, self.output).await
    }

    /// Puts the files in the place of the draft: at once, or in parts where they are large.
    async fn replaced(&self, name: &str, version: i64) -> anyhow::Result<Value> {
        let draft = format!("/api/v1/gateways/{}/draft", part(name));
        let bytes: usize = self.files.values().map(String::len).sum();
        if bytes <= LARGE {
            let request = json!({ "files": self.files, "version": version });
            return self.client.put(&format!("{draft}/files"), &request).await;
        }
        let begun = self.client.post(&format!("{draft}/uploads"), &json!({})).await?;
        let upload = format!("{draft}/uploads/{}", whole(&begun, "upload"));
        let megabytes = |bytes: i64| (bytes >> 20) + 1;
        for parts in parts_of(&self.files, PART) {
            let told = self.client.put(&upload, &json!({ "parts": parts })).await?;
            if std::io::stderr().is_terminal() {
                let (sent, all) = (megabytes(whole(&told, "bytes")), megabytes(i64::try_from(bytes)?));
                anstream::eprint!("\r{sent} of {all} MB sent");
            }
        }
        if std::io::stderr().is_terminal() {
            anstream::eprintln!();
        }
        self.client.post(&upload, &json!({ "version": version })).await
    }

    async fn would_lose_edits(&self) -> anyhow::Result<bool> {
        let told = compare(&self.client, &self.files, true).await?;
        Ok(!list(&told, "objects").is_empty())
    }

    fn told_draft(&self, name: &str, replaced: &Value) -> anyhow::Result<()> {
        match self.output {
            Output::Json => print_json(replaced)?,
            Output::Table | Output::Csv => say!(
                "The draft of {name} is what the files say; nothing was activated. Next: interlex draft diff, interlex draft \
                 activate --note TEXT"
            )?,
        }
        Ok(())
    }
}

/// A part of a file, and how many bytes of it came before.
#[derive(Debug, Serialize)]
struct FilePart<'a> {
    path: &'a str,
    at: usize,
    text: &'a str,
}

/// Files in parts, as many of them together as a request of so many bytes may have.
fn parts_of(files: &Files, most: usize) -> Vec<Vec<FilePart<'_>>> {
    let (mut all, mut together, mut room) = (Vec::new(), Vec::new(), most);
    for (path, content) in files {
        let mut at = 0;
        loop {
            // A character has four bytes at the most.
            if room < 4 {
                all.push(std::mem::take(&mut together));
                room = most;
            }
            let end = content.floor_char_boundary(at + room);
            together.push(FilePart { path, at, text: content.get(at..end).unwrap_or_default() });
            room -= end - at;
            at = end;
            if at >= content.len() {
                break;
            }
        }
    }
    all.push(together);
    all
}

/// What becomes of files that are there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    OnlyNew,
    Update,
    Overwrite,
}

async fn export(client: &Client, directory: &Path, gateway: &str, path: &str, way: Way) -> anyhow::Result<()> {
    let exported = client.get(&format!("/api/v1/gateways/{}/{path}", part(gateway)), &[]).await?;
    let mut files: Files = serde_json::from_value(exported.get("files").cloned().unwrap_or_default())?;
    if way == Way::Update && directory.join(MAIN_FILE).is_file() {
        let there = read_files(directory)?;
        files = description::update(&there, &parsed(&files)?).map_err(|problems| {
            let first = problems.first().map(ToString::to_string).unwrap_or_default();
            failed(
                ExitReason::Mistakes,
                format!("{first}\nthe files cannot be brought up to date; --force writes over them"),
            )
        })?;
    }
    write_files(directory, &files, way)?;
    say!("{} of {gateway} in {}.", count(files.len(), "file"), directory.display())?;
    Ok(())
}

fn write_files(directory: &Path, files: &Files, way: Way) -> anyhow::Result<()> {
    let there: Vec<_> = files.keys().filter(|path| directory.join(path).exists()).cloned().collect();
    if !there.is_empty() && way == Way::OnlyNew {
        let message = format!(
            "there already: {}; --update brings them up to date in place, --force writes over them",
            there.join(", ")
        );
        return Err(failed(ExitReason::Failure, message));
    }
    for (path, text) in files {
        // A service must not be able to write outside the directory.
        if !Path::new(path).components().all(|part| matches!(part, Component::Normal(_))) {
            return Err(failed(ExitReason::Failure, format!("the service names a file outside: {path:?}")));
        }
        let target = directory.join(path);
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).with_context(|| format!("making {}", parent.display()))?;
        }
        fs::write(&target, text).with_context(|| format!("writing {}", target.display()))?;
    }
    Ok(())
}

/// All TOML and CSV files of a directory, by their path in it.
fn read_files(directory: &Path) -> anyhow::Result<Files> {
    if !directory.join(MAIN_FILE).is_file() {
        let message = format!("{} has no {MAIN_FILE}", directory.display());
        return Err(failed(ExitReason::Mistakes, message));
    }
    let mut files = Files::new();
    let mut waiting = vec![directory.to_owned()];
    while let Some(next) = waiting.pop() {
        for entry in fs::read_dir(&next).with_context(|| format!("reading {}", next.display()))? {
            let path = entry?.path();
            let is_ours = path.extension().is_some_and(|ending| ending == "toml" || ending == "csv");
            if path.is_dir() {
                waiting.push(path);
            } else if is_ours {
                let bytes = fs::read(&path).with_context(|| format!("reading {}", path.display()))?;
                let name = path.strip_prefix(directory)?.to_string_lossy().into_owned();
                files.insert(name, utf8(&path, bytes)?);
            }
        }
    }
    Ok(files)
}

fn utf8(path: &Path, bytes: Vec<u8>) -> anyhow::Result<String> {
    String::from_utf8(bytes).map_err(|error| {
        let before = error.as_bytes().get(..error.utf8_error().valid_up_to()).unwrap_or_default();
        let line = before.iter().filter(|byte| **byte == b'\n').count() + 1;
        let message = format!("{}:{line}: not UTF-8; save the file with that encoding", path.display());
        failed(ExitReason::Mistakes, message)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_go_in_parts_of_a_size_and_none_is_left_out() {
        let files: Files = [("a.csv", "Gärbehälter".repeat(9)), ("b.csv", String::new()), ("c.csv", "€".repeat(20))]
            .map(|(path, text)| (path.to_owned(), text))
            .into();
        for most in [4, 5, 17, 500] {
            let requests = parts_of(&files, most);
            let mut taken = Files::new();
            for part in requests.iter().flatten() {
                let known: &mut String = taken.entry(part.path.to_owned()).or_default();
                assert_eq!(known.len(), part.at);
                known.push_str(part.text);
            }
            assert_eq!(taken, files);
            assert!(requests.iter().all(|parts| parts.iter().map(|part| part.text.len()).sum::<usize>() <= most));
        }
        assert_eq!(parts_of(&files, 500).len(), 1, "what fits together goes together");
    }
}

use super::sign_in::read_password;
use super::{Client, part, text, whole};
use crate::exit::{ExitReason, failed};
use crate::options::{Output, Target};
use crate::output::{date, print_rows, say};
use clap::{Args, Subcommand, ValueEnum};
use reqwest::Method;
use serde_json::{Value, json};

#[derive(Debug, Args)]
pub(crate) struct PeopleArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    #[command(subcommand)]
    pub(crate) command: PeopleCommand,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub(crate) output: Output,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum RoleWord {
    /// Looks.
    Viewer,
    /// Writes values and acknowledges.
    Operator,
    /// Edits and activates.
    Engineer,
    /// Also people and tokens.
    Administrator,
}

#[derive(Debug, Subcommand)]
pub(crate) enum PeopleCommand {
    /// List them
    List,
    /// Add one
    Add {
        /// The name to sign in with
        name: String,
        /// What the person may do
        #[arg(long, value_enum)]
        role: RoleWord,
        /// Read the first password from standard input instead of asking
        #[arg(long)]
        password_stdin: bool,
    },
    /// Give one another role
    Role {
        /// The name
        name: String,
        /// What the person may do from now on
        #[arg(value_enum)]
        role: RoleWord,
    },
    /// Give one another password; the person is signed out everywhere
    Password {
        /// The name
        name: String,
        /// Read the password from standard input instead of asking
        #[arg(long)]
        password_stdin: bool,
    },
    /// Take one away, with all sessions and tokens
    Remove {
        /// The name
        name: String,
        /// Yes, take the person away
        #[arg(long)]
        yes: bool,
    },
}

#[derive(Debug, Args)]
pub(crate) struct TokensArguments {
    #[command(flatten)]
    pub(crate) target: Target,
    #[command(subcommand)]
    pub(crate) command: TokensCommand,
    /// Form of the output
    #[arg(long, short, value_enum, default_value = "table", global = true)]
    pub(crate) output: Output,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokensCommand {
    /// List your own, or as an administrator everybody's
    List,
    /// Make one good for nothing
    Remove {
        /// The number that it is listed under
        id: String,
    },
}

pub(crate) async fn run(arguments: PeopleArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    let of = |name: &str| format!("/api/v1/people/{}", part(name));
    match arguments.command {
        PeopleCommand::List => {
            let people = client.get("/api/v1/people", &[]).await?;
            let row = |person: &Value| {
                let since = date(whole(person, "created_at"));
                vec![text(person, "name").to_owned(), text(person, "role").to_owned(), since]
            };
            let rows = people.as_array().into_iter().flatten().map(row).collect();
            return print_rows(arguments.output, &["name", "role", "since"], rows, &people, "Nobody can sign in.");
        }
        PeopleCommand::Add { name, role, password_stdin } => {
            let body = json!({ "name": name, "role": word(role), "password": read_password(password_stdin)? });
            client.do_it(Method::POST, "/api/v1/people", Some(&body)).await?;
            say!("{name} can sign in as {}.", word(role))?;
        }
        PeopleCommand::Role { name, role } => {
            client.do_it(Method::PATCH, &of(&name), Some(&json!({ "role": word(role) }))).await?;
            say!("{name} is {} now.", word(role))?;
        }
        PeopleCommand::Password { name, password_stdin } => {
            let body = json!({ "password": read_password(password_stdin)? });
            client.do_it(Method::PATCH, &of(&name), Some(&body)).await?;
            say!("{name} has another password and is signed out everywhere.")?;
        }
        PeopleCommand::Remove { name, yes } => {
            if !yes {
                return Err(failed(ExitReason::Failure, format!("this takes {name} away; say --yes")));
            }
            client.do_it(Method::DELETE, &of(&name), None).await?;
            say!("{name} can sign in no more.")?;
        }
    }
    Ok(())
}

fn word(role: RoleWord) -> String {
    role.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
}

pub(crate) async fn tokens(arguments: TokensArguments) -> anyhow::Result<()> {
    let client = Client::new(&arguments.target)?;
    match arguments.command {
        TokensCommand::List => {
            let tokens = client.get("/api/v1/tokens", &[]).await?;
            let row = |token: &Value| {
                let (made, until) = (date(whole(token, "created_at")), date(whole(token, "expires_at")));
                vec![
                    text(token, "id").to_owned(),
                    text(token, "person").to_owned(),
                    text(token, "label").to_owned(),
                    made,
                    until,
                ]
            };
            let rows = tokens.as_array().into_iter().flatten().map(row).collect();
            print_rows(arguments.output, &["id", "person", "for", "made", "good until"], rows, &tokens, "No tokens.")
        }
        TokensCommand::Remove { id } => {
            client.do_it(Method::DELETE, &format!("/api/v1/tokens/{}", part(&id)), None).await?;
            say!("Token {id} is good for nothing any more.")?;
            Ok(())
        }
    }
}

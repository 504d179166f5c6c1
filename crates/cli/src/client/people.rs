use super::sign_in::read_password;
use super::{Client, part, text, whole};
use crate::args::{PeopleArguments, PeopleCommand, RoleWord, TokensArguments, TokensCommand};
use crate::exit::{ExitReason, failed};
use crate::output::{date, print_rows, say};
use clap::ValueEnum;
use reqwest::Method;
use serde_json::{Value, json};

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

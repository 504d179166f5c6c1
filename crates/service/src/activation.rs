use crate::{ApiError, App};
use interlex_core::description::{self, Description, Files, MAIN_FILE, Problem};
use interlex_gateway::{Gateway, GatewayOptions, wall_clock};
use interlex_store::NewRevision;
use std::sync::Arc;

/// Starts the active revision of every gateway, after the start of the service.
pub(crate) async fn start_all(app: &App) -> Result<(), ApiError> {
    for revision in app.store.active_revisions().await? {
        let (name, number) = (revision.summary.gateway, revision.summary.number);
        match description::read(&revision.files) {
            Ok(description) => run(app, description, number).await,
            Err(problems) => {
                let first = problems.first().map(ToString::to_string).unwrap_or_default();
                tracing::error!(gateway = name, revision = number, first, "the active revision cannot be read");
            }
        }
    }
    Ok(())
}

/// Checks files as a description, also against the gateways that run.
pub(crate) fn check(app: &App, files: &Files) -> Result<Description, Vec<Problem>> {
    let description = description::read(files)?;
    let problems = clashes(app, &description);
    if problems.is_empty() { Ok(description) } else { Err(problems) }
}

/// A Sparkplug node is unique in the whole installation.
///
/// Source: Sparkplug 3.0.0, tck-id-topic-structure-namespace-unique-edge-node-descriptor.
fn clashes(app: &App, new: &Description) -> Vec<Problem> {
    let mut problems = Vec::new();
    for gateway in app.running().iter().filter(|running| running.description().gateway.name != new.gateway.name) {
        for uplink in &new.uplinks {
            let taken = gateway.description().uplinks.iter().any(|u| u.group == uplink.group && u.node == uplink.node);
            if taken {
                problems.push(Problem {
                    file: MAIN_FILE.to_owned(),
                    line: 0,
                    column: 0,
                    object: format!("uplink {:?}", uplink.name.as_str()),
                    message: format!(
                        "{}/{} is the node of gateway {:?}",
                        uplink.group,
                        uplink.node,
                        gateway.description().gateway.name.as_str()
                    ),
                    expected: "a group and node of its own".to_owned(),
                });
            }
        }
    }
    problems
}

/// Makes a description the active revision of its gateway and runs it. Gives the revision's number.
pub(crate) async fn activate(app: &App, files: &Files, author: &str, note: &str) -> Result<(String, u32), ApiError> {
    let _one_at_a_time = app.activating.lock().await;
    let description = check(app, files).map_err(ApiError::Description)?;
    let name = description.gateway.name.to_string();
    let canonical = description::write(&description);
    let new = NewRevision { gateway: &name, author, activated_at: wall_clock().as_millis(), note, files: &canonical };
    let number = app.store.add_revision(&new).await?;
    run(app, description, number).await;
    Ok((name, number))
}

/// Stops the gateway of this name, if it runs, and starts it with the description.
async fn run(app: &App, description: Description, revision: u32) {
    let name = description.gateway.name.to_string();
    if let Some(before) = app.gateway(&name) {
        before.stop().await;
    }
    let options = GatewayOptions { revision, store: Some(app.store.clone()) };
    let gateway = Gateway::start(Arc::new(description), options).await;
    tracing::info!(gateway = name, revision, "running");
    app.gateways.write().insert(name, Arc::new(gateway));
}

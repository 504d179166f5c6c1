use crate::access::auth::Author;
use crate::draft::drafts;
use crate::draft::opened::OpenDraft;
use crate::{ApiError, App};
use interlex_core::description::{self, Description, Difference, Draft, Files, Problem, difference};
use interlex_gateway::{Gateway, GatewayOptions, aside, wall_clock};
use interlex_store::{AuditEntry, NewRevision};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// How something is activated.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Why<'a> {
    /// What is written down about it.
    pub(crate) note: &'a str,
    /// Whether samples may be lost that wait for a broker, and whose uplinks or points are gone then.
    pub(crate) drop_waiting: bool,
}

/// How long an activation waits for samples to be sent that it would lose.
const DRAIN: Duration = Duration::from_secs(10);
const LOOK: Duration = Duration::from_millis(100);

/// Waits until nothing waits any more that the description would lose.
async fn wait_for_waiting(app: &App, gateway: &str, description: &Description) -> Result<(), ApiError> {
    let Some(running) = app.gateway(gateway) else { return Ok(()) };
    let deadline = Instant::now() + DRAIN;
    loop {
        let losses = running.would_lose(description).await;
        if losses.is_empty() {
            return Ok(());
        }
        if Instant::now() >= deadline || !losses.iter().any(|loss| loss.is_online) {
            let told: Vec<_> = losses.iter().map(ToString::to_string).collect();
            let what_then = "wait for the broker, or activate without them (--drop-waiting)";
            return Err(ApiError::Conflict(format!("{}; {what_then}", told.join("; "))));
        }
        sleep(LOOK).await;
    }
}

/// What was activated.
#[derive(Debug)]
pub(crate) struct Activated {
    pub(crate) revision: u32,
    pub(crate) difference: Difference,
}

/// Starts the active revision of every gateway, after the start of the service.
pub(crate) async fn start_all(app: &App) -> Result<(), ApiError> {
    for revision in app.store.active_revisions().await? {
        let (name, number) = (revision.summary.gateway, revision.summary.number);
        let first = |problems: Vec<Problem>| problems.first().map(ToString::to_string).unwrap_or_default();
        let read = description::read(&revision.files).map_err(first).and_then(|mut description| {
            app.vault.reveal(&mut description).map_err(|error| error.to_string())?;
            Ok(description)
        });
        match read {
            Ok(description) => run(app, description, number).await,
            Err(why) => {
                tracing::error!(gateway = name, revision = number, why, "the active revision does not run");
                app.failed.write().insert(name, format!("revision {number} does not run: {why}"));
            }
        }
    }
    Ok(())
}

/// Makes the draft the active revision of its gateway and runs it. `seen` is the version that whoever activates has
/// looked at.
pub(crate) async fn activate_draft(
    app: &App,
    gateway: &str,
    seen: u64,
    author: &Author,
    why: Why<'_>,
) -> Result<Activated, ApiError> {
    let _one_at_a_time = app.activating.lock().await;
    let opened = drafts::open(app, gateway).await?;
    if opened.record.version != seen {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    let description = drafts::check(app, &opened).await?.into_result().map_err(ApiError::Description)?;
    let canonical = aside(|| opened.canonical());
    carry_out(app, &opened, canonical, description, author, why).await
}

/// Makes an earlier revision the active one again, under a new number.
pub(crate) async fn activate_revision(
    app: &App,
    gateway: &str,
    number: u32,
    author: &Author,
    why: Why<'_>,
) -> Result<Activated, ApiError> {
    let _one_at_a_time = app.activating.lock().await;
    let opened = drafts::open(app, gateway).await?;
    let (draft, _) = drafts::revision(app, gateway, number).await?;
    let mut checked = aside(|| description::check(&draft));
    checked.add(drafts::surroundings(app, &draft, gateway).await?);
    let description = checked.into_result().map_err(ApiError::Description)?;
    carry_out(app, &opened, draft, description, author, why).await
}

/// Puts files in the place of a draft, whatever it was, and activates them on behalf of the program itself.
pub(crate) async fn activate_files(app: &App, files: &Files, note: &str) -> Result<u32, ApiError> {
    let author = Author { person: "interlex".to_owned(), source: String::new() };
    let name = description::parse(files).map_err(ApiError::Description)?.name().to_owned();
    if app.store.gateway(&name).await?.is_none() {
        app.store.add_gateway(&name, &author.person, wall_clock().as_millis()).await?;
    }
    let opened = drafts::open(app, &name).await?;
    let draft = drafts::take_in(app, files, &opened.draft)?;
    let version = drafts::begin(app, &opened, &author.person, draft).await?;
    let why = Why { note, drop_waiting: true };
    activate_draft(app, &name, version, &author, why).await.map(|activated| activated.revision)
}

async fn carry_out(
    app: &App,
    opened: &OpenDraft,
    canonical: Arc<Draft>,
    mut description: Description,
    author: &Author,
    Why { note, drop_waiting }: Why<'_>,
) -> Result<Activated, ApiError> {
    let gateway = opened.record.name.as_str();
    let before = match opened.record.active {
        Some(number) => Some(drafts::revision(app, gateway, number).await?),
        None => None,
    };
    if !drop_waiting {
        wait_for_waiting(app, gateway, &description).await?;
    }
    let (difference, (files, stored)) = aside(|| {
        let before = before.as_ref().map(|(draft, _)| &**draft);
        (difference(before, &canonical), opened.stored.files_of(&canonical))
    });
    // Before anything is written: a revision whose secrets cannot be opened would not start.
    app.vault.reveal(&mut description).map_err(ApiError::internal)?;
    let (activated_at, version) = (wall_clock().as_millis(), Some(opened.record.version));
    let new = NewRevision { gateway, author: &author.person, activated_at, note, files: &files, version };
    let revision = app.store.add_revision(&new).await.map_err(drafts::edit_failed)?;
    app.revisions.lock().insert(gateway.to_owned(), (revision, (canonical, Arc::new(stored))));
    let detail = match note {
        "" => format!("revision {revision}"),
        note => format!("revision {revision}: {note}"),
    };
    let entry = AuditEntry {
        action: "activate",
        detail: &detail,
        gateway,
        after: Some(difference.to_string()),
        ..author.entry()
    };
    app.audit(entry).await;
    run(app, description, revision).await;
    Ok(Activated { revision, difference })
}

/// Runs a description: in the place of what runs under its name, or as a new gateway.
async fn run(app: &App, description: Description, revision: u32) {
    let name = description.gateway.name.to_string();
    let description = Arc::new(description);
    if let Some(running) = app.gateway(&name) {
        running.activate(description, revision).await;
    } else {
        let options = GatewayOptions {
            revision,
            store: Some(app.store.clone()),
            trail: Some(app.trail.clone()),
            is_audit_required: app.is_audit_required,
            clock: None,
            memories: app.memories.clone(),
        };
        let gateway = Gateway::start(description, options).await;
        app.gateways.write().insert(name.clone(), Arc::new(gateway));
    }
    app.failed.write().remove(&name);
    tracing::info!(gateway = name, revision, "running");
}

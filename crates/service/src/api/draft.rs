use crate::access::auth::{Author, Engineer, Viewer};
use crate::api::array::{Each, array_of};
use crate::api::check::{CheckResult, check_of, is_bounded};
use crate::api::extract::{Json, Path, Query};
use crate::api::gateways::DescriptionFiles;
use crate::draft::drafts;
use crate::draft::opened::OpenDraft;
use crate::draft::presence::Editor;
use crate::draft::vault::{mask, masked};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use axum::response::Response;
use interlex_core::description::{Content, Draft, Files, ObjectClass, ObjectRef, difference, list_of};
use interlex_gateway::wall_clock;
use interlex_store::{AuditEntry, DraftChange, Edit, version_of};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

/// One object of a draft.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct ObjectView {
    /// Which one.
    #[serde(flatten)]
    object: ObjectRef,
    /// Its version: send it along with an edit, so that nothing is overwritten unseen.
    version: String,
    /// What it holds, with a placeholder for every secret. A rate has `name` and `period`.
    content: Value,
    /// Who changed it, when it differs from the active revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    changed_by: Option<String>,
    /// When, in milliseconds since 1970 UTC.
    #[serde(skip_serializing_if = "Option::is_none")]
    changed_at: Option<i64>,
}

/// A point list of a draft.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct ListView {
    /// Its path.
    path: String,
    /// How many points it has.
    points: usize,
    /// The devices that use it.
    devices: Vec<String>,
}

/// A draft without its points.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct DraftView {
    /// The gateway.
    gateway: String,
    /// Grows with every edit and every activation.
    version: u64,
    /// The number of the active revision.
    active: Option<u32>,
    /// Whether it has been edited since the last activation.
    edited: bool,
    /// How many objects differ from the active revision.
    changes: usize,
    /// Who changed it last.
    changed_by: String,
    /// When, in milliseconds since 1970 UTC.
    changed_at: i64,
    /// Gateway, rates, links, devices and uplinks, in their order.
    objects: Vec<ObjectView>,
    /// Its point lists.
    lists: Vec<ListView>,
}

/// Which point list.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ListFilter {
    /// Only points of this list; all points when left out.
    list: Option<String>,
    /// Only those of the list behind the point of this name: the last one of the page before.
    after: Option<String>,
    /// So many at the most; all without it.
    limit: Option<usize>,
}

/// One edit of a draft.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct EditRequest {
    /// Which object; for a new one, the name that it will have.
    object: ObjectRef,
    /// The version that was looked at; none for an object that is new.
    version: Option<String>,
    /// What it was then. With it, what somebody else has changed since of other fields is no conflict: both changes stand.
    #[serde(default)]
    began: Option<Value>,
    /// What it becomes; none takes it away. With another name in it, it is renamed, and whoever names it follows.
    content: Option<Value>,
}

/// Edits of a draft: all are done, or none.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct Edits {
    edits: Vec<EditRequest>,
}

/// What became of a draft.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct Edited {
    /// The version of the draft now.
    version: u64,
    /// The objects as they are now, those that followed a renaming included; without those that are gone.
    objects: Vec<ObjectView>,
}

/// Files to put in the place of a draft.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct ReplaceRequest {
    /// Path relative to gateway.toml, and text.
    files: Files,
    /// The version of the draft that was looked at.
    version: u64,
}

/// The version of a draft that was looked at.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Seen {
    /// The version.
    version: u64,
}

/// What is open in a tab.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct PresenceRequest {
    /// A random name of the tab.
    tab: String,
    /// What is being edited, in words; empty when nothing is.
    place: String,
}

/// What the others do, and whether the draft has moved.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct PresenceView {
    /// The version of the draft.
    version: u64,
    /// Everybody else who has this gateway open for editing.
    editors: Vec<Editor>,
}

/// The draft of a gateway. While it is not edited, it is the active revision.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/draft", operation_id = "read_draft", tag = "draft", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))), responses((status = 200, body = DraftView),
    (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
pub(crate) async fn read(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<DraftView>, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    let changes = changes(&app, &opened).await?;
    let objects = opened.draft.parts();
    let objects = objects.map(|(object, content)| view(&opened, object, content.into_value())).collect();
    let lists = opened.draft.lists.iter().map(|(path, rows)| ListView {
        path: path.clone(),
        points: rows.len(),
        devices: users(&opened.draft, path),
    });
    let record = &opened.record;
    Ok(Json(DraftView {
        gateway,
        version: record.version,
        active: record.active,
        edited: record.is_edited,
        changes,
        changed_by: record.changed_by.clone(),
        changed_at: record.changed_at,
        objects,
        lists: lists.collect(),
    }))
}

async fn changes(app: &App, opened: &OpenDraft) -> Result<usize, ApiError> {
    let record = &opened.record;
    match record.active {
        Some(_) if !record.is_edited => Ok(0),
        Some(number) => {
            let (active, _) = drafts::revision(app, &record.name, number).await?;
            Ok(difference(Some(&active), &opened.canonical()).count())
        }
        None => Ok(opened.draft.parts().count() + opened.points()),
    }
}

/// Points of a draft: those of a list, or of all lists one after the other, as a stream.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/draft/points", operation_id = "draft_points", tag = "draft",
    params(("gateway" = String, Path), ListFilter), extensions(("x-role" = json!("viewer"))),
    responses((status = 200, body = Vec<ObjectView>), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn points(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
    Query(filter): Query<ListFilter>,
) -> Result<Response, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    let skipped = match (&filter.list, &filter.after) {
        (_, None) => 0,
        (Some(list), Some(after)) => {
            let at = opened.draft.rows(list).iter().position(|row| row.name() == after);
            let gone =
                || ApiError::BadRequest(format!("after is {after:?}, and the list has no such point; begin anew"));
            at.ok_or_else(gone)? + 1
        }
        (None, Some(_)) => return Err(ApiError::BadRequest("after goes with a list; expected list, too".to_owned())),
    };
    let is_wanted = |list: &String| filter.list.as_ref().is_none_or(|wanted| wanted == list);
    let lists = opened.draft.lists.iter().filter(|(list, _)| is_wanted(list));
    let lists: Vec<_> = lists.map(|(list, rows)| (Arc::<str>::from(list.as_str()), Arc::clone(rows))).collect();
    let places = lists
        .into_iter()
        .flat_map(|(list, rows)| (0..rows.len()).map(move |at| (Arc::clone(&list), Arc::clone(&rows), at)));
    let places = places.skip(skipped).take(filter.limit.unwrap_or(usize::MAX));
    let points = places.filter_map(move |(list, rows, at)| {
        let row = rows.get(at)?;
        Some(view(&opened, ObjectRef::point(&*list, row.name()), row.to_value()))
    });
    Ok(array_of(app, Each(points)))
}

fn view(opened: &OpenDraft, object: ObjectRef, content: Value) -> ObjectView {
    let author = opened.authors.get(&object);
    let (changed_by, changed_at) = (author.map(|(by, _)| by.clone()), author.map(|(_, at)| *at));
    object_view(object, content, changed_by, changed_at)
}

fn object_view(
    object: ObjectRef,
    mut content: Value,
    changed_by: Option<String>,
    changed_at: Option<i64>,
) -> ObjectView {
    let version = version_of(&content);
    mask(object.class, &mut content);
    ObjectView { object, version, content, changed_by, changed_at }
}

/// Edits a draft: adds, changes, renames and takes away objects.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/edits", operation_id = "edit_draft", tag = "draft", request_body = Edits,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = Edited), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 503, body = ProblemDetails)))]
pub(crate) async fn edit(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<Edits>,
) -> Result<Json<Edited>, ApiError> {
    let before = drafts::open(&app, &gateway).await?;
    let began = wanted.edits.iter().any(|edit| edit.began.is_some());
    let lists: BTreeSet<_> = wanted.edits.iter().map(|edit| edit.object.list.clone()).collect();
    let lists = || lists.iter().map(String::as_str);
    let theirs: HashMap<_, _> = if began { before.draft.objects_in(lists()).collect() } else { HashMap::new() };
    let change = |edit: EditRequest| {
        let (object, author) = (theirs.get(&edit.object).map(Content::to_value), before.authors.get(&edit.object));
        let change = DraftChange { object: edit.object, base: edit.version, content: edit.content };
        match edit.began {
            Some(began) => drafts::laid_on(object.as_deref(), author, change, &began),
            None => Ok(change),
        }
    };
    let changes = wanted.edits.into_iter().map(change).collect::<Result<_, _>>()?;
    let (version, done) = drafts::edit(&app, &gateway, &author.person, changes).await?;
    if done.len() < MOST_AUDITED {
        for change in &done {
            let known_before = before.object(&change.object);
            let is_point = change.object.class == ObjectClass::Point;
            let devices = if is_point { users(&before.draft, &change.object.list) } else { Vec::new() };
            audit_change(&app, &author, &gateway, change, known_before, &devices).await;
        }
    } else {
        let detail = format!("{} edited at once", objects(done.len()));
        app.audit(AuditEntry { action: "edit-draft", detail: &detail, gateway: &gateway, ..author.entry() }).await;
    }
    let (by, at) = (Some(author.person), Some(wall_clock().as_millis()));
    let objects = done.into_iter().filter_map(|change| {
        let content = change.content?;
        let name = content.get("name").and_then(Value::as_str).unwrap_or(&change.object.name).to_owned();
        Some(object_view(ObjectRef { name, ..change.object }, content, by.clone(), at))
    });
    Ok(Json(Edited { version, objects: objects.collect() }))
}

/// The devices whose points a list has.
fn users(draft: &Draft, list: &str) -> Vec<String> {
    let is_user = |device: &&Value| list_of(device) == list;
    let name = |device: &Value| device.get("name").and_then(Value::as_str).unwrap_or_default().to_owned();
    draft.devices.iter().filter(is_user).map(name).collect()
}

/// An edit of more objects than this is one entry of the audit trail; the revision tells them all.
const MOST_AUDITED: usize = 100;

async fn audit_change(
    app: &App,
    author: &Author,
    gateway: &str,
    change: &DraftChange,
    mut before: Option<Value>,
    devices: &[String],
) {
    let mut after = change.content.clone();
    for content in [&mut before, &mut after].into_iter().flatten() {
        mask(change.object.class, content);
    }
    let (mut object, json) =
        (change.object.to_string(), |content: Option<Value>| content.map(|value| value.to_string()));
    if !devices.is_empty() {
        object = format!("{object} of {}", devices.join(", "));
    }
    let entry = AuditEntry {
        action: "edit-draft",
        gateway,
        object: &object,
        before: json(before),
        after: json(after),
        ..author.entry()
    };
    app.audit(entry).await;
}

/// Puts files in the place of the whole draft.
#[utoipa::path(put, path = "/api/v1/gateways/{gateway}/draft/files", operation_id = "replace_draft", tag = "draft", request_body = ReplaceRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = CheckResult), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn replace(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<ReplaceRequest>,
) -> Result<Json<CheckResult>, ApiError> {
    is_bounded(&wanted.files)?;
    replaced(&app, &author, &gateway, &wanted.files, wanted.version).await
}

/// Puts files in the place of a draft of this version.
pub(super) async fn replaced(
    app: &App,
    author: &Author,
    gateway: &str,
    files: &Files,
    version: u64,
) -> Result<Json<CheckResult>, ApiError> {
    let opened = drafts::open(app, gateway).await?;
    if opened.record.version != version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    let draft = drafts::take_in(app, files, &opened.draft)?;
    let draft = drafts::canonical(&opened, draft);
    let told = difference(Some(&opened.canonical()), &draft);
    // What is the same already needs no draft of its own.
    if !told.is_empty() {
        drafts::begin(app, &opened, &author.person, draft).await?;
        let detail = format!("{} changed", objects(told.count()));
        let after = Some(told.to_string());
        let entry = AuditEntry { action: "replace-draft", detail: &detail, gateway, after, ..author.entry() };
        app.audit(entry).await;
    }
    check_of(app, gateway).await
}

/// Throws the edits of a draft away: it is the active revision again.
#[utoipa::path(delete, path = "/api/v1/gateways/{gateway}/draft", operation_id = "discard_draft", tag = "draft", params(("gateway" = String, Path), Seen),
    extensions(("x-role" = json!("engineer"))), responses((status = 204), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails), (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails)))]
pub(crate) async fn discard(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Query(seen): Query<Seen>,
) -> Result<axum::http::StatusCode, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    if opened.record.version != seen.version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    let edit =
        Edit { gateway: &opened.record, base: &opened.base, person: &author.person, at: wall_clock().as_millis() };
    app.store.discard_draft(&edit).await.map_err(drafts::edit_failed)?;
    let lost = match opened.record.active {
        Some(number) => {
            let (active, _) = drafts::revision(&app, &gateway, number).await?;
            difference(Some(&active), &opened.canonical())
        }
        None => difference(None, &opened.draft),
    };
    // What was thrown away can be read here, and typed again.
    let before = Some(lost.to_string());
    app.audit(AuditEntry { action: "discard-draft", gateway: &gateway, before, ..author.entry() }).await;
    Ok(axum::http::StatusCode::NO_CONTENT)
}

/// The draft as files, in canonical form where it would run, with a placeholder for every secret.
#[utoipa::path(get, path = "/api/v1/gateways/{gateway}/draft/files", operation_id = "draft_files", tag = "draft", params(("gateway" = String, Path)),
    extensions(("x-role" = json!("viewer"))), responses((status = 200, body = DescriptionFiles),
    (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn files(
    State(app): State<Arc<App>>,
    _: Viewer,
    Path(gateway): Path<String>,
) -> Result<Json<DescriptionFiles>, ApiError> {
    let opened = drafts::open(&app, &gateway).await?;
    Ok(Json(DescriptionFiles { files: masked(Draft::clone(&opened.canonical())).to_files() }))
}

/// Tells what is open in a tab, and gives what the others have open. A tab that says nothing for 15 seconds is closed.
#[utoipa::path(put, path = "/api/v1/gateways/{gateway}/draft/presence", operation_id = "note_presence", tag = "draft", request_body = PresenceRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("viewer"))), responses(
    (status = 200, body = PresenceView), (status = 401, body = ProblemDetails), (status = 404, body = ProblemDetails)))]
pub(crate) async fn presence(
    State(app): State<Arc<App>>,
    Viewer(who): Viewer,
    Path(gateway): Path<String>,
    Json(here): Json<PresenceRequest>,
) -> Result<Json<PresenceView>, ApiError> {
    let record = app.store.gateway(&gateway).await?.ok_or_else(|| drafts::unknown(&gateway))?;
    let short = |text: &str| text.chars().take(100).collect::<String>();
    let editor = Editor { person: who.name, place: short(&here.place) };
    let editors = app.presence.announce(&gateway, &short(&here.tab), editor, wall_clock());
    Ok(Json(PresenceView { version: record.version, editors }))
}

fn objects(count: usize) -> String {
    if count == 1 { "1 object".to_owned() } else { format!("{count} objects") }
}

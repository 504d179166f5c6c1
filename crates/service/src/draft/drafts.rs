//! Drafts between the database and the API: opened, edited, and followed by what an edit entails.

use super::opened::{Base, OpenDraft};
use super::stored::StoredLists;
use crate::draft::vault::{SealError, mask};
use crate::error::ConflictView;
use crate::{ApiError, App};
use interlex_core::description::{
    self, CheckMemory, Checked, Description, Draft, Files, Merged, ObjectClass, ObjectRef, Problem, SecretFields,
    SecretText, Severity,
};
use interlex_gateway::{aside, wall_clock};
use interlex_store::{DraftChange, Edit, EditError, version_of};
use serde_json::Value;
use std::cell::{LazyCell, OnceCell};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::{Instant, sleep};

/// Opens the draft of a gateway; what was opened last is kept as long as nothing changes.
pub(crate) async fn open(app: &App, gateway: &str) -> Result<Arc<OpenDraft>, ApiError> {
    let record = app.store.gateway(gateway).await?.ok_or_else(|| unknown(gateway))?;
    app.drafts_used.lock().insert(gateway.to_owned(), Instant::now());
    let before = app.drafts.lock().get(gateway).cloned();
    if let Some(known) = before.as_ref().filter(|known| known.record == record) {
        return Ok(Arc::clone(known));
    }
    let base = match (record.draft_files, record.active) {
        (Some(number), _) => files(app, gateway, number).await?,
        (None, Some(number)) => revision(app, gateway, number).await?,
        (None, None) => (Arc::new(Draft::new(gateway)), Arc::default()),
    };
    let runs = || app.gateway(gateway).map(|gateway| CheckMemory::running(gateway.running().description()));
    let known = before.map(|before| before.known()).unwrap_or_else(|| aside(runs).unwrap_or_default().into());
    let is_edited = record.is_edited;
    let opened = OpenDraft::new(record, base, known);
    let opened = match is_edited {
        true => opened.with_edits(app.store.draft_edits(gateway).await?),
        false => opened,
    };
    let opened = Arc::new(opened);
    app.drafts.lock().insert(gateway.to_owned(), Arc::clone(&opened));
    Ok(opened)
}

/// So many points take no room that anybody misses.
const SMALL: usize = 20_000;
/// What is larger is kept for so long after it was used last: there may be a million rows.
const KEPT: Duration = Duration::from_secs(60);
const LOOK: Duration = Duration::from_secs(5);

/// Lets go of large drafts and revisions that nobody has used for a while; they are read again when somebody does.
pub(crate) async fn let_go(app: &App) {
    loop {
        sleep(LOOK).await;
        app.orders.lock().let_go(KEPT);
        let mut large: Vec<_> = app
            .drafts
            .lock()
            .iter()
            .filter(|(_, opened)| opened.points() > SMALL)
            .map(|(name, _)| name.clone())
            .collect();
        // Also those that were looked at with no draft open.
        let revisions = app.revisions.lock();
        large.extend(revisions.iter().filter(|(_, (_, base))| base.0.points() > SMALL).map(|(name, _)| name.clone()));
        drop(revisions);
        for gateway in large {
            let is_used = app.drafts_used.lock().get(&gateway).is_some_and(|used| used.elapsed() < KEPT);
            if !is_used {
                forget(app, &gateway);
            }
        }
    }
}

/// Keeps nothing of a gateway that is gone.
pub(crate) fn forget(app: &App, gateway: &str) {
    app.drafts_used.lock().remove(gateway);
    let (draft, revision) = (app.drafts.lock().remove(gateway), app.revisions.lock().remove(gateway));
    aside(|| drop((draft, revision)));
}

/// A revision, taken apart. Revisions never change: the one that was looked at last is kept.
pub(crate) async fn revision(app: &App, gateway: &str, number: u32) -> Result<Base, ApiError> {
    let known = app.revisions.lock().get(gateway).filter(|(known, _)| *known == number).map(|(_, known)| known.clone());
    if let Some(known) = known {
        app.drafts_used.lock().insert(gateway.to_owned(), Instant::now());
        return Ok(known);
    }
    let found = app.store.revision(gateway, number).await?;
    let revision = found.ok_or_else(|| ApiError::NotFound(format!("revision {number} of gateway {gateway:?}")))?;
    let draft = aside(|| description::parse(&revision.files)).map_err(ApiError::Description)?;
    let stored = StoredLists::of(&draft, revision.pieces);
    let base = (Arc::new(draft), Arc::new(stored));
    // Only now: anybody may ask for what there is not.
    app.drafts_used.lock().insert(gateway.to_owned(), Instant::now());
    app.revisions.lock().insert(gateway.to_owned(), (number, base.clone()));
    Ok(base)
}

/// The files that a draft began with, taken apart.
async fn files(app: &App, gateway: &str, number: i64) -> Result<Base, ApiError> {
    let (files, pieces) = app.store.files(gateway, number).await?;
    // A draft of before began with nothing.
    let parsed = if files.is_empty() { Ok(Draft::default()) } else { aside(|| description::parse(&files)) };
    let draft = parsed.map_err(ApiError::Description)?;
    let stored = StoredLists::of(&draft, pieces);
    Ok((Arc::new(draft), Arc::new(stored)))
}

/// What came from outside in canonical form; what it has in common with an open draft is shared, and not checked again.
pub(crate) fn canonical(opened: &OpenDraft, mut draft: Draft) -> Draft {
    draft.share_with(&opened.draft);
    match description::check_since(&draft, &opened.known()) {
        (Checked { description: Some(description), .. }, found) => found.canonical(&description),
        _ => draft,
    }
}

/// Lets the draft of a gateway begin anew with what came from outside. Gives its new version.
pub(crate) async fn begin(app: &App, opened: &OpenDraft, person: &str, draft: Draft) -> Result<u64, ApiError> {
    let at = wall_clock().as_millis();
    let (files, stored) = aside(|| opened.stored.files_of(&draft));
    let edit = Edit { gateway: &opened.record, base: &opened.base, person, at };
    let version = app.store.replace_draft(&edit, &files).await.map_err(edit_failed)?;
    let gateway = opened.record.name.as_str();
    // It is known without being read again.
    if let Some(record) = app.store.gateway(gateway).await?.filter(|record| record.version == version) {
        let begun = OpenDraft::new(record, (Arc::new(draft), Arc::new(stored)), opened.known());
        app.drafts.lock().insert(gateway.to_owned(), Arc::new(begun));
    }
    Ok(version)
}

/// Edits the lists of a draft to those of another one.
pub(crate) async fn lay(app: &App, opened: &OpenDraft, person: &str, after: &Draft) -> Result<u64, ApiError> {
    let changes = aside(|| opened.draft.list_changes(after));
    let change = |(object, content): (ObjectRef, Option<Value>)| DraftChange { base: None, object, content };
    let mut changes: Vec<_> = changes.into_iter().map(change).collect();
    let lists: std::collections::BTreeSet<_> = changes.iter().map(|change| change.object.list.clone()).collect();
    let known: HashMap<_, _> = opened.draft.objects_in(lists.iter().map(String::as_str)).collect();
    for change in &mut changes {
        change.base = known.get(&change.object).map(|content| version_of(&content.to_value()));
    }
    drop(known);
    carry_out(app, opened, person, &changes).await
}

pub(crate) fn unknown(gateway: &str) -> ApiError {
    ApiError::NotFound(format!("gateway {gateway:?}"))
}

/// What a check of a draft finds, its surroundings included.
pub(crate) async fn check(app: &App, opened: &OpenDraft) -> Result<Checked, ApiError> {
    let mut checked = aside(|| opened.checked().clone());
    checked.add(surroundings(app, &opened.draft, &opened.record.name).await?);
    Ok(checked)
}

/// What only the other gateways and the vault show.
pub(crate) async fn surroundings(app: &App, draft: &Draft, gateway: &str) -> Result<Vec<Problem>, ApiError> {
    let mut problems = Vec::new();
    if draft.name() != gateway {
        let target = ObjectRef::new(ObjectClass::Gateway, draft.name());
        let message = format!("name is {:?}", draft.name());
        let expected = format!("{gateway:?}: a gateway keeps its name; add another one for another name");
        problems.push(Problem::of_object(target, "name", Severity::Mistake, message, expected));
    }
    problems.extend(secret_problems(app, draft));
    for other in app.store.gateways().await?.iter().filter(|other| other.name != gateway) {
        let theirs = open_quietly(app, &other.name).await?;
        problems.extend(node_clashes(draft, &theirs.draft, &other.name));
    }
    Ok(problems)
}

/// The draft of another gateway; a revision that cannot be read hides nothing that could clash.
async fn open_quietly(app: &App, gateway: &str) -> Result<Arc<OpenDraft>, ApiError> {
    match open(app, gateway).await {
        Err(ApiError::Description(_)) => {
            let record = app.store.gateway(gateway).await?.ok_or_else(|| unknown(gateway))?;
            let empty = (Arc::new(Draft::new(gateway)), Arc::default());
            Ok(Arc::new(OpenDraft::new(record, empty, Arc::default())))
        }
        other => other,
    }
}

/// Secrets that are not there, and those that were stored for another place.
fn secret_problems(app: &App, draft: &Draft) -> Vec<Problem> {
    let mut problems = Vec::new();
    for (object, content) in draft.parts() {
        let content = content.to_value();
        let goes_to = OnceCell::new();
        for field in SecretFields::of(object.class).iter() {
            let Some(text) = content.get(field).and_then(Value::as_str) else { continue };
            let is_missing = text == SecretText::PLACEHOLDER;
            let goes_to = || goes_to.get_or_init(|| description::destination(object.class, &content, &draft.links));
            let message = match is_missing {
                true => format!("{field} is {:?}, and nothing is stored here", SecretText::PLACEHOLDER),
                false if app.vault.is_closed(text, goes_to()) => {
                    format!("{field} was stored for another address or other settings of TLS, or with another key")
                }
                false => continue,
            };
            let expected = "the secret itself".to_owned();
            problems.push(Problem::of_object(object.clone(), field, Severity::Mistake, message, expected));
        }
    }
    problems
}

/// A Sparkplug node is unique in the whole installation, and an MQTT client id at its broker.
///
/// Source: Sparkplug 3.0.0, tck-id-topic-structure-namespace-unique-edge-node-descriptor.
fn node_clashes(draft: &Draft, other: &Draft, gateway: &str) -> Vec<Problem> {
    let text = |uplink: &Value, key: &str| uplink.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let mut problems = Vec::new();
    for (uplink, theirs) in draft.uplinks.iter().flat_map(|mine| other.uplinks.iter().map(move |other| (mine, other))) {
        let target = ObjectRef::new(ObjectClass::Uplink, text(uplink, "name"));
        let node = |uplink| (text(uplink, "group"), text(uplink, "node"));
        let client = |uplink| (text(uplink, "url"), text(uplink, "client-id"));
        let ((group, name), (url, id)) = (node(uplink), client(uplink));
        let mut clash = |field: &str, message: String, expected: &str| {
            problems.push(Problem::of_object(target.clone(), field, Severity::Mistake, message, expected.to_owned()));
        };
        if !name.is_empty() && node(theirs) == node(uplink) {
            let message = format!("{group}/{name} is the node of gateway {gateway:?}");
            clash("node", message, "a group and node of its own");
        } else if !id.is_empty() && client(theirs) == (url, id.clone()) {
            let message = format!("client id {id:?} is that of gateway {gateway:?}");
            clash("client-id", message, "another one: a broker keeps one client of a name");
        }
    }
    problems
}

/// A change of an object, laid on what somebody else made of it since `began` was looked at. What both have changed is a conflict.
pub(crate) fn laid_on(
    theirs: Option<&Value>,
    author: Option<&(String, i64)>,
    mut change: DraftChange,
    began: &Value,
) -> Result<DraftChange, ApiError> {
    let Some(theirs) = theirs else { return Ok(change) };
    let version = version_of(theirs);
    let (Some(Value::Object(mine)), Value::Object(began)) = (&change.content, began) else { return Ok(change) };
    if change.base.as_ref() == Some(&version) {
        return Ok(change);
    }
    let mut theirs = theirs.clone();
    mask(change.object.class, &mut theirs);
    let Value::Object(shown) = &theirs else { return Ok(change) };
    let Merged { content, clashes } = description::merge(began, mine, shown);
    if clashes.is_empty() {
        (change.base, change.content) = (Some(version), Some(Value::Object(content)));
        return Ok(change);
    }
    let (changed_by, changed_at) = author.cloned().unwrap_or_default();
    let conflict = ConflictView { object: change.object, content: theirs, version, changed_by, changed_at, clashes };
    Err(ApiError::EditConflict(Box::new(conflict)))
}

/// Carries out changes on behalf of a person, with all that they entail. Gives the new version.
pub(crate) async fn edit(
    app: &App,
    gateway: &str,
    person: &str,
    mut changes: Vec<DraftChange>,
) -> Result<(u64, Vec<DraftChange>), ApiError> {
    let opened = open(app, gateway).await?;
    let links = changed_links(&opened.draft, &changes);
    for change in &mut changes {
        if let Some(content) = &mut change.content {
            if !content.is_object() {
                return Err(ApiError::BadRequest(format!("{}: the content is no JSON object", change.object)));
            }
            if SecretFields::of(change.object.class).iter().next().is_some() {
                let stored = opened.object(&change.object);
                let stored = stored.as_ref().map(|stored| (stored, opened.draft.links.as_slice()));
                seal_object(app, &change.object, (content, &links), stored)?;
            }
            named(&change.object, content.get("name").and_then(Value::as_str))?;
            if change.object.class == ObjectClass::Rate {
                // In the files a rate is a line: it has nothing else.
                let part = |key: &str| (key.to_owned(), content.get(key).cloned().unwrap_or_default());
                *content = Value::from_iter([part("name"), part("period")]);
            }
        }
    }
    let entailed = entailed(&opened.draft, &changes);
    changes.extend(entailed);
    let version = carry_out(app, &opened, person, &changes).await?;
    Ok((version, changes))
}

/// Edits a draft, in the database and as it is known here.
async fn carry_out(app: &App, opened: &OpenDraft, person: &str, changes: &[DraftChange]) -> Result<u64, ApiError> {
    let at = wall_clock().as_millis();
    let edit = Edit { gateway: &opened.record, base: &opened.base, person, at };
    let version = app.store.edit_draft(&edit, changes).await.map_err(edit_failed)?;
    // Where nobody else came between, the draft is known without being read again.
    if version == opened.record.version + 1 {
        let edited = Arc::new(aside(|| opened.edited(changes, person, at, version)));
        app.drafts.lock().insert(opened.record.name.clone(), edited);
    }
    Ok(version)
}

/// The links of a draft with some changes: what devices behind them have stored goes there.
fn changed_links(draft: &Draft, changes: &[DraftChange]) -> Vec<Value> {
    let changed = |name: &str| changes.iter().find(|change| change.object == ObjectRef::new(ObjectClass::Link, name));
    let name = |link: &Value| link.get("name").and_then(Value::as_str).unwrap_or_default().to_owned();
    let stay = draft.links.iter().filter(|link| changed(&name(link)).is_none()).cloned();
    let new = changes.iter().filter(|change| change.object.class == ObjectClass::Link);
    stay.chain(new.filter_map(|change| change.content.clone())).collect()
}

/// Why a secret of an object was not taken in.
pub(crate) fn not_sealed(object: &ObjectRef, error: SealError) -> ApiError {
    match error {
        SealError::Elsewhere(ref field) => {
            let expected = format!("the {field} for the new address");
            let problem = Problem::of_object(object.clone(), field, Severity::Mistake, error.to_string(), expected);
            ApiError::Description(vec![problem])
        }
        SealError::Random | SealError::Key => ApiError::internal(error),
    }
}

/// Objects are kept by their names, so that a name is the one thing that even a draft cannot do without.
fn named(object: &ObjectRef, name: Option<&str>) -> Result<(), ApiError> {
    let name = name.unwrap_or_default();
    if name.is_empty() || name.chars().count() > 200 || object.list.chars().count() > 200 {
        let message = format!("name is {name:?}");
        let expected = "1 to 200 characters".to_owned();
        let problem = Problem::of_object(object.clone(), "name", Severity::Mistake, message, expected);
        return Err(ApiError::Description(vec![problem]));
    }
    Ok(())
}

pub(crate) fn edit_failed(error: EditError) -> ApiError {
    match error {
        EditError::Conflict(conflict) => {
            let view = |current: interlex_store::DraftObject| {
                let version = version_of(&current.content);
                let mut content = current.content;
                mask(current.object.class, &mut content);
                (content, version, current.changed_by, current.changed_at)
            };
            let (content, version, changed_by, changed_at) = conflict.current.map(view).unwrap_or_default();
            let object = conflict.object;
            let clashes = Vec::new();
            ApiError::EditConflict(Box::new(ConflictView { object, content, version, changed_by, changed_at, clashes }))
        }
        EditError::Moved => ApiError::Conflict("the gateway has been changed meanwhile; look at it again".to_owned()),
        EditError::Store(error) => ApiError::Store(error),
    }
}

/// What a change entails: whoever names an object goes on naming it, and a list that nobody uses any more goes.
fn entailed(draft: &Draft, changes: &[DraftChange]) -> Vec<DraftChange> {
    let mut more: Vec<DraftChange> = Vec::new();
    for change in changes {
        let (old, class) = (&change.object.name, change.object.class);
        let new = change.content.as_ref().map(|content| content.get("name").and_then(Value::as_str).unwrap_or(old));
        match (class, new) {
            _ if change.base.is_none() => {}
            (ObjectClass::Link, Some(new)) if new != old => refer(draft, changes, &mut more, "link", old, new),
            (ObjectClass::Rate, Some(new)) if new != old => refer(draft, changes, &mut more, "rate", old, new),
            (ObjectClass::Device, None) => drop_list(draft, changes, &mut more, old),
            _ => {}
        }
    }
    more
}

fn refer(draft: &Draft, changes: &[DraftChange], more: &mut Vec<DraftChange>, key: &str, old: &str, new: &str) {
    for (object, content) in draft.objects() {
        let is_user =
            matches!(object.class, ObjectClass::Device | ObjectClass::Point) && content.text(key) == Some(old);
        if !is_user || changes.iter().any(|change| change.object == object) {
            continue;
        }
        let mut content = content.into_value();
        let base = Some(version_of(&content));
        if let Some(reference) = content.get_mut(key) {
            *reference = Value::from(new);
        }
        more.push(DraftChange { object, base, content: Some(content) });
    }
}

fn drop_list(draft: &Draft, changes: &[DraftChange], more: &mut Vec<DraftChange>, device: &str) {
    let name = |device: &&Value| device.get("name").and_then(Value::as_str).unwrap_or_default().to_owned();
    let Some(gone) = draft.devices.iter().find(|other| name(other) == device) else { return };
    let list = description::list_of(gone);
    let stays = |other: &&Value| {
        let object = ObjectRef::new(ObjectClass::Device, name(other));
        !changes.iter().any(|change| change.object == object && change.content.is_none())
    };
    if draft.devices.iter().filter(stays).any(|other| description::list_of(other) == list) {
        return;
    }
    for row in draft.rows(&list) {
        let object = ObjectRef::point(list.as_ref(), row.name());
        if !more.iter().chain(changes).any(|change| change.object == object) {
            more.push(DraftChange { object, base: Some(version_of(&row.to_value())), content: None });
        }
    }
}

/// Files from outside as a draft with sealed secrets, ready to be kept.
pub(crate) fn take_in(app: &App, files: &Files, known: &Draft) -> Result<Draft, ApiError> {
    let draft = description::parse(files).map_err(ApiError::Description)?;
    keepable(app, files, draft, known)
}

/// What files were taken apart into, ready to be kept.
pub(crate) fn keepable(app: &App, files: &Files, mut draft: Draft, known: &Draft) -> Result<Draft, ApiError> {
    seal(app, &mut draft, known)?;
    let mut seen = std::collections::HashSet::new();
    for (object, content) in draft.objects() {
        if !seen.insert(object.clone()) {
            // A second object of a name could not be kept; the check of the files says where it stands.
            return Err(ApiError::Description(description::check_files(files).problems));
        }
        named(&object, content.text("name"))?;
    }
    Ok(draft)
}

/// Seals the secrets of a draft that came from outside; those that say that they are stored are those of a known one.
pub(crate) fn seal(app: &App, draft: &mut Draft, known: &Draft) -> Result<(), ApiError> {
    let stored: LazyCell<HashMap<_, _>, _> =
        LazyCell::new(|| known.parts().map(|(object, content)| (object, content.into_value())).collect());
    let links = draft.links.clone();
    for (class, content) in draft.keepers_mut() {
        let fields = SecretFields::of(class);
        if !fields.iter().any(|field| content.get(field).is_some()) {
            continue;
        }
        let name = content.get("name").and_then(Value::as_str).unwrap_or_default();
        let object = ObjectRef::new(class, name);
        let stored = stored.get(&object).map(|stored| (stored, known.links.as_slice()));
        seal_object(app, &object, (content, &links), stored)?;
    }
    Ok(())
}

/// Seals the secrets of one object for where they go; it and what was stored of it come with the links beside them.
fn seal_object(
    app: &App,
    object: &ObjectRef,
    (content, links): (&mut Value, &[Value]),
    stored: Option<(&Value, &[Value])>,
) -> Result<(), ApiError> {
    let goes_to = description::destination(object.class, content, links);
    let stored = stored.map(|(stored, links)| (stored, description::destination(object.class, stored, links)));
    let stored = stored.as_ref().map(|(stored, went_to)| (*stored, went_to.as_str()));
    if let Some((stored, went_to)) = stored.filter(|(stored, _)| description::is_secured_now(stored, content)) {
        app.vault.carry_over(SecretFields::of(object.class), content, stored, went_to);
    }
    let taken = app.vault.take_in(SecretFields::of(object.class), content, &goes_to, stored);
    taken.map_err(|error| not_sealed(object, error))
}

/// What a trial uses: objects that came from outside as a description, its secrets open. Those that say that they are stored are
/// those of a known draft.
pub(crate) fn for_trial(app: &App, mut draft: Draft, known: &Draft) -> Result<Description, ApiError> {
    seal(app, &mut draft, known)?;
    let mut checked = description::check(&draft);
    checked.add(secret_problems(app, &draft));
    let mut description = checked.into_result().map_err(ApiError::Description)?;
    app.vault.reveal(&mut description).map_err(ApiError::internal)?;
    Ok(description)
}

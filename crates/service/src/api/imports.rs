use crate::access::auth::Engineer;
use crate::api::check::is_bounded;
use crate::api::extract::{Json, Path};
use crate::draft::drafts;
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_busy::aside;
use interlex_core::description::{
    Draft, ObjectRef, Others, PointsImport, Problem, Row, Severity, SheetWishes, difference, import_points,
};
use interlex_store::AuditEntry;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

/// A point list to take over into a draft.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct ImportRequest {
    /// Path of the list.
    list: String,
    /// The list with a heading, as spreadsheets write it: headings in the words of manuals, types in those of IEC 61131-3.
    text: String,
    /// What columns are, by their headings: a key of points, or empty to leave one out. Others are found by their headings.
    #[serde(default)]
    columns: BTreeMap<String, String>,
    /// The rate of rows that have none.
    #[serde(default)]
    rate: Option<String>,
    /// What plain numbers are addresses of: `holding`, `input`, `coil`, `discrete`.
    #[serde(default)]
    table: Option<String>,
    /// A device that is not in the draft, whose points these are to be, and its link: only told is what would be made of the list.
    #[serde(default)]
    device: Option<Value>,
    /// The link of that device, where that is not in the draft either.
    #[serde(default)]
    link: Option<Value>,
    /// Whether points that it does not name go.
    #[serde(default)]
    remove_others: bool,
    /// The version of the draft that was looked at. Without one nothing is changed: what would change is told.
    #[serde(default)]
    version: Option<u64>,
}

/// What taking a list over does.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct ImportView {
    #[serde(flatten)]
    import: PointsImport,
    /// The points that are new or changed, as they would be; none once they are taken over.
    rows: Vec<Value>,
}

/// Takes a point list over into a draft, or tells what that would change. With mistakes in it, nothing is changed.
#[utoipa::path(post, path = "/api/v1/gateways/{gateway}/draft/import", operation_id = "import_points", tag = "draft", request_body = ImportRequest,
    params(("gateway" = String, Path)), extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = ImportView), (status = 401, body = ProblemDetails), (status = 403, body = ProblemDetails),
    (status = 404, body = ProblemDetails), (status = 409, body = ProblemDetails), (status = 422, body = ProblemDetails)))]
pub(crate) async fn import(
    State(app): State<Arc<App>>,
    Engineer(author): Engineer,
    Path(gateway): Path<String>,
    Json(wanted): Json<ImportRequest>,
) -> Result<Json<ImportView>, ApiError> {
    is_bounded(&[("list.csv".to_owned(), wanted.text.clone())].into())?;
    let opened = drafts::open(&app, &gateway).await?;
    let others = if wanted.remove_others { Others::Go } else { Others::Stay };
    let wishes = SheetWishes { columns: wanted.columns, rate: wanted.rate, table: wanted.table };
    let (wishes, known) = ((others, &wishes), opened.known());
    let taken = |draft| aside(|| import_points((draft, &known), &wanted.list, &wanted.text, wishes));
    if let Some(device) = wanted.device {
        let draft = with(&opened.draft, device, wanted.link, wishes.1.rate.as_deref());
        let (after, import) = taken(&draft);
        let rows = rows(&after, &wanted.list, &import);
        return Ok(Json(ImportView { import, rows }));
    }
    let (after, import) = taken(&opened.draft);
    let Some(version) = wanted.version else {
        let rows = rows(&after, &wanted.list, &import);
        return Ok(Json(ImportView { import, rows }));
    };
    if opened.record.version != version {
        return Err(drafts::edit_failed(interlex_store::EditError::Moved));
    }
    let problems: Vec<_> = asked(&import, &wanted.list, &opened.draft).chain(import.problems.iter().cloned()).collect();
    if problems.iter().any(Problem::is_mistake) {
        return Err(ApiError::Description(problems));
    }
    let told = aside(|| difference(Some(&opened.draft), &after));
    if !told.is_empty() {
        drafts::lay(&app, &opened, &author.person, &after).await?;
        let detail = format!(
            "{}: {} added, {} changed, {} removed",
            wanted.list,
            import.added.len(),
            import.changed.len(),
            import.removed.len()
        );
        let after = Some(told.to_string());
        let entry = AuditEntry { action: "import-points", detail: &detail, gateway: &gateway, after, ..author.entry() };
        app.audit(entry).await;
    }
    Ok(Json(ImportView { import, rows: Vec::new() }))
}

/// The points of a list that are new or changed.
fn rows(after: &Draft, list: &str, import: &PointsImport) -> Vec<Value> {
    let changed = import.changed.iter().map(|change| change.name.as_str());
    let named: HashSet<&str> = import.added.iter().map(String::as_str).chain(changed).collect();
    after.rows(list).iter().filter(|row| named.contains(row.name())).map(Row::to_value).collect()
}

/// A draft with a device that is not in it yet, and with the rate that is to be added with it.
fn with(draft: &Draft, device: Value, link: Option<Value>, rate: Option<&str>) -> Draft {
    let name = |object: &Value| object.get("name").and_then(Value::as_str).unwrap_or_default().to_owned();
    let mut draft = draft.clone();
    draft.devices.retain(|known| name(known) != name(&device));
    if let Some(link) = link.filter(|link| !draft.links.iter().any(|known| name(known) == name(link))) {
        draft.links.push(link);
    }
    if let Some(rate) = rate {
        draft.rates.entry(rate).or_insert_with(|| "1s".into());
    }
    draft.devices.push(device);
    draft
}

/// What is to be said once for all rows.
fn asked(import: &PointsImport, list: &str, draft: &Draft) -> impl Iterator<Item = Problem> {
    let problem = |count: usize, field: &str, what: &str, expected: String| {
        let target = ObjectRef::point(list, "");
        let (verb, rows) = if count == 1 { ("has", "row") } else { ("have", "rows") };
        let message = format!("{count} {rows} {verb} {what}");
        (count > 0).then(|| Problem::of_object(target, field, Severity::Mistake, message, expected))
    };
    let rates: Vec<_> = draft.rates.keys().cloned().collect();
    let rates = if rates.is_empty() {
        "a rate for all of them, which the draft has".to_owned()
    } else {
        format!("a rate for all of them: {}", rates.join(", "))
    };
    let rate = problem(import.without_rate, "rate", "no rate", rates);
    let tables = "what they are addresses of: holding, input, coil or discrete".to_owned();
    let table = problem(import.without_table, "address", "a plain number for an address", tables);
    rate.into_iter().chain(table)
}

//! What somebody sees of many points: the rows in view of a list that may have a million, in any order.

use crate::access::auth::Viewer;
use crate::api::extract::{Json, Query};
use crate::api::points::{PointView, turn, view};
use crate::shown::filter::PointFilter;
use crate::shown::orders::{PointOrder, row_of};
use crate::{ApiError, App, ProblemDetails};
use axum::extract::State;
use interlex_gateway::aside;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Which rows of the list are in view.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct Window {
    /// Their order.
    #[serde(default)]
    #[param(inline)]
    sort: PointOrder,
    /// Whether that order is turned round.
    #[serde(default)]
    descending: bool,
    /// The first row, from 0.
    #[serde(default)]
    from: usize,
    /// So many rows, 500 at the most.
    #[serde(default = "rows_of_a_page")]
    limit: usize,
    /// A point whose row is looked for, as `GATEWAY/DEVICE/POINT`.
    find: Option<String>,
}

const fn rows_of_a_page() -> usize {
    100
}

const MOST_ROWS: usize = 500;

/// The rows in view, and how many there are.
#[derive(Debug, Serialize, utoipa::ToSchema)]
pub(crate) struct PointWindow {
    /// How many points the filter admits.
    total: usize,
    /// How many points there are.
    all: usize,
    /// How many of all are not good.
    not_good: usize,
    /// The row of the point that was looked for, where it is among them.
    at: Option<usize>,
    /// Those in view.
    rows: Vec<PointView>,
}

/// The rows in view of a list of points, in an order, each with its newest reading; and how many there are, and how many of
/// them are not good. An order by what moves is made anew once a second at the most.
#[utoipa::path(get, path = "/api/v1/points/window", operation_id = "point_window", tag = "watch", extensions(("x-role" = json!("viewer"))),
    params(PointFilter, Window),
    responses((status = 200, body = PointWindow), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails)))]
pub(crate) async fn window(
    State(app): State<Arc<App>>,
    _: Viewer,
    Query(filter): Query<PointFilter>,
    Query(window): Query<Window>,
) -> Result<Json<PointWindow>, ApiError> {
    filter.checked()?;
    if !(1..=MOST_ROWS).contains(&window.limit) {
        let (limit, most) = (window.limit, MOST_ROWS);
        return Err(ApiError::BadRequest(format!("limit is {limit}; expected 1 to {most}")));
    }
    let gateways: Vec<_> = app.running().into_iter().map(|gateway| (gateway.running(), gateway)).collect();
    let _turn = turn(&app).await;
    Ok(Json(aside(|| {
        let order = app.orders.lock().of(&gateways, &filter, (window.sort, window.descending));
        let counts = app.orders.lock().counts(&gateways);
        let rows = order.iter().skip(window.from).take(window.limit);
        let rows = rows.filter_map(|(of, index)| {
            let (running, gateway) = gateways.get(usize::from(*of))?;
            view(gateway, running, running.points().get(*index)?)
        });
        let found = window.find.as_deref().and_then(|id| row_of(&gateways, id));
        let at = found.and_then(|found| order.iter().position(|row| *row == found));
        PointWindow { total: order.len(), all: counts.all, not_good: counts.not_good, at, rows: rows.collect() }
    })))
}

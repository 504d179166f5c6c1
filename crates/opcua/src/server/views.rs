use super::engine::{Server, bounded};
use super::points::{Points, Rest};
use crate::service::{
    BrowseDescription, BrowseNextRequest, BrowseNextResponse, BrowseRequest, BrowseResponse, BrowseResult,
    ReferenceDescription, TranslateBrowsePathsToNodeIdsRequest, TranslateBrowsePathsToNodeIdsResponse,
};
use crate::types::StatusCode;

/// Source: OPC 10000-4, section 5.9.
impl Server {
    pub(super) fn browse(&mut self, session: u32, request: &BrowseRequest) -> Result<BrowseResponse, StatusCode> {
        if !request.view.view_id.is_null() {
            return Err(StatusCode::BAD_VIEW_ID_UNKNOWN);
        }
        bounded(request.nodes_to_browse.len(), self.limits.nodes_per_browse)?;
        let most = smaller(most(request.requested_max_references_per_node), self.limits.references_per_node);
        let browse = |wanted: &BrowseDescription| match self.space.browse(wanted) {
            Ok(references) => {
                let points = self.points.entry(session).or_default();
                piece(references, most, points, self.limits.continuation_points)
            }
            Err(status_code) => BrowseResult { status_code, ..BrowseResult::default() },
        };
        let results = request.nodes_to_browse.iter().map(browse).collect();
        Ok(BrowseResponse { results, ..BrowseResponse::default() })
    }

    pub(super) fn browse_next(
        &mut self,
        session: u32,
        request: &BrowseNextRequest,
    ) -> Result<BrowseNextResponse, StatusCode> {
        bounded(request.continuation_points.len(), self.limits.nodes_per_browse)?;
        let points = self.points.entry(session).or_default();
        let next = |point| match points.take(point) {
            Some(Rest::References(..)) if request.release_continuation_points => BrowseResult::default(),
            Some(Rest::References(references, most)) => {
                piece(references, most, points, self.limits.continuation_points)
            }
            _ => BrowseResult { status_code: StatusCode::BAD_CONTINUATION_POINT_INVALID, ..BrowseResult::default() },
        };
        let results = request.continuation_points.iter().map(next).collect();
        Ok(BrowseNextResponse { results, ..BrowseNextResponse::default() })
    }

    pub(super) fn translate(
        &self,
        request: &TranslateBrowsePathsToNodeIdsRequest,
    ) -> Result<TranslateBrowsePathsToNodeIdsResponse, StatusCode> {
        bounded(request.browse_paths.len(), self.limits.paths_per_translate)?;
        let results = request.browse_paths.iter().map(|path| self.space.translate(path)).collect();
        Ok(TranslateBrowsePathsToNodeIdsResponse { results, ..TranslateBrowsePathsToNodeIdsResponse::default() })
    }
}

/// So many references, and a place to go on from where there are more.
fn piece(
    mut references: Vec<ReferenceDescription>,
    most: usize,
    points: &mut Points,
    most_points: usize,
) -> BrowseResult {
    if references.len() <= most {
        return BrowseResult { references, ..BrowseResult::default() };
    }
    let rest = references.split_off(most);
    match points.keep(Rest::References(rest, most), most_points) {
        Ok(continuation_point) => BrowseResult { status_code: StatusCode::GOOD, continuation_point, references },
        Err(status_code) => BrowseResult { status_code, ..BrowseResult::default() },
    }
}

/// A number of which 0 means any.
pub(super) fn most(number: u32) -> usize {
    if number == 0 { usize::MAX } else { usize::try_from(number).unwrap_or(usize::MAX) }
}

/// What is asked for, or the limit where that is smaller and there is one.
pub(super) fn smaller(asked: usize, limit: usize) -> usize {
    if limit == 0 { asked } else { asked.min(limit) }
}

//! What every call may answer beside what its handler says: the document would be as long again if each said so itself.

use utoipa::openapi::path::Operation;
use utoipa::openapi::response::{Response, ResponseBuilder};
use utoipa::openapi::{ContentBuilder, OpenApi, PathItem, Ref, RefOr};

/// The media type of problem details.
///
/// Source: RFC 9457, section 3.
const PROBLEM: &str = "application/problem+json";
const JSON: &str = "application/json";

/// Completes the document with what any call may answer, and with the media type of what is wrong.
pub(crate) fn complete(mut document: OpenApi) -> OpenApi {
    for (path, item) in &mut document.paths.paths {
        let is_api = path.starts_with("/api/");
        for operation in operations(item).into_iter().flatten() {
            for code in may_answer(operation).into_iter().filter(|_| is_api) {
                let answers = &mut operation.responses.responses;
                answers.entry(code.to_owned()).or_insert_with(|| RefOr::T(problem()));
            }
            for answer in operation.responses.responses.values_mut() {
                if let RefOr::T(answer) = answer {
                    name_problems(answer);
                }
            }
        }
    }
    document
}

fn operations(item: &mut PathItem) -> [&mut Option<Operation>; 5] {
    [&mut item.get, &mut item.put, &mut item.post, &mut item.delete, &mut item.patch]
}

/// Codes by what a call takes: a body can be none, too large, late or of another kind; a parameter can be of another kind
/// or name nothing; whoever has to sign in needs the database for it.
fn may_answer(operation: &Operation) -> Vec<&'static str> {
    let mut codes = vec!["503"];
    if operation.request_body.is_some() {
        codes.extend(["400", "408", "413", "415", "422"]);
    }
    if operation.parameters.is_some() {
        codes.extend(["400", "404"]);
    }
    codes
}

fn problem() -> Response {
    let content = ContentBuilder::new().schema(Some(Ref::from_schema_name("ProblemDetails"))).build();
    ResponseBuilder::new().content(JSON, content).build()
}

fn name_problems(answer: &mut Response) {
    let is_problem = |content: &RefOr<utoipa::openapi::Content>| {
        let RefOr::T(content) = content else { return false };
        matches!(&content.schema, Some(RefOr::Ref(to)) if to.ref_location.ends_with("/ProblemDetails"))
    };
    let tells_problem = answer.content.get(JSON).is_some_and(is_problem);
    if tells_problem && let Some(content) = answer.content.swap_remove(JSON) {
        answer.content.insert(PROBLEM.to_owned(), content);
    }
}

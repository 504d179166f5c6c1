use crate::App;
use crate::api::points::turn;
use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::stream::{self, StreamExt};
use serde::Serialize;
use std::convert::Infallible;
use std::sync::Arc;

/// So many items are looked at for a part.
pub(crate) const PART: usize = 200;

/// What is told part by part: however many items there are, few are in memory.
pub(crate) trait Parts: Send + 'static {
    /// Writes what comes next, after a look at [`PART`] items; `false` when there are no more.
    fn part(&mut self, array: &mut Array<'_>) -> bool;
}

/// The text of a JSON array, as far as it goes in one part.
#[derive(Debug)]
pub(crate) struct Array<'a> {
    text: Vec<u8>,
    has_begun: &'a mut bool,
}

impl Array<'_> {
    /// One more item.
    pub(crate) fn push(&mut self, item: &impl Serialize) {
        self.text.push(if std::mem::replace(self.has_begun, true) { b',' } else { b'[' });
        if let Err(error) = serde_json::to_writer(&mut self.text, item) {
            tracing::error!(%error, "an item could not be written");
        }
    }
}

/// A JSON array on its way to whoever asked.
pub(crate) fn array_of(app: Arc<App>, parts: impl Parts) -> Response {
    let texts = stream::unfold(Some((app, parts, false)), async |state| {
        let (app, mut parts, mut has_begun) = state?;
        let turn = turn(&app).await;
        let (text, has_more) = next(&mut parts, &mut has_begun);
        drop(turn);
        Some((Ok::<_, Infallible>(Bytes::from(text)), has_more.then_some((app, parts, has_begun))))
    });
    // What compresses it asks once more after the end.
    ([(header::CONTENT_TYPE, "application/json")], Body::from_stream(texts.fuse())).into_response()
}

/// The text of the next part, and whether there are more.
fn next(parts: &mut impl Parts, has_begun: &mut bool) -> (Vec<u8>, bool) {
    let mut array = Array { text: Vec::new(), has_begun };
    let has_more = parts.part(&mut array);
    let Array { mut text, has_begun } = array;
    if !has_more {
        text.extend_from_slice(if *has_begun { b"]" } else { b"[]" });
    }
    (text, has_more)
}

/// Any items, one after the other.
pub(crate) struct Each<I>(pub(crate) I);

impl<I: Iterator<Item: Serialize> + Send + 'static> Parts for Each<I> {
    fn part(&mut self, array: &mut Array<'_>) -> bool {
        (0..PART).all(|_| self.0.next().map(|item| array.push(&item)).is_some())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_one_array_together() {
        for count in [0, 1, PART - 1, PART, PART + 1, 3 * PART] {
            let (mut items, mut all, mut has_begun, mut has_more) = (Each(0..count), Vec::new(), false, true);
            while has_more {
                let (text, more) = next(&mut items, &mut has_begun);
                all.extend(text);
                has_more = more;
            }
            assert_eq!(serde_json::from_slice::<Vec<usize>>(&all).unwrap(), (0..count).collect::<Vec<_>>());
        }
    }
}

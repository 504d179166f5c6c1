use crate::App;
use crate::api::points::turn;
use axum::body::{Body, Bytes};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use futures_util::stream::{self, StreamExt};
use serde::Serialize;
use std::convert::Infallible;
use std::sync::Arc;

/// So many items are made for a part.
const PART: usize = 200;

/// A JSON array on its way to whoever asked, some of its items at a time: however many there are, few are in memory.
pub(crate) fn array_of<T: Serialize>(app: Arc<App>, items: impl Iterator<Item = T> + Send + 'static) -> Response {
    let parts = stream::unfold(Some((app, items, true)), async |state| {
        let (app, mut items, is_first) = state?;
        let turn = turn(&app).await;
        let (text, is_over) = part(&mut items, is_first);
        drop(turn);
        let rest = (!is_over).then_some((app, items, false));
        Some((Ok::<_, Infallible>(Bytes::from(text)), rest))
    });
    // What compresses it asks once more after the end.
    ([(header::CONTENT_TYPE, "application/json")], Body::from_stream(parts.fuse())).into_response()
}

/// The next items as text, and whether there are no more.
fn part<T: Serialize>(items: &mut impl Iterator<Item = T>, mut is_first: bool) -> (Vec<u8>, bool) {
    let mut text = if is_first { b"[".to_vec() } else { Vec::new() };
    for _ in 0..PART {
        let Some(item) = items.next() else {
            text.push(b']');
            return (text, true);
        };
        if !std::mem::take(&mut is_first) {
            text.push(b',');
        }
        if let Err(error) = serde_json::to_writer(&mut text, &item) {
            tracing::error!(%error, "an item could not be written");
        }
    }
    (text, false)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_one_array_together() {
        for count in [0, 1, PART - 1, PART, PART + 1, 3 * PART] {
            let (mut items, mut all, mut is_over) = (0..count, Vec::new(), false);
            while !is_over {
                let (text, is_last) = part(&mut items, all.is_empty());
                all.extend(text);
                is_over = is_last;
            }
            assert_eq!(serde_json::from_slice::<Vec<usize>>(&all).unwrap(), (0..count).collect::<Vec<_>>());
        }
    }
}

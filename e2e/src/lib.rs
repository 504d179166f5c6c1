//! End-to-end tests of Interlex; see `tests/`.

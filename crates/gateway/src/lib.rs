//! The running gateway: link drivers, sample pipeline, uplinks, tap.

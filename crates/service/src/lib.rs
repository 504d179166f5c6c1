//! The HTTP service: API, live stream, sign-in, metrics and the console's files.

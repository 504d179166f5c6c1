//! The HTTP service: API, live stream, sign-in, metrics and the console's files.
//!
//! ```text
//! browser, client ──HTTP──▶ router ──▶ who asks? (cookie or token, role) ──▶ handler ──┬▶ gateways (running)
//!                                                                                      └▶ store (MariaDB)
//! ```
//!
//! The API lives under `/api/v1`; its OpenAPI document is made from the code. Errors are problem details
//! (RFC 9457). While the database is away, what runs goes on, and those who are signed in can watch it.

mod access;
mod api;
mod app;
mod draft;
mod error;
mod run;
mod shown;
mod turns;

pub use access::proxy::{AddressRange, ParseAddressRangeError};
pub use api::certificates::{CertificateRequest, certificate_request};
pub use api::router::{openapi, router};
pub use app::App;
pub use draft::vault::VaultError;
pub use error::{ApiError, ConflictView, ProblemDetails};
pub use run::serve::{Service, ServiceConfig, ServiceError};
pub use run::tls::{TlsError, TlsSource};

//! The HTTP service: API, live stream, sign-in, metrics and the console's files.
//!
//! ```text
//! browser, client ──HTTP──▶ router ──▶ who asks? (cookie or token, role) ──▶ handler ──┬▶ gateways (running)
//!                                                                                      └▶ store (MariaDB)
//! ```
//!
//! The API lives under `/api/v1`; its OpenAPI document is made from the code. Errors are problem details
//! (RFC 9457). While the database is away, what runs goes on, and those who are signed in can watch it.

mod activation;
mod app;
mod attempts;
mod audit;
mod auth;
mod certificates;
mod connections;
mod console;
mod contract;
mod draft;
mod drafts;
mod error;
mod extract;
mod forms;
mod gateways;
mod health;
mod heavy;
mod links;
mod live;
mod metrics;
mod models;
mod openings;
mod password;
mod people;
mod points;
mod presence;
mod proxy;
mod revisions;
mod router;
mod serve;
mod session;
mod setup;
mod status;
mod tap;
mod tls;
mod trials;
mod uplinks;
mod vault;

pub use app::App;
pub use certificates::{CertificateRequest, certificate_request};
pub use error::{ApiError, ConflictView, ProblemDetails};
pub use proxy::{AddressRange, ParseAddressRangeError};
pub use router::{openapi, router};
pub use serve::{Service, ServiceConfig, ServiceError};
pub use tls::{TlsError, TlsSource};
pub use vault::VaultError;

//! What is answered: every call of the API, and the console.

pub(crate) mod audit;
pub(crate) mod certificates;
pub(crate) mod check;
pub(crate) mod console;
pub(crate) mod contract;
pub(crate) mod draft;
pub(crate) mod extract;
pub(crate) mod forms;
pub(crate) mod gateways;
pub(crate) mod health;
pub(crate) mod heavy;
pub(crate) mod imports;
pub(crate) mod links;
pub(crate) mod live;
pub(crate) mod metrics;
pub(crate) mod models;
pub(crate) mod people;
pub(crate) mod points;
pub(crate) mod revisions;
pub(crate) mod router;
pub(crate) mod session;
pub(crate) mod setup;
pub(crate) mod status;
pub(crate) mod tap;
pub(crate) mod trials;
pub(crate) mod uplinks;

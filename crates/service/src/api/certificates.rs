//! Private keys, and requests for certificates for them; and the certificate by which field devices know us.

use crate::access::auth::{Engineer, Viewer};
use crate::api::extract::Json;
use crate::app::App;
use crate::{ApiError, ProblemDetails};
use axum::extract::State;
use interlex_gateway::OwnCertificateView;
use rcgen::{CertificateParams, DistinguishedName, DnType, KeyPair};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// A key and what its authority is asked to sign.
#[derive(Debug, Clone, Serialize, utoipa::ToSchema)]
pub struct CertificateRequest {
    /// The private key (ECDSA P-256), in PEM. It is kept nowhere.
    pub key: String,
    /// The request (PKCS #10, RFC 2986), in PEM.
    pub request: String,
}

/// Makes a new private key and a request for a certificate for it.
///
/// # Errors
/// When the system gives no random numbers.
pub fn certificate_request(name: &str, organization: Option<&str>) -> Result<CertificateRequest, rcgen::Error> {
    let key = KeyPair::generate()?;
    let mut params = CertificateParams::default();
    params.distinguished_name = DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, name);
    if let Some(organization) = organization {
        params.distinguished_name.push(DnType::OrganizationName, organization);
    }
    let request = params.serialize_request(&key)?.pem()?;
    Ok(CertificateRequest { key: key.serialize_pem(), request })
}

/// For whom a certificate is wanted.
#[derive(Debug, Deserialize, utoipa::ToSchema)]
pub(crate) struct CertificateOwner {
    /// Common name, such as the node's.
    name: String,
    /// Organization.
    #[serde(default)]
    organization: Option<String>,
}

/// Makes a private key and a request for a certificate. Neither is kept: put the key into the uplink, and have the request
/// signed by the authority that the broker trusts.
#[utoipa::path(post, path = "/api/v1/certificate-requests", operation_id = "certificate_request", tag = "draft",
    request_body = CertificateOwner, extensions(("x-role" = json!("engineer"))), responses(
    (status = 200, body = CertificateRequest), (status = 400, body = ProblemDetails), (status = 401, body = ProblemDetails),
    (status = 403, body = ProblemDetails)))]
pub(crate) async fn make(
    _: Engineer,
    Json(owner): Json<CertificateOwner>,
) -> Result<Json<CertificateRequest>, ApiError> {
    if owner.name.trim().is_empty() {
        return Err(ApiError::BadRequest("name is empty; expected whom the certificate is for".to_owned()));
    }
    let organization = owner.organization.as_deref().filter(|text| !text.trim().is_empty());
    certificate_request(owner.name.trim(), organization)
        .map(Json)
        .map_err(|error| ApiError::Internal(error.to_string()))
}

/// The certificate by which OPC UA servers know this service: whoever keeps a server has it trust this one.
#[utoipa::path(get, path = "/api/v1/own-certificate", operation_id = "own_certificate", tag = "draft",
    extensions(("x-role" = json!("viewer"))), responses(
    (status = 200, body = OwnCertificateView), (status = 401, body = ProblemDetails), (status = 500, body = ProblemDetails)))]
pub(crate) async fn own(_: Viewer, State(app): State<Arc<App>>) -> Result<Json<OwnCertificateView>, ApiError> {
    app.memories.identity().certificate().await.map(Json).map_err(ApiError::Internal)
}

#[cfg(test)]
mod tests {
    use super::*;
    use x509_cert::der::Decode;

    #[test]
    fn a_request_is_for_the_key_that_comes_with_it() {
        let made = certificate_request("works-1", Some("Alderfen")).unwrap();
        let key = KeyPair::from_pem(&made.key).unwrap();
        let (label, der) = x509_cert::der::pem::decode_vec(made.request.as_bytes()).unwrap();
        let request = x509_cert::request::CertReq::from_der(&der).unwrap();
        assert_eq!(
            (label, request.info.subject.to_string().as_str()),
            ("CERTIFICATE REQUEST", "O=Alderfen,CN=works-1")
        );
        assert_eq!(request.info.public_key.subject_public_key.raw_bytes(), rcgen::PublicKeyData::der_bytes(&key));
    }
}

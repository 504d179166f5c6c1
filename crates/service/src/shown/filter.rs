use crate::ApiError;
use interlex_gateway::{PointInfo, Running};
use serde::Deserialize;

/// Which points to list.
#[derive(Debug, Default, Clone, PartialEq, Eq, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct PointFilter {
    /// Only of this gateway.
    gateway: Option<String>,
    /// Only of this device.
    device: Option<String>,
    /// Only with this text in device/name, title or address, whatever the case.
    q: Option<String>,
    /// Only of this quality: good, uncertain, bad, or not-good.
    pub(crate) quality: Option<String>,
}

/// A filter made ready to be asked of very many points.
pub(crate) struct Admission<'a> {
    filter: &'a PointFilter,
    text: String,
}

impl Admission<'_> {
    /// Whether it is one of those, whatever its quality.
    pub(crate) fn admits(&self, gateway: &Running, info: &PointInfo) -> bool {
        let is = |wanted: &Option<String>, is: &str| wanted.as_deref().is_none_or(|wanted| wanted == is);
        let has = |place: &str| place.to_lowercase().contains(&self.text);
        is(&self.filter.gateway, gateway.description().gateway.name.as_str())
            && is(&self.filter.device, info.device())
            && (self.text.is_empty()
                || has(&format!("{}/{}", info.device(), info.name()))
                || has(&info.point().settings.title)
                || has(&info.address().to_string()))
    }
}

impl PointFilter {
    pub(crate) fn ready(&self) -> Admission<'_> {
        Admission { filter: self, text: self.q.as_deref().unwrap_or_default().trim().to_lowercase() }
    }

    pub(crate) fn without_quality(&self) -> Self {
        Self { quality: None, ..self.clone() }
    }

    pub(crate) fn has_quality(&self, class: &str) -> bool {
        self.quality.as_deref().is_none_or(|word| word == class || (word == "not-good" && class != "good"))
    }

    /// # Errors
    /// [`ApiError::BadRequest`] where it asks for a quality that there is not.
    pub(crate) fn checked(&self) -> Result<(), ApiError> {
        match self.quality.as_deref() {
            None | Some("good" | "uncertain" | "bad" | "not-good") => Ok(()),
            Some(word) => {
                Err(ApiError::BadRequest(format!("quality is {word:?}; expected good, uncertain, bad or not-good")))
            }
        }
    }
}

/// The point of this name, if it is one of the gateway's.
pub(crate) fn point_of<'a>(running: &'a Running, id: &str) -> Option<&'a PointInfo> {
    let name = running.description().gateway.name.as_str();
    let (device, point) = id.strip_prefix(name)?.strip_prefix('/')?.split_once('/')?;
    running.points().find(device, point)
}

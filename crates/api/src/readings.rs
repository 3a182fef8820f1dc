//! How the password field is read.

use bivector_core::login::ReadingView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A text to read.
#[derive(Deserialize, ToSchema)]
pub struct ReadRequest {
    /// The chain; may be left out where the gateway has one only.
    #[serde(default)]
    pub chain: Option<String>,
    /// The gateway that it would come through.
    #[serde(default)]
    pub via: Option<String>,
    /// Whose devices count as evidence; nobody's if not given.
    #[serde(default)]
    pub person: Option<String>,
    /// What would be typed in the password field.
    pub text: String,
}

/// How a text is read.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Read {
    /// The chain.
    pub chain: String,
    /// Characters of the text.
    pub characters: usize,
    /// Its forms, preferred first.
    pub forms: Vec<String>,
    /// Where codes of the person were looked for: the source that knows the person, if one does here.
    pub person: Option<String>,
    /// Devices and lists whose codes were compared.
    pub devices: usize,
    /// All readings.
    pub readings: Vec<ReadingView>,
    /// What happens where none counts.
    pub otherwise: Option<String>,
}

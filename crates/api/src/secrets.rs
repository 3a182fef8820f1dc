//! Sealed secrets, as they come in.

use serde::Deserialize;
use utoipa::ToSchema;

/// A secret to seal.
#[derive(Deserialize, ToSchema)]
pub struct SecretRequest {
    /// Its name, such as `gateway/breakwater`.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// A value that will take another one's place.
#[derive(Deserialize, ToSchema)]
pub struct NextRequest {
    /// The next value.
    pub value: String,
}

//! What is kept of many hauls, and what they say together: digests, contrasts, the life of a drive, claims, documents.

pub mod batch;
pub mod claims;
pub mod contrast;
pub mod digest;
pub mod document;
pub mod estimate;
pub mod forecast;
pub mod life;
pub mod profile;
pub mod standing;
mod warmth;

//! Documents: JSON and XML.

pub mod json;
pub mod xml;

//! Real storage.

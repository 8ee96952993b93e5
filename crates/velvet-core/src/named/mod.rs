//! Named values, and settings, which are a named value for each field.

pub mod named_value;
pub mod settings;

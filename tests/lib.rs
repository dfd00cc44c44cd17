//! The end-to-end tests are in `end_to_end/`; this crate has no code of its own.

//! The core's tests: see `core/main.rs`.

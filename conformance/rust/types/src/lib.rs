//! Stubs of the definitions that the tests of conformance use.
#![forbid(unsafe_code)]

include!("root.rs");

//! From a certificate to a working server: recipes, export, hosts file, schedules, file access, the lab file.

pub mod access;
pub mod archive;
pub mod export;
pub mod hosts;
pub mod lab;
pub mod recipe;
pub mod schedule;
pub mod service_unit;

//! Where roots are trusted and where identities are kept: one file a store. A store surveys and plans; it never acts.

mod id;
pub mod identity;

pub mod trust;

pub use id::{InScope, Scope, StoreId};

//! Roots in trust stores: put in, taken out, looked for, handed out.

pub mod change;
pub mod environment;
pub mod exceptions;
pub mod on_hosts;
pub mod row;
pub mod share;
pub mod status;
pub mod stores;

mod fetched;
mod follow;
pub(crate) mod image;
mod leaf;
mod perform;
mod root;

pub use follow::{add_beside, remove_everywhere, swap};
pub use leaf::own as own_leaves;
pub use perform::apply;
pub use root::{Which, root_of};

//! Effects as data: steps, the one loop that performs them, its way back, and the ports through which the core asks the world.

pub mod native;
pub mod nss;
pub mod perform;
pub mod ports;
pub mod step;

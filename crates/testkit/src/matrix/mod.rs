//! The matrix: every kind of chain × every client, predicted by the rules and observed with the client itself.

pub mod chain;
pub mod kinds;
pub mod make;
pub mod mutate;
pub mod run;
pub mod stores;
pub mod tell;

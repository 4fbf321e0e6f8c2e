//! What a certification authority does: create, issue, sign, receive, renew, and what it then knows of its certificates.

pub mod authority;
pub mod fault;
pub mod issue;
pub mod list_file;
pub mod pairs;
pub mod receive;
pub mod renew;
pub mod report;
pub mod request;
pub mod sign;
pub mod status;

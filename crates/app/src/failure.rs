//! A failure of a use case: any diagnostic of the layers below.

use tamga_core::error::Diagnostic;

/// A failure on its way to the caller.
pub struct Failure(pub Box<dyn Diagnostic + Send>);

impl<T: Diagnostic + Send + 'static> From<T> for Failure {
    fn from(diagnostic: T) -> Failure {
        Failure(Box::new(diagnostic))
    }
}

impl std::fmt::Debug for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.0.code(), self.0.what())
    }
}

/// The result of a use case.
pub type Result<T> = std::result::Result<T, Failure>;

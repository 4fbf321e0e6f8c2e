//! States, and how they follow from one another (RFC 8555 section 7.1.6). An order's state is derived from its authorizations each time it is
//! shown: so it is ready in the same instant in which the last of them becomes valid.

use crate::vocabulary::timestamp::Timestamp;

crate::words! {
    /// The state of an account.
    pub enum AccountState: "account state" {
        /// In use.
        Valid = "valid",
        /// Ended by itself.
        Deactivated = "deactivated",
        /// Ended by the service.
        Revoked = "revoked",
    }
}

crate::words! {
    /// The state of an order.
    pub enum OrderState: "order state" {
        /// Control of a name is still to be proved.
        Pending = "pending",
        /// All names are proved: a certificate request may come.
        Ready = "ready",
        /// The certificate is being issued.
        Processing = "processing",
        /// The certificate is there.
        Valid = "valid",
        /// It failed, or its time is over.
        Invalid = "invalid",
    }
}

crate::words! {
    /// The state of an authorization.
    pub enum AuthorizationState: "authorization state" {
        /// Control is still to be proved.
        Pending = "pending",
        /// Control was proved.
        Valid = "valid",
        /// The proof failed.
        Invalid = "invalid",
        /// The account gave it up.
        Deactivated = "deactivated",
        /// Its time is over.
        Expired = "expired",
        /// The service took it back.
        Revoked = "revoked",
    }
}

crate::words! {
    /// The state of a challenge.
    pub enum ChallengeState: "challenge state" {
        /// The client has not answered yet.
        Pending = "pending",
        /// The answer is being looked at.
        Processing = "processing",
        /// Control was proved.
        Valid = "valid",
        /// It was not.
        Invalid = "invalid",
    }
}

impl AuthorizationState {
    /// As it is at a time.
    #[must_use]
    pub fn at(self, expires: Timestamp, now: Timestamp) -> AuthorizationState {
        match self {
            AuthorizationState::Pending if expires <= now => AuthorizationState::Invalid,
            AuthorizationState::Valid if expires <= now => AuthorizationState::Expired,
            other => other,
        }
    }
}

/// What an order has come to, as it is recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recorded {
    /// Nothing is decided.
    Open,
    /// A certificate is being issued for it.
    Finalizing,
    /// A certificate was issued for it.
    Issued,
    /// It failed.
    Failed,
}

/// The state of an order, from what is recorded, its authorizations and the time.
///
/// ```
/// use tamga_core::enrollment::state::{AuthorizationState, OrderState, Recorded, order};
/// use tamga_core::vocabulary::timestamp::Timestamp;
///
/// let (now, tomorrow) = (Timestamp::from_unix(0), Timestamp::from_unix(86_400));
/// let proved = [AuthorizationState::Valid, AuthorizationState::Valid];
/// assert_eq!(order(Recorded::Open, &proved, tomorrow, now), OrderState::Ready);
/// let waiting = [AuthorizationState::Valid, AuthorizationState::Pending];
/// assert_eq!(order(Recorded::Open, &waiting, tomorrow, now), OrderState::Pending);
/// assert_eq!(order(Recorded::Open, &proved, now, tomorrow), OrderState::Invalid);
/// ```
pub fn order(
    recorded: Recorded,
    authorizations: &[AuthorizationState],
    expires: Timestamp,
    now: Timestamp,
) -> OrderState {
    use AuthorizationState::{Pending, Valid};
    match recorded {
        Recorded::Issued => OrderState::Valid,
        Recorded::Failed => OrderState::Invalid,
        Recorded::Finalizing => OrderState::Processing,
        Recorded::Open if expires <= now => OrderState::Invalid,
        Recorded::Open if authorizations.iter().any(|a| !matches!(a, Pending | Valid)) => OrderState::Invalid,
        Recorded::Open if authorizations.contains(&Pending) || authorizations.is_empty() => OrderState::Pending,
        Recorded::Open => OrderState::Ready,
    }
}

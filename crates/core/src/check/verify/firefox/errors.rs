//! Errors of mozilla::pkix and of the TLS library under it, and what a person may do about each.

use crate::finding::Code;

/// What a person may do about an error.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Nothing.
    Fatal,
    /// Override it: the issuer.
    Trust,
    /// Override it: the time cannot be read.
    Moment,
    /// Override it: the name.
    Domain,
    /// Override it: the time.
    Time,
}

macro_rules! errors {
    ($($name:ident $words:literal $kind:ident $code:ident;)*) => {
        /// An error of mozilla::pkix or of the TLS library.
        #[derive(Clone, Copy, PartialEq, Eq, Debug)]
        pub enum Error {
            $(#[doc = $words] $name,)*
        }

        impl Error {
            pub(super) const ALL: &[Error] = &[$(Error::$name),*];

            pub(super) fn words(self) -> &'static str {
                match self { $(Error::$name => $words),* }
            }

            pub(super) fn kind(self) -> Kind {
                match self { $(Error::$name => Kind::$kind),* }
            }

            pub(super) fn code(self) -> Code {
                match self { $(Error::$name => Code::$code),* }
            }
        }
    };
}

errors! {
    BadDer "SEC_ERROR_BAD_DER" Fatal Malformed;
    ExtensionValueInvalid "SEC_ERROR_EXTENSION_VALUE_INVALID" Fatal Malformed;
    InvalidInteger "MOZILLA_PKIX_ERROR_INVALID_INTEGER_ENCODING" Fatal Malformed;
    SignatureAlgorithmMismatch "MOZILLA_PKIX_ERROR_SIGNATURE_ALGORITHM_MISMATCH" Fatal Malformed;
    InadequateKeyUsage "SEC_ERROR_INADEQUATE_KEY_USAGE" Fatal KeyUsageMissing;
    InadequateCertType "SEC_ERROR_INADEQUATE_CERT_TYPE" Fatal PurposeMissing;
    UnknownCriticalExtension "SEC_ERROR_UNKNOWN_CRITICAL_EXTENSION" Fatal CriticalExtensionUnknown;
    CertNotInNameSpace "SEC_ERROR_CERT_NOT_IN_NAME_SPACE" Fatal ConstraintViolated;
    PathLenConstraintInvalid "SEC_ERROR_PATH_LEN_CONSTRAINT_INVALID" Fatal PathTooLong;
    BadSignature "SEC_ERROR_BAD_SIGNATURE" Fatal BadSignature;
    UnsupportedKeyAlg "SEC_ERROR_UNSUPPORTED_KEYALG" Fatal KeyKindUnsupported;
    UnsupportedEllipticCurve "SEC_ERROR_UNSUPPORTED_ELLIPTIC_CURVE" Fatal KeyKindUnsupported;
    UnsupportedEcPointForm "SEC_ERROR_UNSUPPORTED_EC_POINT_FORM" Fatal KeyKindUnsupported;
    InvalidKey "SEC_ERROR_INVALID_KEY" Fatal KeyKindUnsupported;
    LibraryFailure "SEC_ERROR_LIBRARY_FAILURE" Fatal Malformed;
    ExtractPublicKey "SSL_ERROR_EXTRACT_PUBLIC_KEY_FAILURE" Fatal KeyKindUnsupported;
    RequiredTlsFeatureMissing "MOZILLA_PKIX_ERROR_REQUIRED_TLS_FEATURE_MISSING" Fatal StapleMissing;
    OcspUnauthorized "SEC_ERROR_OCSP_UNAUTHORIZED_REQUEST" Fatal RevocationUnknown;
    NoCommonCipher "SSL_ERROR_NO_CYPHER_OVERLAP or SSL_ERROR_HANDSHAKE_FAILURE_ALERT" Fatal KeyKindUnsupported;
    ClientWanted "SSL_ERROR_RX_CERTIFICATE_REQUIRED_ALERT" Fatal ClientCertificateWanted;
    BadHandshakeSignature "SEC_ERROR_BAD_SIGNATURE or SSL_ERROR_INCORRECT_SIGNATURE_ALGORITHM or SSL_ERROR_BAD_HANDSHAKE_HASH_VALUE" Fatal KeyMismatch;
    UnknownIssuer "SEC_ERROR_UNKNOWN_ISSUER" Trust IssuerUnknown;
    UntrustedIssuer "SEC_ERROR_UNTRUSTED_ISSUER" Fatal IssuerUnknown;
    SelfSignedCert "MOZILLA_PKIX_ERROR_SELF_SIGNED_CERT" Trust SelfSignedLeaf;
    CaCertInvalid "SEC_ERROR_CA_CERT_INVALID" Trust IntermediateNotACa;
    V1CertUsedAsCa "MOZILLA_PKIX_ERROR_V1_CERT_USED_AS_CA" Trust IntermediateNotACa;
    CaCertUsedAsEndEntity "MOZILLA_PKIX_ERROR_CA_CERT_USED_AS_END_ENTITY" Trust CaAsLeaf;
    EmptyIssuerName "MOZILLA_PKIX_ERROR_EMPTY_ISSUER_NAME" Trust Malformed;
    SignatureAlgorithmDisabled "SEC_ERROR_CERT_SIGNATURE_ALGORITHM_DISABLED" Trust WeakSignature;
    InadequateKeySize "MOZILLA_PKIX_ERROR_INADEQUATE_KEY_SIZE" Trust WeakKey;
    ExpiredIssuer "SEC_ERROR_EXPIRED_ISSUER_CERTIFICATE" Trust IssuerExpired;
    NotYetValidIssuer "MOZILLA_PKIX_ERROR_NOT_YET_VALID_ISSUER_CERTIFICATE" Trust IssuerExpired;
    BadCertDomain "SSL_ERROR_BAD_CERT_DOMAIN" Domain NameNotCovered;
    ExpiredCertificate "SEC_ERROR_EXPIRED_CERTIFICATE" Time Expired;
    NotYetValidCertificate "MOZILLA_PKIX_ERROR_NOT_YET_VALID_CERTIFICATE" Time NotYetValid;
    InvalidTime "SEC_ERROR_INVALID_TIME" Moment Malformed;
}

/// Its words for a fault.
pub fn words(code: Code) -> Vec<String> {
    let all = Error::ALL.iter().filter(|e| e.code() == code);
    all.flat_map(|e| e.words().split(" or ")).map(str::to_owned).collect()
}

/// Every objection: a test leaves out one after another.
pub fn all_words() -> Vec<&'static str> {
    Error::ALL.iter().map(|e| e.words()).collect()
}

/// True for the errors that a person may override on the error page.
pub fn is_overridable(words: &str) -> bool {
    Error::ALL.iter().any(|e| e.words() == words && e.kind() != Kind::Fatal)
}

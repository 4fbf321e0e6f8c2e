//! Names of versions, ciphers, groups and alerts (IANA's registry of TLS parameters): those that are met.

/// `TLS 1.2`.
pub fn version(number: u16) -> String {
    match number {
        0x0002 | 0x0200 => "SSL 2".into(),
        0x0300 => "SSL 3".into(),
        0x0301 => "TLS 1.0".into(),
        0x0302 => "TLS 1.1".into(),
        0x0303 => "TLS 1.2".into(),
        0x0304 => "TLS 1.3".into(),
        n if is_grease(n) => "GREASE".into(),
        n => format!("version 0x{n:04x}"),
    }
}

/// RFC 8701.
fn is_grease(n: u16) -> bool {
    n & 0x0f0f == 0x0a0a && n >> 8 == n & 0xff
}

const CIPHERS: [(u16, &str); 36] = [
    (0x1301, "TLS_AES_128_GCM_SHA256"),
    (0x1302, "TLS_AES_256_GCM_SHA384"),
    (0x1303, "TLS_CHACHA20_POLY1305_SHA256"),
    (0xc02b, "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256"),
    (0xc02c, "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"),
    (0xc02f, "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256"),
    (0xc030, "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384"),
    (0xcca8, "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256"),
    (0xcca9, "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256"),
    (0x009e, "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256"),
    (0x009f, "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384"),
    (0xc009, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA"),
    (0xc00a, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA"),
    (0xc013, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA"),
    (0xc014, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA"),
    (0xc023, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256"),
    (0xc024, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384"),
    (0xc027, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256"),
    (0xc028, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384"),
    (0xccaa, "TLS_DHE_RSA_WITH_CHACHA20_POLY1305_SHA256"),
    (0x0033, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA"),
    (0x0039, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA"),
    (0x0067, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA256"),
    (0x006b, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA256"),
    (0x009c, "TLS_RSA_WITH_AES_128_GCM_SHA256"),
    (0x009d, "TLS_RSA_WITH_AES_256_GCM_SHA384"),
    (0x003c, "TLS_RSA_WITH_AES_128_CBC_SHA256"),
    (0x003d, "TLS_RSA_WITH_AES_256_CBC_SHA256"),
    (0x002f, "TLS_RSA_WITH_AES_128_CBC_SHA"),
    (0x0035, "TLS_RSA_WITH_AES_256_CBC_SHA"),
    (0x000a, "TLS_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0x0016, "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA"),
    (0x0005, "TLS_RSA_WITH_RC4_128_SHA"),
    (0x0004, "TLS_RSA_WITH_RC4_128_MD5"),
    (0x00ff, "TLS_EMPTY_RENEGOTIATION_INFO_SCSV"),
    (0x5600, "TLS_FALLBACK_SCSV"),
];

/// A cipher suite's name, or its number.
pub fn cipher(number: u16) -> String {
    match CIPHERS.iter().find(|c| c.0 == number) {
        Some((_, name)) => (*name).to_owned(),
        None if is_grease(number) => "GREASE".into(),
        None => format!("0x{number:04x}"),
    }
}

pub(super) fn group(number: u16) -> String {
    match number {
        23 => "P-256".into(),
        24 => "P-384".into(),
        25 => "P-521".into(),
        29 => "X25519".into(),
        30 => "X448".into(),
        256..=260 => format!("ffdhe{}", [2048, 3072, 4096, 6144, 8192][usize::from(number - 256)]),
        0x11ec => "X25519MLKEM768".into(),
        n if is_grease(n) => "GREASE".into(),
        n => format!("group {n}"),
    }
}

pub(super) fn level(octet: u8) -> String {
    match octet {
        1 => "warning".into(),
        2 => "fatal".into(),
        n => format!("level {n}"),
    }
}

pub(super) fn alert(octet: u8) -> String {
    let name = match octet {
        0 => "close_notify",
        10 => "unexpected_message",
        20 => "bad_record_mac",
        22 => "record_overflow",
        40 => "handshake_failure",
        42 => "bad_certificate",
        43 => "unsupported_certificate",
        44 => "certificate_revoked",
        45 => "certificate_expired",
        46 => "certificate_unknown",
        47 => "illegal_parameter",
        48 => "unknown_ca",
        49 => "access_denied",
        50 => "decode_error",
        51 => "decrypt_error",
        70 => "protocol_version",
        71 => "insufficient_security",
        80 => "internal_error",
        86 => "inappropriate_fallback",
        90 => "user_canceled",
        109 => "missing_extension",
        110 => "unsupported_extension",
        112 => "unrecognized_name",
        116 => "certificate_required",
        120 => "no_application_protocol",
        n => return format!("alert {n}"),
    };
    name.to_owned()
}

//! Any octets as a signed request, and any JSON as an identifier, a key or an external account: read or refused, with a 4xx.
#![no_main]

use tamga_core::enrollment::binding::Binding;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::Request;
use tamga_core::enrollment::{csr, renewal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    match Request::parse(bytes) {
        Ok(request) => {
            let _ = request.object();
            if let tamga_core::enrollment::jws::Signer::Key(key) = &request.signer {
                assert_eq!(Jwk::parse(&key.to_value()).as_ref(), Ok(key));
                let _ = (request.verify(key), key.thumbprint());
            }
        }
        Err(problem) => assert!((400..500).contains(&problem.status)),
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = renewal::read_id(text);
    }
    let Ok(value) = serde_json::from_slice::<serde_json::Value>(bytes) else { return };
    if let Ok(identifier) = Identifier::parse(&value) {
        let (kind, written) = identifier.parts();
        let again = serde_json::json!({ "type": kind, "value": written });
        assert_eq!(Identifier::parse(&again), Ok(identifier));
    }
    let Ok(key) = Jwk::parse(&value) else { return };
    let _ = Binding::parse(&value, "", &key);
    let _ = csr::judge(bytes, &[], &key);
});

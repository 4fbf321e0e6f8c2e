"""Asks for the status of a certificate, by another library: POST and GET, SHA-1 and SHA-256, with and without a nonce. ocsp.py CERTIFICATE URL"""
import base64, sys, urllib.parse, urllib.request
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509 import ocsp

end = b"-----END CERTIFICATE-----\n"
leaf, issuer = [x509.load_pem_x509_certificate(one + end) for one in open(sys.argv[1], "rb").read().split(end) if one.strip()][:2]
described = leaf.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
places = {d.access_method.dotted_string: d.access_location.value for d in described}
url = places["1.3.6.1.5.5.7.48.1"]
assert x509.load_der_x509_certificate(urllib.request.urlopen(places["1.3.6.1.5.5.7.48.2"]).read()) == issuer
point = leaf.extensions.get_extension_for_class(x509.CRLDistributionPoints).value[0].full_name[0].value
crl = x509.load_der_x509_crl(urllib.request.urlopen(point).read())
assert crl.is_signature_valid(issuer.public_key())
above = issuer.extensions.get_extension_for_class(x509.CRLDistributionPoints).value[0].full_name[0].value
assert x509.load_der_x509_crl(urllib.request.urlopen(above).read()).issuer == issuer.issuer
said = set()
for digest in [hashes.SHA1(), hashes.SHA256()]:
    for nonce in [None, b"\x07" * 16]:
        builder = ocsp.OCSPRequestBuilder().add_certificate(leaf, issuer, digest)
        if nonce:
            builder = builder.add_extension(x509.OCSPNonce(nonce), False)
        der = builder.build().public_bytes(serialization.Encoding.DER)
        post = urllib.request.Request(url, data=der, headers={"Content-Type": "application/ocsp-request"})
        get = url + "/" + urllib.parse.quote(base64.b64encode(der).decode(), safe="")
        for request in [post, get]:
            answer = urllib.request.urlopen(request)
            assert answer.headers["Content-Type"] == "application/ocsp-response"
            response = ocsp.load_der_ocsp_response(answer.read())
            assert response.response_status == ocsp.OCSPResponseStatus.SUCCESSFUL, response.response_status
            issuer.public_key().verify(response.signature, response.tbs_response_bytes, ec.ECDSA(response.signature_hash_algorithm))
            assert response.serial_number == leaf.serial_number and response.next_update > response.this_update
            if nonce:
                assert response.extensions.get_extension_for_class(x509.OCSPNonce).value.nonce.endswith(nonce)
            said.add(response.certificate_status.name)
        # What is in the list is what is answered.
        said.add("REVOKED" if crl.get_revoked_certificate_by_serial_number(leaf.serial_number) else "GOOD")
other = ocsp.OCSPRequestBuilder().add_certificate(issuer, leaf, hashes.SHA1()).build().public_bytes(serialization.Encoding.DER)
for wrong in [other, b"", b"0", b"x" * 9000]:
    answer = urllib.request.urlopen(urllib.request.Request(url, data=wrong, headers={"Content-Type": "application/ocsp-request"}))
    status = ocsp.load_der_ocsp_response(answer.read()).response_status
    assert status in (ocsp.OCSPResponseStatus.UNAUTHORIZED, ocsp.OCSPResponseStatus.MALFORMED_REQUEST), status
print(" ".join(sorted(said)))

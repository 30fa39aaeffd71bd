"""A second reading of tokens, with libraries that know nothing of this program: PyJWT and cbor2.

read.py jwks FILE TOKEN        a JWT of the ward, by the JWK set
read.py secret FILE TOKEN      a JWT signed with the shared key in a JWK
read.py cwt FILE TOKEN         a CWT of the ward, by the JWK set
read.py make KEY AUDIENCE KID  a JWT that a device makes and signs itself
"""
import base64, json, sys, time
import cbor2, jwt
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, utils

what, path = sys.argv[1], sys.argv[2]
if what == "make":
    key = serialization.load_pem_private_key(open(path, "rb").read(), None)
    now = int(time.time())
    claims = {"aud": sys.argv[3], "iat": now, "exp": now + 600, "jti": "by-python"}
    print(jwt.encode(claims, key, algorithm="ES256", headers={"kid": sys.argv[4], "typ": "device+jwt"}))
    sys.exit()
keys = json.load(open(path))
token = open(sys.argv[3], "rb").read()
if what == "cwt":
    outer = cbor2.loads(token)
    assert outer.tag == 61 and outer.value.tag == 18, outer
    protected, unprotected, payload, signature = outer.value.value
    header, claims = cbor2.loads(protected), cbor2.loads(payload)
    assert unprotected == {} and header[1] == -7 and header[16] == "application/device+cwt", header
    # Deterministic encoding (RFC 8949 section 4.2.1).
    assert cbor2.dumps(claims, canonical=True) == payload and cbor2.dumps(header, canonical=True) == protected
    jwk = next(key for key in keys["keys"] if key["kid"].encode() == header[4])
    octets = lambda name: int.from_bytes(base64.urlsafe_b64decode(jwk[name] + "=="), "big")
    public = ec.EllipticCurvePublicNumbers(octets("x"), octets("y"), ec.SECP256R1()).public_key()
    signed = cbor2.dumps(["Signature1", protected, b"", payload])
    der = utils.encode_dss_signature(int.from_bytes(signature[:32], "big"), int.from_bytes(signature[32:], "big"))
    public.verify(der, signed, ec.ECDSA(hashes.SHA256()))
    said = {"sub": claims[2], "aud": claims[3], "life": claims[4] - claims[6], "cti": claims[7].hex()}
    said["scope"] = cbor2.loads(claims[9]) if 9 in claims else None
else:
    token = token.decode().strip()
    header = jwt.get_unverified_header(token)
    jwk = keys if what == "secret" else next(key for key in keys["keys"] if key["kid"] == header["kid"])
    assert header["kid"] == jwk["kid"] and header["typ"] == "device+jwt", header
    claims = jwt.decode(token, jwt.PyJWK(jwk, algorithm=jwk["alg"]).key, algorithms=[jwk["alg"]], options={"verify_aud": False})
    said = {"sub": claims["sub"], "aud": claims["aud"], "life": claims["exp"] - claims["iat"], "scope": claims.get("scope")}
print(json.dumps(said))

"""A device that speaks MQTT alone, written with libraries that know nothing of this program: paho-mqtt and cryptography.

device.py OUTFIT PORT VERSION [NOW]   does its errands until one says that it is over; PORT may be a file with it, VERSION is 4
                                      (MQTT 3.1.1) or 5, NOW a file with the time
"""
import base64, datetime, json, os, ssl, sys, time
import paho.mqtt.client as mqtt
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, utils

outfit, version = sys.argv[1], int(sys.argv[3])
port = lambda: int(sys.argv[2]) if sys.argv[2].isdigit() else int(open(sys.argv[2]).read())
clock = sys.argv[4] if len(sys.argv) > 4 else None
path = lambda name: os.path.join(outfit, name)
read = lambda name: open(path(name), "rb").read()
connect = json.loads(read("connect.json"))
ME, ERRANDS = connect["device"], connect["errands"]
JWT_USE = x509.ObjectIdentifier("1.3.6.1.5.5.7.3.37")
done, waiting = {}, {}


def now():
    if clock is None:
        return time.time()
    text = open(clock).read().strip().replace("Z", "+00:00")
    return datetime.datetime.fromisoformat(text).timestamp()


def plain(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def url(octets):
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def verified(text):
    """What is under the signature, if the ward signed it for this device."""
    header, payload, signature = text.split(".")
    told = json.loads(plain(header))
    assert told["typ"] == "errand+jwt" and told["alg"] == "ES256", told
    chain = [x509.load_der_x509_certificate(base64.b64decode(each)) for each in told["x5c"]]
    roots = [x509.load_pem_x509_certificate(each + b"-----END CERTIFICATE-----\n")
             for each in read("root.pem").split(b"-----END CERTIFICATE-----\n")[:-1]]
    root = next(each for each in roots if each.subject == chain[-1].issuer)
    for below, above in zip(chain, chain[1:] + [root]):
        assert below.issuer == above.subject
        above.public_key().verify(below.signature, below.tbs_certificate_bytes, ec.ECDSA(below.signature_hash_algorithm))
    assert list(chain[0].extensions.get_extension_for_class(x509.ExtendedKeyUsage).value) == [JWT_USE]
    raw = plain(signature)
    der = utils.encode_dss_signature(int.from_bytes(raw[:32], "big"), int.from_bytes(raw[32:], "big"))
    chain[0].public_key().verify(der, f"{header}.{payload}".encode(), ec.ECDSA(hashes.SHA256()))
    claims = json.loads(plain(payload))
    assert claims["aud"] == ME and claims["iss"] == ERRANDS["ward"], claims
    assert claims["iat"] - 300 <= now() <= claims["exp"], claims
    return claims


def own_key():
    return serialization.load_pem_private_key(read("device.key"), None)


def renewal(claims):
    """A request for the next certificate, signed with the key of the one that there is."""
    key = ec.generate_private_key(ec.SECP256R1())
    waiting["key"] = key
    current = x509.load_pem_x509_certificate(read("device.pem"))
    csr = x509.CertificateSigningRequestBuilder().subject_name(current.subject).sign(key, hashes.SHA256())
    said = {
        "errand": int(claims["jti"]), "outcome": "done", "iss": ME, "aud": claims["iss"], "nonce": claims["nonce"],
        "csr": base64.b64encode(csr.public_bytes(serialization.Encoding.DER)).decode(),
    }
    header = url(json.dumps({"alg": "ES256", "typ": "errand-answer+jwt"}).encode())
    signed = header + "." + url(json.dumps(said).encode())
    r, s = utils.decode_dss_signature(own_key().sign(signed.encode(), ec.ECDSA(hashes.SHA256())))
    return signed + "." + url(r.to_bytes(32, "big") + s.to_bytes(32, "big"))


def install(claims):
    if "key" not in waiting:
        return "refused", "there is no key for it"
    certificate = x509.load_pem_x509_certificate(claims["detail"]["certificate"].encode())
    public = lambda key: key.public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    if public(certificate.public_key()) != public(waiting["key"].public_key()):
        return "refused", "it is for another key"
    pem = waiting["key"].private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    for name, octets in [
        ("root.pem", claims["detail"]["roots"].encode()),
        ("device.key", pem),
        ("device.pem", claims["detail"]["certificate"].encode()),
        ("chain.pem", claims["detail"]["chain"].encode()),
    ]:
        open(path(name + ".new"), "wb").write(octets)
        os.rename(path(name + ".new"), path(name))
    return "done", "installed"


def answer(claims):
    number, purpose = int(claims["jti"]), claims["purpose"]
    if number in done:
        print("again", number, flush=True)
        return done[number]
    print("does", purpose, json.dumps(claims["detail"]) if purpose != "install" else "", flush=True)
    if purpose == "renew":
        said = renewal(claims)
    elif purpose == "identify":
        said = json.dumps({"errand": number, "outcome": "refused", "reason": "it has no light"})
    elif purpose == "install":
        outcome, why = install(claims)
        said = json.dumps({"errand": number, "outcome": outcome, "result": {"state": why}} if outcome == "done"
                          else {"errand": number, "outcome": outcome, "reason": why})
    else:
        said = json.dumps({"errand": number, "outcome": "done", "result": {"up": True}})
    done[number] = said
    return said


def session():
    """One session; whether there is to be another."""
    told = {}
    options = dict(client_id=connect["client_id"], protocol=version)
    if hasattr(mqtt, "CallbackAPIVersion"):
        options["callback_api_version"] = mqtt.CallbackAPIVersion.VERSION2
    client = mqtt.Client(**options)
    client.tls_set(path("root.pem"), path("device.pem"), path("device.key"))

    def on_connect(client, data, flags, reason, properties=None):
        code = getattr(reason, "value", reason)
        print("connected", code, "%x" % x509.load_pem_x509_certificate(read("device.pem")).serial_number, flush=True)
        client.subscribe(ERRANDS["listen"], 1)

    def on_subscribe(client, data, mid, codes, properties=None):
        print("listens", [getattr(code, "value", code) for code in codes], flush=True)

    def on_message(client, data, message):
        to = message.topic.replace("/errand/", "/answer/")
        try:
            claims = verified(message.payload.decode())
            if version == 5:
                assert message.properties.ResponseTopic == to
                assert message.properties.CorrelationData == claims["jti"].encode()
                assert 0 < message.properties.MessageExpiryInterval <= claims["exp"] - now() + 5
        except Exception as error:
            print("passes over", repr(error), flush=True)
            return
        client.publish(to, answer(claims), qos=1)
        if claims["purpose"] == "install":
            told["again"] = True
        if claims["purpose"] == "stop":
            told["over"] = True

    client.on_connect, client.on_subscribe, client.on_message = on_connect, on_subscribe, on_message
    client.on_disconnect = lambda *_: told.setdefault("gone", True)
    try:
        client.connect("localhost", port())
    except OSError as error:
        print("does not come in", repr(error), flush=True)
        time.sleep(0.5)
        return True
    client.loop_start()
    while not told:
        time.sleep(0.01)
    time.sleep(0.5)
    client.disconnect()
    client.loop_stop()
    return "over" not in told


while session():
    pass

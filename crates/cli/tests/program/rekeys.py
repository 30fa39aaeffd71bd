"""A device that has a key which it shares with its ward, and none of its certificates; written with libraries that know nothing of this
program: paho-mqtt and cryptography.

device.py OUTFIT KEY SEAL PORT VERSION NOW   signs in by tokens that it signs with the JWK in the file KEY, and does its errands until one
                                             says that it is over; what is sealed for it opens with the private key in SEAL; VERSION is 4
                                             (MQTT 3.1.1) or 5, NOW a file with the time
"""
import base64, datetime, hashlib, hmac, json, os, struct, sys, time
import paho.mqtt.client as mqtt
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

outfit, key_file, seal_file, port, version, clock = (*sys.argv[1:4], int(sys.argv[4]), int(sys.argv[5]), sys.argv[6])
connect = json.load(open(os.path.join(outfit, "connect.json")))
ME, ERRANDS = connect["device"], connect["errands"]


def now():
    text = open(clock).read().strip().replace("Z", "+00:00")
    return int(datetime.datetime.fromisoformat(text).timestamp())


def plain(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def url(octets):
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def token():
    jwk = json.load(open(key_file))
    header = {"alg": "HS256", "typ": "device+jwt", "kid": jwk["kid"]}
    claims = {"aud": "mqtts://localhost:8883", "iat": now(), "exp": now() + 600}
    signed = ".".join(url(json.dumps(part).encode()) for part in (header, claims))
    return jwk["kid"], signed + "." + url(hmac.new(plain(jwk["k"]), signed.encode(), hashlib.sha256).digest())


def opened(text):
    """What is in a JWE (RFC 7516) that was sealed with ECDH-ES and A256GCM (RFC 7518 sections 4.6 and 5.3)."""
    header, none, nonce, sealed, tag = text.split(".")
    told = json.loads(plain(header))
    assert (told["alg"], told["enc"], told["cty"], none) == ("ECDH-ES", "A256GCM", "jwk+json", ""), told
    own = serialization.load_pem_private_key(open(seal_file, "rb").read(), None)
    number = lambda name: int.from_bytes(plain(told["epk"][name]), "big")
    point = ec.EllipticCurvePublicNumbers(number("x"), number("y"), own.curve).public_key()
    shared = own.exchange(ec.ECDH(), point)
    part = lambda octets: struct.pack(">I", len(octets)) + octets
    info = part(b"A256GCM") + part(b"") + part(b"") + struct.pack(">I", 256)
    key = hashlib.sha256(struct.pack(">I", 1) + shared + info).digest()
    return AESGCM(key).decrypt(plain(nonce), plain(sealed) + plain(tag), header.encode())


def does(claims):
    assert claims["aud"] == ME and claims["iss"] == ERRANDS["ward"] and now() <= claims["exp"], claims
    if claims["purpose"] == "install-key":
        jwk = opened(claims["detail"]["jwe"])
        assert json.loads(jwk)["kty"] == "oct"
        open(key_file + ".new", "wb").write(jwk)
        os.rename(key_file + ".new", key_file)
    print("does", claims["purpose"], flush=True)
    return json.dumps({"errand": int(claims["jti"]), "outcome": "done"})


def session():
    """One session; whether there is to be another."""
    told = {}
    kid, password = token()
    options = dict(client_id=ME + ":m", protocol=version)
    if hasattr(mqtt, "CallbackAPIVersion"):
        options["callback_api_version"] = mqtt.CallbackAPIVersion.VERSION2
    client = mqtt.Client(**options)
    client.tls_set(os.path.join(outfit, "root.pem"))
    client.username_pw_set(connect["user_name"], password)

    def on_connect(client, data, flags, reason, properties=None):
        print("connected", getattr(reason, "value", reason), kid, flush=True)
        client.subscribe(ERRANDS["listen"], 1)

    def on_subscribe(client, data, mid, codes, properties=None):
        print("listens", [getattr(code, "value", code) for code in codes], flush=True)

    def on_message(client, data, message):
        claims = json.loads(plain(message.payload.decode().split(".")[1]))
        client.publish(message.topic.replace("/errand/", "/answer/"), does(claims), qos=1)
        told["over" if claims["purpose"] == "stop" else "again"] = True

    client.on_connect, client.on_subscribe, client.on_message = on_connect, on_subscribe, on_message
    client.connect("localhost", port)
    client.loop_start()
    while not told:
        time.sleep(0.01)
    time.sleep(0.5)
    client.disconnect()
    client.loop_stop()
    return "again" in told


while session():
    pass

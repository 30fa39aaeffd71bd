"""A web service that takes notices, with libraries that know nothing of this program: it checks each signature (RFC 9421) and digest (RFC 9530).

service.py PORT JWK   answers the first with 503, and takes each id once from then on
"""
import base64, hashlib, http.server, json, re, sys
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, utils

port, jwk = int(sys.argv[1]), json.load(open(sys.argv[2]))["jwk"]
number = lambda name: int.from_bytes(base64.urlsafe_b64decode(jwk[name] + "=="), "big")
public = ec.EllipticCurvePublicNumbers(number("x"), number("y"), ec.SECP256R1()).public_key()
seen = {}


class Service(http.server.BaseHTTPRequestHandler):
    def do_POST(self):
        body = self.rfile.read(int(self.headers["content-length"]))
        digest = "sha-256=:%s:" % base64.b64encode(hashlib.sha256(body).digest()).decode()
        assert self.headers["content-digest"] == digest
        label, params = self.headers["signature-input"].split("=", 1)
        covered = re.match(r'\(([^)]*)\)', params).group(1).split()
        assert covered == ['"@method"', '"@target-uri"', '"content-type"', '"content-digest"', '"idempotency-key"'], covered
        assert 'alg="ecdsa-p256-sha256"' in params and params.endswith('tag="tidy-warden-notice"'), params
        values = {"@method": "POST", "@target-uri": "http://%s%s" % (self.headers["host"], self.path)}
        lines = []
        for name in [each.strip('"') for each in covered]:
            lines.append('"%s": %s' % (name, values.get(name) or self.headers[name]))
        lines.append('"@signature-params": %s' % params)
        raw = base64.b64decode(self.headers["signature"][len(label) + 2 : -1])
        der = utils.encode_dss_signature(int.from_bytes(raw[:32], "big"), int.from_bytes(raw[32:], "big"))
        public.verify(der, "\n".join(lines).encode(), ec.ECDSA(hashes.SHA256()))
        said = json.loads(body)
        assert said["id"] == self.headers["idempotency-key"]
        tries = seen[said["id"]] = seen.get(said["id"], 0) + 1
        status = 503 if len(seen) == 1 and tries == 1 else 410 if said["what"] == "trial" and len(seen) > 2 else 204
        self.send_response(status)
        self.send_header("content-length", "0")
        self.end_headers()
        print(json.dumps({"what": said["what"], "device": said.get("device"), "evidence": said.get("evidence"), "tries": tries, "status": status}), flush=True)

    def log_message(self, *args):
        pass


server = http.server.HTTPServer(("127.0.0.1", port), Service)
print("ready", flush=True)
server.serve_forever()

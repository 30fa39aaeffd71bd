"""Asks a desk as a program of an owner would, and holds every answer against the description that the desk gives of itself."""
import json, re, ssl, sys, urllib.error, urllib.parse, urllib.request

import jsonschema

job = json.load(open(sys.argv[1]))
context = ssl.create_default_context()
context.check_hostname, context.verify_mode = False, ssl.CERT_NONE


def send(method, path, body=None, token=None, headers=None):
    data = None if body is None else (body if isinstance(body, bytes) else json.dumps(body).encode())
    fields = {} if data is None else {"Content-Type": "application/json"}
    if token:
        fields["Authorization"] = f"Bearer {token}"
    fields.update(headers or {})
    request = urllib.request.Request(job["base"] + path, data=data, method=method, headers=fields)
    try:
        answer = urllib.request.urlopen(request, context=context, timeout=30)
    except urllib.error.HTTPError as error:
        answer = error
    return answer.status, dict(answer.headers.items()), answer.read()


status, fields, text = send("GET", "/openapi.json")
assert status == 200, status
document = json.loads(text)
assert document["openapi"].startswith("3.1")
tried = set()


def expand(schema):
    """With the schemas that it names in itself, so that it can be looked at alone."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "components": document["components"], **schema}


for name, schema in document["components"]["schemas"].items():
    jsonschema.Draft202012Validator.check_schema(schema)


def operation(method, path):
    path = path.split("?")[0]
    for template, methods in document["paths"].items():
        if re.fullmatch(re.sub(r"\{[^}]*\}", "[^/]+", template), path) and method.lower() in methods:
            return template, methods[method.lower()]
    raise AssertionError(f"{method} {path} is not described")


def asks(method, path, want, body=None, token=job["token"], headers=None):
    template, described = operation(method, path)
    status, fields, text = send(method, path, body, token, headers)
    assert status == want, f"{method} {path}: {status}, not {want}: {text[:300]}"
    assert str(status) in described["responses"], f"{method} {template}: {status} is not described"
    answer = described["responses"][str(status)]
    kinds = answer.get("content", {})
    if not kinds:
        assert text == b"", text
        tried.add((method, template, status))
        return None
    kind = fields["Content-Type" if "Content-Type" in fields else "content-type"].split(";")[0]
    assert kind in kinds, f"{method} {path}: {kind} is none of {list(kinds)}"
    tried.add((method, template, status))
    if kind == "text/plain":
        return text.decode()
    value = json.loads(text)
    jsonschema.Draft202012Validator(expand(kinds[kind]["schema"])).validate(value)
    if body is not None and status < 300 and not isinstance(body, bytes):
        wanted = described["requestBody"]["content"]["application/json"]["schema"]
        jsonschema.Draft202012Validator(expand(wanted)).validate(body)
    return value


assert asks("GET", "/owner/v1/devices", 200) == {"devices": [], "next": None}
assert asks("GET", "/owner/v1/places", 200)["places"] == {"site": ["brindle"]}
# What is refused is told alike, whatever is wrong.
told = []
for token in [None, "x", "a.b.c", job["token"][:-2] + "AA", job["device_token"], job["device_token_for_owners"]]:
    status, fields, text = send("GET", "/owner/v1/devices", token=token)
    assert status == 401, (token, status)
    fields = {name.lower(): value for name, value in fields.items()}
    assert fields["www-authenticate"] == 'Bearer realm="owner"', fields
    told.append(text)
assert len(set(told)) == 1, told
asks("GET", "/owner/v1/devices", 401, token="x")
asks("POST", "/owner/v1/claims", 403, {"device": "cb-01", "code": job["codes"]["cb-01"]}, token=job["reads"])
asks("POST", "/owner/v1/devices/cb-01/give-up", 403, {}, token=job["reads"])
# A code that is wrong, and an id that there is not: the same words. A slip is told.
wrong = asks("POST", "/owner/v1/claims", 403, {"device": "cb-01", "code": job["codes"]["cb-02"]})
nobody = asks("POST", "/owner/v1/claims", 403, {"device": "cb-99", "code": job["codes"]["cb-02"]})
held = asks("POST", "/owner/v1/claims", 403, {"device": "../../etc", "code": job["codes"]["cb-02"]})
assert wrong == nobody == held, (wrong, nobody, held)
slip = job["codes"]["cb-01"][:-1] + ("2" if job["codes"]["cb-01"][-1] != "2" else "3")
assert "look at it again" in asks("POST", "/owner/v1/claims", 422, {"device": "cb-01", "code": slip})["title"]
for site in ["ivo", "ossel", "brindle-2"]:
    body = {"device": "cb-01", "code": job["codes"]["cb-01"], "place": {"site": site}}
    assert "has no place" in asks("POST", "/owner/v1/claims", 422, body)["title"]
body = {"device": "cb-01", "code": job["codes"]["cb-01"], "place": {"owner": "ivo"}}
asks("POST", "/owner/v1/claims", 422, body)
asks("POST", "/owner/v1/claims", 400, b"{")
asks("POST", "/owner/v1/claims", 400, {"device": "cb-01", "labels": {"site": "x"}})
asks("POST", "/owner/v1/claims", 413, b"{" + b" " * 9000 + b"}")
asks("POST", "/owner/v1/claims", 415, b"{}", headers={"Content-Type": "text/plain"})
claimed = asks("POST", "/owner/v1/claims", 200, {"device": "cb-02", "code": job["codes"]["cb-02"]})
assert claimed["place"] == {"site": "brindle"} and claimed["state"] == "listed", claimed
assert [each["device"] for each in asks("GET", "/owner/v1/devices", 200)["devices"]] == ["cb-02"]
assert asks("GET", "/owner/v1/devices?after=cb-02", 200)["devices"] == []
assert asks("GET", "/owner/v1/devices/cb-02", 200)["device"] == "cb-02"
# What is another's, and what there is not: the same.
for device in ["cb-02", "cb-01", "cb-77"]:
    assert asks("GET", f"/owner/v1/devices/{device}", 404, token=job["other"])["title"].startswith("there is no such")
    asks("POST", f"/owner/v1/devices/{device}/give-up", 404, {}, token=job["other"])
    asks("POST", f"/owner/v1/devices/{device}/take", 404, {"place": {"site": "ivo"}}, token=job["other"])
    asks("DELETE", f"/owner/v1/devices/{device}/hand-over", 404, token=job["other"])
# Handed over: offered, seen, taken.
assert asks("POST", "/owner/v1/devices/cb-02/hand-over", 200, {"to": "nobody-there"})["offered"]["to"] == "nobody-there"
asks("DELETE", "/owner/v1/devices/cb-02/hand-over", 204)
asks("POST", "/owner/v1/devices/cb-02/hand-over", 422, {"to": "Not A Name"})
asks("POST", "/owner/v1/devices/cb-02/hand-over", 422, {"to": "brindle-pass"})
asks("POST", "/owner/v1/devices/cb-02/hand-over", 400, {})
asks("POST", "/owner/v1/devices/cb-02/hand-over", 200, {"to": "saint-ivo"})
assert asks("GET", "/owner/v1/offers", 200, token=job["other"])["offers"][0]["from"] == "brindle-pass"
assert asks("GET", "/owner/v1/offers", 200)["offers"] == []
assert "several places" in asks("POST", "/owner/v1/devices/cb-02/take", 422, token=job["other"])["title"]
taken = asks("POST", "/owner/v1/devices/cb-02/take", 200, {"place": {"site": "ivo"}}, token=job["other"])
assert taken["place"] == {"site": "ivo"} and taken["offered"] is None
asks("GET", "/owner/v1/devices/cb-02", 404)
asks("POST", "/owner/v1/devices/cb-02/give-up", 204, {}, token=job["other"])
asks("POST", "/owner/v1/devices/cb-02/give-up", 404, {}, token=job["other"])
# Other methods and paths, headers that would be others' if they were believed.
for method, path, want in [("PUT", "/owner/v1/devices", 405), ("DELETE", "/owner/v1/claims", 405), ("GET", "/owner/v1/nothing", 404), ("GET", "/owner/v1/devices/..%2f..%2fx", 404)]:
    status, _, _ = send(method, path, token=job["token"])
    assert status == want, (method, path, status)
status, fields, text = send("GET", "/owner?after=%0d%0aSet-Cookie:%20a=b", headers={"Cookie": "__Host-owner=" + "A" * 43})
assert b"Sign in" in text or status in (200, 303), status
assert "a=b" not in str(fields), fields
assert send("POST", "/owner/sign-out", b"form=x", headers={"Content-Type": "application/x-www-form-urlencoded", "Origin": "https://evil.example"})[0] == 403

# The page, with what no browser sends.
class Stay(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_):
        return None


class Visitor:
    """A browser without manners: it keeps cookies, and sends what it is told to."""

    def __init__(self):
        self.cookies = {}
        self.opener = urllib.request.build_opener(urllib.request.HTTPSHandler(context=context), Stay)

    def send(self, method, path, body=None, kind="application/x-www-form-urlencoded"):
        cookies = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
        fields = {"Cookie": cookies} if cookies else {}
        if body is not None:
            fields["Content-Type"] = kind
        request = urllib.request.Request(job["base"] + path, data=body, method=method, headers=fields)
        try:
            answer = self.opener.open(request, timeout=30)
        except urllib.error.HTTPError as error:
            answer = error
        for cookie in answer.headers.get_all("Set-Cookie") or []:
            name, value = cookie.split(";")[0].split("=", 1)
            self.cookies[name] = value
        return answer.status, answer.headers, answer.read().decode()

    def post(self, path, **fields):
        return self.send("POST", path, urllib.parse.urlencode(fields).encode())


visitor = Visitor()
assert visitor.send("GET", "/owner/sign-in?" + job["link"].split("?")[1])[0] == 303
form = re.search(r'name="form" value="([^"]+)"', visitor.send("GET", "/owner/sign-in")[2]).group(1)
# A form that is none of its own leaves the link as it was.
assert visitor.post("/owner/sign-in", form="x" * len(form))[0] == 403
visitor = Visitor()
visitor.send("GET", "/owner/sign-in?" + job["link"].split("?")[1])
form = re.search(r'name="form" value="([^"]+)"', visitor.send("GET", "/owner/sign-in")[2]).group(1)
assert visitor.post("/owner/sign-in", form=form)[1]["Location"] == "/owner"
status, fields, text = visitor.send("GET", "/owner")
form = re.search(r'name="form" value="([^"]+)"', text).group(1)
assert "default-src 'none'" in fields["Content-Security-Policy"] and "unsafe" not in fields["Content-Security-Policy"]
# What is typed is text wherever it comes back, and in no header.
for typed in ["<script>alert(1)</script>", '"><img src=x onerror=alert(1)>', "../../etc/passwd", "cb-01\r\nSet-Cookie: a=b", "\u202ecb", "x" * 4000]:
    status, fields, text = visitor.post("/claim", form=form, device=typed, code=job["codes"]["cb-03"])
    assert status == 403 and "<script" not in text and "<img" not in text and "a=b" not in str(fields), (typed, status)
    assert "could not be claimed" in text
    status, fields, text = visitor.post("/owner/devices/cb-03/hand-over", form=form, to=typed)
    assert status in (404, 422) and "<script" not in text and "<img" not in text, (typed, status)
query = urllib.parse.urlencode({"device": "<b>\r\nX: y", "code": "<i>"})
status, fields, _ = visitor.send("GET", "/claim?" + query)
assert status == 303 and fields["Location"] == "/claim" and "X" not in fields
assert "<b>" not in visitor.send("GET", "/claim")[2]
# Too large, of another type, without the form's token, with two of it, by another method.
assert visitor.send("POST", "/claim", b"form=" + form.encode() + b"&code=" + b"x" * 9000)[0] == 413
assert visitor.send("POST", "/claim", b"{}", "application/json")[0] == 415
assert visitor.post("/claim", device="cb-03", code=job["codes"]["cb-03"])[0] == 403
assert visitor.send("POST", "/claim", f"form={form}&form={form}&device=cb-03".encode())[0] == 403
assert visitor.send("POST", "/claim", b"\xff%zz=%00&form=" + form.encode())[0] == 403
assert visitor.send("PUT", "/owner")[0] == 405 and visitor.send("GET", "/owner/devices/..%2f..%2fx")[0] == 404
# A place that is none, or not this owner's.
assert visitor.post("/claim", form=form, device="cb-03", code=job["codes"]["cb-03"], **{"place.owner": "x y"})[0] == 400
assert visitor.post("/claim", form=form, device="cb-03", code=job["codes"]["cb-03"], **{"place.site": "brindle"})[0] == 422
# Whoever changes too much is told when to come again.
for _ in range(200):
    status, fields, text = send("DELETE", "/owner/v1/devices/cb-77/hand-over", token=job["token"])
    if status != 404:
        break
assert status == 429 and int({name.lower(): value for name, value in fields.items()}["retry-after"]) >= 1, (status, text)
asks("DELETE", "/owner/v1/devices/cb-77/hand-over", 429)
assert asks("GET", "/owner/v1/devices", 200, token=job["other"]) is not None
asks("DELETE", "/owner/v1/devices/cb-77/hand-over", 404, token=job["other"])
# The page counts with the interface, and says the same.
for _ in range(200):
    if send("DELETE", "/owner/v1/devices/cb-77/hand-over", token=job["other"])[0] != 404:
        break
for path, typed in ("/claim", {"device": "cb-03", "code": ""}), ("/owner/devices/cb-03/give-up", {"sure": "yes"}):
    status, fields, text = visitor.post(path, form=form, **typed)
    wait = {name.lower(): value for name, value in fields.items()}.get("retry-after", "none")
    assert status == 429 and wait.isdigit() and "oo many changes" in text, (path, status, wait, text)
# All that is described was tried with an answer that is good.
for template, methods in document["paths"].items():
    for method in methods:
        good = [each for each in tried if each[:2] == (method.upper(), template) and each[2] < 300]
        assert good, f"{method} {template} was never answered"
print("all as it is described")

"""A browser without a screen, driven over WebDriver (W3C), as an owner would use the desk's page.

Arguments: a file with JSON: base, link, other_link, sticker, wrong_code, typed (device, code), handed (device), names, pictures.
Everything that is not as it should be ends it with an error.
"""
import base64, http.client, json, os, subprocess, sys, time, urllib.parse

job = json.load(open(sys.argv[1]))
port = job["port"]
# What a browser leaves behind goes with this test's folder.
os.makedirs("scratch", exist_ok=True)
driver = subprocess.Popen(
    ["chromedriver", f"--port={port}"],
    stdout=subprocess.DEVNULL,
    stderr=subprocess.DEVNULL,
    env={**os.environ, "TMPDIR": os.path.abspath("scratch")},
)


def call(method, path, body=None):
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
    data = json.dumps(body if body is not None else {}) if method == "POST" else None
    connection.request(method, path, data, {"Content-Type": "application/json"})
    answer = json.loads(connection.getresponse().read())
    value = answer["value"]
    if isinstance(value, dict) and "error" in value:
        raise RuntimeError(f"{method} {path}: {value['error']}: {value['message'][:300]}")
    return value


ELEMENT = "element-6066-11e4-a52e-4f735466cecf"


class Browser:
    def __init__(self, dark=False):
        flags = ["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--hide-scrollbars"]
        options = {"args": flags, "prefs": {"profile.managed_default_content_settings.javascript": 2}}
        wanted = {"acceptInsecureCerts": True, "goog:chromeOptions": options}
        # A form that was sent may take a moment.
        wanted["timeouts"] = {"implicit": 3000}
        self.path = "/session/" + call("POST", "/session", {"capabilities": {"alwaysMatch": wanted}})["sessionId"]
        if dark:
            features = [{"name": "prefers-color-scheme", "value": "dark"}]
            self.cdp("Emulation.setEmulatedMedia", {"features": features})

    def do(self, method, path, body=None):
        return call(method, self.path + path, body)

    def cdp(self, command, params):
        return self.do("POST", "/goog/cdp/execute", {"cmd": command, "params": params})

    def size(self, width, height):
        params = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500}
        self.cdp("Emulation.setDeviceMetricsOverride", params)

    def go(self, url):
        self.do("POST", "/url", {"url": url})

    def url(self):
        return self.do("GET", "/url")

    def find(self, css):
        return self.do("POST", "/element", {"using": "css selector", "value": css})[ELEMENT]

    def all(self, css):
        return [each[ELEMENT] for each in self.do("POST", "/elements", {"using": "css selector", "value": css})]

    def touch(self, css):
        self.do("POST", f"/element/{self.find(css)}/click")

    def click(self, css):
        """Clicks what leads to another page, and waits for that."""
        self.run("window.isOld = true")
        self.touch(css)
        for _ in range(50):
            try:
                if self.run("return !window.isOld && document.readyState === 'complete'"):
                    return
            except RuntimeError:
                pass
            time.sleep(0.1)
        raise AssertionError(f"nothing came of a click on {css}: {self.text()}")

    def write(self, css, text):
        element = self.find(css)
        self.do("POST", f"/element/{element}/clear")
        self.do("POST", f"/element/{element}/value", {"text": text})

    def text(self, css="main"):
        return self.do("GET", f"/element/{self.find(css)}/text")

    def run(self, script, *args):
        return self.do("POST", "/execute/sync", {"script": script, "args": list(args)})

    def picture(self, name):
        octets = base64.b64decode(self.do("GET", "/screenshot"))
        with open(os.path.join(job["pictures"], name + ".png"), "wb") as file:
            file.write(octets)

    def keys(self, *keys):
        actions = [a for key in keys for a in ({"type": "keyDown", "value": key}, {"type": "keyUp", "value": key})]
        self.do("POST", "/actions", {"actions": [{"type": "key", "id": "keyboard", "actions": actions}]})


def check(is_so, what):
    if not is_so:
        raise AssertionError(what)


# Contrast as WCAG 2.2 section 1.4.3 has it, of each element with text of its own; labels of all fields; one heading; a language.
ACCESS = """
const wrong = [];
const luminance = ([r, g, b]) => {
  const part = v => { v /= 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; };
  return 0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b);
};
const parsed = text => (text.match(/[\\d.]+/g) || []).map(Number);
const behind = element => {
  for (let each = element; each; each = each.parentElement) {
    const colour = parsed(getComputedStyle(each).backgroundColor);
    if (colour.length === 3 || colour[3] > 0) return colour;
  }
  return [255, 255, 255];
};
for (const element of document.querySelectorAll('body *')) {
  const own = [...element.childNodes].some(n => n.nodeType === 3 && n.textContent.trim());
  const is_field = element.matches('input:not([type=hidden]), select');
  if (!own && !is_field) continue;
  const [a, b] = [luminance(parsed(getComputedStyle(element).color)), luminance(behind(element))];
  const ratio = (Math.max(a, b) + 0.05) / (Math.min(a, b) + 0.05);
  if (ratio < 4.5) wrong.push(`contrast ${ratio.toFixed(2)} of <${element.tagName}> ${element.textContent.slice(0, 30)}`);
}
for (const field of document.querySelectorAll('input:not([type=hidden]), select')) {
  if (!field.labels.length) wrong.push(`no label for ${field.name}`);
  for (const id of (field.getAttribute('aria-describedby') || '').split(' ').filter(Boolean))
    if (!document.getElementById(id)) wrong.push(`${field.name} is described by ${id}, which is not there`);
}
for (const button of document.querySelectorAll('button, a')) if (!button.textContent.trim()) wrong.push('a button without words');
const ids = [...document.querySelectorAll('[id]')].map(e => e.id);
if (new Set(ids).size !== ids.length) wrong.push('an id is there twice');
if (document.querySelectorAll('h1').length !== 1) wrong.push('not one h1');
if (document.documentElement.lang !== 'en') wrong.push('no language');
if (!document.title.trim()) wrong.push('no title');
if (document.documentElement.scrollWidth > innerWidth) wrong.push(`it is ${document.documentElement.scrollWidth} wide, of ${innerWidth}`);
for (const target of document.querySelectorAll('button, input:not([type=hidden]):not([type=checkbox]), select')) {
  const box = target.getBoundingClientRect();
  if (box.height < 40) wrong.push(`${target.tagName} is ${box.height} high`);
}
return wrong;
"""

FOCUS = """
const all = [...document.querySelectorAll('a[href], button, input:not([type=hidden]), select')];
const place = all.indexOf(document.activeElement);
const style = place < 0 ? null : getComputedStyle(document.activeElement);
return [place, all.length, style ? style.outlineStyle !== 'none' && parseFloat(style.outlineWidth) >= 2 : false];
"""


def arrives(browser, url):
    """A form that was sent may take a moment to lead somewhere."""
    for _ in range(50):
        if browser.url() == url:
            return
        time.sleep(0.1)
    raise AssertionError(f"at {browser.url()}, not {url}")


def accessible(browser, what):
    wrong = browser.run(ACCESS)
    check(not wrong, f"{what}: {wrong}")


def in_order(browser, what):
    """With the tabulator everything is reached in the order in which it stands, and seen to be."""
    browser.run("document.activeElement.blur(); window.getSelection().removeAllRanges();")
    last, count = -1, None
    for _ in range(40):
        browser.keys("\ue004")
        place, count, seen = browser.run(FOCUS)
        if place <= last:
            break
        check(place == last + 1, f"{what}: focus went from {last} to {place}")
        check(seen, f"{what}: the focus on {place} is not seen")
        last = place
    check(last == count - 1, f"{what}: {last + 1} of {count} were reached")


def sign_in(browser, link):
    browser.go(link)
    arrives(browser, job["base"] + "/owner/sign-in")
    browser.click("main button")


def main():
    browser = Browser()
    browser.size(360, 780)
    # A sticker, before anybody has signed in: what it says is out of the address, and waits.
    browser.go(job["sticker"])
    arrives(browser, job["base"] + "/claim")
    check("sign in first" in browser.text(), browser.text())
    accessible(browser, "claim, signed out, 360")
    browser.picture("signed-out-360")
    browser.go(job["link"])
    browser.picture("sign-in-360")
    accessible(browser, "sign-in, 360")
    in_order(browser, "sign-in")
    sign_in(browser, job["link"])
    arrives(browser, job["base"] + "/claim")
    check(job["names"][0] in browser.text("header"), "it says who has signed in")
    accessible(browser, "claim, 360")
    in_order(browser, "claim")
    browser.picture("claim-360")
    code = browser.run("return document.getElementById('code').value")
    browser.write("#code", job["wrong_code"])
    browser.click("main button")
    check("could not be claimed" in browser.text(".wrong"), browser.text())
    check(browser.run("return document.getElementById('code').value") == "", "the code does not come back")
    accessible(browser, "claim refused, 360")
    browser.picture("claim-refused-360")
    browser.write("#code", code)
    browser.click("main button")
    sticker = urllib.parse.parse_qs(urllib.parse.urlparse(job["sticker"]).query)["device"][0]
    arrives(browser, f"{job['base']}/owner/devices/{sticker}")
    check("is yours now" in browser.text(".said"), browser.text())
    accessible(browser, "device, 360")
    in_order(browser, "device")
    browser.picture("device-360")
    # By typing, as people do: lower case, without hyphens.
    browser.go(job["base"] + "/claim")
    check(browser.run("return document.getElementById('device').value") == "", "the sticker is forgotten")
    device, code = job["typed"]
    browser.write("#device", device.upper())
    browser.write("#code", code.replace("-", " ").lower())
    browser.click("main button")
    check(f"{device} is yours now" in browser.text(".said"), browser.text())
    browser.go(job["base"] + "/owner")
    check(device in browser.text() and sticker in browser.text(), browser.text())
    check("said" not in browser.run("return document.querySelector('main').innerHTML"), "a message is shown once")
    accessible(browser, "home, 360")
    in_order(browser, "home")
    browser.picture("home-360")
    # The link is of no use any more, and no address with a secret is in the history that a page sees.
    check(browser.run("return document.referrer") == "", "no page tells where it was")
    stranger = Browser()
    stranger.go(job["link"])
    stranger.click("main button")
    check("was used, or it has ended" in stranger.text(), stranger.text())
    stranger.go(job["base"] + f"/owner/devices/{device}")
    arrives(stranger, job["base"] + "/owner/sign-in")
    # The other owner, at a desk, in the dark.
    other = Browser(dark=True)
    other.size(1280, 800)
    sign_in(other, job["other_link"])
    accessible(other, "home, empty, 1280, dark")
    other.go(job["base"] + f"/owner/devices/{device}")
    check("no such device of yours" in other.text(".wrong").lower(), other.text())
    other.go(job["base"] + "/owner/devices/nothing-there")
    check("no such device of yours" in other.text(".wrong").lower(), "what there is not says the same")
    browser.size(1280, 800)
    browser.go(f"{job['base']}/owner/devices/{device}")
    browser.write("#to", job["names"][1])
    browser.click("section[aria-labelledby=hand-over] button")
    check("It is offered" in browser.text(".said"), browser.text())
    accessible(browser, "device offered, 1280")
    browser.picture("device-1280")
    other.go(job["base"] + "/owner")
    check("Offered to you" in other.text(), other.text())
    accessible(other, "home with an offer, 1280, dark")
    in_order(other, "home with an offer")
    other.picture("offer-1280-dark")
    select = other.all("main select")
    check(len(select) == 1, "the other has two places, and chooses")
    other.do("POST", f"/element/{select[0]}/value", {"text": job["place"]})
    other.click(".cards button:not(.plain)")
    check(f"{device} is yours now" in other.text(".said") and job["place"] in other.text("table"), other.text())
    other.picture("home-1280-dark")
    browser.go(job["base"] + "/owner")
    check(device not in browser.text(), "it is gone")
    # Giving up wants a yes that the browser itself asks for.
    browser.go(f"{job['base']}/owner/devices/{sticker}")
    browser.touch("button.grave")
    check("give-up" not in browser.url(), browser.url())
    browser.touch("#sure")
    check(browser.run("return document.getElementById('sure').checked"), "it is checked")
    browser.click("button.grave")
    check(f"You gave {sticker} up" in browser.text(".said"), browser.text())
    accessible(browser, "home, 1280")
    browser.picture("home-1280")
    browser.go(job["base"] + "/claim?device=%3Cscript%3Ealert(1)%3C/script%3E&code=%22%3E%3Cimg%3E")
    check(browser.run("return document.getElementById('device').value") == "<script>alert(1)</script>", "text is text")
    check(not browser.all("main img, main script"), "nothing of it is markup")
    browser.click(".who button")
    check("signed out" in browser.text(), browser.text())
    browser.go(job["base"] + "/owner")
    arrives(browser, job["base"] + "/owner/sign-in")


try:
    time.sleep(0.5)
    for _ in range(60):
        try:
            call("GET", "/status")
            break
        except OSError:
            time.sleep(0.25)
    main()
    print("all as it should be")
finally:
    driver.terminate()

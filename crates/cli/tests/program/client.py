import os, ssl, sys, time
import paho.mqtt.client as mqtt

outfit, port, transport, version = sys.argv[1], int(sys.argv[2]), sys.argv[3], int(sys.argv[4])
device = os.path.basename(outfit)
options = dict(client_id=device, protocol=version, transport=transport)
if hasattr(mqtt, "CallbackAPIVersion"):
    options["callback_api_version"] = mqtt.CallbackAPIVersion.VERSION2
client = mqtt.Client(**options)
client.tls_set(outfit + "/root.pem", outfit + "/device.pem", outfit + "/device.key")
told = {}

def on_connect(client, data, flags, reason, properties=None):
    told["connected"] = getattr(reason, "value", reason)
    client.subscribe([("rope/ossel/%s/settings" % device, 1), ("#", 1)])

def on_subscribe(client, data, mid, codes, properties=None):
    told["codes"] = [getattr(code, "value", code) for code in codes]

def on_message(client, data, message):
    told["message"] = message.payload.decode()
    told["sender"] = dict(getattr(message.properties, "UserProperty", [])).get("sender") if version == 5 else None

client.on_connect, client.on_subscribe, client.on_message = on_connect, on_subscribe, on_message
client.connect("localhost", port)
client.loop_start()

def until(key):
    deadline = time.time() + 10
    while key not in told and time.time() < deadline:
        time.sleep(0.01)
    return told.get(key)

assert until("connected") == 0, told
assert until("codes") == [1, 0x87 if version == 5 else 0x80], told
for qos in (0, 1):
    info = client.publish("rope/ossel/%s/wind" % device, "qos %d" % qos, qos=qos)
    info.wait_for_publish(10)
    assert info.is_published(), qos
print("ready", flush=True)
assert until("message") == "slow", told
print("sender", told["sender"], flush=True)
client.disconnect()
client.loop_stop()

"""Sends readings as SenML, packed. EBREL is the server, NODE the node's number, KEY its key."""
import gzip
import json
import os
import time
import urllib.request

records = [
    {"bn": "field:", "bt": int(time.time()) - 1800},
    {"n": "A2/raw_output", "u": "mV", "v": 811.0},
    {"n": "A2/raw_output", "u": "mV", "v": 811.5, "t": 900},
]
request = urllib.request.Request(
    f"{os.environ['EBREL']}/api/v1/nodes/{os.environ['NODE']}/readings",
    data=gzip.compress(json.dumps(records).encode()),
    headers={
        "Authorization": f"Bearer {os.environ['KEY']}",
        "Content-Type": "application/senml+json",
        "Content-Encoding": "gzip",
    },
)
# What is not answered is kept and sent again: nothing is stored twice.
with urllib.request.urlopen(request, timeout=30) as answer:
    print(answer.read().decode())

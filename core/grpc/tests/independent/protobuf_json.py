"""Reads messages and their JSON with another implementation of the mapping.

Standard input: {"descriptors": base64, "type": name, "cases": [{"wire": base64, "json": text}]}
Standard output: for each case {"json": what it makes of the wire, "same": whether it reads the JSON as the same message,
"error": text}.
"""
import base64
import json
import sys

from google.protobuf import descriptor_pb2, descriptor_pool, json_format, message_factory

asked = json.load(sys.stdin)
files = descriptor_pb2.FileDescriptorSet.FromString(base64.b64decode(asked["descriptors"]))
pool = descriptor_pool.DescriptorPool()
for file in files.file:
    pool.Add(file)
factory = message_factory.MessageFactory(pool)
kind = factory.GetPrototype(pool.FindMessageTypeByName(asked["type"]))
told = []
for case in asked["cases"]:
    try:
        message = kind.FromString(base64.b64decode(case["wire"]))
        text = json_format.MessageToJson(message, indent=None, descriptor_pool=pool)
        back = json_format.Parse(case["json"], kind(), descriptor_pool=pool)
        # By their JSON: bytes in an Any may have another order.
        same = json.loads(json_format.MessageToJson(back, indent=None, descriptor_pool=pool)) == json.loads(text)
        told.append({"json": text, "same": same, "error": ""})
    except Exception as e:
        told.append({"json": "", "same": False, "error": f"{type(e).__name__}: {e}"})
json.dump(told, sys.stdout)

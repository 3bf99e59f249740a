"""Calls SOAP services with a general-purpose client and prints what it understood, as JSON.

Standard input: {"wsdl": URL, "calls": [{"operation": NAME, "arguments": {...}, "headers": {...}}, ...]}.
Standard output: a list with {"result": ...} or {"fault": ...} for each call. Decimals, dates and octets become texts.
"""

import base64
import datetime
import decimal
import json
import sys

import isodate
import zeep
from zeep.xsd.valueobjects import CompoundValue


def plain(value):
    if isinstance(value, CompoundValue):
        found = {name: plain(value[name]) for name in value}
        if value._xsd_type is not None and value._xsd_type.name:
            found["__type"] = value._xsd_type.name
        return found
    if isinstance(value, dict):
        return {name: plain(inner) for name, inner in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(inner) for inner in value]
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    if isinstance(value, bool) or value is None:
        return value
    if isinstance(value, (int, decimal.Decimal)):
        return str(value)
    if isinstance(value, datetime.datetime):
        return isodate.datetime_isoformat(value)
    if isinstance(value, (datetime.date, datetime.time)):
        return value.isoformat()
    return str(value)


def typed(client, value):
    """Objects that name their type ({"__type": "{namespace}Name", ...}) are made with it."""
    if isinstance(value, list):
        return [typed(client, inner) for inner in value]
    if isinstance(value, dict):
        inner = {name: typed(client, v) for name, v in value.items() if name != "__type"}
        return client.get_type(value["__type"])(**inner) if "__type" in value else inner
    return value


def main():
    asked = json.load(sys.stdin)
    client = zeep.Client(asked["wsdl"])
    answers = []
    for call in asked["calls"]:
        headers = call.get("headers")
        try:
            operation = client.service[call["operation"]]
            result = operation(**typed(client, call["arguments"]), **({"_soapheaders": headers} if headers else {}))
            answers.append({"result": plain(result)})
        except zeep.exceptions.Fault as fault:
            answers.append({"fault": {"code": fault.code, "message": fault.message}})
    json.dump(answers, sys.stdout)


main()

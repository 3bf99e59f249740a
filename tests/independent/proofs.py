"""Signs and verifies requests (RFC 9421) and reads structured fields (RFC 9651) with general-purpose libraries of others.

Standard input: a list of tasks; standard output: a list with one answer each. Tasks:
{"do": "keys", "alg": NAME}                                     -> {"private": PEM or text, "public": PEM or text}
{"do": "sign", "alg", "private", "keyid", "method", "url", "headers", "body", "covers", "nonce"} -> the header fields
{"do": "verify", "alg", "public", "keyid", "method", "url", "headers", "body"} -> {"covers": [...]} or {"wrong": WHY}
{"do": "list", "text": FIELD}                                   -> [[item, parameters], ...]
"""

import datetime
import json
import sys
from types import SimpleNamespace

import http_sf
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from http_message_signatures import (
    HTTPMessageSigner,
    HTTPMessageVerifier,
    MappingKeyResolver,
    algorithms,
)

ALGORITHMS = {
    "hmac-sha256": algorithms.HMAC_SHA256,
    "ed25519": algorithms.ED25519,
    "ecdsa-p256-sha256": algorithms.ECDSA_P256_SHA256,
    "ecdsa-p384-sha384": algorithms.ECDSA_P384_SHA384,
    "rsa-pss-sha512": algorithms.RSA_PSS_SHA512,
    "rsa-v1_5-sha256": algorithms.RSA_V1_5_SHA256,
}


def keys(task):
    alg = task["alg"]
    if alg == "hmac-sha256":
        secret = "seven bells and a lantern at Tern Rock"
        return {"private": secret, "public": secret}
    if alg == "ed25519":
        own = ed25519.Ed25519PrivateKey.generate()
    elif alg.startswith("ecdsa"):
        own = ec.generate_private_key(ec.SECP256R1() if "p256" in alg else ec.SECP384R1())
    else:
        own = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    private = own.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    public = own.public_key().public_bytes(
        serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo
    )
    return {"private": private.decode(), "public": public.decode()}


def message(task):
    return SimpleNamespace(method=task["method"], url=task["url"], headers=dict(task["headers"]))


def body(task):
    return task["body"].encode() if task.get("body") else None


def sign(task):
    request = message(task)
    resolver = MappingKeyResolver(public_keys={}, private_keys={task["keyid"]: task["private"].encode()})
    signer = HTTPMessageSigner(signature_algorithm=ALGORITHMS[task["alg"]], key_resolver=resolver)
    signer.sign(
        request,
        key_id=task["keyid"],
        created=datetime.datetime.now(datetime.timezone.utc),
        nonce=task.get("nonce"),
        covered_component_ids=task["covers"],
        body=body(task),
    )
    return request.headers


def verify(task):
    resolver = MappingKeyResolver(public_keys={task["keyid"]: task["public"].encode()}, private_keys={})
    verifier = HTTPMessageVerifier(signature_algorithm=ALGORITHMS[task["alg"]], key_resolver=resolver)
    try:
        result = verifier.verify(message(task), body=body(task))
    except Exception as e:  # whatever it is, it is told
        return {"wrong": repr(e)}
    return {"covers": list(result[0].covered_components)}


def fields(task):
    return [[str(item), dict(params)] for item, params in http_sf.parse(task["text"].encode(), tltype="list")]


DO = {"keys": keys, "sign": sign, "verify": verify, "list": fields}
json.dump([DO[task["do"]](task) for task in json.load(sys.stdin)], sys.stdout)

"""The check that a stranger can do: a script of the standard library that asks OpenSSL for the signature.

It goes into every export and is printed in every report, so that no trust in this program is needed. Its
lines are short, because a page breaks longer ones, and what is copied from it would be another program.
"""

from __future__ import annotations

SCRIPT = """\
# Checks the evidence of a run. Needs Python 3 and openssl (1.1.1 or newer), no network.
#   python3 check.py FILE.evidence.jsonl FINGERPRINT
# FINGERPRINT is that of the key, as it was told to you by somebody you trust.
import base64, hashlib, json, os, subprocess, sys, tempfile

def b64(text):
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))

head, *events = open(sys.argv[1], encoding="utf-8").read().rstrip("\\n").split("\\n")
head = json.loads(head)
token, key = head["seal"], head["key"]
signed, _, signature = token.rpartition(".")
protected, payload = signed.split(".")

# 1. The key is the one whose fingerprint you were told (RFC 7638).
needed = {"crv": key["crv"], "kty": key["kty"], "x": key["x"]}
public = json.dumps(needed, separators=(",", ":"))
digest = hashlib.sha256(public.encode()).digest()
fingerprint = base64.urlsafe_b64encode(digest).rstrip(b"=").decode()
if fingerprint != sys.argv[2]:
    sys.exit("The key has the fingerprint " + fingerprint + ", not the one you gave.")

# 2. The signature is that of the key (RFC 7515, RFC 8037); openssl wants the prefix.
with tempfile.TemporaryDirectory() as folder:
    def put(name, data):
        path = os.path.join(folder, name)
        open(path, "wb").write(data)
        return path
    der = bytes.fromhex("302a300506032b6570032100") + b64(key["x"])
    check = subprocess.run(["openssl", "pkeyutl", "-verify", "-pubin", "-keyform", "DER",
        "-inkey", put("key.der", der), "-rawin", "-in", put("signed", signed.encode()),
        "-sigfile", put("signature", b64(signature))], capture_output=True, text=True)
if check.returncode:
    sys.exit("The signature does not fit: " + check.stdout + check.stderr)

# 3. Every event is the one that was sealed: SHA-256 of hash before, line feed, line.
seal = json.loads(b64(payload))
links, before = b64(seal["links"]), "0" * 64
for number, line in enumerate(events, 1):
    before = hashlib.sha256((before + "\\n" + line).encode()).hexdigest()
    if bytes.fromhex(before)[:8] != links[8 * number - 8 : 8 * number]:
        print("event", number, "is not the one that was sealed")
        sys.exit(1)
if len(events) != seal["events"] or before != seal["head"]:
    sys.exit("Events are missing or were added.")
print("It holds: run", seal["number"], "of", seal["plan_name"])
print(seal["kind"] + ",", seal["outcome"] + ", ended", seal["ended_at"])
"""

"""A small object store for tests: buckets over HTTP as S3 has them, for whoever signs with the right secret.

It knows what backups need: to put (whole or in parts), to look, to fetch, to list and to take away.
"""

from __future__ import annotations

import hashlib
import hmac
import http.server
import re
import threading
from email.utils import formatdate
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlsplit
from xml.sax.saxutils import escape

from tests.ports import free_port

USER, SECRET, REGION = "maestoso-backups", "a secret of the store", "north-1"


class ObjectStore:
    """On loopback, until it is closed. ``refuses`` is a code and a message that it answers everything with."""

    def __init__(self, *buckets: str) -> None:
        self.objects: dict[str, dict[str, bytes]] = {name: {} for name in buckets}
        self.parts: dict[str, dict[int, bytes]] = {}
        self.refuses: tuple[str, str] | None = None
        self.port = free_port()
        store = self

        class Handler(_Handler):
            shop = store

        self._server = http.server.ThreadingHTTPServer(("127.0.0.1", self.port), Handler)
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    @property
    def address(self) -> str:
        """Where it is."""
        return f"http://127.0.0.1:{self.port}"

    def close(self) -> None:
        """End it."""
        self._server.shutdown()
        self._server.server_close()


class _Handler(http.server.BaseHTTPRequestHandler):
    shop: ObjectStore
    protocol_version = "HTTP/1.1"

    def log_message(self, format: str, *args: Any) -> None:
        """Nobody reads it."""

    def _answer(self, status: int, body: bytes = b"", length: int | None = None, **headers: str) -> None:
        self.send_response(status)
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.send_header("Content-Length", str(len(body) if length is None else length))
        self.end_headers()
        self.wfile.write(body)

    def _refuse(self, status: int, code: str, message: str) -> None:
        said = f"<Error><Code>{code}</Code><Message>{escape(message)}</Message></Error>".encode()
        head = self.command == "HEAD"
        self._answer(status, b"" if head else said, Content_Type="application/xml", x_minio_error_code=code)

    def _signed(self, body: bytes) -> bool:
        """Signature version 4, over method, path, query, the headers that it names, and the digest of the body."""
        wanted = self.headers["x-amz-content-sha256"]
        if wanted not in ("UNSIGNED-PAYLOAD", hashlib.sha256(body).hexdigest()):
            return False
        found = re.fullmatch(
            r"AWS4-HMAC-SHA256 Credential=([^/]+)/(\d{8})/([^/]+)/s3/aws4_request, ?SignedHeaders=([^,]+), ?Signature=(\w+)",
            self.headers["Authorization"] or "",
        )
        if found is None or (found[1], found[3]) != (USER, REGION):
            return False
        asked = urlsplit(self.path)
        query = sorted(
            (quote(k, safe="-_.~"), quote(v, safe="-_.~"))
            for k, v in parse_qsl(asked.query, keep_blank_values=True)
        )
        names = found[4].split(";")
        plain = "\n".join(
            [
                self.command, quote(unquote(asked.path), safe="/-_.~"), "&".join(f"{k}={v}" for k, v in query),
                *(f"{name}:{' '.join(self.headers[name].split())}" for name in names), "", found[4], wanted,
            ]
        )  # fmt: skip
        scope = f"{found[2]}/{REGION}/s3/aws4_request"
        text = "\n".join(
            [
                "AWS4-HMAC-SHA256",
                self.headers["x-amz-date"],
                scope,
                hashlib.sha256(plain.encode()).hexdigest(),
            ]
        )
        key = f"AWS4{SECRET}".encode()
        for word in (found[2], REGION, "s3", "aws4_request"):
            key = hmac.digest(key, word.encode(), "sha256")
        return hmac.compare_digest(hmac.digest(key, text.encode(), "sha256").hex(), found[5])

    def _serve(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"] or 0))
        if self.shop.refuses is not None:
            return self._refuse(503, *self.shop.refuses)
        if not self._signed(body):
            return self._refuse(403, "SignatureDoesNotMatch", "The signature is not that of the secret.")
        asked = urlsplit(self.path)
        query = dict(parse_qsl(asked.query, keep_blank_values=True))
        bucket, _, key = unquote(asked.path).strip("/").partition("/")
        objects = self.shop.objects.get(bucket)
        if objects is None:
            return self._refuse(404, "NoSuchBucket", f"There is no bucket {bucket}.")
        return self._object(objects, key, query, body) if key else self._list(objects, query)

    do_GET = do_PUT = do_HEAD = do_DELETE = do_POST = _serve

    def _list(self, objects: dict[str, bytes], query: dict[str, str]) -> None:
        prefix = query.get("prefix", "")
        rows = "".join(
            f"<Contents><Key>{escape(key)}</Key><LastModified>2026-11-30T08:00:00.000Z</LastModified>"
            f"<ETag>&quot;{_digest(data)}&quot;</ETag><Size>{len(data)}</Size></Contents>"
            for key, data in sorted(objects.items())
            if key.startswith(prefix) and "/" not in key[len(prefix) :]
        )
        said = f"<ListBucketResult><Name>b</Name><IsTruncated>false</IsTruncated>{rows}</ListBucketResult>"
        self._answer(200, said.encode(), Content_Type="application/xml")

    def _object(self, objects: dict[str, bytes], key: str, query: dict[str, str], body: bytes) -> None:
        if self.command == "POST" and "uploads" in query:
            upload = f"upload-{len(self.shop.parts)}"
            self.shop.parts[upload] = {}
            said = f"<InitiateMultipartUploadResult><UploadId>{upload}</UploadId></InitiateMultipartUploadResult>"
            return self._answer(200, said.encode(), Content_Type="application/xml")
        if self.command == "POST":
            objects[key] = b"".join(
                part for _, part in sorted(self.shop.parts.pop(query["uploadId"]).items())
            )
            said = f"<CompleteMultipartUploadResult><Bucket>b</Bucket><Key>{escape(key)}</Key><ETag>x</ETag></CompleteMultipartUploadResult>"
            return self._answer(200, said.encode(), Content_Type="application/xml")
        if self.command == "PUT":
            if "uploadId" in query:
                self.shop.parts[query["uploadId"]][int(query["partNumber"])] = body
            else:
                objects[key] = body
            return self._answer(200, ETag=f'"{_digest(body)}"')
        if self.command == "DELETE":
            objects.pop(key, None)
            return self._answer(204)
        if key not in objects:
            return self._refuse(404, "NoSuchKey", f"There is no {key}.")
        data = objects[key]
        return self._answer(
            200, b"" if self.command == "HEAD" else data, len(data), ETag=f'"{_digest(data)}"',
            Last_Modified=formatdate(1_796_000_000, usegmt=True),
        )  # fmt: skip


def _digest(data: bytes) -> str:
    return hashlib.md5(data, usedforsecurity=False).hexdigest()

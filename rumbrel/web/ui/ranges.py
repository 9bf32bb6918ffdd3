"""Answers to requests for a part of a file (RFC 9110, 14), in pieces that keep no thread waiting for a listener."""

import re
import secrets
from collections.abc import Callable, Iterator

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

__all__ = ["ranged_answer"]

_MOST_BYTES = 1 << 20
_MOST_RANGES = 8
"""More than so many are asked for by nobody who plays sound."""
_RANGE = re.compile(r"(\d*)-(\d*)")
_DIGITS = 18

Read = Callable[[int, int], bytes]
"""Bytes from one place up to another; it may give fewer, but at least one."""


def _asked(header: str, total_bytes: int) -> list[tuple[int, int]] | None:
    """(first byte, the one behind the last) of each range that can be met. None for a header that is not valid, which is
    passed over (RFC 9110, 14.2)."""
    unit, sign, specs = header.strip().partition("=")
    if unit.strip().lower() != "bytes" or not sign:
        return None
    found = []
    for spec in specs.split(","):
        match = _RANGE.fullmatch(spec.strip())
        if match is None or not any(match.groups()) or any(len(each) > _DIGITS for each in match.groups()):
            return None
        first, last = match.groups()
        if first and last and int(last) < int(first):
            return None
        start = int(first) if first else max(0, total_bytes - int(last))
        end = min(total_bytes, int(last) + 1) if first and last else total_bytes
        if start < end and (first or int(last)):
            found.append((start, end))
    return found


def ranged_answer(request: HttpRequest, read: Read, *, total_bytes: int, media_type: str, tag: str) -> HttpResponseBase:
    """At most a million bytes of what is asked for: a player asks for more when it wants it. All of it, piece by
    piece, to who asks for no part, or for one of what the file was before (If-Range)."""
    header, before = request.headers.get("Range"), request.headers.get("If-Range")
    meant = header is not None and request.method != "HEAD" and (before is None or before == f'"{tag}"')
    asked = _asked(header, total_bytes) if meant and header is not None else None
    answer: HttpResponseBase
    if asked is None or len(asked) > _MOST_RANGES:
        answer = StreamingHttpResponse(_pieces(read, total_bytes), content_type=media_type)
        answer["Content-Length"] = str(total_bytes)
    elif not asked:
        return HttpResponse(status=416, headers={"Content-Range": f"bytes */{total_bytes}"})
    elif len(asked) == 1:
        ((first, end),) = asked
        body = read(first, min(end, first + _MOST_BYTES))
        answer = HttpResponse(body, status=206, content_type=media_type)
        answer["Content-Range"] = f"bytes {first}-{first + len(body) - 1}/{total_bytes}"
    else:
        answer = _several(read, asked, total_bytes, media_type)
    answer["Accept-Ranges"] = "bytes"
    answer["ETag"] = f'"{tag}"'
    answer["Cache-Control"] = "private, no-cache"
    return answer


def _several(read: Read, asked: list[tuple[int, int]], total_bytes: int, media_type: str) -> HttpResponse:
    """Each range as a part of its own (RFC 9110, 14.6); all of them together at most a million bytes."""
    boundary, parts = secrets.token_hex(16), []
    for first, end in asked:
        body = read(first, min(end, first + _MOST_BYTES // len(asked)))
        said = f"Content-Type: {media_type}\r\nContent-Range: bytes {first}-{first + len(body) - 1}/{total_bytes}"
        parts.append(f"--{boundary}\r\n{said}\r\n\r\n".encode() + body + b"\r\n")
    body = b"".join(parts) + f"--{boundary}--\r\n".encode()
    return HttpResponse(body, status=206, content_type=f"multipart/byteranges; boundary={boundary}")


def _pieces(read: Read, total_bytes: int) -> Iterator[bytes]:
    at = 0
    while at < total_bytes:
        piece = read(at, min(total_bytes, at + _MOST_BYTES))
        at += len(piece)
        yield piece

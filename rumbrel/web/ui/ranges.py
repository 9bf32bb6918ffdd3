"""Answers to requests for a part of a file (RFC 9110, 14), in pieces that keep no thread waiting for a listener."""

import re
from collections.abc import Callable, Iterator

from django.http import HttpRequest, HttpResponse, StreamingHttpResponse
from django.http.response import HttpResponseBase

__all__ = ["ranged_answer"]

_MOST_BYTES = 1 << 20
_RANGE = re.compile(r"bytes=(\d*)-(\d*)")

Read = Callable[[int, int], bytes]
"""Bytes from one place up to another; it may give fewer, but at least one."""


def _asked(header: str, total_bytes: int) -> tuple[int, int]:
    """The first byte that is asked for, and the one behind the last. Several ranges are taken as all."""
    match = _RANGE.fullmatch(header.strip())
    if match is None or not any(match.groups()):
        return 0, total_bytes
    first, last = match.groups()
    if not first:
        return max(0, total_bytes - int(last)), total_bytes if int(last) else 0
    return int(first), min(total_bytes, int(last) + 1 if last else total_bytes)


def ranged_answer(request: HttpRequest, read: Read, *, total_bytes: int, media_type: str, tag: str) -> HttpResponseBase:
    """At most a million bytes of what is asked for: a player asks for more when it wants it. All of it, piece by
    piece, to who asks for no part."""
    asked = request.headers.get("Range")
    answer: HttpResponseBase
    if asked is None or request.method == "HEAD":
        answer = StreamingHttpResponse(_pieces(read, total_bytes), content_type=media_type)
        answer["Content-Length"] = str(total_bytes)
    else:
        first, end = _asked(asked, total_bytes)
        if first >= end or first >= total_bytes:
            return HttpResponse(status=416, headers={"Content-Range": f"bytes */{total_bytes}"})
        body = read(first, min(end, first + _MOST_BYTES))
        answer = HttpResponse(body, status=206, content_type=media_type)
        answer["Content-Range"] = f"bytes {first}-{first + len(body) - 1}/{total_bytes}"
    answer["Accept-Ranges"] = "bytes"
    answer["ETag"] = f'"{tag}"'
    answer["Cache-Control"] = "private, no-cache"
    return answer


def _pieces(read: Read, total_bytes: int) -> Iterator[bytes]:
    at = 0
    while at < total_bytes:
        piece = read(at, min(total_bytes, at + _MOST_BYTES))
        at += len(piece)
        yield piece

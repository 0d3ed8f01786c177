"""Text as files hold it: encodings to UTF-8 bytes, places to lines."""

import re

import numpy as np

from bolvek.arrays import Bytes

OFF_HEADER = re.compile(rb"\s*(?:#[^\r\n]*\s+)*((?:ST)?C?N?4?n?OFF)\b[ \t]*(BINARY)?")
"""How an OFF file begins."""

_UTF8, _LITTLE, _BIG = b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff"


def as_utf8(data: bytes) -> bytes:
    """The text without a byte order mark; UTF-16, with or without one, becomes UTF-8.

    What is neither stays as it is: in Latin-1 or a code page only names differ.
    """
    if data.startswith(_UTF8):
        return data[3:]
    codec = ""
    if data.startswith((_LITTLE, _BIG)):
        codec, data = ("utf-16-le" if data.startswith(_LITTLE) else "utf-16-be"), data[2:]
    elif len(data) >= 4 and not len(data) % 2:
        if data[1] == 0 and data[3] == 0 and 9 <= data[0] < 127 and 9 <= data[2] < 127:
            codec = "utf-16-le"
        elif data[0] == 0 and data[2] == 0 and 9 <= data[1] < 127 and 9 <= data[3] < 127:
            codec = "utf-16-be"
    if not codec:
        return data
    return data.decode(codec, "replace").encode("utf-8", "replace")


def as_array(data: bytes) -> Bytes:
    """The bytes as uint8 (N,), not copied."""
    return np.frombuffer(data, np.uint8)


def line_of(data: bytes, at: int) -> int:
    """Line number of a byte, counted from 1."""
    return data.count(b"\n", 0, at) + 1 if b"\n" in data else data.count(b"\r", 0, at) + 1


_MOST_SHOWN = 200


def rest_of_line(data: bytes, at: int) -> str:
    """The text from a byte to the end of its line, stripped, control characters gone."""
    piece = (
        data[at : at + _MOST_SHOWN].splitlines()[0]
        if at < len(data) and data[at : at + 1] not in (b"\n", b"\r")
        else b""
    )
    return "".join(c for c in piece.decode("utf-8", "replace").strip() if c.isprintable())


def quoted(data: bytes, at: int) -> str:
    """Up to sixty characters of the line at a byte, for messages."""
    return f"'{rest_of_line(data, at)[:60]}'"

"""Model files in text, byte by byte: numbers, OBJ lines, STL facets and XML attributes.

Kernels that fill arrays are called twice: once with `fill` False to count, once to fill. A fault is
told as the place (byte) where it stands, -1 when there is none.
"""

import numpy as np

from bolvek.kernels import helper, kernel
from bolvek.kernels.files.decimals import is_digit, parse_number

_NEWLINE, _RETURN, _HASH, _SLASH, _BACKSLASH = 10, 13, 35, 47, 92


# what a byte is: 0 part of a word, 1 blank, 2 end of a line, 3 perhaps a line continuation
_KIND = np.zeros(256, np.uint8)
_KIND[[9, 11, 12, 32]] = 1
_KIND[[_NEWLINE, _RETURN]] = 2
_KIND[_BACKSLASH] = 3


@helper
def _continuation(data, at, end):
    """Bytes of the line continuation that begins with the backslash here; 0: it is part of a word."""
    if at + 1 < end:
        if data[at + 1] == _NEWLINE:
            return 2
        if data[at + 1] == _RETURN:
            return 3 if at + 2 < end and data[at + 2] == _NEWLINE else 2
    return 0


@helper
def _skip_blank(data, at, end):
    while at < end:
        kind = _KIND[data[at]]
        if kind == 1:
            at += 1
        elif kind == 3:
            step = _continuation(data, at, end)
            if step == 0:
                break
            at += step
        else:
            break
    return at


@helper
def _skip_line(data, at, end):
    while at < end:
        kind = _KIND[data[at]]
        if kind == 2:
            break
        at += max(1, _continuation(data, at, end)) if kind == 3 else 1
    return at


@helper
def _skip_word(data, at, end):
    while at < end:
        kind = _KIND[data[at]]
        if kind == 0 or (kind == 3 and _continuation(data, at, end) == 0):
            at += 1
        else:
            break
    return at


@helper
def _ends(data, at, end):
    """Whether a word ends here."""
    if at >= end:
        return True
    kind = _KIND[data[at]]
    return kind == 1 or kind == 2 or (kind == 3 and _continuation(data, at, end) > 0)


@kernel("u1[:] i8 i8 i8 b1 f8[:]! i8[:]!")
def read_numbers(data, at, end, comment, fill, values, lines):
    """All numbers of a text; comment is the byte that starts a comment (0: none).

    values (N,) float64; lines (L,) int64: index of the first number of each line that has one.
    Returns (numbers, lines, fault).
    """
    n = 0
    rows = 0
    fresh = True
    while at < end:
        c = data[at]
        kind = _KIND[c]
        if kind == 1:
            at += 1
            continue
        if kind == 2:
            fresh = True
            at += 1
            continue
        if kind == 3:
            at = max(at + 1, _skip_blank(data, at, end))
            continue
        if comment != 0 and c == comment:
            at = _skip_line(data, at, end)
            continue
        if fresh:
            if fill:
                lines[rows] = n
            rows += 1
            fresh = False
        if fill:
            value, after, fine = parse_number(data, at, end)
            if not fine or not _ends(data, after, end):
                return n, rows, at
            values[n] = value
            at = after
        else:
            at = _skip_word(data, at, end)
        n += 1
    return n, rows, -1


@kernel("u1[:] i8 b1 f8[:,:]! i8[:]! i8[:]! i8[:,:]! i8[:]!")
def read_obj(data, end, fill, vertices, start, corners, marks, totals):
    """Vertices, faces and group names of an OBJ text.

    vertices (V, 3) float64; start (P + 1,) int64 into corners (C,) int64, counted from 0, relative
    ones resolved; marks (M, 2) int64: place of the name after `o` or `g`, faces before it. totals
    (4,) int64 gets V, P, C, M. Returns (fault, kind): 1 a vertex, 2 a face.
    """
    v = p = c = m = 0
    at = np.int64(0)  # a literal would make a variant of every helper
    while at < end:
        at = _skip_blank(data, at, end)
        if at >= end:
            break
        word = data[at]
        after = at + 1 < end and _KIND[data[at + 1]] % 2 == 1
        if word == 118 and after:  # v
            begin = at
            at += 1
            for k in range(3):
                at = _skip_blank(data, at, end)
                if fill:
                    value, at, fine = parse_number(data, at, end)
                    if not fine or not _ends(data, at, end):
                        return begin, 1
                    vertices[v, k] = value
            v += 1
        elif word == 102 and after:  # f
            begin = at
            at += 1
            if fill:
                start[p] = c
            while True:
                at = _skip_blank(data, at, end)
                if at >= end or _KIND[data[at]] == 2 or data[at] == _HASH:
                    break
                if fill:
                    negative = data[at] == 45
                    if negative:
                        at += 1
                    if at >= end or not is_digit(data[at]):
                        return begin, 2
                    number = 0
                    while at < end and is_digit(data[at]):
                        if number < 1 << 40:
                            number = number * 10 + np.int64(data[at] - 48)
                        at += 1
                    if number == 0 or not (_ends(data, at, end) or data[at] == _SLASH):
                        return begin, 2
                    corners[c] = v - number if negative else number - 1
                at = _skip_word(data, at, end)
                c += 1
            p += 1
        elif (word == 103 or word == 111) and _ends(data, at + 1, end):  # g, o
            if fill:
                marks[m, 0] = at + 1
                marks[m, 1] = p
            m += 1
        at = _skip_line(data, at, end)
        while at < end and _KIND[data[at]] == 2:
            at += 1
    if fill:
        start[p] = c
    totals[0], totals[1], totals[2], totals[3] = v, p, c, m
    return -1, 0


@helper
def _lower(c):
    return c + 32 if 65 <= c <= 90 else c


@helper
def _is_word(data, at, end, word):
    """Whether the word (lower case bytes) stands here, whatever its case, and ends."""
    n = word.shape[0]
    if at + n > end:
        return False
    for i in range(n):
        if _lower(data[at + i]) != word[i]:
            return False
    return _ends(data, at + n, end)


@kernel("u1[:] i8 u1[:] u1[:] u1[:] u1[:] b1 f8[:,:]! i8[:,:]! i8[:]!")
def read_stl(data, end, facet, vertex, solid, tail, fill, corners, marks, totals):
    """Vertices of an ASCII STL; facet, vertex, solid and tail ("endsolid") are those words as bytes.

    corners (N, 3) float64; marks (M, 2) int64: place of the name after `solid`, vertices before it.
    totals (4,) int64 gets vertices, facets, solids, ends. Returns the fault.
    """
    n = facets = solids = ends = 0
    at = np.int64(0)
    while at < end:
        kind = _KIND[data[at]]
        if kind == 1 or kind == 2:
            at += 1
            continue
        c = _lower(data[at])
        if c == 118 and _is_word(data, at, end, vertex):
            begin = at
            at += 6
            for k in range(3):
                at = _skip_blank(data, at, end)
                if fill:
                    value, at, fine = parse_number(data, at, end)
                    if not fine or not _ends(data, at, end):
                        return begin
                    corners[n, k] = value
                else:
                    at = _skip_word(data, at, end)
            n += 1
        elif c == 102 and _is_word(data, at, end, facet):
            facets += 1
            at += 5
        elif c == 115 and _is_word(data, at, end, solid):
            if fill:
                marks[solids, 0] = at + 5
                marks[solids, 1] = n
            solids += 1
            at = _skip_line(data, at, end)
        elif c == 101 and _is_word(data, at, end, tail):
            ends += 1
            at = _skip_line(data, at, end)
        else:
            at = max(at + 1, _skip_word(data, at, end))
    totals[0], totals[1], totals[2], totals[3] = n, facets, solids, ends
    return -1


@kernel("u1[:] i8 i8 u1[:,:] b1 f8[:,:]!")
def read_xml_rows(data, at, end, names, fill, values):
    """Three numbers a start tag, from the attributes whose names (3, 2) uint8 are given (0: no second letter).

    values (N, 3) float64. Returns (tags, fault). Comments must be gone.
    """
    n = 0
    while at < end:
        if data[at] != 60 or at + 1 >= end or data[at + 1] == _SLASH:
            at += 1
            continue
        begin = at
        if not fill:
            n += 1
            at += 1
            continue
        got = 0
        at += 1
        while at < end and data[at] > 32 and data[at] != 62 and data[at] != _SLASH:
            at += 1
        while at < end and data[at] != 62:
            c = data[at]
            if c <= 32 or c == _SLASH:
                at += 1
                continue
            word = at
            while at < end and data[at] > 32 and data[at] != 61 and data[at] != 62:
                at += 1
            size = at - word
            while at < end and data[at] <= 32:
                at += 1
            if at >= end or data[at] != 61:
                return n, begin
            at += 1
            while at < end and data[at] <= 32:
                at += 1
            if at >= end or (data[at] != 34 and data[at] != 39):
                return n, begin
            quote = data[at]
            at += 1
            which = -1
            if size <= 2:
                for k in range(3):
                    if data[word] == names[k, 0] and (
                        (size == 1 and names[k, 1] == 0) or (size == 2 and data[word + 1] == names[k, 1])
                    ):
                        which = k
            if which >= 0:
                while at < end and data[at] <= 32:
                    at += 1
                value, after, fine = parse_number(data, at, end)
                while after < end and data[after] <= 32:
                    after += 1
                if not fine or after >= end or data[after] != quote:
                    return n, begin
                values[n, which] = value
                got |= 1 << which
                at = after
            while at < end and data[at] != quote:
                at += 1
            at += 1
        if got != 7:
            return n, begin
        n += 1
    return n, -1

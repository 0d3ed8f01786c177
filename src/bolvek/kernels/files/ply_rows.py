"""Rows of PLY elements that hold lists, so that every row may have another length."""

import numpy as np

from bolvek.kernels import helper, kernel


@kernel("f8[:] i8 i8 b1[:] i8 i8[:]! i8[:]!")
def walk_values(values, at, rows, is_list, wanted, first, length):
    """Rows of numbers already parsed; is_list (K,) bool a property.

    first, length (R,) int64 get where property `wanted` stands in values (N,) float64 and how many
    numbers it has. Returns (place after the last row, rows read whole).
    """
    end = values.shape[0]
    for r in range(rows):
        for k in range(is_list.shape[0]):
            n = 1
            if is_list[k]:
                if at >= end:
                    return at, r
                count = values[at]
                if not (0 <= count <= end):
                    return at, r
                n = np.int64(count)
                at += 1
            if k == wanted:
                first[r] = at
                length[r] = n
            at += n
            if at > end:
                return at, r
    return at, rows


@helper
def _unsigned(data, at, size, big):
    value = 0
    for i in range(size):
        byte = np.int64(data[at + i] if big else data[at + size - 1 - i])
        value = (value << 8) | byte
    return value


@kernel("u1[:] i8 i8 i8[:] i8[:] b1 i8[:] i8[:,:]! i8[:,:]!")
def walk_bytes(data, at, rows, item, counter, big, wanted, first, length):
    """Rows of bytes; item (K,) int64: bytes of an item, counter (K,) int64: bytes of a list's count (0: a scalar).

    first (R, W) and length (R, W) int64 get where the properties wanted (W,) start and how many items
    they have. Returns (place after the last row, rows read whole).
    """
    end = data.shape[0]
    for r in range(rows):
        for k in range(item.shape[0]):
            n = 1
            if counter[k] > 0:
                if at + counter[k] > end:
                    return at, r
                n = _unsigned(data, at, counter[k], big)
                if n < 0 or n > end:
                    return at, r
                at += counter[k]
            for w in range(wanted.shape[0]):
                if wanted[w] == k:
                    first[r, w] = at
                    length[r, w] = n
            at += n * item[k]
            if at > end:
                return at, r
    return at, rows

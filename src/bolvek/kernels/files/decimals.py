"""Decimal text to the nearest float64, exactly.

Method: D. Lemire, "Number parsing at a gigabyte per second", Software: Practice and Experience 51
(2021), doi:10.1002/spe.2984: the decimal mantissa times a 128-bit power of five. Exact for up to 19
significant digits; of longer numbers the first 19 digits count.
"""

import numpy as np

from bolvek.kernels import helper

_LEAST, _MOST = -342, 308


def _powers_of_five() -> tuple[np.ndarray, np.ndarray]:
    """The leading 128 bits of 5^q for q = -342..308 as two uint64 arrays (high, low)."""
    high, low = [], []
    for q in range(_LEAST, _MOST + 1):
        five = 5 ** abs(q)
        if q < 0:
            bits = five.bit_length()
            c = 2 ** (bits + 127 if q >= -27 else 2 * bits + 128) // five + 1
            c >>= max(0, c.bit_length() - 128)
        else:
            size = five.bit_length()
            c = five << (128 - size) if size <= 128 else five >> (size - 128)
        high.append(c >> 64)
        low.append(c & (2**64 - 1))
    return np.array(high, np.uint64), np.array(low, np.uint64)


_TEN = np.array([10.0**k for k in range(23)])
_TWO = np.array([2.0 ** (k - 1075) if k else 0.0 for k in range(2047)])  # by biased exponent of a 53-bit integer
_EXACT = np.uint64(2**53)
_HIGH, _LOW = _powers_of_five()
_MASK32 = np.uint64(0xFFFFFFFF)
_U32 = np.uint64(32)
_ONE = np.uint64(1)


@helper
def _product(a, b):
    """The 128-bit product of two uint64 as (high, low)."""
    a0, a1 = a & _MASK32, a >> _U32
    b0, b1 = b & _MASK32, b >> _U32
    low = a0 * b0
    m1 = a1 * b0 + (low >> _U32)
    m2 = a0 * b1 + (m1 & _MASK32)
    return a1 * b1 + (m1 >> _U32) + (m2 >> _U32), (m2 << _U32) | (low & _MASK32)


@helper
def decimal(w, q):
    """The float64 nearest to w * 10^q, w uint64."""
    if w < _EXACT and -22 <= q <= 22:  # both factors are exact floats (Clinger 1990)
        return np.float64(w) * _TEN[q] if q >= 0 else np.float64(w) / _TEN[-q]
    if w == np.uint64(0) or q < _LEAST:
        return 0.0
    if q > _MOST:
        return np.inf
    shift = 0
    for step in (32, 16, 8, 4, 2, 1):
        if not (w >> np.uint64(64 - step)):
            w <<= np.uint64(step)
            shift += step
    high, low = _product(w, _HIGH[q - _LEAST])
    if (high & np.uint64(0x1FF)) == np.uint64(0x1FF):
        more, _ = _product(w, _LOW[q - _LEAST])
        low += more
        if more > low:
            high += _ONE
    upper = high >> np.uint64(63)
    cut = upper + np.uint64(9)
    mantissa = high >> cut
    power = ((217706 * q) >> 16) + 63 + np.int64(upper) - shift + 1023
    if power <= 0:  # subnormal: nobody models in 1e-308, two roundings are good enough
        return np.float64(w) * 2.0**-shift * 1e-200 * 10.0 ** (q + 200)
    if low <= _ONE and -4 <= q <= 23 and (mantissa & np.uint64(3)) == _ONE and (mantissa << cut) == high:
        mantissa &= ~_ONE  # exactly half way: to even
    mantissa += mantissa & _ONE
    mantissa >>= _ONE
    if mantissa >= np.uint64(1) << np.uint64(53):
        mantissa = np.uint64(1) << np.uint64(52)
        power += 1
    if power >= 2047:
        return np.inf
    return np.float64(mantissa) * _TWO[power]


@helper
def is_digit(c):
    """Whether a byte is 0..9."""
    return np.uint8(48) <= c <= np.uint8(57)


@helper
def parse_number(data, at, end):
    """The number that starts at data[at]: (value, place after it, fine).

    Not fine: no number stands there. "nan" and "inf" are not fine either.
    """
    negative = False
    if at < end and (data[at] == 45 or data[at] == 43):
        negative = data[at] == 45
        at += 1
    w = np.uint64(0)
    digits = 0
    seen = 0
    q = 0
    while at < end and is_digit(data[at]):
        if digits < 19:
            w = w * np.uint64(10) + np.uint64(data[at] - 48)
            if w != np.uint64(0):
                digits += 1
        else:
            q += 1
        seen += 1
        at += 1
    if at < end and data[at] == 46:
        at += 1
        while at < end and is_digit(data[at]):
            if digits < 19:
                w = w * np.uint64(10) + np.uint64(data[at] - 48)
                q -= 1
                if w != np.uint64(0):
                    digits += 1
            seen += 1
            at += 1
    if seen == 0:
        return 0.0, at, False
    if at < end and (data[at] == 101 or data[at] == 69):
        step = at + 1
        down = False
        if step < end and (data[step] == 45 or data[step] == 43):
            down = data[step] == 45
            step += 1
        if step >= end or not is_digit(data[step]):
            return 0.0, at, False
        e = 0
        while step < end and is_digit(data[step]):
            if e < 100000:
                e = e * 10 + np.int64(data[step] - 48)
            step += 1
        q += -e if down else e
        at = step
    value = decimal(w, q)
    return (-value if negative else value), at, np.isfinite(value)
